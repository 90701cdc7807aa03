//! Weighing: for each symptom the causes with how sure, what moved each, what is ruled out and by what, the tests that
//! answer most for their time, and the plan that costs least.
//!
//! Hypothesis = fault at a place, or two that the knowledge names as a pair. The prior is how often, raised by history;
//! evidence multiplies in as likelihoods; `unknown` is always in the list. Bits of a piece of evidence =
//! log2(P(evidence | cause) / P(evidence)).

pub mod access;
mod answer_effect;
pub mod attribution;
pub mod availability;
mod behaviour;
mod complaint_evidence;
mod danger;
pub mod decision_problem;
mod diagnosis;
mod driver_answers;
mod evidence;
pub mod first_steps;
pub mod gate;
mod hypotheses;
mod information;
pub mod knowledge;
pub mod likelihood;
mod measurement_evidence;
mod open_symptom;
mod open_tests;
pub(crate) mod place_kinds;
pub mod plan;
mod preparation;
mod prior;
mod recording_evidence;
mod repair_evidence;
pub mod road_plan;
mod sensitivity;
mod separating_test;
mod shared_causes;
pub mod test_answer;
mod test_order;
mod test_selection;
mod units;
pub mod unknown_words;
mod weighed;
pub mod wording;

pub use answer_effect::{Effect, effect_of, last_effect};
pub use danger::Danger;
pub use diagnosis::{Contribution, Diagnosis, DiagnosisStatus, NextStep, Ranked, RuledOut, SymptomAnswer, Twins};
pub use evidence::{Evidence, disagreeing};
pub use hypotheses::{Hypothesis, Predicted, hypotheses, predicted};
pub use information::{entropy, information_gain, moved};
pub use open_symptom::{OpenSymptom, TestName};
pub use open_tests::{OpenTest, behaviour_in, open_tests};
pub use place_kinds::is_kind as place_is;
pub use sensitivity::{RankingReversal, ranking_reversals};
pub use separating_test::SeparatingTest;
pub use shared_causes::Shared;
pub use test_order::OrderedTest;
pub use test_selection::{NextTest, OutcomePreview};
pub use units::{Unit, complete_units, unit_of};

pub(crate) use answer_effect::last_effect_of;
pub(crate) use sensitivity::ranking_reversals_of;

use crate::analysis::Analysis;
use crate::case::Case;
use crate::error::Warning;
use knowledge::Knowledge;
pub(crate) use weighed::Weighed;
use weighed::{normalise, weigh};

/// Minutes from which on a test is a job that must pay for itself.
const LONG_JOB_MINUTES: f64 = 32.0;

/// The kind by which a symptom's tests are chosen: its own, or the first one that the word means.
pub(crate) fn usual_kind(kind: &str) -> &str {
    knowledge::kinds_meant(kind).first().copied().unwrap_or(kind)
}

/// Weighs a case: for each symptom its causes with probabilities (0 to 1, summing to 1), what was ruled out, the open tests and the
/// plan; and one next step for the case. `analysis` is what its recordings say, where there are any. What cannot be weighed is a
/// warning of the answer, never an error.
///
/// ```
/// use baricord_core::{case::Case, reasoning::{diagnose, knowledge::builtin}, vehicle::sample::rear_drive};
/// let mut document = Case::new_document("c1", "Clunk", serde_json::json!(rear_drive(1)));
/// document["symptoms"] = serde_json::json!([{"id": "S1", "kind": "clunk"}]);
/// let answer = diagnose(&Case::from_json(&document).unwrap(), builtin(), None);
/// let sum: f64 = answer.symptoms[0].ranked.iter().map(|r| r.p).sum();
/// assert!((sum - 1.0).abs() < 1e-9 && answer.step.is_some());
/// ```
pub fn diagnose(case: &Case, k: &Knowledge, analysis: Option<&Analysis>) -> Diagnosis {
    diagnose_with(case, k, analysis, |_| ()).0
}

/// The same, and what else is asked of each symptom as it was weighed, in the order of the case.
pub(crate) fn diagnose_with<R>(
    case: &Case,
    k: &Knowledge,
    analysis: Option<&Analysis>,
    more: impl Fn(&OpenSymptom<'_>) -> R,
) -> (Diagnosis, Vec<R>) {
    let mut warnings = vec![];
    let weighed: Vec<(String, Weighed)> =
        case.symptoms.iter().map(|s| (s.id.clone(), weigh(case, k, &s.id, analysis, &mut warnings))).collect();
    let of = |(id, w): &(String, Weighed)| OpenSymptom::with_weighed(case, k, id, w, |open| (answer(open), more(open)));
    let (symptoms, more): (Vec<SymptomAnswer>, Vec<R>) = weighed.iter().map(of).unzip();
    warnings.extend(unknown_words::unknown_words(case, k));
    warnings.extend(case.recordings.iter().filter(|r| !case.is_weighed(r)).map(|r| {
        let message = format!("run {} was made by the simulated recorder: no vehicle drove it, and it does not count", r.id);
        Warning::new("simulated-run", message).at(&r.id)
    }));
    warnings.extend(
        case.attempts.iter().filter(|a| a.fault.is_none() && a.unit.is_none() && a.changed.is_some()).map(|a| {
            Warning::new("attempt-not-weighed", format!("“{}” names neither fault nor unit and does not weigh", a.what))
        }),
    );
    let mut seen: Vec<Warning> = vec![];
    for w in warnings {
        if !seen.contains(&w) {
            seen.push(w);
        }
    }
    let step = next_step(case, &symptoms);
    (Diagnosis { step, shared: shared_causes::shared(&weighed), symptoms, warnings: seen }, more)
}

fn answer(open: &OpenSymptom<'_>) -> SymptomAnswer {
    let OpenSymptom { case, k, w, symptom, .. } = *open;
    let (ranked, mut next) = (w.ranked(), test_selection::next_tests(w, &open.evaluated));
    let planned_case = open.planned();
    let plan = planned_case.plan(case, k, w);
    let first = plan.steps.first().filter(|s| s.test.is_some());
    let is_first = |n: &NextTest| first.is_some_and(|s| Some(&n.test) == s.test.as_ref() && n.at == s.at && n.gear == s.gear);
    // The first step of the plan comes first, then what the history asks to look at; a long job that saves less than it costs
    // comes last.
    let is_vain = |n: &NextTest| n.minutes > LONG_JOB_MINUTES && !planned_case.pays(&n.test, n.at.as_deref(), n.gear.as_deref());
    next.sort_by_cached_key(|n| (!is_first(n), !is_due(case, k, w, n), is_vain(n)));
    for n in next.iter_mut().filter(|n| k.test(&n.test).is_some_and(|t| t.recorded)) {
        n.runs = road_plan::coach_for_symptom(case, symptom, &ranked).map_or(vec![], |c| c.legs().to_vec());
    }
    SymptomAnswer {
        id: symptom.into(),
        ranked,
        next,
        plan,
        units: units::units(k, &w.all, &w.p),
        danger: danger::danger(case, k, w),
        ruled_out: w.ruled_out(),
        open_bits: information::entropy(&w.p),
    }
}

/// Probability from which on a look that the history asks for comes before other tests.
const DUE_MIN_PROBABILITY: f64 = 0.05;

/// Whether the history asks for a look, and what it would show is suspected.
fn is_due(case: &Case, k: &Knowledge, w: &Weighed, n: &NextTest) -> bool {
    let tags: Vec<&String> = k.weights.history.asking_for(&case.history, &n.test).collect();
    let suspected = |h: &Hypothesis, p: f64| {
        let raised = k.fault(&h.fault).is_some_and(|f| tags.iter().any(|tag| f.history.contains_key(*tag)));
        raised && p >= DUE_MIN_PROBABILITY && n.at.as_deref().is_some_and(|at| likelihood::is_within(at, &h.at))
    };
    w.all.iter().zip(&w.p).any(|(h, p)| suspected(h, *p))
}

/// The next step of the case: of its symptoms that are not cured the first test that is worth making, else the first repair.
fn next_step(case: &Case, symptoms: &[SymptomAnswer]) -> Option<NextStep> {
    let open = || symptoms.iter().filter(|s| case.cured_by(&s.id).is_none());
    let of = |s: &SymptomAnswer| {
        let first = s.plan.steps.first()?;
        Some(NextStep {
            symptom: s.id.clone(),
            test: first.test.clone(),
            replace: first.fault.clone(),
            with: first.with.clone(),
            at: first.at.clone(),
            gear: first.gear.clone(),
            minutes: first.minutes,
        })
    };
    open().filter(|s| !s.plan.enough).find_map(of).or_else(|| open().find_map(of))
}

/// What is believed of each of [`hypotheses`], in their order.
pub fn beliefs(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>) -> Vec<f64> {
    weigh(case, k, symptom, analysis, &mut vec![]).p
}

/// The plan of a symptom alone.
pub fn advise(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>) -> plan::Plan {
    OpenSymptom::with(case, k, symptom, analysis, |open| open.planned().plan(case, k, open.w))
}

#[cfg(test)]
mod tests {
    use super::knowledge::builtin;
    use super::*;
    use crate::case::sample;
    use crate::vehicle::sample::*;
    use serde_json::{Value, json};

    fn case(v: crate::vehicle::Vehicle, kind: &str, more: Value) -> Case {
        sample::case(v, &[json!({"symptoms": [{"id": "S1", "kind": kind, "heard_from": "unknown"}]}), more])
    }
    fn first(d: &Diagnosis) -> String {
        format!("{}@{}", d.symptoms[0].ranked[0].fault, d.symptoms[0].ranked[0].at)
    }
    fn p(d: &Diagnosis, fault: &str, at: &str) -> f64 {
        d.symptoms[0].ranked.iter().filter(|r| r.fault == fault && (at.is_empty() || r.at == at)).map(|r| r.p).sum()
    }

    #[test]
    fn probabilities_sum_to_one_with_the_unknown_among_them() {
        for v in every_layout() {
            for kind in super::knowledge::KINDS {
                let d = diagnose(&case(v.clone(), kind, json!({})), builtin(), None);
                let sum: f64 = d.symptoms[0].ranked.iter().map(|r| r.p).sum();
                assert!((sum - 1.0).abs() < 1e-9);
                assert!(p(&d, "unknown", "none") > 0.0);
            }
        }
    }

    #[test]
    fn a_click_in_a_right_turn_is_the_left_outer_joint() {
        let d = diagnose(
            &case(front_drive(), "click-repeating", json!({"observations": [{"test": "turn", "outcome": "right"}]})),
            builtin(),
            None,
        );
        assert_eq!(first(&d), "outer-joint-worn@half.fl.outer");
    }

    #[test]
    fn bits_add_up_from_prior_to_answer() {
        let c = case(rear_drive(2), "vibration", json!({"observations": [{"test": "neutral-coast", "outcome": "persists"}]}));
        let w = weigh(&c, builtin(), "S1", None, &mut vec![]);
        for i in (0..w.all.len()).filter(|&i| w.p[i] > 0.0) {
            let sum: f64 = w.evidence.iter().map(|e| e.bits[i]).sum();
            assert!((w.prior[i].log2() + sum - w.p[i].log2()).abs() < 1e-9);
        }
    }

    #[test]
    fn contradicting_everything_leaves_the_unknown() {
        let all = json!({"observations": [
            {"test": "neutral-coast", "outcome": "stops"}, {"test": "standstill-rev", "outcome": "absent"},
            {"test": "other-gear-same-speed", "outcome": "same"}, {"test": "reindex-retest", "at": "prop.rear.s1", "outcome": "same"},
            {"test": "wheel-swap-retest", "outcome": "same"}, {"test": "angle-survey", "at": "prop.rear", "outcome": "within"}]});
        let with = diagnose(&case(rear_drive(1), "vibration", all), builtin(), None);
        let without = diagnose(&case(rear_drive(1), "vibration", json!({})), builtin(), None);
        assert!(p(&with, "unknown", "") > 1.5 * p(&without, "unknown", ""));
    }

    #[test]
    fn not_cured_drops_what_was_repaired_and_a_copy_part_drops_it_less() {
        let with = |part: Value| {
            let r = json!({"repairs": [{"fault": "inner-joint-worn", "at": "half.fl.inner", "result": "not-cured", "part": part}],
                "observations": [{"test": "drive-coast-float", "outcome": "drive"}]});
            diagnose(&case(front_drive(), "shudder", r), builtin(), None)
        };
        let (original, copy) = (with(json!("original")), with(json!("copy")));
        assert!(p(&original, "inner-joint-worn", "half.fr.inner") > 5.0 * p(&original, "inner-joint-worn", "half.fl.inner"));
        assert!(p(&copy, "inner-joint-worn", "half.fl.inner") > 2.0 * p(&original, "inner-joint-worn", "half.fl.inner"));
    }

    #[test]
    fn few_that_hold_less_than_half_are_not_what_is_left() {
        let mut d = diagnose(&case(rear_drive(1), "clunk", json!({})), builtin(), None);
        let mut status_of = |p: &[f64]| {
            let a = &mut d.symptoms[0];
            a.ranked.retain(|r| r.fault != "unknown");
            a.ranked.truncate(p.len());
            a.ranked.iter_mut().zip(p).for_each(|(r, p)| r.p = *p);
            format!("{:?}", a.status(0.8)).split(['(', ' ']).next().unwrap().to_string() + &p.len().to_string()
        };
        assert_eq!(status_of(&[0.85, 0.1, 0.01, 0.01, 0.01]), "Sure5");
        assert_eq!(status_of(&[0.4, 0.3, 0.1, 0.05]), "Left4");
        assert_eq!(status_of(&[0.3, 0.1, 0.07]), "Leads3");
        assert_eq!(status_of(&[0.12, 0.12]), "Open2");
        d.symptoms[0].ranked.truncate(2);
        d.symptoms[0].ranked.iter_mut().for_each(|r| r.p = 0.3);
        assert_eq!(d.symptoms[0].status(0.8), DiagnosisStatus::Left(2));
    }

    #[test]
    fn the_latest_of_a_test_counts_and_the_contradiction_is_shown() {
        let o = json!({"observations": [{"test": "engage", "outcome": "clunk"}, {"test": "engage", "outcome": "none"}]});
        let d = diagnose(&case(rear_drive(1), "clunk", o), builtin(), None);
        assert_eq!(d.warnings[0].code, "contradiction");
        assert_eq!(d.warnings[0].message, "From neutral into drive and reverse: “a clunk”, later “nothing”; the later counts");
        let only = diagnose(
            &case(rear_drive(1), "clunk", json!({"observations": [{"test": "engage", "outcome": "none"}]})),
            builtin(),
            None,
        );
        assert!((p(&d, "joint-worn", "") - p(&only, "joint-worn", "")).abs() < 1e-9);
    }

    #[test]
    fn what_is_not_understood_is_told_and_not_weighed() {
        let o = json!({"observations": [{"test": "kick-tyre", "outcome": "thud"}, {"test": "engage", "outcome": "maybe"},
            {"test": "joint-wiggle", "at": "prop.front.j1", "outcome": "play"}]});
        let d = diagnose(&case(rear_drive(1), "clunk", o), builtin(), None);
        let codes: Vec<_> = d.warnings.iter().map(|w| w.code.as_str()).collect();
        assert_eq!(codes, ["unknown-test", "unknown-outcome", "unknown-place"]);
    }

    #[test]
    fn a_runout_over_its_limit_says_bent_and_within_says_not() {
        let with = |mm: f64| {
            let m: Vec<f64> = (0..8).map(|i| mm / 2.0 * (std::f64::consts::TAU * f64::from(i) / 8.0).cos()).collect();
            let x = json!({"observations": [{"test": "neutral-coast", "outcome": "persists"}],
                "measurements": [{"kind": "runout", "at": "prop.rear.s1.centre", "input": {"mm": m}}]});
            diagnose(&case(rear_drive(1), "vibration", x), builtin(), None)
        };
        assert!(first(&with(1.4)) == "prop-bent@prop.rear.s1" && p(&with(1.4), "prop-bent", "") > 0.3);
        assert!(p(&with(2.8), "prop-bent", "") > 0.5, "{}", p(&with(2.8), "prop-bent", ""));
        assert!(p(&with(0.2), "prop-bent", "") < 0.03);
    }

    #[test]
    fn ruled_out_says_by_what() {
        let o = json!({"observations": [{"test": "other-gear-same-speed", "outcome": "same"}]});
        let d = diagnose(&case(rear_drive(2), "vibration", o), builtin(), None);
        let e = d.symptoms[0].ruled_out.iter().find(|r| r.fault == "engine-order").expect("the engine is out");
        assert!(e.by.contains("another gear") && e.bits < -2.0);
    }
}
