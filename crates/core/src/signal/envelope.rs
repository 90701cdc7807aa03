//! Envelopes: the rhythm of pulses that ring at a high frequency.
//!
//! Blocks are transformed once (overlap-save); each band is cut out, its negative half left away, and
//! transformed back at just the rate that its width needs: the magnitude of that analytic signal is
//! the envelope, already at fewer samples a second.

use baricord_fft::Complex32;

/// The envelope of one band.
#[derive(Clone, Debug)]
pub struct Envelope {
    /// Samples a second.
    pub rate: f64,
    /// The envelope.
    pub data: Vec<f32>,
}

/// Length of a block, and of what is thrown away at each of its ends.
const BLOCK_SAMPLES: usize = 1 << 14;
const BLOCK_MARGIN_SAMPLES: usize = BLOCK_SAMPLES / 8;

/// One band of the way back: which bins, how strong each, into how many samples.
struct Band {
    from: usize,
    gain: Vec<f32>,
    fft: std::sync::Arc<dyn baricord_fft::Fft<f32>>,
    work: Vec<Complex32>,
    out: Vec<f32>,
}

/// The envelopes of `x` in bands given as shares of its rate; zeros in the blocks (first sample, end) that
/// are not `wanted`.
pub fn envelopes(x: &[f32], rate: f64, bands: &[(f64, f64)], wanted: impl Fn(usize, usize) -> bool) -> Vec<Envelope> {
    let forward = baricord_fft::forward(BLOCK_SAMPLES);
    let mut ways: Vec<Band> = bands
        .iter()
        .map(|&(lo, hi)| {
            let (lo, hi) = (lo * BLOCK_SAMPLES as f64, hi * BLOCK_SAMPLES as f64);
            let soft = 0.1 * (hi - lo);
            let from = lo.floor() as usize;
            let width = (hi - lo).ceil() as usize;
            let gain = (0..width)
                .map(|k| {
                    let k = (from + k) as f64;
                    (((k - lo) / soft).clamp(0.0, 1.0) * ((hi - k) / soft).clamp(0.0, 1.0) * 2.0 / BLOCK_SAMPLES as f64) as f32
                })
                .collect();
            let length = width.next_power_of_two();
            Band { from, gain, fft: baricord_fft::inverse(length), work: vec![Complex32::default(); length], out: vec![] }
        })
        .collect();
    let (mut input, mut spectrum, mut scratch) =
        (forward.make_input_vec(), forward.make_output_vec(), forward.make_scratch_vec());
    let hop = BLOCK_SAMPLES - 2 * BLOCK_MARGIN_SAMPLES;
    // What is never written of so large an array costs no memory.
    for w in &mut ways {
        w.out = vec![0.0; x.len().div_ceil(hop) * (w.work.len() * hop / BLOCK_SAMPLES)];
    }
    for (block, start) in (0..x.len()).step_by(hop).enumerate() {
        if !wanted(start, start + hop) {
            continue;
        }
        // The block begins a margin before what it is kept for; silence stands beyond the ends.
        input.fill(0.0);
        let (skip, from) = (BLOCK_MARGIN_SAMPLES.saturating_sub(start), start.saturating_sub(BLOCK_MARGIN_SAMPLES));
        let n = (BLOCK_SAMPLES - skip).min(x.len() - from);
        input[skip..skip + n].copy_from_slice(&x[from..from + n]);
        // Lengths are the plan's own, so the transform cannot fail.
        let _ = forward.process_with_scratch(&mut input, &mut spectrum, &mut scratch);
        for w in &mut ways {
            let bins = w.gain.len();
            for ((c, s), g) in w.work.iter_mut().zip(&spectrum[w.from..]).zip(&w.gain) {
                *c = s * g;
            }
            w.work[bins..].fill(Complex32::default());
            w.fft.process(&mut w.work);
            let margin = w.work.len() * BLOCK_MARGIN_SAMPLES / BLOCK_SAMPLES;
            let kept = &w.work[margin..w.work.len() - margin];
            let out = &mut w.out[block * kept.len()..][..kept.len()];
            out.iter_mut().zip(kept).for_each(|(o, c)| *o = c.norm_sqr().sqrt());
        }
    }
    ways.into_iter()
        .map(|mut w| {
            let share = w.work.len() as f64 / BLOCK_SAMPLES as f64;
            w.out.truncate((x.len() as f64 * share).ceil() as usize);
            Envelope { rate: rate * share, data: w.out }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    #[test]
    fn the_rhythm_of_an_amplitude_comes_back() {
        let rate = 4096.0;
        let x: Vec<f32> = (0..60_000)
            .map(|i| {
                let t = i as f64 / rate;
                ((1.0 + 0.5 * (TAU * 7.0 * t).cos()) * (TAU * 800.0 * t).sin() + 3.0 * (TAU * 50.0 * t).sin()) as f32
            })
            .collect();
        let e = envelopes(&x, rate, &[(0.125, 0.25)], |_, _| true).remove(0);
        assert_eq!(e.rate, 512.0);
        assert_eq!(e.data.len(), 7500);
        let middle = &e.data[200..e.data.len() - 200];
        let mean = middle.iter().sum::<f32>() / middle.len() as f32;
        assert!((mean - 1.0).abs() < 0.03, "{mean}");
        let (mut c, mut s) = (0.0, 0.0);
        for (i, v) in middle.iter().enumerate() {
            let a = TAU * 7.0 * (i + 200) as f64 / e.rate;
            c += f64::from(*v) * a.cos();
            s += f64::from(*v) * a.sin();
        }
        // In phase with the amplitude itself, across the joints of blocks.
        assert!((2.0 * c / middle.len() as f64 - 0.5).abs() < 0.03 && (2.0 * s / middle.len() as f64).abs() < 0.03);
    }

    #[test]
    fn blocks_that_are_not_wanted_are_silent_and_the_others_stay_where_they_are() {
        let x: Vec<f32> = (0..200_000).map(|i| (TAU * 0.2 * i as f64).sin() as f32).collect();
        let hop = BLOCK_SAMPLES - 2 * BLOCK_MARGIN_SAMPLES;
        let all = envelopes(&x, 1.0, &[(0.125, 0.25)], |_, _| true).remove(0).data;
        let some = envelopes(&x, 1.0, &[(0.125, 0.25)], |from, _| from >= 5 * hop).remove(0).data;
        let at = 5 * hop / 8;
        assert!(some.len() == all.len() && some[..at].iter().all(|v| *v == 0.0));
        assert_eq!(some[at..], all[at..]);
    }

    #[test]
    fn a_tone_outside_the_band_leaves_nothing() {
        let x: Vec<f32> = (0..40_000).map(|i| (TAU * 0.05 * i as f64).sin() as f32).collect();
        let e = envelopes(&x, 1.0, &[(0.125, 0.25)], |_, _| true).remove(0);
        assert!(e.data[500..4000].iter().all(|v| *v < 1e-3));
    }

    #[test]
    fn short_input_is_no_trouble() {
        assert!(envelopes(&[0.0; 10], 100.0, &[(0.1, 0.2)], |_, _| true)[0].data.len() <= 10);
        assert!(envelopes(&[], 100.0, &[(0.1, 0.2)], |_, _| true)[0].data.is_empty());
    }
}
