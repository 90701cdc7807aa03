//! How warm a vehicle is from its last drive: the core has no clock, this is where it meets one.

use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::Heat;
use jiff::{SignedDuration, Timestamp};

/// How warm a vehicle is, and for how many minutes it still counts as warm.
pub type ThermalState = (Heat, i64);

/// How warm it is at a moment; and from when on that is another, where it changes by itself.
fn thermal_state_at(case: &Case, now: Timestamp) -> (ThermalState, Option<Timestamp>) {
    let until = case.state.as_ref().and_then(|s| s.warm_until.as_deref()).and_then(|t| t.parse::<Timestamp>().ok());
    match until.map(|t| (t, t.duration_since(now).as_mins())) {
        // The minutes that are left are whole ones: the next is over when less than these are left.
        Some((t, left)) if left > 0 => ((Heat::Warm, left), Some(t - SignedDuration::from_mins(left))),
        _ => ((Heat::Cold, 0), None),
    }
}

/// How warm it is now; and from when on that is another, where it changes by itself.
pub fn thermal_state_now(case: &Case) -> (ThermalState, Option<Timestamp>) {
    thermal_state_at(case, Timestamp::now())
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::case::State;
    use baricord_core::lift::vehicle_state::warm_until;
    use baricord_core::reasoning::knowledge::builtin;
    use baricord_core::vehicle::sample::front_drive;

    #[test]
    fn warmth_lapses_and_what_is_no_time_is_cold() {
        let case = |until: &str| {
            let state = State { on: Some("ground".into()), warm_until: Some(until.into()), ..State::default() };
            Case { state: Some(state), ..Case::new("c", "t", front_drive()) }
        };
        let noon: Timestamp = "2026-11-26T12:00:00Z".parse().unwrap();
        assert_eq!(thermal_state_at(&case("2026-11-26T12:45:00Z"), noon), ((Heat::Warm, 45), Some(noon)));
        let later = noon + SignedDuration::from_secs(20);
        assert_eq!(thermal_state_at(&case("2026-11-26T12:45:00Z"), later).1, Some(noon + SignedDuration::from_mins(1)));
        assert_eq!(thermal_state_at(&case("2026-11-26T11:59:59Z"), noon), ((Heat::Cold, 0), None));
        assert_eq!(thermal_state_at(&case("soon"), noon), ((Heat::Cold, 0), None));
        let ((heat, left), _) = thermal_state_now(&case(&warm_until(builtin(), Timestamp::now())));
        assert!(heat == Heat::Warm && (40..=45).contains(&left), "{left}");
    }
}
