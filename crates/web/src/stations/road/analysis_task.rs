//! An analysis under way: how far it is, stopped, asked for again.

use crate::App;
use crate::auth::{Member, may_write};
use crate::error::PageError;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::Path;
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use baricord_store::analysis_tasks::AnalysisTask;
use uuid::Uuid;

#[derive(Template, WebTemplate)]
#[template(path = "analysis_task.html")]
struct AnalysisTaskPart {
    id: Uuid,
    task: Option<AnalysisTask>,
    open: bool,
}

/// How far the analysis is; when it ends the page is loaded again.
async fn task(m: Member, Path(id): Path<Uuid>) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    s.case(id).await?;
    let task = s.analysis_task(id).await?;
    let open = task.as_ref().is_some_and(AnalysisTask::is_open);
    let mut r = AnalysisTaskPart { id, task, open }.into_response();
    if !open {
        r.headers_mut().insert("hx-refresh", axum::http::HeaderValue::from_static("true"));
    }
    Ok(r)
}

async fn cancel(m: Member, Path(id): Path<Uuid>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    s.case(id).await?;
    s.cancel_tasks(id).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/road")))
}

async fn again(m: Member, Path(id): Path<Uuid>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    s.case(id).await?;
    s.request_analysis(id).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/road")))
}

/// Routes of the analysis.
pub(super) fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/analysis", get(task))
        .route("/cases/{id}/analysis/cancel", post(cancel))
        .route("/cases/{id}/analysis/again", post(again))
}
