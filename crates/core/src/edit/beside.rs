//! Rules of what stands beside the search: driving, notes, findings on the way, second opinions.

use super::act::{AskedOpinion, EntryId, NewFinding, NewNote, OpinionAnswer, StatedClearance};
use super::words::{need_place, sentence};
use super::{Applied, CaseEdit};
use crate::case::clearance::{Clearance, ClearanceStatement, Stated};
use crate::case::{Case, Note, Opinion, SafetyFinding};
use crate::error::Problem;

pub(super) fn state_clearance(case: &mut Case, e: &CaseEdit, s: &StatedClearance) -> Result<Applied, Problem> {
    let limit = |x: Option<f64>| x.filter(|_| s.drive == Clearance::Limited);
    let id = e.entry_id();
    let said = ClearanceStatement {
        id: id.clone(),
        drive: s.drive,
        reason: sentence(&s.reason, "the reason", "reason")?.into(),
        km: limit(s.km),
        kmh: limit(s.kmh),
        by: e.by.clone(),
        at_time: e.time(),
        answers: s.answers.clone(),
        // What came since the page was read was not seen.
        observations: s.observations.min(case.observations.len()),
    };
    said.check()?;
    let words = format!("{}: {}", said.words(), said.reason);
    case.safety.push_back(Stated::Read(said));
    Ok(Applied::made(words, id))
}

/// What was found on the way, without an id, a person and a time.
pub(super) fn finding_of(case: &Case, f: &NewFinding) -> Result<SafetyFinding, Problem> {
    let what = sentence(&f.what, "what was found", "what")?.to_string();
    need_place(case, f.at.as_deref())?;
    Ok(SafetyFinding { what, at: f.at.clone(), ..SafetyFinding::default() })
}

pub(super) fn report_finding(case: &mut Case, e: &CaseEdit, f: &NewFinding) -> Result<Applied, Problem> {
    let finding = finding_of(case, f)?;
    let (id, words) = (e.entry_id(), format!("found on the way: {}", finding.what));
    case.found.push_back(SafetyFinding { id: id.clone(), by: e.by.clone(), at_time: e.time(), ..finding });
    Ok(Applied::made(words, id))
}

/// A note without an id, a person and a time.
pub(super) fn note_of(case: &Case, n: &NewNote) -> Result<Note, Problem> {
    let text = sentence(&n.text, "the note", "text")?.to_string();
    need_place(case, n.at.as_deref())?;
    Ok(Note { text, at: n.at.clone(), ..Note::default() })
}

pub(super) fn add_note(case: &mut Case, e: &CaseEdit, n: &NewNote) -> Result<Applied, Problem> {
    let note = note_of(case, n)?;
    let (id, words) = (e.entry_id(), format!("noted: {}", note.text));
    case.notes.push_back(Note { id: id.clone(), by: e.by.clone(), at_time: e.time(), ..note });
    Ok(Applied::made(words, id))
}

pub(super) fn settle_finding(case: &mut Case, id: &EntryId) -> Result<Applied, Problem> {
    let one = case.found.iter_mut().find(|f| f.id == id.id);
    let one = one.ok_or_else(|| Problem::new("missing", "this is not there any more").field("id"))?;
    one.settled = true;
    Ok(Applied::words(format!("put right: {}", one.what)))
}

pub(super) fn ask_opinion(case: &mut Case, e: &CaseEdit, o: &AskedOpinion) -> Result<Applied, Problem> {
    let question = sentence(&o.question, "the question", "question")?.to_string();
    let id = e.entry_id();
    let words = format!("asked for a second opinion: {question}");
    case.opinions.push_back(Opinion { id: id.clone(), question, asked_by: e.person(), ..Opinion::default() });
    Ok(Applied::made(words, id))
}

pub(super) fn answer_opinion(case: &mut Case, e: &CaseEdit, o: &OpinionAnswer) -> Result<Applied, Problem> {
    let answer = sentence(&o.answer, "the answer", "answer")?.to_string();
    let words = format!("second opinion: {answer}");
    // The question may have been taken back since: the answer stands in the history all the same.
    if let Some(one) = case.opinions.iter_mut().find(|x| x.question == o.question && x.answer.is_none()) {
        (one.answer, one.by) = (Some(answer), e.person());
    }
    Ok(Applied::words(words))
}
