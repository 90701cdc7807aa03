//! What stands in a case and can be mended by itself.

use serde::{Deserialize, Serialize};

/// What stands in a case and can be mended by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EntryKind {
    /// A symptom.
    Symptom,
    /// What a test came out with.
    Answer,
    /// What an instrument read.
    Reading,
    /// What somebody tried before.
    Attempt,
    /// What was found on the way.
    Finding,
    /// A repair.
    Repair,
    /// A recorded run.
    Run,
    /// A note.
    Note,
    /// What somebody says from outside of what it may be.
    Hint,
    /// A level heard at a place.
    Level,
    /// An answer that was given blind.
    BlindAnswer,
    /// A picture or a spoken note.
    Attachment,
}

impl EntryKind {
    /// All of them.
    pub const ALL: [Self; 12] = [
        Self::Symptom,
        Self::Answer,
        Self::Reading,
        Self::Attempt,
        Self::Finding,
        Self::Repair,
        Self::Run,
        Self::Note,
        Self::Hint,
        Self::Level,
        Self::BlindAnswer,
        Self::Attachment,
    ];

    /// As an address and an edit name it.
    pub fn id(self) -> &'static str {
        match self {
            Self::Symptom => "symptom",
            Self::Answer => "answer",
            Self::Reading => "reading",
            Self::Attempt => "attempt",
            Self::Finding => "finding",
            Self::Repair => "repair",
            Self::Run => "run",
            Self::Note => "note",
            Self::Hint => "hint",
            Self::Level => "level",
            Self::BlindAnswer => "blind-answer",
            Self::Attachment => "attachment",
        }
    }

    /// The list of the case in which it stands.
    pub fn list(self) -> &'static str {
        match self {
            Self::Symptom => "symptoms",
            Self::Answer => "observations",
            Self::Reading => "measurements",
            Self::Attempt => "attempts",
            Self::Finding => "found",
            Self::Repair => "repairs",
            Self::Run => "recordings",
            Self::Note => "notes",
            Self::Hint => "hints",
            Self::Level => "listened",
            Self::BlindAnswer => "votes",
            Self::Attachment => "pinned",
        }
    }
}

/// What is taken out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RemovedEntry {
    /// What it is.
    pub entry: EntryKind,
    /// Its id.
    pub id: String,
}
