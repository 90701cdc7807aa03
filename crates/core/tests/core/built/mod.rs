//! Signals built sample by sample, for the tests of order work.
#![allow(dead_code)] // Each test uses what it needs.

use baricord_core::analysis::{Analysis, RecordingAnalysis, Silent};
use baricord_core::case::RecordingSpec;
use baricord_core::measure::orders::Base;
use baricord_core::reasoning::attribution::analyze;
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::Vehicle;
use serde_json::json;
use std::f64::consts::TAU;

pub const RATE: f64 = 400.0;

/// Noise of a linear congruence: even, and the same on every machine.
pub struct Noise(pub u64);
impl Noise {
    pub fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        // The sum of three even numbers is near enough to normal.
        let part = |s: u32| ((self.0 >> s) & 0x1f_ffff) as f64 / f64::from(0x20_0000) - 0.5;
        2.0 * (part(1) + part(22) + part(43))
    }
}

/// What turns at a moment: wheel turns a second, and engine turns a second.
pub type Turning<'a> = &'a dyn Fn(f64) -> (f64, f64);

/// Samples of tones (order, amplitude) of the wheel and of the engine, with the turns of the wheel.
pub fn built(
    seconds: f64,
    turning: Turning<'_>,
    wheel: &[(f64, f64)],
    engine: &[(f64, f64)],
    noise: f64,
) -> (Vec<f32>, Vec<f64>) {
    let (mut n, mut w, mut e) = (Noise(11), 0.0, 0.0);
    let (mut x, mut turns) = (vec![], vec![]);
    for i in 0..(seconds * RATE) as usize {
        let (fw, fe) = turning(i as f64 / RATE);
        w += fw / RATE;
        e += fe / RATE;
        let sum: f64 =
            wheel.iter().map(|(o, a)| a * (TAU * o * w).cos()).chain(engine.iter().map(|(o, a)| a * (TAU * o * e).sin())).sum();
        x.push((sum + noise * n.next()) as f32);
        turns.push(w);
    }
    (x, turns)
}

pub fn channel(name: &str, quantity: Quantity, data: Vec<f32>) -> Channel {
    let unit = if quantity == Quantity::Pulse { "" } else { "m/s2" };
    Channel { name: name.into(), quantity, unit: unit.into(), data: data.into() }
}

pub fn samples(channels: Vec<Channel>) -> Samples {
    Samples { rate: Hz(RATE), start: Seconds(0.0), channels, ..Samples::default() }
}

pub fn spec(more: serde_json::Value) -> RecordingSpec {
    let mut s = json!({"id": "R1", "gear": "5", "throttle": "drive", "channels": [{"column": "az", "quantity": "acceleration"}]});
    for (k, x) in more.as_object().unwrap() {
        s[k] = x.clone();
    }
    serde_json::from_value(s).unwrap()
}

pub fn one(v: &Vehicle, spec: RecordingSpec, s: Samples) -> RecordingAnalysis {
    let a: Analysis = analyze(v, &[(spec, s)], &Silent).unwrap();
    a.recordings.into_iter().next().unwrap()
}

pub fn has(r: &RecordingAnalysis, base: Base, order: f64, off: f64) -> bool {
    r.orders.iter().any(|o| o.base == base && (o.order - order).abs() < off)
}

pub fn sweep(t: f64) -> f64 {
    // Wheel turns a second: 45 to 120 km/h on a tyre of 2.08 m, with a driver's wobble.
    (45.0 + 75.0 * t / 80.0 + 2.5 * (t * 0.4).sin()) / 3.6 / 2.08
}
