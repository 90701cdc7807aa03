//! Pulses: rhythms in the envelope of what rings at a high frequency. Six a wheel turn is a ball
//! joint; bearing orders show here too.

use super::angle::{Angle, Reference};
use super::lines::{self, Line};
use crate::signal::{Resampler, Samples, envelope, spectra};

/// Slower channels cannot ring.
const LOWEST_RATE: f64 = 1000.0;

/// Rhythms of one channel, strongest first, their order still that of the uncorrected reference.
pub(super) fn find(s: &Samples, data: &[f32], reference: &Reference) -> Vec<Line> {
    let rate = s.rate.get();
    if rate < LOWEST_RATE {
        return vec![];
    }
    let angle = Angle::new(s, reference, 64);
    let turns = match angle.moments.len() / 64 {
        n if n > 300 => 32,
        n if n > 60 => 16,
        _ => 8,
    };
    let r = Resampler::new();
    let mut all: Vec<Line> = vec![];
    for (lo, hi) in [(0.06, 0.12), (0.12, 0.24), (0.24, 0.45)] {
        let e = envelope(data, rate, (lo * rate, hi * rate), 400.0);
        let x = angle.resample(&r, &e.data, e.rate, s.start.get(), reference.circumference);
        let spec = spectra(&x, 64, turns, 26.0, true, |a, b| angle.usable(a, b));
        all.extend(lines::find(&spec, &angle, 0.4));
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
