//! Recordings in: a file comes in pieces, is looked at with its columns guessed, and becomes a run of
//! the case when its columns are named.

use super::mapping::{self, columns, looked, sound_columns, writing};
use crate::App;
use crate::auth::{Member, may_write};
use crate::error::PageError;
use crate::stations::form::{FormFields, Posted};
use crate::upload::{self, Upload};
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, Form, Multipart, Path, Query};
use axum::response::Redirect;
use axum::routing::{post, put};
use axum::{Json, Router};
use baricord_core::case::{Case, CsvWriting, RecordingSpec, ReferenceSpec};
use baricord_core::edit::act::CaseAct;
use baricord_core::error::Problem;
use baricord_formats::{ColumnRole, Look, described, look, read_recording, speed_described};
use baricord_store::Scope;
use baricord_store::incoming::{Announced, Incoming, LARGEST_PIECE};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// How much of a file is looked at.
pub(super) const HEAD: usize = 64 << 10;
/// Up to this size a recording is read before it is kept, so that a refusal keeps nothing; a larger
/// one is read by a task that can be watched and stopped.
const READ_AT_ONCE: i64 = 32 << 20;

#[derive(Deserialize)]
struct Announce {
    name: String,
    size: i64,
    #[serde(default)]
    phase: String,
    #[serde(default)]
    of: Option<Uuid>,
}

/// How much of a file is here.
#[derive(Serialize)]
struct Received {
    id: Uuid,
    received: i64,
}

fn phase(word: &str) -> &'static str {
    if word == "after" { "after" } else { "before" }
}

/// A file is announced, or found to be half here.
async fn announce(m: Member, Path(id): Path<Uuid>, Form(a): Form<Announce>) -> Result<Json<Received>, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    s.case(id).await?;
    if a.size <= 0 {
        return Err(Problem::new("empty-file", "the file is empty; choose a recording").field("file").into());
    }
    if a.size > crate::MAX_UPLOAD as i64 {
        return Err(PageError::TooLarge);
    }
    if let Some(of) = a.of {
        s.incoming(id, of).await?;
    }
    let name: String = a.name.chars().filter(|c| !c.is_control()).take(200).collect();
    let up = s.announce(id, Announced { of: a.of, name: &name, size: a.size, phase: phase(&a.phase) }).await?;
    s.commit().await?;
    Ok(Json(Received { id: up.id, received: up.received }))
}

#[derive(Deserialize)]
struct Offset {
    from: i64,
}

/// The next piece of a file.
async fn piece(
    m: Member,
    Path((id, up)): Path<(Uuid, Uuid)>,
    Query(q): Query<Offset>,
    body: Bytes,
) -> Result<Json<Received>, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    let received = s.take_piece(id, up, q.from, &body).await?;
    s.commit().await?;
    Ok(Json(Received { id: up, received }))
}

/// The same from a browser without scripts: one form with the file in it.
async fn whole(m: Member, Path(id): Path<Uuid>, form: Multipart) -> Result<Redirect, PageError> {
    may_write(&m)?;
    m.scope().await?.case(id).await?;
    let (f, upload) = upload::form(form, "file", crate::MAX_UPLOAD).await?;
    let Some(Upload { name, file }) = upload else {
        return Err(Problem::new("empty-file", "the file is empty; choose a recording").field("file").into());
    };
    // What nobody could read is refused before it waits to be looked at.
    look(&file.head(HEAD)?, &CsvWriting::default()).map_err(|p| Problem { field: Some("file".into()), ..p })?;
    let of = f.text("of").and_then(|t| t.parse::<Uuid>().ok());
    let mut s = m.scope().await?;
    if let Some(of) = of {
        s.incoming(id, of).await?;
    }
    let size = file.length()? as i64;
    let up = s.announce(id, Announced { of, name: &name, size, phase: phase(f.text("phase").unwrap_or_default()) }).await?;
    let (to, mut pieces) = tokio::sync::mpsc::channel::<Vec<u8>>(2);
    let reading = tokio::task::spawn_blocking(move || file.pieces(LARGEST_PIECE, |p| to.blocking_send(p).is_ok()));
    let mut from = 0;
    while let Some(p) = pieces.recv().await {
        s.take_piece(id, up.id, from, &p).await?;
        from += p.len() as i64;
    }
    reading.await.map_err(|e| PageError::Broken(e.to_string()))??;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/incoming/{}", of.unwrap_or(up.id))))
}

/// The recording's description that the form makes, without its id and its files.
async fn described_run(
    s: &mut Scope,
    case: &Case,
    f: &FormFields,
    up: &Incoming,
    speed: Option<&Incoming>,
) -> Result<RecordingSpec, PageError> {
    let how = writing(f, "");
    let columns_say = match looked(s, up, &how).await? {
        Look::Table(t) => {
            let said = described(&t, &columns(f, "", &t))?;
            RecordingSpec { csv: Some(how).filter(|how| *how != CsvWriting::default()), ..said }
        }
        Look::Sound(w) => RecordingSpec {
            channels: sound_columns(f, w.channels).iter().map(ColumnRole::channel).collect(),
            ..RecordingSpec::default()
        },
        Look::Track => {
            return Err(Problem::new("only-speed", "this is a track: it holds the speed only").field("file").into());
        }
    };
    let reference = match speed {
        None => columns_say.speed.clone(),
        Some(up) => Some(match looked(s, up, &writing(f, "s_")).await? {
            Look::Table(t) => speed_described(&t, &columns(f, "s_", &t))?,
            _ => ReferenceSpec::default(),
        }),
    };
    Ok(RecordingSpec {
        symptom: f.owned("symptom").or_else(|| case.first_symptom().map(String::from)),
        phase: Some(phase(f.text("phase").unwrap_or(&up.phase)).into()),
        gear: f.owned("gear"),
        throttle: Some(f.text("throttle").unwrap_or("drive").into()),
        place: Some(f.text("place").unwrap_or("seat-rail").into()),
        range: f.owned("range"),
        speed: reference,
        ..columns_say
    })
}

/// The file's columns are named: it becomes a run of the case, and an analysis is asked for.
async fn keep(Posted { member: m, path: (id, up), form: f }: Posted<(Uuid, Uuid)>) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let stored = s.case(id).await?;
    let case = stored.case();
    let up = s.incoming(id, up).await?;
    if up.of_id.is_some() {
        return Err(PageError::NotFound);
    }
    let speed = s.speed_for(id, up.id).await?;
    let mut spec = described_run(&mut s, case, &f, &up, speed.as_ref()).await?;
    let is_sound = spec.time.is_none();
    // Small ones are read before anything is kept: what cannot be read is refused with its line, and nothing is lost.
    let samples = if up.size <= READ_AT_ONCE {
        let file = s.incoming_file(id, up.id).await?;
        let speed_file = match &speed {
            Some(i) => Some(s.incoming_file(id, i.id).await?),
            None => None,
        };
        let mut read = RecordingSpec { id: "R".into(), file: "x".into(), ..spec.clone() };
        if let Some(reference) = read.speed.as_mut().filter(|_| speed.is_some()) {
            reference.file = Some("y".into());
        }
        let samples = tokio::task::spawn_blocking(move || {
            read_recording(&read, &move |n| Ok(if n == "y" { speed_file.clone() } else { Some(file.clone()) }))
        })
        .await
        .map_err(|e| PageError::Broken(e.to_string()))?;
        if samples.refused {
            let w = samples.warnings.into_iter().next_back();
            let mut p = w.map_or_else(
                || Problem::new("refused", "the recording cannot be read"),
                |w| Problem { code: w.code, field: w.at, line: w.line, message: w.message },
            );
            p.field.get_or_insert("file".into());
            return Err(p.into());
        }
        Some(samples)
    } else {
        None
    };
    let run = s.new_run_id(id).await?;
    let kept = format!("recordings/{}.{}", run.to_lowercase(), if is_sound { "wav" } else { "csv" });
    (spec.id, spec.file) = (run.clone(), kept.clone());
    let mut kept_speed = String::new();
    if let Some(reference) = spec.speed.as_mut().filter(|_| speed.is_some()) {
        let ending = if reference.column.is_none() { "gpx" } else { "csv" };
        kept_speed = format!("recordings/{}-speed.{ending}", run.to_lowercase());
        reference.file = Some(kept_speed.clone());
    }
    crate::edits::keep(&m, &mut s, id, &f, CaseAct::AddRecording(Box::new(spec))).await?;
    s.remove_file(id, &kept).await?;
    s.keep_incoming(id, up.id, &kept).await?;
    if let Some(i) = &speed {
        s.remove_file(id, &kept_speed).await?;
        s.keep_incoming(id, i.id, &kept_speed).await?;
    }
    if let Some(samples) = samples {
        s.put_samples(id, &run, &samples).await?;
    }
    s.forget_incoming(id, up.id).await?;
    s.request_analysis(id).await?;
    s.commit().await?;
    let station = if f.text("phase").unwrap_or(&up.phase) == "after" { "prove" } else { "road" };
    Ok(Redirect::to(&format!("/cases/{id}/{station}?run={run}")))
}

/// A file on its way in is not wanted after all.
async fn forget(m: Member, Path((id, up)): Path<(Uuid, Uuid)>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    let of = s.incoming(id, up).await?.of_id;
    s.forget_incoming(id, up).await?;
    s.commit().await?;
    Ok(Redirect::to(&match of {
        Some(of) => format!("/cases/{id}/incoming/{of}"),
        None => format!("/cases/{id}/road"),
    }))
}

/// Routes of recordings on their way in.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/incoming", post(announce))
        .merge(mapping::routes())
        .route("/cases/{id}/incoming/{up}/keep", post(keep))
        .route("/cases/{id}/incoming/{up}/forget", post(forget))
}

/// Routes by which their bytes come.
pub fn uploads() -> Router<App> {
    Router::new()
        .route("/cases/{id}/recordings", post(whole))
        .route("/cases/{id}/incoming/{up}", put(piece).layer(DefaultBodyLimit::max(LARGEST_PIECE)))
}
