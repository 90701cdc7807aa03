//! Cases leave as open files and come back.

use crate::App;
use crate::auth::{Member, may_write};
use crate::error::PageError;
use crate::upload;
use crate::work_limits::{Exports, Imports, Turn};
use axum::Router;
use axum::body::Body;
use axum::extract::{Multipart, Path, Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Redirect};
use axum::routing::{get, post};
use baricord_core::case::document::CaseDocument;
use baricord_core::error::Problem;
use baricord_formats::{CaseSource, stream_zip};
use baricord_store::events::ExportedEvent;
use serde::Deserialize;
use std::io::Write;
use uuid::Uuid;

/// Bytes on their way from the zip to the browser.
struct Outgoing(tokio::sync::mpsc::Sender<std::io::Result<Vec<u8>>>);

impl std::io::Write for Outgoing {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.blocking_send(Ok(bytes.to_vec())).map_err(|_| std::io::Error::from(std::io::ErrorKind::BrokenPipe))?;
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// What was done to a case, beside its document.
const EVENTS: &str = "events.json";
/// Largest file of events that is taken in, bytes.
const MOST_EVENT_BYTES: usize = 16 << 20;

/// What else leaves with a case.
#[derive(Deserialize)]
struct Wanted {
    /// yes: what was done to it, edit by edit.
    #[serde(default)]
    events: Option<String>,
}

/// The events that come with a case; none where it brings none.
fn events_of(source: &CaseSource) -> Result<Vec<ExportedEvent>, Problem> {
    let Some(file) = source.file(EVENTS)? else { return Ok(vec![]) };
    let bytes = file.head(MOST_EVENT_BYTES + 1)?;
    if bytes.len() > MOST_EVENT_BYTES {
        return Err(Problem::new("too-large", format!("{EVENTS} is over 16 MiB")).field("case"));
    }
    let bad = |e: serde_json::Error| {
        Problem::new("bad-events", format!("{EVENTS} cannot be read: {e}")).field("case").line(e.line() as u64)
    };
    serde_json::from_slice(&bytes).map_err(bad)
}

/// Bytes of the zip that are sent at once.
const SENT: usize = 256 << 10;

/// A case leaves: zipped while it is sent, read piece by piece, with no transaction open meanwhile.
async fn export(
    m: Member,
    turn: Turn<Exports>,
    State(app): State<App>,
    Path(id): Path<Uuid>,
    Query(wanted): Query<Wanted>,
) -> Result<impl IntoResponse, PageError> {
    let mut s = m.scope().await?;
    let c = s.case(id).await?;
    let mut names = s.file_names(id).await?;
    let mut events = vec![];
    if wanted.events.as_deref() == Some("yes") {
        let all = s.export_events(id).await?;
        events = serde_json::to_vec_pretty(&all).map_err(|e| PageError::Broken(e.to_string()))?;
        names.insert(0, EVENTS.into());
    }
    drop(s);
    let name: String =
        c.case().title.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect();
    let (to, from) = tokio::sync::mpsc::channel(2);
    let (runtime, workshop) = (tokio::runtime::Handle::current(), m.person.workshop_id);
    tokio::task::spawn_blocking(move || {
        let _turn = turn;
        let piece = |name: &str, i: i32| {
            if name == EVENTS {
                return Ok((i == 0).then(|| events.clone()));
            }
            let read = runtime.block_on(app.store.file_piece(workshop, id, name, i));
            read.map_err(|e| Problem::new("cannot-read", e.to_string()))
        };
        let mut out = std::io::BufWriter::with_capacity(SENT, Outgoing(to.clone()));
        let done = stream_zip(&mut out, c.document.json(), &names, piece)
            .and_then(|()| out.flush().map_err(|e| Problem::new("cannot-write", e.to_string())));
        // A file that broke off is not taken for a whole one.
        if let Err(p) = done {
            tracing::warn!(error = %p, "an export broke off");
            let _ = to.blocking_send(Err(std::io::Error::other(p.message)));
        }
    });
    let headers = [
        (header::CONTENT_TYPE, "application/zip".to_string()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{}.zip\"", name.trim_matches('-'))),
    ];
    let stream = futures_util::stream::unfold(from, |mut from| async { from.recv().await.map(|piece| (piece, from)) });
    Ok((headers, Body::from_stream(stream)))
}

async fn import(m: Member, _turn: Turn<Imports>, form: Multipart) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let (_, upload) = upload::form(form, "case", crate::MAX_UPLOAD).await?;
    let upload = upload
        .ok_or_else(|| Problem::new("empty-file", "choose a case that is not empty: a zip or a case.json").field("case"))?;
    // Read, and its files found, beside the async threads.
    let read = tokio::task::spawn_blocking(move || -> Result<_, Problem> {
        let source = CaseSource::from_source(&upload.file)?;
        let document = CaseDocument::read(source.document.clone())?;
        let case = document.case();
        let mut names: Vec<String> = case.recordings.iter().map(|r| r.file.clone()).collect();
        let references = case.recordings.iter().flat_map(|r| [&r.speed, &r.rpm]).flatten();
        names.extend(references.filter_map(|x| x.file.clone()));
        names.extend(case.pinned.iter().map(|p| p.file.clone()).filter(|f| f.starts_with("pinned/")));
        names.sort();
        names.dedup();
        let mut files = vec![];
        for name in names.into_iter().filter(|n| !n.is_empty()) {
            if let Some(file) = source.file(&name)? {
                files.push((name, file));
            }
        }
        Ok((document, events_of(&source)?, files))
    });
    let (document, events, files) = read.await.map_err(|e| PageError::Broken(e.to_string()))??;
    let has_recordings = !document.case().recordings.is_empty();
    let mut s = m.scope().await?;
    let id = s.add_case_with(document, &events, "imported the case", &m.person.name).await?;
    for (name, file) in &files {
        s.put_file(id, name, file).await?;
    }
    if has_recordings {
        s.request_analysis(id).await?;
    }
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}")))
}

/// The way out.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/export.zip", get(export))
}

/// The way in of a case.
pub fn uploads() -> Router<App> {
    Router::new().route("/import", post(import))
}
