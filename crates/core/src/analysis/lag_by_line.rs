//! How late a speed comes where no low ridge and no rhythm tells it: the lag at which the clearest line of all orders
//! stands clearest.
//!
//! A line of a high order moves by its order for every turn that the reference is off: at the usual lag of a receiver
//! teeth smear over many bins and are lost, at the right one they stand in one. So of many lags, and of a few ways to
//! smooth the readings, that one is taken at which the best bin of the mean spectrum is least likely to be chance.

use super::angle::{Angle, Extent, Reference};
use super::lines;
use super::looks::Looks;
use super::reference::{LEAST_SIGMA, Lag, stretches, summit};
use super::turned::{Windows, samples_for};
use crate::signal::{OrderWindows, Pyramid, Resampler, Samples, SpeedTrack, true_samples};
use rayon::prelude::*;

/// Lags that are tried, s.
const FROM: f64 = -0.2;
const TO: f64 = 1.6;
const COARSE: f64 = 0.05;
/// Around the best of them, in finer steps and longer windows.
const AROUND: f64 = 0.2;
const FINE: f64 = 0.02;
const COARSE_TURNS: usize = 16;
const FINE_TURNS: usize = 32;
/// Smoothness of the readings, s.
const USUAL_SMOOTH: f64 = 6.0;
const SMOOTH: [f64; 3] = [3.0, 6.0, 10.0];
/// A line must stand so far above chance: many bins at many lags are looked at.
const SURE: f64 = 7.5;
/// And stand so much less far at lags that are off by this much, s: else every lag shows it alike.
const LESS: f64 = 1.0;
const OFF: f64 = 0.4;
/// Orders below this were looked at before.
const LOWEST: f64 = 2.0;

/// What is looked at: a channel at its own rate, up to an order.
pub(super) struct Sought<'a> {
    pub samples: &'a Samples,
    pub channel: &'a Pyramid,
    pub top: f64,
}

impl Sought<'_> {
    /// How far the best bin stands above chance, in standard deviations, over all stretches in angle.
    fn clearest(&self, r: &Resampler, (reference, stretches): &(Reference, Vec<Angle>), lag: f64, turns: usize) -> f64 {
        let s = self.samples;
        let extent = if Looks::of(s).is_long() { Extent::Looked } else { Extent::Whole };
        let per_turn = samples_for(self.top);
        let (mut sum, mut windows): (Vec<f64>, usize) = (vec![], 0);
        for angle in stretches {
            let angle = angle.at_lag(s, reference, lag);
            let x = angle.resample(r, self.channel, s.start.get(), per_turn, extent);
            let w = Windows::new((&x, per_turn, extent), &angle, turns, self.top, true);
            let ratio = w.spectra.ratio(400.0);
            sum.resize(sum.len().max(ratio.len()), 0.0);
            sum.iter_mut().zip(&ratio).for_each(|(s, r)| *s += r * w.len() as f64);
            windows += w.len();
        }
        let lowest = (LOWEST * turns as f64) as usize;
        let best = sum.iter().skip(lowest).copied().fold(0.0, f64::max) / windows.max(1) as f64;
        lines::score(best, OrderWindows::independent(windows))
    }
}

/// The reference at the lag that the clearest line tells, where one does.
pub(super) fn find(sought: &Sought<'_>, r: &Resampler, readings: &[(f64, f64)], circumference: f64) -> Option<(Reference, Lag)> {
    let readings = true_samples(readings);
    let span = (readings.first()?.0, readings.last()?.0);
    let usual = SpeedTrack::fit(&readings, USUAL_SMOOTH)?;
    let parts = stretches(sought.samples, &usual);
    let turned = |smooth: f64, lag: f64| {
        let reference = Reference { track: SpeedTrack::fit(&readings, smooth)?, span, lag, circumference };
        let angles = parts.iter().map(|&(from, to)| Angle::between(sought.samples, &reference, from, to)).collect();
        Some((reference, angles))
    };
    let grid = |from: f64, to: f64, step: f64| (0..=((to - from) / step).round() as usize).map(move |i| from + step * i as f64);
    let usual: (Reference, Vec<Angle>) = turned(USUAL_SMOOTH, 0.6)?;
    let coarse: Vec<(f64, f64)> = grid(FROM, TO, COARSE)
        .collect::<Vec<_>>()
        .into_par_iter()
        .map(|lag| (lag, sought.clearest(r, &usual, lag, COARSE_TURNS)))
        .collect();
    let &(near, _) = coarse.iter().max_by(|a, b| a.1.total_cmp(&b.1))?;
    let ways: Vec<(Reference, Vec<Angle>)> = SMOOTH.iter().filter_map(|&smooth| turned(smooth, near)).collect();
    let fine: Vec<(usize, f64, f64)> = (0..ways.len())
        .flat_map(|w| grid(near - AROUND, near + AROUND, FINE).map(move |lag| (w, lag)))
        .collect::<Vec<_>>()
        .into_par_iter()
        .map(|(w, lag)| (w, lag, sought.clearest(r, &ways[w], lag, FINE_TURNS)))
        .collect();
    let &(way, _, best) = fine.iter().max_by(|a, b| a.2.total_cmp(&b.2))?;
    let curve: Vec<f64> = fine.iter().filter(|f| f.0 == way).map(|f| f.2).collect();
    let lag = summit(&curve, near - AROUND, FINE);
    let far = coarse.iter().filter(|c| (c.0 - lag).abs() > OFF).map(|c| c.1).fold(f64::MIN, f64::max);
    let there = coarse.iter().map(|c| c.1).fold(f64::MIN, f64::max);
    // A curve that still rises at its end has its summit nobody knows where.
    let at_an_end = (lag - near).abs() > AROUND - 0.5 * FINE;
    if best < SURE || there < far + LESS || at_an_end {
        return None;
    }
    let reference = ways.into_iter().nth(way)?.0;
    Some((Reference { lag, ..reference }, Lag { seconds: lag, sigma: LEAST_SIGMA, known: true }))
}
