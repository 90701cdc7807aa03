//! A question that two people answer without knowing of each other: the hidden answers, and who decides between two.

use super::{back, question};
use crate::App;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::page::LoadedCase;
use crate::stations::form::Posted;
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::case::{BlindAnswer, Question};
use baricord_core::edit::act::{BlindDecision, BlindResult, CaseAct};
use baricord_core::lift::blind_check::BlindStatus;
use baricord_core::reasoning::knowledge::Test;

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
        match BlindStatus::new(&k.case().votes, question) {
            BlindStatus::Open => Self::default(),
            BlindStatus::Waits { by } => Self { own: by == person, waits: by, both: vec![] },
            BlindStatus::Both(two) => Self { both: two.iter().map(felt).collect(), ..Self::default() },
        }
    }
}

/// One of two answers, given before the other is seen.
async fn cast(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let (outcome, seen_to) = (f.need("outcome", "what was felt")?.into(), f.all("seen-to"));
    let result = BlindResult { question: question(&f)?, outcome, note: f.owned("note"), seen_to };
    keep_now(&m, id, &f, CaseAct::AnswerBlind(result)).await?;
    Ok(back(id, &f))
}

/// Two have felt it otherwise: one of them stands, or both feel again.
async fn decide(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let decision = BlindDecision { question: question(&f)?, stands: f.owned("stands") };
    keep_now(&m, id, &f, CaseAct::DecideBlind(decision)).await?;
    Ok(back(id, &f))
}

/// Routes of blind answers.
pub(super) fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/lift/vote", post(cast)).route("/cases/{id}/lift/decide", post(decide))
}
