//! A question that two people answer without knowing of each other: the hidden answers, and who decides between two.

use super::{back, question};
use crate::App;
use crate::error::PageError;
use crate::page::LoadedCase;
use crate::stations::form::Posted;
use crate::thermal_state::observed;
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::case::entries::edit_entries;
use baricord_core::error::Problem;
use baricord_core::lift::blind_check::{self, BlindAnswer, BlindStatus, Question, Refused, votes};
use baricord_core::reasoning::knowledge::Test;
use baricord_core::safety::cautions::require_checks;
use serde_json::{Value, json};

/// How far a question is, for who looks.
#[derive(Default)]
pub(super) struct BlindView {
    /// One has answered: who.
    pub(super) waits: String,
    /// It was the one who looks.
    pub(super) own: bool,
    /// Two have, and felt otherwise: who, and what in words and id.
    pub(super) both: Vec<(String, String, String)>,
}

impl BlindView {
    pub(super) fn new(k: &LoadedCase, rule: &Test, question: &Question, person: &str) -> Self {
        let felt = |v: &BlindAnswer| {
            let words = rule.outcome(&v.outcome).map_or(v.outcome.clone(), |o| o.words.clone());
            (v.by.clone(), words, v.outcome.clone())
        };
        match BlindStatus::new(&votes(&k.stored.document), question) {
            BlindStatus::Open => Self::default(),
            BlindStatus::Waits { by } => Self { own: by == person, waits: by, both: vec![] },
            BlindStatus::Both(two) => Self { both: two.iter().map(felt).collect(), ..Self::default() },
        }
    }
}

/// What two have felt, as an observation.
fn felt(q: &Question, outcome: &str, note: &str) -> Value {
    let mut o = json!(q);
    o["outcome"] = outcome.into();
    o["note"] = note.into();
    o
}

/// What was noted with the answers.
fn notes(of: &[&BlindAnswer]) -> String {
    of.iter().filter_map(|v| v.note.as_ref().map(|n| format!("; {}: {n}", v.by))).collect()
}

/// One of two answers, given before the other is seen. The history of the case does not tell it either.
async fn cast(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, f.text("symptom")).await?;
    let (q, rule) = question(&k, &f)?;
    let outcome = f.need("outcome", "what was felt")?;
    if rule.outcome(outcome).is_none() {
        return Err(Problem::new("unknown-outcome", format!("{} has no outcome “{outcome}”", q.test)).field("outcome").into());
    }
    require_checks(k.case(), rule, &f.all("seen-to"))?;
    let what = format!("{}: felt blind", rule.ask);
    s.edit_case_once(id, f.mark()?, None, &what, &m.person.name, |d| {
        let one = BlindAnswer {
            question: q.clone(),
            by: m.person.name.clone(),
            outcome: outcome.into(),
            note: f.text("note").map(String::from),
            settled: false,
        };
        let alike = edit_entries(d, "votes", |all| blind_check::cast(all, one)).map_err(|refused| {
            let why = match refused {
                Refused::Twice => "you have felt it already: now a second person does, without hearing your answer",
                Refused::Full => "two have felt it already: say which of them stands, or feel it again",
            };
            Problem::new("voted", why).field("outcome")
        })?;
        if let Some(outcome) = alike {
            let all = votes(d);
            let two: Vec<&BlindAnswer> = all.iter().rev().filter(|v| v.question == q).take(2).collect();
            let by: Vec<_> = two.iter().map(|v| v.by.as_str()).collect();
            let words = format!("felt alike by {}, neither knowing of the other{}", by.join(" and "), notes(&two));
            observed(d, felt(&q, &outcome, &words), rule);
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Two have felt it otherwise: one of them stands, or both feel again.
async fn decide(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, f.text("symptom")).await?;
    let (q, rule) = question(&k, &f)?;
    let stands = f.text("stands");
    let what = format!("{}: {}", rule.ask, if stands.is_some() { "decided between two" } else { "to be felt again" });
    s.edit_case_once(id, f.mark()?, None, &what, &m.person.name, |d| {
        let (felt, may) = blind_check::to_decide(&votes(d), &q, &m.person.name);
        if !may {
            let why = if felt.is_empty() { "nothing waits to be decided here" } else { "feel it yourself first" };
            return Err(Problem::new("voted", why).field("stands"));
        }
        edit_entries(d, "votes", |all: &mut Vec<BlindAnswer>| Ok::<_, Problem>(blind_check::settle(all, &q)))?;
        let Some(by) = stands else { return Ok(()) };
        let one = felt
            .iter()
            .find(|v| v.by == by)
            .ok_or_else(|| Problem::new("missing", format!("{by} has not felt it")).field("stands"))?;
        let others: Vec<_> = felt
            .iter()
            .filter(|v| v.by != by)
            .map(|v| format!("; {} felt: {}", v.by, rule.outcome(&v.outcome).map_or(v.outcome.as_str(), |o| &o.words)))
            .collect();
        let all: Vec<&BlindAnswer> = felt.iter().collect();
        observed(d, self::felt(&q, &one.outcome, &format!("as {by} felt it{}{}", others.concat(), notes(&all))), rule);
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Routes of blind answers.
pub(super) fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/lift/vote", post(cast)).route("/cases/{id}/lift/decide", post(decide))
}
