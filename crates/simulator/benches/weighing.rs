//! How long it takes to weigh a case with everything in it: every layout, 40 observations, next tests and the plan.
//! Times are reported, never asserted.

use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::{diagnose, hypotheses, open_tests};
use baricord_core::vehicle::sample::{all_wheel_drive, every_layout, four_wheel_drive, rear_drive, rear_drive_independent};
use rand::{Rng, SeedableRng};
use serde_json::{Value, json};
use std::hint::black_box;
use std::time::Instant;

const OBSERVATIONS: usize = 40;

fn main() {
    let k = builtin();
    let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(4);
    // Beside every layout, one with more instances than any of them: four driven wheels on half shafts, three sections.
    let most = || {
        let (mut v, three) = (all_wheel_drive(), rear_drive(3));
        v.name = "all of them at once".into();
        v.props[0].sections = three.props[0].sections.clone();
        v.props[0].joints = three.props[0].joints.clone();
        v.transfer = four_wheel_drive().transfer;
        v.engine = rear_drive_independent().engine;
        v
    };
    for v in every_layout().into_iter().chain([most()]) {
        let instances = hypotheses(&v, k).len();
        let mut d = Case::new_document("w", "w", serde_json::to_value(&v).unwrap_or(Value::Null));
        d["symptoms"] = json!([{"id": "S1", "kind": "vibration", "felt": ["seat"], "speed_kmh": {"from": 70, "to": 120}}]);
        // As in a long case: tests of the catalogue one after the other, whatever came out.
        let tests = Case::from_json(&d).map(|c| open_tests(&c, k, "S1")).unwrap_or_default();
        let mut list = vec![];
        for i in 0..OBSERVATIONS {
            let t = &tests[rng.random_range(0..tests.len())];
            let outcome = &t.outcomes[i % t.outcomes.len()];
            list.push(json!({"symptom": "S1", "test": t.test, "at": t.at, "gear": t.gear, "outcome": outcome}));
        }
        d["observations"] = list.into();
        let Ok(case) = Case::from_json(&d) else { continue };
        let mut times: Vec<f64> = (0..40)
            .map(|_| {
                let start = Instant::now();
                black_box(diagnose(&case, k, None));
                1e3 * start.elapsed().as_secs_f64()
            })
            .collect();
        times.sort_by(f64::total_cmp);
        println!(
            "{:<28} {instances:4} instances, {OBSERVATIONS} observations: {:5.1} ms, at most {:5.1}",
            v.name, times[20], times[39]
        );
    }
}
