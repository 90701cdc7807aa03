//! Rules of what is told: the vehicle, symptoms, the intake, earlier work and hints.

use super::act::{EntryId, HistoryTag, IntakeAnswer, NewAttempt, NewHint, NewSymptom, PickedSound};
use super::vehicle::VehicleDescription;
use super::words::{known, need_symptom, note, sentence, short};
use super::{Applied, CaseEdit, EditContext};
use crate::case::fault_at::FaultAt;
use crate::case::intake::{self, CHANGED, TRUST};
use crate::case::vocabulary::{FELT, HEARD_FROM, HISTORY, KINDS};
use crate::case::{Attempt, Case, Hint, Observation, Symptom};
use crate::error::Problem;
use crate::reasoning::knowledge::{Knowledge, SOUND_PICK};
use crate::reasoning::wording::cause_words;
use crate::reasoning::{complete_units, hypotheses};
use crate::units::Kilometres;

fn plain(id: &str) -> String {
    id.replace('-', " ")
}

pub(super) fn describe_vehicle(case: &mut Case, d: &VehicleDescription) -> Result<Applied, Problem> {
    if let Some(title) = &d.title {
        case.title = sentence(title, "the title", "title")?.into();
    }
    if let Some(km) = d.distance_km {
        if !(0.0..=10_000_000.0).contains(&km) {
            return Err(
                Problem::new("out-of-range", format!("{km} km is no distance that a vehicle has run")).field("distance_km")
            );
        }
        case.distance_km = Some(Kilometres(km));
    }
    d.write(&mut case.vehicle)?;
    Ok(Applied::words("described the vehicle"))
}

pub(super) fn add_symptom(x: &EditContext, case: &mut Case, s: &NewSymptom) -> Result<Applied, Problem> {
    known(&s.kind, KINDS, "unknown-kind", "kind")?;
    s.felt.iter().try_for_each(|f| known(f, FELT, "unknown-felt", "felt"))?;
    s.heard_from.iter().try_for_each(|h| known(h, HEARD_FROM, "unknown-heard-from", "heard_from"))?;
    s.history.iter().try_for_each(|h| known(h, HISTORY, "unknown-history", "history"))?;
    if let Some(r) = s.speed_kmh {
        for (kmh, field) in [(r.from, "from"), (r.peak, "peak"), (r.to, "to")] {
            if kmh.is_some_and(|v| !(0.0..=500.0).contains(&v)) {
                return Err(Problem::new("out-of-range", "a road speed lies from 0 to 500 km/h").field(field));
            }
        }
    }
    let id = (1..).map(|i| format!("S{i}")).find(|id| case.symptom(id).is_none()).unwrap_or_default();
    // Asked, and no other work was done: what work makes is less likely.
    if s.no_other_work {
        case.history_denied = x.knowledge.weights.history.denied(&s.history, &case.history).map(String::from).collect();
    }
    for h in &s.history {
        if !case.history.contains(h) {
            case.history.push(h.clone());
        }
    }
    case.symptoms.push_back(Symptom {
        id: id.clone(),
        kind: s.kind.clone(),
        felt: s.felt.clone(),
        heard_from: Some(s.heard_from.clone().unwrap_or_else(|| "unknown".into())),
        speed_kmh: s.speed_kmh.filter(|r| r.from.or(r.peak).or(r.to).is_some()),
        words: short(s.words.trim(), "words")?.into(),
        since: note(s.since.as_ref(), "since")?,
        intermittent: s.intermittent,
        ..Symptom::default()
    });
    Ok(Applied::made(format!("symptom: {}", plain(&s.kind)), id))
}

pub(super) fn answer_intake(case: &mut Case, a: &IntakeAnswer) -> Result<Applied, Problem> {
    let unknown = |field: &str, word: &str| Problem::new("unknown-answer", format!("“{word}” is not known")).field(field);
    let q = intake::questions().iter().find(|q| q.id == a.question).ok_or_else(|| unknown("question", &a.question))?;
    let answer = q.answer(&a.answer).ok_or_else(|| unknown("answer", &a.answer))?;
    need_symptom(case, Some(&a.symptom))?;
    if let Some(s) = case.symptoms.iter_mut().find(|s| s.id == a.symptom) {
        s.condition.insert(q.id.clone(), answer.id.clone());
    }
    Ok(Applied::words(format!("{} {}", q.ask, answer.words)))
}

pub(super) fn pick_sound(x: &EditContext, case: &mut Case, e: &CaseEdit, p: &PickedSound) -> Result<Applied, Problem> {
    need_symptom(case, Some(&p.symptom))?;
    if x.knowledge.fault(&p.fault).is_none() {
        return Err(Problem::new("unknown-outcome", format!("“{}” is no fault", p.fault)).field("outcome"));
    }
    let (id, at_time, by) = (e.entry_id(), e.time(), e.person());
    case.observations.push_back(Observation {
        id: id.clone(),
        symptom: Some(p.symptom.clone()),
        at_time,
        by,
        ..Observation::new(SOUND_PICK, &p.fault)
    });
    Ok(Applied::made("the driver picked a sound", id))
}

pub(super) fn count_history(case: &mut Case, h: &HistoryTag) -> Result<Applied, Problem> {
    known(&h.tag, HISTORY, "unknown-history", "history")?;
    if !case.history.contains(&h.tag) {
        case.history.push(h.tag.clone());
    }
    Ok(Applied::words(format!("counts: {}", plain(&h.tag))))
}

/// Refuses a cause that the vehicle cannot have.
fn need_cause(k: &Knowledge, case: &Case, cause: &FaultAt) -> Result<(), Problem> {
    let can = hypotheses(&case.vehicle, k).iter().any(|h| !h.is_pair() && h.fault == cause.fault && h.at == cause.at);
    let message = || format!("“{}” is nothing that this vehicle can have", cause.id());
    if can { Ok(()) } else { Err(Problem::new("unknown-fault", message()).field("cause")) }
}

pub(super) fn record_attempt(x: &EditContext, case: &mut Case, e: &CaseEdit, a: &NewAttempt) -> Result<Applied, Problem> {
    let what = sentence(&a.what, "what was changed", "what")?.to_string();
    let trust = a.trust.clone().unwrap_or_else(|| "told".into());
    known(&trust, &TRUST.map(|t| t.0), "unknown-answer", "trust")?;
    a.changed.iter().try_for_each(|c| known(c, &CHANGED.map(|t| t.0), "unknown-answer", "changed"))?;
    a.cause.iter().try_for_each(|c| need_cause(x.knowledge, case, c))?;
    if let Some(unit) = a.unit.as_ref().filter(|u| !complete_units(&case.vehicle).iter().any(|p| p.id == **u)) {
        let message = format!("“{unit}” is no unit of this vehicle that is changed whole");
        return Err(Problem::new("unknown-fault", message).field("cause"));
    }
    let id = e.entry_id();
    case.attempts.push_back(Attempt {
        id: id.clone(),
        what: what.clone(),
        fault: a.cause.as_ref().map(|c| c.fault.clone()),
        at: a.cause.as_ref().map(|c| c.at.clone()),
        unit: a.unit.clone(),
        changed: a.changed.clone(),
        result: note(a.result.as_ref(), "result")?,
        trust: Some(trust),
        by: note(a.by.as_ref(), "by")?,
        at_time: e.time(),
        ..Attempt::default()
    });
    count_earlier_work(case);
    Ok(Applied::made(format!("tried before: {what}"), id))
}

/// What others tried counts as earlier work.
pub(super) fn count_earlier_work(case: &mut Case) {
    let earlier = "earlier-work".to_string();
    let counts = |a: &Attempt| intake::counts_as_work(a.trust.as_deref().unwrap_or("told"));
    if case.attempts.iter().any(counts) && !case.history.contains(&earlier) {
        case.history.push(earlier);
    }
}

pub(super) fn add_hint(x: &EditContext, case: &mut Case, e: &CaseEdit, h: &NewHint) -> Result<Applied, Problem> {
    known(&h.trust, &["told", "seen"], "unknown-answer", "trust")?;
    let source = sentence(&h.source, "who says so", "source")?.to_string();
    need_cause(x.knowledge, case, &h.cause)?;
    let words = cause_words(x.knowledge, &case.vehicle, &h.cause.fault, &h.cause.at, None);
    let id = e.entry_id();
    let (fault, at, trust) = (h.cause.fault.clone(), Some(h.cause.at.clone()), Some(h.trust.clone()));
    case.hints.push_back(Hint { id: id.clone(), fault, at, source: source.clone(), trust });
    Ok(Applied::made(format!("hint: {words}: says {source}"), id))
}

pub(super) fn remove_hint(case: &mut Case, id: &EntryId) -> Result<Applied, Problem> {
    let before = case.hints.len();
    case.hints.retain(|h| h.id != id.id);
    match case.hints.len() < before {
        true => Ok(Applied::words("a hint taken back")),
        false => Err(Problem::new("missing", "this hint is not there any more").field("id")),
    }
}
