//! How warm a vehicle is from its last drive: the core has no clock, this is where it meets one.

use baricord_core::case::Case;
use baricord_core::lift::vehicle_state;
use baricord_core::reasoning::knowledge::{Heat, Knowledge, Test, builtin};
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;

/// Until when a vehicle that comes from the road now counts as warm.
pub fn warm_until(k: &Knowledge) -> String {
    let minutes = SignedDuration::from_secs_f64(60.0 * k.weights.time.warm_minutes);
    format!("{:.0}", Timestamp::now().saturating_add(minutes).unwrap_or(Timestamp::MAX))
}

/// Puts what was observed now into a case's document.
pub fn observed(document: &mut Value, observation: Value, rule: &Test) {
    vehicle_state::observed(document, observation, rule, &warm_until(builtin()));
}

/// How warm it is at a moment, and for how many minutes it still counts as warm.
fn thermal_state_at(case: &Case, now: Timestamp) -> (Heat, i64) {
    let until = case.state.as_ref().and_then(|s| s.warm_until.as_deref()).and_then(|t| t.parse::<Timestamp>().ok());
    match until.map(|t| t.duration_since(now).as_mins()) {
        Some(left) if left > 0 => (Heat::Warm, left),
        _ => (Heat::Cold, 0),
    }
}

/// How warm it is now, and for how many minutes it still counts as warm.
pub fn thermal_state_now(case: &Case) -> (Heat, i64) {
    thermal_state_at(case, Timestamp::now())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn warmth_lapses_and_what_is_no_time_is_cold() {
        let case = |until: &str| {
            let tyre = json!({"size": "185/65R15"});
            let vehicle = json!({"name": "v", "tyre": tyre, "engine": null, "gearbox": {"kind": "single-speed", "transaxle": true, "gears": [{"name": "1", "ratio": 9.0}]},
                "axles": [{"end": "front", "driven": true, "kind": "independent", "ratio": 1.0}, {"end": "rear", "driven": false, "kind": "independent"}]});
            let mut d = Case::new_document("c", "t", vehicle);
            d["state"] = json!({"on": "ground", "warm_until": until});
            Case::from_json(&d).unwrap()
        };
        let noon: Timestamp = "2026-11-26T12:00:00Z".parse().unwrap();
        assert_eq!(thermal_state_at(&case("2026-11-26T12:45:00Z"), noon), (Heat::Warm, 45));
        assert_eq!(thermal_state_at(&case("2026-11-26T11:59:59Z"), noon), (Heat::Cold, 0));
        assert_eq!(thermal_state_at(&case("soon"), noon), (Heat::Cold, 0));
        let (heat, left) = thermal_state_now(&case(&warm_until(builtin())));
        assert!(heat == Heat::Warm && (40..=45).contains(&left), "{left}");
    }
}
