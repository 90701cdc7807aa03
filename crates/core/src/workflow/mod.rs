//! Where a case stands: its stations, which of them are done, and what was proved.

pub mod next_action;

use crate::case::Case;
use crate::proof::verify::{Verdict, Verification};
use serde::Serialize;

/// The seven stations of a case, in the order that practitioners work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Station {
    /// What is wrong, on which vehicle.
    Complaint,
    /// Drive and record.
    Road,
    /// Isolate on the lift.
    Lift,
    /// Read numbers.
    Measure,
    /// Weigh and choose.
    Decide,
    /// Put it right.
    Repair,
    /// Hold after against before.
    Prove,
    /// Proved.
    Done,
}

impl Station {
    /// The stations that have a page.
    pub const PAGES: [Station; 7] =
        [Station::Complaint, Station::Road, Station::Lift, Station::Measure, Station::Decide, Station::Repair, Station::Prove];

    /// The word in addresses.
    pub fn id(self) -> &'static str {
        match self {
            Station::Complaint => "complaint",
            Station::Road => "road",
            Station::Lift => "lift",
            Station::Measure => "measure",
            Station::Decide => "decide",
            Station::Repair => "repair",
            Station::Prove => "prove",
            Station::Done => "done",
        }
    }
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Station::Complaint => "Complaint",
            Station::Road => "Road",
            Station::Lift => "Lift",
            Station::Measure => "Measure",
            Station::Decide => "Decide",
            Station::Repair => "Repair",
            Station::Prove => "Prove",
            Station::Done => "Done",
        }
    }
}

/// Whether every symptom's cure was compared: a run after held against the run before, and found cured. What was
/// closed without that was closed by ear.
pub fn is_proved(case: &Case, proof: Option<&Verification>) -> bool {
    let cured = |id: &str| proof.is_some_and(|p| p.symptoms.iter().any(|s| s.id == id && s.verdict == Verdict::Cured));
    !case.symptoms.is_empty() && case.symptoms.iter().all(|s| case.cured_by(&s.id).is_some() && cured(&s.id))
}

/// Whether a station has something in it.
pub fn is_done(case: &Case, station: Station) -> bool {
    let on_lift = |test: &str| crate::reasoning::knowledge::builtin().test(test).is_some_and(|t| t.lift);
    match station {
        Station::Complaint => !case.symptoms.is_empty(),
        Station::Road => case.recordings.iter().any(|r| !r.is_after()) || case.observations.iter().any(|o| !on_lift(&o.test)),
        Station::Lift => case.observations.iter().any(|o| on_lift(&o.test)),
        Station::Measure => !case.measurements.is_empty(),
        Station::Decide => !case.repairs.is_empty(),
        Station::Repair => case.repairs.iter().any(|r| r.result.is_some()),
        Station::Prove | Station::Done => case.repairs.iter().any(|r| r.result.as_deref() == Some("cured")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::rear_drive;
    use serde_json::{Value, json};

    fn case(more: Value) -> Case {
        let mut doc = Case::new_document("t", "t", json!(rear_drive(1)));
        for (k, x) in more.as_object().unwrap() {
            doc[k] = x.clone();
        }
        Case::from_json(&doc).unwrap()
    }

    #[test]
    fn stations_are_done_when_something_is_in_them() {
        let c = case(
            json!({"symptoms": [{"id": "S1", "kind": "clunk"}], "observations": [{"test": "mount-look", "outcome": "sound"}]}),
        );
        assert!(is_done(&c, Station::Complaint) && is_done(&c, Station::Lift));
        assert!(!is_done(&c, Station::Road) && !is_done(&c, Station::Measure) && !is_done(&c, Station::Prove));
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
