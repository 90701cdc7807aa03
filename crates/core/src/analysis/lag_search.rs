//! The lag of a late speed signal where no low ridge and no rhythm tells it: the lag at which the strongest order line
//! is sharpest.
//!
//! A line of a high order moves by its order for every turn that the reference is off: at the usual lag of a receiver a
//! gear mesh smears over many bins and is lost, at the right lag it stands in one. So the mean spectrum over the floor
//! is taken at many lags and for a few smoothings of the readings, and the lag with the highest peak is kept.

use super::angle_domain::{Windows, samples_for};
use super::angular_resampling::{Angle, Extent, Reference};
use super::coverage::Coverage;
use super::lag_scale::{Lag, MIN_LAG_SIGMA_S, ROAD_SPEED, stretches, summit};
use super::order_lines;
use crate::signal::{OrderWindows, Pyramid, Resampler, Samples, SpeedTrack, true_samples};
use rayon::prelude::*;

/// The first search: lags, s, and the turns of a window.
const MIN_LAG_S: f64 = -0.2;
const MAX_LAG_S: f64 = 1.6;
const COARSE_STEP_S: f64 = 0.05;
const COARSE_TURNS: usize = 16;
/// The second one, on both sides of the best lag of the first.
const FINE_SPAN_S: f64 = 0.2;
const FINE_STEP_S: f64 = 0.02;
const FINE_TURNS: usize = 32;
/// Smoothing of the readings: of the first search, and those that the second tries, s.
const COARSE_SMOOTHING_S: f64 = 6.0;
const FINE_SMOOTHINGS_S: [f64; 3] = [3.0, 6.0, 10.0];
/// A line must stand so many standard deviations above chance: many bins at many lags are looked at.
const MIN_Z_SCORE: f64 = 7.5;
/// Its peak must be so many times that at most lags which are further off than this, s: else every lag shows it alike.
const MIN_CONTRAST: f64 = 1.6;
const CONTRAST_DISTANCE_S: f64 = 0.25;
/// Lags whose peak reaches this share of the highest are told apart no further.
const NEAR_PEAK_SHARE: f64 = 0.85;
/// One line alone tells a lag less well than many ridges do: found with simulated drives.
const SINGLE_LINE_SIGMA_INFLATION: f64 = 1.5;
/// Lower orders are left out, wheel turns: they hardly smear.
const LOWEST_ORDER: f64 = 2.0;

/// What is searched: a channel at its own rate, up to an order.
pub(super) struct LagSearch<'a> {
    pub samples: &'a Samples,
    pub channel: &'a Pyramid,
    pub top_order: f64,
}

/// The highest peak of a mean order spectrum.
#[derive(Clone, Copy)]
struct LinePeak {
    /// Power over the noise, summed over the line's lobe.
    power: f64,
    /// How far it stands above chance, in standard deviations.
    z_score: f64,
}

/// A reference and its stretches in angle.
type Tracked = (Reference, Vec<Angle>);

impl LagSearch<'_> {
    fn strongest_line(&self, r: &Resampler, (reference, stretches): &Tracked, lag_s: f64, turns: usize) -> LinePeak {
        let s = self.samples;
        let extent = if Coverage::new(s).is_long() { Extent::Looked } else { Extent::Whole };
        let per_turn = samples_for(self.top_order);
        let (mut sum, mut windows): (Vec<f64>, usize) = (vec![], 0);
        for angle in stretches {
            let angle = angle.at_lag(s, reference, lag_s);
            let x = angle.resample(r, self.channel, s.start.get(), per_turn, extent);
            let w = Windows::new((&x, per_turn, extent), &angle, turns, self.top_order, true);
            let ratio = w.spectra.ratio(400.0);
            sum.resize(sum.len().max(ratio.len()), 0.0);
            sum.iter_mut().zip(&ratio).for_each(|(s, r)| *s += r * w.len() as f64);
            windows += w.len();
        }
        let lowest = (LOWEST_ORDER * turns as f64) as usize;
        let over: Vec<f64> = sum.iter().skip(lowest).map(|r| (r / windows.max(1) as f64 - 1.0).max(0.0)).collect();
        // A lag that only moves a line to the middle of a bin must not look better: a Hann line's squared powers and
        // 1.4 times the products of neighbours have one sum wherever it stands between two bins.
        let lobe = |w: &[f64]| (w.iter().map(|x| x * x).sum::<f64>() + 1.4 * (w[0] * w[1] + w[1] * w[2])).sqrt();
        let power = over.windows(3).map(lobe).fold(0.0, f64::max);
        LinePeak { power, z_score: order_lines::score(1.0 + power, OrderWindows::independent(windows)) }
    }

    /// The reference (readings in m/s, distance of a wheel turn in m) at the lag of the sharpest line; none where no line
    /// tells one.
    pub fn find(&self, r: &Resampler, readings: &[(f64, f64)], circumference: f64) -> Option<(Reference, Lag)> {
        let readings = true_samples(readings);
        let span = (readings.first()?.0, readings.last()?.0);
        let parts = stretches(self.samples, &SpeedTrack::fit(&readings, COARSE_SMOOTHING_S)?);
        let tracked = |smoothing_s: f64, lag: f64| -> Option<Tracked> {
            let reference = Reference { track: SpeedTrack::fit(&readings, smoothing_s)?, span, lag, circumference };
            let angles = parts.iter().map(|&(from, to)| Angle::between(self.samples, &reference, from, to)).collect();
            Some((reference, angles))
        };
        let usual = tracked(COARSE_SMOOTHING_S, ROAD_SPEED.lag)?;
        let coarse: Vec<(f64, LinePeak)> = grid(MIN_LAG_S, MAX_LAG_S, COARSE_STEP_S)
            .into_par_iter()
            .map(|lag| (lag, self.strongest_line(r, &usual, lag, COARSE_TURNS)))
            .collect();
        let &(near, peak) = coarse.iter().max_by(|a, b| a.1.power.total_cmp(&b.1.power))?;
        let far = coarse.iter().filter(|c| (c.0 - near).abs() > CONTRAST_DISTANCE_S);
        let mut elsewhere: Vec<f64> = far.map(|c| c.1.power).collect();
        elsewhere.sort_by(f64::total_cmp);
        if peak.power < MIN_CONTRAST * elsewhere.get(elsewhere.len() / 2)? {
            return None;
        }
        let smoothed: Vec<Tracked> = FINE_SMOOTHINGS_S.iter().filter_map(|&s| tracked(s, near)).collect();
        let lags = grid(near - FINE_SPAN_S, near + FINE_SPAN_S, FINE_STEP_S);
        let curves: Vec<Vec<LinePeak>> =
            smoothed.iter().map(|t| lags.par_iter().map(|&lag| self.strongest_line(r, t, lag, FINE_TURNS)).collect()).collect();
        let highest = |c: &[LinePeak]| c.iter().copied().reduce(|a, b| if b.power > a.power { b } else { a });
        let (best, peak_of_best) = (0..curves.len())
            .filter_map(|i| Some((i, highest(&curves[i])?)))
            .reduce(|a, b| if b.1.power > a.1.power { b } else { a })?;
        let powers: Vec<f64> = curves[best].iter().map(|p| p.power).collect();
        let lag = summit(&powers, near - FINE_SPAN_S, FINE_STEP_S);
        // A curve that still rises at its end has its summit nobody knows where.
        let is_at_end = (lag - near).abs() > FINE_SPAN_S - 0.5 * FINE_STEP_S;
        if peak_of_best.z_score < MIN_Z_SCORE || is_at_end {
            return None;
        }
        // A line that stands nearly as sharp over a wide stretch of lags tells them no better than that.
        let alike = coarse.iter().filter(|c| c.1.power >= NEAR_PEAK_SHARE * peak.power).count();
        let half_width_s = 0.5 * COARSE_STEP_S * alike as f64;
        let sigma = SINGLE_LINE_SIGMA_INFLATION * MIN_LAG_SIGMA_S.hypot(half_width_s);
        let reference = smoothed.into_iter().nth(best)?.0;
        Some((Reference { lag, ..reference }, Lag { seconds: lag, sigma, known: true }))
    }
}

fn grid(from: f64, to: f64, step: f64) -> Vec<f64> {
    (0..=((to - from) / step).round() as usize).map(|i| from + step * i as f64).collect()
}
