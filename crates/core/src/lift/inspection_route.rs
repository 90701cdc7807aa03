//! The inspection route round and under a vehicle: what can be looked at, felt and listened to, in the order in which it is worth making from where the
//! vehicle is now ([`route`]): posture, access, and what cools counted.

use crate::case::{AskedLater, Case};
use crate::reasoning::knowledge::{Heat, Knowledge, Test};
use crate::reasoning::{OpenSymptom, OpenTest, SymptomAnswer};
use crate::vehicle::Place;
use imbl::Vector;
use serde::Serialize;

/// How a stop is reached, the least effort first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Access {
    /// Standing on its wheels.
    Ground,
    /// On the lift, nothing off.
    Lift,
    /// Wheels turning under power.
    Powered,
    /// Something must come off first.
    Off,
}

impl Access {
    /// As people read it.
    pub fn words(self) -> &'static str {
        match self {
            Access::Ground => "on the ground",
            Access::Lift => "on the lift",
            Access::Powered => "on the lift, wheels turning under power",
            Access::Off => "something comes off first, or it is a longer job",
        }
    }
}

/// One step of the route.
#[derive(Clone, Debug)]
pub struct InspectionStep {
    /// The test, with what its outcomes say; its minutes are those from where the route stands then.
    pub test: OpenTest,
    /// How it is reached.
    pub access: Access,
    /// What it answers on average, bits.
    pub bits: f64,
    /// It was asked and could not be answered.
    pub again: bool,
    /// The vehicle is too warm for it: it waits until all else is done.
    pub too_warm: bool,
}

impl InspectionStep {
    /// Whether it is this test at this place.
    pub fn is(&self, test: &str, at: Option<&str>, gear: Option<&str>) -> bool {
        self.test.test == test && self.test.at.as_deref() == at && self.test.gear.as_deref() == gear
    }
}

/// What takes longer (minutes) is a job, not a look: it comes with what must come off.
const LONGEST_LOOK_MINUTES: f64 = 20.0;

/// How a test is reached under the vehicle; none of what belongs to the road.
pub fn access(case: &Case, k: &Knowledge, test: &str, at: Option<&str>, minutes: f64) -> Option<Access> {
    let rule = k.test(test)?;
    let place = at.and_then(|a| case.vehicle.place(a));
    let off = case.state.as_ref().is_some_and(|s| place.is_some_and(|p| s.is_off(&p)));
    let up = case.state.as_ref().is_some_and(|s| s.is_up());
    let up_there = if rule.lift && !up { minutes - k.weights.time.lift_minutes } else { minutes };
    match () {
        () if rule.recorded || rule.not_proposed => None,
        () if rule.off && !off || rule.lift && up_there > LONGEST_LOOK_MINUTES => Some(Access::Off),
        () if rule.wheels => Some(Access::Powered),
        () if rule.lift || rule.off => Some(Access::Lift),
        () if !rule.is_of_the_road() => Some(Access::Ground),
        () => None,
    }
}

/// Whether the route is over: where acting beats testing, or the symptom is cured, nothing more is asked.
pub fn is_over(case: &Case, answer: &SymptomAnswer) -> bool {
    answer.plan.enough || case.cured_by(&answer.id).is_some()
}

/// Puts the stop of a test that is asked for by name before all others, whether it is worth making or was made already; nothing
/// where it is not made under the vehicle.
pub fn put_first(steps: &mut Vec<InspectionStep>, open: &OpenSymptom<'_>, (test, at, gear): (&str, Option<&str>, Option<&str>)) {
    let step = match steps.iter().position(|s| s.is(test, at, gear)) {
        Some(i) => Some(steps.remove(i)),
        None => open.any_test(test, at, gear).and_then(|test| {
            let access = access(open.case, open.k, &test.test, test.at.as_deref(), test.minutes)?;
            Some(InspectionStep { test, access, bits: 0.0, again: false, too_warm: false })
        }),
    };
    steps.splice(0..0, step);
}

/// The steps of a symptom's route that are still to come, in the order in which they are worth making from where the vehicle
/// stands; what cannot move a decision is not asked. `first` is the next step of the case: where it is a stop, it comes first.
pub fn inspection_steps(
    open: &OpenSymptom<'_>,
    later: &Vector<AskedLater>,
    heat: Heat,
    first: Option<(&str, Option<&str>, Option<&str>)>,
) -> Vec<InspectionStep> {
    let (case, k) = (open.case, open.k);
    let of_the_route =
        |t: &Test, at: Option<&Place>, minutes: f64| access(case, k, &t.id, at.map(|p| p.id.as_str()), minutes).is_some();
    let mut out: Vec<InspectionStep> = open
        .route(heat, of_the_route, first)
        .into_iter()
        .filter_map(|r| {
            let test = open.open_test(&r.test, r.at.as_deref(), r.gear.as_deref())?;
            let access = access(case, k, &test.test, test.at.as_deref(), test.minutes)?;
            let again = later.iter().any(|l| l.test == r.test && l.at == r.at && l.gear == r.gear);
            Some(InspectionStep {
                test: OpenTest { minutes: r.minutes, ..test },
                access,
                bits: r.bits,
                again,
                too_warm: r.too_warm,
            })
        })
        .collect();
    out.sort_by_key(|s| s.again);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample::case_standing as case;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::*;
    use serde_json::json;

    fn route_of(c: &Case, heat: Heat) -> Vec<InspectionStep> {
        OpenSymptom::with(c, builtin(), "S1", None, |open| inspection_steps(open, &Vector::new(), heat, None))
    }

    #[test]
    fn the_walk_goes_by_worth_and_the_step_of_the_case_comes_first() {
        for v in every_layout() {
            for kind in ["clunk", "growl", "vibration"] {
                let c = case(v.clone(), kind, "ground");
                let d = crate::reasoning::diagnose(&c, builtin(), None);
                let step = d.step.unwrap();
                let test = step.test.as_deref().unwrap_or_default();
                let first = Some((test, step.at.as_deref(), step.gear.as_deref()));
                let w = OpenSymptom::with(&c, builtin(), "S1", None, |open| {
                    inspection_steps(open, &Vector::new(), Heat::Cold, first)
                });
                assert!(w.len() >= 3, "{} {kind}: {}", v.name, w.len());
                if access(&c, builtin(), test, step.at.as_deref(), step.minutes).is_some() {
                    assert!(w[0].is(test, step.at.as_deref(), step.gear.as_deref()), "{} {kind}: {:?}", v.name, w[0].test.test);
                }
                // Nothing is asked of the gearbox oil before the wheels of a roar were felt.
                let at = |id: &str| w.iter().position(|s| s.test.test == id).unwrap_or(usize::MAX);
                if kind == "growl" {
                    assert!(at("spin-by-hand") < at("oil-look"), "{} {kind}", v.name);
                }
            }
        }
    }

    #[test]
    fn what_can_move_no_decision_is_not_asked() {
        let seen = json!([{"test": "spin-by-hand", "at": "hub.fl", "outcome": "rough"}, {"test": "wheel-rock", "at": "hub.fl", "outcome": "play-both"},
            {"symptom": "S1", "test": "turn", "outcome": "right"}, {"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}]);
        let mut c = case(front_drive(), "growl", "lift");
        let before = route_of(&c, Heat::Cold);
        c.observations = serde_json::from_value(seen).unwrap();
        let after = route_of(&c, Heat::Cold);
        assert!(after.len() * 2 < before.len(), "{} of {}", after.len(), before.len());
        assert!(!after.iter().any(|s| s.test.test == "oil-look" && s.test.at.as_deref() == Some("gearbox")));
    }

    #[test]
    fn at_enough_it_is_over_and_a_test_that_is_asked_for_stands_first() {
        let seen = json!([{"test": "spin-by-hand", "at": "hub.fl", "outcome": "rough"}, {"test": "wheel-rock", "at": "hub.fl", "outcome": "play-both"},
            {"symptom": "S1", "test": "turn", "outcome": "right"}, {"symptom": "S1", "test": "neutral-coast", "outcome": "persists"}]);
        let mut c = case(front_drive(), "growl", "lift");
        let over = |c: &Case| is_over(c, &crate::reasoning::diagnose(c, builtin(), None).symptoms[0]);
        assert!(!over(&c));
        c.observations = serde_json::from_value(seen).unwrap();
        assert!(over(&c));
        let mut cured = case(front_drive(), "growl", "lift");
        let repair = json!([{"symptom": "S1", "fault": "tyre-noise", "at": "wheel.fl", "result": "cured"}]);
        cured.repairs = serde_json::from_value(repair).unwrap();
        assert!(over(&cured));
        // Of the route, answered already, of the road: only what is made under the vehicle is asked there.
        let mut steps = route_of(&case(front_drive(), "growl", "lift"), Heat::Cold);
        let (n, last) = (steps.len(), steps.last().unwrap().test.clone());
        let mut ask = |test: &str, at: Option<&str>| {
            OpenSymptom::with(&c, builtin(), "S1", None, |open| put_first(&mut steps, open, (test, at, None)));
            (steps[0].test.test.clone(), steps[0].test.at.clone(), steps.len())
        };
        assert_eq!(ask(&last.test, last.at.as_deref()), (last.test.clone(), last.at.clone(), n));
        let answered = ("wheel-rock".to_string(), Some("hub.fl".to_string()));
        let (test, at, _) = ask("wheel-rock", Some("hub.fl"));
        assert_eq!((test, at), answered);
        let (test, at, _) = ask("turn", None);
        assert_eq!((test, at), answered, "nothing of the road");
    }

    #[test]
    fn going_up_is_paid_once_and_a_vehicle_that_is_up_is_looked_at_up_there() {
        let c = case(front_drive(), "click-single", "ground");
        let w = route_of(&c, Heat::Cold);
        let up: Vec<&InspectionStep> = w.iter().filter(|s| builtin().test(&s.test.test).unwrap().lift).collect();
        let own = |s: &InspectionStep| builtin().test(&s.test.test).unwrap().minutes;
        assert!(up[0].test.minutes >= own(up[0]) + 6.0, "{:?}", up[0].test.minutes);
        assert!(up[1].test.minutes < own(up[1]) + 6.0);
        // What the wheels must carry brings a vehicle down again that is up.
        let nut = |on: &str| {
            let w = route_of(&case(front_drive(), "click-single", on), Heat::Cold);
            w.iter().find(|s| s.test.test == "axle-nut-check").unwrap().test.minutes
        };
        assert!(nut("lift") >= nut("ground") + 5.0);
    }

    #[test]
    fn while_it_is_warm_what_cools_counts_more_and_what_is_hot_waits() {
        for v in every_layout() {
            for kind in ["vibration", "growl", "clunk"] {
                let c = case(v.clone(), kind, "lift");
                let (warm, cold) = (route_of(&c, Heat::Warm), route_of(&c, Heat::Cold));
                assert_eq!(warm.len(), cold.len());
                assert!(cold.iter().all(|s| !s.too_warm));
                // All that is too warm stands at the end, and nothing else waits.
                let waits: Vec<bool> = warm.iter().map(|s| s.too_warm).collect();
                assert!(waits.is_sorted(), "{} {kind}", v.name);
                let best = |s: &InspectionStep| builtin().test(&s.test.test).unwrap().best;
                for s in &warm {
                    assert_eq!(s.too_warm, best(s) == Some(Heat::Cold), "{}", s.test.test);
                }
                // What tells most while warm comes no later than cold.
                let place = |w: &[InspectionStep]| w.iter().position(|s| best(s) == Some(Heat::Warm));
                assert!(place(&warm) <= place(&cold), "{} {kind}", v.name);
            }
        }
    }

    #[test]
    fn what_could_not_be_told_is_asked_again_at_the_end() {
        let c = case(rear_drive(2), "clunk", "lift");
        let w = route_of(&c, Heat::Cold);
        let t = &w[0].test;
        let later =
            Vector::unit(AskedLater { test: t.test.clone(), at: t.at.clone(), gear: t.gear.clone(), ..AskedLater::default() });
        let again = OpenSymptom::with(&c, builtin(), "S1", None, |open| inspection_steps(open, &later, Heat::Cold, None));
        assert_eq!(again.len(), w.len());
        let last = again.last().unwrap();
        assert!(last.again && last.test.test == t.test && last.test.at == t.at && !again[0].again);
    }

    #[test]
    fn nothing_of_the_road_is_asked_under_the_vehicle() {
        for v in every_layout() {
            let w = route_of(&case(v, "growl", "lift"), Heat::Cold);
            assert!(
                w.iter().all(|s| !["neutral-coast", "speed-sweep", "turn", "surface-change"].contains(&s.test.test.as_str()))
            );
        }
    }
}
