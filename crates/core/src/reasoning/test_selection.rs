//! The next best test: the expected drop in uncertainty per minute, in the state the vehicle is in.

use super::Weighed;
use super::availability::{TestInstance, open};
use super::information::{entropy, information_gain, moved, sharpening};
use super::knowledge::Test;
use super::likelihood::{Likelihoods, Model};
use super::preparation::OVERHEAD_MINUTES;
use super::preparation::{charged_minutes, minutes};
use crate::case::Case;
use crate::drive::coach::Leg;
use serde::{Deserialize, Serialize};

/// Share of what is open that a test must answer to be worth making.
pub(crate) const WORTHWHILE_SHARE: f64 = 0.06;
/// What it answers on average must be more, bits.
const MIN_INFORMATION_BITS: f64 = 0.005;
/// Tests that are listed at most.
const MAX_LISTED_TESTS: usize = 80;

/// What an outcome of a planned test, or of a planned repair, means.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct OutcomeMeaning {
    /// The outcome; `cured` or `not-cured` of a repair.
    pub outcome: String,
    /// The place that it names, of a test that names one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// How likely it is.
    pub p: f64,
    /// The cause that then stands first; `others` where those that are too unlikely to name stand before it together.
    pub fault: String,
    /// Where.
    pub at: String,
    /// How sure it is then.
    pub p_then: f64,
}

/// What one outcome would do.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct OutcomePreview {
    /// How likely it is and what would then stand first.
    #[serde(flatten)]
    pub meaning: OutcomeMeaning,
    /// How the cause that stands first now would stand.
    pub first_then: f64,
    /// The cause that gains most.
    pub rises: String,
    /// Where.
    pub rises_at: String,
    /// How sure it would be.
    pub rises_to: f64,
    /// How much it gains.
    pub gain: f64,
}

/// A proposed test.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NextTest {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// What it takes, from how the vehicle stands now.
    pub minutes: f64,
    /// What it answers on average.
    pub bits: f64,
    /// What it answers for each minute.
    pub bits_per_minute: f64,
    /// The runs to drive, where it is recorded: gears and speeds that separate the suspects.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub runs: Vec<Leg>,
    /// What each outcome would do.
    pub outcomes: Vec<OutcomePreview>,
}

/// How much nearer a test brings the leading suspects to a decision ([`sharpening`]) for each minute, getting ready counted in.
pub(crate) fn sharpening_per_minute(p: &[f64], rows: &[Vec<f64>], base: &[f64], minutes: f64) -> f64 {
    sharpening(p, rows, base) / (minutes + OVERHEAD_MINUTES)
}

/// A test that is open, with what its outcomes say.
pub(crate) struct EvaluatedTest<'a> {
    pub one: TestInstance<'a>,
    /// What can come out, a row for each.
    pub likelihoods: Likelihoods,
    /// What it answers on average, bits.
    pub bits: f64,
    /// What it takes from how the vehicle stands.
    pub minutes: f64,
    /// How much nearer it brings the leading suspects to a decision, for each minute.
    pub worth: f64,
}

/// The tests that are open, laid out once for list and plan.
pub(crate) fn evaluate_tests<'a>(case: &Case, model: &Model<'a>, symptom: &str, w: &Weighed) -> Vec<EvaluatedTest<'a>> {
    let forbids = super::danger::forbids_driving(case, model.k, &w.all);
    let risk: f64 = w.p.iter().zip(&forbids).filter(|(_, f)| **f).map(|(p, _)| p).sum();
    let evaluate = |one: TestInstance<'a>| {
        let likelihoods = one.likelihoods(model);
        let minutes = minutes(case, model.k, one.test, one.at.as_ref());
        let people = if one.test.helper { 2.0 } else { 1.0 };
        let risk = if one.test.turns_wheels() { risk * model.k.weights.danger.driven_minutes } else { 0.0 };
        let materials = one.test.materials / (model.k.weights.time.rate / 60.0).max(0.1);
        let charged = charged_minutes(case, model.k, one.test, minutes);
        let worth = sharpening_per_minute(&w.p, &likelihoods.rows, &likelihoods.base(), charged * people + materials + risk);
        EvaluatedTest { bits: information_gain(&w.p, &likelihoods.rows), one, likelihoods, minutes, worth }
    };
    let mut out: Vec<EvaluatedTest> = open(case, model, symptom).into_iter().map(evaluate).collect();
    out.retain(|l| !l.one.test.recorded || shows_lines(w, l));
    out
}

/// A run is worth driving where lines are expected: more often than not it shows one.
fn shows_lines(w: &Weighed, l: &EvaluatedTest) -> bool {
    let nothing = |c: &super::likelihood::Cell| l.one.test.outcomes[c.outcome].id == "nothing";
    let p: f64 = l
        .likelihoods
        .cells
        .iter()
        .zip(&l.likelihoods.rows)
        .filter(|(c, _)| nothing(c))
        .map(|(_, row)| w.p.iter().zip(row).map(|(p, l)| p * l).sum::<f64>())
        .sum();
    p < 0.5
}

/// The tests that answer most for their time, best first.
pub(crate) fn next_tests(w: &Weighed, evaluated: &[EvaluatedTest]) -> Vec<NextTest> {
    let mut order: Vec<&EvaluatedTest> = evaluated.iter().filter(|l| l.bits >= MIN_INFORMATION_BITS).collect();
    // What answers next to nothing is no next step, however cheap: it comes after all that does.
    let floor = WORTHWHILE_SHARE * entropy(&w.p);
    order.sort_by(|a, b| (b.bits >= floor).cmp(&(a.bits >= floor)).then(b.worth.total_cmp(&a.worth)));
    order.truncate(MAX_LISTED_TESTS);
    order.into_iter().map(|l| proposed(w, l)).collect()
}

/// A test as it is proposed.
pub(crate) fn proposed(w: &Weighed, l: &EvaluatedTest) -> NextTest {
    NextTest {
        test: l.one.test.id.clone(),
        at: l.one.at.as_ref().map(|p| p.id.clone()),
        gear: l.one.gear.clone(),
        minutes: l.minutes,
        bits: l.bits,
        bits_per_minute: l.bits / l.minutes,
        runs: vec![],
        outcomes: preview(w, l.one.test, &l.likelihoods),
    }
}

/// What each outcome of a test would do.
fn preview(w: &Weighed, t: &Test, l: &Likelihoods) -> Vec<OutcomePreview> {
    let of = |(cell, row): (&super::likelihood::Cell, &Vec<f64>)| {
        let m = moved(&w.p, row);
        let (first, up) = (&w.all[m.first.0], &w.all[m.rises.0]);
        (m.chance > 0.0).then(|| OutcomePreview {
            meaning: OutcomeMeaning {
                outcome: t.outcomes[cell.outcome].id.clone(),
                place: cell.place.as_ref().map(|p| p.id.clone()),
                p: m.chance,
                fault: first.fault.clone(),
                at: first.at.clone(),
                p_then: m.first.1,
            },
            first_then: m.now.1,
            rises: up.fault.clone(),
            rises_at: up.at.clone(),
            rises_to: m.rises.1,
            gain: m.gain,
        })
    };
    l.cells.iter().zip(&l.rows).filter_map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::super::{diagnose, knowledge};
    use super::*;
    use crate::case::sample::case_with_symptom as case;
    use crate::vehicle::sample::*;
    use serde_json::{Value, json};

    #[test]
    fn cheap_road_tests_come_before_the_lift_when_nothing_is_known() {
        let d = diagnose(&case(all_wheel_drive(), "vibration", json!({})), builtin(), None);
        let ids: Vec<_> = d.symptoms[0].next.iter().take(3).map(|n| n.test.as_str()).collect();
        assert!(ids.iter().any(|t| ["neutral-coast", "other-gear-same-speed", "speed-sweep"].contains(t)), "{ids:?}");
    }

    #[test]
    fn on_the_lift_looking_costs_less() {
        let minutes = |on: &str| {
            let c = case(rear_drive(2), "vibration", json!({"state": {"on": on, "off": []}}));
            let t = builtin().test("support-bearing-look").unwrap();
            super::super::preparation::minutes(&c, builtin(), t, None)
        };
        assert_eq!((minutes("ground"), minutes("lift")), (12.0, 6.0));
    }

    #[test]
    fn a_shaft_that_is_off_is_not_taken_off_again() {
        let minutes = |off: Value, test: &str| {
            let c = case(rear_drive(2), "vibration", json!({"state": {"on": "lift", "off": off}}));
            super::super::preparation::minutes(
                &c,
                builtin(),
                builtin().test(test).unwrap(),
                c.vehicle.place("prop.rear.j2").as_ref(),
            )
        };
        assert_eq!((minutes(json!([]), "joint-swing"), minutes(json!(["prop.rear"]), "joint-swing")), (35.0, 10.0));
        // A joint that lies on the bench brought its shaft with it.
        assert_eq!((minutes(json!([]), "opened-look"), minutes(json!(["prop.rear"]), "opened-look")), (11.0, 5.0));
        // It is not driven while something is off, nor asked there for what is asked of the whole.
        let open = |off: Value| {
            let c = case(rear_drive(2), "vibration", json!({"state": {"on": "lift", "off": off}}));
            super::super::open_tests(&c, builtin(), "S1").into_iter().map(|t| t.test).collect::<Vec<_>>()
        };
        let (whole, off) = (open(json!([])), open(json!(["prop.rear"])));
        assert!(whole.contains(&"neutral-coast".to_string()) && !off.contains(&"neutral-coast".to_string()));
        assert!(off.contains(&"opened-look".to_string()) && !whole.contains(&"opened-look".to_string()));
    }

    #[test]
    fn a_workshop_that_is_quicker_than_a_teardown_still_has_minutes_of_its_own() {
        let mut overrides = knowledge::WorkshopOverrides::default();
        overrides.tests.insert("joint-swing".into(), 12.0);
        overrides.tests.insert("diff-out-run".into(), 20.0);
        let k = overrides.over(builtin()).unwrap();
        for v in [rear_drive(2), four_wheel_drive()] {
            for (off, whole) in [(json!([]), true), (json!(["prop.rear", "half.rl", "half.rr", "half.fl", "half.fr"]), false)] {
                let c = case(v.clone(), "vibration", json!({"state": {"on": "lift", "off": off}}));
                for (test, at) in [("joint-swing", "prop.rear.j1"), ("diff-out-run", "diff.rear")] {
                    let t = k.test(test).unwrap();
                    let m = super::super::preparation::minutes(&c, &k, t, c.vehicle.place(at).as_ref());
                    let wanted = if whole { t.minutes } else { super::super::preparation::OWN_MINUTES_SHARE * t.minutes };
                    assert!((m - wanted).abs() < 1e-9, "{test} {m} {wanted}");
                }
            }
        }
    }

    #[test]
    fn while_it_is_not_to_be_driven_no_drive_is_proposed_nor_planned() {
        for v in every_layout() {
            for kind in ["vibration", "growl", "click-repeating"] {
                let drives = |safety: Value| {
                    let d = diagnose(&case(v.clone(), kind, json!({"safety": safety})), builtin(), None);
                    let s = &d.symptoms[0];
                    let planned = s.plan.steps.iter().filter_map(|x| x.test.clone());
                    let all = s.next.iter().map(|n| n.test.clone()).chain(planned);
                    all.filter(|t| builtin().test(t).unwrap().is_of_the_road()).count()
                };
                let clearance = |drive: &str| json!([{"drive": drive, "reason": "joint binds", "by": "Maren"}]);
                assert!(drives(json!([])) > 0 && drives(clearance("yes")) > 0, "{} {kind}", v.name);
                assert_eq!(drives(clearance("no")), 0, "{} {kind}", v.name);
            }
        }
    }

    #[test]
    fn a_recording_is_proposed_with_its_gears_and_speeds() {
        let d = diagnose(&case(rear_drive(2), "vibration", json!({})), builtin(), None);
        let is_recorded = |n: &&NextTest| builtin().test(&n.test).is_some_and(|t| t.recorded);
        let n = d.symptoms[0].next.iter().find(is_recorded).unwrap();
        assert!(!n.runs.is_empty() && n.runs.iter().all(|r| r.to.get() > r.from.get() && r.gear.is_some()), "{:?}", n.runs);
        assert!(d.symptoms[0].next.iter().all(|n| is_recorded(&n) || n.runs.is_empty()));
    }

    #[test]
    fn every_test_settles_at_most_what_is_open_and_outcomes_sum_to_one() {
        for v in every_layout() {
            for kind in ["vibration", "growl", "clunk"] {
                let d = diagnose(&case(v.clone(), kind, json!({})), builtin(), None);
                let s = &d.symptoms[0];
                assert!(s.next.len() >= 3, "{} {kind}", v.name);
                for n in &s.next {
                    assert!(n.bits <= s.open_bits + 1e-9);
                    let sum: f64 = n.outcomes.iter().map(|o| o.meaning.p).sum();
                    assert!((sum - 1.0).abs() < 1e-6, "{} {sum}", n.test);
                }
            }
        }
    }

    #[test]
    fn what_was_done_is_not_proposed_again() {
        let c = case(rear_drive(1), "vibration", json!({"observations": [{"test": "neutral-coast", "outcome": "persists"}]}));
        let d = diagnose(&c, knowledge::builtin(), None);
        assert!(d.symptoms[0].next.iter().all(|n| n.test != "neutral-coast"));
    }

    #[test]
    fn uncertainty_is_zero_when_sure_and_largest_when_even() {
        assert_eq!(entropy(&[1.0, 0.0]), 0.0);
        assert!((entropy(&[0.25; 4]) - 2.0).abs() < 1e-12);
    }
}
