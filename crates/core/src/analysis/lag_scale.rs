//! How late the speed comes, and how much larger the tyre really is.
//!
//! The lag is where the ridges are sharpest while speed changes. The scale is one for all
//! recordings of a vehicle: fitted jointly to all ridges against the orders that this vehicle can have.

use super::angle_domain::Windows;
use super::angular_resampling::{Angle, Extent, Reference};
use super::coverage::Coverage;
use super::order_lines::Line;
use crate::measure::orders::{Base, OrderLine, What};
use crate::signal::estimate::parabolic_shift;
use crate::signal::{Pyramid, Resampler, Samples, SpeedTrack, true_samples};
use rayon::prelude::*;

/// Steps of the coarse search for the lag, s.
const COARSE_LAG_STEP_S: f64 = 0.15;
const FINE_LAG_STEP_S: f64 = 0.045;
/// Samples a second of a light signal.
pub(super) const LIGHT_RATE_HZ: f64 = 300.0;
/// Turns in a window.
const WINDOW_TURNS: usize = 16;
/// Of a long recording the lag is sought on parts, each at most so long (s).
const PART_S: f64 = 12.0;
/// How often the speed is looked at in a part.
const MAX_PARTS: usize = 32;

/// How late readings usually come, with its spread, s: taken where nothing in the recording tells the lag.
#[derive(Clone, Copy, Debug)]
pub(super) struct Usual {
    pub lag: f64,
    pub sigma: f64,
}

/// Of a receiver's or a dashboard's road speed.
pub(super) const ROAD_SPEED: Usual = Usual { lag: 0.6, sigma: 0.4 };
/// Of an engine speed, which is counted at the crank.
pub(super) const ENGINE_SPEED: Usual = Usual { lag: 0.2, sigma: 0.25 };

/// No lag is known better than this, s: a receiver's own pace wanders, and so does what a body keeps.
pub(super) const MIN_LAG_SIGMA_S: f64 = 0.115;
/// A body that rings passes a vibration on late by 1/(ζ·ω) at its resonance, so that the speed seems
/// less late than it is: 0.05 s for one at 35 Hz with a damping of 0.09, 0.08 s at 22 Hz.
const BODY_DELAY_S: f64 = 0.06;
/// Halves of one drive are more alike than drives are: found with simulated ones.
const HALVES_SIGMA_INFLATION: f64 = 1.6;
const GROUPS: usize = 6;

/// A lag with how well it is known: that of the speed itself, where the ridges are followed at one
/// that is less by what the body keeps.
#[derive(Clone, Copy, Debug)]
pub(super) struct Lag {
    pub seconds: f64,
    pub sigma: f64,
    /// Whether the recording showed it.
    pub known: bool,
}

impl Lag {
    /// Of a reference that does not come late.
    pub fn none() -> Self {
        Self { seconds: 0.0, sigma: 0.0, known: true }
    }
}

/// A signal light enough to be tracked many times over.
pub(super) struct Light(Pyramid);

/// The light signals of a channel: itself at a few hundred samples a second, and where it rings.
pub(super) fn light(x: &Pyramid, envelopes: &[Pyramid]) -> Vec<Light> {
    // The middle band and the high one: what rings lower stands in the signal itself.
    std::iter::once(x).chain(envelopes.iter().skip(1)).map(|p| Light(p.at_least(LIGHT_RATE_HZ))).collect()
}

/// The stretches of a recording on which the lag is sought: all of it, or of a long one those where
/// the speed changes most.
pub(super) fn stretches(s: &Samples, track: &SpeedTrack) -> Vec<(f64, f64)> {
    let (start, duration) = (s.start.get(), s.duration().get());
    let coverage = Coverage::new(s);
    let parts: Vec<(f64, f64)> = if coverage.is_long() {
        coverage.parts().map(|(from, to)| (from, to.min(from + PART_S))).collect()
    } else {
        let length = duration / GROUPS as f64;
        (0..GROUPS).map(|i| start + length * i as f64).map(|from| (from, from + length)).collect()
    };
    let mut all: Vec<(f64, f64, f64)> = parts
        .into_iter()
        .map(|(from, to)| {
            let step = (to - from) / MAX_PARTS as f64;
            let moved: f64 =
                (0..MAX_PARTS).map(|k| from + step * k as f64).map(|t| (track.at(t + step) - track.at(t)).abs()).sum();
            (moved, from, to)
        })
        .collect();
    all.sort_by(|a, b| b.0.total_cmp(&a.0));
    all.truncate(GROUPS);
    all.sort_by(|a, b| a.1.total_cmp(&b.1));
    all.into_iter().map(|(_, a, b)| (a, b)).collect()
}

/// Power over floor of each stretch of a recording as a lag makes it, all light signals one after the other.
/// `turned` are the stretches in angle, by a reference with its own lag.
fn ridges(s: &Samples, r: &Resampler, signals: &[Light], (reference, turned): (&Reference, &[Angle]), lag: f64) -> Vec<Vec<f64>> {
    turned
        .iter()
        .map(|angle| {
            let angle = angle.at_lag(s, reference, lag);
            let mut out = vec![];
            for Light(p) in signals {
                let x = angle.resample(r, p, s.start.get(), 32, Extent::Whole);
                let mut ratio = Windows::new((&x, 32, Extent::Whole), &angle, WINDOW_TURNS, 10.8, true).spectra.ratio(200.0);
                ratio.iter_mut().take(WINDOW_TURNS / 2).for_each(|v| *v = 0.0);
                out.extend(ratio);
            }
            out
        })
        .collect()
}

/// Sharpness of the ridges over some of the stretches.
fn sharpness(groups: &[Vec<f64>], which: &[usize]) -> f64 {
    let used: Vec<_> = which.iter().copied().filter(|&g| groups.get(g).is_some_and(|v| !v.is_empty())).collect();
    if used.is_empty() {
        return 0.0;
    }
    let mean: Vec<f64> = (0..groups[used[0]].len())
        .map(|b| used.iter().map(|&g| groups[g].get(b).copied().unwrap_or(0.0)).sum::<f64>() / used.len() as f64)
        .collect();
    // A lag that only moves a line to the middle of a bin must not look sharper: a Hann line's squared
    // powers and 1.4 times the products of neighbours have one sum wherever it stands between two bins.
    let over: Vec<f64> = mean.iter().map(|r| (r - 1.5).max(0.0)).collect();
    over.iter().map(|r| r * r).sum::<f64>() + 1.4 * over.windows(2).map(|p| p[0] * p[1]).sum::<f64>()
}

/// Every half of the stretches.
fn halves() -> Vec<Vec<usize>> {
    (0u32..1 << GROUPS)
        .filter(|m| m.count_ones() as usize == GROUPS / 2)
        .map(|m| (0..GROUPS).filter(|g| m & (1 << g) != 0).collect())
        .collect()
}

/// Where a parabola through the best of equally spaced values peaks.
pub(super) fn summit(values: &[f64], from: f64, step: f64) -> f64 {
    let (i, _) = values.iter().enumerate().fold((0, f64::MIN), |b, (i, &v)| if v > b.1 { (i, v) } else { b });
    if i == 0 || i + 1 == values.len() {
        return from + step * i as f64;
    }
    from + step * (i as f64 + parabolic_shift([values[i - 1], values[i], values[i + 1]]))
}

/// How sharply equally spaced values bend at the best of them; nothing at an end.
fn bend(values: &[f64]) -> f64 {
    let (i, _) = values.iter().enumerate().fold((0, f64::MIN), |b, (i, &v)| if v > b.1 { (i, v) } else { b });
    if i == 0 || i + 1 >= values.len() { 0.0 } else { 2.0 * values[i] - values[i - 1] - values[i + 1] }
}

/// Readings of the reference in m/s, smoothed, with the lag that makes the ridges sharpest.
pub(super) fn fit(
    s: &Samples,
    r: &Resampler,
    signals: &[Light],
    readings: &[(f64, f64)],
    circumference: f64,
    usually: Usual,
) -> Option<(Reference, Lag)> {
    let readings = true_samples(readings);
    let span = (readings.first()?.0, readings.last()?.0);
    let track = |smooth: f64| SpeedTrack::fit(&readings, smooth);
    let reference = |track: &SpeedTrack, lag: f64| Reference { track: track.clone(), span, lag, circumference };
    let usual = track(6.0)?;
    let steady = reference(&usual, 0.0);
    if !steady.changes() {
        return Some((steady, Lag { seconds: 0.0, sigma: 0.0, known: false }));
    }
    let parts = stretches(s, &usual);
    let turned = |track: &SpeedTrack, lag: f64| {
        let by = reference(track, lag);
        let angles: Vec<Angle> = parts.iter().map(|&(from, to)| Angle::between(s, &by, from, to)).collect();
        (by, angles)
    };
    let sharp = |(by, angles): &(Reference, Vec<Angle>), lag: f64| ridges(s, r, signals, (by, angles), lag);
    let grid = |from: f64, to: f64, step: f64| -> Vec<f64> {
        (0..=((to - from) / step).round() as usize).map(|i| from + step * i as f64).collect()
    };
    let lags = grid(-0.3, 1.95, COARSE_LAG_STEP_S);
    let all: Vec<usize> = (0..GROUPS).collect();
    let usual = turned(&usual, usually.lag);
    let coarse: Vec<_> = lags.par_iter().map(|&l| sharp(&usual, l)).collect();
    let curve = |of: &[Vec<Vec<f64>>], which: &[usize]| -> Vec<f64> { of.iter().map(|g| sharpness(g, which)).collect() };
    let whole = curve(&coarse, &all);
    let near = summit(&whole, -0.3, COARSE_LAG_STEP_S);
    let best = [3.0, 6.0, 10.0]
        .par_iter()
        .filter_map(|&smooth| track(smooth))
        .map(|t| turned(&t, near))
        .map(|t| (sharpness(&sharp(&t, near), &all), t))
        .reduce_with(|a, b| if a.0 >= b.0 { a } else { b })?
        .1;
    let from = near - 4.0 * FINE_LAG_STEP_S;
    let fine: Vec<_> = grid(from, near + 4.0 * FINE_LAG_STEP_S, FINE_LAG_STEP_S).par_iter().map(|&l| sharp(&best, l)).collect();
    let at = |which: &[usize]| {
        // A half that sees the summit elsewhere is believed: that is what the error is made of.
        let rough = summit(&curve(&coarse, which), -0.3, COARSE_LAG_STEP_S);
        if (rough - near).abs() < 3.3 * FINE_LAG_STEP_S { summit(&curve(&fine, which), from, FINE_LAG_STEP_S) } else { rough }
    };
    let found = at(&all);
    let halves = halves();
    // A half in which the speed hardly changes sees a summit anywhere: where the others bend sharply it does not count.
    let misses: Vec<(f64, f64)> = halves.iter().map(|h| (at(h) - found, bend(&curve(&coarse, h)))).collect();
    let sharp = bend(&whole).max(1e-9);
    let mean = |of: &dyn Fn(&(f64, f64)) -> f64| misses.iter().map(|m| of(m).powi(2)).sum::<f64>() / misses.len() as f64;
    let spread = mean(&|(off, _)| *off).min(mean(&|(off, bend)| off * bend / sharp));
    let sigma = (HALVES_SIGMA_INFLATION * spread.sqrt()).hypot(MIN_LAG_SIGMA_S);
    let (top, bottom) = whole.iter().fold((f64::MIN, f64::MAX), |b, &v| (b.0.max(v), b.1.min(v)));
    let known = top > 3.0 && top > 1.1 * bottom && sigma < 0.55;
    // What the recording says, with what is usual for such receivers; alone, the usual stands.
    let (w, u) = (if known { sigma.powi(-2) } else { 0.0 }, usually.sigma.powi(-2));
    let seconds = (w * found + u * usually.lag) / (w + u);
    let best_seconds = (w * (found + BODY_DELAY_S) + u * usually.lag) / (w + u);
    Some((Reference { lag: seconds, ..best.0 }, Lag { seconds: best_seconds, sigma: (w + u).sqrt().recip(), known }))
}

/// The scale of the reference: true wheel frequency = scale · v/C.
#[derive(Clone, Copy, Debug)]
pub(super) struct Scale {
    pub value: f64,
    pub sigma: f64,
    /// Whether two assignments of the ridges fit alike.
    pub uncertain: bool,
}

/// How likely a ridge is to be this kind of line at all.
fn weight(what: What) -> f64 {
    match what {
        What::Wheel | What::Prop | What::EngineFiring => 1.0,
        What::PropTwice | What::InnerJoint | What::EngineFirst | What::Mesh => 0.6,
        What::EngineHalf | What::OuterJoint | What::Flex | What::GearMesh => 0.3,
        What::HalfShaft => 0.0,
        What::BearingCage => 0.02,
        _ => 0.1,
    }
}

/// How likely a rhythm is to be this kind of line at all.
fn pulse_weight(what: What) -> f64 {
    match what {
        What::BearingOuter | What::BearingInner | What::BearingElement | What::OuterJoint => 1.0,
        What::Wheel | What::Prop => 0.5,
        What::HalfShaft => 0.0,
        What::BearingCage => 0.1,
        _ => 0.15,
    }
}

/// Orders (in wheel turns) that ridges (or rhythms) of a recording may have, each with its weight.
pub(super) fn candidates(ladder: &[OrderLine], engine_per_wheel: Option<f64>, rhythms: bool) -> Vec<(f64, f64)> {
    let mut out: Vec<(f64, f64)> = vec![];
    let mut add = |order: f64, w: f64| {
        match out.iter_mut().find(|(o, _)| (*o - order).abs() < 1e-6 * order.max(1.0)) {
            Some((_, have)) => *have = have.max(w),
            None if w > 0.0 => out.push((order, w)),
            None => {}
        };
    };
    for l in ladder {
        let k = match l.base {
            Base::Wheel => 1.0,
            Base::Engine => match engine_per_wheel {
                Some(e) => e,
                None => continue,
            },
        };
        let (order, w) = (l.order.get() * k, if rhythms { pulse_weight(l.what) } else { weight(l.what) });
        add(order, w);
        match l.what {
            What::Wheel => [2.0, 3.0].iter().for_each(|h| add(h * order, 0.6)),
            What::EngineFiring | What::Mesh => add(2.0 * order, 0.4),
            What::EngineHalf => add(3.0 * order, 0.2),
            _ => {}
        }
    }
    out
}

/// The ridges of one channel (order at scale 1), and the orders that they may be, each with its weight.
pub(super) type Ridges = (Vec<Line>, Vec<(f64, f64)>);

/// From this probability of its assignment on a scale's error is that of the assignment alone; below it, of all.
const SURE_SHARE: f64 = 0.9;
/// Below this probability another assignment fits alike, and the scale is called uncertain.
const ALIKE_SHARE: f64 = 0.7;

/// Fits one scale to the ridges of all recordings. Each entry is a recording's ridges (order at
/// scale 1) with the orders that they may be.
pub(super) fn scale(all: &[Ridges]) -> Scale {
    const SCALE_SPAN: f64 = 0.03;
    const SCALE_STEP: f64 = 0.0002;
    let n = (2.0 * SCALE_SPAN / SCALE_STEP).round() as usize;
    let prior_sigma: f64 = 0.012;
    let grid: Vec<f64> = (0..=n).map(|i| 1.0 - SCALE_SPAN + SCALE_STEP * i as f64).collect();
    let score: Vec<f64> = grid
        .iter()
        .map(|&s| {
            let prior = -0.5 * ((s - 1.0) / prior_sigma).powi(2);
            let fits: f64 = all
                .iter()
                .flat_map(|(lines, may)| {
                    lines.iter().map(move |l| {
                        let sigma = l.sigma.max(0.0007 * l.order);
                        let density: f64 = may
                            .iter()
                            .map(|&(o, w)| {
                                let x = (l.order - s * o) / sigma;
                                if x.abs() < 6.0 { w * (-0.5 * x * x).exp() } else { 0.0 }
                            })
                            .sum::<f64>();
                        // A ridge may always be something else: 0.03 keeps one stray from deciding.
                        l.trust() * (density + 0.03).ln()
                    })
                })
                .sum();
            prior + fits
        })
        .collect();
    let top = score.iter().copied().fold(f64::MIN, f64::max);
    let p: Vec<f64> = score.iter().map(|s| (s - top).exp()).collect();
    let sum: f64 = p.iter().sum();
    let (best, _) = p.iter().enumerate().fold((0, 0.0), |b, (i, &v)| if v > b.1 { (i, v) } else { b });
    // The peak around the best alone; what lies outside it says whether another assignment fits as well.
    let around = |i: usize| (grid[i] - grid[best]).abs() < 0.0035;
    let inside: f64 = (0..=n).filter(|&i| around(i)).map(|i| p[i]).sum();
    let mean = (0..=n).filter(|&i| around(i)).map(|i| p[i] * grid[i]).sum::<f64>() / inside;
    let var = (0..=n).filter(|&i| around(i)).map(|i| p[i] * (grid[i] - mean).powi(2)).sum::<f64>() / inside;
    let share = inside / sum;
    let whole = p.iter().zip(&grid).map(|(p, g)| p * g).sum::<f64>() / sum;
    let spread = (p.iter().zip(&grid).map(|(p, g)| p * (g - whole).powi(2)).sum::<f64>() / sum).sqrt();
    let sigma = if share < SURE_SHARE { spread } else { var.sqrt() }.max(0.0003);
    Scale { value: mean, sigma, uncertain: share < ALIKE_SHARE }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(order: f64, z: f64) -> Line {
        Line { order, sigma: 0.002 * order, z, ratio: 10.0 }
    }

    #[test]
    fn a_summit_at_an_end_says_nothing_and_a_sharp_one_more_than_a_flat_one() {
        assert_eq!((bend(&[3.0, 2.0, 1.0]), bend(&[1.0, 2.0, 3.0]), bend(&[1.0])), (0.0, 0.0, 0.0));
        assert!(bend(&[0.0, 4.0, 1.0, 0.0]) > 3.0 * bend(&[3.0, 4.0, 3.5, 0.0]));
    }

    #[test]
    fn several_ridges_agree_on_a_scale() {
        let may = vec![(1.0, 1.0), (4.1, 1.0), (6.888, 1.0), (3.0, 0.6)];
        let s = scale(&[(vec![line(1.008, 20.0), line(4.133, 30.0), line(6.943, 12.0)], may)]);
        assert!((s.value - 1.008).abs() < 0.001, "{s:?}");
        assert!(!s.uncertain && s.sigma < 0.002);
    }

    #[test]
    fn one_ridge_between_two_orders_is_called_uncertain() {
        let s = scale(&[(vec![line(4.10, 30.0)], vec![(4.05, 1.0), (4.15, 1.0)])]);
        assert!(s.uncertain && s.sigma > 0.005, "{s:?}");
    }

    #[test]
    fn no_ridges_leave_the_scale_at_one() {
        let s = scale(&[(vec![], vec![(1.0, 1.0)])]);
        assert!((s.value - 1.0).abs() < 1e-3 && s.uncertain);
    }

    #[test]
    fn a_summit_lies_between_its_samples() {
        let v: Vec<f64> = (0..9).map(|i| -(i as f64 * 0.1 - 0.43).powi(2)).collect();
        assert!((summit(&v, 0.0, 0.1) - 0.43).abs() < 1e-9);
    }
}
