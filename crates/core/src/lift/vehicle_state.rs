//! How the vehicle stands after each answer and drive, kept in the case: on the lift or on the ground, what is off, warm
//! until when.

use crate::case::{Case, DRIVER, NOT_POSSIBLE, Observation, State};
use crate::reasoning::knowledge::{Knowledge, Test};
use crate::reasoning::place_is;
use crate::vehicle::{Place, PlaceKind};
use jiff::{SignedDuration, Timestamp};

/// Until when a vehicle that comes from the road at a moment counts as warm.
pub fn warm_until(k: &Knowledge, at: Timestamp) -> String {
    let minutes = SignedDuration::from_secs_f64(60.0 * k.weights.time.warm_minutes);
    format!("{:.0}", at.saturating_add(minutes).unwrap_or(Timestamp::MAX))
}

/// Puts what was observed into a case: who has looked under the vehicle has it on the lift, and who has driven it has it warm until
/// `warm_until`.
pub fn observed(case: &mut Case, observation: Observation, rule: &Test, warm_until: &str) {
    // What cannot be made has moved nothing.
    // Nor has what the driver tells.
    if observation.outcome == NOT_POSSIBLE || observation.source.as_deref() == Some(DRIVER) {
        case.observations.push_back(observation);
        return;
    }
    take_off(case, observation.at.as_deref(), rule);
    case.observations.push_back(observation);
    let is_up = case.state.as_ref().is_some_and(State::is_up);
    if rule.lift && !is_up {
        case.state.get_or_insert_default().on = Some("lift".into());
    }
    // What is said of the road while it is up was driven some time ago.
    if rule.is_of_the_road() && !is_up && !rule.lift {
        case.state.get_or_insert_default().warm_until = Some(warm_until.into());
    }
}

/// What a test took off is off afterwards: the shaft or the half shaft of its place, or all driven half shafts.
fn take_off(case: &mut Case, at: Option<&str>, rule: &Test) {
    if rule.opens.is_empty() {
        return;
    }
    let v = &case.vehicle;
    let whole = at.and_then(|a| v.place(a)).and_then(|p| p.whole());
    let driven = |p: &Place| p.kind == PlaceKind::Half && v.axles.iter().any(|a| a.driven && Some(a.end) == p.end);
    let off: Vec<String> = match whole {
        Some(one) => vec![one],
        None => v.places().iter().filter(|p| driven(p)).map(|p| p.id.clone()).collect(),
    };
    let all = &mut case.state.get_or_insert_default().off;
    for one in off {
        if !all.contains(&one) {
            all.push(one);
        }
    }
}

/// A drive has ended: it stands on its wheels, and is warm until `warm_until`.
pub fn driven(case: &mut Case, warm_until: &str) {
    let state = case.state.get_or_insert_default();
    (state.on, state.warm_until) = (Some("ground".into()), Some(warm_until.into()));
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
        let state_after = |test: &str, state: serde_json::Value| {
            let mut c = crate::case::sample::case(crate::vehicle::sample::rear_drive(1), &[json!({"state": state})]);
            observed(&mut c, Observation::new(test, "yes"), builtin().test(test).unwrap(), "2026-11-26T12:00:00Z");
            (json!(c.state.unwrap()), c.observations.len())
        };
        assert_eq!(state_after("neutral-coast", json!({"on": "ground"})).0["warm_until"], "2026-11-26T12:00:00Z");
        // Told of an earlier drive, from memory.
        assert_eq!(state_after("neutral-coast", json!({"on": "lift"})), (json!({"on": "lift"}), 1));
        assert_eq!(state_after("wheel-rock", json!({})), (json!({"on": "lift"}), 1));
    }
}
