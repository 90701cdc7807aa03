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
/// And be so many times as strong as at most lags that are off by this much, s: else every lag shows it alike.
const SHARPER: f64 = 1.6;
const OFF: f64 = 0.25;
/// One line alone tells a lag less well than many ridges do: found with simulated drives.
const BY_ONE_LINE: f64 = 1.5;
/// Nearly as clear as the best.
const NEARLY: f64 = 0.85;
/// Orders below this were looked at before.
const LOWEST: f64 = 2.0;

/// What is looked at: a channel at its own rate, up to an order.
pub(super) struct Sought<'a> {
    pub samples: &'a Samples,
    pub channel: &'a Pyramid,
    pub top: f64,
}

impl Sought<'_> {
    /// The clearest line over all stretches in angle: its power over the noise, and how far it stands above chance,
    /// in standard deviations.
    fn clearest(&self, r: &Resampler, (reference, stretches): &(Reference, Vec<Angle>), lag: f64, turns: usize) -> Clear {
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
        let over: Vec<f64> = sum.iter().skip(lowest).map(|r| (r / windows.max(1) as f64 - 1.0).max(0.0)).collect();
        // A lag that only moves a line to the middle of a bin must not look better: a Hann line's squared powers and
        // 1.4 times the products of neighbours have one sum wherever it stands between two bins.
        let lobe = |w: &[f64]| (w.iter().map(|x| x * x).sum::<f64>() + 1.4 * (w[0] * w[1] + w[1] * w[2])).sqrt();
        let power = over.windows(3).map(lobe).fold(0.0, f64::max);
        Clear { power, z: lines::score(1.0 + power, OrderWindows::independent(windows)) }
    }
}

/// How clear the clearest line is.
#[derive(Clone, Copy)]
struct Clear {
    power: f64,
    z: f64,
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
    let coarse: Vec<(f64, Clear)> = grid(FROM, TO, COARSE)
        .collect::<Vec<_>>()
        .into_par_iter()
        .map(|lag| (lag, sought.clearest(r, &usual, lag, COARSE_TURNS)))
        .collect();
    let &(near, there) = coarse.iter().max_by(|a, b| a.1.power.total_cmp(&b.1.power))?;
    let mut elsewhere: Vec<f64> = coarse.iter().filter(|c| (c.0 - near).abs() > OFF).map(|c| c.1.power).collect();
    elsewhere.sort_by(f64::total_cmp);
    if there.power < SHARPER * elsewhere.get(elsewhere.len() / 2)? {
        return None;
    }
    let ways: Vec<(Reference, Vec<Angle>)> = SMOOTH.iter().filter_map(|&smooth| turned(smooth, near)).collect();
    let fine: Vec<(usize, f64, Clear)> = (0..ways.len())
        .flat_map(|w| grid(near - AROUND, near + AROUND, FINE).map(move |lag| (w, lag)))
        .collect::<Vec<_>>()
        .into_par_iter()
        .map(|(w, lag)| (w, lag, sought.clearest(r, &ways[w], lag, FINE_TURNS)))
        .collect();
    let &(way, _, best) = fine.iter().max_by(|a, b| a.2.power.total_cmp(&b.2.power))?;
    let curve: Vec<f64> = fine.iter().filter(|f| f.0 == way).map(|f| f.2.power).collect();
    let lag = summit(&curve, near - AROUND, FINE);
    // A curve that still rises at its end has its summit nobody knows where.
    let at_an_end = (lag - near).abs() > AROUND - 0.5 * FINE;
    if best.z < SURE || at_an_end {
        return None;
    }
    // A line that stands nearly as clear over a wide stretch of lags tells them no better than that.
    let near_as_clear = coarse.iter().filter(|c| c.1.power >= NEARLY * there.power).count();
    let half_width = 0.5 * COARSE * near_as_clear as f64;
    let reference = ways.into_iter().nth(way)?.0;
    let sigma = BY_ONE_LINE * LEAST_SIGMA.hypot(half_width);
    Some((Reference { lag, ..reference }, Lag { seconds: lag, sigma, known: true }))
}
