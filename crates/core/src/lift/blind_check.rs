//! Feel is voted blind: two people answer one question before either sees the other's answer. Alike, it counts as
//! observed; where they differ both answers are shown, and one of them decides or both feel again.

use crate::case::{BlindAnswer, Question};
use imbl::Vector;

/// How a question stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum BlindStatus {
    /// Nobody has voted.
    Open,
    /// One has, and a second person is waited for; the answer stays hidden.
    Waits {
        /// Who has voted.
        by: String,
    },
    /// Two have.
    Both(Box<[BlindAnswer; 2]>),
}

impl BlindStatus {
    /// Of a question, among the answers that are not decided.
    pub fn new(votes: &Vector<BlindAnswer>, question: &Question) -> Self {
        let mut open = votes.iter().filter(|v| !v.settled && v.question == *question);
        match (open.next(), open.next()) {
            (None, _) => BlindStatus::Open,
            (Some(one), None) => BlindStatus::Waits { by: one.by.clone() },
            (Some(one), Some(other)) => BlindStatus::Both(Box::new([one.clone(), other.clone()])),
        }
    }
}

/// Why an answer is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refused {
    /// The same person has voted already.
    Twice,
    /// Two have voted already.
    Full,
}

/// Takes an answer in. When it is the second and both felt alike, both are decided, and their outcome is returned.
pub fn cast(votes: &mut Vector<BlindAnswer>, vote: BlindAnswer) -> Result<Option<String>, Refused> {
    match BlindStatus::new(votes, &vote.question) {
        BlindStatus::Waits { by } if by == vote.by => return Err(Refused::Twice),
        BlindStatus::Both(..) => return Err(Refused::Full),
        BlindStatus::Open | BlindStatus::Waits { .. } => {}
    }
    let question = vote.question.clone();
    votes.push_back(vote);
    Ok(match BlindStatus::new(votes, &question) {
        BlindStatus::Both(two) if two[0].outcome == two[1].outcome => {
            settle(votes, &question);
            Some(two[0].outcome.clone())
        }
        _ => None,
    })
}

/// The answers on a question that wait, and whether this person may say which of them stands: of a single one only who
/// cast it, so that nobody reads it before they have felt it themselves.
pub fn to_decide(votes: &Vector<BlindAnswer>, question: &Question, person: &str) -> (Vec<BlindAnswer>, bool) {
    let open: Vec<BlindAnswer> = votes.iter().filter(|v| !v.settled && v.question == *question).cloned().collect();
    let may = match &open[..] {
        [] => false,
        [one] => one.by == person,
        _ => true,
    };
    (open, may)
}

/// Marks the answers on a question as decided; who gave them.
pub fn settle(votes: &mut Vector<BlindAnswer>, question: &Question) -> Vec<String> {
    votes
        .iter_mut()
        .filter(|v| !v.settled && v.question == *question)
        .map(|v| {
            v.settled = true;
            v.by.clone()
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn vote(at: &str, by: &str, outcome: &str) -> BlindAnswer {
        let question = Question { symptom: None, test: "joint-wiggle".into(), at: Some(at.into()), gear: None };
        BlindAnswer { question, by: by.into(), outcome: outcome.into(), ..BlindAnswer::default() }
    }

    #[test]
    fn two_who_feel_alike_have_observed_and_two_who_do_not_are_shown() {
        let mut v = Vector::new();
        assert_eq!(cast(&mut v, vote("j1", "Maren", "play")), Ok(None));
        assert_eq!(BlindStatus::new(&v, &v[0].question), BlindStatus::Waits { by: "Maren".into() });
        assert!(to_decide(&v, &v[0].question, "Maren").1 && !to_decide(&v, &v[0].question, "Tovi").1);
        assert_eq!(cast(&mut v, vote("j1", "Maren", "none")), Err(Refused::Twice));
        assert_eq!(cast(&mut v, vote("j2", "Maren", "none")), Ok(None));
        assert_eq!(cast(&mut v, vote("j1", "Tovi", "play")), Ok(Some("play".into())));
        assert_eq!(BlindStatus::new(&v, &v[0].question), BlindStatus::Open);
        assert_eq!(cast(&mut v, vote("j2", "Tovi", "play")), Ok(None));
        let q = vote("j2", "", "").question;
        assert!(matches!(BlindStatus::new(&v, &q), BlindStatus::Both(two) if two[0].by == "Maren" && two[1].outcome == "play"));
        assert_eq!(cast(&mut v, vote("j2", "Jon", "play")), Err(Refused::Full));
        assert_eq!(settle(&mut v, &q), ["Maren", "Tovi"]);
        assert_eq!(BlindStatus::new(&v, &q), BlindStatus::Open);
    }

    #[test]
    fn votes_are_read_from_a_case_and_written_back() {
        let case = |votes: serde_json::Value| {
            crate::case::sample::case(crate::vehicle::sample::rear_drive(1), &[serde_json::json!({ "votes": votes })])
        };
        let v = BlindAnswer { id: "v2".into(), ..vote("prop.rear.j1", "Maren", "play") };
        let written = serde_json::json!(vote("prop.rear.j1", "Maren", "play"));
        assert_eq!(written["at"], "prop.rear.j1");
        assert!(case("nonsense".into()).votes.is_empty());
        assert_eq!(case(serde_json::json!([{"test": 1}, written, 7])).votes, Vector::unit(v));
    }

    proptest! {
        #[test]
        fn never_more_than_two_are_open_and_never_of_one_person(cast_by in prop::collection::vec((0..3usize, 0..2usize, 0..2usize), 0..40)) {
            let mut v = Vector::new();
            for (by, at, outcome) in cast_by {
                let _ = cast(&mut v, vote(["j1", "j2"][at], ["A", "B", "C"][by], ["play", "none"][outcome]));
                for at in ["j1", "j2"] {
                    let open: Vec<_> = v.iter().filter(|x| !x.settled && x.question.at.as_deref() == Some(at)).collect();
                    prop_assert!(open.len() <= 2);
                    prop_assert!(open.len() < 2 || open[0].by != open[1].by && open[0].outcome != open[1].outcome);
                }
            }
        }
    }
}
