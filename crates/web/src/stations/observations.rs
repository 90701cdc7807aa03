//! The answer to a test, given at any station.

use crate::App;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::stations::form::{FormFields, Posted};
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::edit::act::{CaseAct, TestResult};
use baricord_core::error::Problem;

/// What a test came out with, as a form has it.
pub fn result_of(f: &FormFields) -> Result<TestResult, Problem> {
    Ok(TestResult {
        symptom: f.owned("symptom"),
        test: f.need("test", "the test")?.into(),
        at: f.owned("at"),
        gear: f.owned("gear"),
        outcome: f.need("outcome", "the outcome")?.into(),
        also: f.all("also"),
        note: f.owned("note"),
        phase: f.owned("phase"),
        source: f.owned("source"),
        seen_to: f.all("seen-to"),
        ..TestResult::default()
    })
}

/// Keeps a test's outcome and goes back to the station where it was tapped.
async fn observe(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    keep_now(&m, id, &f, CaseAct::AnswerTest(Box::new(result_of(&f)?))).await?;
    let back = f.text("back").filter(|b| ["decide", "lift", "road", "prove", "complaint"].contains(b)).unwrap_or("decide");
    Ok(Redirect::to(&format!("/cases/{id}/{back}?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the answers.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/observations", post(observe))
}
