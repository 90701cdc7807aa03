//! What an answer says beside the ranking: general tests by behaviour with their numbers, the driver's answers, two faults
//! at once, units, danger, one step, what others tried, hints, and what cannot be made.

use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::likelihood::Model;
use baricord_core::reasoning::{Diagnosis, SymptomAnswer, diagnose, hypotheses};
use baricord_core::vehicle::{Vehicle, sample};
use serde_json::{Value, json};

fn answer(v: &Vehicle, symptom: Value, more: Value) -> Diagnosis {
    let mut d = Case::new_document("t", "t", json!(v));
    let mut s = json!({"id": "S1"});
    for (k, x) in symptom.as_object().unwrap() {
        s[k] = x.clone();
    }
    d["symptoms"] = json!([s]);
    for (k, x) in more.as_object().unwrap() {
        d[k] = x.clone();
    }
    diagnose(&Case::from_json(&d).unwrap(), builtin(), None)
}

fn one(v: &Vehicle, kind: &str, more: Value) -> SymptomAnswer {
    answer(v, json!({"kind": kind}), more).symptoms.remove(0)
}

/// Probability of a fault, at a place or anywhere, alone or as one of two.
fn p(a: &SymptomAnswer, fault: &str) -> f64 {
    let named = |f: &str, at: &str| match fault.split_once('@') {
        Some((x, place)) => f == x && at == place,
        None => f == fault,
    };
    let holds = |r: &&baricord_core::reasoning::Ranked| named(&r.fault, &r.at) || r.with.iter().any(|w| named(&w.fault, &w.at));
    a.ranked.iter().filter(holds).map(|r| r.p).sum()
}

/// P(outcome of a test at a place | fault), untempered.
fn row(v: &Vehicle, kind: &str, fault: &str, test: &str, at: Option<&str>, outcome: &str) -> f64 {
    let all = hypotheses(v, builtin());
    let model = Model::new(v, builtin(), &all, kind);
    let (f, place) = fault.split_once('@').unwrap();
    let i = all.iter().position(|h| h.fault == f && h.at == place && !h.is_pair()).unwrap();
    let t = builtin().test(test).unwrap();
    let at = at.and_then(|a| v.place(a));
    let l = model.likelihoods(t, at.as_ref(), None);
    l.cells.iter().zip(&l.rows).filter(|(c, _)| t.outcomes[c.outcome].id == outcome).map(|(_, r)| r[i]).sum()
}

#[test]
fn general_tests_follow_from_behaviour_with_their_numbers() {
    let (hatch, pickup, four) = (sample::front_drive(), sample::rear_drive(1), sample::four_wheel_drive());
    for (v, kind, fault, test, at, outcome, wanted) in [
        (&pickup, "vibration", "prop-imbalance@prop.rear.s1", "neutral-coast", None, "persists", 0.9),
        (&hatch, "shudder", "inner-joint-worn@half.fl.inner", "neutral-coast", None, "stops", 0.88),
        (&pickup, "whine", "mesh-wrong@diff.rear", "neutral-coast", None, "stops", 0.6),
        (&hatch, "growl", "transaxle-internal@gearbox", "neutral-coast", None, "persists", 0.45),
        (&pickup, "vibration", "prop-imbalance@prop.rear.s1", "other-gear-same-speed", None, "same", 0.98),
        (&pickup, "vibration", "engine-order@engine", "other-gear-same-speed", None, "changes-with-rpm", 0.62),
        (&pickup, "vibration", "gear-pair-worn@gearbox", "other-gear-same-speed", None, "stops", 0.95),
        (&hatch, "growl", "wheel-bearing-worn@hub.fl", "turn", None, "right", 0.6),
        (&hatch, "click-repeating", "outer-joint-worn@half.fl.outer", "turn-power", None, "right", 0.5),
        (&hatch, "click-repeating", "outer-joint-worn@half.fl.outer", "turn-power", None, "left", 0.25),
        (&pickup, "clunk", "joint-worn@prop.rear.j1", "engage", None, "clunk", 0.7),
        (&hatch, "growl", "tyre-noise@wheel.fl", "surface-change", None, "changes", 0.75),
        (&pickup, "growl", "gearbox-input-bearing@gearbox", "clutch-pedal", None, "up-only", 0.93),
        (&four, "shudder", "driveline-windup@transfer", "axle-engage", Some("diff.front"), "only-engaged", 0.93),
        (&pickup, "vibration", "prop-bent@prop.rear.s1", "reindex-retest", Some("prop.rear.s1"), "changes", 0.65),
        (&pickup, "growl", "wheel-bearing-worn@hub.fl", "standstill-rev", None, "present", 0.01),
    ] {
        let is = row(v, kind, fault, test, at, outcome);
        assert!((is - wanted).abs() < 0.02, "{fault} {test} {outcome}: {is}, wanted {wanted}");
    }
}

#[test]
fn outcomes_of_every_test_sum_to_one_for_every_fault_on_every_layout() {
    let k = builtin();
    for v in sample::every_layout() {
        let all = hypotheses(&v, k);
        for kind in ["vibration", "clunk", "growl", "hard-shift", "leak"] {
            let model = Model::new(&v, k, &all, kind);
            for t in &k.tests {
                let stations = model.places_of(t);
                let at = if t.names_place { None } else { stations.first() };
                let l = model.likelihoods(t, at, Some("1"));
                for (i, h) in all.iter().enumerate() {
                    let sum: f64 = l.rows.iter().map(|r| r[i]).sum();
                    assert!((sum - 1.0).abs() < 1e-6, "{} {kind} {} {}@{}: {sum}", v.name, t.id, h.fault, h.at);
                }
            }
        }
    }
}

#[test]
fn what_the_driver_says_weighs_less_than_what_was_tried_and_is_not_asked_again() {
    let v = sample::front_drive();
    let said = answer(&v, json!({"kind": "growl", "condition": {"absent": "neutral"}}), json!({})).symptoms.remove(0);
    let tried = one(&v, "growl", json!({"observations": [{"test": "neutral-coast", "outcome": "stops"}]}));
    let nothing = one(&v, "growl", json!({}));
    let bearing = "wheel-bearing-worn";
    assert!(p(&tried, bearing) < p(&said, bearing) && p(&said, bearing) < p(&nothing, bearing));
    assert!(said.next.iter().all(|n| n.test != "neutral-coast") && nothing.next.iter().any(|n| n.test == "neutral-coast"));
    // What was tried takes the place of what the driver said.
    let both = json!({"observations": [{"test": "neutral-coast", "outcome": "persists"}]});
    let both = answer(&v, json!({"kind": "growl", "condition": {"absent": "neutral"}}), both).symptoms.remove(0);
    assert!(p(&both, bearing) > p(&nothing, bearing));
}

#[test]
fn a_finding_on_the_way_rules_nothing_out_and_never_is_the_source_of_a_noise() {
    let v = sample::rear_drive(1);
    let wet = one(&v, "growl", json!({"observations": [{"test": "leak-look", "at": "diff.rear", "outcome": "wet-pinion"}]}));
    let dry = one(&v, "growl", json!({}));
    assert_eq!(
        p(&wet, "boot-leaking") + wet.ranked.iter().filter(|r| r.fault == "pinion-seal-leaking").map(|r| r.p).sum::<f64>(),
        0.0
    );
    assert!(p(&wet, "pinion-bearing-worn") > 1.5 * p(&dry, "pinion-bearing-worn"));
    assert!(wet.ruled_out.is_empty(), "{:?}", wet.ruled_out);
    // Low oil is a cause behind a bearing, never evidence against it.
    let low = one(&v, "growl", json!({"observations": [{"test": "oil-look", "at": "diff.rear", "outcome": "low"}]}));
    for bearing in ["pinion-bearing-worn", "carrier-bearing-worn"] {
        assert!(p(&low, bearing) >= 0.97 * p(&dry, bearing), "{bearing}");
    }
    // What was found after a repair says nothing of the cause before it.
    let after = json!({"observations": [{"test": "neutral-coast", "outcome": "stops", "phase": "after"}]});
    assert_eq!(p(&one(&v, "growl", after), "wheel-bearing-worn"), p(&dry, "wheel-bearing-worn"));
}

#[test]
fn two_at_once_are_one_hypothesis_and_count_in_each_unit() {
    let v = sample::front_drive();
    let a = one(
        &v,
        "shudder",
        json!({"observations": [
        {"test": "drive-coast-float", "outcome": "drive"}, {"test": "half-joint-feel", "at": "half.fl.inner", "outcome": "notchy"},
        {"test": "half-joint-feel", "at": "half.fr.inner", "outcome": "notchy"}]}),
    );
    let first = &a.ranked[0];
    assert!(first.fault == "inner-joint-worn" && first.with.len() == 1 && first.p > 0.35, "{first:?}");
    let unit = |id: &str| a.units.iter().find(|u| u.unit == id).map_or(0.0, |u| u.p);
    assert!(unit("half.fl") > first.p && unit("half.fr") > first.p);
    let twins = a.twins().unwrap();
    assert!(twins.p > first.p && (a.ranked.iter().map(|r| r.p).sum::<f64>() - 1.0).abs() < 1e-9);
    assert!(a.plan.steps[0].fault.is_none() || a.plan.steps[0].with.len() == 1, "{:?}", a.plan.steps[0]);
}

#[test]
fn gears_of_one_fault_are_one_line_until_a_reading_names_a_gear() {
    let v = sample::rear_drive(1);
    let lines = |more: Value| {
        one(&v, "vibration", more)
            .ranked
            .iter()
            .filter(|r| r.fault == "gear-pair-worn")
            .map(|r| r.gear.clone())
            .collect::<Vec<_>>()
    };
    assert_eq!(lines(json!({})), [None]);
    assert_eq!(lines(json!({"observations": [{"test": "shift-feel", "at": "gearbox.3", "outcome": "clean"}]})).len(), 5);
}

#[test]
fn danger_is_proposed_by_its_faults_and_signs() {
    let v = sample::front_drive();
    let loose = one(
        &v,
        "knock",
        json!({"history": ["tyres-changed"], "observations": [{"test": "wheel-nut-check", "at": "wheel.fl", "outcome": "loose"}]}),
    );
    assert_eq!(loose.danger.as_ref().map(|d| json!(d)["drive"].clone()), Some(json!("no")));
    let growl = |o: Value| one(&v, "growl", json!({"observations": o})).danger;
    assert!(growl(json!([{"test": "turn", "outcome": "left"}])).is_none(), "a growl alone is no danger");
    let play =
        growl(json!([{"test": "turn", "outcome": "left"}, {"test": "wheel-rock", "at": "hub.fr", "outcome": "play-12-6"}]));
    let d = play.expect("a worn bearing with play");
    assert_eq!((d.km, d.kmh, json!(d)["drive"].clone()), (Some(50.0), Some(50.0), json!("limited")));
}

#[test]
fn a_danger_that_was_seen_is_proposed_whatever_the_cause_and_nothing_is_driven() {
    let v = sample::front_drive();
    let loose = json!({"test": "wheel-nut-check", "at": "wheel.fl", "outcome": "loose"});
    let growl = |more: Value| one(&v, "growl", more);
    let driven = |a: &SymptomAnswer| a.next.iter().filter(|n| builtin().test(&n.test).unwrap().turns_wheels()).count();
    let drive = |a: &SymptomAnswer| a.danger.as_ref().map(|d| json!(d)["drive"].clone());
    let a = growl(json!({"observations": [loose]}));
    assert_eq!((drive(&a), driven(&a)), (Some(json!("no")), 0));
    assert!(a.plan.steps.iter().filter_map(|s| s.test.as_deref()).all(|t| !builtin().test(t).unwrap().turns_wheels()));
    // Tightened and looked at again, or recorded as repaired, it is driven again.
    let tight = json!({"test": "wheel-nut-check", "at": "wheel.fl", "outcome": "tight"});
    let again = growl(json!({"observations": [loose, tight]}));
    let repaired =
        growl(json!({"observations": [loose], "repairs": [{"fault": "wheel-loose", "at": "wheel.fl", "result": "not-cured"}]}));
    for a in [again, repaired] {
        assert!(drive(&a).is_none() && driven(&a) > 0, "{:?}", a.danger);
    }
    // Found loose once more after the repair it is a danger again, and none once it is tight.
    let after = |outcome: &str| json!({"test": "wheel-nut-check", "at": "wheel.fl", "outcome": outcome, "phase": "after"});
    let mended = json!([{"fault": "wheel-loose", "at": "wheel.fl", "result": "not-cured"}]);
    assert!(drive(&growl(json!({"observations": [loose, after("loose")], "repairs": mended}))).is_some());
    assert!(drive(&growl(json!({"observations": [loose, after("tight")]}))).is_none());
    // A damaged cap of a shaft's joint, and one with play.
    let v = sample::rear_drive(1);
    let wiggled = |outcome: &str| {
        let o = json!([{"test": "joint-wiggle", "at": "prop.rear.j2", "outcome": outcome}]);
        drive(&one(&v, "growl", json!({"observations": o})))
    };
    assert_eq!((wiggled("cap-damaged"), wiggled("play"), wiggled("none")), (Some(json!("no")), Some(json!("limited")), None));
}

#[test]
fn there_is_one_step_and_what_cannot_be_made_is_not_proposed_again() {
    let v = sample::rear_drive(2);
    let d = answer(&v, json!({"kind": "vibration"}), json!({}));
    let (step, a) = (d.step.unwrap(), &d.symptoms[0]);
    assert_eq!((step.symptom.as_str(), step.test.as_deref()), ("S1", a.plan.steps[0].test.as_deref()));
    assert_eq!(a.next[0].test, step.test.clone().unwrap());
    let not = json!({"observations": [{"test": step.test, "outcome": "not-possible", "note": "no road here"}]});
    let after = answer(&v, json!({"kind": "vibration"}), not);
    assert!(after.warnings.is_empty() && after.symptoms[0].next.iter().all(|n| Some(&n.test) != step.test.as_ref()));
    assert!((p(&after.symptoms[0], "prop-imbalance") - p(a, "prop-imbalance")).abs() < 1e-12);
}

#[test]
fn attempts_weigh_by_their_trust_and_a_complete_unit_clears_what_it_contains() {
    let v = sample::front_drive();
    let with = |attempt: Value| one(&v, "shudder", json!({"attempts": [attempt]}));
    let inner = "inner-joint-worn@half.fl.inner";
    let none = p(&one(&v, "shudder", json!({})), inner);
    let by = |trust: &str| {
        p(
            &with(
                json!({"what": "inner joint", "fault": "inner-joint-worn", "at": "half.fl.inner", "changed": "nothing", "trust": trust}),
            ),
            inner,
        )
    };
    assert!(by("seen") < by("bill") && by("bill") < by("told") && by("told") < none);
    let unit = with(json!({"what": "half shaft", "unit": "half.fl", "changed": "nothing", "trust": "seen"}));
    assert!(p(&unit, inner) < 0.2 * none && p(&unit, "inner-joint-worn@half.fr.inner") > none);
    let free = answer(&v, json!({"kind": "shudder"}), json!({"attempts": [{"what": "something", "changed": "nothing"}]}));
    assert!((p(&free.symptoms[0], inner) - none).abs() < 1e-12 && free.warnings.iter().any(|w| w.code == "attempt-not-weighed"));
}

#[test]
fn hints_work_done_and_work_denied_move_the_prior() {
    let v = sample::front_drive();
    let base = p(&one(&v, "growl", json!({})), "transaxle-internal");
    let hint = |trust: &str| {
        p(
            &one(&v, "growl", json!({"hints": [{"fault": "transaxle-internal", "source": "a colleague", "trust": trust}]})),
            "transaxle-internal",
        )
    };
    assert!(hint("told") > 1.2 * base && hint("seen") > 1.5 * hint("told"));
    let loose = |more: Value| p(&one(&v, "knock", more), "wheel-loose");
    let (done, unsaid, denied) =
        (loose(json!({"history": ["tyres-changed"]})), loose(json!({})), loose(json!({"history_denied": ["tyres-changed"]})));
    assert!(done > 5.0 * unsaid && denied < 0.5 * unsaid, "{done} {unsaid} {denied}");
}

#[test]
fn one_silence_of_what_comes_and_goes_is_weak_and_two_things_can_be_true_at_once() {
    let v = sample::front_drive();
    let silent = json!({"observations": [{"test": "neutral-coast", "outcome": "stops"}]});
    let steady = answer(&v, json!({"kind": "growl"}), silent.clone()).symptoms.remove(0);
    let comes = answer(&v, json!({"kind": "growl", "intermittent": true}), silent).symptoms.remove(0);
    assert!(p(&comes, "wheel-bearing-worn") > 2.0 * p(&steady, "wheel-bearing-worn"));
    let oil = |also: Value| {
        one(
            &sample::rear_drive(1),
            "growl",
            json!({"observations": [{"test": "oil-look", "at": "diff.rear", "outcome": "steel", "also": also}]}),
        )
    };
    assert!(p(&oil(json!(["low"])), "pinion-bearing-worn") > p(&oil(json!([])), "pinion-bearing-worn"));
}

#[test]
fn no_fault_and_no_test_stands_where_the_vehicle_cannot_have_it() {
    let tests = |v: &Vehicle, kind: &str| one(v, kind, json!({})).next.into_iter().map(|n| n.test).collect::<Vec<_>>();
    for v in [sample::electric(), sample::variable()] {
        assert!(!tests(&v, "vibration").iter().any(|t| t == "other-gear-same-speed" || t == "shift-feel"), "{}", v.name);
    }
    assert!(!tests(&sample::electric(), "vibration").iter().any(|t| t == "standstill-rev" || t == "clutch-pedal"));
    assert!(tests(&sample::rear_drive(1), "no-drive").iter().all(|t| !builtin().test(t).unwrap().is_of_the_road()));
    let short = json!({"observations": [{"test": "slip-position", "at": "prop.rear.slip", "outcome": "short"}]});
    let a = one(&sample::rear_drive(1), "vibration", short);
    assert!(a.next.iter().all(|n| {
        let t = builtin().test(&n.test).unwrap();
        !t.is_of_the_road() && !t.wheels
    }));
    let has = |v: &Vehicle, fault: &str| hypotheses(v, builtin()).iter().any(|h| h.fault == fault);
    assert!(!has(&sample::front_drive(), "pinion-seal-leaking") && !has(&sample::rear_drive(1), "boot-leaking"));
}

#[test]
fn one_cause_of_two_symptoms_is_said() {
    let v = sample::rear_drive(1);
    let mut d = Case::new_document("t", "t", json!(v));
    d["symptoms"] =
        json!([{"id": "S1", "kind": "vibration", "heard_from": "centre"}, {"id": "S2", "kind": "clunk", "heard_from": "centre"}]);
    d["observations"] = json!([{"test": "joint-wiggle", "at": "prop.rear.j2", "outcome": "play"}]);
    let a = diagnose(&Case::from_json(&d).unwrap(), builtin(), None);
    let shared = a.shared.iter().find(|s| s.fault == "joint-worn" && s.at == "prop.rear.j2").expect("one joint for both");
    assert!(shared.symptoms == ["S1", "S2"] && shared.p > 0.3 && shared.p <= 1.0);
    // Of three joints, too, where the pairs that hold it take a share.
    d["vehicle"] = json!(sample::rear_drive(2));
    let a = diagnose(&Case::from_json(&d).unwrap(), builtin(), None);
    assert!(a.shared.iter().any(|s| s.fault == "joint-worn" && s.at == "prop.rear.j2"), "{:?}", a.shared);
}
