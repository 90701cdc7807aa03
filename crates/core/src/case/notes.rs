//! What stands beside the search for the cause: notes, findings on the way, second opinions, pictures and spoken notes.

use super::entry::{Entry, entry};
use serde::{Deserialize, Serialize};

/// Something found on the way: no cause of what is traced.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SafetyFinding {
    /// Id of the entry; `f1` for the first of a file that names none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// What was found, in words.
    pub what: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// By whom.
    #[serde(default)]
    pub by: String,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// Whether it has been put right.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub settled: bool,
}
entry!(SafetyFinding, 'f');

/// Something worth remembering that weighs nothing.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Note {
    /// Id of the entry; `n1` for the first of a file that names none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// What was said or seen, in words.
    pub text: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// By whom.
    #[serde(default)]
    pub by: String,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
}
entry!(Note, 'n');

/// A question to somebody outside, and the answer where it has come.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Opinion {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// What was asked.
    pub question: String,
    /// Who asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked_by: Option<String>,
    /// The answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<String>,
    /// Whose answer it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}
entry!(Opinion, 'q');

/// A picture or a spoken note, a file of the case.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Attachment {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Where it stands in the case: `pinned/…`.
    pub file: String,
    /// At which test it was taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub test: Option<String>,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// By whom.
    #[serde(default)]
    pub by: String,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
}
entry!(Attachment, 'p');

/// Endings of pictures that browsers show.
const PICTURES: [&str; 3] = ["jpg", "png", "webp"];

impl Attachment {
    /// Whether it is a picture; else it is heard.
    pub fn is_picture(&self) -> bool {
        self.file.rsplit_once('.').is_some_and(|(_, ending)| PICTURES.contains(&ending))
    }
}
