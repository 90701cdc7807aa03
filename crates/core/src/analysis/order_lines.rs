//! Lines in order spectra: found against their noise, and their level at each speed.

use super::angle_domain::{AngleSamples, Windows};
use super::angular_resampling::{Angle, Extent, STEPS_PER_TURN};
use crate::signal::estimate::{hann, median, parabolic_shift};
use crate::signal::simd::{Turning, dot, dot_complex};
use crate::signal::{OrderWindows, add_ratio};
use nalgebra::{DMatrix, DVector};
use num_complex::{Complex32, Complex64};
use pulp::{Arch, Simd, WithSimd};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::f64::consts::{PI, TAU};

/// Width of the speed bins in which levels are taken, km/h.
pub const SPEED_BIN_KMH: f64 = 5.0;
/// How well a level repeats at best, relative: a bin of speed is a little off at its edges.
const LEVEL_REPEAT_SIGMA: f64 = 0.032;
/// Width of the slices of speed in which lines are looked for, two at a time, km/h.
const SPEED_SLICE_KMH: f64 = 7.5;
/// Lines of a channel that are reported.
const MAX_LINES: usize = 28;
/// Below this a line cannot be told from noise.
const MIN_Z_SCORE: f64 = 6.0;

/// A line found, its order still that of the uncorrected reference.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Line {
    pub order: f64,
    pub sigma: f64,
    /// How far it stands above chance, in standard deviations of the noise.
    pub z: f64,
    /// Power over floor where it stands best.
    pub ratio: f64,
}

impl Line {
    /// How much a line may pull at the scale.
    pub fn trust(&self) -> f64 {
        ((self.z - 3.0) / 6.0).clamp(0.1, 2.0)
    }
}

/// The level of an order in one bin of speed.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct LevelBin {
    /// Middle of the bin.
    pub speed_kmh: f64,
    /// Peak amplitude.
    pub amplitude: f64,
    /// Its standard error.
    pub sigma: f64,
}

/// Standard score of a mean of k exponentials (Wilson and Hilferty).
pub(super) fn score(ratio: f64, k: f64) -> f64 {
    (ratio.max(0.0).cbrt() - (1.0 - 1.0 / (9.0 * k))) * (9.0 * k).sqrt()
}

/// Finds lines: in the mean over all windows, and in the mean of each stretch of speed, where a
/// resonance may lift a line for a short while only.
pub(super) fn find_lines(w: &Windows<'_>, lowest: f64) -> Vec<Line> {
    let (spec, windows) = (&w.spectra, w.len());
    if windows < 3 {
        return vec![];
    }
    // Each window is gone through once, in slices of speed; two neighbouring slices are a stretch.
    let mut slices: BTreeMap<i64, (Vec<f64>, usize)> = BTreeMap::new();
    w.each(|kmh, power, floor| {
        let slice = slices.entry((kmh / SPEED_SLICE_KMH).floor() as i64).or_default();
        add_ratio(power, floor, 400.0, &mut slice.0);
        slice.1 += 1;
    });
    let mean = |of: &[i64]| -> (Vec<f64>, usize) {
        let parts: Vec<_> = of.iter().filter_map(|k| slices.get(k)).collect();
        let n = parts.iter().map(|p| p.1).sum::<usize>();
        let bins = parts.iter().map(|p| p.0.len()).max().unwrap_or(0);
        ((0..bins).map(|b| parts.iter().map(|p| p.0[b]).sum::<f64>() / n as f64).collect(), n)
    };
    let all: Vec<i64> = slices.keys().copied().collect();
    let mut stretches = vec![mean(&all)];
    if let (Some(&low), Some(&high)) = (all.first(), all.last()) {
        stretches.extend((low..=high).map(|k| mean(&[k, k + 1])).filter(|s| s.1 >= 3 && s.1 < windows));
    }
    let turns = spec.turns as f64;
    let mut found: Vec<Line> = vec![];
    for (r, count) in &stretches {
        let k = OrderWindows::independent(*count);
        for b in 1..r.len().saturating_sub(1) {
            if !(r[b] >= r[b - 1] && r[b] > r[b + 1]) || spec.order(b) < lowest {
                continue;
            }
            // The mean over a stretch is not one noise only: a broad hump is no line.
            let reach = (turns * 0.12).ceil() as usize + 2;
            let side = |d: isize| r.get((b as isize + d) as usize).copied().unwrap_or(1.0);
            let shoulder = 0.5 * (side(-(reach as isize)) + side(reach as isize)).max(1.0) + 0.5;
            let z = score(r[b] / shoulder.max(1.0), k);
            if z < MIN_Z_SCORE {
                continue;
            }
            let shift = parabolic_shift([r[b - 1].ln(), r[b].ln(), r[b + 1].ln()]);
            let order = (b as f64 + shift) / turns;
            let sigma = (0.22 / turns / ((r[b] - 1.0).max(0.2) * k).sqrt()).max(0.0002 * order);
            found.push(Line { order, sigma, z, ratio: r[b] });
        }
    }
    found.sort_by(|a, b| b.z.total_cmp(&a.z));
    let mut out: Vec<Line> = vec![];
    for l in found {
        let hidden = out.iter().any(|o| {
            let d = (l.order - o.order).abs();
            let near = (2.2 / turns).max(0.008 * o.order);
            d < near || d < 3.0 * near && l.ratio < 0.12 * o.ratio || d < 6.0 * near && l.ratio < 0.02 * o.ratio
        });
        if !hidden {
            out.push(l);
        }
    }
    out.truncate(MAX_LINES);
    out
}

/// Levels of several orders in each bin of speed, by projection on windows of a few turns; orders
/// too close for that are fitted together by least squares on longer blocks.
pub(super) fn levels(x: &AngleSamples, angle: &Angle, orders: &[f64]) -> Vec<Vec<LevelBin>> {
    orders
        .par_iter()
        .enumerate()
        .map(|(i, &o)| {
            let close: Vec<usize> = (0..orders.len()).filter(|&j| j != i && (orders[j] - o).abs() < 0.3).collect();
            let gap = close.iter().map(|&j| (orders[j] - o).abs()).fold(0.3, f64::min);
            // A long block tells neighbours apart, but a high order smears over it.
            let most = ((160.0 / o) as usize).clamp(16, 64);
            // What passes a resonance turns its phase there: the higher the order, the shorter the block.
            let least = ((60.0 / o) as usize).clamp(8, 16);
            let turns = ((2.4 / gap).ceil() as usize).clamp(least, most);
            let group: Vec<f64> = std::iter::once(o).chain(close.iter().map(|&j| orders[j])).collect();
            levels_of(x, angle, &group, orders, turns)
        })
        .collect()
}

/// A signal turned back by one order: one complex sample each angle step, the mean of x·exp(−jωθ) over it;
/// and how much of the recording it holds.
pub(super) fn baseband(x: &AngleSamples, angle: &Angle, order: f64) -> (Vec<[f32; 2]>, Extent) {
    let (x, per_turn, extent) = x.for_order(order);
    (Arch::new().dispatch(TurnBack { x, per_turn, extent, angle, order }), extent)
}

struct TurnBack<'a> {
    x: &'a [f32],
    per_turn: usize,
    extent: Extent,
    angle: &'a Angle,
    order: f64,
}

impl WithSimd for TurnBack<'_> {
    type Output = Vec<[f32; 2]>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Vec<[f32; 2]> {
        /// Steps after which the phase is worked out again, so that a long recording loses nothing.
        const PHASE_RENEWAL_STEPS: usize = 64;
        let Self { x, per_turn, extent, angle, order } = self;
        let n = per_turn / STEPS_PER_TURN;
        let (re, im): (Vec<f32>, Vec<f32>) = (0..n)
            .map(|i| Complex64::from_polar(2.0 / n as f64, -TAU * order * i as f64 / per_turn as f64))
            .map(|c| (c.re as f32, c.im as f32))
            .unzip();
        let step = order / STEPS_PER_TURN as f64;
        let (mut phase, by) = (Complex64::default(), Complex64::from_polar(1.0, -TAU * step.fract()));
        let mut out = vec![[0.0; 2]; angle.steps()];
        let (mut left, mut parts) = (0, x.chunks_exact(n));
        for (k, out) in out.iter_mut().enumerate() {
            if !angle.holds(k, extent) {
                left = 0;
                continue;
            }
            let Some(part) = parts.next() else { break };
            if left == 0 {
                phase = Complex64::from_polar(1.0, -TAU * (step * k as f64).fract());
                left = PHASE_RENEWAL_STEPS;
            }
            let z = match (part, &re[..], &im[..]) {
                // What most orders need is too short for wide registers.
                (&[x0, x1, x2, x3], &[r0, r1, r2, r3], &[i0, i1, i2, i3]) => {
                    Complex32::new((x0 * r0 + x1 * r1) + (x2 * r2 + x3 * r3), (x0 * i0 + x1 * i1) + (x2 * i2 + x3 * i3))
                }
                _ => Complex32::new(dot(simd, part, &re), dot(simd, part, &im)),
            };
            let z = z * Complex32::new(phase.re as f32, phase.im as f32);
            *out = [z.re, z.im];
            phase *= by;
            left -= 1;
        }
        out
    }
}

/// The mean of some of a baseband.
pub(super) fn mean(of: &[[f32; 2]]) -> Complex64 {
    of.iter().map(|z| Complex64::new(f64::from(z[0]), f64::from(z[1]))).sum::<Complex64>() / of.len().max(1) as f64
}

/// Projects windows of a baseband on orders beside it.
struct Beside {
    /// Hann times the order's turning, one row an order.
    rows: Vec<Turning>,
}

impl Beside {
    fn new(offsets: &[f64], steps: usize) -> Self {
        let hann: Vec<f64> = (0..steps).map(|i| hann(i as f64 + 0.5, steps as f64)).collect();
        let weight: f64 = hann.iter().sum();
        let rows = offsets
            .iter()
            .map(|d| {
                // The mean over a step lessens what turns within it.
                let x = PI * d / STEPS_PER_TURN as f64;
                let lessened = if x.abs() < 1e-9 { 1.0 } else { x.sin() / x };
                let turned = |(i, h): (usize, &f64)| {
                    let c = Complex64::from_polar(h / weight / lessened, -TAU * d * i as f64 / STEPS_PER_TURN as f64);
                    [c.re as f32, c.im as f32]
                };
                hann.iter().enumerate().map(turned).collect()
            })
            .collect();
        Self { rows }
    }

    /// The first `rows` of one window.
    fn project(&self, part: &[[f32; 2]], rows: usize) -> Vec<Complex64> {
        Arch::new().dispatch(Project { rows: &self.rows[..rows], part })
    }
}

struct Project<'a> {
    rows: &'a [Turning],
    part: &'a [[f32; 2]],
}

impl WithSimd for Project<'_> {
    type Output = Vec<Complex64>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Vec<Complex64> {
        // A loop and no closure: what is handed on is not compiled for the wide registers.
        let mut out = vec![Complex64::default(); self.rows.len()];
        for (z, row) in out.iter_mut().zip(self.rows) {
            let [re, im] = dot_complex(simd, self.part, row);
            *z = Complex64::new(f64::from(re), f64::from(im));
        }
        out
    }
}

/// Level of the first order of a group, the others fitted along with it.
fn levels_of(x: &AngleSamples, angle: &Angle, group: &[f64], all: &[f64], turns: usize) -> Vec<LevelBin> {
    let steps = STEPS_PER_TURN * turns;
    let o = group[0];
    // Hann's own transform between two orders, for the joint fit.
    let overlap = |d: f64| -> Complex64 {
        if d == 0.0 {
            return Complex64::new(1.0, 0.0);
        }
        let (mut sum, mut weight) = (Complex64::new(0.0, 0.0), 0.0);
        for i in 0..steps {
            let h = hann(i as f64 + 0.5, steps as f64);
            sum += Complex64::from_polar(h, TAU * d * i as f64 / STEPS_PER_TURN as f64);
            weight += h;
        }
        sum / weight
    };
    let m = group.len();
    let gram = DMatrix::from_fn(m, m, |a, b| overlap(group[b] - group[a]));
    let Some(inverse) = gram.try_inverse() else { return vec![] };
    let near = |orders: &[f64]| -> Vec<f64> {
        orders
            .iter()
            .flat_map(|k| [o - k / turns as f64, o + k / turns as f64])
            .filter(|q| *q > 0.35 && all.iter().all(|l| (l - q).abs() > 1.8 / turns as f64))
            .collect()
    };
    let mut noisy = near(&[2.6, 3.4, 4.2, 5.0]);
    // Where neighbours leave no quiet order beside it, look a little further out.
    if noisy.len() < 2 {
        noisy = [6.5, 8.5, 10.5].iter().flat_map(|k| [(o - k / turns as f64).max(0.4), o + k / turns as f64]).collect();
    }
    let offsets: Vec<f64> = group.iter().chain(&noisy).map(|q| q - o).collect();
    let beside = Beside::new(&offsets, steps);
    let (c, extent) = baseband(x, angle, o);
    let mut bins: BTreeMap<i64, (Vec<f64>, Vec<f64>)> = BTreeMap::new();
    for start in (0..(c.len() + 1).saturating_sub(steps)).step_by(steps / 2) {
        if !angle.usable(start, start + steps, extent) {
            continue;
        }
        let part = &c[start..start + steps];
        let bin = (angle.mean_kmh(start, start + steps) / SPEED_BIN_KMH).floor() as i64;
        let entry = bins.entry(bin).or_default();
        // Noise of windows that overlap is nearly the same twice.
        let aside = entry.1.is_empty() || start % steps == 0;
        let projected = beside.project(part, if aside { offsets.len() } else { m });
        let right = DVector::from_column_slice(&projected[..m]);
        let power = (&inverse * right)[0].norm_sqr();
        entry.0.push(power);
        entry.1.extend(projected[m..].iter().map(|z| z.norm_sqr()));
    }
    let gain = inverse[(0, 0)].norm().max(1.0);
    bins.into_iter()
        .map(|(bin, (power, mut noise))| {
            let floor = median(&mut noise, f64::total_cmp).unwrap_or_default() / std::f64::consts::LN_2 * gain;
            let mean = power.iter().sum::<f64>() / power.len() as f64;
            let k = (power.len() as f64 * 0.75).max(1.0);
            // The error of a mean power is noise plus noise beating with the line itself.
            let amplitude = (mean - floor).max(0.0).sqrt();
            let sigma_power = ((floor * floor + 2.0 * floor * amplitude * amplitude) / k).sqrt();
            let sigma =
                if amplitude > 0.0 { (sigma_power / (2.0 * amplitude)).min(sigma_power.sqrt()) } else { sigma_power.sqrt() };
            LevelBin {
                speed_kmh: (bin as f64 + 0.5) * SPEED_BIN_KMH,
                amplitude,
                sigma: sigma.hypot(LEVEL_REPEAT_SIGMA * amplitude).max(1e-9),
            }
        })
        .collect()
}

/// Growth of a level with speed: the exponent of a power law fitted below its peak, where it stands
/// above its error. None with fewer than three bins.
pub(super) fn growth(levels: &[LevelBin], peak_kmh: f64) -> Option<f64> {
    let points: Vec<(f64, f64, f64)> = levels
        .iter()
        .filter(|l| l.speed_kmh <= peak_kmh + 0.1 && l.amplitude > 2.0 * l.sigma)
        .map(|l| (l.speed_kmh.ln(), l.amplitude.ln(), (l.amplitude / l.sigma).powi(2).min(400.0)))
        .collect();
    if points.len() < 3 {
        return None;
    }
    let w: f64 = points.iter().map(|p| p.2).sum();
    let (mx, my) = (points.iter().map(|p| p.0 * p.2).sum::<f64>() / w, points.iter().map(|p| p.1 * p.2).sum::<f64>() / w);
    let sxx: f64 = points.iter().map(|p| p.2 * (p.0 - mx).powi(2)).sum();
    let sxy: f64 = points.iter().map(|p| p.2 * (p.0 - mx) * (p.1 - my)).sum();
    (sxx / w > 1e-3).then_some(sxy / sxx)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn growth_of_a_power_law_comes_back() {
        let l: Vec<_> = (8..20)
            .map(|i| LevelBin { speed_kmh: 5.0 * i as f64 + 2.5, amplitude: 1e-4 * (5.0 * i as f64 + 2.5).powi(2), sigma: 0.01 })
            .collect();
        assert!((growth(&l, 97.5).unwrap() - 2.0).abs() < 1e-6);
        assert!(growth(&l[..2], 97.5).is_none());
    }

    #[test]
    fn scores_of_noise_are_small_and_of_lines_large() {
        assert!(score(1.0, 20.0).abs() < 0.3);
        assert!(score(4.0, 20.0) > 5.5);
        assert!(score(1.5, 10.0) < 2.0);
    }
}
