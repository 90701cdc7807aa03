//! Repairs of a case, planned or done, and what was changed with them.

use super::entry::{Entry, entry};
use super::fault_at::FaultAt;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// Something else that was changed before the same drive.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum AlsoChanged {
    /// As `fault@place`, or in words.
    Words(String),
    /// As a fault at a place, or a unit.
    Named(NamedChange),
    /// What is not understood.
    Unread(Value),
}

/// A fault at a place or a unit that was changed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct NamedChange {
    /// The fault that it was to cure.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// The unit that was changed whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
}

impl AlsoChanged {
    /// The fault at its place; none where it does not name one.
    pub fn fault_at(&self) -> Option<FaultAt> {
        match self {
            Self::Words(words) => FaultAt::parse(words),
            Self::Named(n) => Some(FaultAt::new(n.fault.clone()?, n.at.clone()?)),
            Self::Unread(_) => None,
        }
    }

    /// In words.
    pub fn words(&self) -> String {
        match self {
            Self::Words(words) => words.clone(),
            Self::Named(n) => [&n.fault, &n.unit, &n.at].into_iter().flatten().cloned().collect::<Vec<_>>().join("@"),
            Self::Unread(v) => v.to_string(),
        }
    }
}

/// A truth value; what is none says no, and a name says yes.
fn truth<'de, D: serde::Deserializer<'de>>(d: D) -> Result<bool, D::Error> {
    Ok(match Value::deserialize(d)? {
        Value::Bool(b) => b,
        Value::String(name) => !name.is_empty(),
        _ => false,
    })
}

/// A torque with where it comes from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Torque {
    /// Of what.
    #[serde(default)]
    pub what: String,
    /// N·m.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nm: Option<f64>,
    /// Where the figure comes from.
    #[serde(default)]
    pub source: String,
    /// Width across flats of the fastener, mm, where it is not the usual one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub drive_mm: Option<f64>,
}

/// A step of a repair that was done.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct StepDone {
    /// Its id in the repair plan.
    #[serde(default)]
    pub step: String,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// Who did it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// Why work began before all lay ready.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub without: Option<String>,
}

/// Something of the kit that is not simply here: it is awaited, or it is borrowed and goes back.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct KitNote {
    /// Id of the entry; `i1` for the first of a file that names none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// A part, a tool, a consumable of the kit.
    #[serde(default)]
    pub what: String,
    /// awaited, borrowed.
    #[serde(default)]
    pub state: String,
    /// Who sends or lends it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// When it comes, or goes back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
    /// When it was noted, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// Who noted it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}
entry!(KitNote, 'i');

impl KitNote {
    /// Where it is, in words: awaited from the north store, Thursday.
    pub fn words(&self) -> String {
        let from = self.from.as_ref().map_or(String::new(), |f| format!(" from {f}"));
        let when = match (&self.when, self.state.as_str()) {
            (Some(w), "borrowed") => format!(", back {w}"),
            (Some(w), _) => format!(", {w}"),
            (None, _) => String::new(),
        };
        format!("{}{from}{when}", self.state)
    }
}

/// A repair, planned or done.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Repair {
    /// Id of the entry; `r1` for the first of a file that names none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Of one symptom; of all when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// The cause it is meant to cure; empty for work without a search (`task`).
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub fault: String,
    /// Work without a search: replace, refit, grease, oil.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub task: Option<String>,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// cured, improved, not-cured, open.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result: Option<String>,
    /// planned, under-way, done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stage: Option<String>,
    /// original, rebuilt, copy, used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// Bought as a complete unit.
    #[serde(default, deserialize_with = "truth", skip_serializing_if = "std::ops::Not::not")]
    pub unit: bool,
    /// Why it was chosen below the workshop's line, or with a cheap parting test open.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Other changes before the same drive.
    #[serde(default, rename = "with", skip_serializing_if = "Vec::is_empty")]
    pub other_changes: Vec<AlsoChanged>,
    /// Several places changed at once.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub places: Vec<String>,
    /// The part in words, where the vehicle's places have none for it: shock absorbers, a hose.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// What will be done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan: Option<String>,
    /// Index marks before a flange is parted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub marks: Option<String>,
    /// Torques with their source.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub torques: Vec<Torque>,
    /// What was noted with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The way in that was chosen, where it is not the usual one: an id of the repair plan's ways.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub way: Option<String>,
    /// Which boot of a half shaft: inner or outer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub boot: Option<String>,
    /// Steps of the plan that are done.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub done: Vec<StepDone>,
    /// When it was chosen, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// Who chose it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}
entry!(Repair, 'r');

impl Repair {
    /// Whether it says that a part was replaced.
    pub fn replaces_part(&self) -> bool {
        self.unit || self.part.is_some() || self.task.as_deref() == Some("replace")
    }

    /// Every place it was made at.
    pub fn all_places(&self) -> impl Iterator<Item = &str> {
        self.at.as_deref().into_iter().chain(self.places.iter().map(String::as_str))
    }

    /// The other faults that were changed before the same drive, where they are named with their place.
    pub fn changed_with(&self) -> impl Iterator<Item = FaultAt> {
        self.other_changes.iter().filter_map(AlsoChanged::fault_at)
    }

    /// What is repaired with it as the same cause: its other places, and the other faults.
    pub fn repaired_with(&self) -> Vec<FaultAt> {
        let more = self.all_places().filter(|at| Some(*at) != self.at.as_deref());
        more.map(|at| FaultAt::new(&self.fault, at)).chain(self.changed_with()).collect()
    }

    /// Whether a fault at a place was repaired with it.
    pub fn mends(&self, fault: &str, at: &str) -> bool {
        self.fault == fault && self.all_places().any(|p| p == at) || self.changed_with().any(|w| w.fault == fault && w.at == at)
    }

    /// Whether it is not judged yet: planned, or made and not proved.
    pub fn is_open(&self) -> bool {
        matches!(self.result.as_deref(), None | Some("open"))
    }

    /// Whether it was made.
    pub fn is_done(&self) -> bool {
        self.result.is_some()
    }

    /// Whether it was made and waits for its proof.
    pub fn waits_for_proof(&self) -> bool {
        self.result.as_deref() == Some("open")
    }

    /// Whether a complete unit was bought for it.
    pub fn is_unit(&self) -> bool {
        self.unit || self.part.as_deref() == Some("unit")
    }
}

/// A part that was changed because it was due.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Due {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// The fault that such a part has.
    #[serde(default)]
    pub fault: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// Of one symptom; of all when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// What came of the drive after it: nothing, better, gone, other.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed: Option<String>,
    /// original, rebuilt, copy, used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// Bought as a complete unit.
    #[serde(default, deserialize_with = "truth", skip_serializing_if = "std::ops::Not::not")]
    pub unit: bool,
    /// Why it was changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// Who changed it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}
entry!(Due, 'd');
