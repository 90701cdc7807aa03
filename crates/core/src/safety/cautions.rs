//! Which cautions stand at a step on this vehicle as it stands now, and what must be seen to before wheels turn under power or
//! an engine runs with parts off.

use crate::case::Case;
use crate::error::Problem;
use crate::reasoning::knowledge::{Caution, Fault, Knowledge, Situation, Test};
use crate::vehicle::{Place, Vehicle};

/// Driven axles from which on a vehicle is an all-wheel drive.
const ALL_WHEEL_AXLES: usize = 2;

/// Whether more than one axle can drive it.
pub fn is_all_wheel_drive(v: &Vehicle) -> bool {
    v.axles.iter().filter(|a| a.driven).count() >= ALL_WHEEL_AXLES
}

/// Whether it must not be towed on its driven wheels: automatic, variable, electric and all-wheel drives.
pub fn is_not_towed_on_its_wheels(v: &Vehicle) -> bool {
    v.gearbox.kind != crate::vehicle::GearboxKind::Manual || v.is_electric() || is_all_wheel_drive(v)
}

/// What is off now, in words.
fn off_now(case: &Case) -> Vec<String> {
    let Some(state) = &case.state else { return vec![] };
    state.off.iter().filter(|id| case.vehicle.place(id).is_some()).map(|id| case.vehicle.place_words(id)).collect()
}

/// The situations that a test is made in.
fn situations_of_test(case: &Case, t: &Test) -> Vec<Situation> {
    let is_up = case.state.as_ref().is_some_and(|s| s.is_up());
    let electric = case.vehicle.is_electric();
    let hands_on = t.lift || t.off || t.running;
    [
        (Situation::GoingUp, t.lift && !is_up),
        (Situation::Turning, t.wheels),
        (Situation::AllWheel, t.wheels && is_all_wheel_drive(&case.vehicle)),
        (Situation::EngineRunning, t.running && !electric),
        (Situation::Electric, electric && hands_on),
        (Situation::PartsOff, !t.is_of_the_road() && (!t.opens.is_empty() || !off_now(case).is_empty())),
    ]
    .into_iter()
    .filter(|(_, holds)| *holds)
    .map(|(s, _)| s)
    .collect()
}

fn standing<'a>(k: &'a Knowledge, named: &'a [String], situations: &[Situation]) -> Vec<&'a Caution> {
    let mut ids: Vec<&str> = named.iter().map(String::as_str).collect();
    let more = k.cautions().filter(|(_, c)| c.when.iter().any(|w| situations.contains(w)));
    ids.extend(more.map(|(id, _)| id).filter(|id| !named.iter().any(|n| n == id)).collect::<Vec<_>>());
    ids.into_iter().filter_map(|id| k.caution(id)).collect()
}

/// The cautions that stand at a test on this vehicle as it stands now, those that the test names first.
pub fn at_test<'a>(case: &Case, k: &'a Knowledge, t: &'a Test) -> Vec<&'a Caution> {
    standing(k, &t.caution, &situations_of_test(case, t))
}

/// The cautions that stand at the repair of a fault at a place; the maker's data always among them.
pub fn at_repair<'a>(case: &Case, k: &'a Knowledge, f: &'a Fault, at: Option<&Place>) -> Vec<&'a Caution> {
    let comes_off = at.is_some_and(|p| p.whole().is_some()) || !off_now(case).is_empty();
    let is_up = case.state.as_ref().is_some_and(|s| s.is_up());
    let situations: Vec<Situation> =
        [(Situation::GoingUp, !is_up), (Situation::Electric, case.vehicle.is_electric()), (Situation::PartsOff, comes_off)]
            .into_iter()
            .filter(|(_, holds)| *holds)
            .map(|(s, _)| s)
            .collect();
    let mut all = standing(k, &f.caution, &situations);
    if let Some(maker) = k.caution("maker").filter(|m| !all.iter().any(|c| c.words == m.words)) {
        all.push(maker);
    }
    all
}

/// One thing that is ticked before wheels turn under power, or an engine runs with parts off.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunningCheck {
    /// Its id in a form.
    pub id: &'static str,
    /// What to see to, on this vehicle.
    pub words: String,
}

/// What must be seen to before a test, named for this vehicle; nothing where neither wheels turn under power in the air nor an
/// engine runs with something off.
pub fn running_checks(case: &Case, t: &Test) -> Vec<RunningCheck> {
    let v = &case.vehicle;
    let off = off_now(case);
    let belt = t.id == "belt-off-run";
    if !(t.wheels || t.running && (!off.is_empty() || belt)) {
        return vec![];
    }
    let check = |id, words: String| RunningCheck { id, words };
    let mut out = vec![];
    if t.wheels {
        let driven: Vec<_> = v.axles.iter().filter(|a| a.driven).collect();
        out.push(check(
            "free",
            match driven.as_slice() {
                [one] => format!(
                    "Both {0} wheels free, on stands at the maker's points or on a lift; the {1} wheels chocked or off the ground, too",
                    one.end.id(),
                    one.end.other().id()
                ),
                _ => "All four wheels off the ground: four stands or a lift. Chocks hold nothing here".into(),
            },
        ));
        out.push(check(
            "control",
            match v.is_electric() {
                true => "Stability control off, on again after; a touch of power only: an electric drive overspeeds in seconds",
                false => "Stability control off, on again after; low speed: one free wheel can turn at twice what the dial shows",
            }
            .into(),
        ));
    } else {
        out.push(check("held", "Wheels chocked, brake on, gear lever in neutral or park".into()));
    }
    out.push(check(
        "clear",
        "Nobody in line with a wheel or a shaft, no loose clothing, no hand on what turns; hose clamps looked at".into(),
    ));
    if !off.is_empty() || !t.opens.is_empty() {
        let what = if off.is_empty() { "what comes off".to_string() } else { off.join(", ") };
        out.push(check(
            "loose-ends",
            format!(
                "Off ({what}): no shaft turns with a loose end, what is left is bolted up or taken off and the opening plugged"
            ),
        ));
    }
    if belt {
        out.push(check("belt", "The belt drives neither brakes nor cooling that are needed now; under a minute".into()));
    }
    if !v.is_electric() {
        out.push(check("exhaust", "Exhaust gas taken out of the room".into()));
    }
    out
}

/// Refuses a test until everything that must be seen to before it was ticked: `ticked` holds the ids.
///
/// # Errors
/// `caution` at `seen-to`, with what is missing.
pub fn require_checks(case: &Case, t: &Test, ticked: &[String]) -> Result<(), Problem> {
    let missing: Vec<String> =
        running_checks(case, t).into_iter().filter(|c| !ticked.iter().any(|x| x == c.id)).map(|c| c.words).collect();
    match missing.as_slice() {
        [] => Ok(()),
        some => Err(Problem::new("caution", format!("tick first: {}", some.join("; "))).field("seen-to")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::*;
    use serde_json::{Value, json};

    fn case(v: Vehicle, state: Value) -> Case {
        sample::case(v, &[json!({"state": state})])
    }
    fn test(id: &str) -> &'static Test {
        builtin().test(id).unwrap()
    }
    fn ids(case: &Case, t: &str) -> Vec<&'static str> {
        running_checks(case, test(t)).into_iter().map(|c| c.id).collect()
    }
    fn heads(of: Vec<&Caution>) -> Vec<String> {
        of.into_iter().map(|c| c.head.clone()).collect()
    }

    #[test]
    fn what_turns_wheels_asks_for_the_same_ticks_named_for_the_layout() {
        let words = |v: Vehicle| running_checks(&case(v, json!({"on": "lift"})), test("lift-run"))[0].words.clone();
        assert!(words(front_drive()).starts_with("Both front wheels free"));
        assert!(words(rear_drive(1)).contains("the front wheels chocked"));
        for v in [all_wheel_drive(), four_wheel_drive()] {
            assert!(words(v).contains("four stands or a lift"));
        }
        for v in every_layout() {
            let c = case(v.clone(), json!({"on": "lift"}));
            for t in builtin().tests.iter().filter(|t| t.wheels) {
                let asked = ids(&c, &t.id);
                assert!(asked.starts_with(&["free", "control", "clear"]), "{} {}: {asked:?}", v.name, t.id);
                assert_eq!(asked.contains(&"loose-ends"), !t.opens.is_empty(), "{} {}", v.name, t.id);
                assert_eq!(asked.contains(&"exhaust"), !v.is_electric());
                assert!(require_checks(&c, t, &["free".into(), "control".into()]).is_err());
                let all: Vec<String> = asked.iter().map(|a| a.to_string()).collect();
                assert!(require_checks(&c, t, &all).is_ok());
            }
        }
    }

    #[test]
    fn an_engine_that_runs_with_parts_off_asks_for_them_too() {
        let whole = case(rear_drive(1), json!({"on": "ground", "off": []}));
        let open = case(rear_drive(1), json!({"on": "ground", "off": ["prop.rear"]}));
        for t in ["standstill-rev", "clutch-pedal", "engage"] {
            assert!(ids(&whole, t).is_empty() && ids(&open, t).contains(&"loose-ends"), "{t}");
        }
        assert!(ids(&whole, "belt-off-run").contains(&"belt"));
        assert!(ids(&open, "wheel-rock").is_empty());
    }

    /// Every caution of the trade that belongs to a step stands at it.
    #[test]
    fn cautions_stand_where_the_step_is() {
        let on = |v: Vehicle, state: &str, t: &str| heads(at_test(&case(v, json!({"on": state})), builtin(), test(t)));
        let has = |v: Vehicle, state: &str, t: &str, head: &str| {
            let all = on(v, state, t);
            assert!(all.iter().any(|h| h == head), "{t}: {head} is missing from {all:?}");
        };
        for (t, head) in [
            ("neutral-coast", "Coasting"),
            ("turn-power", "Tight circles"),
            ("belt-off-run", "Belt off"),
            ("belt-off-run", "Key away"),
            ("mount-look", "Mount under load"),
            ("joint-wiggle", "Chocks first"),
            ("joint-swing", "Hold the shaft"),
            ("joint-swing", "Chocks first"),
            ("shaft-off-run", "No loose end turns"),
            ("half-joint-feel", "Springs and clips"),
            ("diff-out-run", "Heavy unit"),
            ("axle-nut-check", "Long bar"),
            ("oil-look", "True level"),
            ("grease-and-retest", "Grease gun"),
            ("opened-look", "Compressed air"),
            ("bench-listen", "Compressed air"),
            ("standstill-rev", "Exhaust gas"),
            ("lift-run", "Exhaust gas"),
            ("lift-run", "Wheels in the air"),
            ("wheel-rock", "Before lifting"),
        ] {
            has(rear_drive(2), "ground", t, head);
        }
        assert!(!on(rear_drive(2), "lift", "wheel-rock").iter().any(|h| h == "Before lifting"));
        has(all_wheel_drive(), "lift", "lift-run", "All-wheel drive");
        assert!(!on(front_drive(), "lift", "lift-run").iter().any(|h| h == "All-wheel drive"));
        has(electric(), "lift", "wheel-rock", "Electric vehicle");
        assert!(!on(electric(), "lift", "lift-run").iter().any(|h| h == "Exhaust gas"));
    }

    #[test]
    fn every_repair_has_its_cautions_and_the_makers_data() {
        let k = builtin();
        for v in every_layout() {
            let c = case(v.clone(), json!({"on": "lift"}));
            for h in crate::reasoning::hypotheses(&v, k) {
                let Some(f) = k.fault(&h.fault) else { continue };
                let all = heads(at_repair(&c, k, f, h.place.as_ref()));
                assert!(all.iter().any(|x| x == "Maker's data"), "{}: {all:?}", h.fault);
                assert_eq!(all.iter().any(|x| x == "Electric vehicle"), v.is_electric());
                let is_of_brakes = h.fault.starts_with("brake-");
                assert_eq!(is_of_brakes, all.iter().any(|x| x == "Brake dust"), "{}", h.fault);
                if h.place.as_ref().is_some_and(|p| p.is_of_shaft()) {
                    assert!(all.iter().any(|x| x == "Chocks first"), "{}: {all:?}", h.fault);
                }
            }
        }
        for (fault, head) in [
            ("joint-worn", "Torch"),
            ("wheel-bearing-worn", "Hardened races"),
            ("wheel-bearing-worn", "Brake pedal first"),
            ("inner-joint-worn", "Springs and clips"),
            ("strut-top-bearing", "Strut spring"),
            ("slip-dry", "Grease gun"),
            ("transfer-worn", "Heavy unit"),
            ("clutch-slipping", "Heavy unit"),
            ("limited-slip-worn", "Springs and clips"),
            ("prop-imbalance", "Hold the shaft"),
            ("engine-mount-worn", "Mount under load"),
        ] {
            let f = k.fault(fault).unwrap();
            let all = heads(at_repair(&case(rear_drive(1), json!({})), k, f, None));
            assert!(all.iter().any(|x| x == head), "{fault}: {head} is missing from {all:?}");
        }
    }

    #[test]
    fn no_caution_stands_nowhere() {
        let k = builtin();
        for (id, c) in k.cautions() {
            let named = k.tests.iter().any(|t| t.caution.contains(&id.to_string()))
                || k.faults.iter().any(|f| f.caution.contains(&id.to_string()));
            // These two stand where somebody says how the vehicle is: warm, or not to be driven.
            assert!(named || !c.when.is_empty() || ["hot", "towing"].contains(&id), "{id}");
        }
    }
}
