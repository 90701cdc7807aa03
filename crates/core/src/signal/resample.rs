//! Samples at equal angles.
//!
//! Each output sample is a windowed-sinc interpolation (Kaiser) of the input around its moment, from
//! one of a few kernels whose cut-off follows the output rate, so that nothing above the new Nyquist
//! order folds back. Where the output is much slower than the input it is taken from a [`Pyramid`] of
//! halved rates, so that a kernel never needs to be long.

use std::f64::consts::PI;

/// Length of a kernel.
const TAPS: usize = 32;
/// Positions between two samples at which a kernel is tabulated.
const PHASES: usize = 256;
/// Kernels for each halving of the rate.
const PER_OCTAVE: usize = 16;
/// The input of a kernel is at least this much faster than its output.
const LEAST_RATIO: f64 = 1.0;
/// Of an output rate, what passes a kernel unchanged: the highest order is this share of the samples a turn.
pub const PASSBAND: f64 = 0.375;

/// Modified Bessel function I0, by its series.
fn bessel_i0(x: f64) -> f64 {
    let (mut sum, mut term, mut k) = (1.0, 1.0, 1.0);
    while term > 1e-12 * sum {
        term *= (x / (2.0 * k)).powi(2);
        sum += term;
        k += 1.0;
    }
    sum
}

/// A windowed sinc at `u` samples from its middle; `cutoff` in cycles a sample.
fn windowed_sinc(u: f64, cutoff: f64, half: f64, beta: f64) -> f64 {
    let w = 2.0 * cutoff;
    let sinc = if u.abs() < 1e-12 { w } else { (PI * w * u).sin() / (PI * u) };
    let x = u / half;
    if x.abs() >= 1.0 { 0.0 } else { sinc * bessel_i0(beta * (1.0 - x * x).sqrt()) / bessel_i0(beta) }
}

/// One kernel, a row for each position between two samples.
struct Kernel {
    rows: Vec<[f32; TAPS]>,
}

impl Kernel {
    fn new(cutoff: f64) -> Self {
        let rows = (0..=PHASES)
            .map(|p| {
                let f = p as f64 / PHASES as f64;
                let mut row = [0.0; TAPS];
                for (i, v) in row.iter_mut().enumerate() {
                    *v = windowed_sinc(i as f64 - (TAPS / 2 - 1) as f64 - f, cutoff, (TAPS / 2) as f64, 5.65);
                }
                // A constant stays what it is.
                let sum: f64 = row.iter().sum();
                row.map(|v| (v / sum) as f32)
            })
            .collect();
        Self { rows }
    }

    /// The input at a fractional position; beyond its ends is silence.
    #[inline]
    fn at(&self, x: &[f32], position: f64) -> f32 {
        let whole = position.floor();
        let row = &self.rows[((position - whole) * PHASES as f64 + 0.5) as usize];
        let from = whole as isize - (TAPS / 2 - 1) as isize;
        if from >= 0
            && let Some(part) = x.get(from as usize..from as usize + TAPS)
        {
            return dot(part, row);
        }
        let mut sum = 0.0;
        for (i, k) in row.iter().enumerate() {
            let p = from + i as isize;
            if p >= 0 && (p as usize) < x.len() {
                sum += k * x[p as usize];
            }
        }
        sum
    }
}

/// Σ a·b in eight strands, which a compiler turns into wide instructions.
#[inline]
fn dot(a: &[f32], b: &[f32; TAPS]) -> f32 {
    let mut strands = [0.0f32; 8];
    for (a, b) in a.as_chunks::<8>().0.iter().zip(b.as_chunks::<8>().0) {
        for k in 0..8 {
            strands[k] += a[k] * b[k];
        }
    }
    strands.iter().sum()
}

/// Half of the taps of the halving filter on either side that are not zero.
const HALVING: usize = 8;

/// Every second sample behind a half-band filter; sample n stands where sample 2n stood.
fn halve(x: &[f32]) -> Vec<f32> {
    let n = x.len().div_ceil(2);
    let taps: Vec<f32> = {
        let half = 2.0 * HALVING as f64;
        let t: Vec<f64> = (0..HALVING).map(|k| windowed_sinc((2 * k + 1) as f64, 0.25, half, 6.0)).collect();
        let sum: f64 = 2.0 * t.iter().sum::<f64>();
        t.iter().map(|v| (0.5 * v / sum) as f32).collect()
    };
    // Odd samples, with silence on either side: odd[k + HALVING] is x[2k + 1].
    let mut odd = vec![0.0f32; n + 2 * HALVING];
    for (o, v) in odd[HALVING..].iter_mut().zip(x.iter().skip(1).step_by(2)) {
        *o = *v;
    }
    let mut out: Vec<f32> = x.iter().step_by(2).map(|v| 0.5 * v).collect();
    for (k, h) in taps.iter().enumerate() {
        let (before, after) = (&odd[HALVING - 1 - k..], &odd[HALVING + k..]);
        for ((o, a), b) in out.iter_mut().zip(before).zip(after) {
            *o += h * (a + b);
        }
    }
    out
}

/// A signal at its own rate, at half of it, a quarter …
pub struct Pyramid {
    levels: Vec<Vec<f32>>,
    rate: f64,
}

impl Pyramid {
    /// Halves `x` (at `rate`) as long as the slower signal would still be at least as fast as `slowest`.
    pub fn new(x: Vec<f32>, rate: f64, slowest: f64) -> Self {
        let mut levels = vec![x];
        while rate / f64::powi(2.0, levels.len() as i32) >= slowest.max(1e-3) && levels[levels.len() - 1].len() > TAPS {
            levels.push(halve(&levels[levels.len() - 1]));
        }
        Self { levels, rate }
    }

    /// The signal at its own rate.
    pub fn samples(&self) -> &[f32] {
        &self.levels[0]
    }

    /// Rate of the samples that it was made from.
    pub fn rate(&self) -> f64 {
        self.rate
    }

    /// The slowest level of at least this rate (or the fastest there is), as a pyramid of its own.
    pub fn at_least(&self, rate: f64) -> Pyramid {
        let l = self.level(rate);
        Self { levels: self.levels[l..].to_vec(), rate: self.rate / f64::powi(2.0, l as i32) }
    }

    fn level(&self, at_least: f64) -> usize {
        let l = (self.rate / at_least).log2().floor();
        (l.max(0.0) as usize).min(self.levels.len() - 1)
    }
}

/// The interpolation kernels, tabulated once.
pub struct Resampler {
    kernels: Vec<Kernel>,
}

impl Default for Resampler {
    fn default() -> Self {
        Self::new()
    }
}

impl Resampler {
    /// Tabulates the kernels.
    pub fn new() -> Self {
        // A level may be up to twice as fast as it need be, and a little more where rates change.
        let ratio = |k: usize| LEAST_RATIO * f64::powf(2.0, k as f64 / PER_OCTAVE as f64);
        let kernels = (0..=PER_OCTAVE + 2).map(|k| Kernel::new((0.5 / ratio(k)).min(0.45))).collect();
        Self { kernels }
    }

    /// Starts a stretch of samples at (about) one output rate.
    pub fn stretch<'a>(&'a self, x: &'a Pyramid, output_rate: f64) -> Stretch<'a> {
        let l = x.level(LEAST_RATIO * output_rate);
        let rate = x.rate / f64::powi(2.0, l as i32);
        let k = (PER_OCTAVE as f64 * (rate / output_rate / LEAST_RATIO).log2()).round();
        let kernel = &self.kernels[(k.max(0.0) as usize).min(self.kernels.len() - 1)];
        Stretch { kernel, x: &x.levels[l], rate }
    }
}

/// Samples taken at one output rate.
pub struct Stretch<'a> {
    kernel: &'a Kernel,
    x: &'a [f32],
    rate: f64,
}

impl Stretch<'_> {
    /// The signal at a time (s) from its first sample.
    #[inline]
    pub fn at(&self, time: f64) -> f32 {
        self.kernel.at(self.x, time * self.rate)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::signal::spectra;
    use std::f64::consts::TAU;

    fn tone(f: f64, n: usize) -> Vec<f32> {
        (0..n).map(|i| (TAU * f * i as f64).sin() as f32).collect()
    }

    /// A tone of `f` cycles a sample, taken at `ratio` times fewer samples.
    fn taken(f: f64, ratio: f64) -> Vec<f32> {
        let (r, p) = (Resampler::new(), Pyramid::new(tone(f, 80_000), 1.0, 0.01));
        let s = r.stretch(&p, 1.0 / ratio);
        (0..(60_000.0 / ratio) as usize).map(|k| s.at(5000.0 + k as f64 * ratio)).collect()
    }

    #[test]
    fn a_tone_between_samples_comes_back() {
        let (r, p) = (Resampler::new(), Pyramid::new(tone(0.11, 4000), 1.0, 0.6));
        let s = r.stretch(&p, 0.9);
        for k in 0..200 {
            let t = 1000.0 + k as f64 * 0.73;
            assert!((f64::from(s.at(t)) - (TAU * 0.11 * t).sin()).abs() < 3e-3);
        }
    }

    #[test]
    fn the_passband_passes_at_every_rate() {
        for ratio in [1.2, 1.7, 2.3, 3.9, 5.0, 9.0, 17.0, 30.0] {
            for share in [0.02, 0.1, 0.2, 0.3, PASSBAND] {
                let x = taken(share / ratio, ratio);
                let a = (2.0 * x.iter().map(|v| f64::from(*v).powi(2)).sum::<f64>() / x.len() as f64).sqrt();
                assert!((a - 1.0).abs() < 0.012, "{share} of the output rate at {ratio}: {a}");
            }
        }
    }

    #[test]
    fn what_would_fold_into_the_passband_is_gone() {
        // 64 samples a turn: the passband ends at order 24.
        for ratio in [1.2, 1.7, 2.3, 3.9, 5.0, 9.0, 17.0] {
            for share in [0.64, 0.8, 1.1, 1.3, 1.6, 1.9, 3.2] {
                if share / ratio < 0.49 {
                    let s = spectra(&taken(share / ratio, ratio), 64, 8, 64.0 * PASSBAND, false, |_, _| true);
                    let left = s.power.iter().flatten().copied().fold(0.0, f32::max).sqrt();
                    assert!(left < 4e-3, "{share} of the output rate at {ratio}: {left}");
                }
            }
        }
    }

    #[test]
    fn beyond_the_ends_is_silence() {
        let (r, p) = (Resampler::new(), Pyramid::new(vec![1.0; 10], 1.0, 1.0));
        let s = r.stretch(&p, 1.0);
        assert_eq!((s.at(-50.0), s.at(90.0)), (0.0, 0.0));
        let empty = Pyramid::new(vec![], 1.0, 1.0);
        assert_eq!(r.stretch(&empty, 0.1).at(0.0), 0.0);
    }
}
