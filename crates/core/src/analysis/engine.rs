//! The engine's side of a recording in which the ratio changes: a converter that slips, a variable
//! ratio, gears that change. There an engine order stays sharp in engine turns and smears in wheel
//! turns, and the other way round: each line is given in the turns in which it is sharper.

use super::angle_domain::AngleSamples;
use super::angular_resampling::{Angle, Reference};
use super::lag_scale::{self, Light};
use super::order_lines::{self, Line};
use super::{Tracked, TrackedChannel};
use crate::error::Problem;
use crate::signal::{Pyramid, Resampler, Samples};

/// The ratio must change by so much, relative, before it shows anything.
const MIN_RATIO_CHANGE: f64 = 0.025;
/// Highest engine order that is looked at.
const HIGHEST_ENGINE_ORDER: f64 = 10.8;

/// A recording in engine turns.
pub(super) struct EngineSide {
    pub angle: Angle,
    /// A channel's samples and lines, in the order of the recording's channels.
    pub channels: Vec<(AngleSamples, Vec<Line>)>,
    /// Engine turns for a wheel turn, by road speed (km/h), sorted.
    ratio: Vec<(f64, f64)>,
}

impl EngineSide {
    /// Engine turns for a wheel turn at a road speed: the mean near it.
    pub fn ratio_at(&self, kmh: f64) -> f64 {
        let near: Vec<f64> = self.ratio.iter().filter(|r| (r.0 - kmh).abs() <= 4.0).map(|r| r.1).collect();
        let of = if near.is_empty() { self.ratio.iter().map(|r| r.1).collect() } else { near };
        of.iter().sum::<f64>() / of.len().max(1) as f64
    }
}

/// How the ratio changes over a recording: road speed (km/h) and engine turns for a wheel turn; none
/// where it hardly changes.
pub(super) fn changing(s: &Samples, road: &Reference) -> Option<Vec<(f64, f64)>> {
    let mut all: Vec<(f64, f64)> = s
        .rpm
        .iter()
        .filter(|r| r.0 >= road.span.0 && r.0 <= road.span.1)
        .map(|&(t, hz)| (road.track.at(t), hz))
        .filter(|(v, hz)| *v > 2.0 && *hz > 5.0)
        .map(|(v, hz)| (3.6 * v, hz / (v / road.circumference)))
        .collect();
    if all.len() < 8 {
        return None;
    }
    let mut ratios: Vec<f64> = all.iter().map(|r| r.1).collect();
    ratios.sort_by(f64::total_cmp);
    let at = |q: f64| ratios[(q * (ratios.len() - 1) as f64) as usize];
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    (at(0.9) > at(0.1) * (1.0 + MIN_RATIO_CHANGE)).then_some(all)
}

/// Turns the channels into engine turns and keeps each line where it is sharper. `channels` are the
/// signals of the recording's channels.
pub(super) fn side(
    s: &Samples,
    r: &Resampler,
    light: &[Light],
    road: &Reference,
    ratio: Vec<(f64, f64)>,
    signals: impl Iterator<Item = Result<Pyramid, Problem>>,
) -> Result<Option<EngineSide>, Problem> {
    let Some((reference, _)) = lag_scale::fit(s, r, light, &s.rpm, 1.0, lag_scale::ENGINE_SPEED) else { return Ok(None) };
    let angle = Angle::new(s, &reference).with_road(road);
    let turns = match angle.turns() {
        n if n > 500 => 64,
        _ => 32,
    };
    let channels = signals
        .map(|x| {
            let x = AngleSamples::new(r, &angle, &x?, s.start.get(), HIGHEST_ENGINE_ORDER);
            let lines = order_lines::find_lines(&x.windows(&angle, turns, HIGHEST_ENGINE_ORDER, true), 0.3);
            Ok((x, lines))
        })
        .collect::<Result<_, Problem>>()?;
    Ok(Some(EngineSide { angle, channels, ratio }))
}

/// Leaves each line only where it stands higher above chance.
pub(super) fn share(engine: &mut EngineSide, channels: &mut [TrackedChannel]) {
    let (lo, hi) = engine.ratio.iter().fold((f64::MAX, 0.0f64), |m, r| (m.0.min(r.1), m.1.max(r.1)));
    for ((_, own), c) in engine.channels.iter_mut().zip(channels) {
        let same = |e: &Line, w: &Line| w.order > 0.98 * lo * e.order && w.order < 1.02 * hi * e.order;
        let wheel = c.lines.clone();
        // A line that belongs to the wheels shows weakly and broadly among the engine's, and the reverse.
        own.retain(|e| wheel.iter().filter(|w| same(e, w)).all(|w| e.z > w.z));
        c.lines.retain(|w| !own.iter().any(|e| same(e, w) && e.z > w.z));
    }
}

impl Tracked {
    /// Levels of engine orders in one channel by road speed; none where the ratio does not change.
    pub(super) fn engine_levels(&self, channel: usize, orders: &[f64]) -> Vec<Vec<super::LevelBin>> {
        self.engine.as_ref().map_or(vec![], |e| order_lines::levels(&e.channels[channel].0, &e.angle, orders))
    }
}
