//! From tracked recordings to what they say: orders with levels, rhythms, resonances. What could cause a line is named by whoever
//! knows causes ([`LineCauses`]).

use super::beats::{self, Beat};
use super::events::Event;
use super::gear_comparison::{self, OtherGear, Slip};
use super::lag_scale::{ENGINE_SPEED, ROAD_SPEED};
use super::order_lines::{self, LevelBin};
use super::phase::PhaseBin;
use super::{DrivenVehicle, Outcome, Progress, Tracked, TrackedChannel};
use crate::case::RecordingSpec;
use crate::error::{Problem, Warning};
use crate::measure::orders::Base;
use crate::signal::estimate::parabolic_shift;
use crate::signal::{Quantity, felt};
use crate::units::{Hz, Ms2};
use crate::vehicle::Vehicle;
use serde::{Deserialize, Serialize};

/// How time became angle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ReferenceFound {
    /// speed, rpm, pulse or ridge.
    pub source: String,
    /// True wheel frequency over v/C.
    pub scale: f64,
    /// Its standard error.
    pub scale_sigma: f64,
    /// How late the speed comes; none where it hardly changes.
    pub lag_s: Option<f64>,
    /// Its standard error.
    pub lag_sigma_s: Option<f64>,
}

impl ReferenceFound {
    /// What a reader of its orders should know of the speed's delay; nothing where that is known or plays no part.
    pub fn delay_words(&self) -> Option<String> {
        let is_late = matches!(self.source.as_str(), "speed" | "rpm");
        (is_late && self.lag_s.is_none()).then(|| {
            let usual = if self.source == "rpm" { ENGINE_SPEED.lag } else { ROAD_SPEED.lag };
            format!("The speed signal's delay could not be worked out; {usual:.1} s is assumed where the speed changes.")
        })
    }
    /// Turns of the wheel a second at 1 km/h.
    pub fn hz_per_kmh(&self, v: &Vehicle) -> Result<f64, Problem> {
        Ok(self.scale / 3.6 / v.circumference()?.get())
    }
}

/// A fault at a place that makes such a line.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Source {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    pub at: String,
}

/// A line that stands out of the noise, as it was measured: never pulled onto a known order.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OrderFound {
    /// In which channel.
    pub channel: String,
    /// What it is counted against.
    pub base: Base,
    /// How often a turn of the base.
    pub order: f64,
    /// Its standard error.
    pub order_sigma: f64,
    /// Peak amplitude in the peak bin of an acceleration.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub amplitude_ms2: Option<f64>,
    /// Its standard error.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub amplitude_sigma_ms2: Option<f64>,
    /// Peak amplitude in the peak bin of anything else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub amplitude: Option<f64>,
    /// Its standard error.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub amplitude_sigma: Option<f64>,
    /// Unit of `amplitude`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Weighted level over where people begin to feel it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub felt: Option<f64>,
    /// Middle of the bin of speed where it is strongest.
    pub peak_speed_kmh: f64,
    /// Its frequency there.
    pub peak_hz: f64,
    /// Exponent of its growth with speed.
    pub growth: Option<f64>,
    /// An engine order fits as well in this one gear.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ambiguous: bool,
    /// It stands in this gear and in no other one that was driven: made inside the gearbox.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only_in_gear: Option<String>,
    /// The same line looked for in the runs in other gears.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub other_gears: Vec<OtherGear>,
    /// How far it stands behind the pulse at each speed, where a pulse counts its turns.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub phase: Vec<PhaseBin>,
    /// What could cause it.
    pub sources: Vec<Source>,
    /// Its level at each speed.
    pub levels: Vec<LevelBin>,
}

impl OrderFound {
    /// Amplitude and its error, whatever the quantity.
    pub fn level(&self) -> (f64, f64) {
        (self.amplitude_ms2.or(self.amplitude).unwrap_or(0.0), self.amplitude_sigma_ms2.or(self.amplitude_sigma).unwrap_or(0.0))
    }
    /// The order in wheel turns.
    pub fn wheel_order(&self, engine_per_wheel: Option<f64>) -> Option<f64> {
        match self.base {
            Base::Wheel => Some(self.order),
            Base::Engine => engine_per_wheel.map(|e| e * self.order),
        }
    }
}

/// One rhythm found.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PulseFound {
    /// In which channel.
    pub channel: String,
    /// Pulses a wheel turn.
    pub per_wheel_turn: f64,
    /// dB over the floor of the envelope.
    pub strength: f64,
    /// What could cause it.
    pub sources: Vec<Source>,
}

/// A frequency at which several orders peak.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Resonance {
    /// The frequency.
    pub hz: f64,
    /// The orders that peak there, in wheel turns.
    pub orders: Vec<f64>,
}

/// What one recording says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RecordingAnalysis {
    /// Id of the recording in the case.
    pub id: String,
    /// How time became angle.
    pub reference: Option<ReferenceFound>,
    /// The orders, strongest first.
    pub orders: Vec<OrderFound>,
    /// The rhythms, strongest first.
    pub pulses: Vec<PulseFound>,
    /// Single events, in the order of time.
    pub events: Vec<Event>,
    /// Frequencies at which several orders peak.
    pub resonances: Vec<Resonance>,
    /// Orders that rise and fall in a slow rhythm.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub beats: Vec<Beat>,
    /// How much the converter slips, where several orders show it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slip: Option<Slip>,
    /// What was noticed.
    pub warnings: Vec<Warning>,
    /// Nothing could be done.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub refused: bool,
    /// Engine turns for one wheel turn in its gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub engine_per_wheel: Option<f64>,
}

/// What the recordings of a case say.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Analysis {
    /// One entry a recording.
    pub recordings: Vec<RecordingAnalysis>,
}

impl Analysis {
    /// One recording's.
    pub fn recording(&self, id: &str) -> Option<&RecordingAnalysis> {
        self.recordings.iter().find(|r| r.id == id)
    }
}

/// How far a measured order may stand from a predicted one and still be it.
pub(crate) fn tolerance(order: f64, sigma: f64) -> f64 {
    (2.5 * sigma).max(0.012).max(0.004 * order)
}

/// A line as it was measured, for whoever names what could cause it.
#[derive(Clone, Copy, Debug)]
pub struct MeasuredLine<'a> {
    /// Of which run.
    pub run: &'a RecordingSpec,
    /// The gear of the run, where it was one.
    pub gear: Option<&'a str>,
    /// Engine turns for one wheel turn, where known.
    pub engine_per_wheel: Option<f64>,
    /// Turns for one wheel turn.
    pub wheel_order: f64,
    /// How far a predicted line may stand from it, in wheel orders.
    pub tolerance: f64,
}

/// Names what could cause a line: the analysis measures lines and knows no faults.
pub trait LineCauses: Sync {
    /// Faults at places that make such a line, each once.
    fn causes_of(&self, line: &MeasuredLine) -> Vec<Source>;
}

pub(super) fn report(
    driven: DrivenVehicle,
    tracked: &[Outcome],
    causes: &dyn LineCauses,
    progress: &dyn Progress,
) -> Result<Analysis, Problem> {
    let mut out = Analysis::default();
    for (i, t) in tracked.iter().enumerate() {
        if !progress.step(0.87 + 0.13 * i as f64 / tracked.len() as f64, "levels") {
            return Err(Problem::new("cancelled", "the analysis was cancelled"));
        }
        out.recordings.push(match t {
            Err(u) => RecordingAnalysis {
                id: u.spec.id.clone(),
                reference: None,
                orders: vec![],
                pulses: vec![],
                events: vec![],
                resonances: vec![],
                beats: vec![],
                slip: None,
                warnings: u.warnings.clone(),
                refused: true,
                engine_per_wheel: None,
            },
            Ok(t) => report_recording(driven.at_run(&t.spec), causes, t),
        });
    }
    gear_comparison::compare(&mut out, tracked);
    Ok(out)
}

/// A level that was chosen for being the largest misses by more than its bin says: found with simulated drives.
const CHOSEN_LEVEL_SIGMA_INFLATION: f64 = 1.07;

/// Found with simulated drives.
const SCALE_SIGMA_SHARE: f64 = 0.72;

fn report_recording(v: &Vehicle, causes: &dyn LineCauses, t: &Tracked) -> RecordingAnalysis {
    let (s, sigma_s) = (t.scale.value, t.scale.sigma);
    let gear = t.spec.fixed_gear();
    let sources = |wheel_order: f64, tolerance: f64| {
        causes.causes_of(&MeasuredLine { run: &t.spec, gear, engine_per_wheel: t.engine_per_wheel, wheel_order, tolerance })
    };
    let (mut orders, mut pulses): (Vec<OrderFound>, Vec<PulseFound>) = (vec![], vec![]);
    for c in &t.channels {
        let measured: Vec<f64> = c.lines.iter().map(|l| l.order).collect();
        let levels = order_lines::levels(&c.x, &t.angle, &measured);
        for (l, levels) in c.lines.iter().zip(levels) {
            let Some(peak) = peak_of(&levels) else { continue };
            let order = l.order / s;
            // A ridge is one of those that the scale was fitted to: of that error it has a part only.
            let order_sigma = (l.sigma / s).hypot(SCALE_SIGMA_SHARE * order * sigma_s / s);
            let hz = t.hz(order, peak.speed_kmh);
            let ambiguous = t.engine_per_wheel.is_some_and(|e| gear_comparison::is_engine_like(v, order / e, order_sigma / e));
            let sources = sources(order, tolerance(order, order_sigma));
            let phase = t.pulse.as_ref().map_or(vec![], |p| p.phases(&c.x, &t.angle, l.order));
            orders.push(OrderFound {
                ambiguous,
                sources,
                phase,
                ..order_found(c, Base::Wheel, (order, order_sigma), hz, peak, levels)
            });
        }
        for l in &c.pulses {
            let order = l.order / s;
            pulses.push(PulseFound {
                channel: c.name.clone(),
                per_wheel_turn: order,
                strength: 10.0 * l.ratio.log10(),
                sources: sources(order, tolerance(order, (l.sigma / s).hypot(order * sigma_s)).max(0.012 * order)),
            });
        }
    }
    orders.extend(engine_orders(causes, t));
    let weight = |o: &OrderFound| o.level().0 / o.level().1.max(1e-12);
    orders.sort_by(|a, b| weight(b).total_cmp(&weight(a)));
    pulses.sort_by(|a, b| b.strength.total_cmp(&a.strength));
    let resonances = resonances(&orders);
    let beats = beats::find_beats(t, &orders);
    let slip = gear_comparison::slip(v, t, &mut orders);
    let mut events: Vec<Event> = t.channels.iter().flat_map(|c| c.events.iter().cloned()).collect();
    events.sort_by(|a, b| a.at_s.total_cmp(&b.at_s));
    RecordingAnalysis {
        id: t.spec.id.clone(),
        reference: Some(ReferenceFound {
            source: t.source.id().into(),
            scale: t.tyre.map_or(s, |x| x.value),
            scale_sigma: t.tyre.map_or(sigma_s, |x| x.sigma),
            lag_s: t.lag.known.then_some(t.lag.seconds),
            lag_sigma_s: t.lag.known.then_some(t.lag.sigma),
        }),
        orders,
        pulses,
        events,
        resonances,
        beats,
        slip,
        warnings: t.warnings.clone(),
        refused: false,
        engine_per_wheel: t.engine_per_wheel,
    }
}

/// An order in the words of the answer, its sources still to be named.
fn order_found(
    c: &TrackedChannel,
    base: Base,
    (order, order_sigma): (f64, f64),
    hz: Hz,
    peak: LevelBin,
    levels: Vec<LevelBin>,
) -> OrderFound {
    let acceleration = c.quantity == Quantity::Acceleration;
    OrderFound {
        channel: c.name.clone(),
        base,
        order,
        order_sigma,
        amplitude_ms2: acceleration.then_some(peak.amplitude),
        amplitude_sigma_ms2: acceleration.then_some(peak.sigma),
        amplitude: (!acceleration).then_some(peak.amplitude),
        amplitude_sigma: (!acceleration).then_some(peak.sigma),
        unit: (!acceleration).then(|| c.unit.clone()),
        felt: acceleration.then(|| felt(Ms2(peak.amplitude), hz)),
        peak_speed_kmh: peak.speed_kmh,
        peak_hz: hz.get(),
        growth: order_lines::growth(&levels, peak.speed_kmh),
        ambiguous: false,
        only_in_gear: None,
        other_gears: vec![],
        phase: vec![],
        sources: vec![],
        levels,
    }
}

/// Whether a source turns with the engine.
pub(super) fn is_engine_side(s: &Source) -> bool {
    s.at == "engine" || s.at.starts_with("mount") || s.at == "clutch" || s.at == "gearbox"
}

/// Orders that stay sharp in engine turns while the ratio changes.
fn engine_orders(causes: &dyn LineCauses, t: &Tracked) -> Vec<OrderFound> {
    let Some(engine) = &t.engine else { return vec![] };
    let mut out = vec![];
    for (i, ((_, found), c)) in engine.channels.iter().zip(&t.channels).enumerate() {
        let measured: Vec<f64> = found.iter().map(|l| l.order).collect();
        for (l, levels) in found.iter().zip(t.engine_levels(i, &measured)) {
            let Some(peak) = peak_of(&levels) else { continue };
            let ratio = engine.ratio_at(peak.speed_kmh);
            let hz = t.hz(l.order * ratio / t.scale.value, peak.speed_kmh);
            // A counter of revolutions tells them to a part in a thousand.
            let order_sigma = l.sigma.hypot(0.001 * l.order);
            let line = MeasuredLine {
                run: &t.spec,
                gear: None,
                engine_per_wheel: Some(ratio),
                wheel_order: l.order * ratio,
                tolerance: tolerance(l.order, order_sigma) * ratio,
            };
            let sources = causes.causes_of(&line).into_iter().filter(is_engine_side).collect();
            out.push(OrderFound { sources, ..order_found(c, Base::Engine, (l.order, order_sigma), hz, peak, levels) });
        }
    }
    out
}

/// The bin with the largest level among those that stand above their error. The largest of many weak
/// levels is large by chance: the weaker a level, the more its neighbours are asked.
pub(crate) fn peak_of(levels: &[LevelBin]) -> Option<LevelBin> {
    let score = |i: usize| {
        let l = levels[i];
        let doubt = (8.0 * l.sigma / l.amplitude.max(1e-12) - 0.3).clamp(0.0, 1.0);
        let near = |j: Option<usize>| j.and_then(|j| levels.get(j)).map(|n| (n.amplitude, 1.0));
        let beside = [near(i.checked_sub(1)), near(Some(i + 1)), Some((2.0 * l.amplitude, 2.0))];
        let (sum, weight) = beside.into_iter().flatten().fold((0.0, 0.0), |s, n| (s.0 + n.0, s.1 + n.1));
        (1.0 - doubt) * (l.amplitude - l.sigma) + doubt * (sum / weight - l.sigma)
    };
    let best = (0..levels.len())
        .filter(|&i| levels[i].amplitude > 2.5 * levels[i].sigma)
        .max_by(|&a, &b| score(a).total_cmp(&score(b)))?;
    Some(LevelBin {
        amplitude: chosen_level(levels, best),
        sigma: CHOSEN_LEVEL_SIGMA_INFLATION * levels[best].sigma,
        ..levels[best]
    })
}

/// The level of a bin that was chosen for being the largest: it is large by chance as well, and its
/// neighbours say by how much. Normal likelihood, with a prior around the neighbours' mean as wide
/// as a level changes from bin to bin.
fn chosen_level(levels: &[LevelBin], i: usize) -> f64 {
    const LEVEL_CHANGE_PER_BIN: f64 = 0.25;
    let own = levels[i];
    let beside: Vec<&LevelBin> = [i.checked_sub(1), Some(i + 1)].into_iter().flatten().filter_map(|j| levels.get(j)).collect();
    if beside.is_empty() {
        return own.amplitude;
    }
    let n = beside.len() as f64;
    let mean = beside.iter().map(|b| b.amplitude).sum::<f64>() / n;
    let spread = (LEVEL_CHANGE_PER_BIN * mean.max(0.5 * own.amplitude)).powi(2)
        + beside.iter().map(|b| b.sigma.powi(2)).sum::<f64>() / (n * n);
    let (w, u) = (own.sigma.powi(-2), spread.recip());
    (w * own.amplitude + u * mean) / (w + u)
}

/// Frequency at which an order peaks, between the bins of its levels: a parabola through the
/// highest and its neighbours.
fn fine_peak_hz(o: &OrderFound) -> f64 {
    let at = |kmh: f64| o.levels.iter().find(|l| (l.speed_kmh - kmh).abs() < 0.1).map(|l| l.amplitude);
    let v = o.peak_speed_kmh;
    let shift = match (at(v - order_lines::SPEED_BIN_KMH), at(v), at(v + order_lines::SPEED_BIN_KMH)) {
        (Some(a), Some(b), Some(c)) => parabolic_shift([a, b, c]),
        _ => 0.0,
    };
    o.peak_hz * (v + shift * order_lines::SPEED_BIN_KMH) / v
}

/// Orders of one channel that peak at the same frequency.
fn resonances(orders: &[OrderFound]) -> Vec<Resonance> {
    let mut out: Vec<Resonance> = vec![];
    for (i, a) in orders.iter().enumerate().take(8) {
        let inner = |o: &OrderFound| {
            let (lo, hi) = o.levels.iter().fold((f64::MAX, 0.0f64), |b, l| (b.0.min(l.speed_kmh), b.1.max(l.speed_kmh)));
            o.peak_speed_kmh > lo + 0.1 && o.peak_speed_kmh < hi - 0.1
        };
        let same: Vec<&OrderFound> = orders
            .iter()
            .skip(i + 1)
            .take(8)
            .filter(|b| {
                b.channel == a.channel
                    && (b.order - a.order).abs() > 0.3
                    && (fine_peak_hz(b) / fine_peak_hz(a) - 1.0).abs() < 0.045
            })
            .filter(|b| inner(b) && inner(a) && (b.peak_speed_kmh - a.peak_speed_kmh).abs() > 4.0)
            .collect();
        if same.is_empty() || out.iter().any(|r| (r.hz / fine_peak_hz(a) - 1.0).abs() < 0.08) {
            continue;
        }
        let mut list: Vec<f64> = std::iter::once(a.order).chain(same.iter().map(|b| b.order)).collect();
        list.sort_by(f64::total_cmp);
        out.push(Resonance { hz: fine_peak_hz(a), orders: list });
    }
    out
}
