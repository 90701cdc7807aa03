//! Words of a case that are no words of the trade: an import keeps them; they are told, and do not weigh.

use super::knowledge::Knowledge;
use crate::case::Case;
use crate::case::intake::{CHANGED, TRUST};
use crate::case::vocabulary::{FELT, HEARD_FROM, HISTORY, kinds_meant};
use crate::error::Warning;

/// Results that a repair can have.
pub(crate) const RESULTS: [&str; 3] = ["cured", "improved", "not-cured"];
/// Qualities of a part.
pub(crate) const PARTS: [&str; 4] = ["original", "rebuilt", "copy", "used"];

/// Every word of a case that is not known, of those that [`crate::reasoning::diagnose`] does not tell of already with each test:
/// kinds of symptom, history tags, where it is felt and heard, faults, results, parts, trust. They are kept and do not weigh.
pub fn unknown_words(case: &Case, k: &Knowledge) -> Vec<Warning> {
    let mut out = vec![];
    let mut tell = |code: &str, word: &str, at: &str, what: &str| {
        out.push(Warning::new(code, format!("“{word}” is no {what} that is known: kept, not weighed")).at(at));
    };
    for s in &case.symptoms {
        if kinds_meant(&s.kind).is_empty() {
            tell("unknown-kind", &s.kind, &s.id, "kind of symptom");
        }
        for felt in s.felt.iter().filter(|f| !FELT.contains(&f.as_str())) {
            tell("unknown-felt", felt, &s.id, "place where it is felt");
        }
        if let Some(h) = s.heard_from.as_deref().filter(|h| !HEARD_FROM.contains(h)) {
            tell("unknown-heard-from", h, &s.id, "place that it is heard from");
        }
    }
    for tag in case.history.iter().chain(&case.history_denied).filter(|t| !HISTORY.contains(&t.as_str())) {
        tell("unknown-history", tag, "history", "kind of earlier work");
    }
    let is_fault = |fault: &str| fault.is_empty() || k.fault(fault).is_some();
    for r in &case.repairs {
        if !is_fault(&r.fault) {
            tell("unknown-fault", &r.fault, &r.id, "fault");
        }
        if let Some(result) = r.result.as_deref().filter(|x| *x != "open" && !RESULTS.contains(x)) {
            tell("unknown-result", result, &r.id, "result of a repair");
        }
    }
    for (id, fault) in case.attempts.iter().map(|a| (&a.id, a.fault.as_deref().unwrap_or_default())).chain(
        case.hints
            .iter()
            .map(|h| (&h.id, h.fault.as_str()))
            .chain(case.replaced_as_due.iter().map(|d| (&d.id, d.fault.as_str()))),
    ) {
        if !is_fault(fault) {
            tell("unknown-fault", fault, id, "fault");
        }
    }
    let one_of = |list: &[(&str, &str)], word: &str| list.iter().any(|x| x.0 == word);
    for a in &case.attempts {
        if let Some(t) = a.trust.as_deref().filter(|t| !one_of(&TRUST, t) && *t != "hearsay") {
            tell("unknown-trust", t, &a.id, "degree of trust");
        }
        if let Some(c) = a.changed.as_deref().filter(|c| !one_of(&CHANGED, c)) {
            tell("unknown-change", c, &a.id, "change");
        }
    }
    let parts = case.repairs.iter().map(|r| (&r.id, &r.part)).chain(case.attempts.iter().map(|a| (&a.id, &a.part)));
    for (id, part) in parts.filter_map(|(id, p)| Some((id, p.as_deref()?))) {
        if !PARTS.contains(&part) && part != "unit" {
            tell("unknown-part", part, id, "quality of a part");
        }
    }
    out
}
