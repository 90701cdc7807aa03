//! What was done before this case and what others say: work that counts for it, attempts, hints from outside.

use crate::App;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::page::LoadedCase;
use crate::stations::form::{FormFields, Posted};
use crate::wording::cause_words;
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::case::fault_at::FaultAt;
use baricord_core::case::{Attempt, Hint, intake};
use baricord_core::edit::act::{CaseAct, EntryId, HistoryTag, NewAttempt, NewHint};
use baricord_core::error::Problem;
use baricord_core::reasoning::{complete_units, hypotheses};

/// Faults at their places and units of this vehicle, as a form names them: `fault@place`, `unit:half.fl`.
pub fn nameable(k: &LoadedCase) -> Vec<(String, String)> {
    let (kb, case) = (&*k.knowledge, k.case());
    let mut out: Vec<(String, String)> = vec![];
    for h in hypotheses(&case.vehicle, kb).iter().filter(|h| !h.is_unknown() && !h.is_pair()) {
        let value = format!("{}@{}", h.fault, h.at);
        if !out.iter().any(|o| o.0 == value) {
            out.push((value, cause_words(kb, case, &h.fault, &h.at, None)));
        }
    }
    out.sort_by(|a, b| a.1.cmp(&b.1));
    out.extend(
        complete_units(&case.vehicle).into_iter().map(|p| (format!("unit:{}", p.id), format!("complete unit: {}", p.words))),
    );
    out
}

/// A fault at its place, or a unit.
type NamedCause = (Option<FaultAt>, Option<String>);

/// What a form names: nothing, a fault at its place, or a unit.
fn named_cause(f: &FormFields) -> Result<NamedCause, Problem> {
    let Some(cause) = f.text("cause") else { return Ok((None, None)) };
    let unread = || Problem::new("unknown-fault", format!("“{cause}” is nothing that this vehicle can have")).field("cause");
    match cause.strip_prefix("unit:") {
        Some(unit) => Ok((None, Some(unit.into()))),
        None => Ok((Some(FaultAt::parse(cause).ok_or_else(unread)?), None)),
    }
}

pub(crate) fn hint_words(k: &LoadedCase, h: &Hint) -> (String, String) {
    let cause = cause_words(&k.knowledge, k.case(), &h.fault, h.at.as_deref().unwrap_or("none"), None);
    let seen = if h.trust.as_deref() == Some("seen") { ", has seen it" } else { "" };
    (h.id.clone(), format!("{cause}: says {}{seen}", h.source))
}

pub(super) fn attempt_words(a: &Attempt) -> String {
    let trust = intake::TRUST.iter().find(|t| Some(t.0) == a.trust.as_deref()).map_or("", |t| t.1);
    let mut out = a.what.clone();
    for (said, before) in [(&a.by, "by "), (&a.result, "then: "), (&a.changed, "changed: ")] {
        if let Some(said) = said.as_ref().filter(|s| !s.is_empty()) {
            out += &format!(", {before}{said}");
        }
    }
    if trust.is_empty() { out } else { format!("{out} ({trust})") }
}

/// A change in the vehicle's history matters for this case.
async fn count(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let tag = f.need("history", "what counts")?.into();
    keep_now(&m, id, &f, CaseAct::CountHistory(HistoryTag { tag })).await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// Something was tried before: what was changed, by whom, what came of it, how far that is trusted.
async fn attempt(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    keep_now(&m, id, &f, CaseAct::RecordAttempt(attempt_of(&f)?)).await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// What was tried, as the form has it.
pub fn attempt_of(f: &FormFields) -> Result<NewAttempt, Problem> {
    let (cause, unit) = named_cause(f)?;
    Ok(NewAttempt {
        what: f.need("what", "what was changed")?.into(),
        cause,
        unit,
        changed: f.owned("changed"),
        result: f.owned("result"),
        trust: f.owned("trust"),
        by: f.owned("by"),
    })
}

/// A hint from outside: usual on this model, says somebody. It raises a cause, visibly, until it is taken back.
async fn hint(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let act = match f.owned("remove") {
        Some(hint) => CaseAct::RemoveHint(EntryId { id: hint }),
        None => {
            f.need("cause", "what it may be")?;
            let no_fault = || Problem::new("unknown-fault", "a hint names a fault, no unit").field("cause");
            CaseAct::AddHint(NewHint {
                source: f.need("source", "who says so")?.into(),
                trust: f.text("trust").unwrap_or("told").into(),
                cause: named_cause(&f)?.0.ok_or_else(no_fault)?,
            })
        }
    };
    keep_now(&m, id, &f, act).await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint#hints")))
}

/// Routes of earlier work and hints.
pub(super) fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/attempts", post(attempt))
        .route("/cases/{id}/hints", post(hint))
        .route("/cases/{id}/history", post(count))
}
