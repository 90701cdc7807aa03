//! What a recording says: which orders stand in it, how strong, at which speed. What could cause them is named by the caller
//! ([`LineCauses`]; [`crate::reasoning::attribution`] knows).
//!
//! [`track`] turns every recording of a case into wheel turns, with one scale fitted to all;
//! [`read`] reads the lines, levels, rhythms and resonances from that. An order is what was
//! measured: it is never pulled onto a known one.

mod angle_domain;
mod angular_resampling;
mod audio_extract;
mod beats;
mod coverage;
mod engine;
mod envelope_orders;
mod events;
mod gear_comparison;
mod lag_scale;
mod lag_search;
mod order_lines;
mod order_map;
mod phase;
mod reference_source;
mod report;
mod ridge;

pub use audio_extract::{Heard, Part, listen, stretch_at};
pub use beats::Beat;
pub use events::Event;
pub use gear_comparison::{GearVerdict, OtherGear, Slip};
pub use order_lines::{LevelBin, SPEED_BIN_KMH};
pub use order_map::OrderMap;
pub use phase::{PhaseBin, RESONANCE_PHASE_DEG, turned_by};
pub use report::{
    Analysis, LineCauses, MeasuredLine, OrderFound, PulseFound, RecordingAnalysis, ReferenceFound, Resonance, Source,
};
pub(crate) use report::{peak_of, tolerance as tolerance_of};

use crate::case::{Case, RecordingSpec};
use crate::error::{Problem, Warning};
use crate::measure::orders::{self, OrderLine};
use crate::signal::{Channel, Pyramid, Quantity, Resampler, Samples};
use crate::vehicle::{GearboxKind, Vehicle};
use angle_domain::AngleSamples;
use angular_resampling::Angle;
use coverage::Coverage;
use engine::EngineSide;
use lag_scale::{Lag, Scale};
use lag_search::LagSearch;
use order_lines::Line;
use phase::Pulse;
use reference_source::{Before, Taken};

/// How late a receiver's speed usually comes: taken where nothing tells it better.
pub const USUAL_LAG: crate::units::Seconds = crate::units::Seconds(lag_scale::ROAD_SPEED.lag);

/// Told how far a long computation is; answers whether to go on.
pub trait Progress: Sync {
    /// `done` runs from 0 to 1. False stops the work.
    fn step(&self, done: f64, what: &str) -> bool;
}

/// For callers that do not ask.
pub struct Silent;

impl Progress for Silent {
    fn step(&self, _: f64, _: &str) -> bool {
        true
    }
}

/// One channel in wheel turns.
pub struct TrackedChannel {
    /// Column or channel of the file.
    pub name: String,
    /// What it measures.
    pub quantity: Quantity,
    /// Unit of its samples: `m/s2`, `fs`, `1/min` …
    pub unit: String,
    x: AngleSamples,
    lines: Vec<Line>,
    pulses: Vec<Line>,
    events: Vec<Event>,
}

/// One recording in wheel turns.
pub struct Tracked {
    /// What is known of it.
    pub spec: RecordingSpec,
    /// Every channel that was tracked, in the order of the recording.
    pub channels: Vec<TrackedChannel>,
    /// Engine turns for one wheel turn, where the gear says.
    pub engine_per_wheel: Option<f64>,
    /// What was noticed.
    pub warnings: Vec<Warning>,
    ladder: Vec<OrderLine>,
    source: Taken,
    angle: Angle,
    lag: Lag,
    scale: Scale,
    /// What the recording itself says of the tyre, where it counts turns.
    tyre: Option<Scale>,
    /// Its scale is its own: a pulse's or a ridge's.
    own_scale: bool,
    /// In engine turns, where the ratio changes.
    engine: Option<EngineSide>,
    /// The pulse that counts its turns.
    pulse: Option<Pulse>,
    has_rpm: bool,
    circumference: f64,
}

/// A recording that could not be tracked, with why.
pub struct TrackingError {
    /// What is known of it.
    pub spec: RecordingSpec,
    /// Why.
    pub warnings: Vec<Warning>,
}

/// Which vehicle a run was driven with.
#[derive(Clone, Copy, Debug)]
pub enum DrivenVehicle<'c> {
    /// All with the same.
    Same(&'c Vehicle),
    /// Each with the vehicle of a case as it was then: tyres and ratios may be others since.
    OfCase(&'c Case),
}

impl<'c> From<&'c Vehicle> for DrivenVehicle<'c> {
    fn from(v: &'c Vehicle) -> Self {
        Self::Same(v)
    }
}
impl<'c> From<&'c Case> for DrivenVehicle<'c> {
    fn from(case: &'c Case) -> Self {
        Self::OfCase(case)
    }
}

impl<'c> DrivenVehicle<'c> {
    /// The vehicle as it was when a run was driven.
    pub fn at_run(self, r: &RecordingSpec) -> &'c Vehicle {
        match self {
            Self::Same(v) => v,
            Self::OfCase(case) => case.vehicle_at_run(r),
        }
    }
}

/// A recording tracked, or why not.
pub type Outcome = Result<Tracked, TrackingError>;

impl Tracked {
    /// Levels of an order (in true wheel turns) in one channel, by speed.
    pub fn levels(&self, channel: usize, wheel_orders: &[f64]) -> Vec<Vec<LevelBin>> {
        let measured: Vec<f64> = wheel_orders.iter().map(|o| o * self.scale.value).collect();
        order_lines::levels(&self.channels[channel].x, &self.angle, &measured)
    }

    /// Frequency of a wheel order at a speed.
    pub fn hz(&self, wheel_order: f64, kmh: f64) -> crate::units::Hz {
        crate::units::Hz(wheel_order * self.scale.value * kmh / 3.6 / self.circumference)
    }

    /// The order map of a channel.
    pub fn map(&self, channel: usize, max_order: f64) -> OrderMap {
        order_map::draw(&self.channels[channel].x, &self.angle, max_order, self.scale.value)
    }
}

/// No signal is needed at fewer samples a second.
const SLOWEST_RATE_HZ: f64 = 100.0;
/// No wheel turns faster, where no road speed says how fast.
const FASTEST_HZ: f64 = 45.0;

/// A lag that is known no better than this, s, is sought once more by the sharpest line.
const POOR_LAG_SIGMA_S: f64 = 0.2;

/// The errors that make up the scale's are not all against it at once: found with simulated drives.
const SCALE_SIGMA_FACTOR: f64 = 0.72;

/// What a driven wheel slips and a tyre wanders by, relative.
const WHEEL_SLIP_SIGMA: f64 = 0.0002;

/// The highest order that a channel can show at its slow speeds.
fn reach(rate: f64, wheel_hz_slow: f64) -> f64 {
    (0.42 * rate / wheel_hz_slow.max(0.5)).clamp(8.0, 87.0)
}

/// Turns all recordings of a vehicle, or of a case, into wheel turns. Those that were driven on the same tyres share one scale.
pub fn track<'c>(
    driven: impl Into<DrivenVehicle<'c>>,
    recordings: &[(RecordingSpec, Samples)],
    progress: &dyn Progress,
) -> Result<Vec<Outcome>, Problem> {
    let driven = driven.into();
    let mut out: Vec<Outcome> = vec![];
    for (i, (spec, samples)) in recordings.iter().enumerate() {
        if !progress.step(0.8 * i as f64 / recordings.len() as f64, &format!("recording {}", spec.id)) {
            return Err(Problem::new("cancelled", "the analysis was cancelled"));
        }
        let v = driven.at_run(spec);
        out.push(track_one(v, v.circumference()?.get(), spec, samples)?);
    }
    if !progress.step(0.85, "tyre size against the ridges") {
        return Err(Problem::new("cancelled", "the analysis was cancelled"));
    }
    let mut by_tyre: Vec<(f64, Vec<&mut Outcome>)> = vec![];
    for ((spec, _), o) in recordings.iter().zip(&mut out) {
        let round = driven.at_run(spec).circumference()?.get();
        match by_tyre.iter_mut().find(|t| t.0 == round) {
            Some(t) => t.1.push(o),
            None => by_tyre.push((round, vec![o])),
        }
    }
    by_tyre.iter_mut().for_each(|t| share_scale(&mut t.1));
    Ok(out)
}

/// Recordings with the same tyres have one scale.
fn share_scale(out: &mut [&mut Outcome]) {
    let ridges: Vec<lag_scale::Ridges> = out
        .iter()
        .filter_map(|o| o.as_ref().ok())
        .filter(|t| !t.own_scale)
        .flat_map(|t| {
            let may = lag_scale::candidates(&t.ladder, t.engine_per_wheel, false);
            let may_pulse = lag_scale::candidates(&t.ladder, t.engine_per_wheel, true);
            t.channels.iter().flat_map(move |c| {
                // A rhythm and its multiples show in the plain spectrum too: counted once, as the rhythm.
                let is_rhythm = |l: &Line| {
                    let of =
                        |p: &Line| (l.order - (l.order / p.order).round() * p.order).abs() < 0.012 * l.order.min(2.0 * p.order);
                    c.pulses.iter().any(|p| p.order > 1.5 && l.order > 0.98 * p.order && of(p))
                };
                let mut strong: Vec<Line> = c.lines.iter().filter(|l| !is_rhythm(l)).copied().collect();
                strong.truncate(12);
                let mut pulses = c.pulses.clone();
                pulses.truncate(3);
                [(strong, may.clone()), (pulses, may_pulse.clone())]
            })
        })
        .collect();
    let mut scale = lag_scale::scale(&ridges);
    // Turns that were counted against a road speed tell it better than any ridge.
    if let Some(counted) = out.iter().filter_map(|o| o.as_ref().ok()?.tyre).next() {
        scale = counted;
    }
    // A lag that is a little off moves every ridge of its recording alike, and wheels slip by a little.
    let lags: Vec<f64> = out.iter().filter_map(|o| o.as_ref().ok()).map(|t| t.lag.sigma * t.angle.pull_of_lag()).collect();
    let pulled = lags.iter().map(|l| l * l).sum::<f64>().sqrt() / lags.len().max(1) as f64;
    scale.sigma = SCALE_SIGMA_FACTOR * scale.sigma.hypot(pulled).hypot(WHEEL_SLIP_SIGMA);
    for t in out.iter_mut().filter_map(|o| o.as_mut().ok()) {
        if !t.own_scale {
            t.scale = scale;
        }
        if t.scale.uncertain && t.channels.iter().any(|c| !c.lines.is_empty()) {
            t.warnings.push(Warning::new(
                "scale-uncertain",
                "the ridges fit more than one size of the tyre: every order may be off by the error that is given with it",
            ));
        }
    }
}

/// The order map of a recording whose lag and scale are known: resampling, transform and levels
/// alone. None without a speed.
pub fn known_map(
    v: &Vehicle,
    s: &Samples,
    lag: crate::units::Seconds,
    scale: f64,
    top: f64,
) -> Result<Option<OrderMap>, Problem> {
    let circumference = v.circumference()?.get();
    let readings = crate::signal::true_samples(&s.speed);
    let Some(track) = crate::signal::SpeedTrack::fit(&readings, 6.0) else { return Ok(None) };
    let span = (readings[0].0, readings[readings.len() - 1].0);
    let reference = angular_resampling::Reference { track, span, lag: lag.get(), circumference };
    let angle = Angle::new(s, &reference);
    let Some(c) = s.channels.first() else { return Ok(None) };
    let x = Pyramid::from_data(&c.data, s.rate.get(), angle_domain::rate_for(top, angle.fastest_hz()), SLOWEST_RATE_HZ)?;
    let x = AngleSamples::new(Resampler::shared(), &angle, &x, s.start.get(), top);
    Ok(Some(order_map::draw(&x, &angle, top, scale)))
}

/// Turns of the wheel a second below which a fifth of a drive lies.
fn slow_hz(reference: &angular_resampling::Reference) -> f64 {
    let (from, to) = reference.span;
    let mut f: Vec<f64> =
        (0..200).map(|i| reference.track.at(from + (to - from) * f64::from(i) / 199.0)).filter(|v| *v > 1.0).collect();
    f.sort_by(f64::total_cmp);
    f.get(f.len() / 5).copied().unwrap_or(8.0) / reference.circumference
}

fn track_one(v: &Vehicle, circumference: f64, spec: &RecordingSpec, s: &Samples) -> Result<Outcome, Problem> {
    let mut warnings = s.warnings.clone();
    let refuse = |warnings: Vec<Warning>| Ok(Err(TrackingError { spec: spec.clone(), warnings }));
    if s.refused || s.is_empty() {
        return refuse(warnings);
    }
    check_channels(s, &mut warnings)?;
    let gear = spec.fixed_gear();
    let ladder = match orders::orders(v, gear) {
        Ok(l) => l,
        Err(p) => {
            warnings.push(Warning::new(&p.code, format!("{}; the gear is taken as unknown", p.message)));
            orders::orders(v, None)?
        }
    };
    let engine_per_wheel = v.engine_per_wheel(gear, spec.range.as_deref()).ok().flatten().map(|e| e.get());
    let resampler = Resampler::shared();
    let (start, coverage) = (s.start.get(), Coverage::new(s));
    if coverage.keep() > 1 {
        warnings.push(Warning::new(
            "looked-in-parts",
            format!(
                "the recording is long: orders were looked for in one half minute of every {}, spread evenly over all of it",
                coverage.keep()
            ),
        ));
    }
    let twins = twins(s)?;
    for (i, j) in &twins {
        let (a, b) = (&s.channels[*i].name, &s.channels[*j].name);
        let message = format!("channels {a} and {b} are the same samples: one sensor written twice; {b} was left out");
        warnings.push(Warning::new("duplicate-channel", message));
    }
    let sensors: Vec<&Channel> = (0..s.channels.len())
        .filter(|i| s.channels[*i].quantity != Quantity::Pulse && !twins.iter().any(|t| t.1 == *i))
        .map(|i| &s.channels[i])
        .collect();
    let fastest = match s.speed.iter().map(|v| v.1).fold(0.0, f64::max) / circumference {
        f if f > 1.0 => 1.3 * f,
        _ => FASTEST_HZ,
    };
    let read = |c: &Channel| envelope_orders::read(c, s.rate.get(), start, &coverage, fastest);
    // One channel at a time is held: a long recording of many would not fit.
    let mut light = vec![];
    if let Some(second) = sensors.get(1) {
        light.extend(lag_scale::light(&coverage.pyramid(second, s, lag_scale::LIGHT_RATE_HZ)?, &[]));
    }
    let mut first = sensors.first().map(|c| read(c)).transpose()?;
    if let Some((x, bands)) = &first {
        light.splice(0..0, lag_scale::light(x, &bands.envelopes));
    }
    // Of a long recording two signals tell the lag as well as more would.
    light.truncate(if coverage.is_long() { 2 } else { usize::MAX });
    let before = Before { vehicle: v, circumference, spec, samples: s, ladder: &ladder, engine_per_wheel };
    let Some(mut chosen) = reference_source::choose(&before, resampler, &light, first.as_ref().map(|f| &f.0), &mut warnings)?
    else {
        return refuse(warnings);
    };
    let top = reach(s.rate.get(), slow_hz(&chosen.reference));
    if (!chosen.lag.known || chosen.lag.sigma > POOR_LAG_SIGMA_S) && chosen.reference.changes() && !chosen.late.is_empty() {
        // The channel that is held first, then the others one at a time.
        for (i, c) in sensors.iter().enumerate() {
            let other = if i == 0 { None } else { Some(coverage.pyramid(c, s, s.rate.get())?) };
            let Some(channel) = other.as_ref().or(first.as_ref().map(|f| &f.0)) else { break };
            let search = LagSearch { samples: s, channel, top_order: top };
            if let Some((reference, lag)) = search.find(resampler, &chosen.late, circumference) {
                (chosen.reference, chosen.lag) = (reference, lag);
                break;
            }
            if coverage.is_long() {
                break;
            }
        }
    }
    let (reference, lag) = (chosen.reference, chosen.lag);
    let angle = Angle::new(s, &reference);
    let turns = match angle.turns() {
        n if n > 500 => 64,
        n if n > 150 => 32,
        _ => 16,
    };
    let ratio = engine::changing(s, &reference).filter(|_| chosen.source != Taken::Rpm);
    if ratio.is_none() {
        light.clear();
    }
    let mut channels = vec![];
    for c in &sensors {
        let (x, bands) = match first.take() {
            Some(first) => first,
            None => read(c)?,
        };
        let pulses = envelope_orders::find_envelope_orders(resampler, &bands.envelopes, start, &angle);
        let events = events::find_events(&c.name, &bands.frames, start);
        let turned = AngleSamples::new(resampler, &angle, &x, start, top);
        drop((x, bands));
        let x = turned;
        let lines = order_lines::find_lines(&x.windows(&angle, turns, top, true), 0.45);
        channels.push(TrackedChannel {
            name: c.name.clone(),
            quantity: c.quantity,
            unit: c.unit.clone(),
            x,
            lines,
            pulses,
            events,
        });
    }
    let varies = gear.is_none() && (v.gearbox.kind == GearboxKind::Cvt || spec.gear.as_deref() == Some("varies"));
    if varies && s.rpm.is_empty() && v.engine.is_some() {
        warnings.push(Warning::new(
            "no-rpm",
            "the ratio changes and no engine speed was recorded: what turns with the engine cannot be worked out; record rpm too",
        ));
    }
    let mut engine = None;
    if let Some(ratio) = ratio {
        let signals = sensors.iter().map(|c| coverage.pyramid(c, s, 1200.0));
        engine = engine::side(s, resampler, &light, &reference, ratio, signals)?;
    }
    if let Some(e) = &mut engine {
        engine::share(e, &mut channels);
    }
    Ok(Ok(Tracked {
        spec: spec.clone(),
        channels,
        engine_per_wheel,
        warnings,
        ladder,
        source: chosen.source,
        angle,
        lag,
        scale: chosen.own.unwrap_or(Scale { value: 1.0, sigma: 0.012, uncertain: true }),
        tyre: chosen.tyre,
        own_scale: chosen.own.is_some(),
        engine,
        pulse: chosen.pulse,
        has_rpm: !s.rpm.is_empty(),
        circumference,
    }))
}

/// Pairs of channels that are one: a sound of one microphone written as two.
fn twins(s: &Samples) -> Result<Vec<(usize, usize)>, Problem> {
    const COMPARED_SAMPLES: usize = 4096;
    let mut out = vec![];
    for (i, a) in s.channels.iter().enumerate().filter(|(_, c)| c.quantity != Quantity::Pulse) {
        for (j, b) in s.channels.iter().enumerate().skip(i + 1) {
            let (mut x, mut y) = (vec![0.0; COMPARED_SAMPLES.min(a.data.len())], vec![0.0; COMPARED_SAMPLES.min(b.data.len())]);
            // A look at the middle tells nearly all apart; only those that look alike are read through.
            a.data.read(a.data.len() / 2, &mut x)?;
            b.data.read(b.data.len() / 2, &mut y)?;
            if x != y || x.iter().all(|v| *v == x[0]) {
                continue;
            }
            let (mut same, mut y) = (true, vec![]);
            a.data.blocks(|from, x| {
                y.resize(x.len(), 0.0);
                same &= b.data.read(from, &mut y).is_ok() && x == y;
            })?;
            if same {
                out.push((i, j));
            }
        }
    }
    Ok(out)
}

/// Smallest and largest of a block.
fn extremes(b: &[f32]) -> (f32, f32) {
    let (mut lo, mut hi) = ([f32::MAX; 8], [f32::MIN; 8]);
    for part in b.chunks(8) {
        for ((l, h), &v) in lo.iter_mut().zip(&mut hi).zip(part) {
            *l = if v < *l { v } else { *l };
            *h = if v > *h { v } else { *h };
        }
    }
    (lo.into_iter().fold(f32::MAX, f32::min), hi.into_iter().fold(f32::MIN, f32::max))
}

/// Whether samples pile up at an end: a sensor that clips puts there all that would lie beyond it. A sample that is
/// only printed coarsely stands there more rarely than one step inside.
fn piles_up(c: &Channel, limit: f32, lo: f32, hi: f32) -> Result<bool, Problem> {
    /// So many times as often as within a fiftieth of the range, or a step, beside it.
    const END_STOP_PILE_RATIO: f64 = 1.5;
    let inside = |v: f32| (limit - v).abs();
    let mut step = f32::MAX;
    c.data.blocks(|_, b| step = b.iter().map(|v| inside(*v)).filter(|d| *d > 0.0).fold(step, f32::min))?;
    let width = (1.001 * step).max(0.02 * (hi - lo));
    let (mut at, mut beside) = (0u64, 0u64);
    c.data.blocks(|_, b| {
        for d in b.iter().map(|v| inside(*v)) {
            at += u64::from(d == 0.0);
            beside += u64::from(d > 0.0 && d <= width);
        }
    })?;
    Ok(at as f64 > END_STOP_PILE_RATIO * beside as f64)
}

/// Dead and saturated channels are warned of.
fn check_channels(s: &Samples, warnings: &mut Vec<Warning>) -> Result<(), Problem> {
    for c in &s.channels {
        // The ends of each block say where an end stop may stand at all.
        let mut ends: Vec<(f32, f32)> = vec![];
        c.data.blocks(|_, b| ends.push(extremes(b)))?;
        let (lo, hi) = ends.iter().fold((f32::MAX, f32::MIN), |m, e| (m.0.min(e.0), m.1.max(e.1)));
        if hi - lo <= f32::EPSILON * hi.abs().max(1.0) {
            warnings.push(Warning::new("dead-channel", format!("channel {} never changes: is it connected?", c.name)));
            continue;
        }
        // A pulse stands at its ends by nature.
        if c.quantity == Quantity::Pulse {
            continue;
        }
        // Three equal samples in a row at the largest or smallest value, three times over.
        let (mut runs, mut counts, mut first) = ([0u32; 2], [0u64; 2], [None; 2]);
        let mut block = 0;
        c.data.blocks(|from, b| {
            let (low, high) = ends[block];
            block += 1;
            if low > lo && high < hi {
                runs = [0; 2];
                return;
            }
            for (i, v) in b.iter().enumerate() {
                for (k, limit) in [hi, lo].into_iter().enumerate() {
                    runs[k] = if *v == limit { runs[k] + 1 } else { 0 };
                    if runs[k] >= 3 {
                        counts[k] += 1;
                        first[k].get_or_insert(from + i - 2);
                    }
                }
            }
        })?;
        for (k, limit) in [hi, lo].into_iter().enumerate() {
            if counts[k] >= 3
                && let Some(i) = first[k]
                && piles_up(c, limit, lo, hi)?
            {
                let t = s.start.get() + i as f64 / s.rate.get();
                let message = format!("channel {} stands at its end stop ({limit:.2}): levels are too low there", c.name);
                warnings.push(Warning::new("saturated", message).second(t));
                break;
            }
        }
    }
    Ok(())
}

/// What tracked recordings say: orders with levels in m/s² (peak) or the channel's unit, rhythms, events, resonances. A recording
/// that could not be tracked is there with its warnings. Fails only when `progress` stops it.
pub fn read<'c>(
    driven: impl Into<DrivenVehicle<'c>>,
    tracked: &[Outcome],
    causes: &dyn LineCauses,
    progress: &dyn Progress,
) -> Result<Analysis, Problem> {
    report::report(driven.into(), tracked, causes, progress)
}
