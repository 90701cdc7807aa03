//! An answer, opened: what each other outcome would say in its place.

use super::{EntryHead, EntryLine, href, without};
use crate::auth::Member;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase};
use crate::stations::form::FormFields;
use crate::stations::observations::result_of;
use crate::stations::test_cards::{TestCard, card};
use askama::Template;
use askama_web::WebTemplate;
use baricord_core::case::{Case, Observation};
use baricord_core::edit::act::{CaseAct, Corrected, EntryKind, TestResult};
use baricord_core::error::Problem;
use baricord_core::reasoning::OpenSymptom;
use baricord_core::reasoning::availability::tries_on;
use baricord_core::reasoning::wording::outcome_words;
use baricord_core::workflow::Station;

/// A choice of a list: value, words, whether it stands now.
pub type Choice = (String, String, bool);

#[derive(Template, WebTemplate)]
#[template(path = "mend/answer.html")]
pub struct AnswerPage {
    f: Frame,
    head: EntryHead,
    test: String,
    /// The test with its outcomes, where this vehicle has it.
    card: Option<TestCard>,
    /// The outcome that stands.
    now: String,
    also: Vec<String>,
    places: Vec<Choice>,
    gears: Vec<Choice>,
    symptoms: Vec<Choice>,
    note: String,
}

/// What answers the same question otherwise.
fn others(k: &LoadedCase, o: &Observation) -> Vec<EntryLine> {
    let case = k.case();
    let same = |x: &&Observation| {
        x.id != o.id
            && x.test == o.test
            && x.at == o.at
            && x.gear == o.gear
            && x.is_after() == o.is_after()
            && x.outcome != o.outcome
    };
    case.observations
        .iter()
        .filter(same)
        .map(|x| EntryLine {
            what: outcome_words(&k.knowledge, &case.vehicle, &x.test, &x.outcome, None),
            more: super::who_words(x.by.as_deref(), x.at_time.as_deref()),
            href: href(k.stored.id, EntryKind::Answer, &x.id, k.symptom.as_deref().unwrap_or_default()),
        })
        .collect()
}

/// The card of the test, weighed without the answer.
fn card_without(k: &LoadedCase, case: &Case, o: &Observation) -> Option<TestCard> {
    let names_place = k.knowledge.test(&o.test).is_some_and(|t| t.names_place);
    let at = o.at.as_deref().filter(|_| !names_place);
    let symptom = k.symptom.as_deref().unwrap_or_default();
    OpenSymptom::with(case, &k.knowledge, symptom, k.analysis.as_ref(), |open| {
        let t = open.any_test(&o.test, at, o.gear.as_deref())?;
        card(k, open, &t, 1)
    })
}

/// The page of an answer.
pub fn page(m: &Member, k: &LoadedCase, mut head: EntryHead) -> Result<AnswerPage, PageError> {
    let case = k.case();
    let o = case.observations.iter().find(|o| o.id == head.id).ok_or(PageError::NotFound)?;
    let rest = without(k, EntryKind::Answer, &o.id).unwrap_or_else(|_| case.clone());
    head.others = others(k, o);
    let tries = k.knowledge.test(&o.test).map(|t| tries_on(&case.vehicle, t)).unwrap_or_default();
    let mut places: Vec<Choice> = vec![];
    for p in tries.iter().filter_map(|(at, _)| at.as_ref()) {
        if !places.iter().any(|c| c.0 == p.id) {
            places.push((p.id.clone(), p.words.clone(), o.at.as_deref() == Some(&p.id)));
        }
    }
    let gear = |g: &String| (g.clone(), format!("gear {g}"), o.gear.as_ref() == Some(g));
    let symptom = |s: &baricord_core::case::Symptom| {
        (s.id.clone(), format!("{} {}", s.id, s.kind.replace('-', " ")), o.symptom.as_deref() == Some(&s.id))
    };
    let names_place = k.knowledge.test(&o.test).is_some_and(|t| t.names_place);
    Ok(AnswerPage {
        f: Frame::new(m, k, Station::Decide),
        test: o.test.clone(),
        card: card_without(k, &rest, o),
        now: match &o.at {
            Some(at) if names_place => format!("{}@{at}", o.outcome),
            _ => o.outcome.clone(),
        },
        also: o.also.clone(),
        gears: tries.iter().filter_map(|(_, g)| g.as_ref()).map(gear).collect(),
        places,
        symptoms: case.symptoms.iter().map(symptom).collect(),
        note: o.note.clone().unwrap_or_default(),
        head,
    })
}

/// The answer as the form has it.
pub fn act(id: String, f: &FormFields) -> Result<CaseAct, Problem> {
    // The page is about one symptom, the answer of another or of all.
    let now = TestResult { symptom: f.owned("of"), ..result_of(f)? };
    Ok(CaseAct::CorrectAnswer(Box::new(Corrected { id, now })))
}
