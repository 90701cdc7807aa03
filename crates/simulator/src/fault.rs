//! Faults as forces: what each does to the floor, as a function of speed.

use crate::noise::Noise;
use baricord_core::error::Problem;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::{hypotheses, predicted};
use baricord_core::units::Order;
use baricord_core::vehicle::Vehicle;
use std::f64::consts::TAU;
use std::str::FromStr;

/// Mass (kg) that the floor sets against a shaft's or a wheel's force.
const FLOOR_KG: f64 = 130.0;
/// m/s² at the floor for each rad/s² of a pinion that is shaken.
const TORSION_TO_FLOOR: f64 = 0.0011;

/// A fault that can be simulated, and what severity 1 means.
#[derive(Clone, Copy, Debug)]
pub struct FaultKind {
    /// Id of a fault of the knowledge.
    pub id: &'static str,
    /// Severity 1 in this unit.
    pub full: f64,
    /// Unit of its size.
    pub unit: &'static str,
    /// Whether it is heard by a microphone rather than felt by an accelerometer.
    pub is_heard: bool,
}

/// The faults that can be simulated.
pub const KINDS: &[FaultKind] = &[
    FaultKind { id: "wheel-imbalance", full: 16_000.0, unit: "g·mm", is_heard: false },
    FaultKind { id: "prop-imbalance", full: 900.0, unit: "g·mm", is_heard: false },
    FaultKind { id: "prop-bent", full: 1.8, unit: "mm runout", is_heard: false },
    FaultKind { id: "joint-angle", full: 6.0, unit: "degrees residual", is_heard: false },
    FaultKind { id: "engine-order", full: 900.0, unit: "g·mm", is_heard: false },
    FaultKind { id: "inner-joint-worn", full: 0.9, unit: "m/s² at the floor", is_heard: false },
    FaultKind { id: "wheel-bearing-worn", full: 1.0, unit: "of a loud growl", is_heard: true },
    FaultKind { id: "outer-joint-worn", full: 1.0, unit: "of a loud click", is_heard: true },
];

/// A fault at a place, how bad.
#[derive(Clone, Debug, PartialEq)]
pub struct FaultSpec {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    pub at: String,
    /// From 0 to 1.
    pub severity: f64,
}

impl FromStr for FaultSpec {
    type Err = Problem;

    fn from_str(s: &str) -> Result<Self, Problem> {
        let bad = |m: String| Problem::new("bad-fault", m).field("fault");
        let (fault, rest) = s.split_once('@').ok_or_else(|| bad(format!("“{s}”: write it as fault@place or fault@place:0.5")))?;
        let (at, severity) = match rest.split_once(':') {
            None => (rest, 0.5),
            Some((at, x)) => (at, x.parse().map_err(|_| bad(format!("severity “{x}” is no number")))?),
        };
        if !(0.0..=1.0).contains(&severity) {
            return Err(bad(format!("a severity lies from 0 to 1, got {severity}")));
        }
        if !KINDS.iter().any(|k| k.id == fault) {
            let all: Vec<_> = KINDS.iter().map(|k| k.id).collect();
            return Err(bad(format!("“{fault}” cannot be simulated; there are {}", all.join(", "))));
        }
        Ok(Self { fault: fault.into(), at: at.into(), severity })
    }
}

/// What shakes.
pub(crate) enum Source {
    /// A tone at an order of wheel or engine.
    Tone { order: Order, engine: bool, law: Law },
    /// Pulses that ring.
    Pulse { order: Order, strength: f64 },
}

/// How a tone's amplitude follows speed.
pub(crate) enum Law {
    /// Unbalance of so many g·mm.
    Unbalance(f64),
    /// Twice a turn, a residual angle in degrees; the frequency is twice the shaft's.
    Torsion(f64),
    /// The same at every speed, m/s².
    Steady(f64),
}

impl Source {
    /// Its order in wheel turns, and how many of its own turns make one of the wheel.
    pub fn order(&self, engine_per_wheel: Option<f64>) -> Option<(f64, f64)> {
        match self {
            Source::Tone { order, engine: true, .. } => engine_per_wheel.map(|e| (order.get() * e, order.get() * e)),
            Source::Tone { order, .. } | Source::Pulse { order, .. } => Some((order.get(), order.get())),
        }
    }

    /// Amplitude at the floor before the body's own ringing, m/s². `f` is its frequency.
    pub fn amplitude(&self, f: f64, kmh: f64) -> f64 {
        match self {
            Source::Tone { law, .. } => match law {
                Law::Unbalance(gmm) => gmm * 1e-6 * (TAU * f).powi(2) / FLOOR_KG,
                Law::Torsion(deg) => deg.to_radians().powi(2) * (TAU * f / 2.0).powi(2) * TORSION_TO_FLOOR,
                Law::Steady(a) => *a,
            },
            Source::Pulse { strength, .. } => strength * (0.4 + kmh / 120.0),
        }
    }
}

fn tone(order: f64, engine: bool, law: Law) -> Source {
    Source::Tone { order: Order(order), engine, law }
}

/// What every vehicle has a little of.
pub(crate) fn background(v: &Vehicle, throttle: &str) -> Vec<Source> {
    let mut out =
        vec![tone(1.0, false, Law::Unbalance(900.0)), tone(2.0, false, Law::Steady(0.012)), tone(3.0, false, Law::Steady(0.010))];
    for p in &v.props {
        if let Some(baricord_core::vehicle::Turns::Wheel(i)) = v.prop_turns(p) {
            out.push(tone(i, false, Law::Unbalance(30.0)));
        }
    }
    if let (Some(e), true) = (v.engine, throttle != "neutral") {
        let firing = f64::from(e.cylinders) * 2.0 / f64::from(e.strokes);
        let load = if throttle == "drive" { 1.0 } else { 0.6 };
        out.push(tone(firing, true, Law::Steady(0.05 * load)));
        out.push(tone(1.0, true, Law::Steady(0.012)));
    }
    out
}

/// What a fault adds.
pub(crate) fn sources(v: &Vehicle, f: &FaultSpec, throttle: &str) -> Result<Vec<Source>, Problem> {
    let k = builtin();
    let nowhere = || Problem::new("bad-fault", format!("this vehicle cannot have {} at “{}”", f.fault, f.at)).field("fault");
    let all = hypotheses(v, k);
    let h = all.iter().find(|h| h.fault == f.fault && h.at == f.at).ok_or_else(nowhere)?;
    let full = KINDS.iter().find(|k| k.id == f.fault).map_or(0.0, |k| k.full);
    let size = f.severity * full;
    let ladder = baricord_core::measure::orders::orders(v, None)?;
    let lines: Vec<_> = predicted(k, h, &ladder).into_iter().map(|p| p.line).collect();
    let first = lines.first().ok_or_else(nowhere)?;
    let (order, engine) = (first.order.get(), first.base == baricord_core::measure::orders::Base::Engine);
    let load = match throttle {
        "drive" => 1.0,
        "coast" => 0.6,
        _ => 0.3,
    };
    Ok(match f.fault.as_str() {
        // A little of the second and third comes with it, as runout does.
        "wheel-imbalance" => vec![tone(1.0, false, Law::Unbalance(size)), tone(2.0, false, Law::Steady(0.03 * f.severity))],
        "prop-imbalance" => vec![tone(order, engine, Law::Unbalance(size))],
        // Half the runout is the centre's offset; a section of tube weighs about 6 kg.
        "prop-bent" => vec![tone(order, engine, Law::Unbalance(size / 2.0 * 6000.0 * 0.3))],
        "joint-angle" => vec![tone(order, engine, Law::Torsion(size * (0.7 + 0.3 * load)))],
        "engine-order" => vec![tone(1.0, true, Law::Unbalance(size))],
        "inner-joint-worn" => vec![tone(order, false, Law::Steady(if throttle == "drive" { size } else { 0.02 * size }))],
        "wheel-bearing-worn" => {
            let outer = lines.iter().find(|l| l.what == baricord_core::measure::orders::What::BearingOuter).unwrap_or(first);
            vec![Source::Pulse { order: outer.order, strength: size }]
        }
        _ => vec![Source::Pulse { order: first.order, strength: if throttle == "drive" { size } else { 0.05 * size } }],
    })
}

/// A part that rings when struck.
pub(crate) struct Ring {
    state: [f64; 2],
    a1: f64,
    a2: f64,
    last: f64,
}

impl Ring {
    pub fn new(rate: f64) -> Self {
        let f = 0.22 * rate;
        let r = (-420.0 / rate).exp();
        Self { state: [0.0; 2], a1: 2.0 * r * (TAU * f / rate).cos(), a2: -r * r, last: 0.0 }
    }
    /// One sample; a new whole number of `count` is a blow.
    pub fn next(&mut self, count: f64, strength: f64, noise: &mut Noise) -> f64 {
        let blow = if count != self.last { 1.6 * strength * (1.0 + 0.2 * noise.normal()) } else { 0.0 };
        self.last = count;
        let y = self.a1 * self.state[0] + self.a2 * self.state[1] + blow;
        self.state = [y, self.state[0]];
        y
    }
}
