//! Envelopes: the rhythm of pulses that ring at a high frequency.
//!
//! Band-pass, magnitude of the analytic signal (the negative half of the spectrum is left away),
//! then fewer samples a second behind an anti-alias filter.

use super::resample::{Resampler, decimate};
use realfft::num_complex::Complex32;
use realfft::{RealFftPlanner, num_complex::Complex};

/// The envelope of one band.
#[derive(Clone, Debug)]
pub struct Envelope {
    /// Lower and upper edge of the band, Hz.
    pub band: (f64, f64),
    /// Samples a second.
    pub rate: f64,
    /// The envelope.
    pub data: Vec<f32>,
}

/// Block of the overlapping transforms.
const BLOCK: usize = 1 << 14;

/// The envelope of `x` (at `rate`) in a band, at about `wanted` samples a second.
pub fn envelope(x: &[f32], rate: f64, band: (f64, f64), wanted: f64) -> Envelope {
    let length = BLOCK.min(x.len().next_power_of_two().max(64));
    let hop = length / 2;
    let mut planner = RealFftPlanner::<f32>::new();
    let forward = planner.plan_fft_forward(length);
    let inverse = rustfft_inverse(length);
    let hann: Vec<f32> =
        (0..length).map(|i| (0.5 - 0.5 * (std::f64::consts::TAU * (i as f64 + 0.5) / length as f64).cos()) as f32).collect();
    let mut out = vec![0.0f32; x.len()];
    let (mut input, mut spectrum) = (forward.make_input_vec(), forward.make_output_vec());
    let mut analytic = vec![Complex32::new(0.0, 0.0); length];
    let bin = rate / length as f64;
    let (lo, hi) = (band.0 / bin, band.1 / bin);
    let gain = |k: f64| {
        let soft = ((hi - lo) * 0.1).max(2.0);
        ((k - lo) / soft + 0.5).clamp(0.0, 1.0) * ((hi - k) / soft + 0.5).clamp(0.0, 1.0)
    };
    let mut start = -(hop as isize);
    while start < x.len() as isize {
        for (i, v) in input.iter_mut().enumerate() {
            let p = start + i as isize;
            *v = if p >= 0 && (p as usize) < x.len() { x[p as usize] * hann[i] } else { 0.0 };
        }
        // Lengths are the plan's own, so the transform cannot fail.
        let _ = forward.process(&mut input, &mut spectrum);
        analytic.fill(Complex32::new(0.0, 0.0));
        for (k, s) in spectrum.iter().enumerate() {
            analytic[k] = *s * (2.0 * gain(k as f64) as f32 / length as f32);
        }
        inverse(&mut analytic);
        // Hann windows half a block apart sum to one, and so do the magnitudes of what they cut out.
        for (i, a) in analytic.iter().enumerate() {
            let p = start + i as isize;
            if p >= 0 && (p as usize) < out.len() {
                out[p as usize] += a.norm();
            }
        }
        start += hop as isize;
    }
    let n = ((rate / wanted).floor() as usize).max(1);
    Envelope { band, rate: rate / n as f64, data: decimate(&Resampler::new(), &out, n) }
}

/// A complex inverse transform of one length, unscaled, through the real transform's own planner crate.
fn rustfft_inverse(length: usize) -> impl Fn(&mut [Complex<f32>]) {
    let fft = rustfft::FftPlanner::<f32>::new().plan_fft_inverse(length);
    move |data| fft.process(data)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    #[test]
    fn the_rhythm_of_an_amplitude_comes_back() {
        let rate = 4096.0;
        let x: Vec<f32> = (0..40_000)
            .map(|i| {
                let t = i as f64 / rate;
                ((1.0 + 0.5 * (TAU * 7.0 * t).cos()) * (TAU * 900.0 * t).sin() + 3.0 * (TAU * 50.0 * t).sin()) as f32
            })
            .collect();
        let e = envelope(&x, rate, (600.0, 1200.0), 256.0);
        assert!((e.rate - 256.0).abs() < 1e-9);
        let middle = &e.data[200..e.data.len() - 200];
        let mean = middle.iter().sum::<f32>() / middle.len() as f32;
        assert!((mean - 1.0).abs() < 0.03, "{mean}");
        let (mut c, mut s) = (0.0, 0.0);
        for (i, v) in middle.iter().enumerate() {
            let a = TAU * 7.0 * (i + 200) as f64 / e.rate;
            c += f64::from(*v) * a.cos();
            s += f64::from(*v) * a.sin();
        }
        let amplitude = 2.0 * f64::hypot(c, s) / middle.len() as f64;
        assert!((amplitude - 0.5).abs() < 0.05, "{amplitude}");
    }

    #[test]
    fn short_input_is_no_trouble() {
        assert!(envelope(&[0.0; 10], 100.0, (10.0, 20.0), 50.0).data.len() <= 10);
        assert!(envelope(&[], 100.0, (10.0, 20.0), 50.0).data.is_empty());
    }
}
