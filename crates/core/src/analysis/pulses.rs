//! Pulses: rhythms in the envelope of what rings at a high frequency. Six a wheel turn is a ball
//! joint; bearing orders show here too.

use super::angle::Angle;
use super::events;
use super::lines::{self, Line};
use super::turned::Windows;
use crate::signal::{Envelope, Pyramid, Resampler, envelopes};

/// Slower channels cannot ring.
const LOWEST_RATE: f64 = 1000.0;

/// Bands in which things ring, as shares of the sampling rate.
const BANDS: [(f64, f64); 3] = [(0.0625, 0.125), (0.125, 0.25), (0.25, 0.45)];
/// Samples a turn of an envelope, and the highest order that is looked at in it.
const PER_TURN: usize = 64;
const TOP: f64 = 21.7;

/// From this length on (s) only bands in which something rings are turned into angle.
const LONG: f64 = 420.0;
/// Mean fourth power over the squared mean square of an envelope: 2 for noise, more where it pulses.
const RINGING: f64 = 2.03;

/// Whether a band pulses at all, from how unevenly it is filled second by second.
fn rings(e: &Envelope) -> bool {
    let each = (e.rate as usize).max(64);
    let parts = e.data.chunks_exact(each).filter_map(|part| {
        let (mut two, mut four) = (0.0f32, 0.0f32);
        for v in part {
            let p = v * v;
            two += p;
            four += p * p;
        }
        (two > 0.0).then(|| f64::from(four * part.len() as f32 / (two * two)))
    });
    let (sum, n) = parts.fold((0.0, 0u32), |(s, n), v| (s + v, n + 1));
    sum > RINGING * f64::from(n.max(1))
}

/// A channel's bands: what rings in each, and how loud each is from moment to moment.
#[derive(Default)]
pub(super) struct Bands {
    /// Envelopes ready to be turned into angle; none where the channel is too slow to ring.
    pub envelopes: Vec<Pyramid>,
    /// Frames for single events: their rate, and the mean square of each.
    pub frames: Vec<(f64, Vec<f32>)>,
}

/// The bands of a channel.
pub(super) fn bands_of(x: &Pyramid) -> Bands {
    if x.rate() < LOWEST_RATE {
        // What is too slow to ring still jumps.
        let jumps: Vec<f32> = x.samples().windows(2).map(|w| w[1] - w[0]).collect();
        return Bands { envelopes: vec![], frames: vec![events::frames(&jumps, x.rate())] };
    }
    let long = x.samples().len() as f64 / x.rate() > LONG;
    let all = envelopes(x.samples(), x.rate(), &BANDS);
    let frames = all.iter().map(|e| events::frames(&e.data, e.rate)).collect();
    let heard = |e: &Envelope| !long || rings(e);
    let envelopes = all.into_iter().filter(heard).map(|e| Pyramid::new(e.data, e.rate, 100.0)).collect();
    Bands { envelopes, frames }
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
