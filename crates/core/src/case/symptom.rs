//! What is wrong, as the driver tells it.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// Speeds at which a symptom is there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SpeedRange {
    /// Lower end, km/h.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<f64>,
    /// Strongest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak: Option<f64>,
    /// To.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<f64>,
}

/// One symptom, traced on its own.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Symptom {
    /// Its id in the case.
    pub id: String,
    /// What it is.
    pub kind: String,
    /// Where it is felt.
    #[serde(default)]
    pub felt: Vec<String>,
    /// Where it is heard from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heard_from: Option<String>,
    /// At which speeds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed_kmh: Option<SpeedRange>,
    /// The driver's words.
    #[serde(default)]
    pub words: String,
    /// Since when, in the driver's words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Under which condition it was heard: answers to the intake's questions. A list of answers is joined by commas.
    #[serde(default, deserialize_with = "answers", skip_serializing_if = "BTreeMap::is_empty")]
    pub condition: BTreeMap<String, String>,
    /// It comes and goes by itself: one silence is weak.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub intermittent: bool,
}

impl Symptom {
    /// Whether one silence is weak: it comes and goes, or it did not come when it was listened for.
    pub fn is_intermittent(&self) -> bool {
        self.intermittent || self.condition.get("heard").is_some_and(|h| h == "no")
    }
}

/// Answers as texts: a list joined by commas, a truth value or number in words; what is an object says nothing.
fn answers<'de, D: serde::Deserializer<'de>>(d: D) -> Result<BTreeMap<String, String>, D::Error> {
    fn text(v: &Value) -> Option<String> {
        match v {
            Value::String(s) => Some(s.clone()),
            Value::Bool(b) => Some(b.to_string()),
            Value::Number(n) => Some(n.to_string()),
            Value::Array(all) => Some(all.iter().filter_map(text).collect::<Vec<_>>().join(",")),
            Value::Null | Value::Object(_) => None,
        }
    }
    let given: BTreeMap<String, Value> = BTreeMap::deserialize(d)?;
    Ok(given.iter().filter_map(|(k, v)| Some((k.clone(), text(v)?))).collect())
}
