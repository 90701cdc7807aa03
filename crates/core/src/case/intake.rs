//! The intake: questions that follow from the answers, the condition under which a symptom was heard,
//! and what to do when it cannot be heard again.

use crate::case::Symptom;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::LazyLock;

/// The answers to a symptom's questions: question to answer.
pub type Condition = BTreeMap<String, String>;

/// The question whether it was heard by whoever is to trace it.
pub const HEARD: &str = "heard";

/// An answer that can be picked.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Answer {
    /// Id that is kept in the case file.
    pub id: String,
    /// On screen.
    pub words: String,
    /// What is done to hear it again.
    #[serde(default)]
    pub again: String,
}

/// A question of the intake, asked when its conditions hold.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Question {
    /// Id that is kept in the case file.
    pub id: String,
    /// As it is said.
    pub ask: String,
    /// Kinds of symptom for which it is asked; none for all.
    #[serde(default)]
    kinds: Vec<String>,
    /// An earlier question and the answers after which it is asked.
    #[serde(default)]
    after: Vec<String>,
    /// What can be picked, in this order.
    pub answers: Vec<Answer>,
}

/// When it comes: what is asked before all else.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct When {
    /// Its id, as the form sends it.
    pub id: String,
    /// On screen.
    pub words: String,
    /// Questions that it answers, each with its answer.
    #[serde(default)]
    answers: Vec<(String, String)>,
    /// A test that would have shown it, with its outcome.
    #[serde(default)]
    pub shows: Option<(String, String)>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default)]
    when: Vec<When>,
    question: Vec<Question>,
}

fn parse(text: &str) -> Result<(Vec<When>, Vec<Question>), String> {
    let File { when, question: all } = toml::from_str::<File>(text).map_err(|e| e.to_string())?;
    for w in &when {
        let answered = |(of, answer): &(String, String)| all.iter().any(|q| q.id == *of && q.answer(answer).is_some());
        if let Some((of, answer)) = w.answers.iter().find(|a| !answered(a)) {
            return Err(format!("{}: {of} has no answer {answer}", w.id));
        }
    }
    for (i, q) in all.iter().enumerate() {
        if all[..i].iter().any(|p| p.id == q.id) {
            return Err(format!("{} stands twice", q.id));
        }
        if let Some(k) = q.kinds.iter().find(|k| !crate::case::vocabulary::KINDS.contains(&k.as_str())) {
            return Err(format!("{}: {k} is no kind of symptom", q.id));
        }
        if let Some((of, answers)) = q.after.split_first() {
            let earlier = all[..i].iter().find(|p| p.id == *of).ok_or(format!("{}: {of} is no earlier question", q.id))?;
            if let Some(a) = answers.iter().find(|a| !earlier.answers.iter().any(|x| x.id == **a)) {
                return Err(format!("{}: {of} has no answer {a}", q.id));
            }
        }
    }
    Ok((when, all))
}

static INTAKE: LazyLock<(Vec<When>, Vec<Question>)> =
    LazyLock::new(|| match parse(include_str!("../../knowledge/intake.toml")) {
        Ok(all) => all,
        // The file is compiled in and a test reads it: this cannot be met by a user.
        Err(e) => unreachable!("the questions that ship do not fit together: {e}"),
    });

impl Question {
    fn is_asked(&self, s: &Symptom) -> bool {
        let of_kind = self.kinds.is_empty() || self.kinds.contains(&s.kind);
        let follows = self
            .after
            .split_first()
            .is_none_or(|(of, answers)| s.condition.get(of).is_some_and(|a| answers.iter().any(|x| x == a)));
        of_kind && follows
    }

    /// The answer with this id.
    pub fn answer(&self, id: &str) -> Option<&Answer> {
        self.answers.iter().find(|a| a.id == id)
    }
}

/// All questions that ship.
pub fn questions() -> &'static [Question] {
    &INTAKE.1
}

/// What can be said of when it comes.
pub fn whens() -> &'static [When] {
    &INTAKE.0
}

/// What several answers to one question come to: both sides, or all; where the question has no such answer it is left open.
fn joined(q: &Question, one: &str, other: &str) -> String {
    if one == other {
        return one.into();
    }
    let wider = ["both", "all", "several", "unknown"].into_iter().find(|id| q.answer(id).is_some());
    wider.unwrap_or(one).into()
}

/// The answers to the intake's questions that are said with when it comes.
pub fn condition_of<'w>(said: impl IntoIterator<Item = &'w When>) -> Condition {
    let mut out = Condition::new();
    for (question, answer) in said.into_iter().flat_map(|w| &w.answers) {
        let Some(q) = questions().iter().find(|q| q.id == *question) else { continue };
        let answer = out.get(question).map_or(answer.clone(), |has| joined(q, has, answer));
        out.insert(question.clone(), answer);
    }
    out
}

/// The next question for a symptom; none when all that follow are answered.
pub fn next_question(s: &Symptom) -> Option<&'static Question> {
    questions().iter().find(|q| !s.condition.contains_key(&q.id) && q.is_asked(s))
}

/// What was answered, question by question, in words.
pub fn answered(s: &Symptom) -> Vec<(&'static Question, &'static Answer)> {
    questions().iter().filter_map(|q| Some((q, q.answer(s.condition.get(&q.id)?)?))).collect()
}

/// The condition under which it was heard, in a few words: for every later comparison.
pub fn condition_words(s: &Symptom) -> String {
    answered(s)
        .into_iter()
        .filter(|(q, a)| q.id != HEARD && q.id != "absent" && !matches!(a.id.as_str(), "all" | "unknown" | "several"))
        .map(|(_, a)| a.words.clone())
        .collect::<Vec<_>>()
        .join(", ")
}

/// Whether it could not be heard again so far.
pub fn is_unheard(s: &Symptom) -> bool {
    matches!(s.condition.get(HEARD).map(String::as_str), Some("no" | "not-yet"))
}

/// What to try so that it is heard again, in order; the last step stands when all else fails.
pub fn plan_to_hear(s: &Symptom) -> Vec<String> {
    let mut out = vec!["The driver drives and points: whoever traces it sits where it is felt.".to_string()];
    let r = s.speed_kmh.unwrap_or_default();
    match (r.from, r.peak, r.to) {
        (_, Some(p), _) => out.push(format!("Around {p:.0} km/h: from ten below to ten above, slowly.")),
        (Some(a), None, Some(b)) => out.push(format!("From {a:.0} to {b:.0} km/h, slowly through.")),
        _ => out.push("From walking pace to the legal speed, slowly through, in one gear.".into()),
    }
    for (_, a) in answered(s) {
        if !a.again.is_empty() {
            let mut words = a.again.clone();
            if let Some(first) = words.get_mut(0..1) {
                first.make_ascii_uppercase();
            }
            out.push(format!("{words}."));
        }
    }
    out.push("Still nothing: let the recorder ride along for a week, and the driver note the minute when it comes.".into());
    out.push("Until it is heard no part is bought for it.".into());
    out
}

/// How far what was tried before is trusted.
pub const TRUST: [(&str, &str); 3] = [("seen", "seen by us"), ("bill", "on a bill"), ("told", "someone says so")];

/// What a change that somebody tried before did to the symptom.
pub const CHANGED: [(&str, &str); 4] =
    [("nothing", "nothing"), ("better", "better for a while"), ("gone", "gone for a while"), ("other", "it changed otherwise")];

/// Whether an earlier attempt counts as earlier work, which raises what such work can cause.
pub fn counts_as_work(trust: &str) -> bool {
    trust != "hearsay"
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::vocabulary::KINDS;

    fn symptom(kind: &str, answers: &[(&str, &str)]) -> Symptom {
        let condition: Condition = answers.iter().map(|(q, a)| ((*q).to_string(), (*a).to_string())).collect();
        serde_json::from_value(serde_json::json!({"id": "S1", "kind": kind, "condition": condition})).unwrap()
    }

    #[test]
    fn questions_follow_from_the_answers_and_end() {
        for kind in KINDS {
            let mut s = symptom(kind, &[]);
            let mut asked = vec![];
            while let Some(q) = next_question(&s) {
                assert!(!asked.contains(&q.id), "{kind}: {} twice", q.id);
                asked.push(q.id.clone());
                s.condition.insert(q.id.clone(), q.answers[0].id.clone());
            }
            assert!(asked.len() >= 4 && asked[0] == HEARD, "{kind}: {asked:?}");
        }
        let slow = |turn| {
            let s = symptom("growl", &[("heard", "yes"), ("load", "all"), ("turn", turn)]);
            next_question(&s).unwrap().id == "slow"
        };
        assert!(slow("left") && !slow("straight"));
        assert!(!questions().iter().find(|q| q.id == "load").unwrap().is_asked(&symptom("leak", &[])));
    }

    #[test]
    fn what_cannot_be_heard_has_a_plan_made_of_its_condition() {
        let s = symptom("vibration", &[("heard", "no"), ("load", "drive"), ("temperature", "cold"), ("surface", "all")]);
        assert!(is_unheard(&s) && !is_unheard(&symptom("vibration", &[("heard", "yes")])));
        let plan = plan_to_hear(&s);
        assert!(plan.contains(&"Pull lightly at that speed.".to_string()), "{plan:?}");
        assert!(plan.iter().any(|p| p.starts_with("After a night's standing")) && plan.last().unwrap().contains("no part"));
        assert_eq!(condition_words(&s), "pulls, cold, the first kilometres");
    }

    #[test]
    fn a_question_that_does_not_fit_is_named() {
        let q =
            |rest: &str| parse(&format!("[[question]]\nid='a'\nask='?'\nanswers=[{{id='x',words='x'}}]\n{rest}")).unwrap_err();
        assert!(q("[[question]]\nid='a'\nask='?'\nanswers=[]").contains("twice"));
        assert!(q("[[question]]\nid='b'\nask='?'\nafter=['a','y']\nanswers=[]").contains("no answer y"));
        assert!(q("[[question]]\nid='b'\nask='?'\nafter=['c']\nanswers=[]").contains("no earlier"));
        assert!(q("[[question]]\nid='b'\nask='?'\nkinds=['hum']\nanswers=[]").contains("hum"));
    }
}
