//! Tests made and what they came out with: answers, answers given blind, what is asked again later.

use super::entry::{Entry, entry};
use serde::{Deserialize, Serialize};

/// The outcome of a test that could not be made.
pub const NOT_POSSIBLE: &str = "not-possible";
/// The source of what the driver says.
pub const DRIVER: &str = "driver";

/// How a test was made: what a later one must repeat.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct TestCondition {
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// drive, coast, float or change.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throttle: Option<String>,
    /// left, right, both or straight.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub turn: Option<String>,
    /// Warm from the road.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub warm: Option<bool>,
    /// The road, in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub surface: Option<String>,
    /// empty or loaded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cargo: Option<String>,
    /// At which speed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed_kmh: Option<f64>,
}

/// Pulls of a spring balance, as they were read: see [`crate::measure::joint_drag`].
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct BalancePulls {
    /// Where the balance pulls, from the joint's centre.
    pub arm_mm: f64,
    /// Pulls about the one axis, through its travel, N.
    pub first_n: Vec<f64>,
    /// About the other.
    pub second_n: Vec<f64>,
}

/// A test made, and its outcome.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Observation {
    /// Id of the entry; `o3` for the third of a file that names none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Of one symptom; of all when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// Which test.
    pub test: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// What came out.
    #[serde(default)]
    pub outcome: String,
    /// What else is true at once, of a test that allows it: “always, worse pulling”, “play and metal”.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// What was noted with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// What a spring balance pulled, where the outcome was read with one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub balance: Option<BalancePulls>,
    /// Who says so: `driver` weighs less than `mechanic`, the default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// before or after a repair; before when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phase: Option<String>,
    /// The repair that it follows; all open ones when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repair: Option<String>,
    /// How it was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub condition: Option<TestCondition>,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// Who made it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}
entry!(Observation, 'o');

impl Observation {
    /// A mechanic's answer before any repair.
    pub fn new(test: &str, outcome: &str) -> Self {
        Self { test: test.into(), outcome: outcome.into(), ..Self::default() }
    }
    /// Whether it was made after a repair: it says nothing about the cause before it.
    pub fn is_after(&self) -> bool {
        self.phase.as_deref() == Some("after")
    }
    /// The gear it names: in its own key, or as the place `gearbox.3`.
    pub fn named_gear(&self) -> Option<&str> {
        self.gear.as_deref().or_else(|| self.at.as_deref().and_then(|a| a.strip_prefix("gearbox.")))
    }
}

/// What is asked of two people: a test at a place, for a symptom.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Question {
    /// Id of a symptom of the case; none where it concerns all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
}

/// One person's answer, given before the other's was seen.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct BlindAnswer {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// To what.
    #[serde(flatten)]
    pub question: Question,
    /// Whose it is.
    pub by: String,
    /// What they felt.
    pub outcome: String,
    /// What they noted with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// Whether it has been decided upon.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub settled: bool,
}
entry!(BlindAnswer, 'v');

/// Something that was asked and could not be answered: asked again when all else is done.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct AskedLater {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// Why it is put off: too-cold, too-hot, too-wet, not-level, part-awaited; left out where it could not be told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// When it was put off, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
}
entry!(AskedLater, 'k');

impl AskedLater {
    /// Whether it asks the same, whichever entry it is.
    pub fn is_same(&self, test: &str, at: Option<&str>, gear: Option<&str>) -> bool {
        (self.test.as_str(), self.at.as_deref(), self.gear.as_deref()) == (test, at, gear)
    }
}
