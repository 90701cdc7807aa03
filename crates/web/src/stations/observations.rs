//! The answer to a test, given at any station.

use crate::App;
use crate::error::PageError;
use crate::stations::form::Posted;
use crate::thermal_state::observed;
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::error::Problem;
use baricord_core::reasoning::knowledge::builtin;
use serde_json::json;

/// Keeps a test's outcome and goes back to the station where it was tapped.
async fn observe(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let kb = builtin();
    let test = f.need("test", "the test")?;
    let t = kb.test(test).ok_or_else(|| Problem::new("unknown-test", format!("no test “{test}”")).field("test"))?;
    let mut s = m.scope().await?;
    let case = s.case(id).await?.case;
    let answer = t.answer(&case, f.need("outcome", "the outcome")?, f.text("at"), &f.all("also"), &f.all("seen-to"))?;
    let after = f.text("phase") == Some("after");
    let what = format!("{}: {}", t.ask, answer.words);
    s.edit_case_once(id, f.mark()?, None, &what, &m.person.name, |d| {
        let mut o = json!({"test": test, "outcome": answer.outcome});
        if let Some(s) = f.text("symptom") {
            o["symptom"] = s.into();
        }
        if let Some(at) = &answer.at {
            o["at"] = at.clone().into();
        }
        if let Some(g) = f.text("gear") {
            o["gear"] = g.into();
        }
        if let Some(n) = f.text("note") {
            o["note"] = n.into();
        }
        if !answer.also.is_empty() {
            o["also"] = json!(answer.also);
        }
        if after {
            o["phase"] = "after".into();
        }
        observed(d, o, t);
        Ok(())
    })
    .await?;
    s.commit().await?;
    let back = f.text("back").filter(|b| ["decide", "lift", "road", "prove"].contains(b)).unwrap_or("decide");
    Ok(Redirect::to(&format!("/cases/{id}/{back}?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the answers.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/observations", post(observe))
}
