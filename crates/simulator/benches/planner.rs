//! The correction planner: how long it takes over at least 100 000 settings, and how much less than a plain loop over the whole sum.

use baricord_core::error::read_json;
use baricord_core::measure::angle_plan::{AnglePlanInput, angle_plan};
use baricord_core::measure::angles::{AnglesInput, angles};
use serde_json::json;
use std::time::Instant;

fn main() {
    let input: AnglePlanInput = read_json(&json!({
        "elements": [{"side_deg": 4}, {"side_deg": 1}, {"side_deg": 5.5}, {"side_deg": 3}], "joints": ["cross", "cross", "cross"], "rpm": 3600,
        "lengths_mm": [640, 1180], "adjusters": [
            {"kind": "pinion-wedge", "from": -4, "to": 4, "step": 0.25, "arm_mm": 150},
            {"kind": "gearbox-mount", "from": -10, "to": 10, "step": 1, "pivot_mm": 520},
            {"kind": "support-bearing", "joint": 1, "from": -12, "to": 12, "step": 1},
            {"kind": "ride-height", "from": -30, "to": 30, "step": 10, "deg_per_mm": -0.01}]}))
    .expect("an input");
    let settings = 33 * 21 * 25 * 7;
    let start = Instant::now();
    let found = angle_plan(&input).expect("plans");
    let planner = start.elapsed();
    // The sum alone, as often, on one core.
    let shaft: AnglesInput = input.shaft.clone();
    let start = Instant::now();
    let mut broken = 0;
    for _ in 0..settings / 20 {
        broken += angles(std::hint::black_box(&shaft)).expect("angles").broken();
    }
    let plain = start.elapsed() * 20;
    std::hint::black_box(broken);
    println!(
        "planner: {settings} settings in {:.0} ms, {:.1} times less than the whole sum for each; best {} limits broken (today {}), residual {:.3}°",
        planner.as_secs_f64() * 1e3,
        plain.as_secs_f64() / planner.as_secs_f64(),
        found.plans[0].broken,
        found.today.broken,
        found.plans[0].residual_deg.get()
    );
}
