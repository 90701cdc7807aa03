//! Ten cases as they come into a bay, without a recording: what a careful mechanic would think first, what would be
//! out, and what should be asked next.

use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::{SymptomAnswer, diagnose};
use baricord_core::vehicle::{Vehicle, sample};
use serde_json::{Value, json};

struct Story {
    vehicle: Vehicle,
    more: Value,
}

fn told(s: &Story) -> Vec<SymptomAnswer> {
    let mut d = Case::new_document("s", "s", json!(s.vehicle));
    for (k, v) in s.more.as_object().unwrap() {
        d[k] = v.clone();
    }
    let d = diagnose(&Case::from_json(&d).unwrap(), builtin(), None);
    assert!(d.warnings.is_empty(), "{:?}", d.warnings);
    d.symptoms
}

fn fits(r: (&str, &str), wanted: &str) -> bool {
    match wanted.split_once('@') {
        Some((f, at)) => r == (f, at),
        None => r.0 == wanted,
    }
}

fn shown(a: &SymptomAnswer) -> Vec<String> {
    a.ranked.iter().take(5).map(|r| format!("{}@{} {:.2}", r.fault, r.at, r.p)).collect()
}

/// One of these stands first.
fn first(a: &SymptomAnswer, wanted: &[&str]) {
    let r = &a.ranked[0];
    assert!(wanted.iter().any(|w| fits((&r.fault, &r.at), w)), "{wanted:?} should be first: {:?}", shown(a));
}

/// How likely these are together.
fn share(a: &SymptomAnswer, of: &[&str]) -> f64 {
    a.ranked.iter().filter(|r| of.iter().any(|w| fits((&r.fault, &r.at), w))).map(|r| r.p).sum()
}

/// One of these is among the first three tests that are proposed.
fn asks(a: &SymptomAnswer, wanted: &[&str]) {
    let next: Vec<&str> = a.next.iter().take(3).map(|n| n.test.as_str()).collect();
    assert!(next.iter().any(|n| wanted.contains(n)), "one of {wanted:?} should be asked: {next:?}; {:?}", shown(a));
}

#[test]
fn one_the_shake_that_went_with_the_wheel() {
    let a = told(&Story {
        vehicle: sample::rear_drive(1),
        more: json!({
        "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["steering-wheel"], "heard_from": "front", "speed_kmh": {"from": 85, "peak": 105, "to": 125}}],
        "observations": [{"test": "neutral-coast", "outcome": "persists"}, {"test": "other-gear-same-speed", "outcome": "same"},
            {"test": "wheel-swap-retest", "at": "wheel.fr", "outcome": "moves"}]}),
    });
    first(&a[0], &["wheel-imbalance@wheel.fr"]);
    assert!(share(&a[0], &["prop-imbalance", "prop-bent", "joint-worn"]) < 0.1, "{:?}", shown(&a[0]));
}

#[test]
fn two_clicks_in_a_right_turn_come_from_the_left() {
    let a = told(&Story {
        vehicle: sample::front_drive(),
        more: json!({
        "symptoms": [{"id": "S1", "kind": "click-repeating", "felt": [], "heard_from": "front", "words": "clicks out of the yard"}],
        "observations": [{"test": "turn", "outcome": "right"}, {"test": "boot-look", "at": "half.fl", "outcome": "torn"}]}),
    });
    first(&a[0], &["outer-joint-worn@half.fl.outer"]);
    assert!(share(&a[0], &["outer-joint-worn@half.fr.outer"]) < share(&a[0], &["outer-joint-worn@half.fl.outer"]) / 4.0);
}

#[test]
fn three_a_shudder_under_power_that_is_gone_off_it() {
    let a = told(&Story {
        vehicle: sample::electric(),
        more: json!({
        "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["floor"], "heard_from": "front", "speed_kmh": {"from": 30, "peak": 60, "to": 90}}],
        "observations": [{"test": "drive-coast-float", "outcome": "drive"}, {"test": "neutral-coast", "outcome": "stops"}]}),
    });
    first(&a[0], &["inner-joint-worn@half.fl.inner", "inner-joint-worn@half.fr.inner", "engine-mount-worn@mount.engine"]);
    assert!(share(&a[0], &["inner-joint-worn"]) > 0.3, "{:?}", shown(&a[0]));
    assert!(share(&a[0], &["wheel-imbalance", "tyre-noise", "wheel-bearing-worn"]) < 0.1, "{:?}", shown(&a[0]));
    asks(&a[0], &["mount-look", "boot-look", "speed-sweep", "half-joint-feel"]);
}

#[test]
fn four_a_yoke_that_moves_in_the_tail() {
    let a = told(&Story {
        vehicle: sample::rear_drive(2),
        more: json!({
        "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["floor"], "heard_from": "centre", "speed_kmh": {"from": 70, "peak": 100, "to": 120}}],
        "observations": [{"test": "neutral-coast", "outcome": "persists"}, {"test": "tail-yoke-lift", "at": "prop.rear.slip", "outcome": "play"},
            {"test": "support-bearing-look", "at": "prop.rear.sb1", "outcome": "firm"}, {"test": "runout-survey", "at": "prop.rear.s1", "outcome": "within"}]}),
    });
    first(&a[0], &["tail-bushing-worn@prop.rear.slip"]);
    assert!(share(&a[0], &["support-bearing-worn", "engine-order"]) < 0.1, "{:?}", shown(&a[0]));
}

#[test]
fn five_a_growl_that_comes_with_the_front_axle() {
    let a = told(&Story {
        vehicle: sample::four_wheel_drive(),
        more: json!({
        "symptoms": [{"id": "S1", "kind": "growl", "felt": [], "heard_from": "front", "speed_kmh": {"from": 20, "peak": 45, "to": 60}}],
        "observations": [{"test": "axle-engage", "at": "diff.front", "outcome": "only-engaged"}]}),
    });
    first(
        &a[0],
        &[
            "pinion-bearing-worn@diff.front",
            "carrier-bearing-worn@diff.front",
            "mesh-wrong@diff.front",
            "joint-worn@prop.front.j1",
            "joint-worn@prop.front.j2",
            "transfer-worn@transfer",
        ],
    );
    assert!(
        share(&a[0], &["wheel-bearing-worn", "pinion-bearing-worn@diff.rear", "carrier-bearing-worn@diff.rear"]) < 0.15,
        "{:?}",
        shown(&a[0])
    );
}

#[test]
fn six_a_whine_on_the_overrun_with_steel_in_the_oil() {
    let a = told(&Story {
        vehicle: sample::rear_drive(1),
        more: json!({
        "symptoms": [{"id": "S1", "kind": "whine", "felt": [], "heard_from": "rear", "speed_kmh": {"from": 40, "peak": 60, "to": 90}}],
        "observations": [{"test": "drive-coast-float", "outcome": "coast"}, {"test": "oil-look", "at": "diff.rear", "outcome": "steel"},
            {"test": "pinion-shake", "at": "diff.rear", "outcome": "play"}]}),
    });
    first(&a[0], &["pinion-bearing-worn@diff.rear"]);
    assert!(share(&a[0], &["pinion-bearing-worn@diff.rear"]) > 0.5, "{:?}", shown(&a[0]));
}

#[test]
fn seven_a_roar_when_the_right_side_carries_the_bend() {
    let a = told(&Story {
        vehicle: sample::all_wheel_drive(),
        more: json!({
        "symptoms": [{"id": "S1", "kind": "growl", "felt": [], "heard_from": "rear", "speed_kmh": {"from": 40, "peak": 80, "to": 110}}],
        "observations": [{"test": "neutral-coast", "outcome": "persists"}, {"test": "turn", "outcome": "left"},
            {"test": "surface-change", "outcome": "same"}]}),
    });
    first(&a[0], &["wheel-bearing-worn@hub.rr"]);
    asks(&a[0], &["spin-by-hand", "lift-run", "wheel-rock"]);
}

#[test]
fn eight_an_engine_that_shakes_standing_is_no_driveline() {
    let a = told(&Story {
        vehicle: sample::rear_drive_independent(),
        more: json!({
        "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["seat"], "heard_from": "unknown", "speed_kmh": {"from": 60, "peak": 80, "to": 100}}],
        "observations": [{"test": "other-gear-same-speed", "outcome": "changes-with-rpm"}, {"test": "standstill-rev", "outcome": "present"},
            {"test": "neutral-coast", "outcome": "stops"}]}),
    });
    first(&a[0], &["engine-order", "engine-mount-worn", "gearbox-mount-worn", "accessory-belt"]);
    assert!(share(&a[0], &["wheel-imbalance", "prop-imbalance", "prop-bent", "joint-angle"]) < 0.05, "{:?}", shown(&a[0]));
}

#[test]
fn nine_a_copy_fitted_with_two_other_changes_proves_little() {
    let with = |repair: Value| {
        told(&Story {
            vehicle: sample::rear_drive(2),
            more: json!({
            "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["seat"], "heard_from": "rear", "speed_kmh": {"from": 70, "peak": 95, "to": 120}}],
            "observations": [{"test": "neutral-coast", "outcome": "persists"}, {"test": "joint-wiggle", "at": "prop.rear.j3", "outcome": "play"}],
            "repairs": [repair]}),
        })
    };
    let joint = ["joint-worn@prop.rear.j3"];
    let plain = with(json!({"fault": "joint-worn", "at": "prop.rear.j3", "result": "not-cured", "part": "original"}));
    let copy = with(json!({"fault": "joint-worn", "at": "prop.rear.j3", "result": "not-cured", "part": "copy"}));
    let open = with(json!({"fault": "joint-worn", "at": "prop.rear.j3", "result": "open"}));
    let (plain, copy, open) = (share(&plain[0], &joint), share(&copy[0], &joint), share(&open[0], &joint));
    assert!(plain < copy && copy < open, "{plain} {copy} {open}");
    assert!(plain < 0.15, "{plain}");
}

#[test]
fn ten_when_everything_is_contradicted_it_is_none_of_these() {
    let looked = |n: usize| {
        let mut tests = vec![
            json!({"test": "neutral-coast", "outcome": "stops"}),
            json!({"test": "other-gear-same-speed", "outcome": "same"}),
            json!({"test": "standstill-rev", "outcome": "absent"}),
            json!({"test": "tail-yoke-lift", "at": "prop.rear.slip", "outcome": "none"}),
            json!({"test": "runout-survey", "at": "prop.rear.s1", "outcome": "within"}),
            json!({"test": "angle-survey", "at": "prop.rear", "outcome": "within"}),
            json!({"test": "joint-wiggle", "at": "prop.rear.j1", "outcome": "none"}),
            json!({"test": "joint-wiggle", "at": "prop.rear.j2", "outcome": "none"}),
            json!({"test": "joint-swing", "at": "prop.rear.j1", "outcome": "smooth"}),
            json!({"test": "joint-swing", "at": "prop.rear.j2", "outcome": "smooth"}),
            json!({"test": "pinion-shake", "at": "diff.rear", "outcome": "none"}),
            json!({"test": "lash-watch", "outcome": "none"}),
            json!({"test": "shaft-off-run", "at": "prop.rear", "outcome": "persists"}),
        ];
        tests.truncate(n);
        told(&Story {
            vehicle: sample::rear_drive(1),
            more: json!({
            "symptoms": [{"id": "S1", "kind": "vibration", "felt": ["seat"], "heard_from": "centre", "speed_kmh": {"from": 70, "peak": 95, "to": 120}}],
            "observations": tests}),
        })
    };
    let unknown = |n| share(&looked(n)[0], &["unknown"]);
    assert!(unknown(13) > 3.0 * unknown(2), "{} {}", unknown(2), unknown(13));
    let shaft = ["prop-imbalance", "prop-bent", "joint-angle", "joint-worn", "tail-bushing-worn"];
    assert!(share(&looked(13)[0], &shaft) < 0.1, "{:?}", shown(&looked(13)[0]));
}
