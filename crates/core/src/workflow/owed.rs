//! What is owed on a case: tests and readings that were put off for a reason, until they are made, and readings that have to be made
//! again.

use crate::case::{AskedLater, Case, Measurement};
use crate::measure::instrument::instrument;
use crate::reasoning::knowledge::Knowledge;
use crate::reasoning::wording::test_words;
use crate::vehicle::is_part_of;
use jiff::Timestamp;

/// Why something is put off: id and words.
pub const REASONS: [(&str, &str); 5] = [
    ("too-cold", "too cold"),
    ("too-hot", "too hot"),
    ("too-wet", "too wet"),
    ("not-level", "not level"),
    ("part-awaited", "a part is awaited"),
];

/// A reason in words; as it is written where it is not known.
pub fn reason_words(why: &str) -> &str {
    REASONS.iter().find(|(id, _)| *id == why).map_or(why, |(_, words)| words)
}

/// Something owed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Owed {
    /// The test with its place, or the reading: “Angle survey: rear shaft”.
    pub what: String,
    /// Why it was not made, or has to be made again.
    pub why: String,
}

/// Whether what was put off was made since.
fn is_made(case: &Case, k: &Knowledge, l: &AskedLater) -> bool {
    let here = |at: Option<&str>| match (l.at.as_deref(), at) {
        (Some(l), Some(at)) => is_part_of(at, l),
        _ => true,
    };
    // What was read before it was put off does not pay for it; what has no time does.
    let time = |t: &Option<String>| t.as_deref().and_then(|t| t.parse::<Timestamp>().ok());
    let since = |made: &Option<String>| time(made).zip(time(&l.at_time)).is_none_or(|(made, put_off)| made >= put_off);
    let read = |m: &Measurement| {
        k.test(&l.test).is_some_and(|t| t.is_read_as(&m.kind))
            && here(m.at.as_deref())
            && since(&m.at_time)
            && case.stale(m).is_none()
    };
    let answered = case
        .observations
        .iter()
        .any(|o| o.test == l.test && here(o.at.as_deref()) && since(&o.at_time) && case.outdated_answer(o).is_none());
    answered || case.measurements.iter().any(read)
}

/// What is owed, in its order; each once.
pub fn owed(case: &Case, k: &Knowledge) -> Vec<Owed> {
    let v = &case.vehicle;
    let put_off = case.asked_later.iter().filter_map(|l| {
        let why = l.why.as_deref()?;
        let what = test_words(k, v, &l.test, l.at.as_deref(), l.gear.as_deref());
        (!is_made(case, k, l)).then(|| Owed { what, why: reason_words(why).into() })
    });
    let again = case.measurements.iter().filter_map(|m| {
        let is_last = case.measurements.iter().rev().find(|o| o.kind == m.kind && o.at == m.at).is_some_and(|o| o.id == m.id);
        (is_last && case.stale(m).is_some()).then(|| {
            let quantity = instrument(&m.kind).map_or(m.kind.as_str(), |i| i.quantity);
            let at = m.at.as_deref().map_or(String::new(), |a| format!(": {}", v.place_words(a)));
            Owed { what: format!("{quantity}{at}"), why: "measure again".into() }
        })
    });
    let mut out: Vec<Owed> = vec![];
    for o in put_off.chain(again) {
        if !out.contains(&o) {
            out.push(o);
        }
    }
    out
}

/// The same in one line: “owed: Angle survey: rear shaft (not level)”; empty for nothing.
pub fn owed_line(case: &Case, k: &Knowledge) -> String {
    let each: Vec<String> = owed(case, k).into_iter().map(|o| format!("{} ({})", o.what, o.why)).collect();
    if each.is_empty() { String::new() } else { format!("owed: {}", each.join(", ")) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::rear_drive;
    use serde_json::json;

    #[test]
    fn what_was_put_off_is_owed_until_it_is_read() {
        let mut case = Case::new("c1", "Hum", rear_drive(1));
        let later = |why: Option<&str>| AskedLater {
            id: "k1".into(),
            test: "angle-survey".into(),
            at: Some("prop.rear".into()),
            why: why.map(Into::into),
            ..AskedLater::default()
        };
        case.asked_later.push_back(later(None));
        assert!(owed(&case, builtin()).is_empty(), "what could not be told is no debt");
        case.asked_later.push_back(later(Some("not-level")));
        assert!(owed_line(&case, builtin()).ends_with("(not level)"), "{}", owed_line(&case, builtin()));
        let input =
            json!({"elements": [{"side_deg": 4}, {"side_deg": 7}, {"side_deg": 4}], "joints": ["cross", "cross"], "rpm": 3000});
        case.measurements.push_back(Measurement {
            id: "m1".into(),
            kind: "angles".into(),
            at: Some("prop.rear".into()),
            input,
            ..Measurement::default()
        });
        assert!(owed(&case, builtin()).is_empty());
        // A reading that was there before it was put off again is not the one that is owed.
        case.measurements[0].at_time = Some("2026-11-30T09:00:00Z".into());
        case.asked_later[1].at_time = Some("2026-11-30T10:00:00Z".into());
        assert_eq!(owed(&case, builtin()).len(), 1);
    }
}
