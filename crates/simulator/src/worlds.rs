//! Worlds in which the weighing is put to the test: a vehicle with a hidden fault, whose frequencies and behaviours are
//! off from what the knowledge says, sometimes with two faults at once, sometimes with one that stands in no catalogue.

use baricord_core::case::Case;
use baricord_core::error::Problem;
use baricord_core::reasoning::decision_problem::{DecisionProblem, RepairAction, TestAction};
use baricord_core::reasoning::knowledge::{KINDS, Knowledge, builtin};
use baricord_core::reasoning::{Hypothesis, OpenTest, behaviour_in, beliefs, hypotheses, information_gain, open_tests};
use baricord_core::vehicle::Vehicle;
use baricord_core::vehicle::sample::every_layout;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};

/// How far a world is from what the knowledge says.
#[derive(Clone, Copy, Debug)]
pub struct Distance {
    /// Standard deviation of the logarithm of how often each fault is.
    pub log_frequency: f64,
    /// Standard deviation of the log-odds of each outcome of each fault.
    pub log_odds: f64,
    /// Share of cases with two faults at once.
    pub pairs: f64,
    /// Share of causes that are in no catalogue.
    pub outside: f64,
}

impl Distance {
    /// What the benches assume.
    pub const USUAL: Self = Self { log_frequency: 0.7, log_odds: 1.0, pairs: 0.1, outside: 0.05 };
    /// A world that is as the knowledge says.
    pub const NONE: Self = Self { log_frequency: 0.0, log_odds: 0.0, pairs: 0.0, outside: 0.0 };
}

/// A vehicle with a hidden fault.
pub struct World {
    /// The hypotheses of the vehicle.
    pub all: Vec<Hypothesis>,
    /// The fault, by its number; none when it is in no catalogue.
    pub truth: Option<usize>,
    /// The case as it begins: vehicle and symptom.
    pub document: Value,
    distance: Distance,
    seed: u64,
}

fn pick(weights: &[f64], mut at: f64) -> usize {
    at *= weights.iter().sum::<f64>();
    for (i, w) in weights.iter().enumerate() {
        at -= w;
        if at < 0.0 {
            return i;
        }
    }
    weights.len() - 1
}

/// A number from 0 to 1 that belongs to some words and a seed.
fn share_of(words: &str, seed: u64) -> f64 {
    let mut h = seed ^ 0xcbf2_9ce4_8422_2325;
    for b in words.bytes() {
        h = (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3);
    }
    h ^= h >> 29;
    h = h.wrapping_mul(0xbf58_476d_1ce4_e5b9);
    (h >> 11) as f64 / (1u64 << 53) as f64
}

/// A standard normal number that belongs to some words and a seed (Box and Muller).
fn normal_of(words: &str, seed: u64) -> f64 {
    let (a, b) = (share_of(words, seed).max(1e-12), share_of(words, seed ^ 0x9e37_79b9_7f4a_7c15));
    (-2.0 * a.ln()).sqrt() * (std::f64::consts::TAU * b).cos()
}

impl World {
    /// Draws a fault and the symptom that it makes.
    pub fn new(v: &Vehicle, k: &Knowledge, distance: Distance, rng: &mut impl Rng) -> Self {
        let all = hypotheses(v, k);
        let seed: u64 = rng.random();
        let two = rng.random_bool(distance.pairs);
        let rate = |h: &Hypothesis| h.weight * (distance.log_frequency * normal_of(&h.fault, seed)).exp();
        let of_these = |h: &Hypothesis| !h.is_unknown() && h.is_pair() == two;
        let mut known: Vec<f64> = all.iter().map(|h| if of_these(h) { rate(h) } else { 0.0 }).collect();
        if known.iter().sum::<f64>() <= 0.0 {
            known = all.iter().map(|h| if h.is_unknown() || h.is_pair() { 0.0 } else { rate(h) }).collect();
        }
        let truth = (!rng.random_bool(distance.outside)).then(|| pick(&known, rng.random()));
        // Of two faults one makes the symptom.
        let loud = truth.map(|t| all[t].pair.map_or(t, |m| m[usize::from(rng.random_bool(0.5))]));
        let likely = |kind: &&str| match loud {
            Some(t) => k.kind_probability(&all[t].fault, &all[t].kind, kind),
            // What is in no catalogue is called as everything else is.
            None => all
                .iter()
                .filter(|h| !h.is_unknown() && !h.is_pair())
                .map(|h| h.weight * k.kind_probability(&h.fault, &h.kind, kind))
                .sum(),
        };
        let kind = KINDS[pick(&KINDS.iter().map(likely).collect::<Vec<_>>(), rng.random())];
        let mut document = Case::new_document("w", "w", json!(v));
        document["symptoms"] = json!([{"id": "S1", "kind": kind}]);
        Self { all, truth, document, distance, seed }
    }

    /// How a test comes out here: the number of the outcome.
    pub fn outcome(&self, k: &Knowledge, t: &OpenTest, rng: &mut impl Rng) -> usize {
        // Outside the catalogue nothing is known: things come out as they do for no reason.
        let of = self.truth.unwrap_or(self.all.len() - 1);
        let fault = &self.all[of].fault;
        let case = Self::case(&self.document).expect("a case");
        let rows = behaviour_in(&case, k, "S1", t).expect("a test of the catalogue");
        let odds: Vec<f64> = rows
            .iter()
            .zip(&t.outcomes)
            .map(|(row, o)| {
                // How a fault behaves is off; what comes out for no reason of it is what it is.
                let speaks = (row[of] / row[self.all.len() - 1].max(1e-12)).ln().abs() > 0.05;
                let off =
                    if speaks { self.distance.log_odds * normal_of(&format!("{fault} {} {o}", t.test), self.seed) } else { 0.0 };
                row[of] * off.exp()
            })
            .collect();
        pick(&odds, rng.random())
    }

    /// Writes an outcome into a case.
    pub fn write(document: &mut Value, t: &OpenTest, outcome: usize) {
        let mut o = json!({"test": t.test, "outcome": t.outcomes[outcome]});
        if let Some(at) = t.places[outcome].as_ref().or(t.at.as_ref()) {
            o["at"] = at.clone().into();
        }
        if let Some(g) = &t.gear {
            o["gear"] = g.clone().into();
        }
        document["observations"].as_array_mut().expect("a list").push(o);
    }

    /// The case as a document says it.
    pub fn case(document: &Value) -> Result<Case, Problem> {
        Case::from_json(document)
    }
}

/// A case in a usual world, after some tests: how sure the weighing is of its first cause, and whether it is right.
pub fn examined(seed: u64) -> (f64, bool) {
    let (k, all) = (builtin(), every_layout());
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let v = &all[rng.random_range(0..all.len())];
    let w = World::new(v, k, Distance::USUAL, &mut rng);
    let mut document = w.document.clone();
    let case = World::case(&document).expect("a case");
    let mut tests = open_tests(&case, k, "S1");
    // A mechanic does not look at random: of what there is, each time the one of three that answers most.
    for _ in 0..rng.random_range(2..14) {
        if tests.is_empty() {
            break;
        }
        let p = beliefs(&World::case(&document).expect("a case"), k, "S1", None);
        let tried: Vec<usize> = (0..6).map(|_| rng.random_range(0..tests.len())).collect();
        let best = tried
            .into_iter()
            .max_by(|a, b| information_gain(&p, &tests[*a].rows).total_cmp(&information_gain(&p, &tests[*b].rows)));
        let t = tests.swap_remove(best.unwrap_or(0));
        World::write(&mut document, &t, w.outcome(k, &t, &mut rng));
    }
    let p = beliefs(&World::case(&document).expect("a case"), k, "S1", None);
    // How sure it is that a fault is there, in any of its gears, alone or as one of two; and whether it is.
    let same = |a: usize, b: usize| w.all[a].fault == w.all[b].fault && w.all[a].at == w.all[b].at;
    let holds = |h: usize, i: usize| match w.all[h].pair {
        Some(members) => members.iter().any(|m| same(*m, i)),
        None => same(h, i),
    };
    let there = |i: usize| (0..p.len()).filter(|h| holds(*h, i)).map(|h| p[h]).sum::<f64>();
    let singles = (0..p.len()).filter(|i| !w.all[*i].is_pair());
    let first = singles.max_by(|a, b| there(*a).total_cmp(&there(*b))).unwrap_or(0);
    (there(first), holds(w.truth.unwrap_or(p.len() - 1), first))
}

/// A decision problem of up to six causes and six tests, anyhow.
pub fn small_problem(rng: &mut ChaCha8Rng) -> DecisionProblem {
    let causes = rng.random_range(2..=6usize);
    let tests = rng.random_range(1..=6usize);
    let whole = |n: usize, rng: &mut ChaCha8Rng| -> Vec<f64> {
        let raw: Vec<f64> = (0..n).map(|_| -rng.random_range(1e-6..1.0f64).ln()).collect();
        let sum: f64 = raw.iter().sum();
        raw.into_iter().map(|x| x / sum).collect()
    };
    let p = whole(causes, rng);
    let repair_actions: Vec<_> = (0..causes)
        .map(|i| RepairAction { cost: rng.random_range(20.0..600.0), needs: rng.random_range(0..2), cures: 1 << i })
        .collect();
    let test_actions = (0..tests)
        .map(|_| {
            let outcomes = rng.random_range(2..=3usize);
            let columns: Vec<Vec<f64>> = (0..causes).map(|_| whole(outcomes, rng)).collect();
            let rows = (0..outcomes).map(|o| columns.iter().map(|c| c[o]).collect()).collect();
            TestAction {
                cost: rng.random_range(2.0..60.0),
                needs: rng.random_range(0..2),
                leaves: 0,
                ends: 0,
                driven: false,
                rows,
            }
        })
        .collect();
    DecisionProblem { p, repair_actions, test_actions, preparations: vec![6.0], risk: vec![] }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::vehicle::sample;

    #[test]
    fn without_distance_tests_come_out_as_the_knowledge_says() {
        let (k, v) = (builtin(), sample::front_drive());
        let mut rng = ChaCha8Rng::seed_from_u64(1);
        let mut w = World::new(&v, k, Distance::NONE, &mut rng);
        w.truth = w.all.iter().position(|h| h.fault == "outer-joint-worn");
        w.document["symptoms"][0]["kind"] = "click-repeating".into();
        let case = World::case(&w.document).unwrap();
        let t = open_tests(&case, k, "S1").into_iter().find(|t| t.test == "neutral-coast").unwrap();
        let rows = behaviour_in(&case, k, "S1", &t).unwrap();
        let mut counts = vec![0.0; t.outcomes.len()];
        (0..4000).for_each(|_| counts[w.outcome(k, &t, &mut rng)] += 1.0 / 4000.0);
        for (o, c) in counts.iter().enumerate() {
            assert!((c - rows[o][w.truth.unwrap()]).abs() < 0.03, "{o}: {c}");
        }
    }

    #[test]
    fn the_numbers_that_words_belong_to_are_normal() {
        let all: Vec<f64> = (0..4000).map(|i| normal_of("turn left", i * 7919)).collect();
        let mean = all.iter().sum::<f64>() / 4000.0;
        let deviation = (all.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / 4000.0).sqrt();
        assert!(mean.abs() < 0.06 && (deviation - 1.0).abs() < 0.06, "{mean} {deviation}");
    }
}
