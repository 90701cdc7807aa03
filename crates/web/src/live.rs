//! What others do on a case while its page is open.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

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

/// What was done since; nothing where nothing was.
async fn since(m: Member, Path(id): Path<Uuid>, Query(shown): Query<Shown>) -> Result<Response, PageError> {
    let (version, events) = m.scope().await?.since(id, shown.v).await?;
    if events.is_empty() {
        return Ok(StatusCode::NO_CONTENT.into_response());
    }
    let steps = events.into_iter().map(|e| News { person: e.person, what: e.what }).collect();
    Ok(Json(Since { version, steps }).into_response())
}

/// Routes of what is live.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/live", get(since))
}
