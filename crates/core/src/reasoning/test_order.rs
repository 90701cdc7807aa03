//! The order in which the open tests are worth making from where the vehicle stands: what each brings nearer to a decision, for
//! the minutes that it then takes. Going up is paid once, what is near the last place costs no way, and what cannot move a
//! decision is not in it.

use super::information::entropy;
use super::knowledge::Heat;
use super::open_symptom::OpenSymptom;
use super::preparation::OVERHEAD_MINUTES;
use super::preparation::own_minutes;
use super::test_selection::{EvaluatedTest, WORTHWHILE_SHARE, sharpening_per_minute};
use crate::vehicle::Place;

/// From one part of the vehicle to another, minutes.
const WALKING_MINUTES: f64 = 0.5;
/// What a test must save on average of what acting at once costs, its own cost left out, to be able to move a decision.
const DECISION_MIN_SAVED_SHARE: f64 = 0.0015;
/// What tells most while warm counts so much more while it is.
const WARM_FACTOR: f64 = 3.0;
/// A look of no more minutes costs nothing where one stands.
const FREE_LOOK_MINUTES: f64 = 2.0;
/// On one drive another manoeuvre costs no more.
const SAME_DRIVE_MINUTES: f64 = 4.0;
/// What hands do in so many minutes on the lift is done before wheels turn under power.
const BY_HAND_MINUTES: f64 = 3.0;
/// A round that has begun is gone on with: the next place of the same test counts so much more.
const SAME_ROUND_FACTOR: f64 = 1.5;
/// Looks that are offered with a step.
const MAX_TESTS_WITH_STEP: usize = 3;

/// A test on the route.
#[derive(Clone, Debug, PartialEq)]
pub struct OrderedTest {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Where.
    pub at: Option<String>,
    /// In which gear.
    pub gear: Option<String>,
    /// Minutes from how the vehicle stands when its turn comes.
    pub minutes: f64,
    /// What it answers on average, bits.
    pub bits: f64,
    /// It waits until the vehicle has cooled.
    pub too_warm: bool,
}

impl OrderedTest {
    fn new(l: &EvaluatedTest, minutes: f64, too_warm: bool) -> Self {
        Self {
            test: l.one.test.id.clone(),
            at: l.one.at.as_ref().map(|p| p.id.clone()),
            gear: l.one.gear.clone(),
            minutes,
            bits: l.bits,
            too_warm,
        }
    }
}

impl OpenSymptom<'_> {
    /// Whether a test can move a decision: alone, or with the same at the other places, as far as these answer enough of what is
    /// open.
    fn can_move(&self, i: usize) -> bool {
        let id = &self.evaluated[i].one.test.id;
        let round: f64 = self.evaluated.iter().filter(|l| l.one.test.id == *id).map(|l| l.bits).sum();
        let several = self.evaluated.iter().filter(|l| l.one.test.id == *id).count() > 1;
        self.saves()[i] >= DECISION_MIN_SAVED_SHARE || several && round >= WORTHWHILE_SHARE * entropy(&self.w.p)
    }

    /// What a test brings nearer to a decision, whatever it takes.
    fn value(&self, l: &EvaluatedTest) -> f64 {
        sharpening_per_minute(&self.w.p, &l.likelihoods.rows, &l.likelihoods.base(), 0.0)
    }

    /// Minutes of a test once it is the next one, and what of them is going up.
    fn minutes_of(&self, l: &EvaluatedTest, up: bool, last: Option<&Place>) -> (f64, f64) {
        let (t, lift) = (l.one.test, self.k.weights.time.lift_minutes);
        let stands_up = self.case.state.as_ref().is_some_and(|s| s.is_up());
        let held = if t.lift && !stands_up { lift } else { 0.0 };
        let going_up = if up { 0.0 } else { held };
        // What the wheels must carry, and what is driven, brings it down again.
        let down = if up && !t.lift && (t.loaded || t.is_of_the_road()) { lift } else { 0.0 };
        let near = match (last, &l.one.at) {
            (Some(a), Some(b)) => a.same_assembly(b),
            _ => true,
        };
        ((l.minutes - held).max(0.0) + going_up + down + if near { 0.0 } else { WALKING_MINUTES }, going_up)
    }

    /// What a test is worth for its minutes, once it is the next one. What is done at several places alike is one round:
    /// `round` holds the values at all places that are left.
    fn score(&self, l: &EvaluatedTest, round: &[f64], up: bool, last: Option<&Place>) -> f64 {
        // Going up is paid once for all that is done up there: it does not decide which of these is first.
        let (minutes, going_up) = self.minutes_of(l, up, last);
        // Under power one sits inside and another listens.
        let people = if l.one.test.helper || l.one.test.wheels { 2.0 } else { 1.0 };
        let each = (minutes - going_up) * people;
        (1..=round.len()).map(|n| round[..n].iter().sum::<f64>() / (n as f64 * each + OVERHEAD_MINUTES)).fold(0.0, f64::max)
    }

    /// The open tests of a symptom that can move a decision, in the order in which they are worth making; `wanted` chooses among
    /// them, `first` comes first whatever it is worth. While the vehicle is warm what cools is worth more, and what lies beside hot
    /// parts comes last.
    pub fn route(
        &self,
        heat: Heat,
        wanted: impl Fn(&super::knowledge::Test, Option<&Place>, f64) -> bool,
        first: Option<(&str, Option<&str>, Option<&str>)>,
    ) -> Vec<OrderedTest> {
        let (open, case, k) = (self, self.case, self.k);
        let is_first = |l: &EvaluatedTest| {
            first.is_some_and(|(test, at, gear)| {
                l.one.test.id == test && l.one.at.as_ref().map(|p| p.id.as_str()) == at && l.one.gear.as_deref() == gear
            })
        };
        let mut left: Vec<(usize, f64)> = (0..open.evaluated.len())
            .filter(|&i| wanted(open.evaluated[i].one.test, open.evaluated[i].one.at.as_ref(), open.evaluated[i].minutes))
            .filter(|&i| open.can_move(i) || is_first(&open.evaluated[i]))
            .map(|i| (i, open.value(&open.evaluated[i])))
            .collect();
        let mut up = case.state.as_ref().is_some_and(|s| s.is_up());
        let (mut last, mut last_test): (Option<&Place>, Option<&str>) = (None, None);
        let mut out = vec![];
        let too_warm = |l: &EvaluatedTest| heat == Heat::Warm && l.one.test.best == Some(Heat::Cold);
        while !left.is_empty() {
            let score = |&(i, value): &(usize, f64)| {
                let l = &open.evaluated[i];
                let mut round: Vec<f64> =
                    left.iter().filter(|(j, _)| open.evaluated[*j].one.test.id == l.one.test.id).map(|x| x.1).collect();
                round.sort_by(|a, b| b.total_cmp(a));
                let warm = if heat == Heat::Warm && l.one.test.best == Some(Heat::Warm) { WARM_FACTOR } else { 1.0 };
                // What hands feel in a moment comes before wheels turn under power: nothing loose is run.
                let by_hand = |x: &EvaluatedTest| {
                    x.one.test.lift && !x.one.test.wheels && own_minutes(k, x.one.test, x.one.at.as_ref()) <= BY_HAND_MINUTES
                };
                let waits = l.one.test.wheels && left.iter().any(|(j, _)| by_hand(&open.evaluated[*j]));
                let rank = match () {
                    () if is_first(l) => 3,
                    () if too_warm(l) => 0,
                    () if waits => 1,
                    () => 2,
                };
                let round_on = if last_test == Some(l.one.test.id.as_str()) { SAME_ROUND_FACTOR } else { 1.0 };
                (rank, warm * round_on * open.score(l, &round, up, last), value)
            };
            let scores: Vec<(i32, f64, f64)> = left.iter().map(score).collect();
            let order =
                |a: &(i32, f64, f64), b: &(i32, f64, f64)| a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)).then(a.2.total_cmp(&b.2));
            let best = (0..left.len()).max_by(|&a, &b| order(&scores[a], &scores[b])).unwrap_or(0);
            let l = &open.evaluated[left.remove(best).0];
            out.push(OrderedTest::new(l, open.minutes_of(l, up, last).0, too_warm(l)));
            up = l.one.test.lift || up && !l.one.test.loaded && !l.one.test.is_of_the_road();
            last = l.one.at.as_ref().or(last);
            last_test = Some(&l.one.test.id);
        }
        out
    }

    /// What is looked at with a step for next to nothing, where one stands anyway: at the same part, or the same on the other side;
    /// of a drive the other manoeuvres that it can hold.
    pub fn tests_with_step(&self, step: (&str, Option<&str>, Option<&str>)) -> Vec<OrderedTest> {
        let (open, case, k) = (self, self.case, self.k);
        let Some(rule) = k.test(step.0) else { return vec![] };
        let at = step.1.and_then(|a| case.vehicle.place(a));
        let stands_up = case.state.as_ref().is_some_and(|s| s.is_up());
        let free = |l: &EvaluatedTest| {
            let (t, own) = (l.one.test, own_minutes(k, l.one.test, l.one.at.as_ref()));
            let going_up = if t.lift && !stands_up { k.weights.time.lift_minutes } else { 0.0 };
            let prepared = l.minutes - own - going_up <= 1e-9;
            let same = t.id == step.0 && l.one.at.as_ref().map(|p| p.id.as_str()) == step.1 && l.one.gear.as_deref() == step.2;
            if same || !prepared || t.wheels || t.off || t.recorded {
                return false;
            }
            if rule.is_of_the_road() {
                return t.is_of_the_road() && !t.lift && own <= SAME_DRIVE_MINUTES;
            }
            let near = match (&at, &l.one.at) {
                (Some(a), Some(b)) => a.same_assembly(b) || t.id == step.0 && a.kind == b.kind && a.end == b.end,
                _ => false,
            };
            near && t.lift == rule.lift && !t.is_of_the_road() && own <= FREE_LOOK_MINUTES
        };
        let mut found: Vec<(f64, &EvaluatedTest)> = open
            .evaluated
            .iter()
            .enumerate()
            .filter(|(i, l)| open.can_move(*i) && free(l))
            .map(|(_, l)| (open.value(l), l))
            .collect();
        found.sort_by(|a, b| b.0.total_cmp(&a.0));
        found.truncate(MAX_TESTS_WITH_STEP);
        found.into_iter().map(|(_, l)| OrderedTest::new(l, own_minutes(k, l.one.test, l.one.at.as_ref()), false)).collect()
    }
}
