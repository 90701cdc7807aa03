//! The demo workshop: the fleet of the ferry island Harrowmere. Recordings are made by the simulator
//! when it is loaded.

use baricord_core::case::Case;
use baricord_core::life::Change;
use baricord_core::units::Kilometres;
use baricord_core::vehicle::{Tyre, Vehicle, sample};
use baricord_formats::{FileSource, write_csv};
use baricord_simulator::{FaultSpec, RunPlan, run};
use baricord_store::people::Role;
use baricord_store::{Store, StoreError};
use serde_json::{Value, json};

/// The sample sign-in.
pub const EMAIL: &str = "maren@harrowmere.example";
/// Its password.
pub const PASSWORD: &str = "driveline";

struct Run {
    phase: &'static str,
    gear: Option<&'static str>,
    throttle: &'static str,
    kmh: (f64, f64),
    fault: &'static str,
    seed: u64,
}

struct DemoCase {
    title: &'static str,
    vehicle: Vehicle,
    more: Value,
    runs: Vec<Run>,
}

fn named(mut v: Vehicle, name: &str, tyre: &str) -> Vehicle {
    v.name = name.into();
    v.tyre = Tyre::of_size(tyre);
    v
}

fn before(gear: Option<&'static str>, kmh: (f64, f64), fault: &'static str, seed: u64) -> Run {
    Run { phase: "before", gear, throttle: "drive", kmh, fault, seed }
}

fn cases() -> Vec<DemoCase> {
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

fn broken(e: &dyn std::fmt::Display) -> StoreError {
    StoreError::Broken(e.to_string())
}

/// Loads the demo workshop into an empty database.
pub async fn load(store: &Store) -> Result<(), StoreError> {
    let id = store.add_workshop("Harrowmere fleet workshop").await?;
    let mut s = store.scope(id).await?;
    s.add_person(EMAIL, "Maren Holt", Role::Owner, PASSWORD).await?;
    s.add_person("tove@harrowmere.example", "Tove Lind", Role::Mechanic, PASSWORD).await?;
    s.add_person("look@harrowmere.example", "Harbour office", Role::Viewer, PASSWORD).await?;
    for (n, c) in cases().into_iter().enumerate().rev() {
        let mut doc = Case::new_document(&format!("harrowmere-{}", n + 1), c.title, json!(c.vehicle));
        for (k, v) in c.more.as_object().into_iter().flatten() {
            doc[k] = v.clone();
        }
        let mut files = vec![];
        for (i, r) in c.runs.iter().enumerate() {
            let fault: FaultSpec = r.fault.parse()?;
            let plan = RunPlan {
                gear: r.gear.map(String::from),
                from_kmh: r.kmh.0,
                to_kmh: r.kmh.1,
                load: r.throttle.into(),
                seconds: 75.0,
                seed: r.seed,
                ..RunPlan::default()
            };
            let v = c.vehicle.clone();
            let csv = tokio::task::spawn_blocking(move || run(&v, &[fault], &plan).and_then(|(s, _)| write_csv(&s, true)))
                .await
                .map_err(|e| broken(&e))??;
            let name = format!("recordings/r{}.csv", i + 1);
            super::stations::fields::append(
                &mut doc,
                "recordings",
                json!({"id": format!("R{}", i + 1), "symptom": "S1", "phase": r.phase, "file": name, "gear": r.gear, "throttle": r.throttle,
                    "place": "seat-rail", "time": {"column": "t", "unit": "s"},
                    "channels": [{"column": "az", "quantity": "acceleration", "unit": "m/s2"}],
                    "speed": {"column": "speed", "unit": "km/h"}, "rpm": null}),
            );
            files.push((name, FileSource::from(csv.into_bytes())));
        }
        let case = s.add_case(doc, "opened the case", "Maren Holt").await?;
        for (name, csv) in files.iter() {
            s.put_file(case, name, csv).await?;
        }
        if !files.is_empty() {
            s.ask_for_analysis(case).await?;
        }
    }
    for v in s.vehicles(100).await? {
        for c in changes().into_iter().filter(|c| v.name.starts_with(c.0)) {
            s.note_change(v.id, c.1).await?;
        }
    }
    s.commit().await
}

/// What was changed on the vehicles of the demo between cases, each by the beginning of its name.
fn changes() -> Vec<(&'static str, Change)> {
    let change = |on: &str, km: f64, kind: &str, words: &str, origin: Option<&str>| Change {
        on: on.into(),
        distance_km: Some(Kilometres(km)),
        kind: kind.into(),
        words: words.into(),
        origin: origin.map(String::from),
    };
    vec![
        ("Mail van 4", change("2026-10-12", 139_800.0, "shaft-changed", "rear section from the wreck at Skerry", Some("used"))),
        ("Mail van 4", change("2026-06-18", 133_000.0, "part", "oil of gearbox and final drive", None)),
        ("Fish lorry", change("2026-08-30", 212_400.0, "lowered", "a leaf less in each rear spring", None)),
        ("Pilot boat", change("2026-09-05", 61_000.0, "towing", "pulls the pilot boat up the slip, twice a week", None)),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_demo_case_reads_and_can_be_simulated() {
        for c in cases() {
            let mut doc = Case::new_document("x", c.title, json!(c.vehicle));
            for (k, v) in c.more.as_object().unwrap() {
                doc[k] = v.clone();
            }
            let case = Case::from_json(&doc).unwrap();
            let d = baricord_core::reasoning::diagnose(&case, baricord_core::reasoning::knowledge::builtin(), None);
            assert!(d.warnings.is_empty(), "{}: {:?}", c.title, d.warnings);
            for r in &c.runs {
                r.fault.parse::<FaultSpec>().unwrap();
            }
        }
    }
}
