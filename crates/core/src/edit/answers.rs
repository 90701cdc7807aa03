//! Rules of tests and readings.

use super::act::{BlindDecision, BlindResult, LaterTest, MeasuredReading, SwungJoint, TestResult};
use super::words::{known, need_gear, need_place, need_symptom, need_test, note};
use super::{Applied, CaseEdit, EditContext};
use crate::case::{AskedLater, BlindAnswer, Case, Measurement, Observation, Question};
use crate::error::Problem;
use crate::lift::blind_check::{Refused, cast, settle, to_decide};
use crate::lift::vehicle_state::{observed, warm_until};
use crate::measure::instrument::{Reading, instrument};
use crate::reasoning::knowledge::Test;
use crate::reasoning::test_answer::TestAnswer;
use crate::reasoning::wording::test_words;
use crate::safety::cautions::require_checks;
use crate::workflow::owed::{REASONS, reason_words};

/// Puts an observation into the case, with who made it and when.
fn keep(x: &EditContext, case: &mut Case, e: &CaseEdit, rule: &Test, o: Observation) -> String {
    let id = e.entry_id();
    let o = Observation { id: id.clone(), at_time: e.time(), by: e.person(), ..o };
    observed(case, o, rule, &warm_until(x.knowledge, e.at_time));
    id
}

/// What a test came out with as an observation, in words too; without an id, a person and a time.
pub(super) fn observation_of(
    x: &EditContext,
    case: &Case,
    t: &TestResult,
    answer: TestAnswer,
) -> Result<(Observation, String), Problem> {
    let rule = need_test(x.knowledge, &t.test)?;
    need_symptom(case, t.symptom.as_deref())?;
    need_place(case, answer.at.as_deref())?;
    need_gear(case, t.gear.as_deref())?;
    t.source.iter().try_for_each(|s| known(s, &["driver", "mechanic"], "unknown-source", "source"))?;
    t.phase.iter().try_for_each(|p| known(p, &["before", "after"], "unknown-phase", "phase"))?;
    if let Some(c) = &t.condition {
        need_gear(case, c.gear.as_deref())?;
        c.throttle.iter().try_for_each(|v| known(v, &["drive", "coast", "float", "change"], "unknown-answer", "throttle"))?;
        c.turn.iter().try_for_each(|v| known(v, &["left", "right", "both", "straight"], "unknown-answer", "turn"))?;
        c.cargo.iter().try_for_each(|v| known(v, &["empty", "loaded"], "unknown-answer", "cargo"))?;
    }
    if let Some(r) = t.repair.as_ref().filter(|r| !case.repairs.iter().any(|x| x.id == **r)) {
        return Err(Problem::new("missing", format!("{r} is no repair of this case")).field("repair"));
    }
    let asked = test_words(x.knowledge, &case.vehicle, &rule.id, t.at.as_deref(), t.gear.as_deref());
    let o = Observation {
        symptom: t.symptom.clone(),
        at: answer.at,
        gear: t.gear.clone(),
        also: answer.also,
        note: note(t.note.as_ref(), "note")?,
        source: t.source.clone(),
        phase: t.phase.clone().filter(|p| p == "after"),
        repair: t.repair.clone(),
        condition: t.condition.clone(),
        ..Observation::new(&t.test, &answer.outcome)
    };
    Ok((o, format!("{asked}: {}", answer.words)))
}

pub(super) fn answer_test(x: &EditContext, case: &mut Case, e: &CaseEdit, t: &TestResult) -> Result<Applied, Problem> {
    let rule = need_test(x.knowledge, &t.test)?;
    let answer = rule.answer(case, &t.outcome, t.at.as_deref(), &t.also, &t.seen_to)?;
    let (o, words) = observation_of(x, case, t, answer)?;
    Ok(Applied::made(words, keep(x, case, e, rule, o)))
}

pub(super) fn swing_joint(x: &EditContext, case: &mut Case, e: &CaseEdit, s: &SwungJoint) -> Result<Applied, Problem> {
    let reading = Reading::JointDrag(s.pulls.clone().into());
    let missing = || Problem::new("missing", "no test is read with a spring balance");
    let balance = instrument(reading.kind()).ok_or_else(missing)?;
    let rule = x.knowledge.test_read_with(reading.kind(), |_| true).ok_or_else(missing)?;
    need_symptom(case, s.symptom.as_deref())?;
    let read = balance.read_at(&case.vehicle, &s.at, &reading.input())?;
    let outcome = read.outcome.ok_or_else(missing)?;
    let o = Observation {
        symptom: s.symptom.clone(),
        at: Some(s.at.clone()),
        note: Some(read.words),
        balance: Some(s.pulls.clone()),
        ..Observation::new(&rule.id, outcome)
    };
    let asked = test_words(x.knowledge, &case.vehicle, &rule.id, Some(&s.at), None);
    Ok(Applied::made(format!("{asked}: {}", outcome.replace('-', " ")), keep(x, case, e, rule, o)))
}

pub(super) fn ask_later(x: &EditContext, case: &mut Case, e: &CaseEdit, l: &LaterTest) -> Result<Applied, Problem> {
    need_test(x.knowledge, &l.test)?;
    need_place(case, l.at.as_deref())?;
    let asked = test_words(x.knowledge, &case.vehicle, &l.test, l.at.as_deref(), l.gear.as_deref());
    let words = match l.why.as_deref() {
        None => format!("{asked}: can't tell"),
        Some(why) if REASONS.iter().any(|(id, _)| *id == why) => format!("{asked}: owed, {}", reason_words(why)),
        Some(why) => {
            let known = REASONS.map(|(id, _)| id).join(", ");
            return Err(Problem::new("unknown-word", format!("“{why}” is no reason to put it off: {known}")).field("why"));
        }
    };
    let is_asked = |a: &AskedLater| a.is_same(&l.test, l.at.as_deref(), l.gear.as_deref()) && a.why.is_none();
    // A debt has its day: one that was paid and is put off again is another.
    if l.why.is_none() && case.asked_later.iter().any(is_asked) {
        return Ok(Applied::words(words));
    }
    let id = e.entry_id();
    case.asked_later.push_back(AskedLater {
        id: id.clone(),
        test: l.test.clone(),
        at: l.at.clone(),
        gear: l.gear.clone(),
        why: l.why.clone(),
        at_time: e.time(),
    });
    Ok(Applied::made(words, id))
}

/// What two have felt, as an observation.
fn felt(q: &Question, outcome: &str, note: String) -> Observation {
    Observation {
        symptom: q.symptom.clone(),
        at: q.at.clone(),
        gear: q.gear.clone(),
        note: Some(note),
        ..Observation::new(&q.test, outcome)
    }
}

/// What was asked, with its place.
fn question_words(x: &EditContext, case: &Case, q: &Question) -> String {
    test_words(x.knowledge, &case.vehicle, &q.test, q.at.as_deref(), q.gear.as_deref())
}

/// What was noted with the answers.
fn notes<'a>(of: impl IntoIterator<Item = &'a BlindAnswer>) -> String {
    of.into_iter().filter_map(|v| v.note.as_ref().map(|n| format!("; {}: {n}", v.by))).collect()
}

fn check_question(x: &EditContext, case: &Case, q: &Question) -> Result<(), Problem> {
    need_test(x.knowledge, &q.test)?;
    need_symptom(case, q.symptom.as_deref())?;
    need_place(case, q.at.as_deref())?;
    need_gear(case, q.gear.as_deref())
}

/// One of two answers, given before the other is seen. The history of the case does not tell it either.
pub(super) fn answer_blind(x: &EditContext, case: &mut Case, e: &CaseEdit, b: &BlindResult) -> Result<Applied, Problem> {
    let (q, rule) = (&b.question, need_test(x.knowledge, &b.question.test)?);
    check_question(x, case, q)?;
    if rule.outcome(&b.outcome).is_none() {
        return Err(Problem::new("unknown-outcome", format!("{} has no outcome “{}”", q.test, b.outcome)).field("outcome"));
    }
    require_checks(case, rule, &b.seen_to)?;
    let one = BlindAnswer {
        id: e.entry_id(),
        question: q.clone(),
        by: e.by.clone(),
        outcome: b.outcome.clone(),
        note: note(b.note.as_ref(), "note")?,
        settled: false,
    };
    let alike = cast(&mut case.votes, one).map_err(|refused| {
        let why = match refused {
            Refused::Twice => "you have felt it already: now a second person does, without hearing your answer",
            Refused::Full => "two have felt it already: say which of them stands, or feel it again",
        };
        Problem::new("voted", why).field("outcome")
    })?;
    if let Some(outcome) = alike {
        let two: Vec<&BlindAnswer> = case.votes.iter().rev().filter(|v| v.question == *q).take(2).collect();
        let by: Vec<_> = two.iter().map(|v| v.by.as_str()).collect();
        let words = format!("felt alike by {}, neither knowing of the other{}", by.join(" and "), notes(two));
        keep(x, case, e, rule, felt(q, &outcome, words));
    }
    Ok(Applied::made(format!("{}: felt blind", question_words(x, case, q)), e.entry_id()))
}

/// Two have felt it otherwise: one of them stands, or both feel again.
pub(super) fn decide_blind(x: &EditContext, case: &mut Case, e: &CaseEdit, b: &BlindDecision) -> Result<Applied, Problem> {
    let (q, rule) = (&b.question, need_test(x.knowledge, &b.question.test)?);
    let (open, may) = to_decide(&case.votes, q, &e.by);
    if !may {
        let why = if open.is_empty() { "nothing waits to be decided here" } else { "feel it yourself first" };
        return Err(Problem::new("voted", why).field("stands"));
    }
    settle(&mut case.votes, q);
    let Some(by) = &b.stands else { return Ok(Applied::words(format!("{}: to be felt again", question_words(x, case, q)))) };
    let one = open.iter().find(|v| v.by == *by);
    let one = one.ok_or_else(|| Problem::new("missing", format!("{by} has not felt it")).field("stands"))?;
    let outcome_words = |v: &BlindAnswer| rule.outcome(&v.outcome).map_or(v.outcome.clone(), |o| o.words.clone());
    let others: String = open.iter().filter(|v| v.by != *by).map(|v| format!("; {} felt: {}", v.by, outcome_words(v))).collect();
    let words = format!("as {by} felt it{others}{}", notes(&open));
    let id = keep(x, case, e, rule, felt(q, &one.outcome, words));
    Ok(Applied::made(format!("{}: decided between two", question_words(x, case, q)), id))
}

/// What an instrument read, checked against the vehicle: what it reads, and the input of its calculation.
pub(super) fn checked_reading(case: &Case, m: &MeasuredReading) -> Result<(&'static str, serde_json::Value), Problem> {
    let kind = m.reading.kind();
    let tool = instrument(kind).filter(|i| i.is_measured());
    let tool = tool.ok_or_else(|| Problem::new("unknown-kind", format!("{kind} is read as an answer")).field("kind"))?;
    let input = m.reading.input();
    tool.read_at(&case.vehicle, &m.at, &input)?;
    Ok((tool.quantity, input))
}

pub(super) fn measure(case: &mut Case, e: &CaseEdit, m: &MeasuredReading) -> Result<Applied, Problem> {
    let (quantity, input) = checked_reading(case, m)?;
    let id = e.entry_id();
    case.measurements.push_back(Measurement {
        id: id.clone(),
        kind: m.reading.kind().into(),
        at: Some(m.at.clone()),
        input,
        // What is read while a repair waits for its proof is after it.
        phase: case.is_after_repair().then(|| "after".into()),
        at_time: e.time(),
        by: e.person(),
        ..Measurement::default()
    });
    Ok(Applied::made(format!("{quantity} read at {}", case.vehicle.place_words(&m.at)), id))
}
