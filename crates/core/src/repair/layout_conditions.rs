//! What procedures may ask of a vehicle and a place: `tail-slip`, `!transaxle`, or any kind of place that the knowledge names.

use crate::case::vocabulary::PLACE_KINDS;
use crate::reasoning::place_kinds::is_kind;
use crate::vehicle::{AxleKind, End, Floating, GearboxKind, JointKind, Place, PlaceKind, Prop, Slip, Vehicle};

/// The conditions beside kinds of places.
const CONDITIONS: [&str; 31] = [
    "electric",
    "combustion",
    "manual",
    "automatic",
    "automatic-oil",
    "converter",
    "gears",
    "transaxle",
    "has-transfer",
    "bevel-box",
    "driven",
    "undriven",
    "solid",
    "independent",
    "steered",
    "semi-floating",
    "full-floating",
    "has-slip",
    "tail-slip",
    "slip-at-axle",
    "slip-in-box",
    "flanged-first",
    "flex-first",
    "coupler-before",
    "exhaust-in-way",
    "intermediate",
    "greased-joint",
    "front",
    "rear",
    "first-joint",
    "last-joint",
];

/// Whether a name is one of a condition, with or without a `!` before it.
pub(crate) fn is_condition(name: &str) -> bool {
    let name = name.strip_prefix('!').unwrap_or(name);
    CONDITIONS.contains(&name) || PLACE_KINDS.contains(&name)
}

/// Whether all conditions hold.
pub(crate) fn all_hold(v: &Vehicle, p: &Place, names: &[String]) -> bool {
    names.iter().all(|n| holds(v, p, n))
}

/// The shaft of a place: of its axle, else the main one.
pub(crate) fn shaft_of<'a>(v: &'a Vehicle, p: &Place) -> Option<&'a Prop> {
    match p.end {
        Some(e) => v.prop(e),
        None => v.prop(End::Rear).or(v.props.first()),
    }
}

/// Whether a shaft's slip runs in the oil of the box before it.
fn has_tail_slip(v: &Vehicle, q: &Prop) -> bool {
    matches!(q.slip, Some(Slip::Gearbox | Slip::Transfer)) && !v.prop_before_gearbox(q.end)
}

/// Whether a condition holds at a place.
pub(crate) fn holds(v: &Vehicle, p: &Place, name: &str) -> bool {
    if let Some(n) = name.strip_prefix('!') {
        return !holds(v, p, n);
    }
    let axle = p.end.and_then(|e| v.axle(e));
    let is_axle = |kind| axle.is_some_and(|a| a.kind == kind);
    let is_driven = axle.is_some_and(|a| a.driven);
    let steered = p.end.is_some_and(|e| v.is_steered(e));
    let q = shaft_of(v, p);
    let flex_first = |q: &Prop| q.joints.first().is_some_and(|j| j.kind() == JointKind::Flex);
    let full = axle.is_some_and(|a| a.floating == Some(Floating::Full));
    let automatic = matches!(v.gearbox.kind, GearboxKind::Automatic | GearboxKind::Cvt);
    match name {
        "electric" => v.is_electric(),
        "combustion" => !v.is_electric(),
        "manual" => v.gearbox.kind == GearboxKind::Manual,
        "automatic" => automatic,
        "automatic-oil" => p.kind == PlaceKind::Gearbox && automatic,
        "converter" => v.gearbox.kind == GearboxKind::Automatic,
        "gears" => v.gearbox.kind != GearboxKind::SingleSpeed,
        "transaxle" => v.gearbox.transaxle,
        "has-transfer" => v.transfer.is_some(),
        "bevel-box" => v.transfer.is_none() && v.place("transfer").is_some(),
        "driven" => is_driven,
        "undriven" => !is_driven,
        "solid" => is_axle(AxleKind::Solid),
        "independent" => is_axle(AxleKind::Independent),
        "steered" => steered,
        "semi-floating" => is_axle(AxleKind::Solid) && is_driven && !steered && !full,
        "full-floating" => is_axle(AxleKind::Solid) && is_driven && full,
        "has-slip" => q.is_some_and(|q| q.slip.is_some()),
        "tail-slip" => q.is_some_and(|q| has_tail_slip(v, q)),
        "slip-at-axle" => q.is_some_and(|q| q.slip == Some(Slip::Axle)),
        "slip-in-box" => q.is_some_and(|q| matches!(q.slip, Some(Slip::Gearbox | Slip::Transfer))),
        "flanged-first" => q.is_some_and(|q| !has_tail_slip(v, q)),
        "flex-first" => q.is_some_and(|q| !has_tail_slip(v, q) && flex_first(q)),
        "coupler-before" => v.coupler.is_some_and(|c| Some(c.before) == p.end),
        // A shaft in a tunnel shares it with the exhaust.
        "exhaust-in-way" => {
            let tunnel = q.and_then(|q| v.axle(q.end)).is_some_and(|a| a.kind == AxleKind::Independent);
            !v.is_electric() && tunnel
        }
        "intermediate" => p.corner.and_then(|c| v.half_shaft(c)).is_some_and(|h| h.intermediate.is_some_and(|i| i.bearing)),
        "greased-joint" => !v.gearbox.transaxle && is_axle(AxleKind::Solid),
        "front" => p.end == Some(End::Front),
        "rear" => p.end == Some(End::Rear),
        "first-joint" => p.kind == PlaceKind::Joint && p.number == Some(1),
        "last-joint" => p.kind == PlaceKind::Joint && q.is_some_and(|q| p.number == Some(q.joints.len())),
        kind => is_kind(v, p, kind),
    }
}
