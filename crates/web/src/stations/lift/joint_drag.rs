//! Feel in numbers, and what each answer leaves: beside the route on the lift.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::next_view::href_of_test;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::form::{FormFields, Posted, parse_number};
use crate::thermal_state::observed;
use crate::wording::ask_words;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::error::Problem;
use baricord_core::lift::isolation::isolation;
use baricord_core::measure::instrument::instrument;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::workflow::Station;
use serde_json::json;
use uuid::Uuid;

/// The spring balance.
const INSTRUMENT: &str = "joint-drag";

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
    let f = Frame::new(&m, &mut s, &k, Station::Lift).await?;
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
    text.split([' ', ';', '/'])
        .filter(|t| !t.is_empty())
        .map(|t| {
            let n = parse_number(t).and_then(|n| n.as_f64());
            n.ok_or_else(|| Problem::new("bad-number", format!("“{t}” is not a number")).field(field))
        })
        .collect()
}

/// A joint swung with a spring balance: the numbers say what was felt.
async fn swung(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let arm = f.float("arm_mm")?.ok_or_else(|| Problem::new("missing", "the arm is missing").field("arm_mm"))?;
    let input = json!({"arm_mm": arm, "first_n": pulls(&f, "first_n")?, "second_n": pulls(&f, "second_n")?});
    let balance = instrument(INSTRUMENT).ok_or(PageError::NotFound)?;
    let rule = builtin().test_read_with(INSTRUMENT, |_| true).ok_or(PageError::NotFound)?;
    let at = f.need("at", "the joint")?;
    let mut scope = m.scope().await?;
    let read = balance.read_at(&scope.case(id).await?.case.vehicle, at, &input)?;
    let outcome = read.outcome.ok_or(PageError::NotFound)?;
    let words = format!("{}: {}", rule.ask, outcome.replace('-', " "));
    scope
        .edit_case_once(id, f.mark()?, None, &words, &m.person.name, |d| {
            let mut o = json!({"test": rule.id, "at": at, "outcome": outcome, "note": read.words, "balance": input});
            if let Some(s) = f.text("symptom") {
                o["symptom"] = s.into();
            }
            observed(d, o, rule);
            Ok(())
        })
        .await?;
    scope.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/lift?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the isolation and of the spring balance.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/lift/leaves", get(leaves)).route("/cases/{id}/lift/swing", post(swung))
}
