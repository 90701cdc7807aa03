//! Words that may enter a case. An edit with another one is refused; an import keeps it, and it is told and not weighed.

use crate::case::intake::{CHANGED, TRUST};
use crate::case::vocabulary::{FELT, HEARD_FROM, HISTORY, kinds_meant};
use crate::case::{Case, NOT_POSSIBLE};
use crate::error::{Problem, Warning};
use crate::reasoning::knowledge::{Knowledge, SOUND_PICK, Test};

/// Longest text of one field.
pub(super) const LONGEST_TEXT: usize = 2_000;
/// Results that a repair can have.
pub(super) const RESULTS: [&str; 3] = ["cured", "improved", "not-cured"];
/// Qualities of a part.
pub(super) const PARTS: [&str; 4] = ["original", "rebuilt", "copy", "used"];

/// Refuses a word that is not one of a list.
pub(super) fn known(word: &str, of: &[&str], code: &str, field: &str) -> Result<(), Problem> {
    match of.contains(&word) {
        true => Ok(()),
        false => Err(Problem::new(code, format!("“{word}” is not known here: {}", of.join(", "))).field(field)),
    }
}

/// Refuses a text that is empty, or too long to be one.
pub(super) fn sentence<'a>(text: &'a str, what: &str, field: &str) -> Result<&'a str, Problem> {
    let text = text.trim();
    if text.is_empty() {
        return Err(Problem::new("missing", format!("{what} is missing")).field(field));
    }
    short(text, field)
}

/// Refuses a text that is too long.
pub(super) fn short<'a>(text: &'a str, field: &str) -> Result<&'a str, Problem> {
    if text.chars().count() > LONGEST_TEXT {
        return Err(Problem::new("too-long", format!("say it in {LONGEST_TEXT} characters")).field(field));
    }
    if text.contains('\0') {
        return Err(Problem::new("nul", "a text holds the character NUL, which is no text").field(field));
    }
    Ok(text)
}

/// A note that may be left out.
pub(super) fn note(text: Option<&String>, field: &str) -> Result<Option<String>, Problem> {
    let Some(text) = text.map(|t| t.trim()).filter(|t| !t.is_empty()) else { return Ok(None) };
    short(text, field).map(|t| Some(t.to_string()))
}

/// A test by its id.
pub(super) fn need_test<'k>(k: &'k Knowledge, test: &str) -> Result<&'k Test, Problem> {
    k.test(test).ok_or_else(|| Problem::new("unknown-test", format!("no test “{test}”")).field("test"))
}

/// Refuses a symptom that the case does not have.
pub(super) fn need_symptom(case: &Case, symptom: Option<&str>) -> Result<(), Problem> {
    match symptom {
        Some(s) if case.symptom(s).is_none() => {
            Err(Problem::new("no-symptom", format!("{s} is no symptom of this case")).field("symptom"))
        }
        _ => Ok(()),
    }
}

/// Whether an observation's place is one of the vehicle: an axle end stands for its final drive.
fn is_place(case: &Case, at: &str) -> bool {
    let at = if matches!(at, "front" | "rear") { format!("diff.{at}") } else { at.to_string() };
    case.vehicle.place(&at).is_some()
}

/// Refuses a place that the vehicle does not have.
pub(super) fn need_place(case: &Case, at: Option<&str>) -> Result<(), Problem> {
    match at {
        Some(at) if !is_place(case, at) => {
            Err(Problem::new("unknown-place", format!("this vehicle has no place “{at}”")).field("at"))
        }
        _ => Ok(()),
    }
}

/// Refuses a gear that the vehicle does not have.
pub(super) fn need_gear(case: &Case, gear: Option<&str>) -> Result<(), Problem> {
    match gear {
        Some(g) if case.vehicle.gear(g).is_none() => {
            Err(Problem::new("unknown-gear", format!("this vehicle has no gear “{g}”")).field("gear"))
        }
        _ => Ok(()),
    }
}

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
    for o in case.observations.iter().filter(|o| o.outcome != NOT_POSSIBLE && o.test != SOUND_PICK) {
        let Some(test) = k.test(&o.test) else {
            tell("unknown-test", &o.test, &o.id, "test");
            continue;
        };
        if test.outcome(&o.outcome).is_none() {
            tell("unknown-outcome", &o.outcome, &o.id, "outcome of this test");
        }
    }
    out
}
