//! What was done before this case and what others say: work that counts for it, attempts, hints from outside.

use crate::App;
use crate::error::PageError;
use crate::page::LoadedCase;
use crate::stations::form::{FormFields, Posted};
use crate::wording::{cause_words, kind_words};
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::case::entries::{append, remove_entry};
use baricord_core::case::intake;
use baricord_core::error::Problem;
use baricord_core::reasoning::knowledge::HISTORY;
use baricord_core::reasoning::{complete_units, hypotheses};
use serde_json::{Value, json};
use uuid::Uuid;

/// Faults at their places and units of this vehicle, as a form names them: `fault@place`, `unit:half.fl`.
pub(super) fn nameable(k: &LoadedCase) -> Vec<(String, String)> {
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

/// What a form names, read into an entry: fault and place, or a unit. What this vehicle cannot have is refused.
fn name_cause(k: &LoadedCase, f: &FormFields, entry: &mut Value) -> Result<(), Problem> {
    let Some(cause) = f.text("cause") else { return Ok(()) };
    if !nameable(k).iter().any(|n| n.0 == cause) {
        return Err(Problem::new("unknown-fault", format!("“{cause}” is nothing that this vehicle can have")).field("cause"));
    }
    match (cause.strip_prefix("unit:"), cause.split_once('@')) {
        (Some(unit), _) => entry["unit"] = unit.into(),
        (None, Some((fault, at))) => (entry["fault"], entry["at"]) = (fault.into(), at.into()),
        (None, None) => {}
    }
    Ok(())
}

pub(super) fn hint_words(k: &LoadedCase, h: &Value) -> (String, String) {
    let text = |key: &str| h[key].as_str().unwrap_or_default();
    let cause = cause_words(&k.knowledge, k.case(), text("fault"), h["at"].as_str().unwrap_or("none"), None);
    let seen = if text("trust") == "seen" { ", has seen it" } else { "" };
    (text("id").into(), format!("{cause}: says {}{seen}", text("source")))
}

pub(super) fn attempt_words(a: &Value) -> String {
    let text = |k: &str| a[k].as_str().unwrap_or_default();
    let trust = intake::TRUST.iter().find(|t| t.0 == text("trust")).map_or("", |t| t.1);
    let mut out = text("what").to_string();
    for (k, before) in [("by", "by "), ("result", "then: "), ("changed", "changed: ")] {
        if !text(k).is_empty() {
            out += &format!(", {before}{}", text(k));
        }
    }
    if trust.is_empty() { out } else { format!("{out} ({trust})") }
}

/// A change in the vehicle's history matters for this case.
async fn count(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let kind = f.need("history", "what counts")?;
    if !HISTORY.contains(&kind) {
        return Err(Problem::new("unknown-kind", format!("“{kind}” is no kind of change")).field("history").into());
    }
    let mut s = m.scope().await?;
    s.edit_case(id, f.version(), &format!("counts: {}", kind_words(kind)), &m.person.name, |d| {
        if !d["history"].as_array().is_some_and(|h| h.iter().any(|x| x == kind)) {
            append(d, "history", kind.into());
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// Something was tried before: what was changed, by whom, what came of it, how far that is trusted.
async fn attempt(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let what = f.need("what", "what was changed")?;
    let trust = f.text("trust").unwrap_or("told");
    if !intake::TRUST.iter().any(|t| t.0 == trust) {
        return Err(Problem::new("unknown-answer", format!("“{trust}” is no degree of trust")).field("trust").into());
    }
    let mut entry = json!({"what": what, "trust": trust});
    if let Some(c) = f.text("changed") {
        if !intake::CHANGED.iter().any(|x| x.0 == c) {
            return Err(Problem::new("unknown-answer", format!("“{c}” is not known")).field("changed").into());
        }
        entry["changed"] = c.into();
    }
    let mut s = m.scope().await?;
    name_cause(&LoadedCase::read(&mut s, id, None).await?, &f, &mut entry)?;
    for k in ["by", "result"] {
        if let Some(t) = f.text(k) {
            entry[k] = t.into();
        }
    }
    s.edit_case(id, f.version(), &format!("tried before: {what}"), &m.person.name, |d| {
        append(d, "attempts", entry);
        let known = d["history"].as_array().is_some_and(|h| h.iter().any(|x| x == "earlier-work"));
        if !known && intake::counts_as_work(trust) {
            append(d, "history", "earlier-work".into());
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// A hint from outside: usual on this model, says somebody. It raises a cause, visibly, until it is taken back.
async fn hint(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, None).await?;
    if let Some(gone) = f.text("remove") {
        s.edit_case(id, f.version(), "a hint taken back", &m.person.name, |d| {
            remove_entry(d, "hints", gone);
            Ok(())
        })
        .await?;
    } else {
        let trust = f.text("trust").unwrap_or("told");
        if !matches!(trust, "told" | "seen") {
            return Err(Problem::new("unknown-answer", format!("“{trust}” is no degree of trust")).field("trust").into());
        }
        let mut entry = json!({"id": Uuid::new_v4(), "source": f.need("source", "who says so")?, "trust": trust});
        f.need("cause", "what it may be")?;
        name_cause(&k, &f, &mut entry)?;
        if entry["fault"].is_null() {
            return Err(Problem::new("unknown-fault", "a hint names a fault, no unit").field("cause").into());
        }
        let what = format!("hint: {}", hint_words(&k, &entry).1);
        s.edit_case(id, f.version(), &what, &m.person.name, |d| {
            append(d, "hints", entry);
            Ok(())
        })
        .await?;
    }
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint#hints")))
}

/// Routes of earlier work and hints.
pub(super) fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/attempts", post(attempt))
        .route("/cases/{id}/hints", post(hint))
        .route("/cases/{id}/history", post(count))
}
