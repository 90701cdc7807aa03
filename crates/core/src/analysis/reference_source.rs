//! What turns time into wheel turns: a pulse each turn, a road speed, an engine speed, or a ridge in
//! the spectrum itself.

use super::angular_resampling::Reference;
use super::lag_scale::{self, Lag, Light, Scale};
use super::phase::Pulse;
use super::ridge;
use crate::case::RecordingSpec;
use crate::error::{Problem, Warning};
use crate::measure::orders::OrderLine;
use crate::signal::{Channel, Pyramid, Quantity, Resampler, Samples, SpeedTrack};
use crate::vehicle::{GearboxKind, Vehicle};

/// What the reference was taken from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Taken {
    Speed,
    Rpm,
    Pulse,
    Ridge,
}

impl Taken {
    pub fn id(self) -> &'static str {
        match self {
            Self::Speed => "speed",
            Self::Rpm => "rpm",
            Self::Pulse => "pulse",
            Self::Ridge => "ridge",
        }
    }
}

/// A reference, how late it comes, and where it tells the scale itself.
pub(super) struct Chosen {
    pub source: Taken,
    pub reference: Reference,
    pub lag: Lag,
    /// The scale that its orders are corrected by; one is fitted to all recordings where it is none.
    pub own: Option<Scale>,
    /// What it says of the tyre: true wheel frequency over v/C.
    pub tyre: Option<Scale>,
    /// The pulse that it was taken from.
    pub pulse: Option<Pulse>,
    /// The readings that come late, m/s of the road; none where the reference does not come late.
    pub late: Vec<(f64, f64)>,
}

/// What is known of a recording before it is turned into angle.
pub(super) struct Before<'a> {
    pub vehicle: &'a Vehicle,
    pub circumference: f64,
    pub spec: &'a RecordingSpec,
    pub samples: &'a Samples,
    pub ladder: &'a [OrderLine],
    pub engine_per_wheel: Option<f64>,
}

/// How smooth a reference of pulses is taken, s.
const PULSE_SMOOTHING_S: f64 = 0.6;
/// How smooth one of a ridge is taken, s.
const RIDGE_SMOOTHING_S: f64 = 2.0;
/// Turns are counted over at least so long, s.
const MIN_PULSE_SHARE: f64 = 0.3;
/// How well a pulse tells the wheel's turns, relative.
const PULSE_SCALE_SIGMA: f64 = 0.0003;
/// How well an engine speed tells them in a fixed gear, relative.
const RPM_SCALE_SIGMA: f64 = 0.001;

/// Chooses the best reference that there is; none, with the reason among the warnings, where there is none.
pub(super) fn choose(
    b: &Before<'_>,
    r: &Resampler,
    light: &[Light],
    first: Option<&Pyramid>,
    warnings: &mut Vec<Warning>,
) -> Result<Option<Chosen>, Problem> {
    let s = b.samples;
    for (c, spec) in s.channels.iter().zip(&b.spec.channels).filter(|(c, _)| c.quantity == Quantity::Pulse) {
        if let Some(found) = of_pulses(b, c, spec.per.as_deref(), warnings)? {
            return Ok(Some(found));
        }
    }
    let moving = s.speed.iter().any(|v| v.1 > 1.0);
    if !moving && !s.speed.is_empty() && !s.rpm.is_empty() && b.engine_per_wheel.is_some() {
        warnings.push(Warning::new("speed-zero", "the speed column holds zeros only; the engine speed was used"));
    }
    let late = if moving {
        Some((s.speed.clone(), Taken::Speed))
    } else if let (false, Some(e)) = (s.rpm.is_empty(), b.engine_per_wheel) {
        Some((s.rpm.iter().map(|&(t, hz)| (t, hz / e * b.circumference)).collect(), Taken::Rpm))
    } else {
        None
    };
    if let Some((readings, source)) = late {
        let usually = if source == Taken::Rpm { lag_scale::ENGINE_SPEED } else { lag_scale::ROAD_SPEED };
        let Some((reference, lag)) = lag_scale::fit(s, r, light, &readings, b.circumference, usually) else {
            warnings.push(Warning::new("no-reference", "fewer than three speed readings: orders cannot be worked out"));
            return Ok(None);
        };
        // An engine that is coupled firmly counts the wheel's turns itself, whatever the tyre.
        let coupled = source == Taken::Rpm && b.vehicle.gearbox.kind != GearboxKind::Automatic;
        let own = coupled.then_some(Scale { value: 1.0, sigma: RPM_SCALE_SIGMA, uncertain: false });
        return Ok(Some(Chosen { source, reference, lag, own, tyre: None, pulse: None, late: readings }));
    }
    let why = if s.speed.is_empty() { "there is no road speed and no engine speed" } else { "the road speed stays at zero" };
    let found = first.and_then(|x| ridge::follow_ridge(b, r, x));
    let Some(ridge) = found else {
        warnings.push(Warning::new(
            "no-reference",
            format!("{why}, and no ridge that moves with speed stands out: orders cannot be worked out; record the speed too"),
        ));
        return Ok(None);
    };
    warnings.push(Warning::new(
        "ridge-reference",
        format!(
            "{why}: the clearest ridge was followed and taken for {:.2} times a wheel turn ({:.0} %)",
            ridge.order,
            100.0 * ridge.sure
        ),
    ));
    let readings: Vec<(f64, f64)> = ridge.hz.iter().map(|&(t, f)| (t, f / ridge.order * b.circumference)).collect();
    let Some(reference) = exact(&readings, RIDGE_SMOOTHING_S, b.circumference) else { return Ok(None) };
    // The ridge is an order of this vehicle by assumption: its error is that of the tyre, which nothing shows here.
    let own = Scale { value: 1.0, sigma: 0.008f64.hypot(ridge.spread), uncertain: ridge.sure < 0.9 };
    Ok(Some(Chosen { source: Taken::Ridge, reference, lag: Lag::none(), own: Some(own), tyre: None, pulse: None, late: vec![] }))
}

fn exact(readings: &[(f64, f64)], smooth: f64, circumference: f64) -> Option<Reference> {
    let span = (readings.first()?.0, readings.last()?.0);
    Some(Reference { track: SpeedTrack::fit(readings, smooth)?, span, lag: 0.0, circumference })
}

fn of_pulses(b: &Before<'_>, c: &Channel, per: Option<&str>, warnings: &mut Vec<Warning>) -> Result<Option<Chosen>, Problem> {
    let per = per.unwrap_or("wheel");
    let per_wheel = match per {
        "wheel" => Some(1.0),
        p => p.strip_prefix("prop.").and_then(|end| {
            let prop = b.vehicle.props.iter().find(|p| p.end.id() == end)?;
            b.vehicle.final_ratio(prop.end)
        }),
    };
    let Some(per_wheel) = per_wheel else {
        warnings.push(Warning::new("unknown-pulse", format!("{} counts turns of “{per}”, which this vehicle has not", c.name)));
        return Ok(None);
    };
    let Edges { times, turns: edges, missed } = edges(c, b.samples.rate.get(), b.samples.start.get())?;
    let readings: Vec<(f64, f64)> = edges.iter().map(|&(t, seconds)| (t, b.circumference / (per_wheel * seconds))).collect();
    if readings.len() < 16 {
        warnings.push(Warning::new("no-pulse", format!("{} has {} pulses: too few to follow", c.name, readings.len())));
        return Ok(None);
    }
    if missed > 0 {
        warnings.push(Warning::new(
            "pulses-missed",
            format!("{missed} pulses of {} were missing or doubled and were bridged", c.name),
        ));
    }
    let Some(reference) = exact(&readings, PULSE_SMOOTHING_S, b.circumference) else { return Ok(None) };
    let tyre = tyre_by(&reference, &b.samples.speed);
    let own = Scale { value: 1.0, sigma: PULSE_SCALE_SIGMA, uncertain: false };
    Ok(Some(Chosen {
        source: Taken::Pulse,
        reference,
        lag: Lag::none(),
        own: Some(own),
        tyre,
        pulse: Some(Pulse { per_wheel, edges: times }),
        late: vec![],
    }))
}

/// Turns counted against distance driven: what the tyre really is.
fn tyre_by(reference: &Reference, speed: &[(f64, f64)]) -> Option<Scale> {
    let (mut counted, mut driven, mut n) = (0.0, 0.0, 0u32);
    for w in speed.windows(2).filter(|w| w[0].0 > reference.span.0 && w[1].0 < reference.span.1 && w[1].0 - w[0].0 < 3.0) {
        let (a, b) = (w[0].0, w[1].0);
        counted += reference.track.integral(b) - reference.track.integral(a);
        driven += 0.5 * (w[0].1 + w[1].1) * (b - a);
        n += 1;
    }
    (n > 10 && driven > 50.0).then(|| Scale { value: counted / driven, sigma: 0.002, uncertain: false })
}

/// What a pulse counts.
struct Edges {
    /// Moments of the rising edges.
    times: Vec<f64>,
    /// Moments, and how long a turn took there, s.
    turns: Vec<(f64, f64)>,
    /// Turns left out because an edge was missing or stood twice.
    missed: usize,
}

/// The turns between rising edges.
fn edges(c: &Channel, rate: f64, start: f64) -> Result<Edges, Problem> {
    let (mut lo, mut hi) = (f32::MAX, f32::MIN);
    c.data.blocks(|_, b| b.iter().for_each(|&v| (lo, hi) = (lo.min(v), hi.max(v))))?;
    let (low, high) = (lo + 0.4 * (hi - lo), lo + 0.6 * (hi - lo));
    let (mut times, mut armed, mut last) = (vec![], true, f32::MAX);
    c.data.blocks(|from, b| {
        for (i, &v) in b.iter().enumerate() {
            if armed && v >= high && last < high {
                // Where the line between two samples crosses.
                let part = if v > last { f64::from((high - last) / (v - last)) } else { 1.0 };
                times.push(start + ((from + i) as f64 - 1.0 + part) / rate);
                armed = false;
            }
            armed |= v < low;
            last = v;
        }
    })?;
    let all: Vec<(f64, f64)> = times.windows(2).map(|w| (0.5 * (w[0] + w[1]), w[1] - w[0])).collect();
    let good = |i: usize| {
        let mut near: Vec<f64> = all[i.saturating_sub(4)..(i + 5).min(all.len())].iter().map(|e| e.1).collect();
        near.sort_by(f64::total_cmp);
        (0.6..1.6).contains(&(all[i].1 / near[near.len() / 2]))
    };
    // An edge stands between two samples: the mean of one over a short turn would run fast by its
    // jitter, so turns are counted over a stretch of time.
    let (mut kept, mut missed) = (vec![], 0);
    let (mut begun, mut turns) = (0usize, 0u32);
    for i in 0..all.len() {
        if !good(i) {
            missed += 1;
            (begun, turns) = (i + 1, 0);
            continue;
        }
        turns += 1;
        let span = times[i + 1] - times[begun];
        if span >= MIN_PULSE_SHARE {
            kept.push((times[begun] + 0.5 * span, span / f64::from(turns)));
            (begun, turns) = (i + 1, 0);
        }
    }
    Ok(Edges { times, turns: kept, missed })
}
