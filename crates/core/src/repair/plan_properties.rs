//! What holds of every plan: each fault of the catalogue on every layout where it can be, each task at each place, alone and together.

use super::drive_steps::FIRST_RUN;
use super::procedures::TASK_IDS;
use super::repair_plan::{Aim, RepairPlan, repair_plan};
use super::step::{On, Role, Step};
use crate::case::{Case, Repair};
use crate::reasoning::hypotheses;
use crate::reasoning::knowledge::builtin;

use crate::vehicle::{GearboxKind, Vehicle, layout::layouts};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

/// Every fault at every place of a vehicle: fault, place, gear.
fn faults_of(v: &Vehicle) -> Vec<(String, String, Option<String>)> {
    let all = hypotheses(v, builtin());
    all.into_iter().filter(|h| !h.is_pair() && !h.is_unknown()).map(|h| (h.fault, h.at, h.gear)).collect()
}

fn case_of(v: &Vehicle, work: &[(String, String, Option<String>)]) -> Case {
    let mut case = Case::new("c", "Case", v.clone());
    for (what, at, gear) in work {
        let task = TASK_IDS.contains(&what.as_str());
        case.repairs.push_back(Repair {
            fault: if task { String::new() } else { what.clone() },
            task: task.then(|| what.clone()),
            at: Some(at.clone()),
            gear: gear.clone(),
            ..Repair::default()
        });
    }
    case
}

fn plan_of(case: &Case) -> RepairPlan {
    repair_plan(case, builtin(), Aim::Repair)
}

/// Names the first property that a plan breaks.
fn broken(case: &Case, p: &RepairPlan) -> Option<String> {
    let ids: BTreeSet<&str> = p.steps.iter().map(|s| s.id.as_str()).collect();
    if ids.len() != p.steps.len() {
        let twice = p.steps.iter().find(|s| p.steps.iter().filter(|o| o.id == s.id).count() > 1);
        return Some(format!("two steps are {}", twice.map_or("", |s| &s.id)));
    }
    let place: BTreeMap<&str, usize> = p.schedule.order.iter().enumerate().map(|(n, id)| (id.as_str(), n)).collect();
    if place.len() != p.steps.len() || p.schedule.order.len() != p.steps.len() {
        return Some("the order does not hold every step once".into());
    }
    let order: Vec<&Step> = p.in_order().collect();
    let at = |s: &Step| place[s.id.as_str()];
    for s in &p.steps {
        if let Some(n) = s.needs.iter().find(|n| place.get(n.as_str()).is_none_or(|n| *n >= at(s))) {
            return Some(format!("{} comes before {n}", s.id));
        }
        if s.serves.is_empty() {
            return Some(format!("{} is for no repair", s.id));
        }
        if s.state.on == On::Ground && s.state.wheels != "stand" || s.state.on == On::Lift && s.state.wheels == "stand" {
            return Some(format!("{}: wheels {}", s.id, s.state.wheels));
        }
    }
    // A manual gearbox has no park; another one drives in gear, and stands in park.
    let is_manual = case.vehicle.gearbox.kind == GearboxKind::Manual;
    let cannot = |s: &&Step| match s.state.gearbox.as_str() {
        "park" => is_manual,
        "gear" => !is_manual && !FIRST_RUN.contains(&s.role),
        _ => false,
    };
    if let Some(s) = p.steps.iter().find(cannot) {
        return Some(format!("{}: the gearbox cannot be in {}", s.id, s.state.gearbox));
    }
    if !order[order.len().saturating_sub(5)..].iter().map(|s| s.role).eq(FIRST_RUN) {
        return Some("it does not end with the first run and the proof".into());
    }
    let earlier = |s: &Step, found: &dyn Fn(&Step) -> bool| order[..at(s)].iter().any(|o| found(o));
    let later = |s: &Step, found: &dyn Fn(&Step) -> bool| order[at(s) + 1..].iter().any(|o| found(o));
    let same = |s: &Step, o: &Step| s.fasteners.iter().all(|f| o.fasteners.iter().any(|x| x.what == f.what));
    for s in order.iter().copied() {
        let here = |role: Role| move |o: &Step| o.role == role && o.at == s.at;
        let fail = |what: &str| Some(format!("{}: {what}", s.id));
        if s.state.on == On::Lift && s.role != Role::Secure && !earlier(s, &|o| o.role == Role::Secure && o.state.on == On::Lift)
        {
            return fail("on the lift before it is secured there");
        }
        match s.role {
            Role::Torque if !earlier(s, &|o| here(Role::StartByHand)(o) && same(s, o)) => {
                return fail("torque without a start by hand");
            }
            Role::Unfasten if !later(s, &|o| (here(Role::Torque)(o) || here(Role::Lock)(o)) && same(s, o)) => {
                return fail("what is undone is not done up");
            }
            Role::Remove if !later(s, &here(Role::Fit)) => return fail("what is off is not fitted"),
            Role::PressOut if !later(s, &here(Role::PressIn)) => return fail("what is pressed out is not pressed in"),
            Role::Disconnect if !later(s, &|o| here(Role::Restore)(o) || here(Role::Fit)(o)) => {
                return fail("stays disconnected");
            }
            Role::Drain if !later(s, &here(Role::Fill)) || !later(s, &here(Role::Level)) => {
                return fail("drained and not filled");
            }
            Role::Fill if !earlier(s, &here(Role::Drain)) => return fail("filled and not drained"),
            Role::Part
                if !earlier(s, &|o| matches!(o.role, Role::Mark | Role::Photo) && (o.at == s.at || s.at.starts_with("hub")))
                    && !s.at.starts_with("hub") =>
            {
                return fail("parted without a mark");
            }
            Role::Read => {
                let twice = |o: &Step| here(Role::Read)(o) && o.reads == s.reads;
                if !earlier(s, &twice) && !later(s, &twice) {
                    return fail("read before and not after");
                }
            }
            Role::Torque | Role::Fill | Role::Level | Role::Lock if earlier(s, &|o| o.role == Role::ShortDrive) => {
                return fail("after the short drive");
            }
            _ => {}
        }
        if s.at.starts_with("hub.")
            && s.role == Role::Torque
            && s.fasteners.iter().any(|f| f.what.contains("axle nut") || f.what.contains("hub nut"))
            && s.state.on != On::Lift
        {
            return fail("torque of a hub nut with the hub carrying weight");
        }
        // A brake that is off, or taken apart, holds nothing.
        if let (true, Some(c)) = (s.state.brake == "on" && s.state.helper, case.vehicle.place(&s.at).and_then(|q| q.corner)) {
            let brake = format!("brake.{}", c.id());
            let is = |role: Role| order[..at(s)].iter().filter(|o| o.role == role && o.at == brake).count();
            if is(Role::Remove) > is(Role::Fit) {
                return fail("asks for a brake that is off");
            }
        }
        if s.state.on == On::Ground && !s.bench {
            let open =
                |role: Role, undone: &str| order[..at(s)].iter().filter(|o| o.role == role && o.at.starts_with(undone)).count();
            if open(Role::Remove, "wheel.") > open(Role::Fit, "wheel.") {
                return fail("stands on the ground with a wheel off");
            }
        }
        if s.role == Role::Remove && p.steps.iter().any(|o| o.role == Role::Support && o.at == s.at) {
            let first = |roles: &[Role]| order.iter().position(|o| o.at == s.at && roles.contains(&o.role));
            let heavy = ["gearbox", "transfer", "coupler", "diff.", "prop."].iter().any(|h| s.at.starts_with(h));
            if heavy && first(&[Role::Support]) > first(&[Role::Unfasten, Role::Remove]) {
                return fail("not carried before its first bolt");
            }
        }
    }
    let s = &p.schedule;
    let ends = s.starts.iter().zip(&order).map(|(from, step)| from + step.minutes[1]);
    let is_one_by_one = ends.clone().zip(s.starts.iter().skip(1)).all(|(end, next)| end <= next + 1e-6);
    if s.starts.len() != order.len() || !is_one_by_one || ends.fold(0.0, f64::max) > s.elapsed[1] + 1e-6 {
        return Some("two steps at once, or later than the end".into());
    }
    if s.cost > s.bound * 1.05 {
        return Some(format!("{:.1} min, more than 5 % over the bound {:.1} ({} steps)", s.cost, s.bound, p.steps.len()));
    }
    if s.cost < s.bound - 1e-6 || s.elapsed[1] < s.minutes[1] - 1e-6 {
        return Some(format!("cost {} below its bound {}", s.cost, s.bound));
    }
    None
}

#[test]
fn every_fault_on_every_layout_has_a_plan_that_holds() {
    let mut wrong = vec![];
    let mut seen = 0;
    for l in layouts() {
        for (fault, at, gear) in faults_of(&l.vehicle) {
            let case = case_of(&l.vehicle, &[(fault.clone(), at.clone(), gear)]);
            let p = plan_of(&case);
            seen += 1;
            if !p.problems.is_empty() {
                wrong.push(format!("{} {fault}@{at}: {}", l.id, p.problems[0].message));
            } else if let Some(b) = broken(&case, &p) {
                wrong.push(format!("{} {fault}@{at}: {b}", l.id));
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {seen}:\n{}", wrong.len(), wrong.iter().take(60).cloned().collect::<Vec<_>>().join("\n"));
    assert!(seen > 900, "{seen}");
}

#[test]
fn every_task_at_every_place_has_a_plan_that_holds_or_is_refused_with_a_reason() {
    let (mut planned, mut refused) = (0, vec![]);
    for l in layouts() {
        for place in l.vehicle.places() {
            for task in TASK_IDS {
                let case = case_of(&l.vehicle, &[(task.into(), place.id.clone(), None)]);
                let p = plan_of(&case);
                match p.problems.first() {
                    Some(x) => refused.push(format!("{task} {}: {}", place.id, x.message)),
                    None => {
                        planned += 1;
                        assert_eq!(broken(&case, &p), None, "{} {task} {}", l.id, place.id);
                    }
                }
            }
        }
    }
    refused.sort();
    refused.dedup();
    assert!(
        planned > 900 && refused.iter().all(|r| r.starts_with("oil ") || r.starts_with("grease wheel")),
        "{planned}\n{}",
        refused.join("\n")
    );
}

#[test]
fn a_deadline_says_when_to_begin() {
    let work = |f: &str, at: &str| (f.to_string(), at.to_string(), None);
    let p = plan_of(&case_of(&crate::vehicle::sample::rear_drive(2), &[work("joint-worn", "prop.rear.j2")]));
    let due: jiff::Timestamp = "2026-12-01T17:00:00Z".parse().unwrap();
    let [likely, safe] = p.begin_by(due).unwrap();
    let minutes = |t: jiff::Timestamp| due.duration_since(t).as_secs_f64() / 60.0;
    assert!((minutes(likely) - p.schedule.elapsed[1]).abs() < 0.02 && (minutes(safe) - p.schedule.elapsed[2]).abs() < 0.02);
    assert!(safe < likely);
}

#[test]
fn a_new_joint_comes_with_its_boot_and_a_shaft_with_both() {
    use crate::vehicle::sample::front_drive;
    let work = |f: &str, at: &str| (f.to_string(), at.to_string(), None);
    let joint = work("outer-joint-worn", "half.fl.outer");
    let both = case_of(&front_drive(), &[work("boot-leaking", "half.fl.outer"), joint.clone()]);
    let alone = case_of(&front_drive(), std::slice::from_ref(&joint));
    let ids = |c: &Case| plan_of(c).schedule.order;
    assert_eq!(ids(&both).len(), ids(&alone).len());
    assert!(plan_of(&both).steps.iter().any(|s| s.serves == ["r1", "r2"]));
    let shaft = case_of(&front_drive(), &[joint, work("half-shaft-bent", "half.fl"), work("inner-joint-worn", "half.fl.inner")]);
    assert!(!ids(&shaft).iter().any(|id| id.contains("joint")), "{:?}", ids(&shaft));
    // The other side is another shaft.
    let sides = case_of(&front_drive(), &[work("half-shaft-bent", "half.fl"), work("boot-leaking", "half.fr.outer")]);
    assert!(ids(&sides).iter().any(|id| id.starts_with("boot-outer")));
}

#[test]
fn steps_speak_of_their_own_part() {
    let mut by_words: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for l in layouts() {
        for (fault, at, gear) in faults_of(&l.vehicle) {
            for s in plan_of(&case_of(&l.vehicle, &[(fault, at, gear)])).steps {
                let kind = l.vehicle.place(&s.at).map_or(s.at.clone(), |p| format!("{:?}", p.kind));
                by_words.entry(s.what).or_default().insert(kind);
            }
        }
    }
    let shared: Vec<_> = by_words.iter().filter(|(_, kinds)| kinds.len() > 1).collect();
    assert!(shared.is_empty(), "{shared:#?}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]
    #[test]
    fn two_repairs_and_a_third_share_what_they_can(layout in 0..14_usize, a in 0..10_000_usize, b in 0..10_000_usize, c in 0..10_000_usize) {
        let all = layouts();
        let v = &all[layout % all.len()].vehicle;
        let faults = faults_of(v);
        let pick = |n: usize| faults[n % faults.len()].clone();
        let case = case_of(v, &[pick(a), pick(b), pick(c)]);
        let p = plan_of(&case);
        prop_assert_eq!(&p.problems, &vec![]);
        prop_assert_eq!(broken(&case, &p), None, "{:?} {:?} {:?}", pick(a), pick(b), pick(c));
        let alone: usize = [a, b, c].iter().map(|n| plan_of(&case_of(v, &[pick(*n)])).steps.len()).sum();
        prop_assert!(p.steps.len() < alone);
    }

    /// Steps that are done are left out, the rest stays as it was.
    #[test]
    fn a_plan_goes_on_from_where_it_is(layout in 0..14_usize, a in 0..10_000_usize, share in 0.0..1.0_f64) {
        let all = layouts();
        let v = &all[layout % all.len()].vehicle;
        let faults = faults_of(v);
        let mut case = case_of(v, &[faults[a % faults.len()].clone()]);
        let whole = plan_of(&case);
        let n = (whole.steps.len() as f64 * share) as usize;
        for id in &whole.schedule.order[..n] {
            case.repairs[0].done.push(crate::case::StepDone { step: id.clone(), ..Default::default() });
        }
        let rest = plan_of(&case);
        let left: BTreeSet<&String> = rest.schedule.order.iter().collect();
        let wanted: BTreeSet<&String> = whole.schedule.order[n..].iter().collect();
        prop_assert_eq!(left, wanted);
        prop_assert!(rest.schedule.elapsed[1] <= whole.schedule.elapsed[1] + 1e-6);
    }
}
