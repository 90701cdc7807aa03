//! The case file's schema and the types of a case say the same: each property that is documented has a typed field.

use baricord_core::case::Case;
use baricord_core::case::document::{CaseDocument, unknown_keys};
use baricord_core::edit::act::CaseAct;
use baricord_core::vehicle::sample::rear_drive;
use serde_json::{Map, Value, json};

fn schema() -> Value {
    serde_json::from_str(include_str!("../../../../docs/case.schema.json")).unwrap()
}

/// Keys that are kept apart: what makes a file a case, and what older files hold under `due`.
const APART: [&str; 3] = ["format", "version", "vehicle"];

/// Something that a schema allows, with every property that it names.
fn example(of: &Value) -> Value {
    let first = |v: &Value| v.as_array().and_then(|a| a.iter().find(|x| !x.is_null()).cloned());
    if let Some(word) = first(&of["enum"]) {
        return word;
    }
    let kind = first(&of["type"]).or(Some(of["type"].clone())).unwrap_or_default();
    match kind.as_str() {
        _ if of["format"] == "date-time" => "2026-11-29T08:00:00Z".into(),
        Some("object") => match of["properties"].as_object() {
            Some(all) => Value::Object(all.iter().map(|(k, v)| (k.clone(), example(v))).collect::<Map<_, _>>()),
            None => json!({}),
        },
        Some("array") => match &of["items"] {
            Value::Null => json!(["x"]),
            items => json!([example(items)]),
        },
        Some("boolean") => true.into(),
        Some("number" | "integer") => 1.into(),
        _ => "x".into(),
    }
}

fn whole() -> Value {
    let mut d = Case::new_document("c", "t", json!(rear_drive(2)));
    for (key, of) in schema()["properties"].as_object().unwrap().iter().filter(|(k, _)| !APART.contains(&k.as_str())) {
        d[key] = example(of);
    }
    d["symptoms"][0]["speed_kmh"] = json!({"from": 1, "peak": 2, "to": 3});
    d["symptoms"][0]["condition"] = json!({"heard": "yes"});
    d["dimension_changes"][0]["before"] = d["vehicle"].clone();
    d["measurements"][0]["input"] = json!({"mm": [1, 2, 3, 4]});
    d
}

#[test]
fn each_property_of_the_schema_has_a_typed_field() {
    let d = whole();
    let read = CaseDocument::read(d.clone()).unwrap_or_else(|p| panic!("{p:?}"));
    assert_eq!(unknown_keys(&d), Vec::<String>::new());
    assert_eq!(read.text(), d.to_string(), "written back as it was");
    // And it is read, not only kept: nothing of the lists is left out.
    let case = read.case();
    let lists = [
        case.observations.len(),
        case.votes.len(),
        case.asked_later.len(),
        case.recordings.len(),
        case.measurements.len(),
        case.repairs.len(),
        case.replaced_as_due.len(),
        case.attempts.len(),
        case.hints.len(),
        case.found.len(),
        case.opinions.len(),
        case.pinned.len(),
        case.listened.len(),
        case.compared.len(),
        case.safety.len(),
        case.history.len(),
        case.history_denied.len(),
    ];
    assert_eq!(lists, [1; 17]);
    assert!(case.due.is_some() && case.state.is_some() && case.clearance().is_some_and(|c| c.by == "x"));
}

#[test]
fn each_field_of_a_case_is_documented() {
    let d = whole();
    let mut read = CaseDocument::read(d).unwrap();
    // An edit writes what the types hold: what they add to the document is in the schema, too.
    let other = Case { title: "other".into(), ..read.case().clone() };
    read.replace(|_| Ok(((), other))).unwrap();
    let schema = schema();
    let of = |key: &str| schema["properties"][key]["items"]["properties"].as_object().cloned().unwrap_or_default();
    for (key, value) in read.json().as_object().unwrap().iter().filter(|(k, _)| !APART.contains(&k.as_str())) {
        assert!(schema["properties"].get(key).is_some(), "{key}");
        for entry in value.as_array().into_iter().flatten().filter_map(Value::as_object) {
            let unknown: Vec<&String> = entry.keys().filter(|k| !of(key).contains_key(*k)).collect();
            assert!(unknown.is_empty(), "{key}: {unknown:?}");
        }
    }
}

/// Every act is in the guide to edits, with an example that reads.
#[test]
fn each_act_is_documented_with_an_example_that_reads() {
    let guide = include_str!("../../../../docs/edits.md");
    let unknown = serde_json::from_value::<CaseAct>(json!({"no-such-act": {}})).unwrap_err().to_string();
    let acts: Vec<&str> = unknown.split('`').skip(3).step_by(2).collect();
    assert!(acts.len() > 30, "{unknown}");
    let examples: Vec<Value> = guide.split('`').filter_map(|t| serde_json::from_str(t).ok()).filter(Value::is_object).collect();
    for act in acts {
        let example = examples.iter().find(|e| e.get(act).is_some()).unwrap_or_else(|| panic!("{act} has no example"));
        let read: CaseAct = serde_json::from_value(example.clone()).unwrap_or_else(|e| panic!("{act}: {e}"));
        assert!(serde_json::to_value(read).unwrap().get(act).is_some());
    }
}
