//! Rules of repairs: chosen, planned, done, judged.

use super::act::{EntryId, Judgement, PlannedWork, RepairDetails};
use super::words::{known, need_place, need_symptom, note, short};
use super::{Applied, CaseEdit, EditContext};
use crate::case::vocabulary::TASKS;
use crate::case::{Case, Repair, Torque};
use crate::error::Problem;
use crate::reasoning::gate::gates;
use crate::reasoning::knowledge::Fault;
use crate::reasoning::unknown_words::{PARTS, RESULTS};
use crate::reasoning::wording::repair_words;
use crate::repair::job::is_to_be_planned;
use crate::repair::procedures::DRIVE_MM;
use crate::repair::purchasing::ChosenRepair;

fn check_choice(x: &EditContext, case: &Case, c: &ChosenRepair) -> Result<(), Problem> {
    need_symptom(case, c.symptom.as_deref())?;
    note(c.reason.as_ref(), "reason")?;
    c.problem(x.knowledge, &case.vehicle).map_or(Ok(()), Err)
}

/// A cause is chosen. Below the workshop's line, or with a cheap parting test open, not without a reason.
pub(super) fn choose(x: &EditContext, case: &mut Case, e: &CaseEdit, c: &ChosenRepair) -> Result<Applied, Problem> {
    check_choice(x, case, c)?;
    let symptom = c.symptom.as_deref().or(case.first_symptom()).unwrap_or_default();
    if c.reason.as_ref().is_none_or(|r| r.trim().is_empty()) {
        let g = gates(case, x.knowledge, symptom, x.analysis, usize::MAX);
        let asked = g.asked_of(c);
        if !asked.is_empty() {
            let why = g.asked_words(x.knowledge, &case.vehicle, &asked).join("; ");
            return Err(Problem::new("reason-needed", format!("say why this part is ordered: {why}")).field("reason"));
        }
    }
    let words = c.words(x.knowledge, &case.vehicle);
    let id = e.entry_id();
    c.plan(case, &id);
    if let Some(r) = case.repairs.back_mut() {
        (r.at_time, r.by) = (e.time(), e.person());
    }
    Ok(Applied::made(format!("chose: {words}"), id))
}

pub(super) fn replace_as_due(x: &EditContext, case: &mut Case, e: &CaseEdit, c: &ChosenRepair) -> Result<Applied, Problem> {
    check_choice(x, case, c)?;
    let (id, before) = (e.entry_id(), case.replaced_as_due.len());
    c.change_as_due(case, &id);
    for d in case.replaced_as_due.iter_mut().skip(before) {
        (d.at_time, d.by) = (e.time(), e.person());
    }
    Ok(Applied::made(format!("replaced as due: {}", c.words(x.knowledge, &case.vehicle)), id))
}

/// Work without a search is planned: it says nothing of a cause.
pub(super) fn plan_work(x: &EditContext, case: &mut Case, e: &CaseEdit, w: &PlannedWork) -> Result<Applied, Problem> {
    known(&w.task, &TASKS.map(|t| t.0), "unknown-task", "task")?;
    w.part.iter().try_for_each(|p| known(p, &PARTS, "unknown-part", "part"))?;
    w.at.iter().chain(&w.places).try_for_each(|at| need_place(case, Some(at)))?;
    let what = w.what.as_deref().map(str::trim).filter(|t| !t.is_empty()).map(|t| short(t, "what")).transpose()?;
    if w.at.is_none() && what.is_none() {
        return Err(Problem::new("missing", "which part? A place of the vehicle, or its name").field("what"));
    }
    let id = e.entry_id();
    let mut places: Vec<String> = vec![];
    for at in w.places.iter().filter(|at| Some(*at) != w.at.as_ref()) {
        if !places.contains(at) {
            places.push(at.clone());
        }
    }
    case.repairs.push_back(Repair {
        id: id.clone(),
        task: Some(w.task.clone()),
        at: w.at.clone(),
        what: what.map(String::from),
        places,
        part: w.part.clone(),
        reason: note(w.reason.as_ref(), "reason")?,
        at_time: e.time(),
        by: e.person(),
        ..Repair::default()
    });
    Ok(Applied::made(format!("planned: {}", words(x, case, &id)), id))
}

pub(super) fn open_repair<'c>(case: &'c mut Case, id: &str) -> Result<&'c mut Repair, Problem> {
    let gone = || Problem::new("missing", "this repair is not there any more").field("id");
    let r = case.repairs.iter_mut().find(|r| r.id == id).ok_or_else(gone)?;
    if r.is_open() {
        return Ok(r);
    }
    Err(Problem::new("judged", "this repair has its verdict already").field("id"))
}

fn check_torque(t: &Torque) -> Result<(), Problem> {
    if let Some(mm) = t.drive_mm
        && !DRIVE_MM.contains(&mm)
    {
        let message = format!("{}: {mm} mm across flats is no size of a fastener", t.what);
        return Err(Problem::new("bad-number", message).field("torque-drive"));
    }
    // The size alone is no figure that could be a guess.
    if t.nm.is_none() && t.drive_mm.is_some() && !t.what.trim().is_empty() {
        return Ok(());
    }
    if !t.nm.is_some_and(|nm| nm.is_finite() && nm > 0.0) {
        return Err(Problem::new("bad-number", format!("torque of {}: how many N·m?", t.what)).field("torque-nm"));
    }
    if t.source.trim().is_empty() {
        let message = format!("where does the torque of {} come from? A figure without a source is a guess", t.what);
        return Err(Problem::new("missing", message).field("torque-source"));
    }
    Ok(())
}

fn write(r: &mut Repair, d: &RepairDetails) -> Result<(), Problem> {
    d.part.iter().try_for_each(|p| known(p, &PARTS, "unknown-part", "part"))?;
    d.torques.iter().try_for_each(check_torque)?;
    for (new, there, field) in [
        (&d.plan, &mut r.plan, "plan"),
        (&d.marks, &mut r.marks, "marks"),
        (&d.note, &mut r.note, "note"),
        (&d.part, &mut r.part, "part"),
    ] {
        if let Some(text) = note(new.as_ref(), field)? {
            *there = Some(text);
        }
    }
    if !d.torques.is_empty() {
        r.torques = d.torques.clone();
    }
    Ok(())
}

pub(super) fn plan(x: &EditContext, case: &mut Case, d: &RepairDetails) -> Result<Applied, Problem> {
    write(open_repair(case, &d.id)?, d)?;
    Ok(Applied::words(format!("repair planned: {}", words(x, case, &d.id))))
}

pub(super) fn words(x: &EditContext, case: &Case, id: &str) -> String {
    case.repairs.iter().find(|r| r.id == id).map_or(String::new(), |r| repair_words(x.knowledge, case, r))
}

pub(super) fn finish(x: &EditContext, case: &mut Case, d: &RepairDetails) -> Result<Applied, Problem> {
    let is_marked = super::repair_steps::is_marked(x, case, &d.id);
    let r = open_repair(case, &d.id)?;
    write(r, d)?;
    let needs_marks = x.knowledge.fault(&r.fault).is_some_and(Fault::needs_marks);
    if needs_marks && r.marks.is_none() && !is_marked {
        let message = "say how the flanges were marked before they were parted; without marks the balance is lost";
        return Err(Problem::new("marks", message).field("marks"));
    }
    r.result = Some("open".into());
    r.stage = Some("done".into());
    Ok(Applied::words(format!("repair done: {}", words(x, case, &d.id))))
}

pub(super) fn cancel(x: &EditContext, case: &mut Case, id: &EntryId) -> Result<Applied, Problem> {
    let apart = super::repair_steps::leaves_apart(x, case, &id.id);
    let done = open_repair(case, &id.id)?.done.clone();
    let words = words(x, case, &id.id);
    let is_another = |r: &Repair| r.id != id.id && is_to_be_planned(case, r);
    let other = case.repairs.iter().find(|r| is_another(r)).map(|r| r.id.clone());
    match (other, apart) {
        // What is off stays off for the other one.
        (Some(other), _) => open_repair(case, &other)?.done.extend(done),
        (None, Some(apart)) => {
            let message = format!("still off: {apart}. Put it back unrepaired first, or plan what else is done while it is open");
            return Err(Problem::new("parts-off", message).field("id"));
        }
        (None, None) => {}
    }
    case.repairs.retain(|r| r.id != id.id);
    Ok(Applied::words(format!("cancelled the repair: {words}")))
}

pub(super) fn judge(case: &mut Case, j: &Judgement) -> Result<Applied, Problem> {
    known(&j.result, &RESULTS, "unknown-result", "result")?;
    let r = open_repair(case, &j.id)?;
    if !r.waits_for_proof() {
        return Err(Problem::new("missing", "this repair is planned, not done: there is nothing to judge yet").field("id"));
    }
    r.result = Some(j.result.clone());
    Ok(Applied::words(format!("verdict: {}", j.result.replace('-', " "))))
}
