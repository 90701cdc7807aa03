//! An answer to a test as a form gives it, checked against what the test can answer.

use super::knowledge::Test;
use crate::case::{Case, NOT_POSSIBLE};
use crate::error::Problem;
use crate::safety::cautions::require_checks;

/// What a test came out with.
#[derive(Clone, Debug, PartialEq)]
pub struct TestAnswer {
    /// The outcome, or [`NOT_POSSIBLE`].
    pub outcome: String,
    /// The place where it was made, or which the outcome names.
    pub at: Option<String>,
    /// Outcomes that are true at the same time.
    pub also: Vec<String>,
    /// The outcome in words.
    pub words: String,
}

impl Test {
    /// Reads an answer: `outcome`, or `outcome@place` of a test whose outcomes name places, with what is true at the same time.
    /// A place in the outcome goes before `at`; `ticked` are the checks that were seen to before it.
    ///
    /// # Errors
    /// `unknown-outcome` at `outcome`: the test has no such outcome, or none that can be true beside another; `caution`
    /// at `seen-to`.
    pub fn answer(
        &self,
        case: &Case,
        said: &str,
        at: Option<&str>,
        also: &[String],
        ticked: &[String],
    ) -> Result<TestAnswer, Problem> {
        let answer = self.read_answer(said, at, also)?;
        if answer.outcome != NOT_POSSIBLE {
            require_checks(case, self, ticked)?;
        }
        Ok(answer)
    }

    /// Reads an answer as [`Self::answer`] does, of a test that is not made for it: what was written down is corrected.
    ///
    /// # Errors
    /// `unknown-outcome` at `outcome`.
    pub fn read_answer(&self, said: &str, at: Option<&str>, also: &[String]) -> Result<TestAnswer, Problem> {
        let (outcome, place) = said.split_once('@').map_or((said, None), |(outcome, place)| (outcome, Some(place)));
        let unknown = |o: &str| {
            let message = format!("{} has no outcome “{o}”", self.id);
            Problem::new("unknown-outcome", message).field("outcome")
        };
        let at = place.or(at).map(String::from);
        if outcome == NOT_POSSIBLE {
            let words = "cannot be made here".into();
            return Ok(TestAnswer { outcome: outcome.into(), at, also: vec![], words });
        }
        let rule = self.outcome(outcome).ok_or_else(|| unknown(outcome))?;
        let also: Vec<String> = also.iter().filter(|a| *a != outcome).cloned().collect();
        if let Some(o) = also.iter().find(|o| !self.several || self.outcome(o).is_none()) {
            return Err(unknown(o));
        }
        Ok(TestAnswer { outcome: outcome.into(), at, also, words: rule.words.clone() })
    }
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::*;

    fn car() -> Case {
        let v = crate::vehicle::sample::rear_drive(1);
        Case::from_json(&Case::new_document("c", "t", serde_json::json!(v))).unwrap()
    }
    fn test(id: &str) -> &'static Test {
        builtin().test(id).unwrap()
    }

    #[test]
    fn an_outcome_brings_the_place_that_it_names() {
        let a = test("lash-watch").answer(&car(), "slip@prop.rear.slip", Some("gearbox"), &[], &[]).unwrap();
        assert_eq!((a.outcome.as_str(), a.at.as_deref()), ("slip", Some("prop.rear.slip")));
        let a = test("spin-by-hand").answer(&car(), "rough", Some("hub.fl"), &[], &[]).unwrap();
        assert_eq!((a.outcome.as_str(), a.at.as_deref(), a.words.is_empty()), ("rough", Some("hub.fl"), false));
    }

    #[test]
    fn what_a_test_cannot_answer_is_refused() {
        let list = |also: &[&str]| also.iter().map(|a| (*a).to_string()).collect::<Vec<_>>();
        let refused = |id: &str, said: &str, also: &[&str]| test(id).answer(&car(), said, None, &list(also), &[]).unwrap_err();
        assert_eq!(refused("turn", "sideways", &[]).field.as_deref(), Some("outcome"));
        assert!(refused("turn", "left", &["right"]).message.contains("right"));
        assert!(refused("oil-look", "steel", &["gold"]).message.contains("gold"));
        let both = test("oil-look").answer(&car(), "steel", Some("diff.rear"), &list(&["steel", "low"]), &[]).unwrap();
        assert_eq!(both.also, ["low"]);
    }

    #[test]
    fn wheels_are_not_turned_before_it_was_seen_to() {
        let t = test("lift-run");
        assert_eq!(t.answer(&car(), "heard@hub.fl", None, &[], &[]).unwrap_err().code, "caution");
        let all: Vec<String> = crate::safety::cautions::running_checks(&car(), t).iter().map(|c| c.id.to_string()).collect();
        assert!(t.answer(&car(), "heard@hub.fl", None, &[], &all).is_ok());
        assert_eq!(t.answer(&car(), "heard@hub.fl", None, &[], &all[1..]).unwrap_err().field.as_deref(), Some("seen-to"));
        // Saying that it cannot be made here turns nothing.
        assert_eq!(t.answer(&car(), NOT_POSSIBLE, None, &["heard".into()], &[]).unwrap().also, Vec::<String>::new());
    }
}
