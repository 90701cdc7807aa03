//! What is said of a cause from outside the tests: attempts of others, parts changed as due, hints.

use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What somebody tried before.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Attempt {
    /// As people read it.
    #[serde(default)]
    pub what: String,
    /// The fault it was meant to cure, where that is known.
    #[serde(default)]
    pub fault: Option<String>,
    /// Where.
    #[serde(default)]
    pub at: Option<String>,
    /// The unit that was changed whole.
    #[serde(default)]
    pub unit: Option<String>,
    /// What else was changed before the same drive.
    #[serde(default)]
    pub with: Vec<Value>,
    /// original, rebuilt, copy, used.
    #[serde(default)]
    pub part: Option<String>,
    /// What it changed: nothing, better, gone or other.
    #[serde(default)]
    pub changed: Option<String>,
    /// How far it is trusted: seen by us, on a bill, or hearsay.
    #[serde(default)]
    pub trust: Option<String>,
}

/// A part that was changed because it was due.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Due {
    /// The fault that such a part has.
    #[serde(default)]
    pub fault: String,
    /// Where.
    #[serde(default)]
    pub at: Option<String>,
    /// What came of the drive after it: nothing, better, gone, other.
    #[serde(default)]
    pub changed: Option<String>,
    /// original, rebuilt, copy, used.
    #[serde(default)]
    pub part: Option<String>,
}

/// A hint from outside: usual on this model, says somebody.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Hint {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where; everywhere when left out.
    #[serde(default)]
    pub at: Option<String>,
    /// Who says so.
    #[serde(default)]
    pub source: String,
    /// Hearsay, or seen by the one who says it.
    #[serde(default)]
    pub trust: Option<String>,
}

/// The entries of a list that can be read; what cannot stays in the document and does not weigh.
pub(crate) fn readable<'de, D, T>(d: D) -> Result<Vec<T>, D::Error>
where
    D: serde::Deserializer<'de>,
    T: serde::de::DeserializeOwned,
{
    let all = Value::deserialize(d)?;
    Ok(all.as_array().into_iter().flatten().filter_map(|v| serde_json::from_value(v.clone()).ok()).collect())
}
