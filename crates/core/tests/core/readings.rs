//! Readings that live: two of them and their spread, one that is stale, one that follows a repair.

use baricord_core::case::Case;
use baricord_core::reasoning::diagnose;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::vehicle::sample::rear_drive;
use serde_json::{Value, json};

fn around(tir: f64) -> Value {
    let mm: Vec<f64> = (0..8).map(|i| tir / 2.0 * (f64::from(i) * std::f64::consts::FRAC_PI_4).cos()).collect();
    json!({"mm": mm})
}

fn case(more: Value) -> Case {
    let mut d = Case::new_document("c1", "Hum", serde_json::to_value(rear_drive(2)).unwrap());
    d["symptoms"] = json!([{"id": "S1", "kind": "vibration", "speed_kmh": {"from": 70, "peak": 95, "to": 120}}]);
    for (k, v) in more.as_object().unwrap() {
        d[k] = v.clone();
    }
    Case::from_json(&d).unwrap()
}

fn read(tirs: &[f64]) -> Value {
    let at = "prop.rear.s2.centre";
    json!(tirs.iter().map(|t| json!({"kind": "runout", "at": at, "input": around(*t)})).collect::<Vec<_>>())
}

/// How likely a cause at the section that was read is, and whether the survey there is among what comes next.
fn weighed(c: &Case) -> (f64, bool) {
    let d = diagnose(c, builtin(), None);
    let s = &d.symptoms[0];
    let p = s.ranked.iter().filter(|r| r.at == "prop.rear.s2").map(|r| r.p).sum();
    (p, s.next.iter().any(|n| n.test == "runout-survey" && n.at.as_deref().is_some_and(|a| a.starts_with("prop.rear.s2"))))
}

#[test]
fn readings_that_disagree_weigh_little_and_a_third_is_asked_for() {
    let (none, once) = (weighed(&case(json!({}))), weighed(&case(json!({"measurements": read(&[1.5])}))));
    let (twice, apart) =
        (weighed(&case(json!({"measurements": read(&[1.5, 1.52])}))), weighed(&case(json!({"measurements": read(&[1.5, 0.2])}))));
    assert!(none.1 && !once.1 && !twice.1, "read once it is done");
    assert!(apart.1, "two that disagree ask for a third");
    assert!(once.0 > 1.5 * none.0 && twice.0 >= once.0 - 1e-9, "{none:?} {once:?} {twice:?}");
    assert!(apart.0 < once.0, "{apart:?} {once:?}");
    let third = weighed(&case(json!({"measurements": read(&[1.5, 0.2, 1.48])})));
    assert!(!third.1 && third.0 > apart.0, "{third:?}");
}

#[test]
fn what_rests_on_a_size_that_was_changed_is_shown_not_weighed_and_asked_again() {
    let change = json!([{"id": "g1", "changed": [{"of": "length", "at": "prop.rear.s2"}], "words": "shaft shortened", "at_time": "2026-11-30T10:00:00Z"}]);
    let stale = case(json!({"measurements": read(&[1.5]), "dimension_changes": change}));
    let none = case(json!({}));
    assert!((weighed(&stale).0 - weighed(&none).0).abs() < 1e-9);
    assert!(weighed(&stale).1);
    assert!(stale.stale(&stale.measurements[0]).is_some() && stale.measurements.len() == 1);
    let owed = baricord_core::workflow::owed::owed_line(&stale, builtin());
    assert!(owed.contains("measure again"), "{owed}");
}

#[test]
fn a_reading_after_a_repair_says_nothing_about_the_cause_before() {
    let mut after = read(&[0.1]);
    after[0]["phase"] = json!("after");
    let none = weighed(&case(json!({})));
    assert!((weighed(&case(json!({"measurements": after}))).0 - none.0).abs() < 1e-9);
}

#[test]
fn slopes_read_twice_are_surer_and_ones_that_differ_less_sure() {
    let over = |readings: Value| {
        let slopes = |a: f64| json!({"side_deg": a});
        let mut first = json!({});
        first["side_readings_deg"] = readings;
        let input = json!({"elements": [first, slopes(5.4), slopes(9.0), slopes(4.0)], "joints": ["cross", "cross", "cross"], "rpm": 2500});
        let c = case(json!({"measurements": [{"kind": "angles", "at": "prop.rear", "input": input}]}));
        let m = &c.measurements[0];
        c.repeated(&[m]).unwrap().unwrap().limit.unwrap()
    };
    let (once, twice, apart) = (over(json!([4.0])), over(json!([4.0, 4.0])), over(json!([3.5, 4.5])));
    assert!((once.ratio - twice.ratio).abs() < 1e-9 && twice.sigma < once.sigma && once.sigma < apart.sigma);
}
