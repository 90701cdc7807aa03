//! Octaves: how loud the upper half of a spectrum is from moment to moment.
//!
//! Every odd sample is compared with what its neighbours foretell (Deslauriers and Dubuc's six-point
//! interpolation): what is left is the upper octave, at half the rate.

use pulp::{Arch, Simd, WithSimd};

/// The six-point rule, half of it, from the nearest neighbour outwards.
const HALF_RULE: [f32; 3] = [150.0 / 256.0, -25.0 / 256.0, 3.0 / 256.0];
const HALF_RULE_LENGTH: usize = HALF_RULE.len();

/// The upper octave of a signal, moment by moment.
#[derive(Clone, Debug, PartialEq)]
pub struct Octave {
    /// Frames a second.
    pub rate: f64,
    /// Mean square of each frame.
    pub frames: Vec<f32>,
    /// Mean fourth power over the squared mean square, second by second: 3 for noise, more where it pulses.
    pub unevenness: f64,
}

/// Makes an octave of a signal that comes a stretch at a time.
pub struct OctaveMaker {
    /// Samples of the upper octave in a frame.
    each: usize,
    frames_a_second: f64,
    /// What is not in a whole frame yet, with what the rule needs before it.
    rest: Vec<f32>,
    frames: Vec<f32>,
    /// Mean fourth power of each frame.
    fourth: Vec<f32>,
}

impl OctaveMaker {
    /// For a signal at a rate, in frames of so many seconds.
    pub fn new(rate: f64, frame: f64) -> Self {
        let each = ((0.5 * frame * rate).round() as usize).max(1);
        Self { each, frames_a_second: 0.5 * rate / each as f64, rest: vec![], frames: vec![], fourth: vec![] }
    }

    /// The next stretch.
    pub fn push(&mut self, x: &[f32]) {
        // What is left of the stretch before is filled up to a frame; then the stretch is gone through where it stands.
        let filled = if self.rest.is_empty() { 0 } else { (2 * self.each + 4 * HALF_RULE_LENGTH).min(x.len()) };
        let mut rest = std::mem::take(&mut self.rest);
        let before = rest.len();
        rest.extend_from_slice(&x[..filled]);
        let used = self.frames(&rest);
        if used < before || filled == x.len() {
            rest.drain(..used);
            rest.extend_from_slice(&x[filled..]);
            self.rest = rest;
            return;
        }
        let x = &x[used - before..];
        let used = self.frames(x);
        self.rest = x[used..].to_vec();
    }

    /// The whole frames of some samples; answers how many samples they took.
    fn frames(&mut self, x: &[f32]) -> usize {
        let whole = x.len().saturating_sub(4 * HALF_RULE_LENGTH) / 2 / self.each;
        Arch::new().dispatch(Work { maker: self, x, whole });
        2 * whole * self.each
    }

    /// The octave.
    pub fn done(self) -> Octave {
        let second = (self.frames_a_second.round() as usize).max(1);
        let parts = self.frames.chunks_exact(second).zip(self.fourth.chunks_exact(second));
        let ratios = parts.filter_map(|(two, four)| {
            let mean = |of: &[f32]| of.iter().map(|v| f64::from(*v)).sum::<f64>() / of.len() as f64;
            let power = mean(two);
            (power > 0.0).then(|| mean(four) / (power * power))
        });
        let (sum, n) = ratios.fold((0.0, 0u32), |(s, n), r| (s + r, n + 1));
        Octave { rate: self.frames_a_second, frames: self.frames, unevenness: sum / f64::from(n.max(1)) }
    }
}

#[cfg(test)]
impl Octave {
    /// Of a whole signal.
    fn new(x: &[f32], rate: f64, frame: f64) -> Self {
        let mut maker = OctaveMaker::new(rate, frame);
        maker.push(x);
        maker.done()
    }
}

struct Work<'a> {
    maker: &'a mut OctaveMaker,
    x: &'a [f32],
    whole: usize,
}

impl WithSimd for Work<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: Simd>(self, simd: S) {
        let (x, OctaveMaker { each, frames, fourth, .. }) = (self.x, self.maker);
        let each = *each;
        let (mut even, mut odd) = (vec![0.0f32; each + 2 * HALF_RULE_LENGTH], vec![0.0f32; each]);
        let weights = HALF_RULE.map(|w| simd.splat_f32s(-w));
        for k in 0..self.whole {
            // The first pair of a frame stands a rule's reach behind the first sample.
            let pairs = x[2 * k * each..][..2 * (each + 2 * HALF_RULE_LENGTH)].as_chunks::<2>().0;
            even.iter_mut().zip(pairs).for_each(|(e, p)| *e = p[0]);
            odd.iter_mut().zip(&pairs[HALF_RULE_LENGTH - 1..]).for_each(|(o, p)| *o = p[1]);
            let sides: [_; HALF_RULE_LENGTH] = std::array::from_fn(|i| {
                let (before, after) = (&even[HALF_RULE_LENGTH - 1 - i..][..each], &even[HALF_RULE_LENGTH + i..][..each]);
                (S::as_simd_f32s(before), S::as_simd_f32s(after))
            });
            let (lanes, rest) = S::as_simd_f32s(&odd);
            let (mut two, mut four) = (simd.splat_f32s(0.0), simd.splat_f32s(0.0));
            for (j, o) in lanes.iter().enumerate() {
                let mut left = *o;
                for (((before, _), (after, _)), w) in sides.iter().zip(&weights) {
                    left = simd.mul_add_e_f32s(*w, simd.add_f32s(before[j], after[j]), left);
                }
                let power = simd.mul_f32s(left, left);
                two = simd.add_f32s(two, power);
                four = simd.mul_add_e_f32s(power, power, four);
            }
            let (mut two, mut four) = (simd.reduce_sum_f32s(two), simd.reduce_sum_f32s(four));
            for (j, o) in rest.iter().enumerate() {
                let mut left = *o;
                for (((_, before), (_, after)), w) in sides.iter().zip(&HALF_RULE) {
                    left -= w * (before[j] + after[j]);
                }
                two += left.powi(2);
                four += left.powi(4);
            }
            frames.push(two / each as f32);
            fourth.push(four / each as f32);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    fn noise(n: usize) -> Vec<f32> {
        let mut seed = 5u64;
        let mut next = || {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (seed >> 40) as f32 / (1u32 << 24) as f32 - 0.5
        };
        (0..n).map(|_| (0..12).map(|_| next()).sum()).collect()
    }

    #[test]
    fn the_upper_octave_is_left_and_the_lower_ones_are_gone() {
        let tone = |f: f64| -> f32 {
            let x: Vec<f32> = (0..20_000).map(|i| (TAU * f * f64::from(i)).sin() as f32).collect();
            let o = Octave::new(&x, 1000.0, 0.02);
            o.frames[5..o.frames.len() - 5].iter().sum::<f32>() / (o.frames.len() - 10) as f32
        };
        assert!(tone(0.02) < 1e-6 && tone(0.1) < 0.01, "{} {}", tone(0.02), tone(0.1));
        assert!(tone(0.25) > 0.3 && tone(0.4) > 0.9);
    }

    #[test]
    fn noise_is_even_and_pulses_are_not() {
        let mut x = noise(200_000);
        let even = Octave::new(&x, 1000.0, 0.02);
        assert!((even.unevenness - 2.95).abs() < 0.1, "{}", even.unevenness);
        assert!((even.rate - 50.0).abs() < 1e-9 && even.frames.len() > 9990);
        x.iter_mut().step_by(101).for_each(|v| *v += 8.0);
        assert!(Octave::new(&x, 1000.0, 0.02).unevenness > 3.5);
    }

    #[test]
    fn a_knock_stands_in_its_frame() {
        let mut x = noise(20_000);
        x[10_005] += 200.0;
        let o = Octave::new(&x, 1000.0, 0.02);
        let loudest = (0..o.frames.len()).max_by(|a, b| o.frames[*a].total_cmp(&o.frames[*b])).unwrap();
        assert!(((loudest as f64 + 0.5) / o.rate - 10.005).abs() < 0.02);
    }

    #[test]
    fn stretches_make_the_same_octave_as_the_whole() {
        let x = noise(50_000);
        let mut maker = OctaveMaker::new(1000.0, 0.02);
        for part in x.chunks(777) {
            maker.push(part);
        }
        assert_eq!(maker.done(), Octave::new(&x, 1000.0, 0.02));
    }

    #[test]
    fn short_input_is_no_trouble() {
        assert!(Octave::new(&[], 1000.0, 0.02).frames.is_empty());
        assert_eq!(Octave::new(&[1.0; 20], 1000.0, 0.02).unevenness, 0.0);
    }
}
