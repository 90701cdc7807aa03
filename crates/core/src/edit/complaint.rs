//! Rules of what is told: the vehicle, symptoms, the intake, earlier work and hints.

use super::act::{ChosenLayout, EntryId, HistoryTag, IntakeAnswer, NewAttempt, NewHint, NewSymptom, PickedSound};
use super::vehicle::VehicleDescription;
use super::words::{known, need_symptom, note, sentence, short};
use super::{Applied, CaseEdit, EditContext};
use crate::case::fault_at::FaultAt;
use crate::case::intake::{self, CHANGED, TRUST, When};
use crate::case::vocabulary::{FELT, HEARD_FROM, HISTORY, KINDS};
use crate::case::{Attempt, Case, DRIVER, Hint, Observation, Symptom};
use crate::error::Problem;
use crate::reasoning::availability::tries_on;
use crate::reasoning::knowledge::{Knowledge, SOUND_PICK};
use crate::reasoning::wording::cause_words;
use crate::reasoning::{complete_units, hypotheses};
use crate::units::Kilometres;
use crate::vehicle::Vehicle;
use crate::vehicle::layout::layouts;

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

/// The vehicle becomes one of another layout. What was entered at places that it does not have stays in the case and does not weigh.
pub(super) fn choose_layout(case: &mut Case, l: &ChosenLayout) -> Result<Applied, Problem> {
    let all = layouts();
    let known: Vec<&str> = all.iter().map(|l| l.id).collect();
    let unknown = || Problem::new("unknown-layout", format!("“{}” is no layout: {}", l.layout, known.join(", "))).field("layout");
    let chosen = all.iter().find(|x| x.id == l.layout).ok_or_else(unknown)?;
    let was = std::mem::replace(&mut case.vehicle, chosen.vehicle.clone());
    forget_former_sizes(case);
    let cylinders = was.engine.map(|e| e.cylinders);
    (case.vehicle.name, case.vehicle.tyre, case.vehicle.limits) = (was.name, was.tyre, was.limits);
    if let (Some(e), Some(n)) = (&mut case.vehicle.engine, cylinders) {
        e.cylinders = n;
    }
    Ok(Applied::words(format!("the vehicle is: {}", chosen.words)))
}

/// It was never the vehicle that it was taken for: runs were driven with the one that it is.
fn forget_former_sizes(case: &mut Case) {
    for change in &mut case.dimension_changes {
        change.before = None;
    }
}

pub(super) fn move_to_vehicle(case: &mut Case, v: &Vehicle) -> Result<Applied, Problem> {
    v.check().map_err(|p| p.under("vehicle"))?;
    case.vehicle = v.clone();
    forget_former_sizes(case);
    Ok(Applied::words(format!("the case is of {}", if v.name.is_empty() { "another vehicle" } else { &v.name })))
}

/// What the driver says of when it comes, as what a test would have shown: where the vehicle has the test and it is asked of such a symptom.
fn show_what_is_said(x: &EditContext, case: &mut Case, e: &CaseEdit, symptom: &str, whens: &[&When]) {
    let kind = case.symptom(symptom).map_or(String::new(), |s| s.kind.clone());
    for (n, (test, outcome)) in whens.iter().filter_map(|w| w.shows.as_ref()).enumerate() {
        let Some(rule) = x.knowledge.test(test).filter(|t| t.outcome(outcome).is_some()) else { continue };
        let asked = rule.asked_of.is_empty() || rule.asked_of.contains(&kind);
        let tries = tries_on(&case.vehicle, rule);
        let Some((at, _)) = tries.first().filter(|_| asked && tries.len() == 1) else { continue };
        case.observations.push_back(Observation {
            id: format!("{}.{}", e.entry_id(), n + 1),
            symptom: Some(symptom.into()),
            at: at.as_ref().map(|p| p.id.clone()),
            source: Some(DRIVER.into()),
            at_time: e.time(),
            by: e.person(),
            ..Observation::new(test, outcome)
        });
    }
}

/// A symptom as it is told, without an id.
pub(super) fn symptom_of(s: &NewSymptom) -> Result<Symptom, Problem> {
    known(&s.kind, KINDS, "unknown-kind", "kind")?;
    s.felt.iter().try_for_each(|f| known(f, FELT, "unknown-felt", "felt"))?;
    s.heard_from.iter().try_for_each(|h| known(h, HEARD_FROM, "unknown-heard-from", "heard_from"))?;
    if let Some(r) = s.speed_kmh {
        for (kmh, field) in [(r.from, "from"), (r.peak, "peak"), (r.to, "to")] {
            if kmh.is_some_and(|v| !(0.0..=500.0).contains(&v)) {
                return Err(Problem::new("out-of-range", "a road speed lies from 0 to 500 km/h").field(field));
            }
        }
    }
    Ok(Symptom {
        kind: s.kind.clone(),
        felt: s.felt.clone(),
        heard_from: Some(s.heard_from.clone().unwrap_or_else(|| "unknown".into())),
        speed_kmh: s.speed_kmh.filter(|r| r.from.or(r.peak).or(r.to).is_some()),
        words: short(s.words.trim(), "words")?.into(),
        since: note(s.since.as_ref(), "since")?,
        intermittent: s.intermittent,
        ..Symptom::default()
    })
}

pub(super) fn add_symptom(x: &EditContext, case: &mut Case, e: &CaseEdit, s: &NewSymptom) -> Result<Applied, Problem> {
    let symptom = symptom_of(s)?;
    let unknown = |w: &String| Problem::new("unknown-answer", format!("“{w}” is not known")).field("when");
    let whens: Vec<&When> = s
        .when
        .iter()
        .map(|w| intake::whens().iter().find(|known| known.id == *w).ok_or_else(|| unknown(w)))
        .collect::<Result<_, _>>()?;
    s.history.iter().try_for_each(|h| known(h, HISTORY, "unknown-history", "history"))?;
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
    case.symptoms.push_back(Symptom { id: id.clone(), condition: intake::condition_of(whens.iter().copied()), ..symptom });
    show_what_is_said(x, case, e, &id, &whens);
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

pub(super) fn discount_history(case: &mut Case, h: &HistoryTag) -> Result<Applied, Problem> {
    let before = case.history.len();
    case.history.retain(|tag| *tag != h.tag);
    match case.history.len() < before {
        true => Ok(Applied::words(format!("does not count: {}", plain(&h.tag)))),
        false => Err(Problem::new("missing", format!("{} does not count here", plain(&h.tag))).field("tag")),
    }
}

/// Refuses a cause that the vehicle cannot have.
fn need_cause(k: &Knowledge, case: &Case, cause: &FaultAt) -> Result<(), Problem> {
    let can = hypotheses(&case.vehicle, k).iter().any(|h| !h.is_pair() && h.fault == cause.fault && h.at == cause.at);
    let message = || format!("“{}” is nothing that this vehicle can have", cause.id());
    if can { Ok(()) } else { Err(Problem::new("unknown-fault", message()).field("cause")) }
}

/// What somebody tried, without an id and a time.
pub(super) fn attempt_of(x: &EditContext, case: &Case, a: &NewAttempt) -> Result<Attempt, Problem> {
    let what = sentence(&a.what, "what was changed", "what")?.to_string();
    let trust = a.trust.clone().unwrap_or_else(|| "told".into());
    known(&trust, &TRUST.map(|t| t.0), "unknown-answer", "trust")?;
    a.changed.iter().try_for_each(|c| known(c, &CHANGED.map(|t| t.0), "unknown-answer", "changed"))?;
    a.cause.iter().try_for_each(|c| need_cause(x.knowledge, case, c))?;
    if let Some(unit) = a.unit.as_ref().filter(|u| !complete_units(&case.vehicle).iter().any(|p| p.id == **u)) {
        let message = format!("“{unit}” is no unit of this vehicle that is changed whole");
        return Err(Problem::new("unknown-fault", message).field("cause"));
    }
    Ok(Attempt {
        what,
        fault: a.cause.as_ref().map(|c| c.fault.clone()),
        at: a.cause.as_ref().map(|c| c.at.clone()),
        unit: a.unit.clone(),
        changed: a.changed.clone(),
        result: note(a.result.as_ref(), "result")?,
        trust: Some(trust),
        by: note(a.by.as_ref(), "by")?,
        ..Attempt::default()
    })
}

pub(super) fn record_attempt(x: &EditContext, case: &mut Case, e: &CaseEdit, a: &NewAttempt) -> Result<Applied, Problem> {
    let attempt = attempt_of(x, case, a)?;
    let (id, words) = (e.entry_id(), format!("tried before: {}", attempt.what));
    case.attempts.push_back(Attempt { id: id.clone(), at_time: e.time(), ..attempt });
    count_earlier_work(case);
    Ok(Applied::made(words, id))
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
