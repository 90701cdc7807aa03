//! Pulses: rhythms in the envelope of what rings at a high frequency. Six a wheel turn is a ball
//! joint; bearing orders show here too.

use super::angle::Angle;
use super::lines::{self, Line};
use super::turned::Windows;
use crate::signal::{Pyramid, Resampler, envelopes};

/// Slower channels cannot ring.
const LOWEST_RATE: f64 = 1000.0;

/// Bands in which things ring, as shares of the sampling rate.
const BANDS: [(f64, f64); 3] = [(0.0625, 0.125), (0.125, 0.25), (0.25, 0.45)];
/// Samples a turn of an envelope, and the highest order that is looked at in it.
const PER_TURN: usize = 64;
const TOP: f64 = 21.7;

/// Envelopes of a channel, each ready to be turned into angle; none where it is too slow to ring.
pub(super) fn envelopes_of(x: &Pyramid) -> Vec<Pyramid> {
    if x.rate() < LOWEST_RATE {
        return vec![];
    }
    envelopes(x.samples(), x.rate(), &BANDS).into_iter().map(|e| Pyramid::new(e.data, e.rate, 100.0)).collect()
}

/// Rhythms of one channel, strongest first, their order still that of the uncorrected reference.
pub(super) fn find(r: &Resampler, envelopes: &[Pyramid], start: f64, angle: &Angle) -> Vec<Line> {
    let turns = match angle.turns() {
        n if n > 300 => 32,
        n if n > 60 => 16,
        _ => 8,
    };
    let mut all: Vec<Line> = vec![];
    for e in envelopes {
        let x = angle.resample(r, e, start, PER_TURN);
        all.extend(lines::find(&Windows::new(&x, PER_TURN, angle, turns, TOP, true), 0.4));
    }
    all.sort_by(|a, b| b.ratio.total_cmp(&a.ratio));
    let mut out: Vec<Line> = vec![];
    for l in all {
        let near = |o: f64| (l.order - o).abs() < (1.6 / turns as f64).max(0.01 * o);
        if !out.iter().any(|o| near(o.order)) {
            out.push(l);
        }
    }
    // A rhythm and its multiples are one thing: keep the slowest that carries its share.
    let multiple = |l: &Line| {
        out.iter().any(|f| {
            let k = (l.order / f.order).round();
            k >= 2.0 && f.ratio > 0.4 * l.ratio && (l.order - k * f.order).abs() < (1.2 / turns as f64).max(0.012 * l.order)
        })
    };
    let mut kept: Vec<Line> = out.iter().filter(|l| !multiple(l)).copied().collect();
    kept.truncate(12);
    kept
}
