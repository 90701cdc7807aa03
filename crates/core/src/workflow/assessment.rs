//! What a case comes to by what is known: weighed once, and read by every page, by the board, by the gate and by what leaves.

use super::next_action::{NextAction, next_action};
use crate::analysis::Analysis;
use crate::case::Case;
use crate::proof::verify::Verification;
use crate::reasoning::gate::{Gates, gates_of};
use crate::reasoning::knowledge::Knowledge;
use crate::reasoning::{Diagnosis, Effect, RankingReversal, diagnose_with, last_effect_of, ranking_reversals_of};
use crate::safety::drive_clearance::{Proposal, proposed_clearance};
use serde::{Deserialize, Serialize};

/// Causes at the gate.
pub const AT_THE_GATE: usize = 12;
/// Outcomes that would put another cause first.
const REVERSALS: usize = 3;
/// A first cause that moved by less is weighed alike.
const ALIKE: f64 = 0.05;

/// What more is weighed of a symptom.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SymptomAssessment {
    /// Id of the symptom.
    pub id: String,
    /// What the last answer did.
    pub effect: Option<Effect>,
    /// What would put another cause first, the likeliest first.
    pub reversals: Vec<RankingReversal>,
    /// The likeliest causes at the gate.
    pub gates: Gates,
}

/// A case, weighed.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Assessment {
    /// What is wrong, how sure, and what to do.
    pub diagnosis: Diagnosis,
    /// What is done next.
    pub next: NextAction,
    /// A statement on driving that is proposed.
    pub proposal: Option<Proposal>,
    /// Each symptom, in the order of the case.
    pub symptoms: Vec<SymptomAssessment>,
}

impl Assessment {
    /// What is weighed of a symptom beside its causes.
    pub fn of_symptom(&self, id: &str) -> Option<&SymptomAssessment> {
        self.symptoms.iter().find(|s| s.id == id)
    }

    /// The likeliest causes of a symptom that are known faults: fault, place, probability.
    pub fn likeliest(&self, symptom: &str) -> impl Iterator<Item = (&str, &str, f64)> {
        let of = self.diagnosis.symptoms.iter().filter(move |s| s.id == symptom);
        of.flat_map(|s| &s.ranked).filter(|r| r.fault != "unknown").map(|r| (r.fault.as_str(), r.at.as_str(), r.p))
    }

    /// Whether another weighing says otherwise of a symptom: another cause stands first, or it is clearly more or less sure.
    pub fn says_otherwise(&self, other: &Assessment, symptom: &str) -> bool {
        differ(self.likeliest(symptom).next(), other.likeliest(symptom).next())
    }
}

fn differ(one: Option<(&str, &str, f64)>, other: Option<(&str, &str, f64)>) -> bool {
    match (one, other) {
        (Some(a), Some(b)) => (a.0, a.1) != (b.0, b.1) || (a.2 - b.2).abs() >= ALIKE,
        (None, None) => false,
        _ => true,
    }
}

/// Weighs a case.
pub fn assess(case: &Case, k: &Knowledge, analysis: Option<&Analysis>, proof: Option<&Verification>) -> Assessment {
    let (diagnosis, symptoms) = diagnose_with(case, k, analysis, |open| SymptomAssessment {
        effect: last_effect_of(case, k, open.symptom, analysis, open.w),
        reversals: ranking_reversals_of(open, REVERSALS),
        gates: gates_of(open, AT_THE_GATE),
        id: open.symptom.into(),
    });
    Assessment {
        next: next_action(case, k, &diagnosis, proof),
        proposal: proposed_clearance(case, &diagnosis),
        symptoms,
        diagnosis,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample;
    use crate::reasoning::gate::gates;
    use crate::reasoning::knowledge::builtin;
    use crate::reasoning::{diagnose, last_effect, ranking_reversals};
    use crate::vehicle::sample::every_layout;
    use serde_json::{Value, json};

    #[test]
    fn weighings_differ_by_their_first_cause_or_clearly_by_how_sure() {
        let one = |fault: &'static str, p: f64| Some((fault, "prop.rear.j1", p));
        assert!(!differ(one("joint-worn", 0.60), one("joint-worn", 0.63)));
        assert!(differ(one("joint-worn", 0.60), one("joint-worn", 0.70)) && differ(one("joint-worn", 0.6), one("slip-dry", 0.6)));
        assert!(differ(one("joint-worn", 0.6), None) && !differ(None, None));
    }

    /// Weighed together, or each by itself: it is the same.
    #[test]
    fn what_is_weighed_together_is_what_each_comes_to_by_itself() {
        for v in every_layout() {
            let c = sample::case(
                v,
                &[
                    json!({"symptoms": [{"id": "S1", "kind": "vibration", "speed_kmh": {"from": 60, "to": 110}}, {"id": "S2", "kind": "knock"}],
                "observations": [{"test": "neutral-coast", "outcome": "persists", "symptom": "S1"}, {"test": "turn", "outcome": "left", "symptom": "S2"}]}),
                ],
            );
            let (k, a) = (builtin(), assess(&c, builtin(), None, None));
            let same = |together: Value, alone: Value| assert_eq!(together, alone, "{}", c.vehicle.name);
            same(json!(a.diagnosis), json!(diagnose(&c, k, None)));
            for s in &a.symptoms {
                same(json!(s.effect), json!(last_effect(&c, k, &s.id, None)));
                same(json!(s.reversals), json!(ranking_reversals(&c, k, &s.id, None, REVERSALS)));
                same(json!(s.gates), json!(gates(&c, k, &s.id, None, AT_THE_GATE)));
            }
            assert!(a.symptoms.iter().all(|s| !s.reversals.is_empty() && !s.gates.causes.is_empty()));
        }
    }

    /// What is kept says the same as what was weighed.
    #[test]
    fn an_assessment_reads_back_as_it_was() {
        for v in every_layout() {
            let c = sample::case(
                v,
                &[json!({"symptoms": [{"id": "S1", "kind": "vibration"}, {"id": "S2", "kind": "knock"}],
                "observations": [{"test": "turn", "outcome": "left", "symptom": "S2"}, {"test": "wheel-nut-check", "at": "wheel.fl", "outcome": "loose"}]})],
            );
            let a = assess(&c, builtin(), None, None);
            let back: Assessment = serde_json::from_str(&serde_json::to_string(&a).unwrap()).unwrap();
            let shown = |a: &Assessment| {
                let ranked = a.diagnosis.symptoms.iter().flat_map(|s| &s.ranked);
                let causes: Vec<_> = ranked.map(|r| (r.fault.clone(), r.at.clone(), format!("{:.12}", r.p))).collect();
                let gates: Vec<_> = a
                    .symptoms
                    .iter()
                    .map(|s| (s.gates.causes.len(), s.gates.enough, s.effect.clone().map(|e| e.words())))
                    .collect();
                (
                    causes,
                    gates,
                    a.next.words.clone(),
                    a.proposal.clone().map(|p| p.words()),
                    a.diagnosis.step.clone().map(|s| s.test),
                )
            };
            assert_eq!(shown(&back), shown(&a), "{}", c.vehicle.name);
            assert!(a.proposal.is_some() && a.symptoms.len() == 2 && a.of_symptom("S2").unwrap().effect.is_some());
        }
    }
}
