//! What the driver answered at the intake, read as observations of the tests that ask the same: not asked again, and
//! counted as a driver's words.

use super::evidence::Evidence;
use super::hypotheses::shows;
use super::knowledge::Shows;
use super::likelihood::Model;
use crate::case::{DRIVER, Observation, Symptom};
use crate::vehicle::Vehicle;

/// Kinds of symptom that are shifting itself.
fn is_shifting(kind: &str) -> bool {
    matches!(kind, "hard-shift" | "jumps-out")
}

/// The observations that a symptom's answers are.
pub(super) fn observations(v: &Vehicle, s: &Symptom) -> Vec<Observation> {
    let mut out: Vec<Observation> = vec![];
    let mut say = |test: &str, outcome: &str| {
        out.push(Observation { source: Some(DRIVER.into()), symptom: Some(s.id.clone()), ..Observation::new(test, outcome) });
    };
    let answer = |question: &str| s.condition.get(question).map_or("", String::as_str);
    let event = if s.kind == "click-single" { "click" } else { "clunk" };
    match answer("load") {
        load @ ("drive" | "coast" | "float" | "all") => say("drive-coast-float", load),
        "change" => say("load-reversal", event),
        _ => {}
    }
    match answer("absent") {
        "never" => say("neutral-coast", "persists"),
        "neutral" => say("neutral-coast", "stops"),
        "clutch" => say("clutch-pedal", "up-only"),
        "standing" => say("standstill-rev", "absent"),
        _ => {}
    }
    match (answer("turn"), answer("slow")) {
        ("tight", _) => say("turn-power", "both"),
        (side @ ("left" | "right" | "both"), "slow") => say("turn-power", side),
        (side @ ("left" | "right" | "both"), _) => say("turn", side),
        ("straight", _) => say("turn", "none"),
        _ => {}
    }
    if !is_shifting(&s.kind) {
        match answer("gear") {
            "all" => say("other-gear-same-speed", "same"),
            "one" => say("other-gear-same-speed", "stops"),
            gear if v.gear(gear).is_some() => say("other-gear-same-speed", "stops"),
            _ => {}
        }
    }
    if answer("surface") == "rough" && matches!(s.kind.as_str(), "clunk" | "knock" | "rattle" | "click-single") {
        say("bump", "thump");
    }
    out
}

/// The gear that the driver names.
pub(super) fn named_gear<'a>(v: &Vehicle, s: &'a Symptom) -> Option<&'a str> {
    let gear = s.condition.get("gear")?;
    v.gear(gear).map(|_| gear.as_str())
}

/// How many gears shift badly, or which one, as the driver says it.
pub(super) fn gears(model: &Model, s: &Symptom) -> Option<Evidence> {
    let said = s.condition.get("gear")?.as_str();
    let named = named_gear(model.v, s);
    let listed = said.split(',').filter(|g| model.v.gear(g.trim()).is_some()).count();
    let several = matches!(said, "all" | "several") || listed > 1;
    if !several && said != "one" && named.is_none() {
        return None;
    }
    // P(several gears), P(one gear), of a fault of the whole gearbox, of a fault of one gear, of what neither is.
    let of = |one: f64, several_p: f64| if several { several_p } else { one };
    // What is of no gear could have been said of any of them.
    let any_gear = if named.is_some() { 1.0 / model.v.gearbox.gears.len().max(1) as f64 } else { 1.0 };
    let shifting = is_shifting(&s.kind) || s.kind == "grind";
    let single = |h: &super::Hypothesis| match named {
        Some(g) if h.gear.is_some() => {
            if h.gear.as_deref() == Some(g) {
                0.93
            } else {
                0.02
            }
        }
        _ if !shifting => 0.5 * any_gear,
        _ if shows(h, Shows::ShiftAll) => of(0.12, 0.85) * any_gear,
        _ if shows(h, Shows::Shift) => of(0.93, 0.07) * any_gear,
        _ => 0.5 * any_gear,
    };
    if !shifting && named.is_none() {
        return None;
    }
    let mut l: Vec<f64> = vec![];
    for h in model.all {
        l.push(match h.pair {
            Some([a, b]) => 0.5 * (l[a] + l[b]),
            None => single(h).powf(model.k.weights.exponent.driver),
        });
    }
    let words = match named {
        Some(g) => format!("in gear {g} only (the driver says)"),
        None if several => "in several gears (the driver says)".into(),
        None => "in one gear only (the driver says)".into(),
    };
    Some(Evidence { words, test: "shift-feel".into(), at: None, likelihood: l })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::*;
    use serde_json::json;

    fn said(kind: &str, condition: serde_json::Value) -> Vec<(String, String)> {
        let s: Symptom = serde_json::from_value(json!({"id": "S1", "kind": kind, "condition": condition})).unwrap();
        observations(&rear_drive(1), &s).into_iter().map(|o| (o.test, o.outcome)).collect()
    }

    #[test]
    fn every_answer_is_an_observation_of_its_test() {
        let pair = |a: &str, b: &str| (a.to_string(), b.to_string());
        assert_eq!(said("growl", json!({"load": "drive"})), [pair("drive-coast-float", "drive")]);
        assert_eq!(said("growl", json!({"absent": "neutral"})), [pair("neutral-coast", "stops")]);
        assert_eq!(said("growl", json!({"absent": "never"})), [pair("neutral-coast", "persists")]);
        assert_eq!(said("growl", json!({"absent": "clutch"})), [pair("clutch-pedal", "up-only")]);
        assert_eq!(said("growl", json!({"turn": "straight"})), [pair("turn", "none")]);
        assert_eq!(said("growl", json!({"turn": "tight"})), [pair("turn-power", "both")]);
        assert_eq!(said("vibration", json!({"gear": "3"})), [pair("other-gear-same-speed", "stops")]);
        assert_eq!(said("vibration", json!({"gear": ["all"]})), [pair("other-gear-same-speed", "same")]);
        assert_eq!(said("clunk", json!({"load": "change"})), [pair("load-reversal", "clunk")]);
    }

    #[test]
    fn jumping_out_of_one_gear_is_that_gears_own_fault() {
        let mut d = crate::case::Case::new_document("t", "t", json!(rear_drive(1)));
        let ranked = |d: &serde_json::Value| {
            let case = crate::case::Case::from_json(d).unwrap();
            crate::reasoning::diagnose(&case, crate::reasoning::knowledge::builtin(), None).symptoms[0].ranked.clone()
        };
        d["symptoms"] = json!([{"id": "S1", "kind": "jumps-out", "condition": {"gear": "3"}}]);
        let one = ranked(&d);
        assert_eq!((one[0].fault.as_str(), one[0].gear.as_deref()), ("gear-jumps-out", Some("3")));
        assert!(one[0].p > 0.45, "{}", one[0].p);
        d["symptoms"][0]["condition"]["gear"] = "all".into();
        let all = ranked(&d);
        let own: f64 = all.iter().filter(|r| r.fault == "gear-jumps-out").map(|r| r.p).sum();
        assert!(own < 0.1 && all[0].fault == "shift-linkage-worn", "{own} {}", all[0].fault);
    }

    #[test]
    fn unknown_and_what_is_not_listed_say_nothing() {
        assert_eq!(
            said("growl", json!({"load": "unknown", "turn": "unknown", "gear": "9", "loaded": "loaded", "absent": "slow"})),
            []
        );
    }
}
