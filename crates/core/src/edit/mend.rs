//! Rules of mending: what stands in the case is corrected, or taken out by itself. When it was said and by whom stays with it; who mended it
//! stands in the history.

use super::act::{
    Corrected, EntryKind, MeasuredReading, NewAttempt, NewFinding, NewNote, NewSymptom, RemovedEntry, RunFacts, TestResult,
};
use super::answers::{checked_reading, observation_of};
use super::beside::{finding_of, note_of};
use super::complaint::{attempt_of, count_earlier_work, symptom_of};
use super::take_back::dangling;
use super::words::{known, need_gear, need_symptom, need_test};
use super::{Applied, EditContext};
use crate::case::entry::Entry;
use crate::case::{Attempt, Case, Measurement, Note, Observation, SafetyFinding, Symptom};
use crate::error::Problem;
use crate::reasoning::wording::{cause_words, repair_words, test_words};
use imbl::Vector;

fn gone() -> Problem {
    Problem::new("missing", "this is not there any more").field("id")
}

/// The entry of a list that has an id.
fn entry<'e, T: Entry + Clone>(list: &'e mut Vector<T>, id: &str) -> Result<&'e mut T, Problem> {
    list.iter_mut().find(|e| e.id() == id).ok_or_else(gone)
}

pub(super) fn correct_answer(x: &EditContext, case: &mut Case, c: &Corrected<TestResult>) -> Result<Applied, Problem> {
    let was = case.observations.iter().find(|o| o.id == c.id).ok_or_else(gone)?.clone();
    if was.test != c.now.test {
        let message = format!("this answers {}, not {}: take it out and answer the other", was.test, c.now.test);
        return Err(Problem::new("other-test", message).field("test"));
    }
    // The test is not made again: what had to be seen to was.
    let rule = need_test(x.knowledge, &c.now.test)?;
    let answer = rule.read_answer(&c.now.outcome, c.now.at.as_deref(), &c.now.also)?;
    let (now, words) = observation_of(x, case, &c.now, answer)?;
    let same_reading = now.outcome == was.outcome && now.at == was.at;
    let corrected = Observation {
        id: was.id,
        at_time: was.at_time,
        by: was.by,
        source: now.source.or(was.source),
        phase: now.phase.or(was.phase),
        repair: now.repair.or(was.repair),
        condition: now.condition.or(was.condition),
        // Numbers that said something else go with what they said.
        balance: was.balance.filter(|_| same_reading),
        ..now
    };
    *entry(&mut case.observations, &c.id)? = corrected;
    Ok(Applied::words(format!("corrected: {words}")))
}

pub(super) fn correct_symptom(case: &mut Case, c: &Corrected<NewSymptom>) -> Result<Applied, Problem> {
    let now = symptom_of(&c.now)?;
    let s = case.symptoms.iter_mut().find(|s| s.id == c.id).ok_or_else(gone)?;
    let words = format!("corrected: symptom {}, {}", s.id, now.kind.replace('-', " "));
    *s = Symptom { id: s.id.clone(), condition: s.condition.clone(), ..now };
    Ok(Applied::words(words))
}

pub(super) fn correct_reading(case: &mut Case, c: &Corrected<MeasuredReading>) -> Result<Applied, Problem> {
    let (tool, input) = checked_reading(case, &c.now)?;
    let was = case.measurements.iter().find(|m| m.id == c.id).ok_or_else(gone)?.clone();
    if was.kind != c.now.reading.kind() {
        let message = format!("this was read as {}: take it out and read the other", was.kind);
        return Err(Problem::new("other-test", message).field("kind"));
    }
    *entry(&mut case.measurements, &c.id)? = Measurement { at: Some(c.now.at.clone()), input, ..was };
    Ok(Applied::words(format!("corrected: {tool} read at {}", case.vehicle.place_words(&c.now.at))))
}

pub(super) fn correct_attempt(x: &EditContext, case: &mut Case, c: &Corrected<NewAttempt>) -> Result<Applied, Problem> {
    let now = attempt_of(x, case, &c.now)?;
    let words = format!("corrected: tried before: {}", now.what);
    let a = entry(&mut case.attempts, &c.id)?;
    *a = Attempt { id: a.id.clone(), at_time: a.at_time.clone(), with: a.with.clone(), part: a.part.clone(), ..now };
    count_earlier_work(case);
    Ok(Applied::words(words))
}

pub(super) fn correct_finding(case: &mut Case, c: &Corrected<NewFinding>) -> Result<Applied, Problem> {
    let now = finding_of(case, &c.now)?;
    let words = format!("corrected: found on the way: {}", now.what);
    let f = entry(&mut case.found, &c.id)?;
    *f = SafetyFinding { what: now.what, at: now.at, ..f.clone() };
    Ok(Applied::words(words))
}

pub(super) fn correct_note(case: &mut Case, c: &Corrected<NewNote>) -> Result<Applied, Problem> {
    let now = note_of(case, &c.now)?;
    let words = format!("corrected: noted: {}", now.text);
    let n = entry(&mut case.notes, &c.id)?;
    *n = Note { text: now.text, at: now.at, ..n.clone() };
    Ok(Applied::words(words))
}

/// Words for how the engine drove during a run.
pub const RUN_THROTTLES: [&str; 5] = ["drive", "coast", "float", "neutral", "varies"];

pub(super) fn correct_run(case: &mut Case, f: &RunFacts) -> Result<Applied, Problem> {
    need_symptom(case, f.symptom.as_deref())?;
    need_gear(case, f.gear.as_deref().filter(|g| *g != "varies"))?;
    f.throttle.iter().try_for_each(|t| known(t, &RUN_THROTTLES, "unknown-answer", "throttle"))?;
    f.phase.iter().try_for_each(|p| known(p, &["before", "after"], "unknown-phase", "phase"))?;
    let range = f.range.as_deref().filter(|r| !case.vehicle.transfer.iter().flat_map(|t| &t.ranges).any(|x| x.name == **r));
    if let Some(r) = range {
        return Err(Problem::new("unknown-answer", format!("this vehicle has no range “{r}”")).field("range"));
    }
    let r = entry(&mut case.recordings, &f.id)?;
    (r.symptom, r.gear, r.throttle) = (f.symptom.clone(), f.gear.clone(), f.throttle.clone());
    (r.range, r.place, r.phase) = (f.range.clone(), f.place.clone(), f.phase.clone());
    Ok(Applied::words(format!("corrected: how {} was driven", r.words())))
}

/// The verdict on a repair is taken back: it is done and waits for its proof.
pub(super) fn reopen_repair(x: &EditContext, case: &mut Case, id: &str) -> Result<Applied, Problem> {
    let r = entry(&mut case.repairs, id)?;
    if r.is_open() {
        return Err(Problem::new("judged", "this repair has no verdict yet").field("id"));
    }
    r.result = Some("open".into());
    let words = case.repairs.iter().find(|r| r.id == id).map_or(String::new(), |r| repair_words(x.knowledge, case, r));
    Ok(Applied::words(format!("verdict taken back: {words}")))
}

/// Takes the entry of an id out of a list, and gives it.
fn taken<T: Entry + Clone>(list: &mut Vector<T>, id: &str) -> Result<T, Problem> {
    let i = list.iter().position(|e| e.id() == id).ok_or_else(gone)?;
    Ok(list.remove(i))
}

/// An entry is taken out by itself; not while something belongs to it.
pub(super) fn remove_entry(x: &EditContext, case: &mut Case, r: &RemovedEntry) -> Result<Applied, Problem> {
    let (k, before, id) = (x.knowledge, dangling(case), r.id.as_str());
    let words = match r.entry {
        EntryKind::Symptom => {
            let i = case.symptoms.iter().position(|s| s.id == r.id).ok_or_else(gone)?;
            let s = case.symptoms.remove(i);
            format!("symptom {}, {}", s.id, s.kind.replace('-', " "))
        }
        EntryKind::Answer => {
            let o = taken(&mut case.observations, id)?;
            test_words(k, &case.vehicle, &o.test, o.at.as_deref(), o.gear.as_deref())
        }
        EntryKind::Reading => {
            let m = taken(&mut case.measurements, id)?;
            format!("{} read at {}", m.kind, m.at.as_deref().map_or("no place".into(), |a| case.vehicle.place_words(a)))
        }
        EntryKind::Attempt => format!("tried before: {}", taken(&mut case.attempts, id)?.what),
        EntryKind::Finding => format!("found on the way: {}", taken(&mut case.found, id)?.what),
        EntryKind::Repair => {
            let words = case.repairs.iter().find(|r| r.id == id).map(|r| repair_words(k, case, r)).ok_or_else(gone)?;
            taken(&mut case.repairs, id)?;
            format!("repair: {words}")
        }
        EntryKind::Run => taken(&mut case.recordings, id)?.words(),
        EntryKind::Note => format!("noted: {}", taken(&mut case.notes, id)?.text),
        EntryKind::Hint => {
            let h = taken(&mut case.hints, id)?;
            format!("hint of {}: {}", h.source, cause_words(k, &case.vehicle, &h.fault, h.at.as_deref().unwrap_or("none"), None))
        }
        EntryKind::Level => format!("level heard at {}", case.vehicle.place_words(&taken(&mut case.listened, id)?.at)),
        EntryKind::BlindAnswer => {
            let q = taken(&mut case.votes, id)?.question;
            format!("blind answer, {}", test_words(k, &case.vehicle, &q.test, q.at.as_deref(), q.gear.as_deref()))
        }
        EntryKind::Attachment => {
            let a = taken(&mut case.pinned, id)?;
            if a.is_picture() { "a picture".into() } else { "a spoken note".into() }
        }
    };
    let after = dangling(case);
    if let Some(named) = after.iter().find(|d| !before.contains(d)).or(after.get(before.len())) {
        return Err(Problem::new("needed", format!("{named} belongs to it: take that out first")).field("id"));
    }
    Ok(Applied::words(format!("taken out: {words}")))
}
