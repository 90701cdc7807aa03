//! The stations of a case: the pages that a case passes through, in the order that practitioners work. [`Station::facts`] is the
//! registry; the page of each stands in `web`, `stations/`.

use crate::case::Case;
use serde::{Deserialize, Serialize};

/// A station of a case.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
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

/// What is known of a station.
pub struct StationFacts {
    /// The word in addresses.
    pub id: &'static str,
    /// What it is called.
    pub words: &'static str,
    /// What a case that stands there waits for.
    pub waits_for: &'static str,
    /// Whether a case has something in it.
    pub is_done: fn(&Case) -> bool,
}

impl Station {
    /// The stations that have a page.
    pub const PAGES: [Station; 7] =
        [Station::Complaint, Station::Road, Station::Lift, Station::Measure, Station::Decide, Station::Repair, Station::Prove];

    /// Everything that is known of it.
    pub fn facts(self) -> StationFacts {
        let facts = |id, words, waits_for, is_done| StationFacts { id, words, waits_for, is_done };
        match self {
            Station::Complaint => facts("complaint", "Complaint", "waits for the driver's words", |c| !c.symptoms.is_empty()),
            Station::Road => facts("road", "Road", "waits for a drive", |c| {
                c.recordings.iter().any(|r| !r.is_after()) || c.observations.iter().any(|o| !is_on_the_lift(&o.test))
            }),
            Station::Lift => {
                facts("lift", "Lift", "waits for the lift", |c| c.observations.iter().any(|o| is_on_the_lift(&o.test)))
            }
            Station::Measure => facts("measure", "Measure", "waits for a reading", |c| !c.measurements.is_empty()),
            Station::Decide => facts("decide", "Decide", "waits for a decision", |c| !c.repairs.is_empty()),
            Station::Repair => {
                facts("repair", "Repair", "waits for the repair", |c| c.repairs.iter().any(|r| r.result.is_some()))
            }
            Station::Prove => facts("prove", "Prove", "waits for proof", is_cured),
            Station::Done => facts("done", "Done", "closed", is_cured),
        }
    }

    /// The word in addresses.
    pub fn id(self) -> &'static str {
        self.facts().id
    }

    /// Whether a case has something in it.
    pub fn is_done(self, case: &Case) -> bool {
        (self.facts().is_done)(case)
    }
}

fn is_on_the_lift(test: &str) -> bool {
    crate::reasoning::knowledge::builtin().test(test).is_some_and(|t| t.lift)
}

fn is_cured(case: &Case) -> bool {
    case.repairs.iter().any(|r| r.result.as_deref() == Some("cured"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample::case_with_symptom;
    use crate::vehicle::sample::rear_drive;
    use serde_json::json;

    #[test]
    fn stations_are_done_when_something_is_in_them() {
        let seen = json!([{"test": "mount-look", "outcome": "sound"}]);
        let c = case_with_symptom(rear_drive(1), "clunk", json!({"observations": seen}));
        let done: Vec<&str> = Station::PAGES.into_iter().filter(|s| s.is_done(&c)).map(Station::id).collect();
        assert_eq!(done, ["complaint", "lift"]);
    }
}
