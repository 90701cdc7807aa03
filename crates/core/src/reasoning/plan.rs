//! The plan that costs least until the fault is cured: the next three moves, and what ordering parts now would
//! cost against testing first.

use super::availability::TestInstance;
use super::danger;
use super::decision_problem::{Action, BeliefState, DecisionProblem, RepairAction, TestAction};
use super::information::{entropy, information_gain};
use super::knowledge::Knowledge;
use super::likelihood::Cell;
use super::preparation::{Before, Preparations, before, charged_minutes, comes_off_whole, going_up, own_minutes, shaft_off};
pub use super::test_selection::OutcomeMeaning;
use super::test_selection::{EvaluatedTest, WORTHWHILE_SHARE, sharpening_per_minute};
use super::{Hypothesis, Weighed};
use crate::case::Case;
use crate::case::fault_at::FaultAt;
use crate::vehicle::PlaceKind;
use serde::{Deserialize, Serialize};
use std::cell::OnceCell;

/// Causes that are kept apart; what is less likely goes together.
const MAX_CAUSES: usize = 14;
const CAUSE_MIN_PROBABILITY: f64 = 0.004;
/// Tests that are weighed: those that settle most for their time.
const MAX_TESTS: usize = 40;
/// Moves that are looked ahead.
pub const MOVES_AHEAD: u32 = 2;
/// Tests are alike whose plans differ by less than this share of what the best plan saves.
const ALIKE_SAVING_SHARE: f64 = 0.25;
/// Or by less than this share of what acting at once costs.
const ALIKE_COST_SHARE: f64 = 0.02;
/// Tests that are looked at for their worth, beside those that save most.
const MAX_TESTS_BY_WORTH: usize = 5;
/// Of what acting at once costs, a plan with a test may cost so much more where nothing is sure.
const HARDLY_MORE_COST_SHARE: f64 = 0.05;
/// What a plan with tests must save of what acting at once costs, as a share and in the workshop's money.
const MIN_SAVED_SHARE: f64 = 0.03;
const MIN_SAVED_MONEY: f64 = 3.0;
/// Moves of the plan that are shown.
const MAX_SHOWN_STEPS: usize = 3;

/// A move of the plan.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct PlanStep {
    /// The test; none where a part is replaced.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub test: Option<String>,
    /// The fault that is repaired; none where a test is made.
    #[serde(rename = "replace", skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
    /// What is repaired with it, of a pair.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<FaultAt>,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// Minutes, with what must be done before it.
    pub minutes: f64,
    /// Work and parts, in the workshop's money.
    pub cost: f64,
    /// What each outcome means; the plan goes on with the likeliest.
    pub outcomes: Vec<OutcomeMeaning>,
}

/// The plan of a symptom.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Plan {
    /// The next moves.
    pub steps: Vec<PlanStep>,
    /// What curing it costs on average when the plan is policy_cost, in the workshop's money.
    pub cost: f64,
    /// Acting beats testing: no test saves what it costs.
    pub enough: bool,
    /// What it costs on average when the likeliest cause is repaired now.
    pub repair_first: f64,
    /// What it costs on average when the best test comes first; none where no test is left.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub test_first: Option<f64>,
}

/// A case as a decision problem, with what its numbers stand for.
pub struct PlannedCase<'a> {
    /// The decision problem.
    pub problem: DecisionProblem,
    /// The hypotheses of each cause, the likeliest first; the last cause of the problem is everything else.
    pub causes: Vec<Vec<usize>>,
    /// The test of each test action, and what can come out of it.
    instances: Vec<(TestInstance<'a>, Vec<Cell>)>,
    /// How likely each outcome of each test action is for no reason.
    bases: Vec<Vec<f64>>,
    preparations: Preparations,
    /// What every plan counts too much on average: the last repair was not in vain.
    pub(crate) last_repair: f64,
    at_start: OnceCell<FirstAction>,
}

/// What looking ahead from a standing shows.
#[derive(Clone, Copy, Debug)]
pub(crate) struct FirstAction {
    /// What it costs until it is cured, times the weight of the standing.
    pub cost: f64,
    /// The move that begins it.
    pub first: Option<Action>,
    /// The same where the best test comes first; none where no test is left.
    pub test_first: Option<f64>,
}

/// What a repair costs: its minutes, work and parts together.
fn repair(k: &Knowledge, h: &Hypothesis) -> (f64, f64) {
    let hour = k.weights.time.rate / 60.0;
    match k.fault(&h.fault) {
        Some(f) => (f.minutes, f.minutes * hour + f.price),
        None => (k.weights.gate.hand_on_minutes, k.weights.gate.hand_on_minutes * hour),
    }
}

/// What a repair that did not cure costs besides its minutes and its parts: the second visit, the trust. Where nothing was
/// bought it is a share of that.
fn cost_in_vain(k: &Knowledge, all: &[Hypothesis], i: usize) -> f64 {
    let members: Vec<usize> = all[i].pair.map_or(vec![i], |m| m.to_vec());
    let buys = |m: &usize| k.fault(&all[*m].fault).is_some_and(|f| f.price > 0.0);
    let gate = &k.weights.gate;
    if members.iter().any(buys) { gate.vain_part } else { gate.vain_adjustment }
}

/// What the repair of one fault costs alone, and what must be done before it: going up, the shaft off, which a test may
/// have done already.
fn repair_before(case: &Case, k: &Knowledge, h: &Hypothesis) -> ((f64, f64), Preparations) {
    let (minutes, cost) = repair(k, h);
    let below = !h.place.as_ref().is_some_and(|p| matches!(p.kind, PlaceKind::Engine | PlaceKind::Strut));
    let mut before: Preparations = going_up(case, k).filter(|_| below).into_iter().collect();
    let shaft = k.weights.time.shaft_minutes;
    let comes_off = k.fault(&h.fault).is_some_and(|f| !f.in_place && f.minutes > shaft);
    if h.place.as_ref().is_some_and(comes_off_whole) && comes_off {
        before.extend(h.place.as_ref().and_then(|p| shaft_off(case, k, p)));
        return ((minutes - shaft, cost - shaft * k.weights.time.rate / 60.0), before);
    }
    ((minutes, cost), before)
}

/// The same of a single fault or of two at once.
fn repairs_before(case: &Case, k: &Knowledge, all: &[Hypothesis], i: usize) -> ((f64, f64), Preparations) {
    let members: Vec<usize> = all[i].pair.map_or(vec![i], |m| m.to_vec());
    let mut out = ((0.0, 0.0), vec![]);
    for m in members {
        let ((minutes, cost), before) = repair_before(case, k, &all[m]);
        out.0.0 += minutes;
        out.0.1 += cost;
        out.1.extend(before);
    }
    out
}

/// What is cured by one repair: the gears of one fault are one.
fn key(h: &Hypothesis) -> (&str, &str, Option<[usize; 2]>) {
    (&h.fault, &h.at, h.pair)
}

impl<'a> PlannedCase<'a> {
    /// What looking ahead from the beginning shows.
    pub(crate) fn first_action(&self, k: &Knowledge) -> FirstAction {
        *self.at_start.get_or_init(|| self.best_first_action(k, &self.problem.start()))
    }

    /// Lays out a symptom of a case.
    pub(crate) fn new(case: &Case, k: &'a Knowledge, w: &Weighed, evaluated: &[EvaluatedTest<'a>]) -> Self {
        let mut order: Vec<usize> = (0..w.all.len()).filter(|&i| w.p[i] > 0.0 && !w.all[i].is_unknown()).collect();
        order.sort_by(|&a, &b| w.p[b].total_cmp(&w.p[a]));
        let mut causes: Vec<Vec<usize>> = vec![];
        for i in order {
            match causes.iter_mut().find(|c| key(&w.all[c[0]]) == key(&w.all[i])) {
                Some(c) => c.push(i),
                None => causes.push(vec![i]),
            }
        }
        let sum = |c: &[usize]| c.iter().map(|&i| w.p[i]).sum::<f64>();
        causes.retain(|c| sum(c) >= CAUSE_MIN_PROBABILITY);
        causes.sort_by(|a, b| sum(b).total_cmp(&sum(a)));
        causes.truncate(MAX_CAUSES);
        let named: std::collections::HashSet<usize> = causes.iter().flatten().copied().collect();
        let others: Vec<usize> = (0..w.all.len()).filter(|i| !named.contains(i)).collect();
        let rest: f64 = others.iter().map(|&i| w.p[i]).sum();
        let mut p: Vec<f64> = causes.iter().map(|c| sum(c)).collect();
        p.push(rest);
        let hour = k.weights.time.rate / 60.0;
        let mut preparations: Preparations = vec![];
        let mut bits = |of: Preparations| -> u32 {
            of.into_iter().fold(0, |all, b| {
                let n = preparations.iter().position(|have| have.0 == b.0).unwrap_or_else(|| {
                    preparations.push(b);
                    preparations.len() - 1
                });
                // Beyond what the bits can tell apart a preparation is counted with the last.
                all | 1 << n.min(31)
            })
        };
        // Changing both of a pair cures each of them alone as well.
        let cures = |n: usize| -> u32 {
            let h = &w.all[causes[n][0]];
            let own = |c: &Vec<usize>| h.pair.is_some_and(|m| m.iter().any(|i| c.contains(i)));
            causes.iter().enumerate().filter(|(i, c)| *i == n || own(c)).fold(0, |bits, (i, _)| bits | 1 << i)
        };
        let mut repair_actions: Vec<RepairAction> = (0..causes.len())
            .map(|n| {
                let (own, before) = repairs_before(case, k, &w.all, causes[n][0]);
                // Every repair but the last one was in vain: what that costs besides counts with each.
                RepairAction { cost: own.1 + cost_in_vain(k, &w.all, causes[n][0]), needs: bits(before), cures: cures(n) }
            })
            .collect();
        repair_actions.push(RepairAction { cost: k.weights.gate.hand_on_minutes * hour, needs: 0, cures: 1 << causes.len() });
        let mut worth: Vec<(f64, &EvaluatedTest)> =
            evaluated.iter().filter(|l| l.bits > 0.005).map(|l| (l.bits / l.minutes, l)).collect();
        worth.sort_by(|a, b| b.0.total_cmp(&a.0));
        worth.truncate(MAX_TESTS);
        let (mut instances, mut test_actions, mut bases) = (vec![], vec![], vec![]);
        for (_, l) in worth {
            let t = &l.one;
            // The causes that are kept apart, and the rest as one.
            let mean = |row: &[f64], of: &[usize]| {
                of.iter().map(|&i| w.p[i] * row[i]).sum::<f64>() / of.iter().map(|&i| w.p[i]).sum::<f64>().max(1e-300)
            };
            let of_causes = |row: &Vec<f64>| causes.iter().map(|c| mean(row, c)).chain([mean(row, &others)]).collect();
            let needs = bits(before(case, k, t.test, t.at.as_ref()));
            let people = if t.test.helper { 2.0 } else { 1.0 };
            test_actions.push(TestAction {
                cost: charged_minutes(case, k, t.test, own_minutes(k, t.test, t.at.as_ref())) * hour * people + t.test.materials,
                needs,
                leaves: 0,
                ends: 0,
                driven: t.test.turns_wheels(),
                rows: l.likelihoods.rows.iter().map(of_causes).collect(),
            });
            instances.push((t.clone(), l.likelihoods.cells.clone()));
            bases.push(l.likelihoods.base());
        }
        let bit_of = |what: &Before| preparations.iter().position(|p| p.0 == *what).map_or(0, |n| 1 << n.min(31));
        for (test_action, (one, _)) in test_actions.iter_mut().zip(&instances).filter(|(_, (one, _))| one.test.is_of_the_road()) {
            test_action.leaves = bit_of(&Before::Driven);
            // A retest drives where it has been on the lift.
            test_action.ends = if one.test.lift { 0 } else { bit_of(&Before::Up) };
        }
        let costs = preparations.iter().map(|b| b.1 * hour).collect();
        let forbids = danger::forbids_driving(case, k, &w.all);
        let risk_of = |of: &Vec<usize>| {
            let (all, those) = of.iter().fold((0.0, 0.0), |s, &i| (s.0 + w.p[i], s.1 + if forbids[i] { w.p[i] } else { 0.0 }));
            k.weights.danger.driven_minutes * hour * those / f64::max(all, 1e-300)
        };
        let risk = causes.iter().chain([&others]).map(risk_of).collect();
        let last_repair = causes.iter().map(|c| sum(c) * cost_in_vain(k, &w.all, c[0])).sum();
        Self {
            problem: DecisionProblem { p, repair_actions, test_actions, preparations: costs, risk },
            causes,
            instances,
            bases,
            preparations,
            last_repair,
            at_start: OnceCell::new(),
        }
    }

    fn needed(&self, needs: u32, s: &BeliefState) -> f64 {
        let open = |b: &usize| needs & !s.prepared & (1 << b) != 0;
        (0..self.preparations.len()).filter(open).map(|b| self.preparations[b].1).sum()
    }

    fn first(&self, w: &Weighed, s: &BeliefState) -> (String, String, f64) {
        let sum: f64 = s.weight.iter().sum();
        let best = (0..s.weight.len()).max_by(|&a, &b| s.weight[a].total_cmp(&s.weight[b])).unwrap_or(0);
        let name = self.causes.get(best).map(|c| (w.all[c[0]].fault.clone(), w.all[c[0]].at.clone()));
        let (fault, at) = name.unwrap_or_else(|| ("others".into(), "none".into()));
        (fault, at, s.weight[best] / sum.max(1e-300))
    }

    /// One step with its words, and the belief state after its likeliest outcome.
    fn step(&self, case: &Case, k: &Knowledge, w: &Weighed, s: &BeliefState, m: Action) -> (PlanStep, BeliefState) {
        let hour = k.weights.time.rate / 60.0;
        let sum: f64 = s.weight.iter().sum();
        let meaning = |outcome: &str, place: Option<String>, then: &BeliefState, p: f64| {
            let (fault, at, p_then) = self.first(w, then);
            OutcomeMeaning { outcome: outcome.into(), place, p, fault, at, p_then }
        };
        match m {
            Action::Test(t) => {
                let ((one, cells), test_action) = (&self.instances[t], &self.problem.test_actions[t]);
                let after: Vec<BeliefState> = (0..test_action.rows.len()).map(|o| self.problem.after(s, t, o)).collect();
                let chance = |s: &BeliefState| s.weight.iter().sum::<f64>() / sum;
                let of = |(c, a): (&Cell, &BeliefState)| {
                    let place = c.place.as_ref().map(|p| p.id.clone());
                    meaning(&one.test.outcomes[c.outcome].id, place, a, chance(a))
                };
                // What this place cannot have does not come out.
                let outcomes = cells.iter().zip(&after).filter(|(_, a)| chance(a) > 0.0).map(of).collect();
                let minutes = own_minutes(k, one.test, one.at.as_ref()) + self.needed(test_action.needs, s);
                let likeliest = after.into_iter().max_by(|a, b| chance(a).total_cmp(&chance(b)));
                let step = PlanStep {
                    test: Some(one.test.id.clone()),
                    fault: None,
                    with: vec![],
                    at: one.at.as_ref().map(|p| p.id.clone()),
                    gear: one.gear.clone(),
                    minutes,
                    cost: minutes * hour,
                    outcomes,
                };
                (step, likeliest.unwrap_or_else(|| s.clone()))
            }
            Action::Replace(c) => {
                let (needs, of) = (self.problem.repair_actions[c].needs, self.causes.get(c));
                let h = of.map(|of| w.leading_cause(of[0]));
                let worth_asking = of.map_or(0.0, |of| cost_in_vain(k, &w.all, of[0]));
                let cost = self.problem.repair_actions[c].cost - worth_asking;
                let minutes = of.map_or(k.weights.gate.hand_on_minutes, |of| repairs_before(case, k, &w.all, of[0]).0.0);
                let before = self.needed(needs, s);
                let left = self.problem.not_cured(s, c);
                let mut cured = s.clone();
                cured.weight.iter_mut().zip(&left.weight).for_each(|(w, l)| *w -= l);
                let p = cured.weight.iter().sum::<f64>() / sum;
                let step = PlanStep {
                    test: None,
                    fault: Some(h.as_ref().map_or("unknown".into(), |h| h.0.fault.clone())),
                    with: h.as_ref().map_or(vec![], |h| h.1.clone()),
                    at: Some(h.as_ref().map_or("none".into(), |h| h.0.at.clone())),
                    gear: of.filter(|of| of.len() == 1).and_then(|of| w.all[of[0]].gear.clone()),
                    minutes: minutes + before,
                    cost: cost + before * hour,
                    outcomes: vec![meaning("cured", None, &cured, p), meaning("not-cured", None, &left, 1.0 - p)],
                };
                (step, left)
            }
        }
    }

    /// Looks ahead from a standing. Of several tests that lead to a cure for about the same cost, the order in which they
    /// are made matters little to the sum: the one that answers most for its minutes comes first.
    pub(crate) fn best_first_action(&self, k: &Knowledge, s: &BeliefState) -> FirstAction {
        let hour = k.weights.time.rate / 60.0;
        let sum: f64 = s.weight.iter().sum();
        let p: Vec<f64> = s.weight.iter().map(|w| w / sum.max(1e-300)).collect();
        let (replacing, part) = self.problem.replacing(s);
        let act = |cost: f64, test_first: Option<f64>| FirstAction { cost, first: part.map(Action::Replace), test_first };
        // Where one cause is left, or nothing at all, nothing is to be separated.
        if s.weight.iter().filter(|w| **w > 1e-9).count() < 2 {
            return act(replacing, None);
        }
        let cost_with = |t: usize| self.problem.expected_cost_after(s, Action::Test(t), MOVES_AHEAD - 1);
        let tests: Vec<(f64, usize)> = self.problem.promising(s).into_iter().map(|n| (cost_with(n.1), n.1)).collect();
        let least = tests.iter().copied().min_by(|a, b| a.0.total_cmp(&b.0));
        let test_first = least.map(|t| t.0);
        let acting =
            part.map_or(replacing, |c| self.problem.expected_cost_after(s, Action::Replace(c), MOVES_AHEAD - 1).min(replacing));
        let cured = |c: usize| sum - self.problem.not_cured(s, c).weight.iter().sum::<f64>();
        let sure = part.is_some_and(|c| cured(c) >= k.weights.gate.certainty * sum);
        let (cost, best) = match least {
            Some((c, t)) if c < acting - 1e-12 => (c, t),
            // On what is not sure nobody acts while a cheap test costs next to nothing on balance.
            _ if sure => return act(acting, test_first),
            _ => match self.cheap_test(k, s, &p, &tests, replacing) {
                Some((c, t)) => (c.min(acting), t),
                None => return act(acting, test_first),
            },
        };
        let saving = acting - cost;
        // A test that saves next to nothing changes no decision.
        if sure && saving < (MIN_SAVED_SHARE * acting).max(MIN_SAVED_MONEY * sum) {
            return act(acting, test_first);
        }
        let worth =
            |t: usize| sharpening_per_minute(&p, &self.problem.test_actions[t].rows, &self.bases[t], self.cost_of(t, s) / hour);
        let alike = cost + (ALIKE_SAVING_SHARE * (replacing - cost)).max(ALIKE_COST_SHARE * replacing);
        let open = (0..self.instances.len()).filter(|t| s.done & 1 << t == 0);
        let mut by_worth: Vec<(f64, usize)> = open.map(|t| (worth(t), t)).collect();
        by_worth.sort_by(|a, b| b.0.total_cmp(&a.0));
        by_worth.truncate(MAX_TESTS_BY_WORTH);
        let known = |t: usize| tests.iter().find(|x| x.1 == t).map(|x| x.0);
        // What is quick is policy_cost one move further: a long chain of tests does not hide what it would save before it.
        let quick = |t: usize| self.cost_of(t, s) <= k.weights.gate.parting_minutes * hour;
        let deeper = |t: usize| quick(t) && self.problem.is_within(s, t, MOVES_AHEAD, alike);
        let worthiest = by_worth.first().map(|x| x.1);
        let as_good =
            |t: &usize| *t == best || known(*t).unwrap_or_else(|| cost_with(*t)) <= alike || worthiest == Some(*t) && deeper(*t);
        // What is worth most comes first; what was looked at already is known to be as good or not.
        let worth_asking = by_worth.iter().map(|x| x.1).find(as_good);
        let seen = tests.iter().map(|x| x.1).filter(as_good).max_by(|&a, &b| worth(a).total_cmp(&worth(b)));
        let first = worth_asking.into_iter().chain(seen).max_by(|&a, &b| worth(a).total_cmp(&worth(b))).unwrap_or(best);
        FirstAction { cost, first: Some(Action::Test(first)), test_first }
    }

    /// The cheapest plan that begins with a test of some use, where it costs hardly more than acting at once.
    fn cheap_test(&self, k: &Knowledge, s: &BeliefState, p: &[f64], tests: &[(f64, usize)], acting: f64) -> Option<(f64, usize)> {
        let useful = |t: usize| {
            let cheap = self.cost_of(t, s) <= k.weights.gate.parting_minutes * k.weights.time.rate / 60.0;
            cheap && information_gain(p, &self.problem.test_actions[t].rows) >= WORTHWHILE_SHARE * entropy(p)
        };
        let near = tests.iter().copied().filter(|c| c.0 <= (1.0 + HARDLY_MORE_COST_SHARE) * acting && useful(c.1));
        near.min_by(|a, b| a.0.total_cmp(&b.0))
    }

    /// What a test costs from how things stand, with what must be done before it.
    fn cost_of(&self, t: usize, s: &BeliefState) -> f64 {
        self.problem.price(s, Action::Test(t)) / s.weight.iter().sum::<f64>().max(1e-300)
    }

    /// Whether a test of these saves more than it costs; those that were not laid out do not.
    pub(crate) fn pays(&self, test: &str, at: Option<&str>, gear: Option<&str>) -> bool {
        let start = self.problem.start();
        let same = |(one, _): &(TestInstance, Vec<Cell>)| {
            one.test.id == test && one.at.as_ref().map(|p| p.id.as_str()) == at && one.gear.as_deref() == gear
        };
        let Some(t) = self.instances.iter().position(same) else { return false };
        self.problem.expected_cost_after(&start, Action::Test(t), 0) < self.problem.replacing(&start).0
    }

    /// What a test can save on average of what acting at once costs, as a share, its own cost left out: nothing where no outcome
    /// of it changes what is repaired first, or in which order.
    pub(crate) fn can_save(&self, w: &Weighed, l: &EvaluatedTest) -> f64 {
        let start = self.problem.start();
        let acting = self.problem.replacing(&start).0;
        let mut cause_of = vec![self.causes.len(); w.p.len()];
        self.causes.iter().enumerate().for_each(|(c, of)| of.iter().for_each(|&i| cause_of[i] = c));
        let then = |row: &Vec<f64>| {
            let mut weight = vec![0.0; self.causes.len() + 1];
            row.iter().enumerate().for_each(|(i, x)| weight[cause_of[i]] += w.p[i] * x);
            self.problem.replacing(&BeliefState { weight, ..start.clone() }).0
        };
        (acting - l.likelihoods.rows.iter().map(then).sum::<f64>()) / acting.max(1e-300)
    }

    /// The plan in words: its cost, whether acting beats testing, its first steps.
    pub(crate) fn plan(&self, case: &Case, k: &Knowledge, w: &Weighed) -> Plan {
        let start = self.problem.start();
        let FirstAction { cost, first: mut next, test_first } = self.first_action(k);
        let enough = matches!(next, Some(Action::Replace(_)) | None);
        let likeliest = (0..self.causes.len()).max_by(|&a, &b| start.weight[a].total_cmp(&start.weight[b]));
        let repair_first =
            likeliest.map_or(cost, |c| self.problem.expected_cost_after(&start, Action::Replace(c), MOVES_AHEAD - 1));
        let (mut steps, mut s) = (vec![], start);
        while let Some(m) = next.filter(|_| steps.len() < MAX_SHOWN_STEPS) {
            let (step, then) = self.step(case, k, w, &s, m);
            let is_repair = step.test.is_none();
            steps.push(step);
            // What comes after a repair depends on whether it cured: the plan ends there.
            if is_repair {
                break;
            }
            s = then;
            next = self.best_first_action(k, &s).first;
        }
        let own = |cost: f64| cost - self.last_repair;
        let test_first = test_first.map(own);
        Plan { steps, cost: own(cost.min(repair_first)), enough, repair_first: own(repair_first), test_first }
    }
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::super::test_selection::evaluate_tests;
    use super::super::{diagnose, weigh};
    use super::*;
    use crate::case::sample::case_with_symptom as case;
    use crate::vehicle::sample::*;
    use serde_json::json;

    fn planned_case<'a>(c: &'a Case, w: &'a Weighed) -> PlannedCase<'a> {
        let model = super::super::likelihood::Model::new(&c.vehicle, builtin(), &w.all, &c.symptoms[0].kind);
        PlannedCase::new(c, builtin(), w, &evaluate_tests(c, &model, "S1", w))
    }

    #[test]
    fn a_game_keeps_the_beliefs_and_every_row_is_whole() {
        for v in every_layout() {
            let c = case(v, "vibration", json!({}));
            let w = weigh(&c, builtin(), "S1", None, &mut vec![]);
            let planned_case = planned_case(&c, &w);
            assert!((planned_case.problem.p.iter().sum::<f64>() - 1.0).abs() < 1e-9);
            for t in &planned_case.problem.test_actions {
                for cause in 0..planned_case.problem.p.len() {
                    let sum: f64 = t.rows.iter().map(|r| r[cause]).sum();
                    assert!((sum - 1.0).abs() < 1e-6, "{sum}");
                }
            }
        }
    }

    #[test]
    fn the_plan_is_no_dearer_than_either_way_to_begin() {
        for v in every_layout() {
            for kind in ["vibration", "click-repeating", "growl"] {
                let d = diagnose(&case(v.clone(), kind, json!({})), builtin(), None);
                let c = &d.symptoms[0].plan;
                assert!(!c.steps.is_empty() && c.cost <= c.repair_first + 1e-6, "{} {kind}", v.name);
                assert!(c.test_first.is_none_or(|t| c.cost <= t + 1e-6));
                assert!(c.steps.iter().all(|s| (s.outcomes.iter().map(|o| o.p).sum::<f64>() - 1.0).abs() < 1e-6));
            }
        }
    }

    #[test]
    fn what_is_sure_is_repaired_and_what_is_open_is_tested() {
        let open = diagnose(&case(front_drive(), "click-repeating", json!({})), builtin(), None);
        assert!(open.symptoms[0].plan.steps[0].test.is_some(), "{:?}", open.symptoms[0].plan.steps[0]);
        let sure = json!({"observations": [{"test": "turn", "outcome": "right"}, {"test": "boot-look", "at": "half.fl.outer", "outcome": "torn"},
            {"test": "boot-look", "at": "half.fr.outer", "outcome": "sound"}, {"test": "neutral-coast", "outcome": "stops"},
            {"test": "lash-watch", "outcome": "outer-joint", "at": "half.fl.outer"}]});
        let d = diagnose(&case(front_drive(), "click-repeating", sure), builtin(), None);
        assert!(d.symptoms[0].ranked[0].p > 0.8, "{:?}", d.symptoms[0].ranked[0].p);
        assert_eq!(d.symptoms[0].plan.steps[0].fault.as_deref(), Some("outer-joint-worn"));
    }

    #[test]
    fn the_shaft_comes_off_once_for_test_and_repair() {
        let known = json!([{"test": "speed-sweep", "outcome": "shaft-twice"}, {"test": "neutral-coast", "outcome": "persists"}]);
        let c = case(rear_drive(2), "vibration", json!({"state": {"on": "lift", "off": []}, "observations": known}));
        let w = weigh(&c, builtin(), "S1", None, &mut vec![]);
        let planned_case = planned_case(&c, &w);
        let shaft = planned_case
            .preparations
            .iter()
            .position(|b| b.0 == super::super::preparation::Before::Off("prop.rear".into()))
            .unwrap();
        let swings: Vec<_> =
            (0..planned_case.instances.len()).filter(|&t| planned_case.instances[t].0.test.id == "joint-swing").collect();
        let needs: Vec<u32> = swings.iter().map(|&t| planned_case.problem.test_actions[t].needs).collect();
        assert!(needs.len() > 1 && needs.iter().all(|n| *n == 1 << shaft), "{needs:?}");
        assert!(
            swings
                .iter()
                .all(|&t| (planned_case.problem.test_actions[t].cost - 10.0 * builtin().weights.time.rate / 60.0).abs() < 1e-9)
        );
        assert!(planned_case.problem.repair_actions.iter().any(|r| r.needs & 1 << shaft != 0));
    }

    #[test]
    fn being_up_already_is_not_paid_again() {
        let minutes = |on: &str| {
            let c = case(rear_drive(2), "clunk", json!({"state": {"on": on, "off": []}}));
            let w = weigh(&c, builtin(), "S1", None, &mut vec![]);
            let planned_case = planned_case(&c, &w);
            planned_case.problem.preparations.len() as f64
                + planned_case.problem.repair_actions.iter().map(|r| f64::from(r.needs)).sum::<f64>()
        };
        assert!(minutes("ground") > minutes("lift"));
    }
}
