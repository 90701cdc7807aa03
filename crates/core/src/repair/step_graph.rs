//! One graph of steps for all repairs that are open: what several of them need off is taken off once; what goes on again waits for
//! all work behind it and for everything that came off after it.

use super::job::Job;
use super::layout_conditions::{all_hold, holds};
use super::place_template::{each, place, place_at, places, words_of};
use super::procedures::{FastenerRule, Procedures, StepRule, UnitRule, Where, parts_of_need};
use super::step::{Consumable, Fastener, On, Role, Step, StepState, Wait};
use crate::vehicle::{GearboxKind, Place, Vehicle};
use std::collections::{BTreeMap, BTreeSet};

/// A unit of this vehicle that comes off.
pub(super) struct UnitOff<'a> {
    pub(super) rule: &'a UnitRule,
    pub(super) place: Place,
    /// Units that are off before it.
    needs: BTreeSet<usize>,
    pub(super) serves: BTreeSet<String>,
    /// The unit that it comes off with.
    covered_by: Option<usize>,
    pub(super) apart: Vec<usize>,
    pub(super) together: Vec<usize>,
}

/// The steps of a job between taking apart and putting together.
pub(super) struct JobSteps {
    units: BTreeSet<usize>,
    pub(super) steps: Vec<usize>,
}

/// Steps with what each needs, by index.
pub(super) struct StepGraph<'a> {
    v: &'a Vehicle,
    procedures: &'a Procedures,
    ways: &'a BTreeSet<String>,
    pub(super) steps: Vec<Step>,
    /// What each step needs done before.
    pub(super) before: Vec<BTreeSet<usize>>,
    pub(super) units: Vec<UnitOff<'a>>,
    pub(super) jobs: Vec<JobSteps>,
    /// Where a unit of a name at a place stands in `units`.
    required: BTreeMap<(String, String), usize>,
}

/// Where a rule's step stands in a list that is being laid out.
struct Laid {
    id: String,
    steps: Vec<usize>,
}

impl<'a> StepGraph<'a> {
    /// The graph of jobs, without what secures the vehicle and proves the repair.
    pub(super) fn of_jobs(v: &'a Vehicle, procedures: &'a Procedures, ways: &'a BTreeSet<String>, jobs: &[Job<'a>]) -> Self {
        let (steps, before, units, required) = (vec![], vec![], vec![], BTreeMap::new());
        let mut g = Self { v, procedures, ways, steps, before, units, jobs: vec![], required };
        let mut wanted = vec![];
        for j in jobs {
            let off: BTreeSet<usize> = j.procedure.off.iter().flat_map(|n| g.require(n, &j.place)).collect();
            off.iter().for_each(|u| g.serve(*u, &j.serves));
            wanted.push(off);
        }
        g.join_covered();
        for u in 0..g.units.len() {
            g.lay_apart(u);
        }
        for (j, off) in jobs.iter().zip(wanted) {
            g.lay_job(j, off);
        }
        for u in 0..g.units.len() {
            g.lay_together(u);
        }
        for u in 0..g.units.len() {
            g.join_unit(u);
        }
        g.order_within_places();
        g
    }

    /// The units that a need stands for at a place, with all that they need.
    fn require(&mut self, need: &str, at: &Place) -> Vec<usize> {
        for one in need.split('|') {
            let (name, condition) = parts_of_need(one);
            if condition.is_some_and(|c| !holds(self.v, at, c)) {
                continue;
            }
            let (id, template) = name.split_once('@').map_or((name, None), |(i, t)| (i, Some(t)));
            let templates: Vec<String> = match template {
                Some(t) => vec![t.to_string()],
                None => self.procedures.units.iter().find(|u| u.id == id).map(|u| u.at.clone()).into_iter().collect(),
            };
            let ids = templates.iter().flat_map(|t| places(self.v, at, t)).collect::<Vec<_>>();
            let found: Vec<usize> = ids.iter().filter_map(|p| self.require_at(id, p)).collect();
            if !found.is_empty() {
                return found;
            }
        }
        vec![]
    }

    fn require_at(&mut self, id: &str, at: &str) -> Option<usize> {
        let key = (id.to_string(), at.to_string());
        if let Some(u) = self.required.get(&key) {
            return Some(*u);
        }
        let place = place_at(self.v, at)?;
        let rule = self.procedures.unit(id, self.v, &place, self.ways)?;
        let u = self.units.len();
        self.required.insert(key, u);
        let (apart, together) = (vec![], vec![]);
        let unit = UnitOff { rule, place, needs: BTreeSet::new(), serves: BTreeSet::new(), covered_by: None, apart, together };
        self.units.push(unit);
        let place = self.units[u].place.clone();
        for n in &rule.needs {
            let needed = self.require(n, &place);
            self.units[u].needs.extend(needed);
        }
        Some(u)
    }

    fn serve(&mut self, u: usize, serves: &BTreeSet<String>) {
        if serves.is_subset(&self.units[u].serves) && !serves.is_empty() {
            return;
        }
        self.units[u].serves.extend(serves.iter().cloned());
        for n in self.units[u].needs.clone() {
            self.serve(n, serves);
        }
    }

    fn unit_named(&self, need: &str, at: &Place) -> Option<usize> {
        let (id, template) = need.split_once('@')?;
        let p = place(self.v, at, template)?;
        self.required.get(&(id.to_string(), p)).copied()
    }

    /// What comes off with another unit is not taken off by itself.
    fn join_covered(&mut self) {
        for u in 0..self.units.len() {
            let (rule, at) = (self.units[u].rule, self.units[u].place.clone());
            self.units[u].covered_by = rule.covered_by.as_ref().and_then(|c| self.unit_named(c, &at));
            if let Some(c) = self.units[u].covered_by {
                let serves = self.units[u].serves.clone();
                self.serve(c, &serves);
            }
        }
        for u in 0..self.units.len() {
            self.units[u].needs = self.whole(&self.units[u].needs);
        }
    }

    /// Units with those that they come off with in their place.
    fn whole(&self, units: &BTreeSet<usize>) -> BTreeSet<usize> {
        units.iter().map(|u| self.units[*u].covered_by.unwrap_or(*u)).collect()
    }

    /// Lays out a list of steps: each after the one before, unless it says what it needs; the first after `base`.
    fn lay(
        &mut self,
        prefix: &str,
        rules: &'a [StepRule],
        at: &Place,
        f: &Fasteners,
        base: &BTreeSet<usize>,
        serves: &BTreeSet<String>,
    ) -> Vec<usize> {
        let mut laid: Vec<Laid> = vec![];
        let mut is_begun = false;
        for r in rules {
            if !all_hold(self.v, at, &r.when) {
                continue;
            }
            let named = |ids: &[String]| -> BTreeSet<usize> {
                laid.iter().filter(|l| ids.contains(&l.id)).filter_map(|l| l.steps.last().copied()).collect()
            };
            let mut needs = match &r.needs {
                Some(ids) => named(ids),
                None => laid.last().and_then(|l| l.steps.last().copied()).into_iter().collect(),
            };
            // What needs nothing is done at any time; the first of the others waits for what is off before.
            if r.needs.as_ref().is_none_or(|n| !n.is_empty()) && !std::mem::replace(&mut is_begun, true) {
                needs.extend(base.iter().copied());
            }
            let mut steps = vec![];
            for id in self.places_of_step(r, at) {
                let Some(spot) = place_at(self.v, &id) else { continue };
                for rule in split_fasten(r, &spot.words, f) {
                    let step = self.step(prefix, &rule, &spot, f, serves);
                    self.steps.push(step);
                    self.before.push(needs);
                    steps.push(self.steps.len() - 1);
                    needs = steps.last().copied().into_iter().collect();
                }
            }
            if !steps.is_empty() {
                laid.push(Laid { id: r.id.clone(), steps });
            }
        }
        laid.into_iter().flat_map(|l| l.steps).collect()
    }

    fn places_of_step(&self, r: &StepRule, at: &Place) -> Vec<String> {
        match (&r.each, &r.at) {
            (Some(kind), _) => each(self.v, at, kind),
            (None, Some(t)) => places(self.v, at, t),
            (None, None) => vec![at.id.clone()],
        }
    }

    fn step(&self, prefix: &str, r: &StepRule, spot: &Place, f: &Fasteners, serves: &BTreeSet<String>) -> Step {
        let on = r.on.on().unwrap_or(On::Lift);
        let standing = if self.v.gearbox.kind == GearboxKind::Manual { "gear" } else { "park" };
        let or = |given: &Option<String>, lift: &str, ground: &str| {
            given.clone().unwrap_or_else(|| if on == On::Lift { lift.to_string() } else { ground.to_string() })
        };
        let gearbox = if r.running { "park" } else { "neutral" };
        let gearbox = if r.running && self.v.gearbox.kind == GearboxKind::Manual { "neutral" } else { gearbox };
        let fastener = |x: &FastenerRule| Fastener {
            what: x.what.clone(),
            count: x.count,
            drive_mm: x.drive,
            renew: x.renew,
            torque_nm: None,
        };
        Step {
            id: format!("{prefix}.{}@{}", r.id, spot.id),
            role: r.role,
            at: spot.id.clone(),
            what: sentence(&r.what, &spot.words),
            minutes: r.minutes,
            needs: vec![],
            serves: serves.iter().cloned().collect(),
            state: StepState {
                on,
                wheels: "hang",
                gearbox: or(&r.gearbox, gearbox, standing),
                brake: or(&r.brake, "off", "on"),
                helper: r.helper,
                running: r.running,
            },
            fasteners: r.f.iter().filter_map(|x| f.get(x)).map(fastener).collect(),
            caution: r.caution.clone(),
            reads: r.reads.clone(),
            opens: r.opens.iter().filter_map(|t| place(self.v, spot, t)).collect(),
            tools: r.tools.clone(),
            special_tools: r.special.clone(),
            consumables: r
                .consumables
                .iter()
                .map(|(what, amount, unit)| Consumable { what: what.clone(), amount: *amount, unit: unit.clone() })
                .collect(),
            new_parts: r.new.clone(),
            single_use: r.once.clone(),
            wait: r.wait.as_ref().map(|w| Wait { minutes: w.minutes, kind: w.kind.clone() }),
            bench: r.on == Where::Bench,
            can_rest: r.rest,
            restores: r.restore.clone(),
        }
    }

    fn ends(&self, units: &BTreeSet<usize>) -> BTreeSet<usize> {
        units.iter().flat_map(|u| self.apart_ends(*u)).collect()
    }

    /// The last step of taking a unit apart; where it has none, those of what it needs.
    fn apart_ends(&self, u: usize) -> BTreeSet<usize> {
        match self.units[u].apart.last() {
            Some(s) => [*s].into(),
            None => self.units[u].needs.iter().flat_map(|n| self.apart_ends(*n)).collect(),
        }
    }

    /// Lays out the steps that take a unit off, after those of all that it needs off.
    fn lay_apart(&mut self, u: usize) {
        if self.units[u].covered_by.is_some() || !self.units[u].apart.is_empty() {
            return;
        }
        let needs = self.units[u].needs.clone();
        needs.iter().for_each(|n| self.lay_apart(*n));
        let unit = &self.units[u];
        let (rule, at, serves, base) = (unit.rule, unit.place.clone(), unit.serves.clone(), self.ends(&needs));
        self.units[u].apart = self.lay(&rule.id, &rule.apart, &at, &rule.fasteners, &base, &serves);
    }

    /// Lays out the steps that put it on again; what they need comes with [`Self::join_unit`].
    fn lay_together(&mut self, u: usize) {
        let unit = &self.units[u];
        if unit.covered_by.is_some() {
            return;
        }
        let (rule, at, serves) = (unit.rule, unit.place.clone(), unit.serves.clone());
        self.units[u].together = self.lay(&rule.id, &rule.together, &at, &rule.fasteners, &BTreeSet::new(), &serves);
    }

    fn lay_job(&mut self, j: &Job<'a>, off: BTreeSet<usize>) {
        let units = self.whole(&off);
        let base = self.ends(&units);
        let steps = self.lay(&j.procedure.id, &j.procedure.steps, &j.place, &j.procedure.fasteners, &base, &j.serves);
        if !j.buys {
            steps.iter().for_each(|s| self.steps[*s].new_parts.clear());
        }
        self.jobs.push(JobSteps { units, steps });
    }

    /// Whether a unit is off when another one is.
    fn rests_on(&self, u: usize, needed: usize) -> bool {
        u == needed || self.units[u].needs.iter().any(|n| self.rests_on(*n, needed))
    }

    /// A unit goes on when the work behind it is done and what came off after it is on.
    fn join_unit(&mut self, u: usize) {
        let mut base: BTreeSet<usize> = self.apart_ends(u);
        for j in &self.jobs {
            if j.units.iter().any(|w| self.rests_on(*w, u)) {
                base.extend(j.steps.last());
            }
        }
        for other in self.units.iter().filter(|o| o.needs.contains(&u)) {
            base.extend(self.together_end(other, &self.units[u].rule.id));
        }
        let firsts: Vec<usize> = self.units[u].together.iter().copied().filter(|s| self.before[*s].is_empty()).collect();
        for s in firsts {
            self.before[s].extend(base.iter().copied());
        }
    }

    /// The step after which a unit is on for what comes off before it: what is done once the vehicle is down again, and what only some
    /// wait for, does not count.
    fn together_end(&self, of: &UnitOff, next: &str) -> Option<usize> {
        let counts = |s: &&usize| {
            let step = &self.steps[**s];
            let blocks =
                of.rule.together.iter().find(|r| step.id.starts_with(&format!("{}.{}@", of.rule.id, r.id))).map(|r| &r.blocks);
            let is_for_others = blocks.is_some_and(|b| !b.is_empty() && !b.iter().any(|x| x == next));
            (step.bench || step.state.on == On::Lift) && !is_for_others
        };
        of.together.iter().rev().find(counts).copied()
    }

    /// Steps that ask for another one at the same place first, where that one is done at all.
    fn order_within_places(&mut self) {
        let mut more = vec![];
        for u in &self.units {
            for r in u.rule.apart.iter().chain(&u.rule.together) {
                for wanted in &r.after {
                    let Some((id, step)) = wanted.split_once('.') else { continue };
                    let same = |o: &&UnitOff| {
                        o.rule.id == id
                            && (o.place.id == u.place.id || o.place.corner.is_some() && o.place.corner == u.place.corner)
                    };
                    for o in self.units.iter().filter(same) {
                        let is =
                            |prefix: &str, name: &str, s: &usize| self.steps[*s].id.starts_with(&format!("{prefix}.{name}@"));
                        let first = o.apart.iter().chain(&o.together).find(|s| is(id, step, s));
                        let then = u.apart.iter().chain(&u.together).find(|s| is(&u.rule.id, &r.id, s));
                        more.extend(first.zip(then).map(|(a, b)| (*a, *b)));
                    }
                }
            }
        }
        for (first, then) in more {
            self.before[then].insert(first);
        }
    }

    /// Adds a step that stands outside of units and jobs.
    pub(super) fn add(&mut self, step: Step, before: BTreeSet<usize>) -> usize {
        self.steps.push(step);
        self.before.push(before);
        self.steps.len() - 1
    }

    /// Every step that must be done before each, by index; none where the needs go round in a circle.
    pub(super) fn ancestors(&self) -> Option<Vec<BTreeSet<usize>>> {
        let order = self.some_order()?;
        let mut all: Vec<BTreeSet<usize>> = vec![BTreeSet::new(); self.steps.len()];
        for s in order {
            let mut mine = self.before[s].clone();
            for b in &self.before[s] {
                mine.extend(all[*b].iter().copied());
            }
            all[s] = mine;
        }
        Some(all)
    }

    fn some_order(&self) -> Option<Vec<usize>> {
        let mut order = vec![];
        let mut done = vec![false; self.steps.len()];
        while order.len() < done.len() {
            let ready = (0..done.len()).find(|s| !done[*s] && self.before[*s].iter().all(|b| done[*b]))?;
            done[ready] = true;
            order.push(ready);
        }
        Some(order)
    }

    /// Leaves out every need that another one implies.
    pub(super) fn reduce(&mut self) {
        let Some(all) = self.ancestors() else { return };
        for s in 0..self.steps.len() {
            let mine = self.before[s].clone();
            self.before[s].retain(|b| !mine.iter().any(|o| o != b && all[*o].contains(b)));
        }
    }

    /// Takes a step out; what needed it needs what it needed.
    pub(super) fn leave_out(&mut self, is_out: impl Fn(usize, &Step) -> bool) {
        let out: Vec<bool> = self.steps.iter().enumerate().map(|(i, s)| is_out(i, s)).collect();
        let order = self.some_order().unwrap_or_default();
        let mut before = self.before.clone();
        for s in order {
            let now: BTreeSet<usize> =
                before[s].iter().flat_map(|b| if out[*b] { before[*b].clone() } else { [*b].into() }).collect();
            before[s] = now;
        }
        let place: BTreeMap<usize, usize> =
            (0..out.len()).filter(|s| !out[*s]).enumerate().map(|(new, old)| (old, new)).collect();
        let kept = |list: &[usize]| list.iter().filter_map(|s| place.get(s).copied()).collect::<Vec<_>>();
        for u in &mut self.units {
            (u.apart, u.together) = (kept(&u.apart), kept(&u.together));
        }
        for j in &mut self.jobs {
            j.steps = kept(&j.steps);
        }
        let steps = std::mem::take(&mut self.steps);
        self.steps = steps.into_iter().zip(&out).filter(|x| !x.1).map(|x| x.0).collect();
        self.before = before
            .into_iter()
            .zip(&out)
            .filter(|x| !x.1)
            .map(|x| x.0.iter().filter_map(|b| place.get(b).copied()).collect())
            .collect();
    }

    /// What a mechanic calls a place.
    pub(super) fn words(&self, at: &str) -> String {
        words_of(self.v, at)
    }
}

type Fasteners = BTreeMap<String, FastenerRule>;

/// `fasten` is two steps: every one by hand, then all to their torque.
fn split_fasten(r: &StepRule, at: &str, f: &Fasteners) -> Vec<StepRule> {
    if r.role != Role::Fasten {
        return vec![r.clone()];
    }
    let named: Vec<String> =
        r.f.iter().filter_map(|x| f.get(x)).map(|x| format!("{} {}", count_words(x.count), x.what)).collect();
    let count: u32 = r.f.iter().filter_map(|x| f.get(x)).map(|x| x.count).sum();
    let likely = (f64::from(count) * 0.25).clamp(0.5, 4.0);
    let by_hand = StepRule {
        id: format!("{}-by-hand", r.id),
        role: Role::StartByHand,
        what: format!("Start {} by hand, {at}", named.join(" and ")),
        minutes: [likely / 2.0, likely, likely * 2.0],
        caution: vec![],
        tools: vec![],
        special: vec![],
        once: vec![],
        consumables: vec![],
        rest: false,
        helper: false,
        ..r.clone()
    };
    vec![by_hand, StepRule { role: Role::Torque, needs: None, after: vec![], ..r.clone() }]
}

fn count_words(n: u32) -> String {
    match n {
        1 => "the".into(),
        2 => "both".into(),
        n => format!("all {n}"),
    }
}

/// A step's words with its place in them, its first letter large.
fn sentence(what: &str, at: &str) -> String {
    let text = what.replace("{at}", at);
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |c| c.to_uppercase().chain(letters).collect())
}
