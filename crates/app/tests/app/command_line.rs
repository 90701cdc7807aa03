//! The program as scripts call it: JSON out, one error object on standard error, exit status 2.

use serde_json::{Value, json};
use std::io::Write;
use std::path::Path;
use std::process::{Command, Output, Stdio};

fn baricord(args: &[&str], input: &str) -> Output {
    let mut child = Command::new(env!("CARGO_BIN_EXE_baricord"))
        .args(args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the program starts");
    // A program that ends before it has read everything closes its end.
    let _ = child.stdin.take().expect("a pipe").write_all(input.as_bytes());
    child.wait_with_output().expect("the program ends")
}

fn answer(args: &[&str], input: &str) -> Value {
    let o = baricord(args, input);
    assert!(o.status.success(), "{args:?}: {}", String::from_utf8_lossy(&o.stderr));
    serde_json::from_slice(&o.stdout).expect("JSON on standard output")
}

fn problem(args: &[&str], input: &str) -> Value {
    let o = baricord(args, input);
    assert_eq!(o.status.code(), Some(2), "{args:?}");
    let e: Value = serde_json::from_slice(&o.stderr)
        .unwrap_or_else(|_| panic!("one object on standard error: {}", String::from_utf8_lossy(&o.stderr)));
    assert!(e["error"]["code"].is_string() && e["error"]["message"].is_string());
    e["error"].clone()
}

fn vehicle() -> Value {
    json!({"name": "Fulmar mail van", "tyre": {"size": "215/70R15"}, "engine": {"cylinders": 4, "strokes": 4},
        "gearbox": {"kind": "manual", "gears": [{"name": "4", "ratio": 1.0}, {"name": "5", "ratio": 0.84}]},
        "axles": [{"end": "rear", "driven": true, "kind": "solid", "pinion_teeth": 10, "ring_teeth": 41}, {"end": "front", "driven": false, "kind": "independent"}],
        "props": [{"end": "rear", "slip": "gearbox", "sections": [{"length_mm": 1400, "od_mm": 76.2, "wall_mm": 1.65}], "joints": ["cross", "cross"]}]})
}

fn write(dir: &Path, name: &str, v: &Value) -> String {
    let path = dir.join(name);
    std::fs::write(&path, v.to_string()).unwrap();
    path.to_str().unwrap().to_string()
}

#[test]
fn calculations_answer_and_problems_name_the_field() {
    let t = answer(&["calc", "tyre"], r#"{"size": "235/65R16"}"#);
    assert!((t["diameter_mm"].as_f64().unwrap() - 711.9).abs() < 1e-9);
    let b = answer(&["calc", "bearing"], r#"{"elements": 9, "element_mm": 7.94, "pitch_mm": 38.5, "contact_deg": 0}"#);
    assert!((b["inner"].as_f64().unwrap() - 5.428).abs() < 5e-4);
    assert_eq!(problem(&["calc", "tyre"], r#"{"size": "round"}"#)["field"], "size");
    assert_eq!(problem(&["calc", "tyre"], "{\n oops")["line"], 2);
    assert_eq!(problem(&["calc", "moon"], "{}")["code"], "unknown-calculation");
    assert_eq!(problem(&["fly"], "")["code"], "usage");
    assert_eq!(problem(&["diagnose", "/nowhere"], "")["code"], "cannot-read");
}

#[test]
fn a_simulated_case_is_analysed_diagnosed_and_proved() {
    let dir = tempfile::tempdir().unwrap();
    let v = write(dir.path(), "van.json", &vehicle());
    let out = dir.path().join("case.zip");
    let out = out.to_str().unwrap();
    let run = |more: &[&str]| {
        let mut args =
            vec!["simulate", "--vehicle", &v, "--out", out, "--gear", "5", "--from", "45", "--to", "115", "--seconds", "60"];
        args.extend_from_slice(more);
        baricord(&args, "")
    };
    assert!(run(&["--fault", "prop-imbalance@prop.rear.s1:0.8", "--seed", "4"]).status.success());
    assert_eq!(run(&["--fault", "prop-imbalance@prop.rear.s1"]).status.code(), Some(2), "an existing case is not written over");
    assert!(run(&["--fault", "prop-imbalance@prop.rear.s1:0.03", "--seed", "5", "--phase", "after", "--add"]).status.success());
    let a = answer(&["analyze", out, "--json"], "");
    assert_eq!(a["recordings"].as_array().unwrap().len(), 2);
    let o = &a["recordings"][0]["orders"][0];
    assert!((o["order"].as_f64().unwrap() - 4.1).abs() < 0.03 && o["base"] == "wheel");
    for key in [
        "channel",
        "order_sigma",
        "amplitude_ms2",
        "amplitude_sigma_ms2",
        "felt",
        "peak_speed_kmh",
        "peak_hz",
        "growth",
        "sources",
    ] {
        assert!(!o[key].is_null(), "{key}");
    }
    let only = answer(&["analyze", out, "--recording", "R2", "--json"], "");
    assert_eq!(only["recordings"][0]["id"], "R2");
    assert_eq!(problem(&["analyze", out, "--recording", "R9", "--json"], "")["code"], "unknown-recording");
    let d = answer(&["diagnose", out, "--json"], "");
    let ranked = d["symptoms"][0]["ranked"].as_array().unwrap();
    assert!(ranked[0]["fault"].as_str().unwrap().starts_with("prop-"), "{}", ranked[0]);
    let sum: f64 = ranked.iter().map(|r| r["p"].as_f64().unwrap()).sum();
    assert!((sum - 1.0).abs() < 1e-6);
    let p = answer(&["verify", out, "--json"], "");
    assert_eq!(p["symptoms"][0]["verdict"], "cured", "{}", p["symptoms"][0]["orders"][0]);
    for (verb, word) in [("analyze", "Tyre scale"), ("diagnose", "next:"), ("verify", "cured")] {
        let o = baricord(&[verb, out], "");
        assert!(String::from_utf8_lossy(&o.stdout).contains(word), "{verb} in words");
    }
}

#[test]
fn a_repair_plan_as_json_and_as_a_sheet() {
    let dir = tempfile::tempdir().unwrap();
    let mut case = json!({"format": "baricord-case", "version": 1, "id": "c", "vehicle": vehicle(), "symptoms": [],
        "repairs": [{"fault": "joint-worn", "at": "prop.rear.j1"}, {"id": "P2", "fault": "joint-worn", "at": "prop.rear.j9"},
            {"fault": "tyre-noise", "at": "wheel.fl", "result": "cured"}]});
    let path = write(dir.path(), "case.json", &case);
    let p = answer(&["repair-plan", &path, "--json"], "");
    let order = p["schedule"]["order"].as_array().unwrap();
    assert_eq!((order.len(), p["steps"][0]["for"][0].as_str()), (p["steps"].as_array().unwrap().len(), Some("r1")));
    assert_eq!(
        (p["problems"][0]["code"].as_str(), p["problems"][0]["at"].as_str()),
        (Some("unknown-place"), Some("prop.rear.j9"))
    );
    let o = baricord(&["repair-plan", &path], "");
    let text = String::from_utf8_lossy(&o.stdout);
    assert!(text.contains("On the lift") && text.contains("14 mm (9/16)") && text.contains("cannot be planned"), "{text}");
    // What is off is put back: nothing of the repair itself.
    case["repairs"][0]["done"] = json!(order.iter().take(12).map(|id| json!({"step": id})).collect::<Vec<_>>());
    let path = write(dir.path(), "begun.json", &case);
    let back = answer(&["repair-plan", &path, "--json", "--put-back"], "");
    let roles: Vec<&str> = back["steps"].as_array().unwrap().iter().filter_map(|s| s["role"].as_str()).collect();
    assert!(!roles.contains(&"press-out") && !roles.contains(&"remove") && roles.contains(&"torque"), "{roles:?}");
    assert!(back["steps"].as_array().unwrap().len() < p["steps"].as_array().unwrap().len());
    let none = answer(
        &[
            "repair-plan",
            &write(dir.path(), "none.json", &json!({"format": "baricord-case", "version": 1, "id": "c", "vehicle": vehicle()})),
            "--json",
        ],
        "",
    );
    assert_eq!(none["steps"], json!([]));
}

#[test]
fn one_bad_recording_is_a_warning_and_only_bad_ones_are_an_error() {
    let dir = tempfile::tempdir().unwrap();
    let mut case = json!({"format": "baricord-case", "version": 1, "id": "c", "vehicle": vehicle(),
        "symptoms": [{"id": "S1", "kind": "vibration"}], "recordings": [{"id": "R1", "file": "recordings/missing.csv", "gear": "5",
        "time": {"column": "t"}, "channels": [{"column": "az", "quantity": "acceleration"}], "speed": {"column": "speed"}}]});
    let path = write(dir.path(), "case.json", &case);
    assert_eq!(problem(&["analyze", &path, "--json"], "")["code"], "missing-file");
    let d = answer(&["diagnose", &path, "--json"], "");
    assert_eq!(d["warnings"][0]["code"], "missing-file");
    assert_eq!(d["warnings"][0]["at"], "R1");
    case["version"] = 7.into();
    let path = write(dir.path(), "seven.json", &case);
    assert_eq!(problem(&["diagnose", &path], "")["field"], "version");
    case["version"] = 1.into();
    case["vehicle"]["axles"][0]["end"] = "top".into();
    let path = write(dir.path(), "top.json", &case);
    assert_eq!(problem(&["diagnose", &path], "")["field"], "vehicle.axles[0].end");
}

#[test]
fn what_can_be_simulated_is_listed_and_what_cannot_is_refused() {
    let o = baricord(&["simulate", "--list"], "");
    let text = String::from_utf8_lossy(&o.stdout);
    for id in ["wheel-imbalance", "prop-imbalance", "prop-bent", "joint-angle", "engine-order"] {
        assert!(text.contains(id), "{id}");
    }
    let dir = tempfile::tempdir().unwrap();
    let v = write(dir.path(), "van.json", &vehicle());
    let out = dir.path().join("x");
    let args = ["simulate", "--vehicle", &v, "--out", out.to_str().unwrap(), "--fault", "prop-imbalance@prop.front.s1"];
    assert_eq!(problem(&args, "")["field"], "fault");
    assert!(!out.exists(), "nothing half-written is left");
}
