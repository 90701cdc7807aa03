//! The drive: a smooth run through the speeds with a driver's wobble, and the phone that logs it.

use crate::noise::Noise;
use baricord_core::error::Problem;
use std::f64::consts::{PI, TAU};

/// A planned run.
#[derive(Clone, Debug)]
pub struct RunPlan {
    /// Gear by name; none on a single speed.
    pub gear: Option<String>,
    /// Range of the transfer case.
    pub range: Option<String>,
    /// Speed at the start.
    pub from_kmh: f64,
    /// Speed at the end.
    pub to_kmh: f64,
    /// drive, coast, float, neutral.
    pub load: String,
    /// How long.
    pub seconds: f64,
    /// Samples a second.
    pub rate_hz: f64,
    /// A microphone in place of an accelerometer.
    pub sound: bool,
    /// How rough the road is; 1 is a usual one.
    pub rough: f64,
    /// For chance.
    pub seed: u64,
}

impl Default for RunPlan {
    fn default() -> Self {
        Self {
            gear: None,
            range: None,
            from_kmh: 40.0,
            to_kmh: 120.0,
            load: "drive".into(),
            seconds: 70.0,
            rate_hz: 400.0,
            sound: false,
            rough: 1.0,
            seed: 1,
        }
    }
}

impl RunPlan {
    /// The load, as the case file calls it.
    pub fn throttle(&self) -> &str {
        &self.load
    }

    pub(crate) fn check(&self) -> Result<(), Problem> {
        let ok = |x: f64, lo: f64, hi: f64, field: &str| {
            if (lo..=hi).contains(&x) {
                Ok(())
            } else {
                Err(Problem::new("out-of-range", format!("{field} lies from {lo} to {hi}, got {x}")).field(field))
            }
        };
        ok(self.from_kmh, 3.0, 250.0, "from")?;
        ok(self.to_kmh, 3.0, 250.0, "to")?;
        ok(self.seconds, 10.0, 3600.0, "seconds")?;
        ok(self.rate_hz, 100.0, 48000.0, "rate")?;
        if !["drive", "coast", "float", "neutral"].contains(&self.load.as_str()) {
            return Err(
                Problem::new("unknown-throttle", format!("“{}”: drive, coast, float or neutral", self.load)).field("throttle")
            );
        }
        Ok(())
    }
}

/// True speed over time.
pub(crate) struct Drive {
    from: f64,
    to: f64,
    seconds: f64,
    wobble: Vec<(f64, f64, f64)>,
}

impl Drive {
    pub fn new(plan: &RunPlan, noise: &mut Noise) -> Self {
        let span = (plan.to_kmh - plan.from_kmh).abs();
        let wobble = (0..4)
            .map(|k| {
                let period = 9.0 + 14.0 * noise.uniform() + 4.0 * f64::from(k);
                ((0.3 + 0.012 * span) * (0.5 + noise.uniform()), TAU / period, TAU * noise.uniform())
            })
            .collect();
        Self { from: plan.from_kmh, to: plan.to_kmh, seconds: plan.seconds, wobble }
    }

    /// km/h at a time: held, smoothly through, held.
    pub fn at(&self, t: f64) -> f64 {
        let x = ((t / self.seconds - 0.05) / 0.9).clamp(0.0, 1.0);
        let eased = x + 0.06 * (PI * x).sin() * (TAU * 1.5 * x).sin();
        let base = self.from + (self.to - self.from) * eased;
        (base + self.wobble.iter().map(|(a, w, p)| a * (w * t + p).sin()).sum::<f64>()).max(1.5)
    }

    /// What a phone makes of it: late, noisy, rounded to a tenth of a km/h, in m/s.
    pub fn phone(&self, lag: f64, plan: &RunPlan, noise: &mut Noise) -> Vec<(f64, f64)> {
        let hz = if noise.uniform() < 0.5 { 1.0 } else { 5.0 };
        let n = (plan.seconds * hz) as usize;
        let mut t = 0.3 * noise.uniform();
        let mut out = vec![];
        for _ in 0..n {
            let kmh = self.at((t - lag).max(0.0)) + 0.12 * noise.normal();
            // On the recorder's own clock, so that a written file reads back the same.
            let stamp = (t * plan.rate_hz).round() / plan.rate_hz;
            out.push((stamp, (kmh.max(0.0) * 10.0).round() / 36.0));
            t += (1.0 + 0.03 * noise.normal()).max(0.5) / hz;
        }
        out.retain(|r| r.0 < plan.seconds);
        out
    }
}
