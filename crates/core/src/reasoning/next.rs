//! The next best test: the expected drop in uncertainty per minute, in the state the vehicle is in.

use super::evidence::{outcome_likelihood, stations};
use super::knowledge::{Knowledge, Test};
use super::{Hypothesis, Weighed};
use crate::case::Case;
use crate::vehicle::Place;
use serde::Serialize;

/// Share of what is open that a test must settle to be worth the walk.
const WORTHWHILE: f64 = 0.06;

/// What one outcome would do.
#[derive(Clone, Debug, Serialize)]
pub struct OutcomePreview {
    /// The outcome.
    pub outcome: String,
    /// How likely it is to come out.
    pub p: f64,
    /// The cause that would then stand first.
    pub fault: String,
    /// Where.
    pub at: String,
    /// How sure that would be.
    pub p_then: f64,
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
#[derive(Clone, Debug, Serialize)]
pub struct NextTest {
    /// The test.
    pub test: String,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// What it takes, from how the vehicle stands now.
    pub minutes: f64,
    /// What it settles on average.
    pub bits: f64,
    /// What it settles for each minute.
    pub bits_per_minute: f64,
    /// What each outcome would do.
    pub outcomes: Vec<OutcomePreview>,
}

/// Uncertainty, in bits.
pub fn entropy(p: &[f64]) -> f64 {
    p.iter().filter(|x| **x > 0.0).map(|x| -x * x.log2()).sum()
}

/// What a test with these rows of likelihoods settles on average, bits.
pub fn settles(p: &[f64], rows: &[Vec<f64>]) -> f64 {
    let left = |row: &Vec<f64>| {
        let joint: Vec<f64> = p.iter().zip(row).map(|(p, l)| p * l).collect();
        let chance: f64 = joint.iter().sum();
        chance * entropy(&joint.iter().map(|j| j / chance.max(1e-300)).collect::<Vec<_>>())
    };
    (entropy(p) - rows.iter().map(left).sum::<f64>()).max(0.0)
}

/// What must be done once before a test, beyond what stands already: going up, taking off.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Before {
    Up,
    Off(String),
}

/// What comes off for a test: the shaft for its sections and joints, else the part itself.
fn comes_off(t: &Test, at: Option<&Place>) -> String {
    match at {
        Some(p) if p.is_of_shaft() => p.end.map_or(p.id.clone(), |e| format!("prop.{}", e.id())),
        Some(p) => p.id.clone(),
        None => t.id.clone(),
    }
}

pub(crate) fn before(case: &Case, t: &Test, at: Option<&Place>) -> Vec<Before> {
    let state = case.state.clone().unwrap_or_default();
    let mut out = vec![];
    if t.lift && state.on.as_deref() != Some("lift") {
        out.push(Before::Up);
    }
    let off = comes_off(t, at);
    if t.off && !state.off.contains(&off) && !at.is_some_and(|p| state.off.contains(&p.id)) {
        out.push(Before::Off(off));
    }
    out
}

pub(crate) fn minutes_of(b: &Before, k: &Knowledge) -> f64 {
    match b {
        Before::Up => k.weights.time.lift_minutes,
        Before::Off(_) => k.weights.time.off_minutes,
    }
}

/// Minutes of a test as the vehicle stands.
pub(crate) fn minutes(case: &Case, k: &Knowledge, t: &Test, at: Option<&Place>) -> f64 {
    t.minutes + before(case, t, at).iter().map(|b| minutes_of(b, k)).sum::<f64>()
}

/// A test is worth proposing only where it can be made: what looks at an opened part needs it off.
fn possible(case: &Case, t: &Test, at: Option<&Place>) -> bool {
    if !matches!(t.id.as_str(), "opened-look" | "bench-listen" | "lamps") {
        return true;
    }
    let off = case.state.as_ref().map(|s| s.off.clone()).unwrap_or_default();
    t.id != "lamps" && at.is_some_and(|p| off.contains(&p.id))
}

fn is_done(case: &Case, symptom: &str, t: &Test, at: Option<&str>) -> bool {
    let of = |s: Option<&str>| Case::concerns(s, symptom);
    let observed = case
        .observations
        .iter()
        .any(|o| o.test == t.id && of(o.symptom.as_deref()) && (t.locates.is_some() || o.at.as_deref() == at || at.is_none()));
    let place = |m: &crate::case::Measurement| m.at.as_deref().is_none_or(|m| at.is_some_and(|a| m.starts_with(a)));
    let measured = |kind: &str| case.measurements.iter().any(|m| m.kind == kind && of(m.symptom.as_deref()) && place(m));
    observed
        || match t.id.as_str() {
            "speed-sweep" => case.recordings.iter().any(|r| of(r.symptom.as_deref()) && !r.is_after()),
            "angle-survey" => measured("angles"),
            "runout-survey" | "half-shaft-runout" => measured("runout"),
            _ => false,
        }
}

/// A test at a place where it can be made.
pub(crate) struct Try<'a> {
    pub test: &'a Test,
    pub at: Option<Place>,
    pub gear: Option<String>,
}

impl Try<'_> {
    /// How likely each outcome is under each cause; those of a cause sum to 1.
    pub fn rows(&self, case: &Case, k: &Knowledge, all: &[Hypothesis]) -> Vec<Vec<f64>> {
        let mut rows: Vec<Vec<f64>> = (0..self.test.outcomes.len())
            .map(|o| outcome_likelihood(&case.vehicle, k, all, self.test, o, self.at.as_ref(), self.gear.as_deref()))
            .collect();
        for h in 0..all.len() {
            let sum: f64 = rows.iter().map(|l| l[h]).sum();
            rows.iter_mut().for_each(|l| l[h] /= sum);
        }
        rows
    }
}

/// The tests that can be made as the vehicle stands and were not.
pub(crate) fn open<'a>(case: &Case, k: &'a Knowledge, symptom: &str) -> Vec<Try<'a>> {
    let mut all = tries(case, k);
    all.retain(|t| {
        let at = t.at.as_ref();
        !is_done(case, symptom, t.test, at.map(|p| p.id.as_str())) && possible(case, t.test, at)
    });
    all
}

fn tries<'a>(case: &Case, k: &'a Knowledge) -> Vec<Try<'a>> {
    let v = &case.vehicle;
    let mut out = vec![];
    for test in &k.tests {
        if test.at.is_empty() {
            if test.id != "clutch-pedal" || v.place("clutch").is_some() {
                out.push(Try { test, at: None, gear: None });
            }
        } else if test.at.iter().any(|a| a == "gear") {
            let at = v.place("gearbox");
            out.extend(v.gearbox.gears.iter().map(|g| Try { test, at: at.clone(), gear: Some(g.name.clone()) }));
        } else if test.locates.is_some() {
            out.push(Try { test, at: None, gear: None });
        } else {
            out.extend(stations(v, test).into_iter().map(|p| Try { test, at: Some(p), gear: None }));
        }
    }
    out
}

/// The tests that settle most for their time, best first.
pub(crate) fn next_tests(case: &Case, k: &Knowledge, symptom: &str, w: &Weighed, most: usize) -> Vec<NextTest> {
    let before = entropy(&w.p);
    let top = (0..w.p.len()).max_by(|&a, &b| w.p[a].total_cmp(&w.p[b])).unwrap_or(0);
    let mut out: Vec<NextTest> = vec![];
    for t in open(case, k, symptom) {
        let at = t.at.as_ref();
        let (after, outcomes) = preview(case, k, w, &t, top);
        let bits = (before - after).max(0.0);
        let minutes = minutes(case, k, t.test, at);
        if bits < 0.005 {
            continue;
        }
        out.push(NextTest {
            test: t.test.id.clone(),
            at: at.map(|p| p.id.clone()),
            gear: t.gear.clone(),
            minutes,
            bits,
            bits_per_minute: bits / minutes,
            outcomes,
        });
    }
    // What settles next to nothing is no next step, however cheap: it comes after all that does.
    let floor = WORTHWHILE * before;
    out.sort_by(|a, b| (b.bits >= floor).cmp(&(a.bits >= floor)).then(b.bits_per_minute.total_cmp(&a.bits_per_minute)));
    // One proposal a test: the best place stands for it.
    let mut seen: Vec<String> = vec![];
    out.retain(|n| {
        let new = seen.iter().filter(|s| **s == n.test).count() < 2;
        seen.push(n.test.clone());
        new
    });
    out.truncate(most);
    out
}

/// Uncertainty expected after a test, and what each outcome would do.
fn preview(case: &Case, k: &Knowledge, w: &Weighed, t: &Try, top: usize) -> (f64, Vec<OutcomePreview>) {
    let likely = t.rows(case, k, &w.all);
    let (mut after, mut outcomes) = (0.0, vec![]);
    for (o, l) in likely.iter().enumerate() {
        let joint: Vec<f64> = w.p.iter().zip(l).map(|(p, l)| p * l).collect();
        let chance: f64 = joint.iter().sum();
        if chance <= 0.0 {
            continue;
        }
        // Σ −q log q of the normalised, from the joint: log(chance) − Σ joint·log(joint)/chance.
        let sum: f64 = joint.iter().filter(|j| **j > 0.0).map(|j| j * j.log2()).sum();
        after += chance * chance.log2() - sum;
        let best = (0..joint.len()).max_by(|&a, &b| joint[a].total_cmp(&joint[b])).unwrap_or(0);
        let h: &Hypothesis = &w.all[best];
        let gain = |i: usize| joint[i] / chance - w.p[i];
        let up = (0..joint.len()).max_by(|&a, &b| gain(a).total_cmp(&gain(b))).unwrap_or(best);
        outcomes.push(OutcomePreview {
            outcome: t.test.outcomes[o].id.clone(),
            p: chance,
            fault: h.fault.clone(),
            at: h.at.clone(),
            p_then: joint[best] / chance,
            first_then: joint[top] / chance,
            rises: w.all[up].fault.clone(),
            rises_at: w.all[up].at.clone(),
            rises_to: joint[up] / chance,
            gain: gain(up),
        });
    }
    (after, outcomes)
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::super::{diagnose, knowledge};
    use super::*;
    use crate::vehicle::sample::*;
    use serde_json::json;

    fn case(v: crate::vehicle::Vehicle, kind: &str, more: serde_json::Value) -> Case {
        let mut doc = Case::new_document("t", "t", json!(v));
        doc["symptoms"] = json!([{"id": "S1", "kind": kind}]);
        for (k, x) in more.as_object().unwrap() {
            doc[k] = x.clone();
        }
        Case::from_json(&doc).unwrap()
    }

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
            super::minutes(&c, builtin(), t, None)
        };
        assert_eq!((minutes("ground"), minutes("lift")), (12.0, 6.0));
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
                    let sum: f64 = n.outcomes.iter().map(|o| o.p).sum();
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
