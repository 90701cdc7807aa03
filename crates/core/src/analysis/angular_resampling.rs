//! A recording turned from time into wheel turns.

use super::coverage::Coverage;
use crate::signal::{Pyramid, Resampler, Samples, SpeedTrack};
use pulp::{Arch, Simd, WithSimd};

/// Below this speed (m/s) a window does not count: the reference is too uncertain.
const SLOWEST_SPEED_MS: f64 = 1.0;
/// Steps a turn at which the moments are worked out; in between they follow a cubic.
pub(super) const STEPS_PER_TURN: usize = 8;

/// A step over so long (s) is a leap to the next part that is kept: the slowest step is far shorter.
const LEAP_S: f64 = 5.0;

/// How much of a recording is turned into angle.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Extent {
    /// All that is kept of it.
    Whole,
    /// The parts of a long recording that costly work looks at; nothing stands in between.
    Looked,
}

/// Moments at equal angles, and the speed at each.
#[derive(Clone)]
pub(super) struct Angle {
    /// Time of each angle step.
    moments: Vec<f64>,
    /// Speed (m/s) at each angle step.
    speed: Vec<f32>,
    /// Running sum of the speeds by which levels are binned, m/s: the road's.
    sum: Vec<f64>,
    /// Running count of steps that must not be used.
    unusable: Vec<u32>,
    /// Running count of steps that costly work does not look at.
    aside: Vec<u32>,
    circumference: f64,
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

/// A speed that changes by less, relative, tells nothing of its lag.
const STEADY_SPEED_CHANGE: f64 = 0.06;

impl Reference {
    /// Whether the speed changes enough to tell how late it comes.
    pub fn changes(&self) -> bool {
        let (lo, hi) = self.track.range(self.span.0, self.span.1);
        hi - lo >= STEADY_SPEED_CHANGE * hi
    }
    /// Speed (m/s) at a moment of the recording.
    pub fn speed(&self, t: f64) -> f64 {
        self.track.at(t + self.lag)
    }
    fn turns(&self, t: f64) -> f64 {
        self.track.integral(t + self.lag) / self.circumference
    }
}

impl Angle {
    /// The moments of a whole recording.
    pub fn new(s: &Samples, reference: &Reference) -> Self {
        Self::between(s, reference, s.start.get(), s.start.get() + s.duration().get())
    }

    /// The moments between two times.
    pub fn between(s: &Samples, reference: &Reference, start: f64, end: f64) -> Self {
        let step = 1.0 / STEPS_PER_TURN as f64;
        // So many, and a few more where it stands.
        let coverage = Coverage::new(s);
        let turns = (reference.turns(end) - reference.turns(start)) / coverage.keep() as f64;
        let room = (STEPS_PER_TURN as f64 * 1.02 * turns.clamp(8.0, 1e7)) as usize;
        let (mut moments, mut speed, mut sum) = (Vec::with_capacity(room), Vec::with_capacity(room), Vec::with_capacity(room));
        sum.push(0.0);
        let mut t = start;
        let mut target = reference.turns(start);
        // A reference that runs to nothing would need endless steps: then it is walked at the slowest speed.
        while t < end {
            let v = reference.speed(t);
            moments.push(t);
            speed.push(v as f32);
            sum.push(sum[sum.len() - 1] + v);
            if let Some(next) = coverage.next_kept(t) {
                (t, target) = (next, reference.turns(next));
                continue;
            }
            if v < SLOWEST_SPEED_MS {
                t += step * reference.circumference / SLOWEST_SPEED_MS;
                target = reference.turns(t);
                continue;
            }
            target += step;
            let last = t;
            t += step * reference.circumference / v;
            for _ in 0..2 {
                let f = reference.speed(t).max(SLOWEST_SPEED_MS) / reference.circumference;
                let off = (reference.turns(t) - target) / f;
                t -= off.clamp(-0.2, 0.2);
                // A speed that moves by less over a step than one can feel is met at once.
                if off.abs() < 1e-5 {
                    break;
                }
            }
            if t <= last {
                t = last + 1e-4;
            }
        }
        let circumference = reference.circumference;
        let mut out = Self { moments, speed, sum, unusable: vec![], aside: vec![], circumference };
        out.mark(s, reference);
        out
    }

    /// Marks the steps that must not be used, and those that costly work does not look at.
    fn mark(&mut self, s: &Samples, reference: &Reference) {
        let first = s.start.get();
        // Gaps come in order, and so do the moments.
        let mut gaps = s.gaps.iter().peekable();
        let mut gap_at = |t: f64| {
            let i = ((t - first) * s.rate.get()) as usize;
            while gaps.next_if(|g| g.end <= i).is_some() {}
            gaps.peek().is_some_and(|g| g.contains(&i))
        };
        let coverage = Coverage::new(s);
        let (mut bad, mut left) = (0u32, 0u32);
        let room = self.moments.len() + 1;
        (self.unusable, self.aside) = (Vec::with_capacity(room), Vec::with_capacity(room));
        self.unusable.push(0);
        self.aside.push(0);
        for (i, (&t, &v)) in self.moments.iter().zip(&self.speed).enumerate() {
            let late = t + reference.lag;
            let leaps = self.moments.get(i + 1).is_some_and(|next| next - t > LEAP_S) || !coverage.kept(t);
            let outside = late < reference.span.0 - 0.6 || late > reference.span.1 + 0.6;
            let is_bad = f64::from(v) < SLOWEST_SPEED_MS || outside || leaps || gap_at(t);
            bad += u32::from(is_bad);
            left += u32::from(!coverage.at(t));
            self.unusable.push(bad);
            self.aside.push(left);
        }
    }

    /// The same turns of the road, found in the recording as a speed that comes later or earlier would find them.
    pub fn at_lag(&self, s: &Samples, reference: &Reference, lag: f64) -> Self {
        let mut out = self.clone();
        out.moments.iter_mut().for_each(|t| *t += reference.lag - lag);
        out.mark(s, &Reference { lag, ..reference.clone() });
        out
    }

    /// The same moments with another speed to tell levels by: that of the road, where it is the engine that turns.
    pub fn with_road(mut self, road: &Reference) -> Self {
        for (i, t) in self.moments.iter().enumerate() {
            self.sum[i + 1] = self.sum[i] + road.speed(*t);
        }
        self
    }

    /// The wheel's highest turns a second.
    pub fn fastest_hz(&self) -> f64 {
        f64::from(self.speed.iter().copied().fold(0.0, f32::max)) / self.circumference
    }

    /// How much the scale is off, relative, for each second that the lag is off: the mean of dv/dt over v.
    pub fn pull_of_lag(&self) -> f64 {
        let good: Vec<usize> = (1..self.speed.len()).filter(|&i| self.usable(i - 1, i, Extent::Whole)).collect();
        let sum: f64 = good
            .iter()
            .map(|&i| {
                let (a, b) = (f64::from(self.speed[i - 1]), f64::from(self.speed[i]));
                (b / a).ln() / (self.moments[i] - self.moments[i - 1]).max(1e-6)
            })
            .sum();
        sum / good.len().max(1) as f64
    }

    /// Whole turns that it holds.
    pub fn turns(&self) -> usize {
        self.moments.len().saturating_sub(1) / STEPS_PER_TURN
    }

    /// A signal (whose first sample stands at `start`) at `per_turn` samples a turn, a multiple of [`STEPS_PER_TURN`]: the steps
    /// that the extent holds, one after the other.
    pub fn resample(&self, r: &Resampler, x: &Pyramid, start: f64, per_turn: usize, extent: Extent) -> Vec<f32> {
        Arch::new().dispatch(Resample { angle: self, kernels: r, x, start, per_turn, extent })
    }

    /// Whether all steps from `from` to `to` may be used and stand in what was turned.
    pub fn usable(&self, from: usize, to: usize, extent: Extent) -> bool {
        let none = |count: &[u32]| to < count.len() && count[to] == count[from];
        none(&self.unusable) && (extent == Extent::Whole || none(&self.aside))
    }

    /// Whether a step stands in what was turned.
    pub fn holds(&self, step: usize, extent: Extent) -> bool {
        extent == Extent::Whole || self.aside.get(step + 1).is_some_and(|n| *n == self.aside[step])
    }

    /// Steps that stand in what was turned, before one: what is not turned takes no room there.
    pub fn place(&self, step: usize, extent: Extent) -> usize {
        match extent {
            Extent::Whole => step,
            Extent::Looked => step - self.aside[step] as usize,
        }
    }

    /// Steps that it has, turned or not.
    pub fn steps(&self) -> usize {
        self.moments.len().saturating_sub(1)
    }

    /// Where a moment stands, in steps; none outside the recording.
    pub fn step_at(&self, t: f64) -> Option<f64> {
        let k = self.moments.partition_point(|m| *m <= t);
        let (a, b) = (*self.moments.get(k.checked_sub(1)?)?, *self.moments.get(k)?);
        Some((k - 1) as f64 + (t - a) / (b - a))
    }

    /// Mean speed (km/h) between two steps.
    pub fn mean_kmh(&self, from: usize, to: usize) -> f64 {
        let to = to.min(self.speed.len());
        3.6 * (self.sum[to] - self.sum[from.min(to)]) / to.saturating_sub(from).max(1) as f64
    }
}

/// A signal on its way to equal angles, in the widest registers that the processor has.
struct Resample<'a> {
    angle: &'a Angle,
    kernels: &'a Resampler,
    x: &'a Pyramid,
    start: f64,
    per_turn: usize,
    extent: Extent,
}

impl WithSimd for Resample<'_> {
    type Output = Vec<f32>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Vec<f32> {
        let Self { angle, kernels, x, start, per_turn, extent } = self;
        let n = per_turn / STEPS_PER_TURN;
        let mut out = vec![0.0; angle.place(angle.steps(), extent) * n];
        let mut stretch = kernels.stretch(x, per_turn as f64);
        let mut room = out.chunks_exact_mut(n);
        for (step, (t, v)) in angle.moments.windows(2).zip(angle.speed.windows(2)).enumerate() {
            if !angle.holds(step, extent) {
                continue;
            }
            let Some(out) = room.next() else { break };
            if t[1] - t[0] > LEAP_S {
                continue;
            }
            let wheel = |v: f32| f64::from(v).max(SLOWEST_SPEED_MS) / angle.circumference;
            let (f0, f1) = (wheel(v[0]), wheel(v[1]));
            let rate = 0.5 * (f0 + f1) * per_turn as f64;
            if !stretch.serves(rate) {
                stretch = kernels.stretch(x, rate);
            }
            // Hermite cubic of time over angle: it leaves and arrives at the wheel's own speed.
            let (t0, d) = (t[0] - start, t[1] - t[0]);
            let (m0, m1) = (1.0 / (STEPS_PER_TURN as f64 * f0), 1.0 / (STEPS_PER_TURN as f64 * f1));
            let (a, b) = (m0 + m1 - 2.0 * d, 3.0 * d - 2.0 * m0 - m1);
            // Where the reference was held up, the straight line is safer than the cubic.
            let (a, b, m0) = if (m0 / d - 1.0).abs() > 0.2 { (0.0, 0.0, d) } else { (a, b, m0) };
            stretch.fill(simd, [t0, m0, b, a], out);
        }
        out
    }
}
