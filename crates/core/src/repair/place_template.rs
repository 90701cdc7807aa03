//! What stands for a place in the procedures: `half.{corner}`, `{prop}.slip`, `brake.{corners}`.

use super::layout_conditions::{holds, shaft_of};
use crate::vehicle::{End, Place, PlaceKind, Vehicle};

/// Places beside those of the driveline.
const BODY: [(&str, &str); 3] =
    [("battery", "battery"), ("subframe.front", "front subframe"), ("subframe.rear", "rear subframe")];

/// A place of the plan: of the driveline, a point on it, or of the body around it.
pub(super) fn place_at(v: &Vehicle, id: &str) -> Option<Place> {
    if let Some((_, words)) = BODY.iter().find(|b| b.0 == id) {
        let (kind, end, words) = (PlaceKind::Body, None, words.to_string());
        return Some(Place { id: id.into(), kind, end, corner: None, number: None, words });
    }
    let words = v.place_words(id);
    v.place(id).map(|p| Place { id: id.into(), words, ..p })
}

/// What a mechanic calls it.
pub(super) fn words_of(v: &Vehicle, id: &str) -> String {
    place_at(v, id).map_or_else(|| id.to_string(), |p| p.words)
}

/// The axle that a place belongs to: its own, the transaxle's, the driven one.
fn end_of(v: &Vehicle, p: &Place) -> Option<End> {
    p.end.or(v.transaxle_end()).or(v.main_axle())
}

/// The unit in whose oil a half shaft's inner end runs.
fn oil_of(v: &Vehicle, end: End) -> String {
    if v.final_drive_in_gearbox(end) { "gearbox".into() } else { format!("diff.{}", end.id()) }
}

/// What a word in braces stands for, one or several; none where this place has no such thing.
fn meanings(v: &Vehicle, p: &Place, key: &str) -> Option<Vec<String>> {
    let corners = |e: End| e.corners().iter().map(|c| c.id().to_string()).collect::<Vec<_>>();
    let shaft = shaft_of(v, p);
    let prop = |q: &crate::vehicle::Prop| format!("prop.{}", q.end.id());
    let one = |s: String| Some(vec![s]);
    match key {
        "place" => one(p.id.clone()),
        "corner" => p.corner.map(|c| vec![c.id().to_string()]),
        "corners" => end_of(v, p).map(corners),
        "end" => one(end_of(v, p)?.id().into()),
        "own" => one(v.transaxle_end()?.id().into()),
        "own-corners" => v.transaxle_end().map(corners),
        "own-right" => one(v.transaxle_end()?.corners()[1].id().into()),
        "prop" => one(prop(shaft?)),
        "props" => Some(v.props.iter().map(prop).collect()),
        "first" => one(format!("{}.j1", prop(shaft?))),
        "last" => shaft.map(|q| vec![format!("{}.j{}", prop(q), q.joints.len())]),
        "oil" => one(oil_of(v, end_of(v, p)?)),
        // The box in whose oil a slip runs: a shaft leaves a transaxle's other end at its bevel box.
        "tail" => shaft.filter(|_| holds(v, p, "tail-slip")).map(|_| {
            let boxes = v.place("transfer").is_some();
            vec![if boxes { "transfer".into() } else { "gearbox".into() }]
        }),
        _ => None,
    }
}

/// The ids that a template stands for at a place; none where the vehicle has no such place.
pub(super) fn places(v: &Vehicle, p: &Place, template: &str) -> Vec<String> {
    let Some((before, rest)) = template.split_once('{') else { return vec![template.to_string()] };
    let Some((key, after)) = rest.split_once('}') else { return vec![] };
    let all = meanings(v, p, key).unwrap_or_default();
    all.iter().flat_map(|m| places(v, p, &format!("{before}{m}{after}"))).collect()
}

/// The single id that a template stands for.
pub(super) fn place(v: &Vehicle, p: &Place, template: &str) -> Option<String> {
    places(v, p, template).into_iter().next()
}

/// Each of a kind at the shaft or axle of a place: support bearings, corners.
pub(super) fn each(v: &Vehicle, p: &Place, kind: &str) -> Vec<String> {
    let end = shaft_of(v, p).map(|q| q.end);
    let is_one = |q: &&Place| match kind {
        "support" => q.kind == PlaceKind::Support && q.end == end,
        "corner" => q.kind == PlaceKind::Hub && q.end == p.end,
        _ => false,
    };
    v.places().iter().filter(is_one).map(|q| q.id.clone()).collect()
}
