//! Feel in numbers, and what each answer leaves: beside the route on the lift.

use crate::App;
use crate::auth::Member;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::next_view::href_of_test;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::form::{FormFields, Posted};
use crate::wording::ask_words;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::case::BalancePulls;
use baricord_core::edit::act::{CaseAct, SwungJoint};
use baricord_core::error::Problem;
use baricord_core::lift::isolation::isolation;
use baricord_core::units::Unit;
use baricord_core::workflow::Station;
use uuid::Uuid;

/// A test that takes units out: how it is made, each outcome with what remains.
struct IsolationRow {
    hands: String,
    ask: String,
    how: String,
    here: String,
    outcomes: Vec<(String, u32, String)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "lift/isolation.html")]
struct IsolationPage {
    f: Frame,
    rows: Vec<IsolationRow>,
    /// Tests of these that are made already.
    made: Vec<(String, String)>,
}

async fn leaves(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<IsolationPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &k, Station::Lift);
    let (kb, case) = (&*k.knowledge, k.case());
    let all = k.symptom.as_deref().map_or(vec![], |s| isolation(case, kb, s, k.analysis.as_ref()));
    let rows = all
        .iter()
        .filter_map(|e| {
            let rule = kb.test(&e.test)?;
            let outcome = |o: &baricord_core::lift::isolation::IsolationOutcome| {
                let places: Vec<String> =
                    o.places.iter().map(|(at, p)| format!("{} {:.0}\u{a0}%", case.vehicle.place_words(at), 100.0 * p)).collect();
                let words = rule.outcome(&o.outcome).map_or(o.outcome.clone(), |x| x.words.clone());
                (
                    words,
                    (100.0 * o.chance).round() as u32,
                    if places.is_empty() { "nothing in particular".into() } else { places.join(" · ") },
                )
            };
            Some(IsolationRow {
                hands: rule.hands.map_or(String::new(), crate::drawing::hands),
                ask: ask_words(kb, case, &e.test, e.at.as_deref(), None),
                how: rule.how.clone(),
                here: href_of_test(kb, id, &e.test, e.at.as_deref(), None, k.symptom.as_deref().unwrap_or_default()),
                outcomes: e.outcomes.iter().map(outcome).collect(),
            })
        })
        .collect();
    let made = case
        .observations
        .iter()
        .filter(|o| o.symptom.is_none() || o.symptom == k.symptom)
        .filter_map(|o| {
            let t = kb.test(&o.test).filter(|t| t.at.is_empty())?;
            Some((t.ask.clone(), t.outcome(&o.outcome).map_or(o.outcome.clone(), |x| x.words.clone())))
        })
        .collect();
    Ok(IsolationPage { f, rows, made })
}

fn pulls(f: &FormFields, field: &str) -> Result<Vec<f64>, Problem> {
    let text = f.need(field, "the pulls about this axis")?;
    text.split([' ', ';', '/']).filter(|t| !t.is_empty()).map(|t| f.typed(field, t, Unit::Newton)).collect()
}

/// A joint swung with a spring balance: the numbers say what was felt.
async fn swung(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let arm_mm =
        f.amount("arm_mm", Unit::Millimetre)?.ok_or_else(|| Problem::new("missing", "the arm is missing").field("arm_mm"))?;
    let pulls = BalancePulls { arm_mm, first_n: pulls(&f, "first_n")?, second_n: pulls(&f, "second_n")? };
    let swung = SwungJoint { symptom: f.owned("symptom"), at: f.need("at", "the joint")?.into(), pulls };
    keep_now(&m, id, &f, CaseAct::SwingJoint(swung)).await?;
    Ok(Redirect::to(&format!("/cases/{id}/lift?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the isolation and of the spring balance.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/lift/leaves", get(leaves)).route("/cases/{id}/lift/swing", post(swung))
}
