//! What each answer leaves: the tests that take whole units out of the question, each outcome with the places that
//! remain after it. Neutral and pedal, half shafts out, shaft off, an axle engaged or free, a bend to either side.

use crate::analysis::Analysis;
use crate::case::Case;
use crate::reasoning::knowledge::Knowledge;
use crate::reasoning::{beliefs, hypotheses, open_tests};
use std::collections::HashMap;

/// The tests, in the order in which they cost least.
const TESTS: &[&str] = &[
    "neutral-coast",
    "clutch-pedal",
    "standstill-rev",
    "turn",
    "axle-engage",
    "lift-run",
    "lift-run-halfshafts-out",
    "shaft-off-run",
    "diff-out-run",
];
/// Places that are named for an outcome, and the share from which.
const MAX_NAMED_PLACES: usize = 4;
const NAMED_MIN_PROBABILITY: f64 = 0.06;

/// An outcome and what it leaves.
#[derive(Clone, Debug, PartialEq)]
pub struct IsolationOutcome {
    /// Id of an outcome of that test.
    pub outcome: String,
    /// How likely it is now.
    pub chance: f64,
    /// Places that remain, with their share.
    pub places: Vec<(String, f64)>,
}

/// A test with its outcomes.
#[derive(Clone, Debug, PartialEq)]
pub struct Isolation {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Where.
    pub at: Option<String>,
    /// What each outcome leaves.
    pub outcomes: Vec<IsolationOutcome>,
}

/// The tests of a symptom that take units out and have not been made yet.
pub fn isolation(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>) -> Vec<Isolation> {
    let all = hypotheses(&case.vehicle, k);
    let p = beliefs(case, k, symptom, analysis);
    let mut out: Vec<Isolation> = vec![];
    let tests = open_tests(case, k, symptom);
    for t in TESTS.iter().flat_map(|id| tests.iter().filter(move |t| t.test == *id)) {
        let leaves = |(outcome, row): (&String, &Vec<f64>)| {
            let chance: f64 = p.iter().zip(row).map(|(p, l)| p * l).sum();
            let mut by: HashMap<&str, f64> = HashMap::new();
            for ((h, p), l) in all.iter().zip(&p).zip(row).filter(|x| !x.0.0.is_unknown()) {
                *by.entry(h.at.as_str()).or_default() += p * l / chance.max(1e-300);
            }
            let mut places: Vec<(String, f64)> =
                by.into_iter().filter(|x| x.1 >= NAMED_MIN_PROBABILITY).map(|x| (x.0.into(), x.1)).collect();
            places.sort_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
            places.truncate(MAX_NAMED_PLACES);
            IsolationOutcome { outcome: outcome.clone(), chance, places }
        };
        out.push(Isolation {
            test: t.test.clone(),
            at: t.at.clone(),
            outcomes: t.outcomes.iter().zip(&t.rows).map(leaves).collect(),
        });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::{Vehicle, sample};
    use serde_json::json;

    fn case(v: &Vehicle, kind: &str) -> Case {
        let mut d = Case::new_document("c", "c", json!(v));
        d["symptoms"] = json!([{"id": "S1", "kind": kind, "heard_from": "unknown"}]);
        Case::from_json(&d).unwrap()
    }

    fn after<'a>(e: &'a [Isolation], test: &str, outcome: &str) -> &'a IsolationOutcome {
        let t = e.iter().find(|t| t.test == test).unwrap_or_else(|| panic!("{test} is not there"));
        t.outcomes.iter().find(|o| o.outcome == outcome).unwrap()
    }

    #[test]
    fn a_bend_leaves_the_side_that_it_loads() {
        let e = isolation(&case(&sample::all_wheel_drive(), "growl"), builtin(), "S1", None);
        let left = after(&e, "turn", "left");
        assert!(["hub.fr", "hub.rr"].contains(&left.places[0].0.as_str()), "{left:?}");
        let right = after(&e, "turn", "right");
        assert!(["hub.fl", "hub.rl"].contains(&right.places[0].0.as_str()), "{right:?}");
    }

    #[test]
    fn what_comes_with_the_front_axle_sits_there() {
        let e = isolation(&case(&sample::four_wheel_drive(), "growl"), builtin(), "S1", None);
        let front = e.iter().find(|t| t.test == "axle-engage" && t.at.as_deref() == Some("diff.front")).unwrap();
        let only = front.outcomes.iter().find(|o| o.outcome == "only-engaged").unwrap();
        assert!(only.places[0].0.contains("front") || only.places[0].0 == "transfer", "{only:?}");
        assert!(only.places.iter().all(|p| !p.0.contains("rear")), "{only:?}");
    }

    #[test]
    fn chances_of_a_test_sum_to_one_and_shares_to_no_more() {
        for v in sample::every_layout() {
            for t in isolation(&case(&v, "whine"), builtin(), "S1", None) {
                let sum: f64 = t.outcomes.iter().map(|o| o.chance).sum();
                assert!((sum - 1.0).abs() < 0.02, "{} {sum}", t.test);
                for o in &t.outcomes {
                    assert!(o.places.iter().map(|p| p.1).sum::<f64>() < 1.0 + 1e-9 && o.places.len() <= MAX_NAMED_PLACES);
                }
            }
        }
    }
}
