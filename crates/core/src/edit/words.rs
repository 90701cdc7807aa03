//! Words that may enter a case. An edit with another one is refused.

use crate::case::Case;
use crate::error::Problem;
use crate::reasoning::knowledge::{Knowledge, Test};
use crate::vehicle::answered_place;

/// Longest text of one field.
pub(super) const LONGEST_TEXT: usize = 2_000;

/// What a word is meant to be, by the code with which another one is refused.
fn meant(code: &str) -> &'static str {
    match code {
        "unknown-kind" => "kind of symptom",
        "unknown-felt" => "place where it is felt",
        "unknown-heard-from" => "place that it is heard from",
        "unknown-history" => "kind of earlier work",
        "unknown-part" => "quality of a part",
        "unknown-result" => "result of a repair",
        "unknown-source" => "one who says so",
        "unknown-phase" => "time before or after a repair",
        _ => "answer that is known",
    }
}

/// Refuses a word that is not one of a list.
pub(super) fn known(word: &str, of: &[&str], code: &str, field: &str) -> Result<(), Problem> {
    match of.contains(&word) {
        true => Ok(()),
        false => Err(Problem::new(code, format!("“{word}” is no {}: {}", meant(code), of.join(", "))).field(field)),
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

/// Whether an answer's place is one of the vehicle.
fn is_place(case: &Case, at: &str) -> bool {
    case.vehicle.place(&answered_place(at)).is_some()
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
