//! What is to be done: each open repair of a case at each of its places, with the procedure for it, what must be asked, and what
//! makes it impossible.

use super::place_template::{place as place_of, place_at};
use super::procedures::{ProcedureRule, WayRule, Work};
use crate::case::{Case, Repair};
use crate::reasoning::knowledge::Knowledge;
use crate::reasoning::place_kinds::is_kind;
use crate::vehicle::{Place, PlaceKind, Vehicle};
use serde::Serialize;
use std::collections::BTreeSet;

/// What must be answered before the plan is sure; the plan is made for the usual answer.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Ask {
    /// gear, boot.
    pub code: &'static str,
    /// In words.
    pub message: String,
    /// Where.
    pub at: String,
    /// The repair.
    #[serde(rename = "for")]
    pub repair: String,
    /// What can be answered.
    pub choices: Vec<String>,
    /// What the plan takes for granted.
    pub usual: String,
}

/// What makes a plan impossible.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PlanProblem {
    /// unknown-fault, unknown-place, not-here, no-place, no-procedure, circular.
    pub code: &'static str,
    /// In words.
    pub message: String,
    /// Where, or the repair.
    pub at: String,
}

/// One piece of work at one place.
pub(super) struct Job<'a> {
    /// Ids of the repairs that it is for.
    pub(super) serves: BTreeSet<String>,
    pub(super) place: Place,
    pub(super) procedure: &'a ProcedureRule,
    /// Whether its new parts are bought: not where they are only refitted or greased.
    pub(super) buys: bool,
}

/// All work, with what is open about it.
#[derive(Default)]
pub(super) struct Jobs<'a> {
    pub(super) jobs: Vec<Job<'a>>,
    pub(super) asks: Vec<Ask>,
    pub(super) problems: Vec<PlanProblem>,
    /// Other ways of the work itself.
    pub(super) ways: Vec<WayRule>,
}

/// The fault whose place has two boots.
const BOOT_LEAKING: &str = "boot-leaking";
/// The stage of a repair that is made.
const DONE: &str = "done";

/// Whether a repair is planned or under way: not judged, not said to be done, and nothing was read or felt after it.
pub fn is_to_be_planned(case: &Case, r: &Repair) -> bool {
    let names = |of: &Option<String>| of.as_deref().is_some_and(|id| !id.is_empty() && id == r.id);
    let has_proof = || {
        case.observations.iter().any(|o| o.is_after() && names(&o.repair))
            || case.measurements.iter().any(|m| m.is_after() && names(&m.repair))
    };
    r.is_open() && r.stage.as_deref() != Some(DONE) && (r.stage.is_some() || !has_proof())
}

/// The id of a repair of a case, by its place in the list where a file names none.
pub fn repair_id(r: &Repair, index: usize) -> String {
    if r.id.is_empty() { format!("r{}", index + 1) } else { r.id.clone() }
}

/// Points on a part that a repair may name: it is worked on at the part.
const POINTS: [&str; 7] = ["pinion", "flange", "carrier", "front", "centre", "rear", "tyre"];

/// Whether an id is a place of the vehicle, a point on one, or a gear: not a joint that its shaft lacks.
fn is_named_place(v: &Vehicle, at: &str) -> bool {
    let Some(p) = v.place(at) else { return true };
    let rest = at[p.id.len()..].trim_start_matches('.');
    rest.is_empty() || POINTS.contains(&rest) || p.kind == PlaceKind::Gearbox && v.gear(rest).is_some()
}

struct Asked<'a> {
    v: &'a Vehicle,
    k: &'a Knowledge,
    ways: &'a BTreeSet<String>,
}

impl<'a> Jobs<'a> {
    /// The jobs of a case's repairs.
    pub(super) fn of(case: &'a Case, k: &'a Knowledge, ways: &'a BTreeSet<String>) -> Self {
        let x = Asked { v: &case.vehicle, k, ways };
        let mut out = Self::default();
        for (n, r) in case.repairs.iter().enumerate().filter(|(_, r)| is_to_be_planned(case, r)) {
            let id = repair_id(r, n);
            let mut places: Vec<&str> = r.all_places().collect();
            places.dedup();
            if places.is_empty() {
                out.refuse("no-place", "where it is to be done is not said", &id);
            }
            let work = match &r.task {
                Some(t) => Work::Task(t),
                None => Work::Fault(&r.fault),
            };
            places.iter().for_each(|at| out.add(&x, work, at, r, &id));
            for more in r.changed_with() {
                out.add_named(&x, &more.fault, &more.at, r, &id);
            }
        }
        out.join_covered();
        out
    }

    fn refuse(&mut self, code: &'static str, message: impl Into<String>, at: &str) {
        self.problems.push(PlanProblem { code, message: message.into(), at: at.into() });
    }

    fn add_named(&mut self, x: &Asked<'a>, fault: &str, at: &str, r: &Repair, id: &str) {
        self.add(x, Work::Fault(fault), at, r, id);
    }

    fn add(&mut self, x: &Asked<'a>, work: Work, at: &str, r: &Repair, id: &str) {
        let Some(named) = place_at(x.v, at).filter(|_| is_named_place(x.v, at)) else {
            return self.refuse("unknown-place", format!("this vehicle has no place “{at}”"), at);
        };
        // A point on a part, or a gear, is worked on at the part.
        let whole = x.v.place(at).unwrap_or_else(|| named.clone());
        let asked_gear = r.gear.clone().or_else(|| at.strip_prefix("gearbox.").map(str::to_string));
        let mut place = whole;
        let mut part: Option<String> = None;
        if work == Work::Fault(BOOT_LEAKING) {
            let joint = match place.kind {
                PlaceKind::HalfInner => Some("inner"),
                PlaceKind::HalfOuter => Some("outer"),
                _ => None,
            };
            if let Some(shaft) = place.whole().filter(|_| joint.is_some()).and_then(|w| x.v.place(&w)) {
                place = shaft;
            }
            if place.kind == PlaceKind::Half {
                let said = joint.map(String::from).or_else(|| r.boot.clone());
                let is_open = said.is_none();
                part = Some(said.unwrap_or_else(|| "outer".into()));
                if is_open {
                    self.ask(
                        "boot",
                        &format!("{}: which boot leaks, the inner or the outer one?", place.words),
                        &place.id,
                        id,
                        &["inner", "outer"],
                        "outer",
                    );
                }
            }
        }
        if let Work::Fault(f) = work {
            let Some(fault) = x.k.fault(f) else {
                return self.refuse("unknown-fault", format!("“{f}” is no fault that is known"), at);
            };
            let Some(kind) = fault.at.iter().find(|kind| is_kind(x.v, &place, kind)) else {
                let message = format!("{} cannot have “{}” on this vehicle", place.words, fault.name);
                return self.refuse("not-here", message, at);
            };
            if kind == "gear" && asked_gear.is_none() {
                let gears: Vec<&str> = x.v.gearbox.gears.iter().map(|g| g.name.as_str()).collect();
                let usual = gears.get(1).or(gears.first()).copied().unwrap_or_default();
                self.ask("gear", &format!("{}: which gear is it?", place.words), &place.id, id, &gears, usual);
            }
        }
        let found = x.k.procedures.procedures_at(work, x.v, &place, part.as_deref());
        self.ways.extend(found.iter().filter_map(|r| r.way.clone()));
        match x.k.procedures.procedure(work, x.v, &place, part.as_deref(), x.ways) {
            Some(procedure) => {
                let worked_on = procedure.at.as_ref().and_then(|t| place_of(x.v, &place, t)).and_then(|at| place_at(x.v, &at));
                let buys = matches!(work, Work::Fault(_) | Work::Task("replace"));
                self.push(procedure, worked_on.unwrap_or(place), id, buys);
            }
            None => self.refuse("no-procedure", format!("how this is done at the {} is not known", place.words), at),
        }
    }

    /// A new joint comes with its boot: what another job does, too, is not done twice.
    fn join_covered(&mut self) {
        let covers = |a: &Job, b: &Job| a.procedure.covers.contains(&b.procedure.id) && a.place.same_assembly(&b.place);
        let is_covered = |jobs: &[Job], n: usize| jobs.iter().position(|a| covers(a, &jobs[n]));
        while let Some((n, by)) = (0..self.jobs.len()).find_map(|n| is_covered(&self.jobs, n).map(|by| (n, by))) {
            let serves = std::mem::take(&mut self.jobs[n].serves);
            self.jobs[by].serves.extend(serves);
            self.jobs.remove(n);
        }
    }

    fn ask(&mut self, code: &'static str, message: &str, at: &str, repair: &str, choices: &[&str], usual: &str) {
        let choices = choices.iter().map(|c| c.to_string()).collect();
        self.asks.push(Ask { code, message: message.into(), at: at.into(), repair: repair.into(), choices, usual: usual.into() });
    }

    /// The same work at the same place is done once, for all that ask for it.
    fn push(&mut self, procedure: &'a ProcedureRule, place: Place, id: &str, buys: bool) {
        match self.jobs.iter_mut().find(|j| j.procedure.id == procedure.id && j.place.id == place.id) {
            Some(j) => {
                j.serves.insert(id.to_string());
                j.buys |= buys;
            }
            None => self.jobs.push(Job { serves: [id.to_string()].into(), place, procedure, buys }),
        }
    }
}
