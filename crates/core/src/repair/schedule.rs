//! In which order the steps are done. One pair of hands; waiting time is filled with other work.
//!
//! The objective is elapsed likely minutes + 6 for each change between ground and lift + the span in which a helper is needed, from the
//! start of the first such step to the end of the last. Hands-on minutes add up to the same in every order, so what an order can save is
//! idle waiting, and time between helper steps. A lower bound is the larger of all hands-on minutes and, for any step, all that comes
//! before it, its wait, and all that follows; plus the unavoidable changes, plus what must lie between two helper steps. The search is depth first with that bound from the
//! best of several list schedules; it is exact when it ends within its budget, and says how far from the bound it is when not.

use super::step::{On, Step};
use serde::Serialize;
use std::collections::BTreeSet;

/// Minutes that a change between ground and lift costs.
pub const STATE_CHANGE_MIN: f64 = 6.0;
/// Nodes that the search may open.
const NODE_BUDGET: usize = 60_000;
/// Steps up to which the search is tried.
const EXACT_MAX_STEPS: usize = 40;

/// A time that passes after a step.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ScheduledWait {
    /// The step after which it passes.
    pub step: String,
    /// How long.
    pub minutes: f64,
    /// soak, cure, settle, cool.
    pub kind: String,
}

/// Steps in their order, with what it costs.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Schedule {
    /// Ids, each once.
    pub order: Vec<String>,
    /// Likely minutes from the start of the job to the start of each step, in that order.
    pub starts: Vec<f64>,
    /// Hands-on: low, likely, high.
    pub minutes: [f64; 3],
    /// From start to end, waits that nothing fills included.
    pub elapsed: [f64; 3],
    /// Likely minutes of the steps that need a second person.
    pub helper_minutes: f64,
    /// From the start of the first to the end of the last of them.
    pub helper_span: f64,
    /// Changes between ground and lift.
    pub state_changes: usize,
    /// Times that pass.
    pub waits: Vec<ScheduledWait>,
    /// Steps after which it can rest overnight.
    pub rests: Vec<String>,
    /// What the objective comes to.
    pub cost: f64,
    /// What no order can do without.
    pub bound: f64,
}

/// Steps with what they need, as the search sees them.
pub(super) struct ScheduleInput<'a> {
    pub(super) steps: &'a [Step],
    pub(super) before: &'a [BTreeSet<usize>],
    /// How the vehicle stands now.
    pub(super) start: On,
}

struct Search<'a> {
    p: &'a ScheduleInput<'a>,
    after: Vec<Vec<usize>>,
    /// Least minutes from the start of a step to the end of all that follows it, waits included.
    tail: Vec<f64>,
    /// See [`Self::phases`].
    phase: Vec<u8>,
    minutes: Vec<f64>,
    waits: Vec<f64>,
    total: f64,
    nodes: usize,
    best: (f64, Vec<usize>),
    bound: f64,
}

/// What an order comes to.
struct Times {
    /// Start of each step, in the order.
    starts: Vec<f64>,
    elapsed: f64,
    span: f64,
    changes: usize,
}

impl Times {
    fn cost(&self) -> f64 {
        self.elapsed + STATE_CHANGE_MIN * self.changes as f64 + self.span
    }
}

/// How the vehicle stands at each step of an order: beside the vehicle as before.
pub(super) fn standings(p: &ScheduleInput, order: &[usize]) -> Vec<On> {
    let mut now = p.start;
    let mut out = vec![On::Ground; p.steps.len()];
    for s in order {
        if !p.steps[*s].bench {
            now = p.steps[*s].state.on;
        }
        out[*s] = now;
    }
    out
}

fn times(p: &ScheduleInput, order: &[usize], which: usize) -> Times {
    let mut ready = vec![0.0_f64; p.steps.len()];
    let (mut now, mut on, mut changes) = (0.0_f64, p.start, 0);
    let mut helper: Option<(f64, f64)> = None;
    let mut end = 0.0_f64;
    let mut starts = Vec::with_capacity(order.len());
    for &s in order {
        let step = &p.steps[s];
        if !step.bench && step.state.on != on {
            (on, changes) = (step.state.on, changes + 1);
        }
        let from = p.before[s].iter().map(|b| ready[*b]).fold(now, f64::max);
        starts.push(from);
        now = from + step.minutes[which];
        ready[s] = now + step.wait.as_ref().map_or(0.0, |w| w.minutes);
        end = end.max(ready[s]);
        if step.state.helper {
            helper = Some((helper.map_or(from, |h| h.0), now));
        }
    }
    Times { starts, elapsed: end, span: helper.map_or(0.0, |h| h.1 - h.0), changes }
}

/// When the steps are done that somebody is needed for.
#[derive(Clone, Copy)]
enum HelperRule {
    /// Like any other.
    AsItComes,
    /// After all that can be done before.
    AfterTheRest,
    /// Begun like any other, then nothing else until they can go again.
    AtOnce,
}

impl<'a> Search<'a> {
    fn new(p: &'a ScheduleInput<'a>) -> Self {
        let n = p.steps.len();
        let mut after = vec![vec![]; n];
        for (s, before) in p.before.iter().enumerate() {
            before.iter().for_each(|b| after[*b].push(s));
        }
        let minutes: Vec<f64> = p.steps.iter().map(|s| s.minutes[1]).collect();
        let waits: Vec<f64> = p.steps.iter().map(|s| s.wait.as_ref().map_or(0.0, |w| w.minutes)).collect();
        let mut x = Self {
            p,
            after,
            tail: vec![0.0; n],
            phase: vec![0; n],
            total: minutes.iter().sum(),
            minutes,
            waits,
            nodes: 0,
            best: (f64::INFINITY, vec![]),
            bound: 0.0,
        };
        x.phase = x.phases();
        let order = x.listed(HelperRule::AsItComes, |_, _| 0.0);
        for &s in order.iter().rev() {
            let follows = x.after[s].iter().map(|a| x.tail[*a]).fold(0.0, f64::max);
            // One pair of hands does all that follows.
            x.tail[s] = x.minutes[s] + x.waits[s] + follows.max(x.sum(&x.reach(s, &x.after)));
        }
        x.bound = x.lower_bound();
        x
    }

    /// A list schedule: of what can be started soonest, what the rule likes best.
    fn listed(&self, helper: HelperRule, rule: impl Fn(&Self, usize) -> f64) -> Vec<usize> {
        let n = self.p.steps.len();
        let mut missing: Vec<usize> = self.p.before.iter().map(BTreeSet::len).collect();
        let mut ready_at = vec![0.0_f64; n];
        let (mut order, mut now, mut on, mut with_helper) = (vec![], 0.0_f64, self.p.start, false);
        let (mut is_here, mut with_helper_left) = (false, self.phase.iter().filter(|p| **p == 1).count());
        let mut open: Vec<usize> = (0..n).filter(|s| missing[*s] == 0).collect();
        while !open.is_empty() {
            // What waits, stands behind what can be done now; what needs a change of state, behind what does not.
            let key = |s: &usize| {
                let step = &self.p.steps[*s];
                let idle = (ready_at[*s] - now).max(0.0);
                let change = if !step.bench && step.state.on != on { STATE_CHANGE_MIN } else { 0.0 };
                let calls = if step.state.helper == with_helper { 0.0 } else { 0.5 };
                let phase = match helper {
                    HelperRule::AsItComes => 0,
                    HelperRule::AfterTheRest => self.phase[*s],
                    HelperRule::AtOnce => u8::from(is_here && self.phase[*s] != 1),
                };
                (phase, idle + change, calls, -rule(self, *s), *s)
            };
            let better = |a: &usize, b: &usize| key(a).partial_cmp(&key(b)).unwrap_or(std::cmp::Ordering::Equal);
            let Some(s) = open.iter().copied().min_by(|a, b| better(a, b)) else { break };
            open.retain(|o| *o != s);
            let step = &self.p.steps[s];
            if !step.bench {
                on = step.state.on;
            }
            with_helper = step.state.helper;
            with_helper_left -= usize::from(self.phase[s] == 1);
            is_here = (is_here || with_helper) && with_helper_left > 0;
            now = now.max(ready_at[s]) + self.minutes[s];
            order.push(s);
            for &a in &self.after[s] {
                ready_at[a] = ready_at[a].max(now + self.waits[s]);
                missing[a] -= 1;
                if missing[a] == 0 {
                    open.push(a);
                }
            }
        }
        order
    }

    fn sum(&self, steps: &[bool]) -> f64 {
        steps.iter().zip(&self.minutes).filter(|x| *x.0).map(|x| x.1).sum()
    }

    fn lower_bound(&self) -> f64 {
        let before: Vec<Vec<usize>> = self.p.before.iter().map(|b| b.iter().copied().collect()).collect();
        let through = |s: usize| self.sum(&self.reach(s, &before)) + self.tail[s];
        let elapsed = (0..self.tail.len()).map(through).fold(self.total, f64::max);
        let on_lift = |s: &Step| !s.bench && s.state.on == On::Lift;
        let any = |on: On| self.p.steps.iter().any(|s| !s.bench && s.state.on == on);
        let last_on = self.p.steps.last().map(|s| s.state.on);
        let up = usize::from(any(On::Lift) && self.p.start == On::Ground);
        let down = usize::from(self.p.steps.iter().any(on_lift) && last_on == Some(On::Ground));
        let only_down = usize::from(!any(On::Lift) && self.p.start == On::Lift && any(On::Ground));
        elapsed + STATE_CHANGE_MIN * (up + down + only_down) as f64 + self.helper_bound()
    }

    /// What must lie between the first and the last helper step: what follows one of them and comes before another.
    fn helper_bound(&self) -> f64 {
        (0..self.minutes.len()).filter(|s| self.phase[*s] == 1).map(|s| self.minutes[s]).sum()
    }

    /// For each step whether it can be done before a helper comes (0), must be done while one is there (1), or can wait until they are
    /// gone (2). Where nobody is needed all are 0.
    fn phases(&self) -> Vec<u8> {
        let n = self.minutes.len();
        let is_helper = |s: usize| self.p.steps[s].state.helper;
        let before: Vec<Vec<usize>> = self.p.before.iter().map(|b| b.iter().copied().collect()).collect();
        let (mut follows, mut leads) = (vec![false; n], vec![false; n]);
        for h in (0..n).filter(|s| is_helper(*s)) {
            let (later, earlier) = (self.reach(h, &self.after), self.reach(h, &before));
            for s in 0..n {
                follows[s] |= later[s];
                leads[s] |= earlier[s];
            }
        }
        (0..n)
            .map(|s| {
                if is_helper(s) || follows[s] && leads[s] {
                    1
                } else if follows[s] {
                    2
                } else {
                    0
                }
            })
            .collect()
    }

    fn reach(&self, from: usize, edges: &[Vec<usize>]) -> Vec<bool> {
        let mut seen = vec![false; edges.len()];
        let mut open = vec![from];
        while let Some(s) = open.pop() {
            for &n in &edges[s] {
                if !std::mem::replace(&mut seen[n], true) {
                    open.push(n);
                }
            }
        }
        seen
    }

    fn offer(&mut self, order: &[usize]) {
        let cost = times(self.p, order, 1).cost();
        if cost < self.best.0 - 1e-9 {
            self.best = (cost, order.to_vec());
        }
    }

    fn is_proved(&self) -> bool {
        self.best.0 <= self.bound + 1e-6
    }

    /// Depth first over every order, cut where the bound of what is begun is no better than the best.
    fn branch(&mut self, state: &Begun) {
        self.nodes += 1;
        if self.nodes > NODE_BUDGET || self.is_proved() {
            return;
        }
        if state.order.len() == self.p.steps.len() {
            return self.offer(&state.order);
        }
        if state.bound(self) >= self.best.0 - 1e-9 {
            return;
        }
        let mut next: Vec<usize> = (0..self.p.steps.len()).filter(|s| state.missing[*s] == 0 && !state.done[*s]).collect();
        // A step in the state at hand that nothing waits for and that needs nobody is done at once: it only makes more possible.
        next.sort_by(|a, b| {
            let idle = |s: &usize| (state.ready_at[*s] - state.now).max(0.0);
            idle(a).total_cmp(&idle(b)).then(self.tail[*b].total_cmp(&self.tail[*a])).then(a.cmp(b))
        });
        for s in next {
            let then = state.with(self, s);
            self.branch(&then);
        }
    }
}

/// An order that is begun.
#[derive(Clone)]
struct Begun {
    order: Vec<usize>,
    done: Vec<bool>,
    missing: Vec<usize>,
    ready_at: Vec<f64>,
    now: f64,
    left: f64,
    on: On,
    changes: usize,
    helper: Option<(f64, f64)>,
    helper_left: f64,
}

impl Begun {
    fn bound(&self, x: &Search) -> f64 {
        let open = (0..self.done.len()).filter(|s| !self.done[*s]);
        let chain = open.map(|s| self.ready_at[s].max(self.now) + x.tail[s]).fold(0.0, f64::max);
        let elapsed = chain.max(self.now + self.left);
        let span = match self.helper {
            Some((from, to)) if self.helper_left > 0.0 => (self.now + self.helper_left - from).max(to - from),
            Some((from, to)) => to - from,
            None => self.helper_left.max(0.0),
        };
        let change =
            usize::from((0..self.done.len()).any(|s| !self.done[s] && !x.p.steps[s].bench && x.p.steps[s].state.on != self.on));
        elapsed + STATE_CHANGE_MIN * (self.changes + change) as f64 + span
    }

    fn with(&self, x: &Search, s: usize) -> Self {
        let mut n = self.clone();
        let step = &x.p.steps[s];
        if !step.bench && step.state.on != n.on {
            (n.on, n.changes) = (step.state.on, n.changes + 1);
        }
        let from = n.now.max(n.ready_at[s]);
        n.now = from + x.minutes[s];
        n.left -= x.minutes[s];
        n.done[s] = true;
        if step.state.helper {
            n.helper = Some((n.helper.map_or(from, |h| h.0), n.now));
            n.helper_left -= x.minutes[s];
        }
        for &a in &x.after[s] {
            n.ready_at[a] = n.ready_at[a].max(n.now + x.waits[s]);
            n.missing[a] -= 1;
        }
        n.order.push(s);
        n
    }
}

/// The order of the steps, by index, with what no order can do without.
pub(super) fn best_order(p: &ScheduleInput) -> (Vec<usize>, f64) {
    let mut x = Search::new(p);
    type Rule = fn(&Search, usize) -> f64;
    let wait_first: Rule = |x, s| if x.waits[s] > 0.0 { 1e6 + x.tail[s] } else { x.tail[s] };
    let by_tail: Rule = |x, s| x.tail[s];
    let by_place: Rule = |_, s| -(s as f64);
    let wait_then_place: Rule = |x, s| if x.waits[s] > 0.0 { 1e6 } else { -(s as f64) };
    // What leads to a wait comes before what does not.
    let to_wait: Rule =
        |x, s| x.reach(s, &x.after).iter().zip(&x.waits).filter(|(r, _)| **r).map(|(_, w)| *w).sum::<f64>() + x.waits[s];
    for rule in [wait_then_place, by_place, wait_first, by_tail, to_wait] {
        for helper in [HelperRule::AsItComes, HelperRule::AfterTheRest, HelperRule::AtOnce] {
            let order = x.listed(helper, rule);
            x.offer(&order);
        }
    }
    if !x.is_proved() && p.steps.len() <= EXACT_MAX_STEPS {
        let begun = Begun {
            order: vec![],
            done: vec![false; p.steps.len()],
            missing: p.before.iter().map(BTreeSet::len).collect(),
            ready_at: vec![0.0; p.steps.len()],
            now: 0.0,
            left: x.total,
            on: p.start,
            changes: 0,
            helper: None,
            helper_left: p.steps.iter().filter(|s| s.state.helper).map(|s| s.minutes[1]).sum(),
        };
        x.branch(&begun);
        // Every order was looked at: the best one is what no order can do without.
        if x.nodes <= NODE_BUDGET {
            x.bound = x.bound.max(x.best.0);
        }
    }
    if !x.is_proved() {
        improve(&mut x);
    }
    (x.best.1.clone(), x.bound.min(x.best.0))
}

/// Moves single steps as far forward or back as they may go, while that helps.
fn improve(x: &mut Search) {
    let n = x.p.steps.len();
    for _ in 0..4 {
        let before = x.best.0;
        for from in 0..n {
            let order = x.best.1.clone();
            let s = order[from];
            let first = order[..from].iter().rposition(|o| x.p.before[s].contains(o)).map_or(0, |i| i + 1);
            let last = order[from + 1..].iter().position(|o| x.p.before[*o].contains(&s)).map_or(n - 1, |i| from + i);
            for to in first..=last {
                let mut moved = order.clone();
                moved.remove(from);
                moved.insert(to, s);
                x.offer(&moved);
            }
        }
        if x.best.0 >= before - 1e-9 || x.is_proved() {
            break;
        }
    }
}

/// The schedule of an order.
pub(super) fn schedule(p: &ScheduleInput, order: &[usize], bound: f64) -> Schedule {
    let likely = times(p, order, 1);
    let sum = |i: usize| p.steps.iter().map(|s| s.minutes[i]).sum::<f64>();
    let ids = order.iter().map(|s| &p.steps[*s]);
    Schedule {
        order: ids.clone().map(|s| s.id.clone()).collect(),
        starts: likely.starts.clone(),
        minutes: [0, 1, 2].map(sum),
        elapsed: [0, 1, 2].map(|i| times(p, order, i).elapsed),
        helper_minutes: p.steps.iter().filter(|s| s.state.helper).map(|s| s.minutes[1]).sum(),
        helper_span: likely.span,
        state_changes: likely.changes,
        waits: ids
            .clone()
            .filter_map(|s| {
                s.wait.as_ref().map(|w| ScheduledWait { step: s.id.clone(), minutes: w.minutes, kind: w.kind.clone() })
            })
            .collect(),
        rests: ids.filter(|s| s.can_rest).map(|s| s.id.clone()).collect(),
        cost: likely.cost(),
        bound,
    }
}
