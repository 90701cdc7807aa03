//! Laws that hold for any vehicle and whatever was observed: a mirrored vehicle has mirrored causes, what is said of one
//! symptom moves no other, nothing is asked twice, and no test gets dearer by what was done for another.

use baricord_core::case::Case;
use baricord_core::reasoning::access::OpenedPlaces;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::{OpenSymptom, OpenTest, Ranked, SymptomAnswer, beliefs, diagnose, hypotheses, open_tests};
use baricord_core::vehicle::{Vehicle, sample};
use proptest::prelude::*;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// Kinds of symptom that every layout has causes for.
const KINDS: &[&str] = &["vibration", "growl", "whine", "clunk", "click-repeating", "shudder", "leak", "squeal"];

fn document(v: &Vehicle, kind: &str, observations: &[Value]) -> Value {
    let mut d = Case::new_document("w", "w", json!(v));
    d["symptoms"] = json!([{"id": "S1", "kind": kind}, {"id": "S2", "kind": "leak"}]);
    d["observations"] = json!(observations);
    d
}

fn case(d: &Value) -> Case {
    Case::from_json(d).unwrap()
}

fn answer(d: &Value) -> SymptomAnswer {
    let a = diagnose(&case(d), builtin(), None);
    a.symptoms.into_iter().next().unwrap()
}

/// Some of the tests that can be made, each with one of its outcomes.
fn observed(v: &Vehicle, picks: &[(usize, usize)]) -> Vec<Value> {
    let tests: Vec<OpenTest> = open_tests(&case(&document(v, "vibration", &[])), builtin(), "S1");
    picks
        .iter()
        .map(|(t, o)| {
            let t = &tests[t % tests.len()];
            let o = o % t.outcomes.len();
            let mut x = json!({"symptom": "S1", "test": t.test, "outcome": t.outcomes[o]});
            let at = t.places[o].clone().or(t.at.clone());
            for (key, value) in [("at", &at), ("gear", &t.gear)] {
                if let Some(v) = value {
                    x[key] = json!(v);
                }
            }
            x
        })
        .collect()
}

/// The other side of a place.
fn across(at: &str) -> String {
    let swap = |part: &str| match part {
        "fl" => "fr".to_string(),
        "fr" => "fl".to_string(),
        "rl" => "rr".to_string(),
        "rr" => "rl".to_string(),
        other => other.to_string(),
    };
    at.split('.').map(swap).collect::<Vec<_>>().join(".")
}

fn mirrored(o: &Value) -> Value {
    let mut m = o.clone();
    if let Some(at) = o["at"].as_str() {
        m["at"] = json!(across(at));
    }
    if o["test"] == "turn" || o["test"] == "turn-power" {
        m["outcome"] = match o["outcome"].as_str() {
            Some("left") => json!("right"),
            Some("right") => json!("left"),
            _ => o["outcome"].clone(),
        };
    }
    m
}

/// The faults of a hypothesis with their places, and the gear.
type Name = (Vec<(String, String)>, Option<String>);

/// Probabilities by fault, place and gear.
fn by_name(a: &SymptomAnswer) -> BTreeMap<Name, f64> {
    let members = |r: &Ranked| {
        let mut all: Vec<(String, String)> = std::iter::once((r.fault.clone(), r.at.clone()))
            .chain(r.with.iter().map(|w| (w.fault.clone(), w.at.clone())))
            .collect();
        all.sort();
        all
    };
    a.ranked.iter().map(|r| ((members(r), r.gear.clone()), r.p)).collect()
}

fn picks(most: usize) -> impl Strategy<Value = Vec<(usize, usize)>> {
    proptest::collection::vec((0..500usize, 0..8usize), 0..most)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn a_mirrored_vehicle_has_mirrored_causes(v in 0..10usize, kind in 0..8usize, picks in picks(9)) {
        let layouts = sample::every_layout();
        let (v, kind) = (&layouts[v % layouts.len()], KINDS[kind]);
        let found = observed(v, &picks);
        let there = by_name(&answer(&document(v, kind, &found)));
        let across_found: Vec<Value> = found.iter().map(mirrored).collect();
        let here = by_name(&answer(&document(v, kind, &across_found)));
        for ((members, gear), p) in &there {
            let mut other: Vec<(String, String)> = members.iter().map(|(f, at)| (f.clone(), across(at))).collect();
            other.sort();
            let q = here[&(other, gear.clone())];
            prop_assert!((p - q).abs() < 1e-9, "{} {:?}: {} {}", v.name, members, p, q);
        }
    }

    #[test]
    fn probabilities_are_whole_and_nothing_is_asked_twice(v in 0..10usize, kind in 0..8usize, picks in picks(14)) {
        let layouts = sample::every_layout();
        let (v, kind) = (&layouts[v % layouts.len()], KINDS[kind]);
        let found = observed(v, &picks);
        let a = answer(&document(v, kind, &found));
        let sum: f64 = a.ranked.iter().map(|r| r.p).sum();
        prop_assert!((sum - 1.0).abs() < 1e-9);
        prop_assert!(a.ranked.iter().any(|r| r.fault == "unknown" && r.p > 0.0));
        prop_assert!(a.ranked.windows(2).all(|w| w[0].p >= w[1].p));
        for n in &a.next {
            prop_assert!(n.bits <= a.open_bits + 1e-9 && n.minutes > 0.0);
            let walk = builtin().test(&n.test).unwrap().names_place;
            let same = |o: &Value| o["test"] == n.test.as_str() && (walk || o["at"].as_str() == n.at.as_deref()) && o["gear"].as_str() == n.gear.as_deref();
            prop_assert!(!found.iter().any(same), "{} at {:?} was made", n.test, n.at);
        }
        prop_assert!(a.plan.cost.is_finite() && a.plan.cost <= a.plan.repair_first + 1e-6);
    }

    #[test]
    fn what_is_said_of_one_symptom_moves_no_other(v in 0..10usize, kind in 0..8usize, picks in picks(8)) {
        let layouts = sample::every_layout();
        let (v, kind) = (&layouts[v % layouts.len()], KINDS[kind]);
        let nothing = case(&document(v, kind, &[]));
        // What a hand found is true of the vehicle, and counts for every symptom.
        let of_this = |o: &Value| builtin().test(o["test"].as_str().unwrap()).unwrap().of_symptom;
        let said: Vec<Value> = observed(v, &picks).into_iter().filter(of_this).collect();
        let much = case(&document(v, kind, &said));
        prop_assert_eq!(beliefs(&nothing, builtin(), "S2", None), beliefs(&much, builtin(), "S2", None));
    }

    #[test]
    fn the_order_of_what_is_found_does_not_matter(v in 0..10usize, kind in 0..8usize, picks in picks(8)) {
        let layouts = sample::every_layout();
        let (v, kind) = (&layouts[v % layouts.len()], KINDS[kind]);
        // Of one test at one place, and of tests that say the same fact, the later counts.
        let mut found: Vec<Value> = vec![];
        for o in observed(v, &picks) {
            let key = |x: &Value| {
                let test = builtin().test(x["test"].as_str().unwrap()).unwrap();
                (test.same_as.clone().unwrap_or_else(|| test.id.clone()), x["at"].clone(), x["gear"].clone())
            };
            if !found.iter().any(|x| key(x) == key(&o)) {
                found.push(o);
            }
        }
        let forth = beliefs(&case(&document(v, kind, &found)), builtin(), "S1", None);
        found.reverse();
        let back = beliefs(&case(&document(v, kind, &found)), builtin(), "S1", None);
        for (a, b) in forth.iter().zip(&back) {
            prop_assert!((a - b).abs() < 1e-9);
        }
    }

    #[test]
    fn no_look_gets_dearer_by_what_is_done_already(v in 0..10usize, off in 0..200usize) {
        let layouts = sample::every_layout();
        let v = &layouts[v % layouts.len()];
        let minutes = |state: Value| -> BTreeMap<(String, Option<String>, Option<String>), f64> {
            let mut d = document(v, "vibration", &[]);
            d["state"] = state;
            open_tests(&case(&d), builtin(), "S1").into_iter().map(|t| ((t.test, t.at, t.gear), t.minutes)).collect()
        };
        let places = v.places();
        let part = &places[off % places.len()].id;
        let (ground, up, open) = (
            minutes(json!({"on": "ground", "off": []})),
            minutes(json!({"on": "lift", "off": []})),
            minutes(json!({"on": "lift", "off": [part]})),
        );
        for (t, least) in &up {
            prop_assert!(*least <= ground[t] && ground[t] - least <= builtin().weights.time.lift_minutes + 1e-9, "{:?}", t);
            // Some tests cannot be made while something is off; those that can are no dearer.
            let now = open.get(t).copied().unwrap_or(0.0);
            prop_assert!(now <= least + 1e-9, "{:?} with {} off: {} {}", t, part, now, least);
        }
    }

    #[test]
    fn looks_while_it_is_open_can_be_made_then_and_are_cheap(v in 0..10usize, kind in 0..8usize, of in 0..400usize) {
        let layouts = sample::every_layout();
        let (v, kind) = (&layouts[v % layouts.len()], KINDS[kind]);
        let d = document(v, kind, &[]);
        let c = case(&d);
        let all = hypotheses(v, builtin());
        let h = &all[of % (all.len() - 1)];
        prop_assume!(!h.is_pair());
        let fault = builtin().fault(&h.fault).unwrap();
        let opened = OpenedPlaces::by_repair(v, fault, h.place.as_ref().unwrap());
        let looks = OpenSymptom::with(&c, builtin(), "S1", None, |open| open.quick_looks(&opened, None));
        prop_assert!(looks.len() <= 3 && (!fault.in_place || looks.is_empty()));
        for l in &looks {
            let rule = builtin().test(&l.test).unwrap();
            prop_assert!(l.minutes <= 6.0 && !rule.wheels && !rule.is_of_the_road(), "{:?}", l);
        }
    }
}
