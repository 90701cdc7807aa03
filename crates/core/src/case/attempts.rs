//! What is said of a cause from outside the tests: attempts of others, hints.

use super::entry::{Entry, entry};
use super::repair::AlsoChanged;
use serde::{Deserialize, Serialize};

/// What somebody tried before.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Attempt {
    /// Id of the entry; `a1` for the first of a file that names none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// As people read it.
    #[serde(default)]
    pub what: String,
    /// The fault it was meant to cure, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The unit that was changed whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// What else was changed before the same drive.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<AlsoChanged>,
    /// original, rebuilt, copy, used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// What it changed: nothing, better, gone or other.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed: Option<String>,
    /// What came of it, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<String>,
    /// How far it is trusted: seen by us, on a bill, or hearsay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
    /// Who tried it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// When it was told, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
}
entry!(Attempt, 'a');

/// A hint from outside: usual on this model, says somebody.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Hint {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where; everywhere when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// Who says so.
    #[serde(default)]
    pub source: String,
    /// Hearsay, or seen by the one who says it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
}
entry!(Hint, 'h');
