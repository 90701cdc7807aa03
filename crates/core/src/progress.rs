//! Where a case stands: which stations are done, and what it waits for.

use crate::case::Case;
use crate::verify::{Verdict, Verification};
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

/// What a case waits for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Waiting {
    /// At which station.
    pub station: Station,
    /// In a few words.
    pub words: String,
}

impl Waiting {
    /// In a few words on the board, where a vehicle that is not to be driven must be seen before its case is opened.
    pub fn on_the_board(&self, case: &Case) -> String {
        if case.grounded { format!("not to be driven; {}", self.words) } else { self.words.clone() }
    }
}

/// Whether every symptom's cure was compared: a run after held against the run before, and found cured. What was
/// closed without that was closed by ear.
pub fn is_proved(case: &Case, proof: Option<&Verification>) -> bool {
    let cured = |id: &str| proof.is_some_and(|p| p.symptoms.iter().any(|s| s.id == id && s.verdict == Verdict::Cured));
    !case.symptoms.is_empty() && case.symptoms.iter().all(|s| case.cured_by(&s.id).is_some() && cured(&s.id))
}

/// What a case waits for next.
pub fn waiting(case: &Case, proof: Option<&Verification>) -> Waiting {
    let at = |station, words: &str| Waiting { station, words: words.into() };
    if case.symptoms.is_empty() {
        return at(Station::Complaint, "a symptom in the driver's words");
    }
    let open = case.repairs.iter().rev().find(|r| matches!(r.result.as_deref(), None | Some("open")));
    if let Some(last) = case.repairs.last() {
        match last.result.as_deref() {
            Some("cured") => {
                return match case.symptoms.iter().find(|s| case.cured_by(&s.id).is_none()) {
                    None if is_proved(case, proof) => at(Station::Done, "cured and proved; hand it back"),
                    None => at(Station::Done, "closed by ear; hand it back"),
                    Some(s) => Waiting { station: Station::Decide, words: format!("{} is still open", s.id) },
                };
            }
            Some("not-cured") => return at(Station::Decide, "not cured: weigh again"),
            Some("improved") => return at(Station::Decide, "better, not gone: trace what is left"),
            _ => {}
        }
    }
    if let Some(r) = open {
        // The run after is judged for every symptom that it can be held against.
        let after = case.recordings.iter().any(|r| r.is_after() && case.is_weighed(r));
        let judged = proof.is_some_and(|p| p.symptoms.iter().any(|s| s.verdict != Verdict::NotComparable));
        return match (after, r.result.as_deref()) {
            (true, _) if judged => at(Station::Prove, "the verdict: keep it or go back"),
            (true, _) => at(Station::Prove, "a run that can be compared"),
            (false, Some("open")) if case.grounded => {
                at(Station::Prove, "somebody's word that it may be driven, then the run after")
            }
            (false, Some("open")) => at(Station::Prove, "the run after"),
            (false, _) => at(Station::Repair, "the repair to be done"),
        };
    }
    if case.recordings.is_empty() && case.observations.is_empty() && case.measurements.is_empty() {
        if case.grounded {
            return at(Station::Lift, "a look on the lift: it is not to be driven");
        }
        let unheard = case.symptoms.iter().any(crate::intake::is_unheard);
        return at(Station::Road, if unheard { "to be heard again: see its plan" } else { "a first drive" });
    }
    at(Station::Decide, "the next test, or a decision")
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
    fn a_case_waits_for_one_station_after_the_other() {
        let symptom = json!([{"id": "S1", "kind": "vibration"}]);
        let station = |more: Value| waiting(&case(more), None).station;
        assert_eq!(station(json!({})), Station::Complaint);
        assert_eq!(station(json!({"symptoms": symptom})), Station::Road);
        let no = json!([{"drive": "no", "reason": "joint binds", "by": "Maren"}]);
        let grounded = case(json!({"symptoms": symptom, "safety": no}));
        let waits = waiting(&grounded, None);
        assert_eq!(waits.station, Station::Lift, "it is not to be driven");
        assert!(waits.on_the_board(&grounded).starts_with("not to be driven; "));
        let seen = json!([{"test": "engage", "outcome": "none"}]);
        assert_eq!(station(json!({"symptoms": symptom, "observations": seen})), Station::Decide);
        let repair = |result: Value| json!({"symptoms": symptom, "repairs": [{"fault": "joint-worn", "at": "prop.rear.j1", "result": result}]});
        assert_eq!(station(repair(Value::Null)), Station::Repair);
        assert_eq!(station(repair(json!("open"))), Station::Prove);
        assert_eq!(station(repair(json!("not-cured"))), Station::Decide);
        assert_eq!(station(repair(json!("cured"))), Station::Done);
        let two = json!({"symptoms": [{"id": "S1", "kind": "vibration"}, {"id": "S2", "kind": "leak"}],
            "repairs": [{"fault": "joint-worn", "at": "prop.rear.j1", "symptom": "S1", "result": "cured"}]});
        assert_eq!(waiting(&case(two), None).words, "S2 is still open");
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
            symptoms: vec![crate::verify::SymptomVerdict {
                id: "S1".into(),
                verdict,
                comparable: true,
                reasons: vec![],
                orders: vec![],
                new_orders: vec![],
            }],
            ..Verification::default()
        };
        assert_eq!(waiting(&c, None).words, "closed by ear; hand it back");
        assert_eq!(waiting(&c, Some(&proof(Verdict::NotComparable))).words, "closed by ear; hand it back");
        assert_eq!(waiting(&c, Some(&proof(Verdict::Unchanged))).words, "closed by ear; hand it back");
        assert_eq!(waiting(&c, Some(&proof(Verdict::Cured))).words, "cured and proved; hand it back");
    }
}
