//! Tests, causes and how sure, in words: the same on every page, on paper and on the board.

use super::knowledge::Knowledge;
use super::{Ranked, Twins};
use crate::case::fault_at::FaultAt;
use crate::case::vocabulary::TASKS;
use crate::case::{Case, Repair};
use crate::vehicle::Vehicle;

/// A test in words, with its place or gear: “Rock the wheel: front left hub”.
pub fn test_words(k: &Knowledge, v: &Vehicle, test: &str, at: Option<&str>, gear: Option<&str>) -> String {
    let ask = k.test(test).map_or(test.to_string(), |t| t.ask.clone());
    match (at, gear) {
        (_, Some(g)) => format!("{ask}: gear {g}"),
        (Some(a), None) => format!("{ask}: {}", v.place_words(a)),
        (None, None) => ask,
    }
}

/// An outcome of a test in words, with the place that it names; the outcome's id where the knowledge does not have it.
pub fn outcome_words(k: &Knowledge, v: &Vehicle, test: &str, outcome: &str, place: Option<&str>) -> String {
    let words = k.test(test).and_then(|t| t.outcome(outcome)).map_or(outcome.replace('-', " "), |o| o.words.clone());
    let Some(place) = place.map(|p| v.place_words(p)) else { return words };
    // What the place says itself is not said twice: “one yoke before the other: shaft joint: rear shaft joint”.
    let own = match words.rsplit_once(": ") {
        Some((own, part)) if place.contains(part) => own,
        _ => words.as_str(),
    };
    format!("{own}: {place}")
}

/// A fault in words, with its place: “joint worn, joint at the gearbox”.
pub fn cause_words(k: &Knowledge, v: &Vehicle, fault: &str, at: &str, gear: Option<&str>) -> String {
    let Some(f) = k.fault(fault) else { return "none of these".into() };
    let place = match gear {
        Some(g) => format!("{}, gear {g}", v.place_words(at)),
        None => v.place_words(at),
    };
    // A place that the fault's own name holds is not said again: "support bearing worn".
    if f.name.contains(&place) { f.name.clone() } else { format!("{}, {}", f.name, place) }
}

/// A cause in words, both faults of a pair: “inner joint worn, front left, and front right”.
pub fn ranked_words(k: &Knowledge, v: &Vehicle, r: &Ranked) -> String {
    pair_words(k, v, &r.fault, &r.at, r.gear.as_deref(), &r.with)
}

/// A fault at a place with what goes with it, in words.
pub fn pair_words(k: &Knowledge, v: &Vehicle, fault: &str, at: &str, gear: Option<&str>, with: &[FaultAt]) -> String {
    with.iter().fold(cause_words(k, v, fault, at, gear), |all, w| match w.fault == fault {
        true => format!("{all}, and {}", v.place_words(&w.at)),
        false => format!("{all}, and {}", cause_words(k, v, &w.fault, &w.at, None)),
    })
}

/// A repair in words, all its places and what else was changed as the cause: “joint worn, joint at the gearbox, and joint at the
/// axle”. What was changed as due is no part of it.
pub fn repair_words(k: &Knowledge, case: &Case, r: &Repair) -> String {
    let v = &case.vehicle;
    // Work without a search names what is done, no cause.
    if let (Some(task), true) = (r.task.as_deref(), r.fault.is_empty()) {
        let places = r.all_places().map(|p| v.place_words(p));
        let named: Vec<String> = r.what.iter().cloned().chain(places).collect();
        return format!("{}: {}", task_words(task), named.join(" and "));
    }
    let is_due = |p: &FaultAt| case.replaced_as_due.iter().any(|d| d.fault == p.fault && d.at.as_deref() == Some(p.at.as_str()));
    let with: Vec<FaultAt> = r.repaired_with().into_iter().filter(|p| !is_due(p)).collect();
    pair_words(k, v, &r.fault, r.at.as_deref().unwrap_or("none"), r.gear.as_deref(), &with)
}

/// How far a repair is, in words: planned, done and not judged, or its verdict.
pub fn repair_state_words(r: &Repair) -> String {
    match r.result.as_deref() {
        None => "planned".into(),
        Some("open") => "done, not judged".into(),
        Some(judged) => judged.replace('-', " "),
    }
}

/// Work without a search in words.
pub fn task_words(task: &str) -> &str {
    TASKS.iter().find(|t| t.0 == task).map_or(task, |t| t.1)
}

/// Twins in words: each alone and both.
pub fn twins_words(k: &Knowledge, v: &Vehicle, t: &Twins) -> String {
    format!("{}, {}, or both", cause_words(k, v, &t.fault, &t.at[0], None), v.place_words(&t.at[1]))
}

/// How much evidence moved a cause, in words: “3.5 × more likely”, “4 × less likely”. `bits` is log₂ of the factor.
pub fn factor_words(bits: f64) -> String {
    let (factor, way) = if bits < 0.0 { ((-bits).exp2(), "less") } else { (bits.exp2(), "more") };
    let number = match factor {
        f if f < 1.05 => return "about as likely".into(),
        f if f < 9.95 => format!("{f:.1}").trim_end_matches(".0").to_string(),
        f if f < 99.5 => format!("{f:.0}"),
        _ => "over 100".into(),
    };
    format!("{number} × {way} likely")
}

/// A share in words: “a third”, “nearly all”.
pub fn share_words(share: f64) -> &'static str {
    match share {
        s if s < 0.03 => "next to nothing",
        s if s < 0.075 => "a twentieth",
        s if s < 0.13 => "a tenth",
        s if s < 0.18 => "a seventh",
        s if s < 0.225 => "a fifth",
        s if s < 0.29 => "a quarter",
        s if s < 0.37 => "a third",
        s if s < 0.45 => "two fifths",
        s if s < 0.58 => "half",
        s if s < 0.71 => "two thirds",
        s if s < 0.82 => "three quarters",
        s if s < 0.95 => "most",
        _ => "nearly all",
    }
}

/// How much of what is open a test answers on average, in words. `bits` of `open` bits.
pub fn answers_words(bits: f64, open: f64) -> String {
    format!("answers {} of what is open", share_words(bits / open.max(1e-9)))
}

/// A probability in words for a list: “43 %”, “under 1 %”.
pub fn percent_words(p: f64) -> String {
    if p < 0.005 { "under 1 %".into() } else { format!("{:.0} %", 100.0 * p) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_outcome_does_not_say_its_part_twice() {
        let v = crate::vehicle::sample::front_drive();
        let words = |outcome, at| outcome_words(crate::reasoning::knowledge::builtin(), &v, "lash-watch", outcome, Some(at));
        assert_eq!(words("outer-joint", "half.fl.outer"), "half shaft turns, hub stands: front left outer joint");
        assert_eq!(words("side-gears", "diff.front"), "the wheels opposite ways: side gears: final drive");
    }

    #[test]
    fn factors_and_shares_are_said_in_words() {
        assert_eq!(factor_words(1.8), "3.5 × more likely");
        assert_eq!(factor_words(-2.0), "4 × less likely");
        assert_eq!(factor_words(5.0), "32 × more likely");
        assert_eq!(factor_words(-9.0), "over 100 × less likely");
        assert_eq!(factor_words(0.02), "about as likely");
        assert_eq!(answers_words(1.0, 3.0), "answers a third of what is open");
        assert_eq!(answers_words(0.0, 0.0), "answers next to nothing of what is open");
        assert_eq!((percent_words(0.004).as_str(), percent_words(0.43).as_str()), ("under 1 %", "43 %"));
    }

    #[test]
    fn shares_grow_with_what_they_stand_for() {
        let all: Vec<&str> = (0..=100).map(|i| share_words(f64::from(i) / 100.0)).collect();
        let mut seen: Vec<&str> = vec![];
        for s in all {
            if seen.last() != Some(&s) {
                assert!(!seen.contains(&s), "{s} comes twice");
                seen.push(s);
            }
        }
        assert_eq!(seen.len(), 13);
    }
}
