//! What gears tell: whether a line follows the wheels or the engine, whether one gear alone has it, and
//! how much a converter slips.

use super::order_lines::LevelBin;
use super::report::{Analysis, OrderFound, RecordingAnalysis, is_engine_side, tolerance};
use super::{Outcome, Tracked};
use crate::measure::orders::Base;
use crate::vehicle::{GearboxKind, Vehicle};
use serde::{Deserialize, Serialize};

/// A line of one gear alone is weaker than this share of itself in every other gear.
const GONE_MAX_SHARE: f64 = 0.35;
/// From this share on it is there too.
const THERE_MIN_SHARE: f64 = 0.6;
/// Compared wherever it stands at this share of its peak.
const COMPARED_MIN_PEAK_SHARE: f64 = 0.7;
/// Only so many of a recording's strongest lines are followed into other gears.
const MAX_FOLLOWED_LINES: usize = 10;
/// The least and the most that a converter is taken to slip, relative.
const SLIP_RANGE: (f64, f64) = (0.004, 0.12);
/// How closely two engine orders must agree on a slip.
const SLIP_AGREEMENT: f64 = 0.003;

/// How much a converter slips: engine turns for one of the gearbox's input, less one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Slip {
    /// Per cent.
    pub percent: f64,
    /// Its standard error.
    pub sigma_percent: f64,
    /// The wheel orders that show it.
    pub orders: Vec<f64>,
}

/// Orders that an engine makes: halves up to three, firing and its double.
fn engine_orders(v: &Vehicle) -> Vec<f64> {
    let mut out: Vec<f64> = vec![1.0];
    if let Some(e) = v.engine {
        let firing = f64::from(e.cylinders) * 2.0 / f64::from(e.strokes);
        out.extend([2.0, firing, 2.0 * firing]);
        if e.strokes == 4 {
            out.extend([0.5, 1.5]);
        }
    }
    out
}

/// Whether an engine makes such an order: halves up to three, firing and its double.
pub(super) fn is_engine_like(v: &Vehicle, engine_order: f64, sigma: f64) -> bool {
    engine_orders(v).iter().any(|m| (m - engine_order).abs() <= tolerance(engine_order, sigma).min(0.02 * m + 0.01))
}

/// In one gear wheel and engine cannot be separated; two gears can. A line whose engine order
/// comes back in another gear, with no equal at its wheel order, is the engine's; one that comes back as
/// neither is the gearbox's own.
pub(super) fn compare(a: &mut Analysis, tracked: &[Outcome]) {
    let before = a.clone();
    for (i, r) in a.recordings.iter_mut().enumerate() {
        let Some(own) = r.engine_per_wheel else { continue };
        for (n, o) in r.orders.iter_mut().enumerate() {
            let (mut engine, mut wheel, mut compared) = (0.0f64, 0.0f64, false);
            for (j, other) in before.recordings.iter().enumerate() {
                let Some(theirs) = other.engine_per_wheel else { continue };
                let channel = |t: &Outcome| t.as_ref().is_ok_and(|t| t.channels.iter().any(|c| c.name == o.channel));
                if i == j || (theirs / own - 1.0).abs() < 0.03 || !channel(&tracked[j]) {
                    continue;
                }
                compared = true;
                let best = |want: f64| {
                    let tol = tolerance(want, o.order_sigma);
                    other.orders.iter().filter(|p| (p.order - want).abs() <= tol).map(|p| p.level().0).fold(0.0, f64::max)
                };
                engine = engine.max(best(o.order / own * theirs));
                wheel = wheel.max(best(o.order));
            }
            if compared {
                if let Ok(mine) = &tracked[i]
                    && n < MAX_FOLLOWED_LINES
                {
                    o.other_gears = other_gears(o, own, mine, tracked.iter().zip(&before.recordings));
                    o.only_in_gear = gear_alone(mine, &o.other_gears);
                }
                if o.only_in_gear.is_some() && o.sources.iter().any(|s| s.at.starts_with("gearbox")) {
                    o.sources.retain(|s| s.at.starts_with("gearbox"));
                }
                o.ambiguous = o.ambiguous && engine == 0.0 && wheel == 0.0;
                if engine > 2.0 * wheel && engine > 0.0 {
                    o.base = Base::Engine;
                    o.order /= own;
                    o.order_sigma /= own;
                    o.sources.retain(is_engine_side);
                }
            }
        }
    }
}

/// A line looked for in a run in another gear: at the same wheel order, and at the same engine order.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OtherGear {
    /// Which run.
    pub recording: String,
    /// Name of the gear of that other run.
    pub gear: String,
    /// The order there that is the same for the engine, in wheel turns.
    pub engine_order: f64,
    /// Levels at the same wheel order, by road speed.
    pub wheel: Vec<LevelBin>,
    /// Levels at the same engine order, by road speed.
    pub engine: Vec<LevelBin>,
    /// Share of its level that stands at the same wheel order, wherever both were driven.
    pub wheel_share: Option<f64>,
    /// The same for the engine order, at the same engine speed.
    pub engine_share: Option<f64>,
}

/// How a line stands in another gear.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GearVerdict {
    /// About as strong.
    There,
    /// Neither.
    Weaker,
    /// As good as none.
    Gone,
}

impl GearVerdict {
    /// By the share of its level that is left there.
    pub fn from_share(share: f64) -> Self {
        match share {
            s if s >= THERE_MIN_SHARE => Self::There,
            s if s < GONE_MAX_SHARE => Self::Gone,
            _ => Self::Weaker,
        }
    }
}

/// A line of one run in the runs that were driven alike in other gears.
fn other_gears<'a>(
    o: &OrderFound,
    own: f64,
    mine: &Tracked,
    all: impl Iterator<Item = (&'a Outcome, &'a RecordingAnalysis)>,
) -> Vec<OtherGear> {
    let mut out = vec![];
    for (other, told) in all {
        let (Ok(other), Some(theirs)) = (other, told.engine_per_wheel) else { continue };
        let alike = other.spec.throttle == mine.spec.throttle && other.spec.is_after() == mine.spec.is_after();
        let channel = other.channels.iter().position(|c| c.name == o.channel);
        let (Some(channel), Some(gear), true) = (channel, other.spec.fixed_gear(), alike && (theirs / own - 1.0).abs() >= 0.03)
        else {
            continue;
        };
        let engine_order = o.order / own * theirs;
        let levels = other.levels(channel, &[o.order, engine_order]);
        // Compared wherever the line is nearly as strong as at its peak: a level may still be there by chance.
        let share = |bins: &[LevelBin], slower: f64| {
            let near = |kmh: f64| bins.iter().find(|b| (b.speed_kmh - kmh).abs() <= 2.6);
            o.levels
                .iter()
                .filter(|b| b.amplitude > COMPARED_MIN_PEAK_SHARE * o.level().0)
                .filter_map(|b| near(b.speed_kmh * slower).map(|n| (n.amplitude + 2.0 * n.sigma) / b.amplitude))
                .reduce(f64::max)
        };
        // The same road speed for what turns with the wheels, the same engine speed for what turns with the engine.
        let (wheel_share, engine_share) = (share(&levels[0], 1.0), share(&levels[1], own / theirs));
        let [wheel, engine] = <[Vec<LevelBin>; 2]>::try_from(levels).unwrap_or_default();
        out.push(OtherGear {
            recording: other.spec.id.clone(),
            gear: gear.to_string(),
            engine_order,
            wheel,
            engine,
            wheel_share,
            engine_share,
        });
    }
    out
}

/// The gear of a line that is gone in every other gear in which it could be seen; none where it is there
/// too, or where that cannot be said.
fn gear_alone(mine: &Tracked, others: &[OtherGear]) -> Option<String> {
    let seen: Vec<f64> = others.iter().filter_map(|g| Some(g.wheel_share?.max(g.engine_share?))).collect();
    let gear = mine.spec.fixed_gear()?;
    (!seen.is_empty() && seen.iter().all(|s| GearVerdict::from_share(*s) == GearVerdict::Gone)).then(|| gear.to_string())
}

/// How much the converter of an automatic slips where no engine speed was recorded: two lines or more
/// that are no order of the wheels' side and are engine orders with one and the same slip. Their order
/// may then be the engine's, and that is said.
pub(super) fn slip(v: &Vehicle, t: &Tracked, orders: &mut [OrderFound]) -> Option<Slip> {
    let e = t.engine_per_wheel.filter(|_| v.gearbox.kind == GearboxKind::Automatic && !t.has_rpm)?;
    let wheels: Vec<f64> = t.ladder.iter().filter(|l| l.base == Base::Wheel).map(|l| l.order.get()).collect();
    let is_wheels = |o: &OrderFound| {
        let tol = tolerance(o.order, o.order_sigma);
        wheels.iter().any(|w| (1..=3).any(|k| (f64::from(k) * w - o.order).abs() <= tol))
    };
    let engine = engine_orders(v);
    // Which line, as which engine order, with which slip.
    let mut may: Vec<(usize, f64, f64)> = vec![];
    for (i, o) in orders.iter().enumerate().take(MAX_FOLLOWED_LINES).filter(|(_, o)| o.base == Base::Wheel && !is_wheels(o)) {
        may.extend(engine.iter().map(|k| (i, *k, o.order / (k * e) - 1.0)).filter(|m| m.2 > SLIP_RANGE.0 && m.2 < SLIP_RANGE.1));
    }
    let agreeing = |s: f64| -> Vec<(usize, f64, f64)> {
        let mut own: Vec<(usize, f64, f64)> = may.iter().filter(|m| (m.2 - s).abs() <= SLIP_AGREEMENT).copied().collect();
        own.dedup_by_key(|m| m.0);
        own
    };
    let kinds = |own: &[(usize, f64, f64)]| {
        let mut k: Vec<u64> = own.iter().map(|m| m.1.to_bits()).collect();
        k.sort_unstable();
        k.dedup();
        k.len()
    };
    let best = may.iter().map(|m| agreeing(m.2)).max_by_key(|own| kinds(own))?;
    if kinds(&best) < 2 {
        return None;
    }
    let mean = best.iter().map(|m| m.2).sum::<f64>() / best.len() as f64;
    let spread = best.iter().map(|m| (m.2 - mean).powi(2)).sum::<f64>().sqrt() / best.len() as f64;
    let mut shown: Vec<f64> = best.iter().map(|m| orders[m.0].order).collect();
    shown.sort_by(f64::total_cmp);
    for m in &best {
        orders[m.0].ambiguous = true;
    }
    Some(Slip { percent: 100.0 * mean, sigma_percent: 100.0 * spread.hypot(t.scale.sigma), orders: shown })
}
