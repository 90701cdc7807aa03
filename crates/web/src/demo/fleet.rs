//! The fleet of Harrowmere and what is wrong with it: mail, fish, ferry, fire, the airstrip and the pilot boat.

use baricord_core::error::Problem;
use baricord_core::vehicle::{Tyre, Vehicle, sample};
use baricord_simulator::{FaultSpec, RunPlan};
use serde_json::{Value, json};

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

    /// Its file, and how it stands in the case as the run of this number.
    pub fn spec(&self, i: usize) -> (String, Value) {
        let file = format!("recordings/r{}.csv", i + 1);
        let spec = json!({"id": format!("R{}", i + 1), "symptom": self.symptom, "phase": self.phase, "file": file, "gear": self.gear,
            "throttle": self.throttle, "place": "seat-rail", "time": {"column": "t", "unit": "s"},
            "channels": [{"column": "az", "quantity": "acceleration", "unit": "m/s2"}],
            "speed": {"column": "speed", "unit": "km/h"}, "rpm": null});
        (file, spec)
    }
}

/// A case of the demo.
pub struct DemoCase {
    pub title: &'static str,
    pub vehicle: Vehicle,
    /// What its document holds beside the vehicle.
    pub more: Value,
    pub runs: Vec<Run>,
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
            more: json!({
                "history": ["water-crossing"], "opened": "2026-03-02", "distance_km": 128_900,
                "symptoms": [{"id": "S1", "kind": "growl", "felt": ["floor"], "heard_from": "centre",
                    "speed_kmh": {"from": 40, "peak": 70, "to": 110}, "words": "hums under the floor since the flood"}],
                "observations": [{"symptom": "S1", "test": "support-bearing-look", "at": "prop.rear.sb1", "outcome": "sagging"}],
                "repairs": [{"symptom": "S1", "fault": "support-bearing-worn", "at": "prop.rear.sb1", "result": "cured", "part": "copy"}]}),
            runs: vec![],
        },
        DemoCase {
            title: "Mail van 4: buzz in the seat, 85 to 110",
            vehicle: named(sample::rear_drive(2), "Mail van 4, Whimbrel LWB", "215/70R15"),
            more: json!({
                "history": [], "opened": "2026-11-23", "distance_km": 141_300,
                "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["seat"], "heard_from": "centre",
                    "speed_kmh": {"from": 85, "peak": 100, "to": 110}, "words": "buzz in the seat"}],
                "observations": [{"symptom": "S1", "test": "neutral-coast", "outcome": "persists"},
                    {"symptom": "S1", "test": "other-gear-same-speed", "outcome": "same"},
                    {"symptom": "S1", "test": "support-bearing-look", "at": "prop.rear.sb1", "outcome": "firm"}]}),
            runs: vec![
                before(Some("5"), (45.0, 125.0), "prop-imbalance@prop.rear.s2:0.6", 41),
                before(Some("4"), (45.0, 110.0), "prop-imbalance@prop.rear.s2:0.6", 43),
            ],
        },
        DemoCase {
            title: "Fish lorry: shudder when loaded",
            vehicle: named(sample::rear_drive(2), "Fish lorry, Shelduck 7.5 t", "225/75R16"),
            more: json!({
                "history": ["lowered"],
                "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["floor", "seat"], "heard_from": "rear",
                    "speed_kmh": {"from": 50, "peak": 75, "to": 95}, "words": "shudder when loaded"}],
                "observations": [{"symptom": "S1", "test": "joint-wiggle", "at": "prop.rear.j2", "outcome": "none"}],
                "measurements": [{"kind": "angles", "at": "prop.rear", "input": {"elements": [
                    {"name": "gearbox", "side_deg": 4.0}, {"name": "front section", "side_deg": 0.5},
                    {"name": "rear section", "side_deg": 5.9}, {"name": "pinion", "side_deg": 3.0}],
                    "joints": ["cross", "cross", "cross"], "phase_deg": [0, 0], "rpm": 3600}}]}),
            runs: vec![before(Some("4"), (35.0, 100.0), "joint-angle@prop.rear:0.9", 7)],
        },
        DemoCase {
            title: "Airstrip shuttle: roar from the front",
            vehicle: named(sample::all_wheel_drive(), "Airstrip shuttle, Lapwing", "225/65R17"),
            more: json!({
                "symptoms": [{"id": "S1", "kind": "growl", "felt": [], "heard_from": "fl",
                    "speed_kmh": {"from": 40, "peak": 85, "to": 110}, "words": "roar from the front"}]}),
            runs: vec![],
        },
        DemoCase {
            title: "Mail van 2: steering wheel shakes",
            vehicle: named(sample::front_drive(), "Mail van 2, Wagtail", "185/60R14"),
            more: json!({
                "history": ["tyres-changed"],
                "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["steering-wheel"], "heard_from": "front",
                    "speed_kmh": {"from": 80, "peak": 105, "to": 125}, "words": "the wheel shakes in my hands"}],
                "observations": [{"symptom": "S1", "test": "wheel-swap-retest", "at": "wheel.fl", "outcome": "moves"}],
                "repairs": [{"symptom": "S1", "fault": "wheel-imbalance", "at": "wheel.fl", "result": "open"}]}),
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
            more: json!({
                "history": ["water-crossing"],
                "symptoms": [{"id": "S1", "kind": "clunk", "felt": [], "heard_from": "centre", "words": "thud when I take it into drive"}],
                "observations": [{"symptom": "S1", "test": "engage", "outcome": "clunk"},
                    {"symptom": "S1", "test": "joint-wiggle", "at": "prop.rear.j1", "outcome": "none"},
                    {"symptom": "S1", "test": "joint-wiggle", "at": "prop.rear.j2", "outcome": "none"}],
                "state": {"on": "lift", "off": []}}),
            runs: vec![],
        },
        DemoCase {
            title: "Pilot boat's pickup: not yet heard",
            vehicle: named(sample::rear_drive_independent(), "Pilot boat pickup, Gannet", "225/70R16"),
            more: json!({}),
            runs: vec![],
        },
    ]
}

fn others() -> Vec<DemoCase> {
    vec![
        DemoCase {
            title: "Harbour runabout: shudders pulling away",
            vehicle: named(sample::electric(), "Harbour runabout, Petrel E", "205/60R16"),
            more: json!({
                "opened": "2026-11-24", "distance_km": 58_200, "history": [],
                "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["floor", "steering-wheel"], "heard_from": "front",
                    "speed_kmh": {"from": 35, "peak": 60, "to": 90}, "words": "shudders when I pull away hard, gone when I lift off"}],
                "observations": [{"symptom": "S1", "test": "drive-coast-float", "outcome": "drive"},
                    {"symptom": "S1", "test": "boot-look", "at": "half.fl", "outcome": "sound"},
                    {"symptom": "S1", "test": "boot-look", "at": "half.fr", "outcome": "clamp-loose"}],
                "found": [{"what": "wash water in the charge socket's drain", "by": "Tove Lind"}]}),
            runs: vec![
                before(Some("1"), (25.0, 100.0), "inner-joint-worn@half.fr.inner:0.9", 21),
                Run { throttle: "coast", ..before(Some("1"), (25.0, 100.0), "inner-joint-worn@half.fr.inner:0.9", 22) },
            ],
        },
        DemoCase {
            title: "Post office car: growl that stayed",
            vehicle: named(sample::variable(), "Post office car, Dipper CVT", "185/60R14"),
            more: json!({
                "opened": "2026-11-16", "distance_km": 96_700, "history": ["kerb-strike"],
                "symptoms": [{"id": "S1", "kind": "growl", "felt": [], "heard_from": "front",
                    "speed_kmh": {"from": 40, "peak": 80, "to": 110}, "words": "growls from the front, still there after the new bearing"}],
                "observations": [{"symptom": "S1", "test": "neutral-coast", "outcome": "persists"},
                    {"symptom": "S1", "test": "turn", "outcome": "left"},
                    {"symptom": "S1", "test": "spin-by-hand", "at": "hub.fl", "outcome": "smooth", "note": "spun with the brake just touching"}],
                "repairs": [{"symptom": "S1", "fault": "wheel-bearing-worn", "at": "hub.fl", "result": "not-cured", "part": "copy"}]}),
            runs: vec![],
        },
        DemoCase {
            title: "Harbour master's Kestrel: hum, and clicks in bends",
            vehicle: named(sample::rear_transaxle(), "Harbour master, Kestrel Coupe", "225/50R17"),
            more: json!({
                "opened": "2026-11-20", "distance_km": 118_400, "history": [],
                "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["seat", "floor"], "heard_from": "centre",
                    "speed_kmh": {"from": 70, "peak": 100, "to": 130}, "words": "a buzz that goes with the engine, in every gear"},
                    {"id": "S2", "kind": "click", "felt": [], "heard_from": "rl", "words": "clicks when I turn tight out of the yard"}],
                "observations": [{"symptom": "S1", "test": "other-gear-same-speed", "outcome": "changes-with-rpm"},
                    {"symptom": "S1", "test": "standstill-rev", "outcome": "absent"},
                    {"symptom": "S2", "test": "turn", "outcome": "right"},
                    {"symptom": "S2", "test": "boot-look", "at": "half.rl", "outcome": "torn"}],
                "safety": [{"drive": "limited", "reason": "an outer joint that runs dry can break", "km": 20, "kmh": 60, "by": "Maren Holt"}]}),
            runs: vec![
                before(Some("4"), (50.0, 125.0), "prop-imbalance@prop.rear.s1:0.8 outer-joint-worn@half.rl.outer:0.7", 31),
                before(Some("5"), (50.0, 130.0), "prop-imbalance@prop.rear.s1:0.8 outer-joint-worn@half.rl.outer:0.7", 33),
            ],
        },
        DemoCase {
            title: "Fire pump: clunk when it moves off",
            vehicle: named(sample::rear_drive(3), "Fire pump, Bittern", "225/75R16"),
            more: json!({
                "opened": "2026-10-30", "distance_km": 41_900, "history": [],
                "symptoms": [{"id": "S1", "kind": "clunk", "felt": ["floor"], "heard_from": "centre", "words": "one clunk each time it moves off"}],
                "observations": [{"symptom": "S1", "test": "engage", "outcome": "clunk"},
                    {"symptom": "S1", "test": "joint-wiggle", "at": "prop.rear.j3", "outcome": "play"}],
                "repairs": [{"symptom": "S1", "fault": "joint-worn", "at": "prop.rear.j3", "result": "cured", "part": "original"}]}),
            runs: vec![],
        },
        DemoCase {
            title: "Ferry ramp tug: whines when it rolls",
            vehicle: named(sample::rear_drive(1), "Ferry ramp tug, Dotterel", "225/75R16"),
            more: json!({
                "opened": "2026-11-25", "distance_km": 23_100, "history": [],
                "symptoms": [{"id": "S1", "kind": "whine", "felt": [], "heard_from": "rear",
                    "speed_kmh": {"from": 25, "peak": 45, "to": 70}, "words": "whines when I lift off on the ramp road"}],
                "observations": [{"symptom": "S1", "test": "drive-coast-float", "outcome": "coast"},
                    {"symptom": "S1", "test": "oil-look", "at": "diff.rear", "outcome": "steel"},
                    {"symptom": "S1", "test": "pinion-shake", "at": "diff.rear", "outcome": "play"}],
                "state": {"on": "lift", "off": []},
                "safety": [{"drive": "no", "reason": "the pinion moves in its housing: it can seize", "by": "Maren Holt"}]}),
            runs: vec![],
        },
    ]
}
