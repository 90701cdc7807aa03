//! The fleet of Harrowmere and what is wrong with it: mail, fish, ferry, fire, the airstrip and the pilot boat.

use baricord_core::case::clearance::{ClearanceStatement, Stated};
use baricord_core::case::document::CaseDocument;
use baricord_core::case::{Case, Measurement, Observation, RecordingSpec, Repair, SafetyFinding, State, Symptom};
use baricord_core::error::Problem;
use baricord_core::units::Kilometres;
use baricord_core::vehicle::{Tyre, Vehicle, sample};
use baricord_simulator::{FaultSpec, RunPlan};
use serde::Deserialize;
use std::collections::HashMap;

/// A run of a demo case.
pub struct Run {
    /// Of which symptom.
    pub symptom: &'static str,
    pub phase: &'static str,
    pub gear: Option<&'static str>,
    pub throttle: &'static str,
    pub kmh: (f64, f64),
    /// What the simulator drives, several with a blank between.
    pub fault: &'static str,
    pub seed: u64,
}

impl Run {
    /// The faults that the vehicle has on it.
    pub fn faults(&self) -> Result<Vec<FaultSpec>, Problem> {
        self.fault.split_whitespace().map(str::parse).collect()
    }

    /// How it is driven.
    pub fn plan(&self) -> RunPlan {
        RunPlan {
            gear: self.gear.map(String::from),
            from_kmh: self.kmh.0,
            to_kmh: self.kmh.1,
            load: self.throttle.into(),
            seconds: 75.0,
            seed: self.seed,
            ..RunPlan::default()
        }
    }

    /// How it stands in the case as the run of this number.
    pub fn spec(&self, i: usize) -> RecordingSpec {
        RecordingSpec {
            id: format!("R{}", i + 1),
            symptom: Some(self.symptom.into()),
            phase: Some(self.phase.into()),
            file: format!("recordings/r{}.csv", i + 1),
            gear: self.gear.map(String::from),
            throttle: Some(self.throttle.into()),
            ..RecordingSpec::of_acceleration()
        }
    }
}

/// A case of the demo.
pub struct DemoCase {
    pub title: &'static str,
    pub vehicle: Vehicle,
    pub runs: Vec<Run>,
}

/// What was told, observed and done on a case of the demo.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Told {
    opened: Option<String>,
    distance_km: Option<Kilometres>,
    history: Vec<String>,
    symptoms: Vec<Symptom>,
    observations: Vec<Observation>,
    measurements: Vec<Measurement>,
    repairs: Vec<Repair>,
    found: Vec<SafetyFinding>,
    safety: Vec<ClearanceStatement>,
    state: Option<State>,
}

impl DemoCase {
    /// The case under an id, with its runs.
    pub fn case(&self, id: &str) -> Result<Case, Problem> {
        let mut all: HashMap<String, Told> =
            serde_json::from_str(include_str!("fleet.json")).map_err(|e| Problem::new("bad-demo", e.to_string()))?;
        let told = all.remove(self.title).unwrap_or_default();
        let case = Case {
            demo: true,
            opened: told.opened,
            distance_km: told.distance_km,
            history: told.history,
            symptoms: told.symptoms.into(),
            observations: told.observations.into(),
            measurements: told.measurements.into(),
            repairs: told.repairs.into(),
            found: told.found.into(),
            safety: told.safety.into_iter().map(Stated::Read).collect(),
            state: told.state,
            recordings: (0..self.runs.len()).map(|i| self.runs[i].spec(i)).collect(),
            ..Case::new(id, self.title, self.vehicle.clone())
        };
        // Entries get their ids as those of any file.
        Case::from_json(CaseDocument::new(case).json())
    }
}

fn named(mut v: Vehicle, name: &str, tyre: &str) -> Vehicle {
    v.name = name.into();
    v.tyre = Tyre::of_size(tyre);
    v
}

fn before(gear: Option<&'static str>, kmh: (f64, f64), fault: &'static str, seed: u64) -> Run {
    Run { symptom: "S1", phase: "before", gear, throttle: "drive", kmh, fault, seed }
}

/// The cases, the latest first.
pub fn cases() -> Vec<DemoCase> {
    let mut all = at_hand();
    all.extend(others());
    all
}

fn at_hand() -> Vec<DemoCase> {
    vec![
        DemoCase {
            title: "Mail van 4: hum from the middle",
            vehicle: named(sample::rear_drive(2), "Mail van 4, Whimbrel LWB", "215/70R15"),
            runs: vec![],
        },
        DemoCase {
            title: "Mail van 4: buzz in the seat, 85 to 110",
            vehicle: named(sample::rear_drive(2), "Mail van 4, Whimbrel LWB", "215/70R15"),
            runs: vec![
                before(Some("5"), (45.0, 125.0), "prop-imbalance@prop.rear.s2:0.6", 41),
                before(Some("4"), (45.0, 110.0), "prop-imbalance@prop.rear.s2:0.6", 43),
            ],
        },
        DemoCase {
            title: "Fish lorry: shudder when loaded",
            vehicle: named(sample::rear_drive(2), "Fish lorry, Shelduck 7.5 t", "225/75R16"),
            runs: vec![before(Some("4"), (35.0, 100.0), "joint-angle@prop.rear:0.9", 7)],
        },
        DemoCase {
            title: "Airstrip shuttle: roar from the front",
            vehicle: named(sample::all_wheel_drive(), "Airstrip shuttle, Lapwing", "225/65R17"),
            runs: vec![],
        },
        DemoCase {
            title: "Mail van 2: steering wheel shakes",
            vehicle: named(sample::front_drive(), "Mail van 2, Wagtail", "185/60R14"),
            runs: vec![
                before(Some("5"), (50.0, 130.0), "wheel-imbalance@wheel.fl:0.7", 3),
                Run {
                    symptom: "S1",
                    phase: "after",
                    gear: Some("5"),
                    throttle: "drive",
                    kmh: (50.0, 130.0),
                    fault: "wheel-imbalance@wheel.fl:0.02",
                    seed: 4,
                },
            ],
        },
        DemoCase {
            title: "Ranger's 4x4: thud on engaging",
            vehicle: named(sample::four_wheel_drive(), "Ranger, Curlew 4x4", "235/85R16"),
            runs: vec![],
        },
        DemoCase {
            title: "Pilot boat's pickup: not yet heard",
            vehicle: named(sample::rear_drive_independent(), "Pilot boat pickup, Gannet", "225/70R16"),
            runs: vec![],
        },
    ]
}

fn others() -> Vec<DemoCase> {
    vec![
        DemoCase {
            title: "Harbour runabout: shudders pulling away",
            vehicle: named(sample::electric(), "Harbour runabout, Petrel E", "205/60R16"),
            runs: vec![
                before(Some("1"), (25.0, 100.0), "inner-joint-worn@half.fr.inner:0.9", 21),
                Run { throttle: "coast", ..before(Some("1"), (25.0, 100.0), "inner-joint-worn@half.fr.inner:0.9", 22) },
            ],
        },
        DemoCase {
            title: "Post office car: growl that stayed",
            vehicle: named(sample::variable(), "Post office car, Dipper CVT", "185/60R14"),
            runs: vec![],
        },
        DemoCase {
            title: "Harbour master's Kestrel: hum, and clicks in bends",
            vehicle: named(sample::rear_transaxle(), "Harbour master, Kestrel Coupe", "225/50R17"),
            runs: vec![
                before(Some("4"), (50.0, 125.0), "prop-imbalance@prop.rear.s1:0.8 outer-joint-worn@half.rl.outer:0.7", 31),
                before(Some("5"), (50.0, 130.0), "prop-imbalance@prop.rear.s1:0.8 outer-joint-worn@half.rl.outer:0.7", 33),
            ],
        },
        DemoCase {
            title: "Fire pump: clunk when it moves off",
            vehicle: named(sample::rear_drive(3), "Fire pump, Bittern", "225/75R16"),
            runs: vec![],
        },
        DemoCase {
            title: "Ferry ramp tug: whines when it rolls",
            vehicle: named(sample::rear_drive(1), "Ferry ramp tug, Dotterel", "225/75R16"),
            runs: vec![],
        },
    ]
}
