//! Whether the vehicle may be driven, and what was found on the way: both beside the search for the cause.

use crate::case::Case;
use crate::case::clearance::{Clearance, clearance_words, strictness};
use crate::case::fault_at::FaultAt;
use crate::error::Problem;
use crate::reasoning::{Danger, Diagnosis};
use serde::{Deserialize, Serialize};

/// A statement on driving that the evidence proposes and nobody has said yet.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Proposal {
    /// no, or limited.
    pub drive: Clearance,
    /// How far at the most, km.
    pub km: Option<f64>,
    /// How fast at the most, km/h.
    pub kmh: Option<f64>,
    /// Why, in words.
    pub why: String,
    /// The faults for which it is proposed.
    pub suspects: Vec<FaultAt>,
}

impl Proposal {
    /// In words, without the reason.
    pub fn words(&self) -> String {
        clearance_words(self.drive, self.km, self.kmh)
    }
}

/// The strictest statement that the symptoms' suspects propose, where what was said last is milder and did not answer them.
pub fn proposed_clearance(case: &Case, diagnosis: &Diagnosis) -> Option<Proposal> {
    let said = case.clearance();
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
        suspects: strictest.faults.clone(),
    })
}

/// Refuses what would send the vehicle onto the road while it must not be driven.
pub fn check_drive(case: &crate::case::Case) -> Result<(), Problem> {
    match case.is_grounded() {
        false => Ok(()),
        true => Err(Problem::new("grounded", "this vehicle is not to be driven: say first that it may").field("safety")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::clearance::ClearanceStatement;
    use crate::case::sample;
    use crate::vehicle::sample::front_drive;
    use serde_json::{Value, json};

    fn stated(more: Value) -> Option<ClearanceStatement> {
        sample::case(front_drive(), &[more]).clearance()
    }

    #[test]
    fn the_last_statement_counts_and_says_how_far_and_how_fast() {
        assert_eq!(stated(json!({})), None);
        let d = json!({"safety": [
            {"drive": "no", "reason": "cross joint binds", "by": "Maren"},
            {"drive": "limited", "reason": "to the ferry only", "km": 12, "kmh": 50, "by": "Tovi"}]});
        let s = stated(d).unwrap();
        assert_eq!(s.words(), "To be driven at most 12 km, no faster than 50 km/h");
        assert!(s.check().is_ok());
        let one = |drive: &str| ClearanceStatement { drive: Clearance::named(drive).unwrap(), km: None, kmh: None, ..s.clone() };
        assert_eq!((one("no").words().as_str(), one("yes").words().as_str()), ("Not to be driven", "Safe to drive"));
        assert_eq!(Clearance::named("perhaps"), None);
    }

    #[test]
    fn what_cannot_be_read_grounds_the_vehicle() {
        let fine = json!({"drive": "yes", "reason": "joint renewed", "by": "Maren"});
        assert_eq!(stated(json!({"safety": [{"drive": "?"}, fine]})).unwrap().drive, Clearance::Yes);
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
            let s = stated(json!({"safety": [fine, last]})).unwrap();
            assert_eq!((s.drive, s.by.as_str()), (Clearance::No, "Baricord"), "{last}");
        }
        for whole in [json!("yes"), json!({"drive": "yes"}), json!(1)] {
            assert_eq!(stated(json!({"safety": whole})).unwrap().drive, Clearance::No);
        }
        assert_eq!(stated(json!({"safety": []})), None);
        assert_eq!(stated(json!({"safety": null})), None);
    }

    #[test]
    fn a_statement_without_reason_or_limit_is_none() {
        let s = |drive, reason: &str, km| ClearanceStatement {
            id: String::new(),
            at_time: None,
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
    fn what_was_found_is_read_and_what_cannot_be_is_left_out() {
        let c = sample::case(
            front_drive(),
            &[json!({"found": [{"what": 3}, {"what": "boot cracked", "at": "half.fl.outer", "by": "Maren"}]})],
        );
        assert_eq!(c.found.iter().map(|f| (f.id.as_str(), f.what.as_str())).collect::<Vec<_>>(), [("f2", "boot cracked")]);
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
            proposed_clearance(&c, &diagnose(&c, builtin(), None))
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
