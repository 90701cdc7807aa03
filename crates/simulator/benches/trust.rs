//! Whether an order that is named can be relied on: random vehicles, faults, noise, lag and scale; what
//! is found held against what was there, and how often the 95 % intervals hold the truth.

use baricord_core::analysis::{RecordingAnalysis, Silent};
use baricord_core::case::RecordingSpec;
use baricord_core::reasoning::attribution::analyze;
use baricord_core::reasoning::hypotheses;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::signal::felt;
use baricord_core::units::{Hz, Ms2};
use baricord_core::vehicle::{Vehicle, sample::every_layout};
use baricord_simulator::{FaultSpec, KINDS, RunPlan, Truth, run};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;

/// How often something held, of how many.
#[derive(Clone, Copy, Default)]
struct Share(u32, u32);

impl Share {
    fn add(&mut self, yes: bool) {
        *self = Share(self.0 + u32::from(yes), self.1 + 1);
    }
    fn join(self, o: Self) -> Self {
        Share(self.0 + o.0, self.1 + o.1)
    }
    fn told(self) -> String {
        format!("{:5.1} % ({} of {})", 100.0 * f64::from(self.0) / f64::from(self.1.max(1)), self.0, self.1)
    }
}

#[derive(Clone, Copy, Default)]
struct Trust {
    recall: Share,
    /// The same of those that can be felt.
    felt: Share,
    precision: Share,
    rhythms: Share,
    order: Share,
    level: Share,
    lag: Share,
    scale: Share,
    beats: Share,
    alone: Share,
}

/// A vehicle of some layout with teeth, gears and tyre of its own.
fn vehicle(rng: &mut ChaCha8Rng, seed: u64) -> Vehicle {
    let all = every_layout();
    let mut v = all[rng.random_range(0..all.len())].clone();
    v.name = format!("{} {seed}", v.name);
    for a in v.axles.iter_mut().filter(|a| a.driven && a.ring_teeth.is_some()) {
        a.pinion_teeth = Some(rng.random_range(9..14));
        a.ring_teeth = Some(rng.random_range(35..48));
    }
    // Both axles of a four-wheel drive turn alike.
    if let Some((r, p)) = v.axles.iter().find(|a| a.driven).map(|a| (a.ring_teeth, a.pinion_teeth)) {
        v.axles.iter_mut().filter(|a| a.driven && a.ring_teeth.is_some()).for_each(|a| (a.ring_teeth, a.pinion_teeth) = (r, p));
    }
    for g in v.gearbox.gears.iter_mut() {
        g.ratio *= rng.random_range(0.93..1.07);
    }
    v
}

fn one(seed: u64) -> Trust {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let v = vehicle(&mut rng, seed);
    let may: Vec<FaultSpec> = hypotheses(&v, builtin())
        .iter()
        .filter(|h| KINDS.iter().any(|k| k.id == h.fault))
        .map(|h| FaultSpec { fault: h.fault.clone(), at: h.at.clone(), severity: 0.5 })
        .collect();
    // A bearing whose geometry is not known makes no rhythm of its own: another fault then.
    loop {
        let mut fault = may[rng.random_range(0..may.len())].clone();
        fault.severity = rng.random_range(0.35..0.95);
        if let Some(t) = drive(&v, &fault, seed, &mut rng) {
            return t;
        }
    }
}

fn drive(v: &Vehicle, fault: &FaultSpec, seed: u64, rng: &mut ChaCha8Rng) -> Option<Trust> {
    let sound = matches!(fault.fault.as_str(), "wheel-bearing-worn" | "outer-joint-worn");
    let gear = v.gearbox.gears.last().map(|g| g.name.clone());
    let plan = RunPlan {
        gear: gear.clone(),
        from_kmh: rng.random_range(35.0..55.0),
        to_kmh: rng.random_range(105.0..130.0),
        seconds: rng.random_range(60.0..110.0),
        rate_hz: if sound { 4096.0 } else { 400.0 },
        sound,
        seed,
        ..RunPlan::default()
    };
    let (samples, truth) = run(v, std::slice::from_ref(fault), &plan).ok()?;
    let spec: RecordingSpec =
        serde_json::from_value(serde_json::json!({"id": "R1", "gear": gear, "throttle": "drive"})).expect("a spec");
    let a = analyze(v, &[(spec, samples)], &Silent).expect("an analysis");
    Some(held(&a.recordings[0], &truth, v, fault))
}

fn held(r: &RecordingAnalysis, truth: &Truth, v: &Vehicle, fault: &FaultSpec) -> Trust {
    let mut t = Trust::default();
    let found: Vec<(f64, f64)> =
        r.orders.iter().filter_map(|o| Some((o.wheel_order(r.engine_per_wheel)?, o.order_sigma))).collect();
    let near = |a: f64, b: f64, sigma: f64| (a - b).abs() <= (4.0 * sigma).max(0.015 * b).max(0.03);
    let is_there = |w: f64, sigma: f64| {
        truth.tones.iter().any(|x| near(w, x.order, sigma))
            || truth.rhythms.iter().any(|x| near(w, (w / x).round().max(1.0) * x, sigma))
    };
    for &(w, sigma) in found.iter().take(5) {
        t.precision.add(is_there(w, sigma));
    }
    for b in &r.beats {
        let apart = |x: f64, y: f64| ((x - y).abs() - b.gap).abs() < 0.1 * b.gap;
        t.beats.add(truth.tones.iter().any(|x| truth.tones.iter().any(|y| apart(x.order, y.order))));
    }
    t.alone.add(r.beats.is_empty());
    // The fault's own line is the strongest of its order: what was asked to be there.
    let own: Vec<f64> = {
        let ladder = baricord_core::measure::orders::orders(v, None).unwrap_or_default();
        let all = hypotheses(v, builtin());
        let h = all.iter().find(|h| h.fault == fault.fault && h.at == fault.at);
        h.map(|h| baricord_core::reasoning::predicted(builtin(), h, &ladder))
            .unwrap_or_default()
            .iter()
            .filter_map(|p| p.line.wheel_order(r.engine_per_wheel.map(baricord_core::units::Order)).map(|o| o.get()))
            .take(1)
            .collect()
    };
    if truth.rhythms.is_empty() {
        for o in own {
            let is_found = found.iter().any(|f| near(f.0, o, f.1));
            t.recall.add(is_found);
            let hz_per_kmh = v.circumference().map_or(0.0, |c| truth.scale / 3.6 / c.get());
            let own = truth.tones.iter().filter(|x| (x.order - o).abs() < 0.01 * o).flat_map(|x| &x.levels);
            if own.into_iter().any(|(kmh, a)| felt(Ms2(*a), Hz(o * kmh * hz_per_kmh)) > 1.0) {
                t.felt.add(is_found);
            } else if !is_found && std::env::var("BARICORD_TELL").is_ok() {
                println!("missed {}@{} {:.2}", fault.fault, fault.at, fault.severity);
            }
        }
    } else {
        for x in &truth.rhythms {
            t.rhythms.add(r.pulses.iter().any(|p| near(p.per_wheel_turn, *x, 0.004 * x)));
        }
    }
    for (o, &(w, sigma)) in r.orders.iter().zip(&found) {
        let mut close: Vec<_> = truth.tones.iter().filter(|x| near(w, x.order, sigma)).collect();
        close.sort_by(|a, b| (a.order - w).abs().total_cmp(&(b.order - w).abs()));
        let Some(x) = close.first() else { continue };
        t.order.add((w - x.order).abs() <= 1.96 * sigma);
        let (level, error) = o.level();
        if let Some((_, was)) = x.levels.iter().find(|l| (l.0 - o.peak_speed_kmh).abs() < 0.1) {
            if std::env::var("BARICORD_TELL").is_ok() {
                println!("level {level:.4} was {was:.4} ± {error:.4} order {w:.2} at {}", o.peak_speed_kmh);
            }
            t.level.add((level - was).abs() <= 1.96 * error);
        }
    }
    if let (Some(x), Ok(_)) = (&r.reference, std::env::var("BARICORD_TELL")) {
        println!(
            "{}@{} scale off {:+.4} ± {:.4}, lag off {:+.3} ± {:.3}, {:?}",
            fault.fault,
            fault.at,
            x.scale - truth.scale,
            x.scale_sigma,
            x.lag_s.unwrap_or(f64::NAN) - truth.lag_s,
            x.lag_sigma_s.unwrap_or(f64::NAN),
            r.warnings.iter().map(|w| w.code.as_str()).collect::<Vec<_>>()
        );
    }
    if let Some(x) = &r.reference {
        t.scale.add((x.scale - truth.scale).abs() <= 1.96 * x.scale_sigma);
        if let (Some(l), Some(s)) = (x.lag_s, x.lag_sigma_s) {
            t.lag.add((l - truth.lag_s).abs() <= 1.96 * s);
        }
    }
    t
}

fn main() {
    let n: u64 = std::env::var("BARICORD_RUNS").ok().and_then(|n| n.parse().ok()).unwrap_or(900);
    let all = (0..n).into_par_iter().map(|i| one(1000 + i)).reduce(Trust::default, |a, b| Trust {
        recall: a.recall.join(b.recall),
        felt: a.felt.join(b.felt),
        precision: a.precision.join(b.precision),
        rhythms: a.rhythms.join(b.rhythms),
        order: a.order.join(b.order),
        level: a.level.join(b.level),
        lag: a.lag.join(b.lag),
        scale: a.scale.join(b.scale),
        beats: a.beats.join(b.beats),
        alone: a.alone.join(b.alone),
    });
    println!("{n} simulated recordings, random vehicle, fault, severity, speed, tyre, lag and noise");
    println!("  the fault's order found              {}", all.recall.told());
    println!("    of those that can be felt          {}", all.felt.told());
    println!("  the fault's rhythm found             {}", all.rhythms.told());
    println!("  first five orders that are there     {}", all.precision.told());
    println!("  95 % interval of an order holds it   {}", all.order.told());
    println!("  95 % interval of a level holds it    {}", all.level.told());
    println!("  95 % interval of the lag holds it    {}", all.lag.told());
    println!("  95 % interval of the scale holds it  {}", all.scale.told());
    println!("  no beat told                         {}", all.alone.told());
    println!("  beats told that are there            {}", all.beats.told());
}
