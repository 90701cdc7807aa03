//! Rules of the repair plan: how a repair is done, which of its steps are.

use super::act::{RepairSpecification, RepairSteps};
use super::repairs::{open_repair, words};
use super::words::known;
use super::{Applied, CaseEdit, EditContext};
use crate::case::{Case, StepDone};
use crate::error::Problem;
use crate::repair::procedures::shipped_procedures;
use crate::repair::repair_plan::{Aim, RepairPlan, repair_plan};
use crate::repair::step::{Role, Step};
use std::collections::BTreeSet;

/// Which boots a half shaft has.
const BOOTS: [&str; 2] = ["inner", "outer"];

fn plan(x: &EditContext, case: &Case) -> RepairPlan {
    repair_plan(case, x.knowledge, shipped_procedures(), Aim::Repair)
}

/// The plan as it would be if nothing of it were done.
fn whole_plan(x: &EditContext, case: &Case) -> RepairPlan {
    let mut fresh = case.clone();
    fresh.repairs.iter_mut().for_each(|r| r.done.clear());
    if let Some(s) = &mut fresh.state {
        s.off.clear();
    }
    plan(x, &fresh)
}

/// Whether a mark of this repair is ticked.
pub(super) fn is_marked(x: &EditContext, case: &Case, id: &str) -> bool {
    let Some(r) = case.repairs.iter().find(|r| r.id == id).filter(|r| !r.done.is_empty()) else { return false };
    let whole = whole_plan(x, case);
    r.done.iter().any(|d| whole.step(&d.step).is_some_and(|s| s.role == Role::Mark))
}

pub(super) fn specify(x: &EditContext, case: &mut Case, d: &RepairSpecification) -> Result<Applied, Problem> {
    if let Some(way) = d.way.as_deref().filter(|w| !w.is_empty()) {
        let ways = plan(x, case).ways;
        if !ways.iter().any(|w| w.id == way) {
            return Err(Problem::new("unknown-way", format!("“{way}” is no way in of this repair")).field("way"));
        }
    }
    if let Some(gear) = &d.gear
        && case.vehicle.gear(gear).is_none()
    {
        return Err(Problem::new("unknown-gear", format!("this gearbox has no gear “{gear}”")).field("gear"));
    }
    d.boot.iter().try_for_each(|b| known(b, &BOOTS, "unknown-boot", "boot"))?;
    let r = open_repair(case, &d.id)?;
    if let Some(way) = &d.way {
        r.way = Some(way.clone()).filter(|w| !w.is_empty());
    }
    r.gear = d.gear.clone().or(r.gear.take());
    r.boot = d.boot.clone().or(r.boot.take());
    Ok(Applied::words(format!("how it is repaired: {}", words(x, case, &d.id))))
}

/// What must be done before a step, for its safety or because it is lost afterwards, and is not done yet.
fn first<'p>(plan: &'p RepairPlan, step: &Step, with: &BTreeSet<&str>) -> Option<&'p Step> {
    let mut open: Vec<&str> = step.needs.iter().map(String::as_str).collect();
    let mut seen = BTreeSet::new();
    while let Some(id) = open.pop() {
        if !seen.insert(id) {
            continue;
        }
        let Some(s) = plan.step(id) else { continue };
        let is_gate = matches!(s.role, Role::Secure | Role::Support | Role::Mark) || s.is_ready_check();
        if is_gate && !with.contains(s.id.as_str()) {
            return Some(s);
        }
        open.extend(s.needs.iter().map(String::as_str));
    }
    None
}

/// Steps are ticked. That all lies ready, and what secures, carries or marks, comes first: it is refused, and says what.
pub(super) fn finish(x: &EditContext, case: &mut Case, e: &CaseEdit, d: &RepairSteps) -> Result<Applied, Problem> {
    let plan = plan(x, case);
    let with: BTreeSet<&str> = d.steps.iter().map(String::as_str).collect();
    let mut done = vec![];
    for id in &d.steps {
        if case.repairs.iter().any(|r| r.done.iter().any(|s| s.step == *id)) {
            continue;
        }
        let Some(step) = plan.step(id) else {
            return Err(Problem::new("unknown-step", format!("“{id}” is no step of this plan")).field("steps"));
        };
        if let Some(before) = first(&plan, step, &with) {
            return Err(Problem::new("not-yet", format!("first: {}", before.what)).field("steps"));
        }
        done.push(step);
    }
    let r = open_repair(case, &d.id)?;
    for s in &done {
        r.done.push(StepDone { step: s.id.clone(), at_time: e.time(), by: e.person() });
    }
    if r.stage.is_none() || r.stage.as_deref() == Some("planned") {
        r.stage = Some("under-way".into());
    }
    let named = done.iter().map(|s| s.what.as_str()).collect::<Vec<_>>().join("; ");
    Ok(Applied::words(format!("done: {named}")))
}

pub(super) fn reopen(x: &EditContext, case: &mut Case, d: &RepairSteps) -> Result<Applied, Problem> {
    let whole = whole_plan(x, case);
    open_repair(case, &d.id)?;
    for id in &d.steps {
        let is_ticked = case.repairs.iter().any(|r| r.done.iter().any(|s| s.step == *id));
        if !is_ticked {
            return Err(Problem::new("unknown-step", format!("“{id}” is not ticked")).field("steps"));
        }
    }
    for r in &mut case.repairs {
        r.done.retain(|s| !d.steps.contains(&s.step));
    }
    let named = d.steps.iter().filter_map(|id| whole.step(id)).map(|s| s.what.clone()).collect::<Vec<_>>().join("; ");
    Ok(Applied::words(format!("not done after all: {named}")))
}
