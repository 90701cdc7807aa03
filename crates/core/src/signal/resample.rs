//! Samples at equal angles.
//!
//! Each output sample is a windowed-sinc interpolation (Kaiser) of the input around its moment, from
//! one of a few kernels whose cut-off follows the output rate, so that nothing above the new Nyquist
//! order folds back. Where the output is much slower than the input it is taken from a [`Pyramid`] of
//! halved rates, so that a kernel never needs to be long.

use crate::error::Problem;
use crate::signal::Data;
use crate::signal::simd::dot;
use pulp::{Arch, Simd, WithSimd};
use std::f64::consts::PI;
use std::sync::{Arc, LazyLock};

/// Length of a kernel.
const KERNEL_TAPS: usize = 24;
/// Positions between two samples at which a kernel is tabulated.
const KERNEL_PHASES: usize = 256;
/// Kernels for each halving of the rate.
const KERNELS_PER_OCTAVE: usize = 16;
/// The input of a kernel is at least this much faster than its output.
const MIN_RATE_RATIO: f64 = 1.0;
/// Of an output rate, what passes a kernel unchanged: the highest order is this share of the samples a turn.
pub const PASSBAND_SHARE: f64 = 0.34;

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
    rows: Vec<[f32; KERNEL_TAPS]>,
}

impl Kernel {
    fn new(cutoff: f64) -> Self {
        let rows = (0..=KERNEL_PHASES)
            .map(|p| {
                let f = p as f64 / KERNEL_PHASES as f64;
                let mut row = [0.0; KERNEL_TAPS];
                for (i, v) in row.iter_mut().enumerate() {
                    *v = windowed_sinc(i as f64 - (KERNEL_TAPS / 2 - 1) as f64 - f, cutoff, (KERNEL_TAPS / 2) as f64, 5.65);
                }
                // A constant stays what it is.
                let sum: f64 = row.iter().sum();
                row.map(|v| (v / sum) as f32)
            })
            .collect();
        Self { rows }
    }

    /// The input at a fractional position; beyond its ends is silence.
    #[inline(always)]
    fn at<S: Simd>(&self, simd: S, x: &[f32], position: f64) -> f32 {
        // A position is moved up by a kernel's half, so that truncation is the floor.
        let moved = position + (KERNEL_TAPS / 2) as f64;
        if moved < 0.0 {
            return 0.0;
        }
        let (whole, phase) = split(moved);
        let row = &self.rows[(phase as usize).min(KERNEL_PHASES)];
        let from = whole as isize - (KERNEL_TAPS - 1) as isize;
        if from >= 0
            && let Some(part) = x.get(from as usize..)
            && let Some(part) = part.first_chunk::<KERNEL_TAPS>()
        {
            return dot(simd, part, row);
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

/// The whole part of a position that is not negative, and the row of a kernel for the rest. By way of sums so
/// large that nothing is left below the point: quicker than casts.
#[inline(always)]
fn split(moved: f64) -> (u32, u32) {
    const LARGE: f64 = (1u64 << 52) as f64;
    const LARGE_SHORT: f32 = (1u32 << 23) as f32;
    let summed = moved - 0.5 + LARGE;
    let part = (moved - (summed - LARGE)) as f32;
    (summed.to_bits() as u32, (part * KERNEL_PHASES as f32 + LARGE_SHORT).to_bits() & (2 * KERNEL_PHASES as u32 - 1))
}

/// Half of the taps of the halving filter on either side that are not zero.
const HALF_HALVING_TAPS: usize = 8;

/// Every second sample behind a half-band filter; sample n stands where sample 2n stood.
fn halve(x: &[f32]) -> Vec<f32> {
    Arch::new().dispatch(Halve(x))
}

struct Halve<'a>(&'a [f32]);

impl WithSimd for Halve<'_> {
    type Output = Vec<f32>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Vec<f32> {
        /// Outputs worked on at once: small enough to stay near the processor.
        const BLOCK: usize = 2048;
        let x = self.0;
        let taps: [f32; HALF_HALVING_TAPS] = {
            let half = 2.0 * HALF_HALVING_TAPS as f64;
            let t: Vec<f64> = (0..HALF_HALVING_TAPS).map(|k| windowed_sinc((2 * k + 1) as f64, 0.25, half, 6.0)).collect();
            let sum: f64 = 2.0 * t.iter().sum::<f64>();
            std::array::from_fn(|k| (0.5 * t[k] / sum) as f32)
        };
        let wide = taps.map(|t| simd.splat_f32s(t));
        let n = x.len().div_ceil(2);
        let mut out = vec![0.0f32; n];
        let mut odd = [0.0f32; BLOCK + 2 * HALF_HALVING_TAPS];
        for (b, part) in out.chunks_mut(BLOCK).enumerate() {
            let first = b * BLOCK;
            // odd[k] is x[2(first + k − HALVING) + 1], silence beyond the ends.
            let from = first as isize - HALF_HALVING_TAPS as isize;
            let whole = from >= 0 && 2 * (from as usize + odd.len()) <= x.len();
            if whole {
                let pairs = x[2 * from as usize..2 * (from as usize + odd.len())].as_chunks::<2>().0;
                odd.iter_mut().zip(pairs).for_each(|(o, p)| *o = p[1]);
            } else {
                for (k, o) in odd.iter_mut().enumerate() {
                    *o = usize::try_from(2 * (from + k as isize) + 1).ok().and_then(|i| x.get(i)).copied().unwrap_or(0.0);
                }
            }
            let (pairs, last) = x[2 * first..].as_chunks::<2>();
            part.iter_mut().zip(pairs).for_each(|(o, p)| *o = 0.5 * p[0]);
            if let (Some(o), Some(v)) = (part.get_mut(pairs.len()), last.first()) {
                *o = 0.5 * v;
            }
            let n = part.len();
            let beside = |k: usize| {
                let (before, after) = (&odd[HALF_HALVING_TAPS - 1 - k..][..n], &odd[HALF_HALVING_TAPS + k..][..n]);
                (S::as_simd_f32s(before), S::as_simd_f32s(after))
            };
            let (lanes, rest) = S::as_mut_simd_f32s(part);
            let sides: [_; HALF_HALVING_TAPS] = std::array::from_fn(beside);
            for (i, o) in lanes.iter_mut().enumerate() {
                for (((before, _), (after, _)), h) in sides.iter().zip(&wide) {
                    *o = simd.mul_add_e_f32s(*h, simd.add_f32s(before[i], after[i]), *o);
                }
            }
            for (i, o) in rest.iter_mut().enumerate() {
                for (((_, before), (_, after)), h) in sides.iter().zip(&taps) {
                    *o += h * (before[i] + after[i]);
                }
            }
        }
        out
    }
}

/// A signal at its own rate, at half of it, a quarter …
pub struct Pyramid {
    /// Shared with the pyramids that begin at one of them.
    levels: Vec<Arc<Vec<f32>>>,
    rate: f64,
}

/// Samples of a channel that are halved at once.
const PIECE_SAMPLES: usize = 1 << 16;

impl Pyramid {
    /// Halves `x` (at `rate`) as long as the slower signal would still be at least as fast as `slowest`.
    pub fn new(x: Vec<f32>, rate: f64, slowest: f64) -> Self {
        let mut out = Self { levels: vec![Arc::new(x)], rate };
        out.grow(slowest);
        out
    }

    /// The same of a channel, without the faster levels where `fastest` samples a second are enough.
    pub fn from_data(x: &Data, rate: f64, fastest: f64, slowest: f64) -> Result<Self, Problem> {
        if rate / 2.0 < fastest.max(1e-3) {
            return Ok(Self::new(x.to_vec()?, rate, slowest));
        }
        // The first halving reads the channel a piece at a time, with a filter's length on either side.
        const SIDE: usize = 4 * HALF_HALVING_TAPS;
        let mut half = Vec::with_capacity(x.len().div_ceil(2));
        let mut piece = vec![0.0; PIECE_SAMPLES + 2 * SIDE];
        for from in (0..x.len()).step_by(PIECE_SAMPLES) {
            let skip = SIDE.min(from);
            let n = (PIECE_SAMPLES + SIDE + skip).min(x.len() - from + skip);
            x.read(from - skip, &mut piece[..n])?;
            let halved = halve(&piece[..n]);
            let kept = (PIECE_SAMPLES / 2).min((x.len() - from).div_ceil(2));
            half.extend_from_slice(&halved[skip / 2..skip / 2 + kept]);
        }
        let mut out = Self { levels: vec![Arc::new(half)], rate: rate / 2.0 };
        out.grow(slowest);
        let enough = out.level(fastest);
        out.levels.drain(..enough);
        out.rate /= f64::powi(2.0, enough as i32);
        Ok(out)
    }

    /// The same of a channel that is needed in parts only: every level holds zeros but for what is `wanted` of it
    /// (the number of a sample of the channel, and whether the level is no faster than `slow`). Every level is shown
    /// to `watch` as it grows, with its number, a stretch at a time; so a long channel never stands in memory whole.
    pub fn in_parts(
        x: &Data,
        rate: f64,
        (slow, slowest): (f64, f64),
        wanted: impl Fn(usize, bool) -> bool,
        mut watch: impl FnMut(usize, &[f32]),
    ) -> Result<Self, Problem> {
        /// Samples that are wanted or not together.
        const TOGETHER: usize = 4096;
        let n = x.len();
        let mut count = 1;
        while rate / f64::powi(2.0, count) >= slowest.max(1e-3) && n >> (count - 1) > KERNEL_TAPS {
            count += 1;
        }
        // On either side of a piece stands what the filters of all levels together reach over.
        let side = (4 * HALF_HALVING_TAPS) << count;
        let piece = (8 * side).max(PIECE_SAMPLES);
        // What is never written of so large an array costs no memory.
        let mut levels: Vec<Vec<f32>> = (0..count).map(|k| vec![0.0; n.div_ceil(1 << k)]).collect();
        let mut buffer = vec![0.0; piece + 2 * side];
        for from in (0..n).step_by(piece) {
            let skip = side.min(from);
            let have = (piece + side + skip).min(n - from + skip);
            x.read(from - skip, &mut buffer[..have])?;
            let mut halved: Vec<f32> = vec![];
            for (k, level) in levels.iter_mut().enumerate() {
                if k > 0 {
                    halved = halve(if k == 1 { &buffer[..have] } else { &halved });
                }
                let now = if k == 0 { &buffer[..have] } else { &halved };
                let kept = (piece >> k).min((n - from).div_ceil(1 << k));
                let part = &now[skip >> k..][..kept];
                watch(k, part);
                let (at, is_slow) = (from >> k, rate / f64::powi(2.0, k as i32) <= slow);
                for (i, chunk) in part.chunks(TOGETHER >> k).enumerate() {
                    let first = from + i * TOGETHER;
                    if [first.saturating_sub(TOGETHER), first, first + 2 * TOGETHER].into_iter().any(|i| wanted(i, is_slow)) {
                        level[at + i * (TOGETHER >> k)..][..chunk.len()].copy_from_slice(chunk);
                    }
                }
            }
        }
        Ok(Self { levels: levels.into_iter().map(Arc::new).collect(), rate })
    }

    fn grow(&mut self, slowest: f64) {
        let rate = self.rate;
        while rate / f64::powi(2.0, self.levels.len() as i32) >= slowest.max(1e-3)
            && self.levels[self.levels.len() - 1].len() > KERNEL_TAPS
        {
            self.levels.push(Arc::new(halve(&self.levels[self.levels.len() - 1])));
        }
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

/// The interpolation kernels.
pub struct Resampler {
    kernels: Vec<Kernel>,
}

/// Tabulated once for the whole program.
static SHARED: LazyLock<Resampler> = LazyLock::new(Resampler::tabulate);

impl Resampler {
    /// The kernels, tabulated at the first call.
    pub fn shared() -> &'static Self {
        &SHARED
    }

    fn tabulate() -> Self {
        // A level may be up to twice as fast as it need be, and a little more where rates change.
        let ratio = |k: usize| MIN_RATE_RATIO * f64::powf(2.0, k as f64 / KERNELS_PER_OCTAVE as f64);
        let kernels = (0..=KERNELS_PER_OCTAVE + 2).map(|k| Kernel::new((0.5 / ratio(k)).min(0.45))).collect();
        Self { kernels }
    }

    /// Starts a stretch of samples at (about) one output rate.
    pub fn stretch<'a>(&'a self, x: &'a Pyramid, output_rate: f64) -> Stretch<'a> {
        let l = x.level(MIN_RATE_RATIO * output_rate);
        let rate = x.rate / f64::powi(2.0, l as i32);
        let k = (KERNELS_PER_OCTAVE as f64 * (rate / output_rate / MIN_RATE_RATIO).log2()).round();
        let kernel = &self.kernels[(k.max(0.0) as usize).min(self.kernels.len() - 1)];
        Stretch { kernel, x: &x.levels[l], rate, output_rate }
    }
}

/// Samples taken at one output rate.
pub struct Stretch<'a> {
    kernel: &'a Kernel,
    x: &'a [f32],
    rate: f64,
    output_rate: f64,
}

impl Stretch<'_> {
    /// Whether it still serves at an output rate: the kernels stand a little more than this apart.
    #[inline]
    pub fn serves(&self, output_rate: f64) -> bool {
        (output_rate / self.output_rate - 1.0).abs() < 0.02
    }

    /// The signal at times that follow a cubic `c[0] + u·(c[1] + u·(c[2] + u·c[3]))` in s from its first sample and
    /// never run back, with u from 0 to 1 in as many steps as there is room for, the last left out.
    #[inline(always)]
    pub fn fill<S: Simd>(&self, simd: S, c: [f64; 4], out: &mut [f32]) {
        /// Samples whose positions are worked out together.
        const TOGETHER: usize = 4;
        let each = 1.0 / out.len() as f64;
        let mut first = 0.0;
        for out in out.chunks_mut(TOGETHER) {
            let mut moved = [0.0; TOGETHER];
            for (j, m) in moved.iter_mut().enumerate() {
                let u = each * (first + j as f64);
                *m = (c[0] + u * (c[1] + u * (c[2] + u * c[3]))) * self.rate + (KERNEL_TAPS / 2) as f64;
            }
            first += TOGETHER as f64;
            let last = moved[out.len() - 1];
            if moved[0] >= KERNEL_TAPS as f64 && last + 1.0 < self.x.len() as f64 {
                let mut at = [(0, 0); TOGETHER];
                for (a, m) in at.iter_mut().zip(moved) {
                    *a = split(m);
                }
                for (o, (whole, phase)) in out.iter_mut().zip(at) {
                    let row = &self.kernel.rows[(phase as usize).min(KERNEL_PHASES)];
                    *o = dot(simd, &self.x[whole as usize + 1 - KERNEL_TAPS..][..KERNEL_TAPS], row);
                }
            } else {
                for (o, m) in out.iter_mut().zip(moved) {
                    *o = self.kernel.at(simd, self.x, m - (KERNEL_TAPS / 2) as f64);
                }
            }
        }
    }

    /// The signal at several times.
    pub fn at_all(&self, times: &[f64]) -> Vec<f32> {
        Arch::new().dispatch(Taken(self, times))
    }
}

struct Taken<'a>(&'a Stretch<'a>, &'a [f64]);

impl WithSimd for Taken<'_> {
    type Output = Vec<f32>;

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) -> Vec<f32> {
        let mut out = vec![0.0; self.1.len()];
        for (o, t) in out.iter_mut().zip(self.1) {
            *o = self.0.kernel.at(simd, self.0.x, t * self.0.rate);
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::signal::OrderWindows;
    use std::f64::consts::TAU;

    fn tone(f: f64, n: usize) -> Vec<f32> {
        (0..n).map(|i| (TAU * f * i as f64).sin() as f32).collect()
    }

    /// A tone of `f` cycles a sample, taken at `ratio` times fewer samples.
    fn taken(f: f64, ratio: f64) -> Vec<f32> {
        let (r, p) = (Resampler::shared(), Pyramid::new(tone(f, 80_000), 1.0, 0.01));
        let s = r.stretch(&p, 1.0 / ratio);
        s.at_all(&(0..(60_000.0 / ratio) as usize).map(|k| 5000.0 + k as f64 * ratio).collect::<Vec<_>>())
    }

    #[test]
    fn a_tone_between_samples_comes_back() {
        let (r, p) = (Resampler::shared(), Pyramid::new(tone(0.11, 4000), 1.0, 0.6));
        let s = r.stretch(&p, 0.9);
        for k in 0..200 {
            let t = 1000.0 + k as f64 * 0.73;
            assert!((f64::from(s.at_all(&[t])[0]) - (TAU * 0.11 * t).sin()).abs() < 3e-3);
        }
    }

    #[test]
    fn the_passband_passes_at_every_rate() {
        for ratio in [1.2, 1.7, 2.3, 3.9, 5.0, 9.0, 17.0, 30.0] {
            for share in [0.02, 0.1, 0.2, 0.3, PASSBAND_SHARE] {
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
                    let x = taken(share / ratio, ratio);
                    let mut left = 0.0f32;
                    OrderWindows::new(&x, 64, 8, 2, 64.0 * PASSBAND_SHARE, |_, _| true)
                        .each(false, |_, power, _| left = power.iter().copied().fold(left, f32::max));
                    let left = left.sqrt();
                    assert!(left < 4e-3, "{share} of the output rate at {ratio}: {left}");
                }
            }
        }
    }

    #[test]
    fn a_channel_halved_in_pieces_is_the_same_as_at_once() {
        let x = tone(0.013, 3 * PIECE_SAMPLES + 777);
        let at_once = Pyramid::new(x.clone(), 1024.0, 100.0);
        let pieces = Pyramid::from_data(&Data::from(x), 1024.0, 400.0, 100.0).unwrap();
        assert_eq!((pieces.rate(), pieces.levels.len()), (512.0, at_once.levels.len() - 1));
        let worst = pieces.levels[0].iter().zip(at_once.levels[1].iter()).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
        assert!(worst < 1e-6 && pieces.levels[0].len() == at_once.levels[1].len(), "{worst}");
    }

    #[test]
    fn a_channel_in_parts_is_the_same_where_it_is_wanted_and_whole_where_it_is_slow() {
        let x = tone(0.013, 3 * PIECE_SAMPLES + 12_777);
        let at_once = Pyramid::new(x.clone(), 4096.0, 100.0);
        let wanted = |i: usize, slow: bool| slow || (70_000..90_000).contains(&i);
        let (mut shown, mut seen) = (vec![0usize; 6], 0.0f32);
        let parts = Pyramid::in_parts(&Data::from(x), 4096.0, (1100.0, 100.0), wanted, |k, p| {
            seen = seen.max(p.iter().zip(&at_once.levels[k][shown[k]..]).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max));
            shown[k] += p.len();
        })
        .unwrap();
        let lengths = |p: &Pyramid| p.levels.iter().map(|l| l.len()).collect::<Vec<_>>();
        assert_eq!(lengths(&parts), lengths(&at_once));
        assert!(seen < 1e-5 && shown == lengths(&parts), "{seen} {shown:?}");
        let off = |k: usize, from: usize, to: usize| {
            let pairs = parts.levels[k][from..to].iter().zip(&at_once.levels[k][from..to]);
            pairs.map(|(a, b)| (a - b).abs()).fold(0.0, f32::max)
        };
        assert!(off(0, 70_000, 90_000) < 1e-6 && off(1, 35_000, 45_000) < 1e-5 && off(2, 0, parts.levels[2].len()) < 1e-5);
        assert!(parts.levels[0][..50_000].iter().chain(&parts.levels[1][60_000..]).all(|v| *v == 0.0));
    }

    #[test]
    fn a_stretch_filled_along_a_cubic_is_the_signal_at_its_times() {
        struct Fill<'a>(&'a Stretch<'a>, [f64; 4], usize);
        impl WithSimd for Fill<'_> {
            type Output = Vec<f32>;
            fn with_simd<S: Simd>(self, simd: S) -> Vec<f32> {
                let mut out = vec![9.0; self.2];
                self.0.fill(simd, self.1, &mut out);
                out
            }
        }
        let (r, p) = (Resampler::shared(), Pyramid::new(tone(0.11, 400), 1.0, 0.6));
        let s = r.stretch(&p, 0.9);
        // In the middle, over the first samples, over the last ones, beyond both ends.
        for (from, n) in [(200.0, 4), (200.0, 32), (200.0, 6), (-8.0, 32), (-90.0, 8), (380.0, 32), (500.0, 8)] {
            let c = [from, 20.0, 4.0, -1.5];
            let times: Vec<f64> =
                (0..n).map(|j| j as f64 / n as f64).map(|u| c[0] + u * (c[1] + u * (c[2] + u * c[3]))).collect();
            let (filled, one_by_one) = (Arch::new().dispatch(Fill(&s, c, n)), s.at_all(&times));
            let worst = filled.iter().zip(&one_by_one).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
            assert!(filled.len() == n && worst < 2e-3, "{from} {n}: {worst}");
        }
    }

    #[test]
    fn beyond_the_ends_is_silence() {
        let (r, p) = (Resampler::shared(), Pyramid::new(vec![1.0; 10], 1.0, 1.0));
        let s = r.stretch(&p, 1.0);
        assert_eq!(s.at_all(&[-50.0, 90.0]), [0.0, 0.0]);
        let empty = Pyramid::new(vec![], 1.0, 1.0);
        assert_eq!(r.stretch(&empty, 0.1).at_all(&[0.0]), [0.0]);
    }
}
