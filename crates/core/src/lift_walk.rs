//! The walk under a vehicle: what can be looked at, felt and listened to, in the order of least effort from where the
//! vehicle is now. On the ground first, then up with nothing off, along the driveline from front to rear, then with wheels
//! under power, last what must come off first.

use crate::case::Case;
use crate::reasoning::knowledge::{Heat, Knowledge, Test};
use crate::reasoning::{Possible, beliefs, entropy, place_is, possible, settles};
use crate::vehicle::{Place, PlaceKind, Vehicle};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Something that was asked and could not be told: asked again when all else is done.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AskedLater {
    /// The test.
    pub test: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
}

/// Puts what was observed into a case's document: who has looked under the vehicle has it on the lift, and who has driven
/// it has it warm until `warm_until`.
pub fn observed(document: &mut Value, observation: Value, rule: &Test, warm_until: &str) {
    // What cannot be made has moved nothing.
    if observation["outcome"] == crate::case::NOT_POSSIBLE {
        crate::entries::append(document, "observations", observation);
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
    // What is told of the road while it is up was driven some time ago.
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
pub fn removable(case: &Case, k: &Knowledge) -> Vec<(Place, bool)> {
    let kinds: Vec<&String> = k.tests.iter().filter(|t| t.off).flat_map(|t| &t.at).collect();
    // A shaft comes off as a whole.
    let wholes: Vec<String> = case.vehicle.places().iter().filter_map(Place::whole).collect();
    let alone = |p: &Place| p.whole().is_none() && kinds.iter().any(|kind| place_is(&case.vehicle, p, kind));
    let may = |p: &Place| wholes.contains(&p.id) || alone(p);
    let told = |p: Place| {
        let is_off = case.state.as_ref().is_some_and(|s| s.is_off(&p));
        (p, is_off)
    };
    case.vehicle.places().into_iter().filter(may).map(told).collect()
}

/// How a stop is reached, the least effort first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reach {
    /// Standing on its wheels.
    Ground,
    /// On the lift, nothing off.
    Lift,
    /// Wheels turning under power.
    Powered,
    /// Something must come off first.
    Off,
}

impl Reach {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Reach::Ground => "on the ground",
            Reach::Lift => "on the lift",
            Reach::Powered => "on the lift, wheels turning under power",
            Reach::Off => "something comes off first, or it is a longer job",
        }
    }
}

/// One stop of the walk.
#[derive(Clone, Debug)]
pub struct Stop {
    /// The test with what its outcomes say.
    pub test: Possible,
    /// How it is reached.
    pub reach: Reach,
    /// What it settles on average, bits.
    pub bits: f64,
    /// It was asked before and could not be told.
    pub again: bool,
    /// The vehicle is too warm for it: it waits until all else is done.
    pub too_warm: bool,
}

/// A stop that settles less than this share of what is open is left out.
const WORTH_A_LOOK: f64 = 0.008;
/// What takes longer (minutes) is a job, not a look: it comes with what must come off.
const LONGEST_LOOK: f64 = 20.0;
/// Off the vehicle the hands go nowhere: these are no looks.
const NO_LOOKS: &[&str] = &["speed-sweep", "lamps"];

fn reach(case: &Case, k: &Knowledge, t: &Possible) -> Option<Reach> {
    let rule = k.test(&t.test)?;
    let at = t.at.as_deref().and_then(|a| case.vehicle.place(a));
    let off = case.state.as_ref().is_some_and(|s| at.is_some_and(|p| s.is_off(&p)));
    let up = case.state.as_ref().is_some_and(|s| s.is_up());
    let up_there = if rule.lift && !up { t.minutes - k.weights.time.lift_minutes } else { t.minutes };
    match () {
        () if NO_LOOKS.contains(&rule.id.as_str()) => None,
        () if rule.off && !off || up_there > LONGEST_LOOK => Some(Reach::Off),
        () if rule.wheels => Some(Reach::Powered),
        () if rule.lift => Some(Reach::Lift),
        // On the ground only what is done at a place by hand: the rest belongs to the road.
        () if t.at.is_some() && !rule.is_of_the_road() => Some(Reach::Ground),
        () => None,
    }
}

fn best(k: &Knowledge, t: &Possible) -> Option<Heat> {
    k.test(&t.test).and_then(|t| t.best)
}

/// Where a place stands along the driveline.
fn along(v: &Vehicle, at: Option<&str>) -> usize {
    v.places().iter().position(|p| Some(p.id.as_str()) == at).unwrap_or(usize::MAX)
}

/// The stops of a symptom's walk that are still to come. A vehicle that is up already is not let down for a look; while it
/// is warm, what tells most then comes first of what is reached alike, and what lies beside hot parts waits.
pub fn walk(
    case: &Case,
    k: &Knowledge,
    symptom: &str,
    later: &[AskedLater],
    analysis: Option<&crate::analysis::Analysis>,
    heat: Heat,
) -> Vec<Stop> {
    let p = beliefs(case, k, symptom, analysis);
    let open = entropy(&p);
    let up = case.state.as_ref().is_some_and(|s| s.is_up());
    let mut out: Vec<Stop> = possible(case, k, symptom)
        .into_iter()
        .filter_map(|t| {
            let (reach, bits) = (reach(case, k, &t)?, settles(&p, &t.rows));
            let again = later.iter().any(|l| l.test == t.test && l.at == t.at && l.gear == t.gear);
            let too_warm = heat == Heat::Warm && best(k, &t) == Some(Heat::Cold);
            (bits >= WORTH_A_LOOK * open.max(0.1)).then_some(Stop { test: t, reach, bits, again, too_warm })
        })
        .collect();
    let effort = |s: &Stop| match s.reach {
        Reach::Ground if up => Reach::Powered as usize,
        r => r as usize,
    };
    let cools = |s: &Stop| heat == Heat::Warm && best(k, &s.test) == Some(Heat::Warm);
    out.sort_by_key(|s| (s.again, s.too_warm, effort(s), !cools(s), along(&case.vehicle, s.test.at.as_deref())));
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::*;
    use serde_json::json;

    fn case(v: Vehicle, kind: &str, on: &str) -> Case {
        let mut doc = Case::new_document("t", "t", json!(v));
        doc["symptoms"] = json!([{"id": "S1", "kind": kind}]);
        doc["state"] = json!({"on": on, "off": []});
        Case::from_json(&doc).unwrap()
    }

    #[test]
    fn the_walk_goes_by_effort_and_along_the_driveline() {
        for v in every_layout() {
            for kind in ["clunk", "growl", "vibration"] {
                let c = case(v.clone(), kind, "ground");
                let w = walk(&c, builtin(), "S1", &[], None, Heat::Cold);
                assert!(w.windows(2).all(|s| s[0].reach <= s[1].reach), "{} {kind}", v.name);
                let lift: Vec<usize> =
                    w.iter().filter(|s| s.reach == Reach::Lift).map(|s| along(&c.vehicle, s.test.at.as_deref())).collect();
                assert!(lift.windows(2).all(|p| p[0] <= p[1]), "{} {kind}: {lift:?}", v.name);
                assert!(w.len() >= 3, "{} {kind}: {}", v.name, w.len());
            }
        }
    }

    #[test]
    fn a_vehicle_that_is_up_is_looked_at_up_there_first() {
        let first = |on: &str| walk(&case(front_drive(), "click-single", on), builtin(), "S1", &[], None, Heat::Cold)[0].reach;
        assert_eq!((first("ground"), first("lift")), (Reach::Ground, Reach::Lift));
    }

    #[test]
    fn while_it_is_warm_what_cools_comes_first_and_what_is_hot_waits() {
        for v in every_layout() {
            for kind in ["vibration", "growl", "clunk"] {
                let c = case(v.clone(), kind, "lift");
                let of = |heat| walk(&c, builtin(), "S1", &[], None, heat);
                let (warm, cold) = (of(Heat::Warm), of(Heat::Cold));
                assert_eq!(warm.len(), cold.len());
                assert!(cold.iter().all(|s| !s.too_warm));
                // All that is too warm stands at the end, and nothing else waits.
                let waits: Vec<bool> = warm.iter().map(|s| s.too_warm).collect();
                assert!(waits.is_sorted(), "{} {kind}", v.name);
                for s in &warm {
                    assert_eq!(s.too_warm, best(builtin(), &s.test) == Some(Heat::Cold), "{}", s.test.test);
                }
                // Of what is reached on the lift, what tells most while warm comes first.
                let lift = warm.iter().filter(|s| s.reach == Reach::Lift && !s.too_warm);
                let cools: Vec<bool> = lift.map(|s| best(builtin(), &s.test) != Some(Heat::Warm)).collect();
                assert!(cools.is_sorted(), "{} {kind}: {cools:?}", v.name);
            }
        }
    }

    #[test]
    fn who_has_driven_has_it_warm_and_who_has_looked_has_it_up() {
        let told = |test: &str, state: Value| {
            let mut d = json!({"observations": [], "state": state});
            observed(&mut d, json!({"test": test}), builtin().test(test).unwrap(), "2026-11-26T12:00:00Z");
            (d["state"].clone(), d["observations"].as_array().unwrap().len())
        };
        assert_eq!(told("neutral-coast", json!({"on": "ground"})).0["warm_until"], "2026-11-26T12:00:00Z");
        // Told of an earlier drive, from memory.
        assert_eq!(told("neutral-coast", json!({"on": "lift"})), (json!({"on": "lift"}), 1));
        assert_eq!(told("wheel-rock", json!({})), (json!({"on": "lift"}), 1));
    }

    #[test]
    fn what_could_not_be_told_is_asked_again_at_the_end() {
        let c = case(rear_drive(2), "clunk", "lift");
        let w = walk(&c, builtin(), "S1", &[], None, Heat::Cold);
        let t = &w[0].test;
        let later = [AskedLater { test: t.test.clone(), at: t.at.clone(), gear: t.gear.clone() }];
        let again = walk(&c, builtin(), "S1", &later, None, Heat::Cold);
        assert_eq!(again.len(), w.len());
        let last = again.last().unwrap();
        assert!(last.again && last.test.test == t.test && last.test.at == t.at && !again[0].again);
    }

    #[test]
    fn nothing_of_the_road_is_asked_under_the_vehicle() {
        for v in every_layout() {
            let w = walk(&case(v, "growl", "lift"), builtin(), "S1", &[], None, Heat::Cold);
            assert!(
                w.iter().all(|s| !["neutral-coast", "speed-sweep", "turn", "surface-change"].contains(&s.test.test.as_str()))
            );
        }
    }
}
