//! Recordings in: a file comes in pieces, is looked at with its columns guessed, and becomes a run of
//! the case when its columns are named.

use crate::App;
use crate::auth::{Member, may_write};
use crate::error::PageError;
use crate::page::{Frame, LoadedCase};
use crate::stations::form::FormFields;
use crate::upload::{self, Upload};
use askama::Template;
use askama_web::WebTemplate;
use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, Form, Multipart, Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post, put};
use axum::{Json, Router};
use baricord_core::case::entries::append;
use baricord_core::case::{Case, CsvWriting, RecordingSpec};
use baricord_core::error::Problem;
use baricord_core::workflow::Station;
use baricord_formats::{ColumnRole, Look, Role, TableLook, described, look, read_recording, speed_described};
use baricord_store::Scope;
use baricord_store::incoming::{Announced, Incoming, LARGEST_PIECE};
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::HashMap;
use uuid::Uuid;

/// How much of a file is looked at.
const HEAD: usize = 64 << 10;
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

fn phase(word: &str) -> &'static str {
    if word == "after" { "after" } else { "before" }
}

/// A file is announced, or found to be half here.
async fn announce(m: Member, Path(id): Path<Uuid>, Form(a): Form<Announce>) -> Result<Json<Value>, PageError> {
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
    Ok(Json(json!({"id": up.id, "received": up.received})))
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
) -> Result<Json<Value>, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    let received = s.take_piece(id, up, q.from, &body).await?;
    s.commit().await?;
    Ok(Json(json!({"received": received})))
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

/// One column of the mapping.
struct ColumnView {
    index: usize,
    name: String,
    role: &'static str,
    unit: String,
    units: &'static [&'static str],
}

/// A table to be mapped: its look, and what is wrong or understood.
#[derive(Template, WebTemplate)]
#[template(path = "road/mapping_table.html")]
struct TableView {
    /// Where changes are asked about.
    url: String,
    /// Before the names of its fields: empty, or `s_` for a speed file.
    prefix: &'static str,
    separator: String,
    comma: bool,
    columns: Vec<ColumnView>,
    lines: Vec<(u64, Vec<(String, bool)>)>,
    roles: &'static [(&'static str, &'static str)],
    problem: String,
    understood: String,
}

/// Roles of a recording's columns, with their words.
const ROLES: [(&str, &str); 8] = [
    ("nothing", "not used"),
    ("time", "time"),
    ("acceleration", "acceleration"),
    ("sound", "sound"),
    ("velocity", "velocity"),
    ("pulse", "pulse a turn"),
    ("speed", "road speed"),
    ("rpm", "engine speed"),
];
/// Roles of a speed file's columns.
const SPEED_ROLES: [(&str, &str); 3] = [("nothing", "not used"), ("time", "time"), ("speed", "road speed")];

struct SoundView {
    words: String,
    channels: Vec<ColumnView>,
    roles: &'static [(&'static str, &'static str)],
}

/// Roles of a sound file's channels.
const SOUND_ROLES: [(&str, &str); 3] = [("sound", "sound"), ("acceleration", "acceleration"), ("velocity", "velocity")];

#[derive(Template, WebTemplate)]
#[template(path = "road/mapping.html")]
struct MappingPage {
    f: Frame,
    up: Incoming,
    size: String,
    table: Option<TableView>,
    sound: Option<SoundView>,
    /// A file of speed that came with it.
    speed: Option<(Incoming, Option<TableView>)>,
    /// Whether it may need one.
    may_have_speed_file: bool,
    problem: String,
    symptoms: Vec<(String, String)>,
    gears: Vec<String>,
    ranges: Vec<String>,
    places: Vec<String>,
    gear: String,
    throttle: String,
    place: String,
    after: bool,
}

fn writing(f: &FormFields, prefix: &str) -> CsvWriting {
    let one = |name: &str| f.text(&format!("{prefix}{name}")).filter(|t| *t != "guess").map(String::from);
    CsvWriting {
        separator: one("separator").and_then(|t| match t.as_str() {
            "tab" => Some('\t'),
            "semicolon" => Some(';'),
            "comma" => Some(','),
            _ => None,
        }),
        decimal: one("decimal").and_then(|t| t.chars().next()),
    }
}

/// Columns as a form says them; where it says nothing, as they were guessed.
fn columns(f: &FormFields, prefix: &str, t: &TableLook) -> Vec<ColumnRole> {
    t.columns
        .iter()
        .enumerate()
        .map(|(i, c)| {
            let role = f.text(&format!("{prefix}role_{i}")).and_then(Role::parse).unwrap_or(c.role);
            let unit = f.text(&format!("{prefix}unit_{i}")).map_or(c.unit.clone(), String::from);
            // A unit that belongs to what the column was before gives way to the usual one.
            let fits = role.units().is_empty() || role.units().contains(&unit.as_str()) || role == c.role && unit == c.unit;
            let unit = if fits { unit } else { role.units().first().copied().unwrap_or_default().to_string() };
            ColumnRole { name: c.name.clone(), role, unit }
        })
        .collect()
}

fn table_view(f: &FormFields, prefix: &'static str, url: String, t: &TableLook) -> TableView {
    let named = columns(f, prefix, t);
    let speed_file = prefix == "s_";
    let told = if speed_file { speed_described(t, &named) } else { described(t, &named) };
    let understood = told.as_ref().map_or(String::new(), understood);
    TableView {
        url,
        prefix,
        separator: match t.shape.separator {
            b';' => "semicolon".into(),
            b'\t' => "tab".into(),
            _ => "comma".into(),
        },
        comma: t.shape.comma,
        columns: named.iter().enumerate().map(|(index, c)| column_view(index, c)).collect(),
        lines: t.lines.clone(),
        roles: if speed_file { &SPEED_ROLES } else { &ROLES },
        problem: told.err().map_or(String::new(), |p| p.message),
        understood,
    }
}

fn column_view(index: usize, c: &ColumnRole) -> ColumnView {
    ColumnView { index, name: c.name.clone(), role: c.role.id(), unit: c.unit.clone(), units: c.role.units() }
}

/// What a description of columns says, in words.
fn understood(d: &Value) -> String {
    let names: Vec<&str> = d["channels"].as_array().into_iter().flatten().filter_map(|c| c["column"].as_str()).collect();
    let speed = match (&d["speed"], &d["rpm"]) {
        (Value::Null, Value::Null) => "no speed: add a file with it, or the orders can only be followed by a ridge",
        (Value::Null, _) => "the engine's speed as reference",
        _ => "road speed as reference",
    };
    match names.as_slice() {
        [] => "time and road speed".into(),
        names => format!("{}: {}; {speed}", if names.len() == 1 { "one channel" } else { "channels" }, names.join(", ")),
    }
}

fn sound_columns(f: &FormFields, channels: usize) -> Vec<ColumnRole> {
    (0..channels)
        .map(|i| {
            let role = f.text(&format!("role_{i}")).and_then(Role::parse).unwrap_or(Role::Sound);
            let unit = f.text(&format!("unit_{i}")).filter(|u| role.units().contains(u)).unwrap_or(role.units()[0]);
            let name = if channels == 1 { "mic".to_string() } else { format!("ch{}", i + 1) };
            ColumnRole { name, role, unit: unit.to_string() }
        })
        .collect()
}

fn size_words(bytes: i64) -> String {
    match bytes as f64 {
        b if b >= 1e9 => format!("{:.2} GB", b / 1e9),
        b if b >= 1e6 => format!("{:.1} MB", b / 1e6),
        b => format!("{:.0} kB", (b / 1e3).max(1.0)),
    }
}

async fn looked(s: &mut Scope, up: &Incoming, how: &CsvWriting) -> Result<Look, PageError> {
    let head = s.incoming_head(up.id, HEAD).await?;
    Ok(look(&head, how).map_err(|p| Problem { field: Some("file".into()), ..p })?)
}

fn look_url(id: Uuid, up: Uuid) -> String {
    format!("/cases/{id}/incoming/{up}/look")
}

async fn mapping(m: Member, Path((id, up)): Path<(Uuid, Uuid)>) -> Result<MappingPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, None).await?;
    let up = s.incoming(id, up).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Road).await?;
    let case = k.case();
    let like = case.recordings.iter().rev().find(|r| up.phase != "after" || !r.is_after());
    let nothing = FormFields(vec![]);
    let mut places: Vec<String> = ["seat-rail", "floor", "steering-wheel", "boot-floor", "gearbox"].map(String::from).to_vec();
    places.extend(case.recordings.iter().filter_map(|r| r.place.clone()));
    let mut seen = vec![];
    places.retain(|p| {
        !seen.contains(p) && {
            seen.push(p.clone());
            true
        }
    });
    let mut page = MappingPage {
        size: size_words(up.size),
        table: None,
        sound: None,
        speed: None,
        may_have_speed_file: true,
        problem: String::new(),
        symptoms: case.symptoms.iter().map(|s| (s.id.clone(), crate::wording::kind_words(&s.kind))).collect(),
        gears: case.vehicle.gearbox.gears.iter().map(|g| g.name.clone()).collect(),
        ranges: case.vehicle.transfer.iter().flat_map(|t| t.ranges.iter().map(|r| r.name.clone())).collect(),
        places,
        gear: like.and_then(|r| r.gear.clone()).unwrap_or_default(),
        throttle: like.and_then(|r| r.throttle.clone()).unwrap_or("drive".into()),
        place: like.and_then(|r| r.place.clone()).unwrap_or("seat-rail".into()),
        after: up.phase == "after",
        f,
        up,
    };
    match looked(&mut s, &page.up, &CsvWriting::default()).await {
        Ok(Look::Table(t)) => {
            page.may_have_speed_file = !t.columns.iter().any(|c| c.role == Role::Speed);
            page.table = Some(table_view(&nothing, "", look_url(id, page.up.id), &t));
        }
        Ok(Look::Sound(w)) => {
            let words = format!(
                "{} channel{}, {:.0} Hz, {} bits, {:.1} s",
                w.channels,
                if w.channels == 1 { "" } else { "s" },
                w.rate_hz,
                w.bits,
                w.seconds
            );
            let channels = sound_columns(&nothing, w.channels).iter().enumerate().map(|(i, c)| column_view(i, c)).collect();
            page.sound = Some(SoundView { words, channels, roles: &SOUND_ROLES });
        }
        Ok(Look::Track) => {
            page.problem = "This is a track: it holds the speed only. Load the recording first, then add the track to it.".into();
        }
        Err(PageError::Problem(p)) => page.problem = p.message,
        Err(e) => return Err(e),
    }
    if let Some(speed) = s.speed_for(id, page.up.id).await? {
        let table = match looked(&mut s, &speed, &CsvWriting::default()).await {
            Ok(Look::Table(t)) => Some(table_view(&nothing, "s_", look_url(id, speed.id), &t)),
            Ok(Look::Track) => None,
            Ok(Look::Sound(_)) => return Err(Problem::new("no-speed", "the speed file is a sound").field("speed.file").into()),
            Err(e) => return Err(e),
        };
        page.speed = Some((speed, table));
    }
    Ok(page)
}

/// The table again, with what was changed in it.
async fn look_again(
    m: Member,
    Path((id, up)): Path<(Uuid, Uuid)>,
    Query(q): Query<HashMap<String, String>>,
) -> Result<TableView, PageError> {
    let mut s = m.scope().await?;
    let up = s.incoming(id, up).await?;
    let f = FormFields(q.into_iter().collect());
    let prefix = if up.of_id.is_some() { "s_" } else { "" };
    match looked(&mut s, &up, &writing(&f, prefix)).await? {
        Look::Table(t) => Ok(table_view(&f, prefix, look_url(id, up.id), &t)),
        _ => Err(PageError::NotFound),
    }
}

/// The recording's description that the form makes.
async fn described_run(
    s: &mut Scope,
    case: &Case,
    f: &FormFields,
    up: &Incoming,
    speed: Option<&Incoming>,
) -> Result<Value, PageError> {
    let mut spec = json!({
        "id": "", "symptom": f.text("symptom").or(case.symptoms.first().map(|s| s.id.as_str())), "phase": phase(f.text("phase").unwrap_or(&up.phase)),
        "file": "", "gear": f.text("gear"), "throttle": f.text("throttle").unwrap_or("drive"),
        "place": f.text("place").unwrap_or("seat-rail"),
    });
    if let Some(range) = f.text("range") {
        spec["range"] = range.into();
    }
    let how = writing(f, "");
    match looked(s, up, &how).await? {
        Look::Table(t) => {
            for (k, v) in described(&t, &columns(f, "", &t))?.as_object().into_iter().flatten() {
                spec[k] = v.clone();
            }
            if how != CsvWriting::default() {
                spec["csv"] = serde_json::to_value(&how).unwrap_or_default();
            }
        }
        Look::Sound(w) => {
            spec["time"] = Value::Null;
            spec["channels"] = sound_columns(f, w.channels)
                .iter()
                .map(|c| json!({"column": c.name, "quantity": c.role.id(), "unit": c.unit}))
                .collect();
        }
        Look::Track => {
            return Err(Problem::new("only-speed", "this is a track: it holds the speed only").field("file").into());
        }
    }
    if let Some(up) = speed {
        spec["speed"] = match looked(s, up, &writing(f, "s_")).await? {
            Look::Table(t) => speed_described(&t, &columns(f, "s_", &t))?,
            _ => json!({}),
        };
    }
    Ok(spec)
}

/// The file's columns are named: it becomes a run of the case, and an analysis is asked for.
async fn keep(
    m: Member,
    Path((id, up)): Path<(Uuid, Uuid)>,
    Form(f): Form<Vec<(String, String)>>,
) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let mut s = m.scope().await?;
    let case = s.case(id).await?.case;
    let up = s.incoming(id, up).await?;
    if up.of_id.is_some() {
        return Err(PageError::NotFound);
    }
    let speed = s.speed_for(id, up.id).await?;
    let mut spec = described_run(&mut s, &case, &f, &up, speed.as_ref()).await?;
    let is_sound = spec["time"].is_null();
    // Small ones are read before anything is kept: what cannot be read is refused with its line, and nothing is lost.
    let samples = if up.size <= READ_AT_ONCE {
        let file = s.incoming_file(id, up.id).await?;
        let speed_file = match &speed {
            Some(i) => Some(s.incoming_file(id, i.id).await?),
            None => None,
        };
        let mut probe = spec.clone();
        (probe["id"], probe["file"]) = ("R".into(), "x".into());
        if speed.is_some() {
            probe["speed"]["file"] = "y".into();
        }
        let read: RecordingSpec = baricord_core::error::read_json(&probe)?;
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
    let mut kept_speed = String::new();
    s.edit_case(id, None, &format!("loaded a run: {}", up.name), &m.person.name, |d| {
        spec["id"] = run.clone().into();
        spec["file"] = kept.clone().into();
        if speed.is_some() {
            let track = spec["speed"]["column"].is_null();
            kept_speed = format!("recordings/{}-speed.{}", run.to_lowercase(), if track { "gpx" } else { "csv" });
            spec["speed"]["file"] = kept_speed.clone().into();
        }
        append(d, "recordings", spec);
        Ok(())
    })
    .await?;
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
        .route("/cases/{id}/incoming/{up}", get(mapping))
        .route("/cases/{id}/incoming/{up}/look", get(look_again))
        .route("/cases/{id}/incoming/{up}/keep", post(keep))
        .route("/cases/{id}/incoming/{up}/forget", post(forget))
}

/// Routes by which their bytes come.
pub fn uploads() -> Router<App> {
    Router::new()
        .route("/cases/{id}/recordings", post(whole))
        .route("/cases/{id}/incoming/{up}", put(piece).layer(DefaultBodyLimit::max(LARGEST_PIECE)))
}
