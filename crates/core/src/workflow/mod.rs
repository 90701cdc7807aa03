//! Where a case stands: its stations, what is done next, and what was proved.

pub mod assessment;
pub mod case_search;
pub mod next_action;
pub mod owed;
mod station;

pub use station::{Station, StationFacts};

use crate::case::Case;
use crate::proof::verify::{Verdict, Verification};

/// Whether every symptom's cure was compared: a run after held against the run before, and found cured. What was
/// closed without that was closed by ear.
pub fn is_proved(case: &Case, proof: Option<&Verification>) -> bool {
    let cured = |id: &str| proof.is_some_and(|p| p.symptoms.iter().any(|s| s.id == id && s.verdict == Verdict::Cured));
    !case.symptoms.is_empty() && case.symptoms.iter().all(|s| case.cured_by(&s.id).is_some() && cured(&s.id))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample;
    use crate::vehicle::sample::rear_drive;
    use serde_json::{Value, json};

    fn case(more: Value) -> Case {
        sample::case(rear_drive(1), &[more])
    }

    #[test]
    fn only_what_was_compared_is_called_proved() {
        let symptom = json!([{"id": "S1", "kind": "vibration"}]);
        let c = case(json!({"symptoms": symptom, "repairs": [{"symptom": "S1", "fault": "slip-dry", "result": "cured"}]}));
        let proof = |verdict| Verification {
            symptoms: vec![crate::proof::verify::SymptomVerdict {
                id: "S1".into(),
                verdict,
                comparable: true,
                reasons: vec![],
                orders: vec![],
                new_orders: vec![],
            }],
            ..Verification::default()
        };
        assert!(!is_proved(&c, None) && is_proved(&c, Some(&proof(Verdict::Cured))));
        assert!(!is_proved(&c, Some(&proof(Verdict::NotComparable))) && !is_proved(&c, Some(&proof(Verdict::Unchanged))));
    }
}
