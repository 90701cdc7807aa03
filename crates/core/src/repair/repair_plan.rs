//! The repair plan of a case: one graph of steps for all open repairs, in an order, with the kit, what is put back and what is owed.
//!
//! It is worked out of the case each time: steps that are done, and parts that are off, are left out; what is added or dropped is in or
//! out of the next one. A step's id is made of what is done and where, so that it stays the same.

use super::drive_steps::{prove, secure};
use super::job::{Ask, Job, Jobs, PlanProblem, is_to_be_planned, repair_id};
use super::kit::Kit;
use super::procedures::WayRule;
use super::put_back::not_put_back;
use super::schedule::{Schedule, ScheduleInput, best_order, schedule, standings};
use super::step::{On, Role, Step};
use super::step_graph::StepGraph;
use crate::case::{Case, Torque};
use crate::reasoning::knowledge::Knowledge;
use crate::vehicle::{Corner, End};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use std::collections::BTreeSet;

/// Something that is put back at the end.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Restore {
    /// What.
    pub what: String,
    /// Where.
    pub at: String,
    /// The step that does it; none where it is another trade's.
    pub step: Option<String>,
}

/// After how far something is due.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct After {
    /// km.
    pub km: f64,
}

/// What is due after the proof.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Owed {
    /// What is looked at or done.
    pub what: String,
    /// Where.
    pub at: String,
    /// When.
    pub after: After,
}

/// Another way to the same end, and what it comes to beside the plan.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Way {
    /// Kept in the repair that takes it.
    pub id: String,
    /// What differs.
    pub words: String,
    /// Whether the plan takes it.
    pub chosen: bool,
    /// The repair that takes it; the first of the plan where none does.
    #[serde(rename = "for")]
    pub repair: String,
    /// Hands-on minutes of the plan with it: low, likely, high.
    pub minutes: [f64; 3],
    /// Likely minutes from start to end.
    pub elapsed: f64,
    /// What it disturbs that the plan without it leaves alone.
    pub disturbs: Vec<String>,
    /// What it leaves alone.
    pub spares: Vec<String>,
    /// What is due afterwards that the plan without it does not owe.
    pub owes: Vec<String>,
}

/// A plan.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct RepairPlan {
    /// The steps, as they are taken apart and put together.
    pub steps: Vec<Step>,
    /// Their order and what it costs.
    pub schedule: Schedule,
    /// What must lie ready.
    pub kit: Kit,
    /// What is put back.
    pub restore: Vec<Restore>,
    /// What is due later.
    pub owed: Vec<Owed>,
    /// What must be answered first.
    pub asks: Vec<Ask>,
    /// What makes it impossible.
    pub problems: Vec<PlanProblem>,
    /// Other ways in, each compared with the plan without it.
    pub ways: Vec<Way>,
}

/// What is wanted of a plan.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Aim {
    /// The repairs are made.
    #[default]
    Repair,
    /// What is off is put back as it was, unrepaired.
    PutBack,
}

impl RepairPlan {
    /// A step by its id.
    pub fn step(&self, id: &str) -> Option<&Step> {
        self.steps.iter().find(|s| s.id == id)
    }

    /// When it must be begun to be ready by then: as is likely, and to be safe. Waits are counted, nights are not.
    pub fn begin_by(&self, due: Timestamp) -> Option<[Timestamp; 2]> {
        let before = |minutes: f64| due.checked_sub(SignedDuration::from_secs((minutes * 60.0).round() as i64)).ok();
        Some([before(self.schedule.elapsed[1])?, before(self.schedule.elapsed[2])?])
    }

    /// The steps in their order with when each begins, and for how long nothing could be done before it: likely minutes.
    pub fn timed(&self) -> Vec<(&Step, f64, f64)> {
        let mut now = 0.0;
        let timed = |(s, from): (_, &f64)| {
            let s: &Step = s;
            let idle = (from - now).max(0.0);
            now = from + s.minutes[1];
            (s, *from, idle)
        };
        self.in_order().zip(&self.schedule.starts).map(timed).collect()
    }

    /// The steps in the order in which they are done.
    pub fn in_order(&self) -> impl Iterator<Item = &Step> {
        self.schedule.order.iter().filter_map(|id| self.step(id))
    }
}

/// The plan for the repairs of a case that are planned or under way.
///
/// ```
/// use baricord_core::{case::Case, reasoning::knowledge::builtin, vehicle::sample};
/// use baricord_core::repair::repair_plan::{Aim, repair_plan};
/// let mut case = Case::new("c", "Mail van", sample::rear_drive(2));
/// case.repairs.push_back(baricord_core::case::Repair { fault: "joint-worn".into(), at: Some("prop.rear.j2".into()), ..Default::default() });
/// let plan = repair_plan(&case, builtin(), Aim::Repair);
/// assert!(plan.problems.is_empty() && plan.schedule.order.len() == plan.steps.len());
/// ```
pub fn repair_plan(case: &Case, k: &Knowledge, aim: Aim) -> RepairPlan {
    let chosen: BTreeSet<String> =
        case.repairs.iter().filter(|r| is_to_be_planned(case, r)).filter_map(|r| r.way.clone()).collect();
    let (mut plan, ways) = plan_by(case, k, &chosen, aim);
    if aim == Aim::Repair {
        plan.ways = ways.iter().map(|w| compare(case, k, &chosen, &plan, w)).collect();
    }
    plan
}

/// The plan as it would be if nothing of it were done.
pub fn whole_plan(case: &Case, k: &Knowledge) -> RepairPlan {
    let mut fresh = case.clone();
    fresh.repairs.iter_mut().for_each(|r| r.done.clear());
    if let Some(s) = &mut fresh.state {
        s.off.clear();
    }
    repair_plan(&fresh, k, Aim::Repair)
}

/// A way beside the plan without it.
fn compare(case: &Case, k: &Knowledge, chosen: &BTreeSet<String>, plan: &RepairPlan, w: &WayRule) -> Way {
    let is_chosen = chosen.contains(&w.id);
    let other: BTreeSet<String> = match is_chosen {
        true => chosen.iter().filter(|c| **c != w.id).cloned().collect(),
        false => chosen.iter().cloned().chain([w.id.clone()]).collect(),
    };
    let beside = plan_by(case, k, &other, Aim::Repair).0;
    let (with, without) = if is_chosen { (plan, &beside) } else { (&beside, plan) };
    let disturbed = |p: &RepairPlan| -> BTreeSet<String> {
        let restored = p.restore.iter().map(|r| r.what.clone());
        let parted = p.steps.iter().filter(|s| s.role == Role::Unfasten).flat_map(|s| s.fasteners.iter().map(|f| f.what.clone()));
        let drained =
            p.steps.iter().filter(|s| s.role == Role::Drain).map(|s| format!("oil of {}", case.vehicle.place_words(&s.at)));
        restored.chain(parted).chain(drained).collect()
    };
    let (a, b) = (disturbed(with), disturbed(without));
    let due = |p: &RepairPlan| p.owed.iter().map(|o| o.what.clone()).collect::<BTreeSet<String>>();
    let planned = || case.repairs.iter().enumerate().filter(|(_, r)| is_to_be_planned(case, r));
    let taken = planned().find(|(_, r)| r.way.as_ref() == Some(&w.id)).or_else(|| planned().next());
    Way {
        repair: taken.map_or(String::new(), |(n, r)| repair_id(r, n)),
        id: w.id.clone(),
        words: w.words.clone(),
        chosen: is_chosen,
        minutes: with.schedule.minutes,
        elapsed: with.schedule.elapsed[1],
        disturbs: a.difference(&b).cloned().collect(),
        spares: b.difference(&a).cloned().collect(),
        owes: due(with).difference(&due(without)).cloned().collect(),
    }
}

/// The plan in chosen ways, and every other way that there would be.
fn plan_by(case: &Case, k: &Knowledge, ways: &BTreeSet<String>, aim: Aim) -> (RepairPlan, Vec<WayRule>) {
    let procedures = &*k.procedures;
    let Jobs { jobs, asks, problems, ways: mut others } = Jobs::of(case, k, ways);
    let mut plan = RepairPlan { asks, problems, ..RepairPlan::default() };
    let Some(first) = jobs.first() else { return (plan, vec![]) };
    let mut g = StepGraph::of_jobs(&case.vehicle, procedures, ways, &jobs);
    for u in &g.units {
        others.extend(procedures.units_at(&u.rule.id, &case.vehicle, &u.place).iter().filter_map(|r| r.way.clone()));
    }
    others.sort_by(|a, b| a.id.cmp(&b.id));
    others.dedup();
    let all: BTreeSet<String> = jobs.iter().flat_map(|j| j.serves.clone()).collect();
    secure(&mut g, case, &first.place.id, &all);
    wait_for_power(&mut g);
    let places: Vec<String> = jobs.iter().map(|j| j.place.id.clone()).collect();
    prove(&mut g, case, &first.place.id, &places, &all);
    if g.ancestors().is_none() {
        let message = "the procedures of these repairs ask for each other first".into();
        plan.problems.push(PlanProblem { code: "circular", message, at: first.place.id.clone() });
        return (plan, others);
    }
    let done = done_steps(case, &g);
    let unwanted = if aim == Aim::PutBack { not_put_back(&g, &done) } else { BTreeSet::new() };
    (plan.owed, plan.restore) = (owed(&g), handed_over(case, &g, &jobs));
    let is_up_already = |s: &Step| s.id.starts_with("secure-lift@");
    let was_raised = done.iter().any(|s| is_up_already(&g.steps[*s]));
    g.leave_out(|i, _| done.contains(&i) || unwanted.contains(&i));
    g.reduce();
    let ids: Vec<String> = g.steps.iter().map(|s| s.id.clone()).collect();
    for (s, before) in g.steps.iter_mut().zip(&g.before) {
        s.needs = before.iter().map(|b| ids[*b].clone()).collect();
    }
    fill_torques(case, &mut g.steps);
    let is_up = case.state.as_ref().is_some_and(|s| s.is_up()) || was_raised && has_lift_work(&g);
    let start = if is_up { On::Lift } else { On::Ground };
    let input = ScheduleInput { steps: &g.steps, before: &g.before, start };
    let (order, bound) = best_order(&input);
    plan.schedule = schedule(&input, &order, bound);
    let standing = standings(&input, &order);
    place_wheels(case, &mut g.steps, &order, &standing);
    plan.restore.splice(0..0, put_back(&g));
    plan.kit = Kit::of(case, &g.steps);
    plan.steps = g.steps;
    (plan, others)
}

/// Whether steps on the lift are left.
fn has_lift_work(g: &StepGraph) -> bool {
    g.steps.iter().any(|s| !s.bench && s.state.on == On::Lift)
}

/// A motor runs only with its battery back on.
fn wait_for_power(g: &mut StepGraph) {
    let is_power = |s: &Step| s.at == "battery" && s.role == Role::Restore;
    let power: Vec<usize> = (0..g.steps.len()).filter(|s| is_power(&g.steps[*s])).collect();
    let Some(all) = g.ancestors() else { return };
    for s in 0..g.steps.len() {
        let waits = g.steps[s].state.running && power.iter().all(|p| !all[*p].contains(&s));
        if waits {
            g.before[s].extend(power.iter().copied());
        }
    }
}

/// Steps that were ticked, and those that took off what is off.
fn done_steps(case: &Case, g: &StepGraph) -> BTreeSet<usize> {
    let ticked: BTreeSet<&str> = case.repairs.iter().flat_map(|r| &r.done).map(|d| d.step.as_str()).collect();
    let mut done: BTreeSet<usize> = (0..g.steps.len()).filter(|s| ticked.contains(g.steps[*s].id.as_str())).collect();
    for u in &g.units {
        let is_off = case.state.as_ref().is_some_and(|s| s.off.contains(&u.place.id));
        let is_begun_again = u.together.iter().any(|s| done.contains(s));
        if is_off && !is_begun_again {
            done.extend(u.apart.iter().copied());
        }
    }
    done
}

/// Torques and sizes that the case has, at the fasteners that they are of.
fn fill_torques(case: &Case, steps: &mut [Step]) {
    let known: Vec<(BTreeSet<String>, &Torque)> = case
        .repairs
        .iter()
        .enumerate()
        .filter(|(_, r)| is_to_be_planned(case, r))
        .flat_map(|(n, r)| r.torques.iter().map(move |t| ([repair_id(r, n)].into(), t)))
        .collect();
    for s in steps {
        let serves: BTreeSet<String> = s.serves.iter().cloned().collect();
        for f in &mut s.fasteners {
            let wanted = f.what.to_lowercase();
            let is_it = |t: &Torque| {
                let typed = t.what.trim().to_lowercase();
                !typed.is_empty() && (typed.contains(&wanted) || wanted.contains(&typed))
            };
            let mut figures = known.iter().filter(|(of, t)| !of.is_disjoint(&serves) && is_it(t)).map(|(_, t)| t);
            f.torque_nm = figures.clone().find_map(|t| t.nm);
            // What somebody measured here stands before what is usual.
            f.drive_mm = figures.find_map(|t| t.drive_mm).or(f.drive_mm);
        }
    }
}

/// How the wheels at each step's place stand, in the order in which they come off and go on.
fn place_wheels(case: &Case, steps: &mut [Step], order: &[usize], standing: &[On]) {
    let corner = |at: &str| case.vehicle.place(at).and_then(|p| p.corner);
    let end = |at: &str| case.vehicle.place(at).and_then(|p| p.end);
    let is_wheel = |s: &Step, role: Role| s.role == role && s.at.starts_with("wheel.");
    let comes_off: Vec<&str> = steps.iter().filter(|s| is_wheel(s, Role::Remove)).map(|s| s.at.as_str()).collect();
    let goes_on = steps.iter().filter(|s| is_wheel(s, Role::Fit) && !comes_off.contains(&s.at.as_str()));
    let mut off: BTreeSet<Corner> = goes_on.filter_map(|s| corner(&s.at)).collect();
    let both_off = |off: &BTreeSet<Corner>, e: End| e.corners().iter().all(|c| off.contains(c));
    for &s in order {
        let at = steps[s].at.clone();
        let is_off = match corner(&at) {
            Some(c) => off.contains(&c),
            None => end(&at).is_some_and(|e| both_off(&off, e)),
        };
        let on = standing[s];
        if steps[s].bench {
            steps[s].state.on = on;
        }
        steps[s].state.wheels = match on {
            On::Ground => "stand",
            On::Lift if is_off => "off",
            On::Lift => "hang",
        };
        if let Some(c) = corner(&at) {
            if is_wheel(&steps[s], Role::Remove) {
                off.insert(c);
            } else if is_wheel(&steps[s], Role::Fit) {
                off.remove(&c);
            }
        }
    }
}

/// What the plan itself puts back: what it takes off, disconnects, or sets otherwise.
fn put_back(g: &StepGraph) -> Vec<Restore> {
    let fits = g.units.iter().filter_map(|u| {
        let fit = u.together.iter().map(|s| &g.steps[*s]).find(|s| s.role == Role::Fit)?;
        Some(Restore { what: u.rule.words.clone(), at: u.place.id.clone(), step: Some(fit.id.clone()) })
    });
    let named =
        g.steps.iter().filter_map(|s| Some(Restore { what: s.restores.clone()?, at: s.at.clone(), step: Some(s.id.clone()) }));
    fits.chain(named).collect()
}

/// What another trade has to restore.
fn handed_over(case: &Case, g: &StepGraph, jobs: &[Job]) -> Vec<Restore> {
    let mut out: Vec<Restore> = vec![];
    let mut add = |what: &str, at: &str| {
        if !out.iter().any(|r: &Restore| r.what == what) {
            out.push(Restore { what: what.into(), at: at.into(), step: None });
        }
    };
    let aligned = g.units.iter().filter(|u| u.rule.alignment).map(|u| &u.place);
    aligned.chain(jobs.iter().filter(|j| j.procedure.alignment).map(|j| &j.place)).for_each(|p| add("wheel alignment", &p.id));
    for j in jobs {
        match j.procedure.handover.as_deref() {
            Some("brake") => add("brakes handed to those licensed for them", &j.place.id),
            Some(trade) => add(&format!("{trade} work handed to its own trade"), &j.place.id),
            None => {}
        }
    }
    if case.vehicle.is_electric() && g.units.iter().any(|u| u.rule.id == "high-voltage") {
        add("high-voltage work signed by who is licensed for it", "battery");
    }
    out
}

/// What is due later, each once.
fn owed(g: &StepGraph) -> Vec<Owed> {
    let mut out: Vec<Owed> = vec![];
    for u in &g.units {
        for o in &u.rule.owed {
            if !out.iter().any(|x| x.what == o.what) {
                out.push(Owed { what: o.what.clone(), at: u.place.id.clone(), after: After { km: o.km } });
            }
        }
    }
    if out.is_empty() {
        let at = g.steps.first().map_or(String::new(), |s| s.at.clone());
        out.push(Owed { what: "listened and looked at again".into(), at, after: After { km: 50.0 } });
    }
    out
}
