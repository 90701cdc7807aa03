//! A spring balance on a joint's yoke: the torque that the joint resists with ([`crate::measure::joint_drag`]).

use super::{Evaluation, Instrument, InstrumentKind, MeasuringPoint};
use crate::error::{Problem, read_json};
use crate::hands::Hands;
use crate::measure::joint_drag::{JointDragInput, joint_drag};
use crate::vehicle::{Place, PlaceKind, Vehicle};
use serde_json::Value;

pub(super) const SPRING_BALANCE: Instrument = Instrument {
    id: "joint-drag",
    kind: InstrumentKind::Answer,
    name: "Spring balance",
    quantity: "joint drag",
    point_words: "Which joint is swung",
    how: "Three or more through the whole travel. A spot or an axis that pulls half as hard again is stiff, unless the maker says otherwise.",
    hands: Hands::Swing,
    points,
    point_of,
    usual_place: |_| None,
    evaluate,
};

fn points(v: &Vehicle) -> Vec<MeasuringPoint> {
    let ids = v.places().into_iter().filter_map(|p| point_of(&p));
    ids.map(|id| MeasuringPoint { id, limit: None }).collect()
}

fn point_of(place: &Place) -> Option<String> {
    (place.kind == PlaceKind::Joint).then(|| place.id.clone())
}

fn evaluate(_: &Vehicle, _: &str, input: &Value) -> Result<Evaluation, Problem> {
    let read: JointDragInput = read_json(input)?;
    let d = joint_drag(&read)?;
    let pulls = |x: &[f64]| x.iter().map(f64::to_string).collect::<Vec<_>>().join(" ");
    let words = format!(
        "spring balance at {:.0} mm: {} N, {} N; {:.2} and {:.2} ± {:.2} N·m; {}",
        read.arm_mm,
        pulls(&read.first_n),
        pulls(&read.second_n),
        d.torque_nm[0],
        d.torque_nm[1],
        d.sigma_nm,
        d.reason
    );
    Ok(Evaluation { evidence_words: words.clone(), words, outcome: Some(d.outcome), ..Evaluation::default() })
}
