//! What acts on a repair say: its details, how it is made, its steps, what lies ready for it.

use crate::case::{Repair, Torque};
use serde::{Deserialize, Serialize};

/// What will be, or was, done in a repair; what is left out stays as it is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct RepairDetails {
    /// Id of the repair.
    pub id: String,
    /// What will be done.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plan: Option<String>,
    /// Index marks before a flange is parted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub marks: Option<String>,
    /// A note.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// original, rebuilt, copy, used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// Torques with their source; those that stand there are replaced.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub torques: Vec<Torque>,
}

/// What a plan asks of a repair; what is left out stays as it is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct RepairSpecification {
    /// Id of the repair.
    pub id: String,
    /// The way in, an id of the plan's ways; empty for the usual one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub way: Option<String>,
    /// In which gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// inner or outer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub boot: Option<String>,
}

/// Steps of the repair plan.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RepairSteps {
    /// Id of a repair that they are for.
    pub id: String,
    /// Their ids.
    pub steps: Vec<String>,
    /// Whether they are of the plan that puts all back unrepaired.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub put_back: bool,
    /// Why work begins before all lies ready.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub without: Option<String>,
}

/// Where something of the kit is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewKitNote {
    /// A part, a tool, a consumable, as the kit names it.
    pub what: String,
    /// here (it lies ready, or went back), awaited, borrowed.
    pub state: String,
    /// Who sends or lends it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// When it comes, or goes back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
}

/// When the vehicle must be handed back.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Deadline {
    /// RFC 3339; left out: whenever it is ready.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub due: Option<String>,
}

impl RepairDetails {
    /// Leaves only what says something else than the repair has: a form sends all its fields.
    #[must_use]
    pub fn only_new(mut self, has: &Repair) -> Self {
        for (said, there) in
            [(&mut self.plan, &has.plan), (&mut self.marks, &has.marks), (&mut self.note, &has.note), (&mut self.part, &has.part)]
        {
            if said == there {
                *said = None;
            }
        }
        if self.torques == has.torques {
            self.torques = vec![];
        }
        self
    }
}
