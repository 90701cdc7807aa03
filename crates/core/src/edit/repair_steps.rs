//! Rules of the repair plan: how a repair is done, which of its steps are.

use super::act::{RepairSpecification, RepairSteps};
use super::repairs::{open_repair, words};
use super::words::{known, note};
use super::{Applied, CaseEdit, EditContext};
use crate::case::{Case, StepDone};
use crate::error::Problem;
use crate::repair::repair_plan::{Aim, RepairPlan, repair_plan, whole_plan};
use crate::repair::step::{Role, Step};
use crate::repair::teardown::Teardown;
use std::collections::BTreeSet;

/// Which boots a half shaft has.
const BOOTS: [&str; 2] = ["inner", "outer"];

fn plan(x: &EditContext, case: &Case) -> RepairPlan {
    repair_plan(case, x.knowledge, Aim::Repair)
}

/// What a repair that is dropped leaves off or hanging, in words; its steps go to another open repair where there is one.
pub(super) fn leaves_apart(x: &EditContext, case: &Case, id: &str) -> Option<String> {
    let r = case.repairs.iter().find(|r| r.id == id).filter(|r| !r.done.is_empty())?;
    let whole = whole_plan(case, x.knowledge);
    let t = Teardown::after(&case.vehicle, &whole, |s| r.done.iter().any(|d| d.step == s.id));
    let apart: Vec<String> = t.off.iter().chain(&t.hanging).map(|at| case.vehicle.place_words(at)).collect();
    Some(apart.join(", ")).filter(|w| !w.is_empty())
}

/// Whether a mark of this repair is ticked.
pub(super) fn is_marked(x: &EditContext, case: &Case, id: &str) -> bool {
    let Some(r) = case.repairs.iter().find(|r| r.id == id).filter(|r| !r.done.is_empty()) else { return false };
    let whole = whole_plan(case, x.knowledge);
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
    let aim = if d.put_back { Aim::PutBack } else { Aim::Repair };
    let plan = repair_plan(case, x.knowledge, aim);
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
    let not_ready = if done.iter().any(|s| s.is_ready_check()) && !d.put_back { plan.kit.not_ready() } else { vec![] };
    let reason = note(d.without.as_ref(), "without")?;
    if !not_ready.is_empty() && reason.is_none() {
        let message = format!("not ready: {}. See to it, or say why it can wait", not_ready.join("; "));
        return Err(Problem::new("not-ready", message).field("without"));
    }
    let without = reason.filter(|_| !not_ready.is_empty());
    let r = open_repair(case, &d.id)?;
    for s in &done {
        let without = without.clone().filter(|_| s.is_ready_check());
        r.done.push(StepDone { step: s.id.clone(), at_time: e.time(), by: e.person(), without });
    }
    if r.stage.is_none() || r.stage.as_deref() == Some("planned") {
        r.stage = Some("under-way".into());
    }
    let named = done.iter().map(|s| s.what.as_str()).collect::<Vec<_>>().join("; ");
    let without = without.map_or(String::new(), |w| format!("; begun before all lay ready: {w}"));
    Ok(Applied::words(format!("done: {named}{without}")))
}

pub(super) fn reopen(x: &EditContext, case: &mut Case, d: &RepairSteps) -> Result<Applied, Problem> {
    let whole = whole_plan(case, x.knowledge);
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::edit::apply;
    use crate::vehicle::sample::{front_drive, rear_drive};
    use serde_json::{Value, json};

    fn case_with(v: crate::vehicle::Vehicle, repair: Value) -> Case {
        crate::case::sample::case(v, &[json!({"repairs": [repair]})])
    }

    fn does(case: &mut Case, n: u32, act: Value) -> Result<Applied, Problem> {
        let edit = json!({"id": format!("0192f0c1-2a3b-7c4d-8e5f-{n:012}"), "at_time": "2026-11-30T08:00:00Z", "by": "Maren", "do": act});
        apply(case, &serde_json::from_value(edit).unwrap())
    }

    fn shaft() -> Case {
        case_with(rear_drive(2), json!({"id": "P1", "fault": "joint-worn", "at": "prop.rear.j2"}))
    }

    fn finish(case: &mut Case, n: u32, steps: &[&str]) -> Result<Applied, Problem> {
        does(case, n, json!({"finish-steps": {"id": "P1", "steps": steps, "without": "figures are on the wall chart"}}))
    }

    #[test]
    fn nothing_is_undone_before_it_lies_ready_is_secured_carried_and_marked() {
        let mut case = shaft();
        let bolts = "prop.last@prop.rear.j3";
        let refused = |case: &mut Case, n| finish(case, n, &[bolts]).unwrap_err();
        let gates =
            ["ready@prop.rear.j2", "secure-ground@prop.rear.j2", "secure-lift@prop.rear.j2", "prop.mark-slip@prop.rear.slip"];
        let order: Vec<String> = plan(&EditContext::default(), &case).schedule.order;
        let mut n = 1;
        for id in &order[..order.iter().position(|id| id == bolts).unwrap()] {
            let is_gate = gates.contains(&id.as_str()) || id.contains("mark") || id.contains("hold");
            if is_gate {
                assert_eq!(refused(&mut case, 900 + n).code, "not-yet", "{id}");
            }
            finish(&mut case, n, &[id.as_str()]).unwrap();
            n += 1;
        }
        let done = finish(&mut case, n, &[bolts]).unwrap();
        assert!(done.words.starts_with("done: Flange bolts out"), "{}", done.words);
        let r = &case.repairs[0];
        assert_eq!((r.stage.as_deref(), r.done.last().unwrap().by.as_deref()), (Some("under-way"), Some("Maren")));
        assert!(plan(&EditContext::default(), &case).step(bolts).is_none());
    }

    #[test]
    fn a_step_is_reopened_and_an_unknown_one_refused() {
        let mut case = shaft();
        assert_eq!(finish(&mut case, 1, &["no-such@engine"]).unwrap_err().code, "unknown-step");
        finish(&mut case, 2, &["ready@prop.rear.j2"]).unwrap();
        // The same again changes nothing.
        finish(&mut case, 3, &["ready@prop.rear.j2"]).unwrap();
        assert_eq!(case.repairs[0].done.len(), 1);
        does(&mut case, 4, json!({"reopen-steps": {"id": "P1", "steps": ["ready@prop.rear.j2"]}})).unwrap();
        assert!(case.repairs[0].done.is_empty());
        let again = does(&mut case, 5, json!({"reopen-steps": {"id": "P1", "steps": ["ready@prop.rear.j2"]}}));
        assert_eq!(again.unwrap_err().code, "unknown-step");
    }

    #[test]
    fn a_ticked_mark_stands_for_the_marks_in_words() {
        let mut case = shaft();
        let finished = json!({"finish-repair": {"id": "P1"}});
        assert_eq!(does(&mut case, 1, finished.clone()).unwrap_err().code, "marks");
        let ids: Vec<String> = plan(&EditContext::default(), &case).schedule.order;
        let all: Vec<&str> = ids.iter().map(String::as_str).collect();
        finish(&mut case, 2, &all).unwrap();
        does(&mut case, 3, finished).unwrap();
        assert_eq!((case.repairs[0].result.as_deref(), case.repairs[0].stage.as_deref()), (Some("open"), Some("done")));
    }

    #[test]
    fn a_repair_that_leaves_parts_off_is_put_back_first_or_hands_its_steps_on() {
        let mut case = shaft();
        let order = plan(&EditContext::default(), &case).schedule.order;
        let off = order.iter().position(|id| id == "prop.off-tail@prop.rear").unwrap();
        let all: Vec<&str> = order[..=off].iter().map(String::as_str).collect();
        finish(&mut case, 1, &all).unwrap();
        let cancel = json!({"cancel-repair": {"id": "P1"}});
        let refused = does(&mut case, 2, cancel.clone()).unwrap_err();
        assert!(refused.code == "parts-off" && refused.message.contains("propeller shaft"), "{}", refused.message);
        // Another repair goes on from what is off now.
        let mut two = case.clone();
        does(&mut two, 3, json!({"plan-work": {"task": "replace", "at": "prop.rear.sb1"}})).unwrap();
        does(&mut two, 4, cancel.clone()).unwrap();
        let then = plan(&EditContext::default(), &two);
        assert!(then.step("prop.off-tail@prop.rear").is_none() && then.step("prop.on-tail@prop.rear").is_some());
        // Or it is put back: every step of that plan can be ticked, and then the repair is dropped.
        let back = repair_plan(&case, EditContext::default().knowledge, Aim::PutBack).schedule.order;
        assert!(!back.iter().any(|id| id.starts_with("cross-joint")), "{back:?}");
        does(&mut case, 5, json!({"finish-steps": {"id": "P1", "steps": back, "put_back": true}})).unwrap();
        does(&mut case, 6, cancel).unwrap();
        assert!(case.repairs.is_empty());
    }

    #[test]
    fn a_way_a_boot_and_a_gear_are_chosen_among_those_there_are() {
        let mut case = case_with(front_drive(), json!({"id": "P1", "fault": "boot-leaking", "at": "half.fl"}));
        let before = plan(&EditContext::default(), &case);
        assert_eq!((before.asks.len(), before.asks[0].usual.as_str()), (1, "outer"));
        does(&mut case, 1, json!({"specify-repair": {"id": "P1", "boot": "outer", "way": "shaft-stays-in"}})).unwrap();
        let then = plan(&EditContext::default(), &case);
        assert!(then.asks.is_empty() && then.schedule.minutes[1] < before.schedule.minutes[1]);
        assert!(!then.steps.iter().any(|s| s.role == Role::Drain) && then.ways.iter().any(|w| w.chosen));
        for (n, how, code) in [
            (2, json!({"way": "by-magic"}), "unknown-way"),
            (3, json!({"boot": "middle"}), "unknown-boot"),
            (4, json!({"gear": "9"}), "unknown-gear"),
        ] {
            let mut act = how;
            act["id"] = json!("P1");
            assert_eq!(does(&mut case, n, json!({"specify-repair": act})).unwrap_err().code, code);
        }
        does(&mut case, 5, json!({"specify-repair": {"id": "P1", "way": ""}})).unwrap();
        assert_eq!(case.repairs[0].way, None);
    }
}
