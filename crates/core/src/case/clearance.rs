//! What a person says on driving: the statement that stands in a case. The last one counts, and one that cannot be read grounds.

use super::fault_at::FaultAt;
use super::{Case, Observation};
use crate::error::Problem;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// May it be driven?
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Clearance {
    /// Not at all.
    No,
    /// So far, and no faster than so.
    Limited,
    /// Without limits: what was said before is cleared.
    Yes,
}

impl Clearance {
    /// By its word.
    pub fn named(word: &str) -> Option<Self> {
        serde_json::from_value(word.into()).ok()
    }
}

/// A statement on driving. The last one of a case counts.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ClearanceStatement {
    /// Whether.
    pub drive: Clearance,
    /// Why.
    pub reason: String,
    /// How far at the most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub km: Option<f64>,
    /// How fast at the most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kmh: Option<f64>,
    /// Who says so.
    pub by: String,
    /// What had been proposed when it was said: it is not proposed again for these.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<FaultAt>,
    /// How many observations the case had then: what is seen later at a suspect's part is proposed again.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub observations: usize,
}

fn is_zero(n: &usize) -> bool {
    *n == 0
}

impl ClearanceStatement {
    /// Whether it answered a suspect, and nothing was seen at that part since. A list that has become shorter answers nothing.
    pub(crate) fn answered(&self, case: &Case, fault: &str, at: &str) -> bool {
        let place = case.vehicle.place(at);
        let there = |o: &Observation| match (o.at.as_deref().and_then(|a| case.vehicle.place(a)), &place) {
            (Some(o), Some(p)) => o.same_assembly(p),
            // What names no part may be of any.
            _ => true,
        };
        let named = self.answers.iter().any(|x| x.fault == fault && x.at == at);
        named && case.observations.get(self.observations..).is_some_and(|later| !later.iter().any(there))
    }
}

/// In words, without the reason.
pub(crate) fn clearance_words(drive: Clearance, km: Option<f64>, kmh: Option<f64>) -> String {
    let limits = match (km, kmh) {
        (Some(km), Some(kmh)) => format!("at most {km:.0} km, no faster than {kmh:.0} km/h"),
        (Some(km), None) => format!("at most {km:.0} km"),
        (None, Some(kmh)) => format!("no faster than {kmh:.0} km/h"),
        (None, None) => "with care".into(),
    };
    match drive {
        Clearance::No => "Not to be driven".into(),
        Clearance::Limited => format!("To be driven {limits}"),
        Clearance::Yes => "Safe to drive".into(),
    }
}

/// How strict something said or proposed is: whether it may be driven, how far, how fast.
pub(crate) fn strictness(drive: Clearance, km: Option<f64>, kmh: Option<f64>) -> (u8, f64, f64) {
    let open = |x: Option<f64>| x.unwrap_or(f64::INFINITY);
    match drive {
        Clearance::No => (2, 0.0, 0.0),
        Clearance::Limited => (1, open(km), open(kmh)),
        Clearance::Yes => (0, f64::INFINITY, f64::INFINITY),
    }
}

impl ClearanceStatement {
    /// What does not fit in it.
    pub fn check(&self) -> Result<(), Problem> {
        if self.reason.trim().is_empty() {
            return Err(Problem::new("missing", "say why").field("reason"));
        }
        for (x, field) in [(self.km, "km"), (self.kmh, "kmh")] {
            if x.is_some_and(|x| !(x.is_finite() && x > 0.0)) {
                return Err(Problem::new("bad-number", "a limit is more than nothing").field(field));
            }
        }
        if self.drive == Clearance::Limited && self.km.is_none() && self.kmh.is_none() {
            return Err(Problem::new("missing", "how far, or how fast at the most?").field("km"));
        }
        Ok(())
    }

    /// In words, without the reason.
    pub fn words(&self) -> String {
        clearance_words(self.drive, self.km, self.kmh)
    }
}

/// What a case's document says now on driving: its last statement. One that cannot be read, or that lacks
/// its reason or limit, grounds the vehicle until somebody says again.
pub fn stated_clearance(document: &Value) -> Option<ClearanceStatement> {
    let last = match document.get("safety")? {
        Value::Null => return None,
        Value::Array(all) => all.last()?,
        other => other,
    };
    let read = serde_json::from_value::<ClearanceStatement>(last.clone()).ok().filter(|s| s.check().is_ok());
    Some(read.unwrap_or_else(|| ClearanceStatement {
        drive: Clearance::No,
        reason: "the last statement on driving cannot be read: say again whether it may be driven".into(),
        km: None,
        kmh: None,
        by: "Baricord".into(),
        answers: vec![],
        observations: 0,
    }))
}
