//! A test at all its places at once: both boots, all four hubs, each gear. One row for each, answered in one go.

use crate::App;
use crate::auth::Member;
use crate::edits::keep;
use crate::error::PageError;
use crate::mend;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::form::Posted;
use crate::stations::test_cards::{CautionView, TestCard, cautions, one_card};
use crate::wording::segment;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::get;
use baricord_core::case::{NOT_POSSIBLE, Observation};
use baricord_core::edit::act::{CaseAct, EntryKind, TestResult};
use baricord_core::error::Problem;
use baricord_core::reasoning::availability::tries_on;
use baricord_core::reasoning::knowledge::Test;
use baricord_core::reasoning::wording::outcome_words;
use baricord_core::safety::cautions::{RunningCheck, running_checks};
use baricord_core::workflow::Station;
use uuid::Uuid;

/// What was answered at a place: in words, where it is opened.
struct Given {
    words: String,
    href: String,
}

/// A place or a gear where the test is made.
struct Row {
    /// As the form names it: `hub.fl`, or `gearbox:3` where a gear is meant.
    name: String,
    words: String,
    /// What was answered there, the oldest first: more than one where answers disagree.
    given: Vec<Given>,
}

#[derive(Template, WebTemplate)]
#[template(path = "everywhere.html")]
struct EverywherePage {
    f: Frame,
    ask: String,
    how: String,
    test: String,
    cautions: Vec<CautionView>,
    checks: Vec<RunningCheck>,
    outcomes: Vec<(String, String)>,
    rows: Vec<Row>,
    /// The test in one card, where it is made at one place or names its place.
    single: Vec<TestCard>,
}

/// Where a test stands with all its places.
pub fn href(case: Uuid, test: &str, symptom: &str) -> String {
    format!("/cases/{case}/test/{}?s={symptom}", segment(test))
}

/// What was answered at a place before any repair.
fn given(k: &LoadedCase, t: &Test, at: Option<&str>, gear: Option<&str>) -> Vec<Given> {
    let case = k.case();
    let same = |o: &&Observation| o.test == t.id && o.at.as_deref() == at && o.gear.as_deref() == gear && !o.is_after();
    case.observations
        .iter()
        .filter(same)
        .map(|o| Given {
            words: match o.outcome.as_str() {
                NOT_POSSIBLE => "can't be made here".into(),
                outcome => outcome_words(&k.knowledge, &case.vehicle, &t.id, outcome, None),
            },
            href: mend::href(k.stored.id, EntryKind::Answer, &o.id, k.symptom.as_deref().unwrap_or_default()),
        })
        .collect()
}

async fn show(m: Member, Path((id, test)): Path<(Uuid, String)>, Query(w): Query<Which>) -> Result<EverywherePage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    drop(s);
    let t = k.knowledge.test(&test).ok_or(PageError::NotFound)?.clone();
    let tries = tries_on(&k.case().vehicle, &t);
    let row = |(at, gear): &(Option<baricord_core::vehicle::Place>, Option<String>)| {
        let place = at.as_ref()?;
        Some(Row {
            name: gear.as_ref().map_or(place.id.clone(), |g| format!("{}:{g}", place.id)),
            words: gear.as_ref().map_or(place.words.clone(), |g| format!("gear {g}")),
            given: given(&k, &t, Some(&place.id), gear.as_deref()),
        })
    };
    let rows: Vec<Row> = if tries.len() > 1 { tries.iter().filter_map(row).collect() } else { vec![] };
    let (at, gear) = tries.first().map_or((None, None), |(at, gear)| (at.as_ref().map(|p| p.id.clone()), gear.clone()));
    let single = match rows.is_empty() {
        true => {
            let name = test.clone();
            k.with_open_beside(move |k, open| one_card(k, open, &name, at.as_deref(), gear.as_deref()))
                .await?
                .into_iter()
                .collect()
        }
        false => vec![],
    };
    Ok(EverywherePage {
        f: Frame::new(&m, &k, Station::Decide),
        ask: t.ask.clone(),
        how: t.how.clone(),
        cautions: cautions(&k, &t, None),
        checks: running_checks(k.case(), &t),
        outcomes: t.outcomes.iter().map(|o| (o.id.clone(), o.words.clone())).collect(),
        test,
        rows,
        single,
    })
}

/// Fields of the rows begin so: `at:hub.fl`.
const ROW: &str = "at:";

/// The answers of all rows that were answered, kept together: each is an entry of its own.
async fn answer(Posted { member: m, path: (id, test), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    let symptom = f.owned("symptom");
    let rows = f.fields.iter().filter_map(|(name, outcome)| Some((name.strip_prefix(ROW)?, outcome.trim())));
    let answered: Vec<(&str, &str)> = rows.filter(|(_, outcome)| !outcome.is_empty()).collect();
    if answered.is_empty() {
        return Err(Problem::new("missing", "answer one row at least").field("at").into());
    }
    let mut s = m.scope().await?;
    for (place, outcome) in answered {
        let (at, gear) = place.split_once(':').map_or((place, None), |(at, gear)| (at, Some(gear)));
        let result = TestResult {
            symptom: symptom.clone(),
            test: test.clone(),
            at: Some(at.into()),
            gear: gear.map(String::from),
            outcome: outcome.into(),
            seen_to: f.all("seen-to"),
            ..TestResult::default()
        };
        keep(&m, &mut s, id, &f, CaseAct::AnswerTest(Box::new(result))).await?;
    }
    s.commit().await?;
    Ok(Redirect::to(&href(id, &test, symptom.as_deref().unwrap_or_default())))
}

/// Routes of a test at all its places.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/test/{test}", get(show).post(answer))
}
