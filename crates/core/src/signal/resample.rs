//! Samples at equal angles.
//!
//! Each output sample is a windowed-sinc interpolation (Kaiser) of the input around its moment. The
//! kernel widens where the output is slower than the input, so that nothing above the new Nyquist
//! order folds back.

use std::f64::consts::PI;

/// Half width of the kernel in its own zero crossings.
const LOBES: usize = 8;
/// Table entries for each zero crossing.
const FINE: usize = 2048;

/// The interpolation kernel, tabulated once.
pub struct Resampler {
    table: Vec<f32>,
}

impl Default for Resampler {
    fn default() -> Self {
        Self::new()
    }
}

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

impl Resampler {
    /// Tabulates the kernel.
    pub fn new() -> Self {
        let beta = 7.0;
        let table = (0..=LOBES * FINE + 1)
            .map(|i| {
                let u = i as f64 / FINE as f64;
                let sinc = if u == 0.0 { 1.0 } else { (PI * u).sin() / (PI * u) };
                let x = u / LOBES as f64;
                if x >= 1.0 { 0.0 } else { (sinc * bessel_i0(beta * (1.0 - x * x).sqrt()) / bessel_i0(beta)) as f32 }
            })
            .collect();
        Self { table }
    }

    /// One value at a fractional position of the input; `ratio` is output rate over input rate.
    #[inline]
    pub fn sample(&self, x: &[f32], position: f64, ratio: f64) -> f32 {
        let r = ratio.min(1.0);
        let half = LOBES as f64 / r;
        let from = (position - half).ceil().max(0.0) as usize;
        let to = ((position + half).floor().min(x.len() as f64 - 1.0)).max(-1.0);
        if to < from as f64 {
            return 0.0;
        }
        let step = (r * FINE as f64) as f32;
        let origin = ((position - from as f64) * r * FINE as f64) as f32;
        let mut sum = 0.0f32;
        // The table is fine enough that its nearest entry is within a thousandth.
        for (k, &v) in x[from..=to as usize].iter().enumerate() {
            let u = (origin - step * k as f32).abs() + 0.5;
            sum += v * self.table[(u as usize).min(LOBES * FINE)];
        }
        sum * r as f32
    }

    /// Samples `x` (at `rate`, from `start`) at the given moments; `local_rate` is the output rate at
    /// each moment.
    pub fn at(&self, x: &[f32], rate: f64, start: f64, moments: &[f64], local_rate: impl Fn(usize) -> f64) -> Vec<f32> {
        moments.iter().enumerate().map(|(k, &t)| self.sample(x, (t - start) * rate, local_rate(k) / rate)).collect()
    }
}

/// Every n-th sample after an anti-alias filter.
pub fn decimate(r: &Resampler, x: &[f32], n: usize) -> Vec<f32> {
    if n <= 1 {
        return x.to_vec();
    }
    (0..x.len() / n).map(|i| r.sample(x, (i * n) as f64, 0.9 / n as f64)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    fn tone(f: f64, n: usize) -> Vec<f32> {
        (0..n).map(|i| (TAU * f * i as f64).sin() as f32).collect()
    }

    #[test]
    fn a_tone_between_samples_comes_back() {
        let (r, x) = (Resampler::new(), tone(0.11, 400));
        for k in 0..200 {
            let p = 100.0 + k as f64 * 0.73;
            assert!((f64::from(r.sample(&x, p, 1.0)) - (TAU * 0.11 * p).sin()).abs() < 2e-3);
        }
    }

    #[test]
    fn what_lies_above_the_new_limit_does_not_fold_back() {
        let r = Resampler::new();
        let rms = |x: &[f32]| (x.iter().map(|v| f64::from(v * v)).sum::<f64>() / x.len() as f64).sqrt();
        let high = decimate(&r, &tone(0.2, 8000), 4);
        assert!(rms(&high[50..high.len() - 50]) < 1e-3);
        let low = decimate(&r, &tone(0.02, 8000), 4);
        assert!((rms(&low[50..low.len() - 50]) - std::f64::consts::FRAC_1_SQRT_2).abs() < 5e-3);
    }

    #[test]
    fn beyond_the_ends_is_silence() {
        let r = Resampler::new();
        assert_eq!(r.sample(&[1.0; 10], -50.0, 1.0), 0.0);
        assert_eq!(r.sample(&[1.0; 10], 90.0, 1.0), 0.0);
        assert_eq!(r.sample(&[], 0.0, 1.0), 0.0);
    }
}
