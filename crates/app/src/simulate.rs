//! `baricord simulate`: a case with recordings of a virtual vehicle.

use crate::output::outln;
use baricord_core::case::Case;
use baricord_core::error::Problem;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::vehicle::Vehicle;
use baricord_formats::{CaseSource, FileSource, write_case, write_csv};
use baricord_simulator::{FaultSpec, KINDS, RunPlan};
use clap::Args;
use serde_json::{Value, json};
use std::path::PathBuf;

/// Options of `simulate`.
#[derive(Args)]
pub struct SimulateArgs {
    /// A case file or its vehicle object.
    #[arg(long, required_unless_present = "list")]
    vehicle: Option<PathBuf>,
    /// ID@PLACE or ID@PLACE:severity; may come several times.
    #[arg(long)]
    fault: Vec<String>,
    /// For chance: the same seed gives the same recording.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Folder, or zip by its name.
    #[arg(long, required_unless_present = "list")]
    out: Option<PathBuf>,
    /// Append to an existing case.
    #[arg(long)]
    add: bool,
    /// Gear by name.
    #[arg(long)]
    gear: Option<String>,
    /// Speed at the start, km/h.
    #[arg(long, default_value_t = 40.0)]
    from: f64,
    /// Speed at the end, km/h.
    #[arg(long, default_value_t = 120.0)]
    to: f64,
    /// drive, coast, float, neutral.
    #[arg(long, default_value = "drive")]
    throttle: String,
    /// before or after.
    #[arg(long, default_value = "before")]
    phase: String,
    /// How long, s.
    #[arg(long, default_value_t = 70.0)]
    seconds: f64,
    /// Where the sensor is.
    #[arg(long, default_value = "seat-rail")]
    place: String,
    /// List the faults that can be simulated and what severity 1 means.
    #[arg(long)]
    list: bool,
}

/// Simulates.
pub fn run(a: SimulateArgs) -> Result<(), Problem> {
    if a.list {
        for k in KINDS {
            outln!("{:22} severity 1 = {} {}", k.id, k.full, k.unit);
        }
        return Ok(());
    }
    let need = |p: &Option<PathBuf>, field: &str| {
        p.clone().ok_or_else(|| Problem::new("missing", format!("--{field} is needed")).field(field))
    };
    let (vehicle_path, out) = (need(&a.vehicle, "vehicle")?, need(&a.out, "out")?);
    if !["before", "after"].contains(&a.phase.as_str()) {
        return Err(Problem::new("unknown-phase", format!("“{}”: before or after", a.phase)).field("phase"));
    }
    if out.exists() && !a.add {
        return Err(Problem::new("exists", format!("{} exists already; --add appends to it", out.display())).field("out"));
    }
    let source = CaseSource::open(&vehicle_path)?;
    let vehicle_doc = source.document.get("vehicle").cloned().unwrap_or(source.document.clone());
    let v = Vehicle::from_json(&vehicle_doc)?;
    let faults: Vec<FaultSpec> = a.fault.iter().map(|f| f.parse()).collect::<Result<_, _>>()?;
    let sound = faults.iter().any(|f| matches!(f.fault.as_str(), "wheel-bearing-worn" | "outer-joint-worn"));
    let gear = a.gear.clone().or_else(|| v.gearbox.gears.last().map(|g| g.name.clone()));
    let plan = RunPlan {
        gear: gear.clone(),
        range: None,
        from_kmh: a.from,
        to_kmh: a.to,
        load: a.throttle.clone(),
        seconds: a.seconds,
        rate_hz: if sound { 4096.0 } else { 400.0 },
        sound,
        rough: 1.0,
        seed: a.seed,
    };
    let (samples, truth) = baricord_simulator::run(&v, &faults, &plan)?;
    let (mut doc, mut files) = if a.add && out.exists() { existing(&out)? } else { (fresh(&a, &vehicle_doc, &faults), vec![]) };
    let list = doc["recordings"].as_array().cloned().unwrap_or_default();
    let id = (1..).map(|i| format!("R{i}")).find(|id| !list.iter().any(|r| r["id"] == id.as_str())).unwrap_or_default();
    let file = format!("recordings/{}.csv", id.to_lowercase());
    let channel = if sound {
        json!({"column": "mic", "quantity": "sound", "unit": "fs"})
    } else {
        json!({"column": "az", "quantity": "acceleration", "unit": "m/s2"})
    };
    let spec = json!({"id": id, "symptom": "S1", "phase": a.phase, "file": file, "gear": gear, "throttle": a.throttle, "place": a.place,
        "time": {"column": "t", "unit": "s"}, "channels": [channel], "speed": {"column": "speed", "unit": "km/h"}, "rpm": null,
        "simulated": {"faults": a.fault, "seed": a.seed, "scale": truth.scale, "lag_s": truth.lag_s}});
    match doc["recordings"].as_array_mut() {
        Some(list) => list.push(spec),
        None => doc["recordings"] = json!([spec]),
    }
    files.push((file, write_csv(&samples, true)?.into_bytes().into()));
    write_case(&out, &doc, &files, a.add)?;
    outln!("{}", out.display());
    Ok(())
}

type Files = Vec<(String, FileSource)>;

fn existing(out: &std::path::Path) -> Result<(Value, Files), Problem> {
    let c = CaseSource::open(out)?;
    let case = Case::from_json(&c.document)?;
    let mut files = vec![];
    for r in &case.recordings {
        for name in std::iter::once(&r.file).chain([&r.speed, &r.rpm].into_iter().flatten().filter_map(|x| x.file.as_ref())) {
            if let Some(file) = c.file(name)? {
                files.push((name.clone(), file));
            }
        }
    }
    Ok((c.document, files))
}

/// A case about the first fault, as a driver would tell it.
fn fresh(a: &SimulateArgs, vehicle: &Value, faults: &[FaultSpec]) -> Value {
    let kind = faults
        .first()
        .and_then(|f| builtin().fault(&f.fault))
        .and_then(|f| f.usual_kinds().first().map(|k| (*k).to_string()))
        .unwrap_or("vibration".into());
    let mut doc = Case::new_document(&format!("simulated-{}", a.seed), &format!("Simulated run {}", a.seed), vehicle.clone());
    doc["symptoms"] = json!([{"id": "S1", "kind": kind, "felt": [], "heard_from": "unknown", "words": "",
        "speed_kmh": {"from": a.from.min(a.to), "to": a.from.max(a.to)}}]);
    doc
}
