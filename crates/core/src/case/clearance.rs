//! What a person says on driving: the statement that stands in a case. The last one counts, and one that cannot be read grounds.

use super::entry::{Entry, write_ids};
use super::fault_at::FaultAt;
use super::{Case, Observation};
use crate::error::Problem;
use imbl::Vector;
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
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
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
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
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
        named && self.observations <= case.observations.len() && !case.observations.iter().skip(self.observations).any(there)
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

/// A statement as it stands in a case: one that cannot be read is kept, and grounds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Stated {
    /// It reads.
    Read(ClearanceStatement),
    /// It does not.
    Unread(Value),
}

impl Entry for Stated {
    const LETTER: char = 's';
    fn id(&self) -> &str {
        match self {
            Stated::Read(s) => &s.id,
            Stated::Unread(v) => v.get("id").and_then(Value::as_str).unwrap_or_default(),
        }
    }
    fn set_id(&mut self, id: String) {
        match self {
            Stated::Read(s) => s.id = id,
            Stated::Unread(v) => {
                if let Some(map) = v.as_object_mut() {
                    map.insert("id".into(), id.into());
                }
            }
        }
    }
}

/// The statements of a case. What stands in the place of the list and is none is a statement that cannot be read.
pub(super) fn statements<'de, D: serde::Deserializer<'de>>(d: D) -> Result<Vector<Stated>, D::Error> {
    let mut all = match Value::deserialize(d)? {
        Value::Null => vec![],
        Value::Array(all) => all,
        other => vec![other],
    };
    write_ids(&mut all, Stated::LETTER, |_| true);
    let read = |v: Value| serde_json::from_value(v.clone()).map_or(Stated::Unread(v), Stated::Read);
    Ok(all.into_iter().map(read).collect())
}

/// Why a vehicle is grounded whose last statement cannot be read.
pub const UNREAD: &str = "the last statement on driving cannot be read: say again whether it may be driven";

impl Case {
    /// What the case says now on driving: its last statement. One that cannot be read, or that lacks its reason or limit, grounds
    /// the vehicle until somebody says again.
    pub fn clearance(&self) -> Option<ClearanceStatement> {
        let read = match self.safety.last()? {
            Stated::Read(s) => s.check().is_ok().then(|| s.clone()),
            Stated::Unread(_) => None,
        };
        Some(read.unwrap_or_else(|| ClearanceStatement {
            id: String::new(),
            drive: Clearance::No,
            reason: UNREAD.into(),
            km: None,
            kmh: None,
            by: "Baricord".into(),
            at_time: None,
            answers: vec![],
            observations: 0,
        }))
    }

    /// Whether it was said that it is not to be driven: no drive is proposed.
    pub fn is_grounded(&self) -> bool {
        self.clearance().is_some_and(|s| s.drive == Clearance::No)
    }
}
