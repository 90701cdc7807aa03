//! A recording turned from time into wheel turns.

use crate::signal::{Resampler, Samples, SpeedTrack};

/// Below this speed (m/s) a window does not count: the reference is too uncertain.
const SLOWEST: f64 = 1.0;

/// Moments at equal angles, and the speed at each.
pub(super) struct Angle {
    pub per_turn: usize,
    /// Time of each angle step.
    pub moments: Vec<f64>,
    /// Speed (m/s) at each angle step.
    pub speed: Vec<f32>,
    /// Running count of steps that must not be used.
    unusable: Vec<u32>,
}

/// What turns time into angle: a smooth reference in m/s, how late it comes, and the distance of a turn.
#[derive(Clone)]
pub(super) struct Reference {
    pub track: SpeedTrack,
    /// First and last reading, s.
    pub span: (f64, f64),
    pub lag: f64,
    pub circumference: f64,
}

impl Reference {
    /// Speed (m/s) at a moment of the recording.
    pub fn speed(&self, t: f64) -> f64 {
        self.track.at(t + self.lag)
    }
    fn turns(&self, t: f64) -> f64 {
        self.track.integral(t + self.lag) / self.circumference
    }
}

impl Angle {
    /// The moments of a recording at `per_turn` steps a wheel turn.
    pub fn new(s: &Samples, reference: &Reference, per_turn: usize) -> Self {
        let (start, end) = (s.start.get(), s.start.get() + s.duration().get());
        let (mut moments, mut speed, mut unusable) = (vec![], vec![], vec![0u32]);
        let step = 1.0 / per_turn as f64;
        let mut t = start;
        let mut target = reference.turns(start);
        let gap_at = |t: f64| {
            let i = ((t - start) * s.rate.get()) as usize;
            s.gaps.iter().any(|g| g.contains(&i))
        };
        // A reference that runs to nothing would need endless steps: then it is walked at the slowest speed.
        while t < end {
            let v = reference.speed(t);
            let bad = v < SLOWEST
                || t + reference.lag < reference.span.0 - 0.6
                || t + reference.lag > reference.span.1 + 0.6
                || gap_at(t);
            moments.push(t);
            speed.push(v as f32);
            unusable.push(unusable[unusable.len() - 1] + u32::from(bad));
            if v < SLOWEST {
                t += step * reference.circumference / SLOWEST;
                target = reference.turns(t);
                continue;
            }
            target += step;
            t += step * reference.circumference / v;
            for _ in 0..2 {
                let f = reference.speed(t).max(SLOWEST) / reference.circumference;
                t -= ((reference.turns(t) - target) / f).clamp(-0.2, 0.2);
            }
            let last = moments[moments.len() - 1];
            if t <= last {
                t = last + 1e-4;
            }
        }
        Self { per_turn, moments, speed, unusable }
    }

    /// Samples at the moments; `x` may be sampled at another rate than the recording.
    pub fn resample(&self, r: &Resampler, x: &[f32], rate: f64, start: f64, circumference: f64) -> Vec<f32> {
        let n = self.per_turn as f64;
        r.at(x, rate, start, &self.moments, |k| f64::from(self.speed[k]).max(SLOWEST) / circumference * n)
    }

    /// Whether all steps from `from` to `to` may be used.
    pub fn usable(&self, from: usize, to: usize) -> bool {
        to < self.unusable.len() && self.unusable[to] == self.unusable[from]
    }

    /// Mean speed (km/h) of a stretch.
    pub fn mean_kmh(&self, from: usize, to: usize) -> f64 {
        let part = &self.speed[from..to.min(self.speed.len())];
        3.6 * part.iter().map(|&v| f64::from(v)).sum::<f64>() / part.len().max(1) as f64
    }
}
