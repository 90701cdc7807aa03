//! Pulses: rhythms in the envelope of what rings at a high frequency. Six a wheel turn is a ball
//! joint; bearing orders show here too.

use super::SLOWEST_RATE_HZ;
use super::angle_domain::Windows;
use super::angle_domain::whole_rate;
use super::angular_resampling::{Angle, Extent};
use super::coverage::Coverage;
use super::events;
use super::order_lines::{self, Line};
use crate::error::Problem;
use crate::signal::{self, Channel, Data, Envelope, Octave, OctaveMaker, Pyramid, Resampler};

/// Slower channels cannot ring.
const LOWEST_RATE_HZ: f64 = 1000.0;

/// Bands in which things ring, as shares of the sampling rate.
const BANDS: [(f64, f64); 3] = [(0.0625, 0.125), (0.125, 0.25), (0.25, 0.45)];
/// Samples a turn of an envelope, and the highest order that is looked at in it.
const STEPS_PER_TURN: usize = 64;
const HIGHEST_ORDER: f64 = 21.7;

/// Unevenness of an octave above which something rings in it: 3 is noise.
const RINGING_RATIO: f64 = 3.045;

/// Bands of a long recording that are turned into angle.
const MAX_BANDS: usize = 2;

/// A channel's bands: what rings in each, and how loud each is from moment to moment.
#[derive(Default)]
pub(super) struct Bands {
    /// Envelopes ready to be turned into angle; none where the channel is too slow to ring.
    pub envelopes: Vec<Pyramid>,
    /// Frames for single events: their rate, and the mean square of each.
    pub frames: Vec<(f64, Vec<f32>)>,
}

/// A channel read in: at its own rate in the parts that are looked at, slower everywhere, and its bands.
/// Its first sample stands at `start`; nothing turns faster than `fastest_hz`.
pub(super) fn read(
    c: &Channel,
    rate: f64,
    start: f64,
    coverage: &Coverage,
    fastest_hz: f64,
) -> Result<(Pyramid, Bands), Problem> {
    let at = |sample: usize| coverage.at(start + sample as f64 / rate);
    let mut octaves: Vec<OctaveMaker> =
        (0..BANDS.len()).map(|k| OctaveMaker::new(rate / f64::powi(2.0, k as i32), events::FRAME_S)).collect();
    let rings = rate >= LOWEST_RATE_HZ;
    let mut last = None;
    let kept = |sample: usize, slow: bool| if slow { coverage.kept(start + sample as f64 / rate) } else { at(sample) };
    let x = Pyramid::in_parts(&c.data, rate, (whole_rate(fastest_hz), SLOWEST_RATE_HZ), kept, |k, part| {
        if rings && k < BANDS.len() {
            octaves[k].push(part);
        } else if k == 0 {
            // What is too slow to ring still jumps.
            let jumps: Vec<f32> = part.iter().map(|v| v - last.replace(*v).unwrap_or(*v)).collect();
            octaves[0].push(&jumps);
        }
    })?;
    octaves.truncate(if rings { BANDS.len() } else { 1 });
    let (mut envelopes, mut frames) = (vec![], vec![]);
    // Of a long recording only the bands in which something rings most are turned into angle.
    let mut heard: Vec<(f64, (f64, f64))> = vec![];
    for (octave, band) in octaves.into_iter().zip(BANDS.into_iter().rev()) {
        let Octave { rate, frames: loud, unevenness } = octave.done();
        frames.push((rate, loud));
        if rings && (!coverage.is_long() || unevenness > RINGING_RATIO) {
            heard.push((unevenness, band));
        }
    }
    if coverage.is_long() {
        heard.sort_by(|a, b| b.0.total_cmp(&a.0));
        heard.truncate(MAX_BANDS);
    }
    let mut heard: Vec<(f64, f64)> = heard.into_iter().map(|h| h.1).collect();
    heard.sort_by(|a, b| a.0.total_cmp(&b.0));
    if !heard.is_empty() {
        let all = signal::envelopes(x.samples(), rate, &heard, |a, b| at(a) || at(b));
        let slower = |e: Envelope| {
            if !coverage.is_long() {
                return Ok(Pyramid::new(e.data, e.rate, SLOWEST_RATE_HZ));
            }
            let looked = |sample: usize, _: bool| coverage.at(start + sample as f64 / e.rate);
            Pyramid::in_parts(&Data::from(e.data), e.rate, (0.0, SLOWEST_RATE_HZ), looked, |_, _| {})
        };
        envelopes = all.into_iter().map(slower).collect::<Result<_, Problem>>()?;
    }
    Ok((x, Bands { envelopes, frames }))
}

/// Rhythms of one channel, strongest first, their order still that of the uncorrected reference.
pub(super) fn find_envelope_orders(r: &Resampler, envelopes: &[Pyramid], start: f64, angle: &Angle) -> Vec<Line> {
    let turns = match angle.turns() {
        n if n > 300 => 32,
        n if n > 60 => 16,
        _ => 8,
    };
    let mut all: Vec<Line> = vec![];
    for e in envelopes {
        let x = angle.resample(r, e, start, STEPS_PER_TURN, Extent::Looked);
        all.extend(order_lines::find_lines(
            &Windows::new((&x, STEPS_PER_TURN, Extent::Looked), angle, turns, HIGHEST_ORDER, true),
            0.4,
        ));
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
