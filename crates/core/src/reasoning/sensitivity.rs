//! What would change one's mind: the outcomes that would put another cause first.

use super::knowledge::Knowledge;
use super::{OpenSymptom, OpenTest};
use crate::analysis::Analysis;
use crate::case::Case;
use serde::{Deserialize, Serialize};

/// The other cause must then be so much likelier than the one that is first now: two that stand alike are no news.
const CLEAR_LEAD_FACTOR: f64 = 1.15;
/// Less likely outcomes are no reason to look.
const OUTCOME_MIN_PROBABILITY: f64 = 0.005;

/// An outcome that would put another cause first.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RankingReversal {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Where.
    pub at: Option<String>,
    /// In which gear.
    pub gear: Option<String>,
    /// Id of an outcome of that test.
    pub outcome: String,
    /// The place that it names, of a test that names one.
    pub place: Option<String>,
    /// How likely it is to come out.
    pub chance: f64,
    /// Minutes of the test.
    pub minutes: f64,
    /// Which hypothesis would be first then.
    pub then: usize,
    /// With which probability.
    pub p_then: f64,
}

/// The first of the largest.
fn first(p: impl Iterator<Item = f64>) -> Option<usize> {
    p.enumerate().reduce(|a, b| if b.1 > a.1 { b } else { a }).map(|x| x.0)
}

fn ranking_reversal(p: &[f64], now: usize, t: &OpenTest) -> Option<RankingReversal> {
    let outcomes = t.outcomes.iter().zip(&t.places);
    outcomes
        .zip(&t.rows)
        .filter_map(|((outcome, place), row)| {
            let chance: f64 = p.iter().zip(row).map(|(p, l)| p * l).sum();
            let then = first(p.iter().zip(row).map(|(p, l)| p * l))?;
            (p[then] * row[then] > CLEAR_LEAD_FACTOR * p[now] * row[now] && chance >= OUTCOME_MIN_PROBABILITY).then(|| {
                RankingReversal {
                    test: t.test.clone(),
                    at: t.at.clone(),
                    gear: t.gear.clone(),
                    outcome: outcome.clone(),
                    place: place.clone(),
                    chance,
                    minutes: t.minutes,
                    then,
                    p_then: p[then] * row[then] / chance,
                }
            })
        })
        .max_by(|a, b| a.chance.total_cmp(&b.chance))
}

/// The outcomes that would put another cause first, the likeliest of each test; the likeliest test first.
pub fn ranking_reversals(
    case: &Case,
    k: &Knowledge,
    symptom: &str,
    analysis: Option<&Analysis>,
    most: usize,
) -> Vec<RankingReversal> {
    OpenSymptom::with(case, k, symptom, analysis, |open| ranking_reversals_of(open, most))
}

/// The same of a symptom that was weighed already.
pub(crate) fn ranking_reversals_of(open: &OpenSymptom<'_>, most: usize) -> Vec<RankingReversal> {
    let p = open.beliefs();
    let Some(now) = first(p.iter().copied()) else { return vec![] };
    let mut out: Vec<RankingReversal> = open.open_tests().iter().filter_map(|t| ranking_reversal(p, now, t)).collect();
    out.sort_by(|a, b| b.chance.total_cmp(&a.chance));
    out.truncate(most);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reasoning::knowledge::builtin;
    use crate::reasoning::{diagnose, hypotheses};
    use crate::vehicle::sample;
    use serde_json::json;

    fn case(observations: &serde_json::Value) -> Case {
        let v = serde_json::to_value(sample::rear_drive(2)).unwrap();
        let mut d = Case::new_document("c", "c", v);
        d["symptoms"] = json!([{"id": "S1", "kind": "vibration", "felt": ["seat"], "speed_kmh": {"from": 70, "to": 120}}]);
        d["observations"] = observations.clone();
        Case::from_json(&d).unwrap()
    }

    #[test]
    fn an_outcome_that_is_named_does_put_the_other_cause_first() {
        let before = json!([{"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}]);
        let c = case(&before);
        let k = builtin();
        let all = hypotheses(&c.vehicle, k);
        let now = diagnose(&c, k, None).symptoms[0].ranked[0].clone();
        let found = ranking_reversals(&c, k, "S1", None, 8);
        assert!(!found.is_empty());
        for o in &found {
            let mut list = before.as_array().unwrap().clone();
            list.push(json!({"symptom": "S1", "test": o.test, "at": o.place.as_ref().or(o.at.as_ref()), "gear": o.gear, "outcome": o.outcome}));
            let then = diagnose(&case(&list.into()), k, None).symptoms[0].ranked[0].clone();
            assert_eq!((then.fault.as_str(), then.at.as_str()), (all[o.then].fault.as_str(), all[o.then].at.as_str()), "{o:?}");
            assert!(
                (then.fault, then.at) != (now.fault.clone(), now.at.clone()) && (then.p - o.p_then).abs() < 0.05,
                "{o:?} {}",
                then.p
            );
        }
        assert!(found.is_sorted_by(|a, b| a.chance >= b.chance));
    }
}
