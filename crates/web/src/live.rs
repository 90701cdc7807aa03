//! What others do on a case while its page is open.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use axum::extract::{Path, Query};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use serde::Deserialize;
use serde_json::json;
use uuid::Uuid;

/// The version that the page shows.
#[derive(Deserialize)]
struct Shown {
    v: i32,
}

/// What was done since; nothing where nothing was.
async fn since(m: Member, Path(id): Path<Uuid>, Query(shown): Query<Shown>) -> Result<Response, PageError> {
    let (version, steps) = m.scope().await?.since(id, shown.v).await?;
    if steps.is_empty() {
        return Ok(StatusCode::NO_CONTENT.into_response());
    }
    let steps: Vec<_> = steps.into_iter().map(|s| json!({"person": s.person, "what": s.what})).collect();
    Ok(Json(json!({"version": version, "steps": steps})).into_response())
}

/// Routes of what is live.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/live", get(since))
}
