//! Whether the vehicle may be driven, and what was found on the way: both beside the search for the cause.

use crate::case::entries::read_entries;
use crate::case::{Case, Observation};
use crate::error::Problem;
use crate::reasoning::{Danger, Diagnosis};
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
    pub answers: Vec<Suspect>,
    /// How many observations the case had then: what is seen later at a suspect's part is proposed again.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub observations: usize,
}

fn is_zero(n: &usize) -> bool {
    *n == 0
}

impl ClearanceStatement {
    /// Whether it answered a suspect, and nothing was seen at that part since. A list that has become shorter answers nothing.
    fn answered(&self, case: &Case, fault: &str, at: &str) -> bool {
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

/// A fault at a place that makes driving a danger.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Suspect {
    /// The fault.
    pub fault: String,
    /// Where.
    pub at: String,
}

/// In words, without the reason.
fn drive_words(drive: Clearance, km: Option<f64>, kmh: Option<f64>) -> String {
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
fn strictness(drive: Clearance, km: Option<f64>, kmh: Option<f64>) -> (u8, f64, f64) {
    let open = |x: Option<f64>| x.unwrap_or(f64::INFINITY);
    match drive {
        Clearance::No => (2, 0.0, 0.0),
        Clearance::Limited => (1, open(km), open(kmh)),
        Clearance::Yes => (0, f64::INFINITY, f64::INFINITY),
    }
}

/// A statement on driving that the evidence proposes and nobody has said yet.
#[derive(Clone, Debug, PartialEq)]
pub struct Proposal {
    /// no, or limited.
    pub drive: Clearance,
    /// How far at the most, km.
    pub km: Option<f64>,
    /// How fast at the most, km/h.
    pub kmh: Option<f64>,
    /// Why, in words.
    pub why: String,
    /// Its suspects.
    pub suspects: Vec<Suspect>,
}

impl Proposal {
    /// In words, without the reason.
    pub fn words(&self) -> String {
        drive_words(self.drive, self.km, self.kmh)
    }
}

/// The strictest statement that the symptoms' suspects propose, where what was said last is milder and did not answer them.
pub fn proposed_clearance(document: &Value, case: &Case, diagnosis: &Diagnosis) -> Option<Proposal> {
    let said = stated_clearance(document);
    let covered = |d: &Danger| {
        let Some(s) = &said else { return false };
        let (a, b) = (strictness(s.drive, s.km, s.kmh), strictness(d.drive, d.km, d.kmh));
        let as_strict = a.0 > b.0 || a.0 == b.0 && a.1 <= b.1 && a.2 <= b.2;
        let answered = d.faults.iter().all(|f| s.answered(case, &f.fault, &f.at));
        as_strict || answered
    };
    let open = diagnosis.symptoms.iter().filter_map(|s| s.danger.as_ref()).filter(|d| !covered(d));
    let strictest = open.max_by(|a, b| {
        let (a, b) = (strictness(a.drive, a.km, a.kmh), strictness(b.drive, b.km, b.kmh));
        a.0.cmp(&b.0).then(b.1.total_cmp(&a.1)).then(b.2.total_cmp(&a.2))
    })?;
    Some(Proposal {
        drive: strictest.drive,
        km: strictest.km,
        kmh: strictest.kmh,
        why: strictest.why.clone(),
        suspects: strictest.faults.iter().map(|f| Suspect { fault: f.fault.clone(), at: f.at.clone() }).collect(),
    })
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
        drive_words(self.drive, self.km, self.kmh)
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

/// Refuses what would send the vehicle onto the road while it must not be driven.
pub fn check_drive(case: &crate::case::Case) -> Result<(), Problem> {
    match case.grounded {
        false => Ok(()),
        true => Err(Problem::new("grounded", "this vehicle is not to be driven: say first that it may").field("safety")),
    }
}

/// Something found on the way: no cause of what is traced.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SafetyFinding {
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
pub fn safety_findings(document: &Value) -> Vec<(usize, SafetyFinding)> {
    read_entries(document, "found")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn the_last_statement_counts_and_says_how_far_and_how_fast() {
        assert_eq!(stated_clearance(&json!({})), None);
        let d = json!({"safety": [
            {"drive": "no", "reason": "cross joint binds", "by": "Maren"},
            {"drive": "limited", "reason": "to the ferry only", "km": 12, "kmh": 50, "by": "Tovi"}]});
        let s = stated_clearance(&d).unwrap();
        assert_eq!(s.words(), "To be driven at most 12 km, no faster than 50 km/h");
        assert!(s.check().is_ok());
        let one = |drive: &str| ClearanceStatement { drive: Clearance::named(drive).unwrap(), km: None, kmh: None, ..s.clone() };
        assert_eq!((one("no").words().as_str(), one("yes").words().as_str()), ("Not to be driven", "Safe to drive"));
        assert_eq!(Clearance::named("perhaps"), None);
    }

    #[test]
    fn what_cannot_be_read_grounds_the_vehicle() {
        let fine = json!({"drive": "yes", "reason": "joint renewed", "by": "Maren"});
        assert_eq!(stated_clearance(&json!({"safety": [{"drive": "?"}, fine]})).unwrap().drive, Clearance::Yes);
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
            let s = stated_clearance(&json!({"safety": [fine, last]})).unwrap();
            assert_eq!((s.drive, s.by.as_str()), (Clearance::No, "Baricord"), "{last}");
        }
        for whole in [json!("yes"), json!({"drive": "yes"}), json!(1)] {
            assert_eq!(stated_clearance(&json!({"safety": whole})).unwrap().drive, Clearance::No);
        }
        assert_eq!(stated_clearance(&json!({"safety": []})), None);
        assert_eq!(stated_clearance(&json!({"safety": null})), None);
    }

    #[test]
    fn a_statement_without_reason_or_limit_is_none() {
        let s = |drive, reason: &str, km| ClearanceStatement {
            drive,
            reason: reason.into(),
            km,
            kmh: None,
            by: "Maren".into(),
            answers: vec![],
            observations: 0,
        };
        assert_eq!(s(Clearance::No, " ", None).check().unwrap_err().field.as_deref(), Some("reason"));
        assert_eq!(s(Clearance::Limited, "worn", None).check().unwrap_err().field.as_deref(), Some("km"));
        assert_eq!(s(Clearance::Limited, "worn", Some(-3.0)).check().unwrap_err().field.as_deref(), Some("km"));
        assert!(s(Clearance::Yes, "joint renewed, run without a sign", None).check().is_ok());
    }

    #[test]
    fn what_was_found_is_read_and_written_back() {
        let f =
            SafetyFinding { what: "boot cracked".into(), at: Some("half.fl.outer".into()), by: "Maren".into(), settled: false };
        assert_eq!(safety_findings(&json!({"found": [{"what": 3}, f]})), [(1, f)]);
    }

    /// A danger that is proposed stays until a person has answered it.
    #[test]
    fn a_proposal_stands_until_somebody_answers_it() {
        use crate::reasoning::{diagnose, knowledge::builtin};
        let mut d = crate::case::Case::new_document("c", "t", json!(crate::vehicle::sample::front_drive()));
        d["symptoms"] = json!([{"id": "S1", "kind": "knock"}]);
        d["observations"] = json!([{"test": "wheel-nut-check", "at": "wheel.fl", "outcome": "loose"}]);
        let of = |d: &Value| {
            let c = crate::case::Case::from_json(d).unwrap();
            proposed_clearance(d, &c, &diagnose(&c, builtin(), None))
        };
        let p = of(&d).unwrap();
        assert_eq!((p.drive, p.words().as_str()), (Clearance::No, "Not to be driven"));
        assert!(p.why.contains("front left"), "{}", p.why);
        let say = |drive: &str, answers: Value| json!([{"drive": drive, "reason": "seen", "by": "Maren", "answers": answers, "observations": 1}]);
        d["safety"] = say("no", json!([]));
        assert_eq!(of(&d), None, "said");
        // Somebody said yes before the nuts were looked at: it is proposed again.
        d["safety"] = say("yes", json!([]));
        assert!(of(&d).is_some());
        d["safety"] = say("yes", json!(p.suspects));
        assert_eq!(of(&d), None, "answered by name");
        // Found loose once more after that: it is proposed again.
        let again = d["observations"][0].clone();
        d["observations"].as_array_mut().unwrap().push(again);
        assert!(of(&d).is_some(), "seen again");
        d["safety"] = json!([{"drive": "limited", "reason": "home", "by": "Maren", "km": 5}]);
        assert!(of(&d).is_some(), "milder than what is proposed");
    }
}
