//! Whether the vehicle may be driven, and what was found on the way: both beside the search for the cause.

use crate::entries::read_entries;
use crate::problem::Problem;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// May it be driven?
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Drive {
    /// Not at all.
    No,
    /// So far, and no faster than so.
    Limited,
    /// Without limits: what was said before is cleared.
    Yes,
}

impl Drive {
    /// By its word.
    pub fn named(word: &str) -> Option<Self> {
        serde_json::from_value(word.into()).ok()
    }
}

/// A statement on driving. The last one of a case counts.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Statement {
    /// Whether.
    pub drive: Drive,
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
}

impl Statement {
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
        if self.drive == Drive::Limited && self.km.is_none() && self.kmh.is_none() {
            return Err(Problem::new("missing", "how far, or how fast at the most?").field("km"));
        }
        Ok(())
    }

    /// In words, without the reason.
    pub fn words(&self) -> String {
        let limits = match (self.km, self.kmh) {
            (Some(km), Some(kmh)) => format!("at most {km:.0} km, no faster than {kmh:.0} km/h"),
            (Some(km), None) => format!("at most {km:.0} km"),
            (None, Some(kmh)) => format!("no faster than {kmh:.0} km/h"),
            (None, None) => String::new(),
        };
        match self.drive {
            Drive::No => "Not to be driven".into(),
            Drive::Limited => format!("To be driven {limits}"),
            Drive::Yes => "Safe to drive".into(),
        }
    }
}

/// What a case's document says now on driving: its last statement. One that cannot be read, or that lacks
/// its reason or limit, grounds the vehicle until somebody says again.
pub fn statement(document: &Value) -> Option<Statement> {
    let last = match document.get("safety")? {
        Value::Null => return None,
        Value::Array(all) => all.last()?,
        other => other,
    };
    let read = serde_json::from_value::<Statement>(last.clone()).ok().filter(|s| s.check().is_ok());
    Some(read.unwrap_or_else(|| Statement {
        drive: Drive::No,
        reason: "the last statement on driving cannot be read: say again whether it may be driven".into(),
        km: None,
        kmh: None,
        by: "Baricord".into(),
    }))
}

/// Refuses what would send the vehicle onto the road while it must not be driven.
pub fn check_drive(case: &crate::case::Case) -> Result<(), Problem> {
    match case.grounded {
        false => Ok(()),
        true => Err(Problem::new("grounded", "this vehicle is not to be driven: say first that it may").field("safety")),
    }
}

/// Something found on the way: no cause of what is traced.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Found {
    /// What.
    pub what: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// By whom.
    #[serde(default)]
    pub by: String,
    /// Whether it has been put right.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub settled: bool,
}

/// What was found on the way, oldest first, each with its place in the list.
pub fn found(document: &Value) -> Vec<(usize, Found)> {
    read_entries(document, "found")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn the_last_statement_counts_and_says_how_far_and_how_fast() {
        assert_eq!(statement(&json!({})), None);
        let d = json!({"safety": [
            {"drive": "no", "reason": "cross joint binds", "by": "Maren"},
            {"drive": "limited", "reason": "to the ferry only", "km": 12, "kmh": 50, "by": "Tovi"}]});
        let s = statement(&d).unwrap();
        assert_eq!(s.words(), "To be driven at most 12 km, no faster than 50 km/h");
        assert!(s.check().is_ok());
        let one = |drive: &str| Statement { drive: Drive::named(drive).unwrap(), km: None, kmh: None, ..s.clone() };
        assert_eq!((one("no").words().as_str(), one("yes").words().as_str()), ("Not to be driven", "Safe to drive"));
        assert_eq!(Drive::named("perhaps"), None);
    }

    #[test]
    fn what_cannot_be_read_grounds_the_vehicle() {
        let fine = json!({"drive": "yes", "reason": "joint renewed", "by": "Maren"});
        assert_eq!(statement(&json!({"safety": [{"drive": "?"}, fine]})).unwrap().drive, Drive::Yes);
        for last in [
            json!({"drive": "maybe", "reason": "x", "by": "A"}),
            json!({"drive": "yes"}),
            json!({"drive": "yes", "reason": "x"}),
            json!({"drive": "limited", "reason": "x", "by": "A"}),
            json!({"drive": "limited", "reason": "x", "by": "A", "km": -1}),
            json!({"drive": "yes", "reason": "x", "by": "A", "km": "far"}),
            json!("yes"),
            json!(null),
        ] {
            let s = statement(&json!({"safety": [fine, last]})).unwrap();
            assert_eq!((s.drive, s.by.as_str()), (Drive::No, "Baricord"), "{last}");
        }
        for whole in [json!("yes"), json!({"drive": "yes"}), json!(1)] {
            assert_eq!(statement(&json!({"safety": whole})).unwrap().drive, Drive::No);
        }
        assert_eq!(statement(&json!({"safety": []})), None);
        assert_eq!(statement(&json!({"safety": null})), None);
    }

    #[test]
    fn a_statement_without_reason_or_limit_is_none() {
        let s = |drive, reason: &str, km| Statement { drive, reason: reason.into(), km, kmh: None, by: "Maren".into() };
        assert_eq!(s(Drive::No, " ", None).check().unwrap_err().field.as_deref(), Some("reason"));
        assert_eq!(s(Drive::Limited, "worn", None).check().unwrap_err().field.as_deref(), Some("km"));
        assert_eq!(s(Drive::Limited, "worn", Some(-3.0)).check().unwrap_err().field.as_deref(), Some("km"));
        assert!(s(Drive::Yes, "joint renewed, run without a sign", None).check().is_ok());
    }

    #[test]
    fn what_was_found_is_read_and_written_back() {
        let f = Found { what: "boot cracked".into(), at: Some("half.fl.outer".into()), by: "Maren".into(), settled: false };
        assert_eq!(found(&json!({"found": [{"what": 3}, f]})), [(1, f)]);
    }
}
