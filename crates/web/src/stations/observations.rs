//! The answer to a test, given at any station.

use crate::App;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::stations::form::Posted;
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::edit::act::{CaseAct, TestResult};

/// Keeps a test's outcome and goes back to the station where it was tapped.
async fn observe(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let result = TestResult {
        symptom: f.owned("symptom"),
        test: f.need("test", "the test")?.into(),
        at: f.owned("at"),
        gear: f.owned("gear"),
        outcome: f.need("outcome", "the outcome")?.into(),
        also: f.all("also"),
        note: f.owned("note"),
        phase: f.owned("phase"),
        seen_to: f.all("seen-to"),
        ..TestResult::default()
    };
    keep_now(&m, id, &f, CaseAct::AnswerTest(Box::new(result))).await?;
    let back = f.text("back").filter(|b| ["decide", "lift", "road", "prove"].contains(b)).unwrap_or("decide");
    Ok(Redirect::to(&format!("/cases/{id}/{back}?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the answers.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/observations", post(observe))
}
