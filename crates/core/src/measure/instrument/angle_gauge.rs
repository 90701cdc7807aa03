//! The angle gauge: slopes of a shaft's elements, joint angles from them ([`crate::measure::angles`]).

use super::{Evaluation, Instrument, InstrumentKind, LimitCheck, MeasuringPoint};
use crate::error::{Problem, read_json};
use crate::hands::Hands;
use crate::measure::angles::{AnglesInput, SECTION_RADS2, TORSIONAL_RADS2, angles};
use crate::vehicle::{Place, Vehicle};
use serde_json::Value;

/// Standard error of an acceleration from slopes read to 0.15°, on joints of a few degrees: this share of the limit, and this
/// share of the value.
const SIGMA_OF_LIMIT: f64 = 0.12;
const SIGMA_OF_VALUE: f64 = 0.05;

pub(super) const ANGLE_GAUGE: Instrument = Instrument {
    id: "angles",
    kind: InstrumentKind::Measurement,
    name: "Gauge",
    quantity: "joint angles",
    point_words: "Which shaft is read",
    how: "At ride height, weight on the wheels, on machined faces. Type the size that the gauge shows; the drawing says which end is lower. Slopes are drawn four times too steep.",
    hands: Hands::Gauge,
    points,
    point_of,
    usual_place: |_| None,
    evaluate,
};

fn points(v: &Vehicle) -> Vec<MeasuringPoint> {
    v.props.iter().map(|p| MeasuringPoint { id: format!("prop.{}", p.end.id()), limit: None }).collect()
}

fn point_of(place: &Place) -> Option<String> {
    let end = place.end.filter(|_| place.is_of_shaft())?;
    Some(format!("prop.{}", end.id()))
}

fn evaluate(v: &Vehicle, at: &str, input: &Value) -> Result<Evaluation, Problem> {
    let mut input: AnglesInput = read_json(input)?;
    if input.limits == Default::default() {
        input.limits = v.limits.clone();
    }
    let a = angles(&input)?;
    let limit = input.limits.torsional_rads2.unwrap_or(TORSIONAL_RADS2);
    let section_limit = input.limits.section_rads2.unwrap_or(SECTION_RADS2);
    // Slopes that were read several times are surer by their number, and no surer than their spread.
    let squares: f64 = input.elements.iter().map(|e| e.mean_sigma_over_one().powi(2)).sum();
    let surer = (squares / input.elements.len() as f64).sqrt();
    let check = |value: f64, limit: f64| LimitCheck::new(value, limit, surer * (SIGMA_OF_LIMIT * limit + SIGMA_OF_VALUE * value));
    let torsional = a.torsional_rads2.get();
    let sections = || a.sections_rads2.iter().map(|s| s.get());
    let pin = |(i, d): (usize, &crate::units::Degrees)| (format!("{at}.j{}", i + 1), format!("{:.1}°", d.get()));
    Ok(Evaluation {
        value: format!("{torsional:.0} rad/s²"),
        words: format!("{torsional:.0} rad/s², limit {limit:.0}"),
        evidence_words: format!("angles: pinion {torsional:.0} rad/s², limit {limit:.0}"),
        over: torsional > limit,
        limit: sections()
            .map(|s| check(s, section_limit))
            .chain([check(torsional, limit)])
            .max_by(|a, b| a.ratio.total_cmp(&b.ratio)),
        outcome: None,
        pins: a.joint_deg.iter().enumerate().map(pin).collect(),
    })
}
