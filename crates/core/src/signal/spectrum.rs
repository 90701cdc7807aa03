//! Order spectra: overlapping Hann windows over samples at equal angles.

use rayon::prelude::*;

/// Overlapping windows over samples at equal angles. Their power spectra are worked out as they are asked for,
/// so that a long recording's never stand in memory at once.
pub struct OrderWindows<'a> {
    x: &'a [f32],
    /// Turns in a window: the bins stand 1/turns apart.
    pub turns: usize,
    /// Length of a window in samples.
    pub length: usize,
    /// First sample of each window.
    pub starts: Vec<usize>,
    /// Bins of a spectrum.
    pub bins: usize,
}

/// Spectra that are held at once.
const SPECTRA_AT_ONCE: usize = 128;

impl<'a> OrderWindows<'a> {
    /// Windows of `turns` turns, one part in `overlap` of a window apart, over samples at `per_turn` samples a turn,
    /// up to `max_order`; `usable` says whether a window (first sample, end) may count.
    pub fn new(
        x: &'a [f32],
        per_turn: usize,
        turns: usize,
        overlap: usize,
        max_order: f64,
        usable: impl Fn(usize, usize) -> bool,
    ) -> Self {
        let length = per_turn * turns;
        let hop = (length / overlap).max(1);
        let starts = (0..).map(|k| k * hop).take_while(|s| s + length <= x.len()).filter(|&s| usable(s, s + length)).collect();
        Self::at(x, per_turn, turns, max_order, starts)
    }

    /// Windows of `turns` turns that begin at these samples.
    pub fn at(x: &'a [f32], per_turn: usize, turns: usize, max_order: f64, starts: Vec<usize>) -> Self {
        let length = per_turn * turns;
        let bins = ((max_order * turns as f64) as usize).min(length / 2);
        Self { x, turns, length, starts, bins }
    }

    /// The order of a bin.
    pub fn order(&self, bin: usize) -> f64 {
        bin as f64 / self.turns as f64
    }

    /// How many windows would be as good if they did not overlap (Hann, half a window apart).
    pub fn independent(windows: usize) -> f64 {
        (windows as f64 * 0.95).max(1.0)
    }

    /// Shows each window in its order: its number, its squared peak amplitude at each bin and, `with_floor`, the
    /// noise under each bin, from the median around it; none where it was not asked for.
    pub fn each(&self, with_floor: bool, mut see: impl FnMut(usize, &[f32], &[f32])) {
        let length = self.length;
        let hann: Vec<f32> = (0..length).map(|i| super::estimate::hann(i as f64, length as f64) as f32).collect();
        let scale = (2.0 / hann.iter().sum::<f32>()).powi(2);
        let fft = baricord_fft::forward(length);
        for (batch, starts) in self.starts.chunks(SPECTRA_AT_ONCE).enumerate() {
            let spectra: Vec<(Vec<f32>, Vec<f32>)> = starts
                .par_iter()
                .map_init(
                    || (fft.make_input_vec(), fft.make_output_vec(), fft.make_scratch_vec()),
                    |(input, output, scratch), &s| {
                        let part = &self.x[s..s + length];
                        let mean = part.iter().sum::<f32>() / length as f32;
                        for ((i, v), h) in input.iter_mut().zip(part).zip(&hann) {
                            *i = (v - mean) * h;
                        }
                        // Lengths are the plan's own, so the transform cannot fail.
                        let _ = fft.process_with_scratch(input, output, scratch);
                        let power: Vec<f32> = output[..self.bins].iter().map(|c| c.norm_sqr() * scale).collect();
                        let floor = if with_floor { noise_floor(&power, self.turns) } else { vec![] };
                        (power, floor)
                    },
                )
                .collect();
            for (k, (power, floor)) in spectra.iter().enumerate() {
                see(batch * SPECTRA_AT_ONCE + k, power, floor);
            }
        }
    }

    /// Power over floor, averaged over all windows; one loud window counts at most `cap`.
    pub fn ratio(&self, cap: f32) -> Vec<f64> {
        let mut sum = vec![0.0; self.bins];
        self.each(true, |_, power, floor| {
            for ((s, p), f) in sum.iter_mut().zip(power).zip(floor) {
                *s += f64::from((p / f).min(cap));
            }
        });
        sum.iter_mut().for_each(|s| *s /= self.starts.len().max(1) as f64);
        sum
    }
}

/// Adds one window's power over floor to a sum that grows to the number of bins. Beyond `cap` it counts by
/// its root: one loud window does not decide, and a very clear line still stands above its own foot.
pub fn add_ratio(power: &[f32], floor: &[f32], cap: f32, sum: &mut Vec<f64>) {
    sum.resize(power.len(), 0.0);
    for ((s, p), f) in sum.iter_mut().zip(power).zip(floor) {
        let r = p / f;
        *s += f64::from(if r > cap { (cap * r).sqrt() } else { r });
    }
}

/// Noise under a spectrum: the median within ±0.8 orders, over ln 2 (the median of an exponential).
fn noise_floor(power: &[f32], turns: usize) -> Vec<f32> {
    let half = (turns * 4 / 5).max(8);
    let step = half;
    // Positive numbers stand in the order of their bits, which are the quicker to compare.
    let bits: Vec<u32> = power.iter().map(|p| p.max(0.0).to_bits()).collect();
    let mut buffer = vec![];
    let knots: Vec<f32> = (0..power.len().div_ceil(step) + 1)
        .map(|k| {
            let centre = k * step;
            let from = centre.saturating_sub(half).max(turns / 4).min(power.len().saturating_sub(1));
            let to = (centre + half).max(from + 8).min(power.len());
            buffer.clear();
            buffer.extend_from_slice(&bits[from..to]);
            if buffer.is_empty() {
                return 1e-20;
            }
            let m = super::estimate::median(&mut buffer, u32::cmp).unwrap_or_default();
            (f32::from_bits(m) / std::f32::consts::LN_2).max(1e-20)
        })
        .collect();
    (0..power.len())
        .map(|i| {
            let (k, f) = (i / step, (i % step) as f32 / step as f32);
            knots[k] + f * (knots[k + 1] - knots[k])
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    #[test]
    fn a_line_shows_its_amplitude_at_its_order() {
        let n = 64;
        let x: Vec<f32> = (0..n * 300).map(|i| (0.7 * (TAU * 4.125 * i as f64 / n as f64).cos()) as f32).collect();
        let s = OrderWindows::new(&x, n, 32, 2, 12.0, |_, _| true);
        assert!(s.starts.len() > 15);
        let bin = (4.125 * 32.0) as usize;
        assert_eq!(s.order(bin), 4.125);
        let mut seen = 0;
        s.each(false, |_, power, _| {
            assert!((power[bin].sqrt() - 0.7).abs() < 0.01);
            assert!(power[bin - 20] < 1e-6);
            seen += 1;
        });
        assert_eq!(seen, s.starts.len());
    }

    #[test]
    fn white_noise_has_a_ratio_of_about_one() {
        let mut seed = 1u64;
        let x: Vec<f32> = (0..64 * 2000)
            .map(|_| {
                seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                (seed >> 40) as f32 / (1u32 << 24) as f32 - 0.5
            })
            .collect();
        let r = OrderWindows::new(&x, 64, 32, 2, 20.0, |_, _| true).ratio(100.0);
        let mean = r[20..].iter().sum::<f64>() / (r.len() - 20) as f64;
        assert!((mean - 1.0).abs() < 0.06, "{mean}");
    }

    #[test]
    fn a_line_hardly_lifts_the_noise_beside_it() {
        let mut seed = 7u64;
        let mut noise = || {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            -(1.0 - (seed >> 40) as f32 / (1u32 << 24) as f32).ln()
        };
        let mut power: Vec<f32> = (0..640).map(|_| noise()).collect();
        let plain = noise_floor(&power, 32);
        for (b, p) in [(318, 4e2), (319, 4e3), (320, 1e4), (321, 4e3), (322, 4e2)] {
            power[b] = p;
        }
        let with_line = noise_floor(&power, 32);
        assert!((plain[320] - 1.0).abs() < 0.3, "{}", plain[320]);
        assert!((with_line[320] / plain[320] - 1.0).abs() < 0.25, "{} {}", with_line[320], plain[320]);
    }

    #[test]
    fn unusable_windows_are_left_out() {
        let x = [0.1; 64 * 100];
        let s = OrderWindows::new(&x, 64, 16, 2, 8.0, |from, _| from > 64 * 50);
        assert!(s.starts.iter().all(|&f| f > 64 * 50) && !s.starts.is_empty());
        let none = OrderWindows::new(&[], 64, 16, 2, 8.0, |_, _| true);
        none.each(true, |_, _, _| panic!("a window of nothing"));
        assert!(none.ratio(9.0).iter().all(|r| *r == 0.0));
    }

    #[test]
    fn windows_are_shown_in_their_order_each_once() {
        // Each turn is louder than the one before, and there are more windows than are worked on at once.
        let x: Vec<f32> =
            (0..32 * (2 * SPECTRA_AT_ONCE + 40)).map(|i| (i / 32) as f32 * (TAU * 2.0 * i as f64 / 32.0).cos() as f32).collect();
        let s = OrderWindows::new(&x, 32, 8, 8, 4.0, |_, _| true);
        assert!(s.starts.len() > 2 * SPECTRA_AT_ONCE);
        let mut last = (None, 0.0);
        s.each(false, |w, power, _| {
            assert_eq!(w, last.0.map_or(0, |l: usize| l + 1));
            assert!(power[16] > last.1);
            last = (Some(w), power[16]);
        });
        assert_eq!(last.0, Some(s.starts.len() - 1));
    }
}
