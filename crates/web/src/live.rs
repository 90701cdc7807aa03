//! What others do on a case while its page is open, and how far analyses and drives are: told by the server as it happens. A page whose
//! connection is held by nothing on the way asks for the same as JSON.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use baricord_store::Store;
use baricord_store::watch::CaseNews;
use serde::{Deserialize, Serialize};
use std::convert::Infallible;
use std::time::{Duration, Instant};
use uuid::Uuid;

/// News are gathered for so long before they are told: a drive moves many times a second.
const GATHERED: Duration = Duration::from_millis(400);
/// A connection is held for so long: whoever is signed in still comes again.
const HELD: Duration = Duration::from_secs(600);
/// A line goes over an idle connection as often as this.
const ALIVE: Duration = Duration::from_secs(15);

/// The version that the page shows.
#[derive(Deserialize)]
struct Shown {
    v: i32,
}

/// Something that somebody did.
#[derive(Serialize)]
struct News {
    person: String,
    what: String,
}

/// What was done since a version, and the version that it led to.
#[derive(Serialize)]
struct Since {
    version: i32,
    steps: Vec<News>,
}

async fn news(store: &Store, workshop: Uuid, id: Uuid, version: i32) -> Result<Since, PageError> {
    let (version, events) = store.scope(workshop).await?.since(id, version).await?;
    Ok(Since { version, steps: events.into_iter().map(|e| News { person: e.person, what: e.what }).collect() })
}

/// A page that watches a case.
struct Watcher {
    store: Store,
    workshop: Uuid,
    case: Uuid,
    heard: CaseNews,
    closing: tokio::sync::watch::Receiver<bool>,
    /// The version that was told last.
    version: i32,
    since: Instant,
    first: bool,
}

impl Watcher {
    /// The next thing to tell: what was done, or that something else has moved; none when the page should come again.
    async fn next(mut self) -> Option<(Result<Event, Infallible>, Self)> {
        if !std::mem::take(&mut self.first) {
            let left = HELD.checked_sub(self.since.elapsed())?;
            let goes_on = tokio::select! {
                told = self.heard.of(self.case) => told,
                () = tokio::time::sleep(left) => false,
                _ = self.closing.wait_for(|closing| *closing) => false,
            };
            if !goes_on {
                return None;
            }
            tokio::time::sleep(GATHERED).await;
        }
        let now = news(&self.store, self.workshop, self.case, self.version).await.ok()?;
        let event = match now.steps.is_empty() {
            true => Event::default().event("moved").data(now.version.to_string()),
            false => Event::default().event("edited").id(now.version.to_string()).json_data(&now).ok()?,
        };
        self.version = now.version;
        Some((Ok(event), self))
    }
}

/// What was done since: as it happens to a page that listens, else once; nothing where nothing was.
async fn since(
    m: Member,
    State(app): State<App>,
    Path(id): Path<Uuid>,
    Query(shown): Query<Shown>,
    headers: HeaderMap,
) -> Result<Response, PageError> {
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok());
    // A page that comes again says what it was told last.
    let version = text("last-event-id").and_then(|v| v.parse().ok()).unwrap_or(shown.v);
    let now = news(&app.store, m.person.workshop_id, id, version).await?;
    if text(header::ACCEPT.as_str()).is_some_and(|a| a.contains("text/event-stream")) {
        let (store, workshop) = (app.store.clone(), m.person.workshop_id);
        let heard = app.store.watch().await;
        let closing = app.closing.subscribe();
        let watcher = Watcher { store, workshop, case: id, heard, closing, version, since: Instant::now(), first: true };
        let told = futures_util::stream::unfold(watcher, Watcher::next);
        let stream = Sse::new(told).keep_alive(KeepAlive::new().interval(ALIVE));
        return Ok(([("x-accel-buffering", "no")], stream).into_response());
    }
    if now.steps.is_empty() {
        return Ok(StatusCode::NO_CONTENT.into_response());
    }
    Ok(Json(now).into_response())
}

/// Routes of what is live.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/live", get(since))
}
