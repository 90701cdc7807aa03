//! The dial indicator: runout at a measuring point ([`crate::measure::runout`]).

use super::{Evaluation, Instrument, InstrumentKind, LimitCheck, MeasuringPoint};
use crate::error::{Problem, read_json};
use crate::hands::Hands;
use crate::measure::runout::{RunoutInput, limit_at, runout};
use crate::vehicle::{Place, PlaceKind, Vehicle};
use serde_json::Value;

/// Standard error of a total reading, mm: 0.02 at its highest and at its lowest mark.
const TOTAL_READING_SIGMA_MM: f64 = 0.03;

pub(super) const DIAL: Instrument = Instrument {
    id: "runout",
    kind: InstrumentKind::Measurement,
    name: "Dial",
    quantity: "runout",
    point_words: "Where the dial stands",
    how: "Turn the part by hand to each mark and type what the dial shows. Enter goes on to the next mark; leave one empty if it cannot be read.",
    hands: Hands::Dial,
    points,
    point_of,
    usual_place,
    evaluate,
};

fn points(v: &Vehicle) -> Vec<MeasuringPoint> {
    let on = |p: Place| match p.kind {
        PlaceKind::Section => ["front", "centre", "rear"].iter().map(|x| format!("{}.{x}", p.id)).collect(),
        PlaceKind::Diff => vec![format!("{}.flange", p.id)],
        PlaceKind::Half | PlaceKind::Hub | PlaceKind::Wheel | PlaceKind::Brake => vec![p.id],
        _ => vec![],
    };
    let point = |id: String| MeasuringPoint { limit: limit_at(&v.limits, &id).map(|l| l.get()), id };
    v.places().into_iter().flat_map(on).map(point).collect()
}

fn point_of(place: &Place) -> Option<String> {
    match place.kind {
        PlaceKind::Section => Some(format!("{}.centre", place.id)),
        PlaceKind::Half | PlaceKind::Hub | PlaceKind::Wheel | PlaceKind::Brake => Some(place.id.clone()),
        _ => None,
    }
}

/// The last section of the first shaft; without a shaft a half shaft.
fn usual_place(v: &Vehicle) -> Option<Place> {
    let last_section = v.props.first().and_then(|p| v.place(&format!("prop.{}.s{}", p.end.id(), p.sections.len())));
    last_section.or_else(|| v.places().into_iter().find(|p| p.kind == PlaceKind::Half))
}

fn evaluate(v: &Vehicle, at: &str, input: &Value) -> Result<Evaluation, Problem> {
    let mut input: RunoutInput = read_json(input)?;
    let limit = input.limit_mm.take().or_else(|| limit_at(&v.limits, at).map(|l| l.get()));
    let total = runout(&input)?.raw_tir_mm.get();
    let of = limit.map_or(String::new(), |l| format!(", limit {l:.2} mm"));
    Ok(Evaluation {
        value: format!("{total:.2} mm"),
        words: format!("{total:.2} mm{of}"),
        evidence_words: match limit {
            Some(l) => format!("runout {total:.2} mm, limit {l:.2}, at {}", v.place_words(at)),
            None => format!("runout {total:.2} mm at {}", v.place_words(at)),
        },
        over: limit.is_some_and(|l| total > l),
        limit: limit.map(|l| LimitCheck::new(total, l, TOTAL_READING_SIGMA_MM)),
        outcome: None,
        pins: v.place(at).map(|p| (p.id, format!("{total:.2} mm"))).into_iter().collect(),
    })
}
