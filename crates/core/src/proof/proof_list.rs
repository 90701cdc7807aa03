//! What will prove a repair: the same provocation once more. Every run, every drive, look or feel that showed the symptom, and
//! every reading over its limit is a line, with what it was before and, once it was made again, after.

use crate::case::intake::condition_words;
use crate::case::{Case, Measurement, NOT_POSSIBLE, Observation};
use crate::measure::instrument::{Evaluation, Instrument, instrument};
use crate::reasoning::knowledge::Knowledge;
use crate::reasoning::wording::{outcome_words, test_words};
use crate::vehicle::Vehicle;

/// A line of the list.
#[derive(Clone, Debug, PartialEq)]
pub struct ProofLine {
    /// The test; none of a run or a reading.
    pub test: Option<String>,
    /// Where.
    pub at: Option<String>,
    /// In which gear.
    pub gear: Option<String>,
    /// The reading's kind.
    pub measurement: Option<String>,
    /// What is made again, in words.
    pub again: String,
    /// What it was before, in words.
    pub before: String,
    /// What it is after, in words; none until it is made again.
    pub after: Option<String>,
    /// It needs the road: it waits while the vehicle must not be driven.
    pub driven: bool,
}

/// How a run was driven, in words.
fn run_words(r: &crate::case::RecordingSpec) -> String {
    let gear = r.gear.as_deref().map_or(String::new(), |g| format!(", gear {g}"));
    let throttle = r.throttle.as_deref().map_or(String::new(), |t| format!(", {t}"));
    format!("{}{gear}{throttle}", r.id)
}

fn runs(case: &Case, symptom: &str) -> Option<ProofLine> {
    let of = |after: bool| {
        case.recordings
            .iter()
            .rev()
            .find(move |r| r.is_after() == after && Case::concerns(r.symptom.as_deref(), symptom) && case.is_weighed(r))
    };
    let before = of(false)?;
    Some(ProofLine {
        test: None,
        at: None,
        gear: None,
        measurement: None,
        again: format!("record the same run again: {}", run_words(before)),
        before: "recorded".into(),
        after: of(true).map(|r| format!("{} recorded", r.id)),
        driven: true,
    })
}

fn same_question(a: &Observation, b: &Observation) -> bool {
    a.test == b.test && a.at == b.at && a.gear == b.gear
}

/// The answers before the repair that showed something, the latest of each, those that ask how the symptom behaves first.
fn answers(case: &Case, k: &Knowledge, symptom: &str) -> Vec<ProofLine> {
    let all: Vec<&Observation> =
        case.observations.iter().filter(|o| o.symptom.is_none() || o.symptom.as_deref() == Some(symptom)).collect();
    let mut out: Vec<(bool, ProofLine)> = vec![];
    for (i, o) in all.iter().enumerate().filter(|(_, o)| !o.is_after()) {
        let Some(rule) = k.test(&o.test).filter(|t| t.outcome(&o.outcome).is_some()) else { continue };
        let later = all[i + 1..].iter().any(|l| !l.is_after() && same_question(l, o));
        // What could not be made shows nothing, and neither does what came out as it does without a fault.
        if later || o.outcome == NOT_POSSIBLE || o.outcome == rule.innocent().id || rule.isolates {
            continue;
        }
        let words = |o: &Observation| outcome_words(k, &case.vehicle, &o.test, &o.outcome, None);
        let after = all.iter().rev().find(|a| a.is_after() && same_question(a, o));
        let again = test_words(k, &case.vehicle, &o.test, o.at.as_deref(), o.gear.as_deref());
        out.push((
            rule.of_symptom,
            ProofLine {
                test: Some(o.test.clone()),
                at: o.at.clone(),
                gear: o.gear.clone(),
                measurement: None,
                again,
                before: words(o),
                after: after.map(|a| words(a)),
                driven: rule.is_of_the_road(),
            },
        ));
    }
    out.sort_by_key(|(of_symptom, _)| !of_symptom);
    out.into_iter().map(|x| x.1).collect()
}

/// A reading worked out; none where it cannot be.
fn evaluated(v: &Vehicle, m: &Measurement, at: &str) -> Option<(&'static Instrument, Evaluation)> {
    let i = instrument(&m.kind)?;
    Some((i, (i.evaluate)(v, at, &m.input).ok()?))
}

fn readings(case: &Case, symptom: &str) -> Vec<ProofLine> {
    let of: Vec<(&Measurement, String)> = case
        .measurements
        .iter()
        .filter(|m| Case::concerns(m.symptom.as_deref(), symptom))
        .filter_map(|m| Some((m, case.measurement_place(m).ok()?)))
        .collect();
    let mut out: Vec<ProofLine> = vec![];
    for (m, at) in of.iter().rev().filter(|(m, _)| !m.is_after()) {
        let Some((instrument, before)) = evaluated(&case.vehicle, m, at).filter(|e| e.1.over) else { continue };
        if out.iter().any(|l| l.measurement.as_deref() == Some(m.kind.as_str()) && l.at.as_deref() == Some(at)) {
            continue;
        }
        let after = of.iter().rev().find(|(a, there)| a.is_after() && a.kind == m.kind && there == at);
        out.push(ProofLine {
            test: None,
            at: Some(at.clone()),
            gear: None,
            measurement: Some(m.kind.clone()),
            again: format!("read the {} again: {}", instrument.quantity, case.vehicle.place_words(at)),
            before: before.words,
            after: after.and_then(|(a, at)| evaluated(&case.vehicle, a, at)).map(|r| r.1.words),
            driven: false,
        });
    }
    out.reverse();
    out
}

/// What will prove that a symptom is gone: the same run, the same manoeuvres and looks that showed it, the numbers that were over
/// their limit read again. Empty where nothing was recorded, seen or read: then it is driven as when it was felt.
pub fn proof_list(case: &Case, k: &Knowledge, symptom: &str) -> Vec<ProofLine> {
    runs(case, symptom).into_iter().chain(answers(case, k, symptom)).chain(readings(case, symptom)).collect()
}

/// How a symptom was felt, as a sentence for the drive after the repair; empty where nobody said.
pub fn as_it_was_felt(case: &Case, symptom: &str) -> String {
    case.symptom(symptom).map(condition_words).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample::case_with_symptom;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::*;
    use serde_json::{Value, json};

    fn case(more: Value) -> Case {
        case_with_symptom(rear_drive(2), "clunk", more)
    }

    #[test]
    fn what_showed_it_is_made_again_and_what_showed_nothing_is_not() {
        let c = case(json!({"observations": [
            {"test": "joint-wiggle", "at": "prop.rear.j2", "outcome": "play"},
            {"symptom": "S1", "test": "load-reversal", "outcome": "clunk"},
            {"symptom": "S1", "test": "engage", "outcome": "none"},
            {"symptom": "S1", "test": "shaft-off-run", "at": "prop.rear", "outcome": "stops"},
            {"test": "mount-look", "at": "mount.engine", "outcome": "not-possible"}]}));
        let l = proof_list(&c, builtin(), "S1");
        assert_eq!(l.iter().filter_map(|l| l.test.as_deref()).collect::<Vec<_>>(), ["load-reversal", "joint-wiggle"]);
        assert!(l[0].driven && !l[1].driven && l.iter().all(|l| l.after.is_none()));
    }

    #[test]
    fn an_answer_after_stands_beside_the_one_before() {
        let c = case(json!({"observations": [
            {"symptom": "S1", "test": "load-reversal", "outcome": "clunk"},
            {"symptom": "S1", "test": "load-reversal", "outcome": "none", "phase": "after"}]}));
        let l = &proof_list(&c, builtin(), "S1")[0];
        assert!(l.before.contains("clunk") && l.after.as_deref().is_some_and(|a| !a.contains("clunk")), "{l:?}");
    }

    #[test]
    fn a_number_over_its_limit_is_read_again_and_one_within_is_not() {
        let runout = |mm: f64, phase: &str| {
            let around: Vec<f64> = (0..8).map(|i| mm / 2.0 * (f64::from(i) * std::f64::consts::FRAC_PI_4).cos()).collect();
            json!({"kind": "runout", "at": "prop.rear.s1.centre", "phase": phase, "input": {"mm": around}})
        };
        let over = case(json!({"measurements": [runout(1.1, "before")]}));
        let l = proof_list(&over, builtin(), "S1");
        assert!(l.len() == 1 && l[0].before == "1.10 mm, limit 0.75 mm" && l[0].after.is_none(), "{l:?}");
        let again = case(json!({"measurements": [runout(1.1, "before"), runout(0.3, "after")]}));
        assert_eq!(proof_list(&again, builtin(), "S1")[0].after.as_deref(), Some("0.30 mm, limit 0.75 mm"));
        assert!(proof_list(&case(json!({"measurements": [runout(0.3, "before")]})), builtin(), "S1").is_empty());
    }
}
