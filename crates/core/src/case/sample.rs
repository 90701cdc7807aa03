//! Cases for tests.

use super::Case;
use crate::vehicle::Vehicle;
use serde_json::{Value, json};

/// A case of a vehicle whose document has the keys of all parts; of one key the last counts.
pub(crate) fn case(v: Vehicle, parts: &[Value]) -> Case {
    let mut document = Case::new_document("c", "Case", json!(v));
    for (key, value) in parts.iter().filter_map(Value::as_object).flatten() {
        document[key] = value.clone();
    }
    Case::from_json(&document).expect("a case")
}

/// A case with one symptom `S1` of a kind.
pub(crate) fn case_with_symptom(v: Vehicle, kind: &str, more: Value) -> Case {
    case(v, &[json!({"symptoms": [{"id": "S1", "kind": kind}]}), more])
}

/// The same on the lift or on the ground, with nothing off.
pub(crate) fn case_standing(v: Vehicle, kind: &str, on: &str) -> Case {
    case_with_symptom(v, kind, json!({"state": {"on": on, "off": []}}))
}
