//! The repair plan of every fault on every layout: how far its order is from what no order can do without, and what it costs to work out
//! beside a diagnosis of the same case.

use baricord_core::case::{Case, Repair};
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::{diagnose, hypotheses};
use baricord_core::repair::repair_plan::{Aim, repair_plan};
use baricord_core::vehicle::layout::layouts;
use std::time::{Duration, Instant};

fn main() {
    let (mut gaps, mut times, mut diagnoses) = (vec![], vec![], Duration::ZERO);
    let (mut steps, mut worst) = (0, (0.0, String::new()));
    for l in layouts() {
        let all = hypotheses(&l.vehicle, builtin());
        let single = all.iter().filter(|h| !h.is_pair() && !h.is_unknown());
        for h in single {
            let mut case = Case::new("c", "Case", l.vehicle.clone());
            let at = Some(h.at.clone());
            case.repairs.push_back(Repair { fault: h.fault.clone(), at, gear: h.gear.clone(), ..Repair::default() });
            let start = Instant::now();
            let p = repair_plan(&case, builtin(), Aim::Repair);
            times.push(start.elapsed());
            steps = steps.max(p.steps.len());
            let gap = p.schedule.cost / p.schedule.bound - 1.0;
            gaps.push(gap);
            if gap > worst.0 {
                worst = (gap, format!("{}@{} on {}, {} steps", h.fault, h.at, l.id, p.steps.len()));
            }
        }
        let case = Case::new("c", "Case", l.vehicle.clone());
        let start = Instant::now();
        std::hint::black_box(diagnose(&case, builtin(), None));
        diagnoses += start.elapsed();
    }
    gaps.sort_by(f64::total_cmp);
    times.sort();
    let exact = gaps.iter().filter(|g| **g < 1e-6).count();
    let mean = times.iter().sum::<Duration>().as_secs_f64() / times.len() as f64;
    println!(
        "repair plans: {} of up to {steps} steps; {exact} at their bound ({:.0} %), 95 % within {:.1} %, worst {:.1} %: {}",
        gaps.len(),
        100.0 * exact as f64 / gaps.len() as f64,
        100.0 * gaps[gaps.len() * 95 / 100],
        100.0 * worst.0,
        worst.1
    );
    println!(
        "with their other ways: mean {:.1} ms, median {:.1} ms, longest {:.0} ms; {:.2} times a diagnosis without evidence",
        mean * 1e3,
        times[times.len() / 2].as_secs_f64() * 1e3,
        times[times.len() - 1].as_secs_f64() * 1e3,
        mean / (diagnoses.as_secs_f64() / layouts().len() as f64)
    );
}
