//! A channel in wheel turns: densely for high orders, sparsely for low ones, and in windows.

use super::angular_resampling::{Angle, Extent, STEPS_PER_TURN};
use crate::signal::{OrderWindows, PASSBAND_SHARE, Pyramid, Resampler};

/// Samples a turn for low orders.
const SPARSE_STEP: usize = 32;

/// Turns from which a picture has windows enough.
const LONG_RUN_TURNS: usize = 4000;

/// Samples a turn that hold orders up to `top`.
pub(super) fn samples_for(top: f64) -> usize {
    [32usize, 64, 96, 128, 192, 256].into_iter().find(|n| *n as f64 * PASSBAND_SHARE >= top).unwrap_or(256)
}

/// Samples a second from which orders up to `top` can be taken at a wheel's turns a second.
pub(super) fn rate_for(top: f64, wheel_hz: f64) -> f64 {
    samples_for(top) as f64 * wheel_hz * 1.05
}

/// Samples at equal angles, how many of them a turn, and how much of the recording they hold.
pub(super) type AtAngles<'a> = (&'a [f32], usize, Extent);

/// Samples a second up to which a channel is needed everywhere, when nothing turns faster than this.
pub(super) fn whole_rate(fastest_hz: f64) -> f64 {
    // A level may be up to twice as fast as it need be.
    2.0 * 1.05 * SPARSE_STEP as f64 * fastest_hz
}

/// A channel at equal angles.
pub(super) struct AngleSamples {
    sparse: Vec<f32>,
    /// Empty where the sparse one holds all orders; of a long recording only the parts that are looked at.
    dense: Vec<f32>,
    per_turn: usize,
}

impl AngleSamples {
    /// Turns a signal whose first sample stands at `start` into samples that hold orders up to `top`.
    pub fn new(r: &Resampler, angle: &Angle, x: &Pyramid, start: f64, top: f64) -> Self {
        let per_turn = samples_for(top);
        let sparse = angle.resample(r, x, start, SPARSE_STEP, Extent::Whole);
        let dense = if per_turn > SPARSE_STEP { angle.resample(r, x, start, per_turn, Extent::Looked) } else { vec![] };
        Self { sparse, dense, per_turn: per_turn.max(SPARSE_STEP) }
    }

    /// The samples that hold an order.
    pub fn for_order(&self, order: f64) -> AtAngles<'_> {
        if self.dense.is_empty() || order <= PASSBAND_SHARE * SPARSE_STEP as f64 {
            (&self.sparse, SPARSE_STEP, Extent::Whole)
        } else {
            (&self.dense, self.per_turn, Extent::Looked)
        }
    }

    /// Windows of so many turns, up to an order.
    pub fn windows<'a>(&'a self, angle: &'a Angle, turns: usize, top: f64, with_floor: bool) -> Windows<'a> {
        Windows::new(self.for_order(top), angle, turns, top, with_floor)
    }
}

/// Overlapping windows over a channel at equal angles, each with its speed.
pub(super) struct Windows<'a> {
    pub spectra: OrderWindows<'a>,
    /// First step of each window.
    steps: Vec<usize>,
    angle: &'a Angle,
    with_floor: bool,
}

impl<'a> Windows<'a> {
    /// Windows over a channel's samples.
    pub fn new((x, per_turn, extent): AtAngles<'a>, angle: &'a Angle, turns: usize, top: f64, with_floor: bool) -> Self {
        let n = per_turn / STEPS_PER_TURN;
        // Pictures of short runs need every window that there is; what is counted needs them only half
        // apart, and of a long run, which has hundreds, side by side.
        let long = angle.turns() > LONG_RUN_TURNS;
        let overlap = match (long, with_floor) {
            (true, true) => 1,
            (true, false) | (false, true) => 2,
            (false, false) => 4,
        };
        let (length, hop) = (STEPS_PER_TURN * turns, (STEPS_PER_TURN * turns / overlap).max(1));
        let whole = (0..).map(|k| k * hop).take_while(|s| s + length <= angle.steps());
        let steps: Vec<usize> = whole.filter(|&s| angle.usable(s, s + length, extent)).collect();
        let starts = steps.iter().map(|&s| angle.place(s, extent) * n).collect();
        Self { spectra: OrderWindows::at(x, per_turn, turns, top, starts), steps, angle, with_floor }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.steps.len()
    }

    /// Mean speed of a window, km/h.
    pub fn speed(&self, window: usize) -> f64 {
        let start = self.steps[window];
        self.angle.mean_kmh(start, start + STEPS_PER_TURN * self.spectra.turns)
    }

    /// Shows each window in its order: its speed, its power, and the noise under it where that is wanted.
    pub fn each(&self, mut see: impl FnMut(f64, &[f32], &[f32])) {
        self.spectra.each(self.with_floor, |w, power, floor| see(self.speed(w), power, floor));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn there_are_samples_enough_for_every_order() {
        for top in [8.0, 12.0, 20.0, 41.0, 82.0, 87.0] {
            assert!(samples_for(top) as f64 * PASSBAND_SHARE >= top);
            assert_eq!(samples_for(top) % STEPS_PER_TURN, 0);
        }
    }
}
