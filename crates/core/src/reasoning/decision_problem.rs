//! What to do next, by what it costs until the fault is cured.
//!
//! Causes with their probabilities, tests that part them, replacements that cure one each and show it. A test's
//! worth is not only what it answers: it must save more than it costs. The best policy would need every order of
//! everything to be weighed ([`DecisionProblem::optimum`], which small games allow); the plan looks a few moves ahead and
//! closes with the best order of replacements, which is known exactly: by cost over probability, cheapest first
//! (the classic search of boxes: Σ of costs met is least when cᵢ/pᵢ rises).

use std::collections::HashMap;

/// A test: what it costs, what must be done before it once, and how likely each outcome is under each cause.
#[derive(Clone, Debug, PartialEq)]
pub struct TestAction {
    /// Cost of doing it.
    pub cost: f64,
    /// Bits of the preparations that it needs.
    pub needs: u32,
    /// Bits of the preparations that it makes besides: a drive leaves the vehicle warm.
    pub leaves: u32,
    /// Bits of the preparations that it ends: for a drive the vehicle comes down.
    pub ends: u32,
    /// It drives, or turns the wheels under power: with some causes that is a risk ([`DecisionProblem::risk`]).
    pub driven: bool,
    /// A row for each outcome, a likelihood for each cause; the rows of a cause sum to 1.
    pub rows: Vec<Vec<f64>>,
}

impl TestAction {
    /// What is prepared once it is made.
    fn prepared(&self, before: u32) -> u32 {
        (before | self.needs | self.leaves) & !self.ends
    }
}

/// A replacement: cures some causes, and is seen to.
#[derive(Clone, Debug, PartialEq)]
pub struct RepairAction {
    /// Work and parts.
    pub cost: f64,
    /// Bits of the preparations that it needs.
    pub needs: u32,
    /// Bits of the causes that it cures: its own, and those that are cured with it.
    pub cures: u32,
}

/// A fault to be cured.
#[derive(Clone, Debug, PartialEq)]
pub struct DecisionProblem {
    /// Probability of each cause.
    pub p: Vec<f64>,
    /// What cures each.
    pub repair_actions: Vec<RepairAction>,
    /// The tests that there are.
    pub test_actions: Vec<TestAction>,
    /// What each preparation costs, once.
    pub preparations: Vec<f64>,
    /// What a driven test costs more with each cause; nothing where it is empty.
    pub risk: Vec<f64>,
}

/// A move.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Action {
    /// A test, by its number.
    Test(usize),
    /// A replacement, by its cause.
    Replace(usize),
}

/// The state of a decision problem: what is believed (not summing to 1: the sum is how likely it is to come to this), what
/// was tested, what is prepared.
#[derive(Clone, Debug)]
pub struct BeliefState {
    /// Weight of each cause.
    pub weight: Vec<f64>,
    /// Bits of the tests done.
    pub done: u128,
    /// Bits of what is prepared.
    pub prepared: u32,
}

/// Tests that are looked at more than one move ahead.
const MAX_TESTS_AHEAD: usize = 8;
/// An outcome of less than this chance.
const FAINT_OUTCOME_PROBABILITY: f64 = 0.02;
/// Where a limit is only to be kept, so many suffice.
const MAX_TESTS_IN_PASSING: usize = 2;

/// Costs of belief states that were met before, for a weight of 1.
type KnownCosts = HashMap<Vec<u64>, f64>;

impl DecisionProblem {
    /// The beginning.
    pub fn start(&self) -> BeliefState {
        BeliefState { weight: self.p.clone(), done: 0, prepared: 0 }
    }

    fn preparing(&self, needs: u32, prepared: u32) -> f64 {
        let (mut open, mut sum) = (needs & !prepared, 0.0);
        while open != 0 {
            sum += self.preparations[open.trailing_zeros() as usize];
            open &= open - 1;
        }
        sum
    }

    /// Cost of replacing until it is cured, best order, times the weight of the standing; and what comes first.
    pub fn replacing(&self, s: &BeliefState) -> (f64, Option<usize>) {
        self.replacing_in(&s.weight, s.prepared, &mut vec![])
    }

    /// The same; the order stands in `order`, whose room is used again.
    fn replacing_in(&self, weight: &[f64], prepared: u32, order: &mut Vec<(f64, usize)>) -> (f64, Option<usize>) {
        let cost = |r: &RepairAction| r.cost + self.preparing(r.needs, prepared);
        // Nearly every replacement cures one cause: only its bits are gone through.
        let cured = |mut cures: u32| {
            let mut sum = 0.0;
            while cures != 0 {
                sum += weight[cures.trailing_zeros() as usize];
                cures &= cures - 1;
            }
            sum
        };
        order.clear();
        order.extend(weight.iter().enumerate().filter(|(_, w)| **w > 0.0).map(|(i, _)| {
            let r = &self.repair_actions[i];
            (cost(r) / cured(r.cures), i)
        }));
        order.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
        let (mut left, mut sum, mut prepared, mut gone): (f64, f64, u32, u32) = (weight.iter().sum(), 0.0, prepared, 0);
        for &(_, i) in order.iter() {
            let r = &self.repair_actions[i];
            let fresh = r.cures & !gone;
            if fresh & 1 << i == 0 {
                continue;
            }
            sum += left * (r.cost + self.preparing(r.needs, prepared));
            prepared |= r.needs;
            left -= cured(fresh);
            gone |= fresh;
        }
        (sum, order.first().map(|o| o.1))
    }

    /// After an outcome of a test; the weight falls to what that outcome leaves.
    pub fn after(&self, s: &BeliefState, test: usize, outcome: usize) -> BeliefState {
        let t = &self.test_actions[test];
        let weight = s.weight.iter().zip(&t.rows[outcome]).map(|(w, l)| w * l).collect();
        BeliefState { weight, done: s.done | 1 << test, prepared: t.prepared(s.prepared) }
    }

    /// After a replacement that did not cure.
    pub fn not_cured(&self, s: &BeliefState, cause: usize) -> BeliefState {
        let mut weight = s.weight.clone();
        let cures = self.repair_actions[cause].cures;
        weight.iter_mut().enumerate().filter(|(i, _)| cures & 1 << i != 0).for_each(|(_, w)| *w = 0.0);
        BeliefState { weight, done: s.done, prepared: s.prepared | self.repair_actions[cause].needs }
    }

    /// Cost of a move by itself, times the weight of the standing.
    pub(crate) fn price(&self, s: &BeliefState, m: Action) -> f64 {
        let (cost, needs) = match m {
            Action::Test(t) => (self.test_actions[t].cost, self.test_actions[t].needs),
            Action::Replace(c) => (self.repair_actions[c].cost, self.repair_actions[c].needs),
        };
        let risk = match m {
            Action::Test(t) if self.test_actions[t].driven => s.weight.iter().zip(&self.risk).map(|(w, r)| w * r).sum(),
            _ => 0.0,
        };
        s.weight.iter().sum::<f64>() * (cost + self.preparing(needs, s.prepared)) + risk
    }

    /// Tests that begin the cheapest courses, cheapest first, as far as one move tells.
    pub fn promising(&self, s: &BeliefState) -> Vec<(f64, usize)> {
        // What each test leaves is worked out in the same room: there are thousands of them.
        let (mut weight, mut order) = (Vec::with_capacity(s.weight.len()), vec![]);
        let mut cost = |t: usize| {
            let test_action = &self.test_actions[t];
            let mut left = |row: &Vec<f64>| {
                weight.clear();
                weight.extend(s.weight.iter().zip(row).map(|(w, l)| w * l));
                self.replacing_in(&weight, test_action.prepared(s.prepared), &mut order).0
            };
            self.price(s, Action::Test(t)) + test_action.rows.iter().map(&mut left).sum::<f64>()
        };
        let mut near: Vec<(f64, usize)> = self.open(s).map(|t| (cost(t), t)).collect();
        near.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
        near.truncate(MAX_TESTS_AHEAD);
        near
    }

    fn open(&self, s: &BeliefState) -> impl Iterator<Item = usize> + use<> {
        let done = s.done;
        (0..self.test_actions.len()).filter(move |t| done & (1 << t) == 0)
    }

    /// Cost of a move and of going on after it, looking so many moves further.
    pub fn expected_cost_after(&self, s: &BeliefState, m: Action, further: u32) -> f64 {
        let faint = FAINT_OUTCOME_PROBABILITY * s.weight.iter().sum::<f64>();
        let then = match m {
            Action::Test(t) => {
                let then = |o: usize| {
                    let after = self.after(s, t, o);
                    // What hardly ever comes out is not looked into.
                    let further = if after.weight.iter().sum::<f64>() < faint { 0 } else { further };
                    self.best(&after, further).0
                };
                (0..self.test_actions[t].rows.len()).map(then).sum()
            }
            Action::Replace(c) => self.best(&self.not_cured(s, c), further).0,
        };
        self.price(s, m) + then
    }

    /// Whether a test and going on after it, looking so many moves further, costs at most so much.
    pub fn is_within(&self, s: &BeliefState, test: usize, further: u32, limit: f64) -> bool {
        let mut sum = self.price(s, Action::Test(test));
        // The outcomes that weigh most come first: what costs too much shows early.
        let mut after: Vec<BeliefState> = (0..self.test_actions[test].rows.len()).map(|o| self.after(s, test, o)).collect();
        after.sort_by(|a, b| b.weight.iter().sum::<f64>().total_cmp(&a.weight.iter().sum()));
        after.iter().all(|a| {
            sum += self.best_of(a, further, MAX_TESTS_IN_PASSING).0;
            sum <= limit
        })
    }

    /// The least cost from a standing, looking so many moves ahead, times its weight; and the move that begins it.
    pub fn best(&self, s: &BeliefState, ahead: u32) -> (f64, Option<Action>) {
        self.best_of(s, ahead, MAX_TESTS_AHEAD)
    }

    /// The same, of so many tests that promise most.
    fn best_of(&self, s: &BeliefState, ahead: u32, tests: usize) -> (f64, Option<Action>) {
        let (cost, first) = self.replacing(s);
        let mut best = (cost, first.map(Action::Replace));
        // Where one cause is left, or nothing at all, nothing is to be parted.
        if ahead == 0 || s.weight.iter().filter(|w| **w > 1e-9).count() < 2 {
            return best;
        }
        let near = self.promising(s);
        if ahead == 1 {
            return near.first().filter(|n| n.0 < best.0).map_or(best, |n| (n.0, Some(Action::Test(n.1))));
        }
        for m in near.into_iter().take(tests).map(|n| Action::Test(n.1)).chain(first.map(Action::Replace)) {
            let cost = self.expected_cost_after(s, m, ahead - 1);
            if cost < best.0 - 1e-12 {
                best = (cost, Some(m));
            }
        }
        best
    }

    fn key(&self, s: &BeliefState) -> Vec<u64> {
        // Where the weights stand to each other, what was done and what is prepared.
        let sum: f64 = s.weight.iter().sum();
        let mut key: Vec<u64> = s.weight.iter().map(|w| (w / sum * 1e12).round() as u64).collect();
        key.extend([s.done as u64, (s.done >> 64) as u64, u64::from(s.prepared)]);
        key
    }

    /// The least cost that any policy can have, in the workshop's money: every order of everything weighed. For small problems.
    pub fn optimal_cost(&self) -> f64 {
        self.optimal_cost_from(&self.start(), &mut HashMap::new())
    }

    fn optimal_cost_from(&self, s: &BeliefState, known: &mut KnownCosts) -> f64 {
        self.remembered(s, known, |known| {
            let mut best = f64::MAX;
            for t in self.open(s) {
                let outcomes = 0..self.test_actions[t].rows.len();
                let then: f64 = outcomes.map(|o| self.optimal_cost_from(&self.after(s, t, o), known)).sum();
                best = best.min(self.price(s, Action::Test(t)) + then);
            }
            for c in (0..s.weight.len()).filter(|&c| s.weight[c] > 0.0) {
                best = best.min(self.price(s, Action::Replace(c)) + self.optimal_cost_from(&self.not_cured(s, c), known));
            }
            Some(best)
        })
    }

    /// What following the plan costs, on average over everything that may come out.
    pub fn policy_cost(&self, ahead: u32) -> f64 {
        self.policy_cost_from(&self.start(), ahead, &mut HashMap::new())
    }

    fn policy_cost_from(&self, s: &BeliefState, ahead: u32, known: &mut KnownCosts) -> f64 {
        self.remembered(s, known, |known| {
            let action = self.best(s, ahead).1?;
            let then: f64 = match action {
                Action::Test(t) => {
                    let outcomes = 0..self.test_actions[t].rows.len();
                    outcomes.map(|o| self.policy_cost_from(&self.after(s, t, o), ahead, known)).sum()
                }
                Action::Replace(c) => self.policy_cost_from(&self.not_cured(s, c), ahead, known),
            };
            Some(self.price(s, action) + then)
        })
    }

    /// A cost that depends on a belief state alone, worked out once for each; nothing where nothing is left, or nothing can be done.
    fn remembered(&self, s: &BeliefState, known: &mut KnownCosts, cost: impl FnOnce(&mut KnownCosts) -> Option<f64>) -> f64 {
        let sum: f64 = s.weight.iter().sum();
        if sum <= 1e-15 {
            return 0.0;
        }
        let key = self.key(s);
        if let Some(c) = known.get(&key) {
            return c * sum;
        }
        let Some(cost) = cost(known) else { return 0.0 };
        known.insert(key, cost / sum);
        cost
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(p: &[f64], costs: &[f64], test_actions: &[(f64, &[&[f64]])]) -> DecisionProblem {
        DecisionProblem {
            p: p.to_vec(),
            repair_actions: costs.iter().enumerate().map(|(i, &cost)| RepairAction { cost, needs: 0, cures: 1 << i }).collect(),
            test_actions: test_actions
                .iter()
                .map(|(cost, rows)| TestAction {
                    cost: *cost,
                    needs: 0,
                    leaves: 0,
                    ends: 0,
                    driven: false,
                    rows: rows.iter().map(|r| r.to_vec()).collect(),
                })
                .collect(),
            preparations: vec![],
            risk: vec![],
        }
    }

    #[test]
    fn what_is_a_risk_to_drive_is_looked_at_standing_first() {
        let sure: &[&[f64]] = &[&[1.0, 0.0], &[0.0, 1.0]];
        let mut g = plain(&[0.3, 0.7], &[100.0, 100.0], &[(2.0, sure), (6.0, sure)]);
        g.test_actions[0].driven = true;
        assert_eq!(g.best(&g.start(), 1).1, Some(Action::Test(0)));
        g.risk = vec![50.0, 0.0];
        // Driven: 2 and 0.3 of 50; standing: 6.
        assert_eq!(g.best(&g.start(), 1), (106.0, Some(Action::Test(1))));
        assert!((g.expected_cost_after(&g.start(), Action::Test(0), 0) - (17.0 + 100.0)).abs() < 1e-9);
    }

    #[test]
    fn without_tests_the_cheapest_for_its_chance_comes_first() {
        // 0.5 at 100 is 200 each; 0.3 at 30 is 100 each; 0.2 at 90 is 450 each.
        let g = plain(&[0.5, 0.3, 0.2], &[100.0, 30.0, 90.0], &[]);
        // 30 always, 100 with 0.7, 90 with 0.2.
        assert_eq!(g.replacing(&g.start()), (30.0 + 70.0 + 18.0, Some(1)));
        assert!((g.optimal_cost() - 118.0).abs() < 1e-9 && (g.policy_cost(2) - 118.0).abs() < 1e-9);
    }

    #[test]
    fn a_replacement_of_two_cures_each_and_both() {
        // One part, the other, or both: changing both at once cures all three.
        let mut g = plain(&[0.3, 0.3, 0.4], &[100.0, 100.0, 150.0], &[]);
        g.repair_actions[2].cures = 0b111;
        assert_eq!(g.replacing(&g.start()), (150.0, Some(2)));
        assert_eq!(g.not_cured(&g.start(), 2).weight, [0.0; 3]);
        assert_eq!(g.not_cured(&g.start(), 0).weight, [0.0, 0.3, 0.4]);
    }

    #[test]
    fn a_test_is_made_when_it_saves_more_than_it_costs() {
        let sure: (f64, &[&[f64]]) = (10.0, &[&[1.0, 0.0], &[0.0, 1.0]]);
        let g = plain(&[0.5, 0.5], &[100.0, 100.0], &[sure]);
        // Tested: 10 + 100. Blind: 100 + 50.
        assert_eq!(g.best(&g.start(), 1), (110.0, Some(Action::Test(0))));
        let dear = plain(&[0.5, 0.5], &[100.0, 100.0], &[(60.0, sure.1)]);
        assert_eq!(dear.best(&dear.start(), 2).0, 150.0);
    }

    #[test]
    fn a_preparation_is_paid_once() {
        let mut g = plain(&[0.5, 0.5], &[100.0, 100.0], &[(1.0, &[&[1.0, 0.0], &[0.0, 1.0]])]);
        g.preparations = vec![7.0];
        g.test_actions[0].needs = 1;
        g.repair_actions[0].needs = 1;
        // Up for the test, and up already for the replacement.
        assert!((g.optimal_cost() - (1.0 + 7.0 + 100.0)).abs() < 1e-9);
        assert!((g.policy_cost(2) - g.optimal_cost()).abs() < 1e-9);
    }

    #[test]
    fn a_drive_brings_the_vehicle_down_again() {
        let sure: (f64, &[&[f64]]) = (1.0, &[&[1.0, 0.0], &[0.0, 1.0]]);
        let mut g = plain(&[0.5, 0.5], &[100.0, 100.0], &[sure]);
        g.preparations = vec![7.0];
        g.repair_actions.iter_mut().for_each(|r| r.needs = 1);
        let up = BeliefState { prepared: 1, ..g.start() };
        assert!((g.expected_cost_after(&up, Action::Test(0), 1) - 101.0).abs() < 1e-9);
        g.test_actions[0].ends = 1;
        assert!((g.expected_cost_after(&up, Action::Test(0), 1) - 108.0).abs() < 1e-9);
    }

    #[test]
    fn two_tests_that_say_nothing_alone_are_seen_together() {
        // Which of the two rows comes out depends on both tests: their pair says only in part which cause it is.
        let half: (f64, &[&[f64]]) = (4.0, &[&[1.0, 1.0, 0.0, 0.0], &[0.0, 0.0, 1.0, 1.0]]);
        let other: (f64, &[&[f64]]) = (4.0, &[&[1.0, 0.0, 1.0, 0.0], &[0.0, 1.0, 0.0, 1.0]]);
        let g = plain(&[0.25; 4], &[100.0; 4], &[half, other]);
        assert!((g.optimal_cost() - 108.0).abs() < 1e-9);
        assert!((g.policy_cost(2) - 108.0).abs() < 1e-9);
    }
}
