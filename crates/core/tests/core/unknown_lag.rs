//! Runs in which only a high line or a faint rhythm could tell how late the speed comes: teeth that stand 17 dB over
//! the noise of their own bin, clicks 14 dB over the floor of their envelope. They are found all the same.

use crate::built::{Noise, one, spec};
use baricord_core::analysis::RecordingAnalysis;
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::{Vehicle, sample};
use serde_json::json;
use std::f64::consts::TAU;

const RATE: f64 = 4096.0;

/// A drive in a hurry: how fast in truth, and what a phone says of it.
struct Drive {
    seed: u64,
    seconds: f64,
    from: f64,
    to: f64,
    late: f64,
}

impl Drive {
    fn speed(&self, t: f64) -> f64 {
        let share = 0.5 - 0.5 * (TAU * (t / self.seconds).clamp(0.0, 1.0)).cos();
        (self.from + (self.to - self.from) * share + 0.7 * (0.4 * t + self.seed as f64).sin()) / 3.6
    }

    fn told(&self) -> Vec<(f64, f64)> {
        let mut noise = Noise(self.seed + 99);
        let times = (0..self.seconds as usize).map(|i| i as f64 + 0.3 + 0.1 * noise.next()).collect::<Vec<_>>();
        times.into_iter().map(|t| (t, (self.speed((t - self.late).max(0.0)) * 3.6).round() / 3.6)).collect()
    }

    /// Samples of a microphone that hears this, given the turns of the wheel and a second's part.
    fn heard(&self, v: &Vehicle, mut sound: impl FnMut(f64, f64, &mut Noise) -> f64) -> Samples {
        let c = v.circumference().unwrap().get() / 1.004;
        let (mut noise, mut turns, mut low) = (Noise(self.seed), 0.0, 0.0);
        let data: Vec<f32> = (0..(self.seconds * RATE) as usize)
            .map(|i| {
                let hz = self.speed(i as f64 / RATE) / c;
                turns += hz / RATE;
                low += 0.02 * (noise.next() - low);
                (sound(turns, hz, &mut noise) + noise.next() + 4.0 * low) as f32
            })
            .collect();
        let mic = Channel { name: "mic".into(), quantity: Quantity::Sound, unit: "fs".into(), data: data.into() };
        Samples { rate: Hz(RATE), start: Seconds(0.0), channels: vec![mic], speed: self.told(), ..Samples::default() }
    }
}

fn drives(from: f64, to: f64) -> Vec<Drive> {
    let drive =
        |i: u64| Drive { seed: 11 * i + 3, seconds: [50.0, 70.0, 40.0][i as usize % 3], from, to, late: 0.1 + 0.085 * i as f64 };
    (0..10).map(drive).collect()
}

fn read(v: &Vehicle, s: Samples) -> RecordingAnalysis {
    one(v, spec(json!({"gear": "5", "channels": [{"column": "mic", "quantity": "sound"}]})), s)
}

/// Power of the noise in a hertz, one side: that of the generator's even part is what lies under a tooth's line.
fn noise_per_hz() -> f64 {
    let mut n = Noise(5);
    let x: Vec<f64> = (0..100_000).map(|_| n.next()).collect();
    x.iter().map(|v| v * v).sum::<f64>() / x.len() as f64 / (RATE / 2.0)
}

#[test]
fn teeth_17_db_over_their_bin_are_found() {
    let v = sample::rear_drive(2);
    let floor = noise_per_hz();
    let mut missed = vec![];
    // In a bin of 1/16 to 1/64 of an order, as windows of 16 to 64 turns tell them apart; a driver in no hurry and one
    // who is.
    for (bins, from, to) in [(16.0, 40.0, 100.0), (64.0, 40.0, 100.0), (32.0, 20.0, 110.0), (64.0, 20.0, 110.0)] {
        for d in drives(from, to) {
            let s = d.heard(&v, |turns, hz, _| (2.0 * 10f64.powf(1.7) * floor * hz / bins).sqrt() * (TAU * 41.0 * turns).sin());
            let r = read(&v, s);
            let lag = r.reference.as_ref().and_then(|x| Some((x.lag_s?, x.lag_sigma_s?)));
            let is_told = lag.is_some_and(|(lag, sigma)| (lag - d.late).abs() < 2.0 * sigma);
            if !is_told || !r.orders.iter().any(|o| (o.order - 41.0).abs() < 0.012 * 41.0) {
                let all: Vec<_> = r.orders.iter().map(|o| format!("{:.2}", o.order)).collect();
                missed.push(format!("1/{bins}, late by {:.2}: {lag:?} {all:?}", d.late));
            }
        }
    }
    assert!(missed.is_empty(), "{} missed:\n{}", missed.len(), missed.join("\n"));
}

#[test]
fn clicks_14_db_over_their_floor_are_found() {
    let v = sample::front_drive();
    let mut missed = vec![];
    for d in drives(12.0, 42.0) {
        let (mut next, mut ring) = (0.0, (0.0, 0.0));
        let s = d.heard(&v, |turns, _, noise| {
            let mut hit = 0.0;
            if 6.0 * turns >= next {
                next += 1.0 + 0.02 * noise.next();
                hit = CLICK * (1.0 + 0.2 * noise.next());
            }
            let (w, dt) = (TAU * 780.0, 1.0 / RATE);
            let a = hit - w * w * ring.0 - 2.0 * 0.04 * w * ring.1;
            ring.1 += a * dt;
            ring.0 += ring.1 * dt;
            1e-5 * a
        });
        let r = read(&v, s);
        let own = r.pulses.iter().find(|p| (p.per_wheel_turn / 6.0 - 1.0).abs() < 0.02);
        match own {
            None => missed.push(format!("late by {:.2}: {:?} {:?}", d.late, r.reference, r.pulses)),
            Some(p) => println!("late by {:.2}: {:.1} dB", d.late, p.strength),
        }
    }
    assert!(missed.is_empty(), "{} missed:\n{}", missed.len(), missed.join("\n"));
}

/// Strength of a click: with the lag known its rhythm stands about 14 dB over its floor.
const CLICK: f64 = 1.0e5;
