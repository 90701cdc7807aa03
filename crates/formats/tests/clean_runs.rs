//! Runs as a logger and a phone write them: three sensors under a road that is louder below than above, a speed that
//! is late, rounded, and comes when it comes. Nothing is wrong with them, and nothing may be warned of.

use baricord_core::analysis::{Analysis, Silent};
use baricord_core::case::RecordingSpec;
use baricord_core::reasoning::attribution::analyze;
use baricord_core::signal::Samples;
use baricord_core::vehicle::{Vehicle, sample};
use baricord_formats::read_recording;
use serde_json::json;
use std::f64::consts::TAU;
use std::fmt::Write;

/// Even noise, the same on every machine.
struct Noise(u64);

impl Noise {
    fn even(&mut self) -> f64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as f64 / (1u64 << 53) as f64
    }
    fn normal(&mut self) -> f64 {
        (0..6).map(|_| self.even()).sum::<f64>() * 2f64.sqrt() - 3.0 * 2f64.sqrt()
    }
}

/// How a run is made.
#[derive(Clone, Copy)]
struct Run {
    seed: u64,
    seconds: f64,
    rate: f64,
    /// km/h, from and to; steady where they are alike.
    from: f64,
    to: f64,
    /// The speed comes so late, s; is rounded to so much, km/h; comes so often, s, give or take a tenth.
    late: f64,
    rounded: f64,
    every: f64,
    /// Orders of the wheel with their strength at full speed, m/s².
    lines: &'static [(f64, f64)],
    /// How far the sensors are tilted.
    tilt_deg: f64,
    /// The step to which a sample is printed.
    printed: f64,
    /// Jitter of a printed time, s.
    jitter: f64,
    tyre: f64,
}

const PLAIN: Run = Run {
    seed: 1,
    seconds: 70.0,
    rate: 400.0,
    from: 50.0,
    to: 115.0,
    late: 0.45,
    rounded: 1.0,
    every: 1.0,
    lines: &[(4.1, 0.5)],
    tilt_deg: 5.0,
    printed: 0.001,
    jitter: 0.0,
    tyre: 1.006,
};

/// Noise of a body under a road: coloured, with a hump where the axle hops.
struct Road {
    noise: Noise,
    low: f64,
    hop: (f64, f64),
    rate: f64,
}

impl Road {
    fn new(seed: u64, rate: f64) -> Self {
        Self { noise: Noise(seed), low: 0.0, hop: (0.0, 0.0), rate }
    }
    fn next(&mut self) -> f64 {
        let white = self.noise.normal();
        self.low += (TAU * 8.0 / self.rate).min(1.0) * (white - self.low);
        let (w, dt) = (TAU * 12.0, 1.0 / self.rate);
        let a = 40.0 * white - w * w * self.hop.0 - 0.5 * w * self.hop.1;
        self.hop.1 += a * dt;
        self.hop.0 += self.hop.1 * dt;
        1.5 * self.low + 0.01 * a + 0.05 * white
    }
}

/// The file of a run.
fn csv(v: &Vehicle, r: Run) -> String {
    let c = v.circumference().unwrap().get() / r.tyre;
    let mut noise = Noise(r.seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
    let mut roads: Vec<Road> = (0..3).map(|i| Road::new(r.seed * 31 + i + 7, r.rate)).collect();
    let tilt = r.tilt_deg.to_radians();
    let gravity = [9.81 * tilt.sin() * 0.8, 9.81 * tilt.sin() * 0.6, 9.81 * tilt.cos()];
    let n = (r.seconds * r.rate) as usize;
    let truth = |t: f64| {
        let share = 0.5 - 0.5 * (TAU * (t / r.seconds).clamp(0.0, 1.0) * 0.75).cos();
        (r.from + (r.to - r.from) * share + 0.8 * (0.35 * t).sin()) / 3.6
    };
    let (mut turns, mut next) = (0.0, 0.3 * noise.even());
    let mut out = String::from("t,ax,ay,az,speed\n");
    for i in 0..n {
        let t = i as f64 / r.rate;
        let speed = truth(t);
        turns += speed / c / r.rate;
        let grown = (speed * 3.6 / r.to).powi(2);
        let sum: f64 = r.lines.iter().map(|(o, a)| a * grown * (TAU * o * turns).cos()).sum();
        let _ = write!(out, "{:.4}", t + r.jitter * (noise.even() - 0.5));
        for (k, share) in [0.3, 0.5, 1.0].into_iter().enumerate() {
            let x = gravity[k] + share * sum + 0.12 * roads[k].next();
            let _ = write!(out, ",{:.4}", (x / r.printed).round() * r.printed);
        }
        if t >= next {
            let told = (truth((t - r.late).max(0.0)) * 3.6 + 0.15 * noise.normal()) / r.rounded;
            let _ = writeln!(out, ",{:.2}", told.round() * r.rounded);
            next += r.every * (1.0 + 0.2 * (noise.even() - 0.5));
        } else {
            out.push_str(",\n");
        }
    }
    out
}

fn spec() -> RecordingSpec {
    let channel = |c: &str| json!({"column": c, "quantity": "acceleration", "unit": "m/s2"});
    serde_json::from_value(
        json!({"id": "R1", "gear": "5", "throttle": "drive", "file": "r.csv", "time": {"column": "t", "unit": "s"},
        "channels": [channel("ax"), channel("ay"), channel("az")], "speed": {"column": "speed", "unit": "km/h"}}),
    )
    .unwrap()
}

fn read(v: &Vehicle, r: Run) -> (Samples, Analysis) {
    let text = csv(v, r).into_bytes();
    let samples = read_recording(&spec(), &move |_| Ok(Some(text.clone().into())));
    let analysis = analyze(v, &[(spec(), samples.clone())], &Silent).unwrap();
    (samples, analysis)
}

/// Runs that differ in all that a logger, a phone and a driver differ in.
fn runs() -> Vec<(&'static str, Run)> {
    vec![
        ("plain", PLAIN),
        ("rounded to 2 km/h", Run { seed: 2, rounded: 2.0, ..PLAIN }),
        ("ten a second, fine", Run { seed: 3, every: 0.1, rounded: 0.1, late: 0.25, ..PLAIN }),
        ("very late", Run { seed: 4, late: 0.95, ..PLAIN }),
        ("printed coarsely", Run { seed: 5, printed: 0.05, ..PLAIN }),
        ("printed very coarsely", Run { seed: 6, printed: 0.2, ..PLAIN }),
        ("times that jitter", Run { seed: 7, jitter: 0.002, ..PLAIN }),
        ("tilted", Run { seed: 8, tilt_deg: 8.0, ..PLAIN }),
        ("level", Run { seed: 9, tilt_deg: 0.0, ..PLAIN }),
        ("weak line", Run { seed: 10, lines: &[(4.1, 0.12)], ..PLAIN }),
        ("nothing stands out", Run { seed: 11, lines: &[], ..PLAIN }),
        ("steady", Run { seed: 12, from: 88.0, to: 88.0, ..PLAIN }),
        ("a little faster", Run { seed: 13, from: 82.0, to: 92.0, ..PLAIN }),
        ("wheel", Run { seed: 14, lines: &[(1.0, 0.6)], ..PLAIN }),
        ("twice", Run { seed: 15, lines: &[(8.2, 0.5)], ..PLAIN }),
        ("two lines", Run { seed: 16, lines: &[(1.0, 0.3), (4.1, 0.4)], ..PLAIN }),
        ("engine, once a turn", Run { seed: 25, lines: &[(3.444, 0.5)], ..PLAIN }),
        ("engine, firing", Run { seed: 26, lines: &[(6.888, 0.4), (3.444, 0.2)], ..PLAIN }),
        ("small tyre", Run { seed: 17, tyre: 0.985, ..PLAIN }),
        ("large tyre", Run { seed: 18, tyre: 1.015, lines: &[(4.1, 0.5), (8.2, 0.2)], ..PLAIN }),
        ("short", Run { seed: 19, seconds: 30.0, ..PLAIN }),
        ("long", Run { seed: 20, seconds: 160.0, ..PLAIN }),
        ("slow logger", Run { seed: 21, rate: 160.0, ..PLAIN }),
        ("fast logger", Run { seed: 22, rate: 1600.0, seconds: 45.0, ..PLAIN }),
        ("every two seconds", Run { seed: 23, every: 2.0, ..PLAIN }),
        ("downhill", Run { seed: 24, from: 110.0, to: 45.0, ..PLAIN }),
    ]
}

#[test]
fn a_clean_run_with_a_usable_speed_is_warned_of_nothing() {
    let v = sample::rear_drive(2);
    let mut warned = vec![];
    for (name, r) in runs() {
        let (samples, a) = read(&v, r);
        assert!(!samples.refused, "{name}: {:?}", samples.warnings);
        let told = &a.recordings[0].warnings;
        if !told.is_empty() {
            let orders: Vec<_> = a.recordings[0].orders.iter().take(4).map(|o| format!("{:.2}", o.order)).collect();
            warned.push(format!(
                "{name}: {:?} {orders:?}",
                told.iter().map(|w| format!("{}: {}", w.code, w.message)).collect::<Vec<_>>()
            ));
        }
    }
    assert!(warned.is_empty(), "{} of {}:\n{}", warned.len(), runs().len(), warned.join("\n"));
}
