//! How the vehicle stands after each answer and drive, kept in the case's document: on the lift or on the ground, what is off, warm
//! until when.

use crate::case::Case;
use crate::reasoning::knowledge::{Knowledge, Test};
use crate::reasoning::place_is;
use crate::vehicle::{Place, PlaceKind, Vehicle};
use serde_json::Value;

/// Puts what was observed into a case's document: who has looked under the vehicle has it on the lift, and who has driven
/// it has it warm until `warm_until`.
pub fn observed(document: &mut Value, observation: Value, rule: &Test, warm_until: &str) {
    // What cannot be made has moved nothing.
    if observation["outcome"] == crate::case::NOT_POSSIBLE {
        crate::case::entries::append(document, "observations", observation);
        return;
    }
    take_off(document, observation["at"].as_str(), rule);
    match document.get_mut("observations").and_then(Value::as_array_mut) {
        Some(list) => list.push(observation),
        None => document["observations"] = vec![observation].into(),
    }
    if rule.lift {
        document["state"]["on"] = "lift".into();
    }
    // What is said of the road while it is up was driven some time ago.
    if rule.is_of_the_road() && document["state"]["on"] != "lift" {
        document["state"]["warm_until"] = warm_until.into();
    }
}

/// What a test took off is off afterwards: the shaft or the half shaft of its place, or all driven half shafts.
fn take_off(document: &mut Value, at: Option<&str>, rule: &Test) {
    if rule.opens.is_empty() {
        return;
    }
    let Ok(v) = Vehicle::from_json(&document["vehicle"]) else { return };
    let whole = at.and_then(|a| v.place(a)).and_then(|p| p.whole());
    let driven = |p: &Place| p.kind == PlaceKind::Half && v.axles.iter().any(|a| a.driven && Some(a.end) == p.end);
    let off: Vec<String> = match whole {
        Some(one) => vec![one],
        None => v.places().iter().filter(|p| driven(p)).map(|p| p.id.clone()).collect(),
    };
    let mut all: Vec<Value> = document["state"]["off"].as_array().cloned().unwrap_or_default();
    all.extend(off.into_iter().map(Value::from).filter(|o| !all.contains(o)).collect::<Vec<_>>());
    document["state"]["off"] = all.into();
}

/// A drive has ended: it stands on its wheels, and is warm until `warm_until`.
pub fn driven(document: &mut Value, warm_until: &str) {
    document["state"]["on"] = "ground".into();
    document["state"]["warm_until"] = warm_until.into();
}

/// What must come off for some test, and whether it is off.
pub fn removable_parts(case: &Case, k: &Knowledge) -> Vec<(Place, bool)> {
    let kinds: Vec<&String> = k.tests.iter().filter(|t| t.off).flat_map(|t| &t.at).collect();
    // A shaft comes off as a whole.
    let wholes: Vec<String> = case.vehicle.places().iter().filter_map(Place::whole).collect();
    let alone = |p: &Place| p.whole().is_none() && kinds.iter().any(|kind| place_is(&case.vehicle, p, kind));
    let may = |p: &Place| wholes.contains(&p.id) || alone(p);
    let with_state = |p: Place| {
        let is_off = case.state.as_ref().is_some_and(|s| s.is_off(&p));
        (p, is_off)
    };
    case.vehicle.places().into_iter().filter(may).map(with_state).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reasoning::knowledge::builtin;
    use serde_json::json;

    #[test]
    fn who_has_driven_has_it_warm_and_who_has_looked_has_it_up() {
        let state_after = |test: &str, state: Value| {
            let mut d = json!({"observations": [], "state": state});
            observed(&mut d, json!({"test": test}), builtin().test(test).unwrap(), "2026-11-26T12:00:00Z");
            (d["state"].clone(), d["observations"].as_array().unwrap().len())
        };
        assert_eq!(state_after("neutral-coast", json!({"on": "ground"})).0["warm_until"], "2026-11-26T12:00:00Z");
        // Told of an earlier drive, from memory.
        assert_eq!(state_after("neutral-coast", json!({"on": "lift"})), (json!({"on": "lift"}), 1));
        assert_eq!(state_after("wheel-rock", json!({})), (json!({"on": "lift"}), 1));
    }
}
