//! Virtual vehicles on virtual roads, read by virtual instruments.
//!
//! [`run`] drives a vehicle with faults through a plan and returns what a phone on the seat rail
//! would have recorded: late and rounded speed, a tyre that is not quite its label, wheel slip, a
//! body that rings, road noise. It shares no numerical code with the tracker (its own phase
//! integration, sample by sample), so that each can test the other. Seeded: the same plan gives the
//! same recording.

mod fault;
mod noise;
mod recorder;
mod road;
pub mod workbench;
pub mod worlds;

pub use fault::{FaultKind, FaultSpec, KINDS};
pub use recorder::{StandIn, StandInSetup};
pub use road::RunPlan;

use baricord_core::error::Problem;
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::Vehicle;
use fault::Source;
use noise::Noise;
use std::collections::BTreeMap;
use std::f64::consts::TAU;

/// What a run really was: for tests, never shown to the rules.
#[derive(Clone, Debug, PartialEq)]
pub struct Truth {
    /// True wheel frequency over v/C.
    pub scale: f64,
    /// How late the speed comes, s.
    pub lag_s: f64,
    /// Every tone that was there.
    pub tones: Vec<TrueTone>,
    /// Every rhythm that was there, pulses a wheel turn.
    pub rhythms: Vec<f64>,
}

/// A tone as it really was: all sources of one order together.
#[derive(Clone, Debug, PartialEq)]
pub struct TrueTone {
    /// In wheel turns.
    pub order: f64,
    /// Middle of a bin of 5 km/h by the true speed, and the root mean square of its peak amplitude there, m/s².
    pub levels: Vec<(f64, f64)>,
}

/// Sums of one tone while it runs.
struct Tally {
    order: f64,
    now: (f64, f64),
    bins: BTreeMap<i64, (f64, u32)>,
}

/// Drives a vehicle with faults through a plan.
pub fn run(v: &Vehicle, faults: &[FaultSpec], plan: &RunPlan) -> Result<(Samples, Truth), Problem> {
    plan.check()?;
    let label = v.circumference()?.get();
    let epw = v.engine_per_wheel(plan.gear.as_deref(), plan.range.as_deref())?.map(|e| e.get());
    let mut sources = fault::background(v, plan.throttle());
    for f in faults {
        sources.extend(fault::sources(v, f, plan.throttle())?);
    }
    // The vehicle's own tyre and phone do not change from run to run: they come from its name.
    let mut own = Noise::new(name_seed(&v.name));
    let (scale, lag_s) = (1.0 + 0.02 * (own.uniform() * 2.0 - 1.0), 0.35 + 0.5 * own.uniform());
    let body_hz = 22.0 + 30.0 * own.uniform();
    let mut noise = Noise::new(plan.seed ^ 0x5ea1);
    let rate = plan.rate_hz;
    let n = (plan.seconds * rate) as usize;
    let speed = road::Drive::new(plan, &mut noise);
    // Driven wheels slip a little.
    let slip = if plan.throttle() == "drive" { 0.0008 } else { 0.0 };
    let circumference = label / scale;
    let phases: Vec<f64> = sources.iter().map(|_| TAU * noise.uniform()).collect();
    // Sources of one order add up with their phases: one tally an order.
    let mut tallies: Vec<Tally> = vec![];
    let tally_of: Vec<usize> = sources
        .iter()
        .map(|s| {
            let order = s.order(epw).map_or(f64::NAN, |o| o.0);
            let tone = matches!(s, Source::Tone { .. });
            let found = tallies.iter().position(|t| tone && (t.order - order).abs() < 1e-9);
            found.unwrap_or_else(|| {
                tallies.push(Tally { order, now: (0.0, 0.0), bins: BTreeMap::new() });
                tallies.len() - 1
            })
        })
        .collect();
    let mut rhythms: Vec<f64> = vec![];
    let (mut turns, mut wander, mut samples) = (0.0f64, 0.0f64, Vec::with_capacity(n));
    let mut rough = noise::Road::new(rate, body_hz);
    let mut ring = fault::Ring::new(rate);
    for i in 0..n {
        let t = i as f64 / rate;
        let kmh = speed.at(t);
        // The rolling radius wanders a little with load and camber.
        wander += (-wander * 0.2 + 0.0004 * noise.normal()) / rate.sqrt() * 0.3;
        let wheel_hz = kmh / 3.6 / circumference * (1.0 + wander.clamp(-0.002, 0.002) + slip);
        turns += wheel_hz / rate;
        let mut a = plan.rough * rough.next(&mut noise, kmh);
        for ((s, p), k) in sources.iter().zip(&phases).zip(&tally_of) {
            let Some((order, per)) = s.order(epw) else { continue };
            let f = order * wheel_hz;
            match s {
                Source::Tone { .. } => {
                    let (gain, shift) = body(f, body_hz);
                    let level = s.amplitude(f, wheel_hz * per) * gain;
                    a += level * (TAU * turns * order + p + shift).sin();
                    let now = &mut tallies[*k].now;
                    *now = (now.0 + level * p.cos(), now.1 + level * p.sin());
                }
                Source::Pulse { .. } => a += ring.next((turns * order).floor(), s.amplitude(f, kmh), &mut noise),
            }
        }
        for t in &mut tallies {
            let bin = t.bins.entry((kmh / 5.0).floor() as i64).or_default();
            *bin = (bin.0 + t.now.0.powi(2) + t.now.1.powi(2), bin.1 + 1);
            t.now = (0.0, 0.0);
        }
        samples.push(a as f32 + 0.01 * noise.normal() as f32);
    }
    for s in &sources {
        if let (Source::Pulse { .. }, Some((order, _))) = (s, s.order(epw)) {
            rhythms.push(order);
        }
    }
    // What the channel's unit makes of it.
    let unit = if plan.sound { 0.05 } else { 1.0 };
    let tones = tallies
        .into_iter()
        .filter(|t| t.order.is_finite() && !rhythms.contains(&t.order))
        .map(|t| TrueTone {
            order: t.order,
            levels: t
                .bins
                .into_iter()
                .map(|(b, (sum, n))| (5.0 * (b as f64 + 0.5), unit * (sum / f64::from(n)).sqrt()))
                .collect(),
        })
        .collect();
    let truth = Truth { scale: scale * (1.0 + slip), lag_s, tones, rhythms };
    let channel = if plan.sound {
        Channel {
            name: "mic".into(),
            quantity: Quantity::Sound,
            unit: "fs".into(),
            data: samples.iter().map(|v| v * 0.05).collect::<Vec<f32>>().into(),
        }
    } else {
        Channel { name: "az".into(), quantity: Quantity::Acceleration, unit: "m/s2".into(), data: samples.into() }
    };
    let out = Samples {
        rate: Hz(rate),
        start: Seconds(0.0),
        channels: vec![channel],
        speed: speed.phone(lag_s, plan, &mut noise),
        ..Samples::default()
    };
    Ok((out, truth))
}

/// Gain and phase of a body that rings at one frequency over a flat floor.
fn body(f: f64, body_hz: f64) -> (f64, f64) {
    let (r, damping) = (f / body_hz, 0.09);
    let (re, im) = (1.0 - r * r, 2.0 * damping * r);
    let m = re * re + im * im;
    // Rigid motion plus one mode.
    let (x, y) = (0.5 + 0.5 * re / m, -0.5 * im / m);
    (x.hypot(y), y.atan2(x))
}

fn name_seed(name: &str) -> u64 {
    name.bytes().fold(0xcbf2_9ce4_8422_2325, |h, b| (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3))
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::analysis::Silent;
    use baricord_core::case::RecordingSpec;
    use baricord_core::measure::orders::Base;
    use baricord_core::reasoning::attribution::analyze;
    use baricord_core::vehicle::sample::*;

    fn spec(gear: Option<&str>) -> RecordingSpec {
        serde_json::from_value(serde_json::json!({"id": "R1", "gear": gear, "throttle": "drive"})).unwrap()
    }
    fn plan(gear: Option<&str>, seed: u64) -> RunPlan {
        RunPlan { gear: gear.map(String::from), from_kmh: 45.0, to_kmh: 125.0, seconds: 80.0, seed, ..RunPlan::default() }
    }
    fn found(v: &Vehicle, fault: &str, gear: Option<&str>, seed: u64) -> (baricord_core::analysis::Analysis, Truth) {
        let (s, truth) = run(v, &[fault.parse().unwrap()], &plan(gear, seed)).unwrap();
        (analyze(v, &[(spec(gear), s)], &Silent).unwrap(), truth)
    }

    #[test]
    fn the_same_seed_gives_the_same_run_and_another_gives_another() {
        let v = rear_drive(2);
        let f = ["prop-imbalance@prop.rear.s2".parse().unwrap()];
        let go = |seed| run(&v, &f, &plan(Some("5"), seed)).unwrap().0.channels[0].data.to_vec().unwrap();
        assert_eq!(go(1), go(1));
        assert_ne!(go(1), go(2));
    }

    #[test]
    fn the_tracker_finds_what_was_put_in_on_every_layout_that_can_have_it() {
        let mut lag_errors = vec![];
        for (v, fault, gear, want) in [
            (rear_drive(2), "prop-imbalance@prop.rear.s2:0.7", Some("5"), 4.1),
            (rear_drive(3), "prop-bent@prop.rear.s1:0.7", Some("4"), 4.1),
            (rear_drive(1), "joint-angle@prop.rear:0.9", Some("5"), 8.2),
            (front_drive(), "wheel-imbalance@wheel.fl:0.7", Some("4"), 1.0),
            (all_wheel_drive(), "prop-imbalance@prop.rear.s1:0.7", Some("5"), 38.0 / 15.0),
            (electric(), "wheel-imbalance@wheel.fr:0.8", None, 1.0),
        ] {
            let (a, truth) = found(&v, fault, gear, 11);
            let r = &a.recordings[0];
            let o = &r.orders[..3.min(r.orders.len())];
            assert!(
                o.iter().any(|o| o.base == Base::Wheel && (o.order - want).abs() < 0.008 * want),
                "{fault}: {want} not in {o:?}"
            );
            let f = r.reference.as_ref().unwrap();
            assert!((f.scale - truth.scale).abs() < 0.006, "{fault}: scale {} not {}", f.scale, truth.scale);
            lag_errors.extend(f.lag_s.map(|l| (l - truth.lag_s).abs()));
        }
        assert!(lag_errors.len() >= 3 && lag_errors.iter().all(|e| *e < 0.4), "{lag_errors:?}");
    }

    #[test]
    fn two_gears_tell_the_engine_from_the_shaft() {
        let v = rear_drive(2);
        let runs: Vec<_> = ["4", "5"]
            .iter()
            .enumerate()
            .map(|(i, g)| {
                let (s, _) = run(&v, &["engine-order@engine:0.9".parse().unwrap()], &plan(Some(g), 5 + i as u64)).unwrap();
                (RecordingSpec { id: format!("R{i}"), ..spec(Some(g)) }, s)
            })
            .collect();
        let a = analyze(&v, &runs, &Silent).unwrap();
        for r in &a.recordings {
            assert_eq!((r.orders[0].base, (r.orders[0].order * 100.0).round()), (Base::Engine, 100.0), "{:?}", r.orders[0]);
        }
    }

    #[test]
    fn a_bearing_shows_in_the_rhythm_of_the_sound() {
        let v = front_drive();
        let p = RunPlan { sound: true, rate_hz: 4096.0, seconds: 50.0, ..plan(Some("4"), 3) };
        let (s, _) = run(&v, &["wheel-bearing-worn@hub.fl:0.9".parse().unwrap()], &p).unwrap();
        let a = analyze(&v, &[(spec(Some("4")), s)], &Silent).unwrap();
        let pulses = &a.recordings[0].pulses;
        assert!(pulses.iter().take(3).any(|p| p.sources.iter().any(|s| s.fault == "wheel-bearing-worn")), "{pulses:?}");
    }

    #[test]
    fn what_cannot_be_driven_is_refused_by_field() {
        let v = rear_drive(1);
        let field = |f: &str, p: RunPlan| match f.parse::<FaultSpec>() {
            Err(e) => e.field,
            Ok(f) => run(&v, &[f], &p).err().and_then(|e| e.field),
        };
        let p = || plan(Some("5"), 1);
        assert_eq!(field("prop-imbalance", p()).as_deref(), Some("fault"));
        assert_eq!(field("moon-dust@engine", p()).as_deref(), Some("fault"));
        assert_eq!(field("prop-imbalance@prop.front.s1", p()).as_deref(), Some("fault"));
        assert_eq!(field("prop-imbalance@prop.rear.s1:7", p()).as_deref(), Some("fault"));
        assert_eq!(field("prop-imbalance@prop.rear.s1", plan(Some("9"), 1)).as_deref(), Some("gear"));
        assert_eq!(field("prop-imbalance@prop.rear.s1", RunPlan { seconds: 0.0, ..p() }).as_deref(), Some("seconds"));
    }
}
