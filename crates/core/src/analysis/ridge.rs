//! The reference of last resort: a ridge in the spectrum, followed through time, and the question
//! which of this vehicle's orders it is.
//!
//! The path is the best one by dynamic programming over frames of the spectrogram: strength over the
//! noise beside it, less a penalty for every jump. Which order it is follows from the ratios of the
//! other lines to it: only orders of one vehicle fit them all.

use super::angle_domain::Windows;
use super::angular_resampling::{Angle, Extent, Reference};
use super::lag_scale;
use super::order_lines::{self, Line};
use super::reference_source::Before;
use crate::signal::estimate::{hann, median};
use crate::signal::{Pyramid, Resampler, SpeedTrack};

/// Samples a second that are looked at.
const SAMPLE_RATE_HZ: f64 = 300.0;
/// Frames stand this far apart, s.
const HOP_S: f64 = 0.25;
/// Frequencies that are followed, Hz, and the step between two of them.
const LOWEST_HZ: f64 = 3.0;
const HIGHEST_HZ: f64 = 120.0;
const FREQUENCY_STEP_RATIO: f64 = 1.008;
/// Steps that a path may take from frame to frame, and what each costs squared.
const MAX_JUMP_STEPS: usize = 6;
const JUMP_COST: f64 = 0.12;
/// The mean strength of a path that is no noise's: a best path through noise comes to half of it.
const MIN_MEAN_STRENGTH: f64 = 2.0;
/// A ridge that moves less says nothing of speed.
const MIN_MOVEMENT: f64 = 0.08;
/// Turns of the ridge in a window.
const WINDOW_TURNS: usize = 64;
/// The usual speed of a road test, km/h, and its spread in natural logarithms.
const USUAL: (f64, f64) = (75.0, 0.45);

/// A ridge that was followed.
pub(super) struct Ridge {
    /// Its frequency over time: s, Hz.
    pub hz: Vec<(f64, f64)>,
    /// Which order it is taken for.
    pub order: f64,
    /// How sure that is, 0 to 1.
    pub sure: f64,
    /// How far the other answers stand from it, relative.
    pub spread: f64,
}

/// Follows the clearest ridge of a channel; none where none stands out or moves.
pub(super) fn follow_ridge(b: &Before<'_>, r: &Resampler, x: &Pyramid) -> Option<Ridge> {
    let light = x.at_least(SAMPLE_RATE_HZ);
    let start = b.samples.start.get();
    let hz = path(&light, start)?;
    let (lo, hi) = hz.iter().fold((f64::MAX, 0.0f64), |m, p| (m.0.min(p.1), m.1.max(p.1)));
    if hi < lo * (1.0 + MIN_MOVEMENT) {
        return None;
    }
    let track = SpeedTrack::fit(&hz, 2.0)?;
    let reference = Reference { track, span: (hz.first()?.0, hz.last()?.0), lag: 0.0, circumference: 1.0 };
    let angle = Angle::new(b.samples, &reference);
    let turned = angle.resample(r, &light, start, 32, Extent::Whole);
    let found = order_lines::find_lines(&Windows::new((&turned, 32, Extent::Whole), &angle, WINDOW_TURNS, 10.8, true), 0.08);
    let mean = hz.iter().map(|p| p.1).sum::<f64>() / hz.len() as f64;
    let (order, sure, spread) = which(b, &found, mean)?;
    Some(Ridge { hz, order, sure, spread })
}

/// The best path through the spectrogram.
fn path(x: &Pyramid, start: f64) -> Option<Vec<(f64, f64)>> {
    let (data, rate) = (x.samples(), x.rate());
    let n = ((1.5 * rate) as usize).next_power_of_two();
    let hop = (HOP_S * rate).round().max(1.0) as usize;
    let top = HIGHEST_HZ.min(0.4 * rate);
    let grid: Vec<f64> =
        std::iter::successors(Some(LOWEST_HZ), |f| Some(f * FREQUENCY_STEP_RATIO)).take_while(|f| *f < top).collect();
    if data.len() < 4 * n {
        return None;
    }
    let fft = baricord_fft::forward(n);
    let (mut input, mut output, mut scratch) = (fft.make_input_vec(), fft.make_output_vec(), fft.make_scratch_vec());
    let hann: Vec<f32> = (0..n).map(|i| hann(i as f64, n as f64) as f32).collect();
    let mut best: Vec<f64> = vec![];
    let mut from: Vec<Vec<u8>> = vec![];
    let (mut times, mut frames) = (vec![], vec![]);
    for at in (0..data.len() - n).step_by(hop) {
        let part = &data[at..at + n];
        let mean = part.iter().sum::<f32>() / n as f32;
        input.iter_mut().zip(part).zip(&hann).for_each(|((i, v), h)| *i = (v - mean) * h);
        // Lengths are the plan's own, so the transform cannot fail.
        let _ = fft.process_with_scratch(&mut input, &mut output, &mut scratch);
        let power: Vec<f32> = output.iter().map(|c| c.norm_sqr()).collect();
        let here: Vec<f64> = strength(&power, &grid, rate / n as f64);
        let step = |g: usize| {
            let (lo, hi) = (g.saturating_sub(MAX_JUMP_STEPS), (g + MAX_JUMP_STEPS).min(grid.len() - 1));
            (lo..=hi)
                .map(|p| (p, best[p] - JUMP_COST * (p as f64 - g as f64).powi(2)))
                .fold((g, f64::MIN), |m, c| if c.1 > m.1 { c } else { m })
        };
        if best.is_empty() {
            best.clone_from(&here);
            from.push(vec![MAX_JUMP_STEPS as u8; grid.len()]);
        } else {
            let steps: Vec<(usize, f64)> = (0..grid.len()).map(step).collect();
            from.push(steps.iter().enumerate().map(|(g, s)| (s.0 + MAX_JUMP_STEPS - g) as u8).collect());
            best = steps.iter().zip(&here).map(|(s, h)| s.1 + h).collect();
        }
        times.push(start + (at as f64 + 0.5 * n as f64) / rate);
        frames.push(here);
    }
    let mut g = (0..grid.len()).max_by(|&a, &b| best[a].total_cmp(&best[b]))?;
    let mut steps = vec![g];
    for f in from.iter().skip(1).rev() {
        g = g + f[g] as usize - MAX_JUMP_STEPS;
        steps.push(g);
    }
    steps.reverse();
    let clear = steps.iter().zip(&frames).map(|(&g, f)| f[g]).sum::<f64>() / frames.len() as f64;
    if clear < MIN_MEAN_STRENGTH {
        return None;
    }
    let between = |g: usize, f: &[f64]| {
        if g == 0 || g + 1 >= f.len() {
            return 0.0;
        }
        let bend = f[g - 1] - 2.0 * f[g] + f[g + 1];
        if bend < 0.0 { (0.5 * (f[g - 1] - f[g + 1]) / bend).clamp(-0.5, 0.5) } else { 0.0 }
    };
    Some(
        steps
            .iter()
            .zip(&frames)
            .zip(times)
            .map(|((&g, f), t)| (t, grid[g] * FREQUENCY_STEP_RATIO.powf(between(g, f))))
            .collect(),
    )
}

/// Strength over the noise beside it at each frequency of the grid, as a logarithm.
fn strength(power: &[f32], grid: &[f64], bin: f64) -> Vec<f64> {
    const FLOOR_BLOCK_BINS: usize = 24;
    let floors: Vec<f32> =
        power.chunks(FLOOR_BLOCK_BINS).map(|c| median(&mut c.to_vec(), f32::total_cmp).unwrap_or_default().max(1e-30)).collect();
    grid.iter()
        .map(|f| {
            let at = f / bin;
            let (i, part) = (at as usize, (at.fract()) as f32);
            let p = power.get(i).copied().unwrap_or(0.0) * (1.0 - part) + power.get(i + 1).copied().unwrap_or(0.0) * part;
            let floor = floors[(i / FLOOR_BLOCK_BINS).min(floors.len() - 1)];
            f64::from((p / floor).min(300.0)).ln_1p()
        })
        .collect()
}

/// Which order the ridge is: the one that makes the other lines orders of this vehicle too, at a speed
/// that people drive. With how sure that is, and how far the other answers stand from it.
fn which(b: &Before<'_>, found: &[Line], mean_hz: f64) -> Option<(f64, f64, f64)> {
    let may = lag_scale::candidates(b.ladder, b.engine_per_wheel, false);
    let score = |o: f64, w: f64| {
        let kmh = 3.6 * mean_hz / o * b.circumference;
        let speed = -0.5 * ((kmh / USUAL.0).ln() / USUAL.1).powi(2);
        let fits: f64 = found
            .iter()
            .filter(|l| (l.order - 1.0).abs() > 0.03)
            .take(8)
            .map(|l| {
                let order = l.order * o;
                let sigma = (l.sigma * o).max(0.006 * order);
                let density: f64 = may.iter().map(|(c, w)| w * (-0.5 * ((order - c) / sigma).powi(2)).exp()).sum();
                l.trust() * (density + 0.03).ln()
            })
            .sum();
        w.ln() + speed + fits
    };
    let scores: Vec<(f64, f64)> = may.iter().map(|&(o, w)| (o, score(o, w))).collect();
    let top = scores.iter().map(|s| s.1).fold(f64::MIN, f64::max);
    let sum: f64 = scores.iter().map(|s| (s.1 - top).exp()).sum();
    let best = scores.iter().find(|s| s.1 == top)?;
    // Orders that nearly coincide are one answer.
    let alike: f64 = scores.iter().filter(|s| (s.0 / best.0 - 1.0).abs() < 0.01).map(|s| (s.1 - top).exp()).sum();
    let spread = scores.iter().map(|s| (s.1 - top).exp() / sum * (s.0 / best.0).ln().powi(2)).sum::<f64>().sqrt();
    Some((best.0, alike / sum, spread))
}
