//! Worlds in which the weighing is put to the test: a vehicle with a hidden fault, whose tests come out as they
//! would there, not as the knowledge says. Likelihoods are off by up to a factor of two, tests of one case lean
//! on a common fact, and some causes stand in no catalogue.

use baricord_core::case::Case;
use baricord_core::problem::Problem;
use baricord_core::reasoning::knowledge::{KINDS, Knowledge, builtin};
use baricord_core::reasoning::policy::{Game, Replacement, Trial};
use baricord_core::reasoning::{Hypothesis, Possible, beliefs, hypotheses, possible, settles};
use baricord_core::vehicle::Vehicle;
use baricord_core::vehicle::sample::every_layout;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use serde_json::{Value, json};

/// How far a world is from what the knowledge says.
#[derive(Clone, Copy, Debug)]
pub struct Distance {
    /// Likelihoods are off by up to this factor.
    pub off_by: f64,
    /// Share of the variance that the tests of one case have in common.
    pub common: f64,
    /// Share of causes that are in no catalogue.
    pub outside: f64,
}

impl Distance {
    /// What the benches assume.
    pub const USUAL: Self = Self { off_by: 2.0, common: 0.25, outside: 0.05 };
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
    common: f64,
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

/// The normal distribution function, by the error function's rational approximation (Abramowitz and Stegun 7.1.26).
fn normal_share(z: f64) -> f64 {
    let x = z.abs() / std::f64::consts::SQRT_2;
    let t = 1.0 / (1.0 + 0.327_591_1 * x);
    let poly = t * (0.254_829_592 + t * (-0.284_496_736 + t * (1.421_413_741 + t * (-1.453_152_027 + t * 1.061_405_429))));
    let erf = 1.0 - poly * (-x * x).exp();
    0.5 * (1.0 + erf.copysign(z))
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

impl World {
    /// Draws a fault and the symptom that it makes.
    pub fn new(v: &Vehicle, k: &Knowledge, distance: Distance, rng: &mut impl Rng) -> Self {
        let all = hypotheses(v, k);
        let seed: u64 = rng.random();
        let known: Vec<f64> = all.iter().map(|h| if h.is_unknown() { 0.0 } else { h.weight }).collect();
        let truth = (!rng.random_bool(distance.outside)).then(|| pick(&known, rng.random()));
        let kinds = truth.and_then(|t| Some(k.fault(&all[t].fault)?.kinds_at(&all[t].kind).to_vec())).unwrap_or_default();
        let w = &k.weights.prior;
        let likely: Vec<f64> = KINDS
            .iter()
            .map(|kind| {
                let family = w.families.iter().any(|g| g.iter().any(|x| x == kind) && kinds.iter().any(|x| g.contains(x)));
                match kinds.iter().any(|x| x == kind) {
                    true => w.kind_fits,
                    false if family || kinds.is_empty() => w.kind_else,
                    false => w.kind_far,
                }
            })
            .collect();
        let kind = KINDS[pick(&likely, rng.random())];
        let mut document = Case::new_document("w", "w", json!(v));
        document["symptoms"] = json!([{"id": "S1", "kind": kind}]);
        Self { all, truth, document, distance, common: StandardNormal.sample(rng), seed }
    }

    /// How a test comes out here: the number of the outcome.
    pub fn outcome(&self, t: &Possible, rng: &mut impl Rng) -> usize {
        // Outside the catalogue nothing is known: things come out as they do for no reason.
        let of = self.truth.unwrap_or(self.all.len() - 1);
        let fault = &self.all[of].fault;
        let odds: Vec<f64> = t
            .rows
            .iter()
            .zip(&t.outcomes)
            .map(|(row, o)| {
                let off = share_of(&format!("{fault} {} {o}", t.test), self.seed);
                row[of] * self.distance.off_by.powf(2.0 * off - 1.0)
            })
            .collect();
        let own: f64 = StandardNormal.sample(rng);
        let z = self.distance.common.sqrt() * self.common + (1.0 - self.distance.common).sqrt() * own;
        pick(&odds, normal_share(z).clamp(0.0, 1.0 - 1e-9))
    }

    /// Writes an outcome into a case.
    pub fn write(document: &mut Value, t: &Possible, outcome: usize) {
        let mut o = json!({"test": t.test, "outcome": t.outcomes[outcome]});
        if let Some(at) = &t.at {
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
    let mut tests = possible(&case, k, "S1");
    // A mechanic does not look at random: of what there is, each time the one of three that settles most.
    for _ in 0..rng.random_range(2..14) {
        if tests.is_empty() {
            break;
        }
        let p = beliefs(&World::case(&document).expect("a case"), k, "S1", None);
        let tried: Vec<usize> = (0..6).map(|_| rng.random_range(0..tests.len())).collect();
        let best = tried.into_iter().max_by(|a, b| settles(&p, &tests[*a].rows).total_cmp(&settles(&p, &tests[*b].rows)));
        let t = tests.swap_remove(best.unwrap_or(0));
        World::write(&mut document, &t, w.outcome(&t, &mut rng));
    }
    let p = beliefs(&World::case(&document).expect("a case"), k, "S1", None);
    let first = (0..p.len()).max_by(|a, b| p[*a].total_cmp(&p[*b])).unwrap_or(0);
    (p[first], w.truth.unwrap_or(p.len() - 1) == first)
}

/// A game of up to six causes and six tests, anyhow.
pub fn small_game(rng: &mut ChaCha8Rng) -> Game {
    let causes = rng.random_range(2..=6usize);
    let tests = rng.random_range(1..=6usize);
    let whole = |n: usize, rng: &mut ChaCha8Rng| -> Vec<f64> {
        let raw: Vec<f64> = (0..n).map(|_| -rng.random_range(1e-6..1.0f64).ln()).collect();
        let sum: f64 = raw.iter().sum();
        raw.into_iter().map(|x| x / sum).collect()
    };
    let p = whole(causes, rng);
    let replacements = (0..causes).map(|_| Replacement { cost: rng.random_range(20.0..600.0), needs: rng.random_range(0..2) });
    let replacements: Vec<_> = replacements.collect();
    let trials = (0..tests)
        .map(|_| {
            let outcomes = rng.random_range(2..=3usize);
            let columns: Vec<Vec<f64>> = (0..causes).map(|_| whole(outcomes, rng)).collect();
            let rows = (0..outcomes).map(|o| columns.iter().map(|c| c[o]).collect()).collect();
            Trial { cost: rng.random_range(2.0..60.0), needs: rng.random_range(0..2), rows }
        })
        .collect();
    Game { p, replacements, trials, preparations: vec![6.0] }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::vehicle::sample;

    #[test]
    fn without_distance_tests_come_out_as_the_knowledge_says() {
        let (k, v) = (builtin(), sample::front_drive());
        let mut rng = ChaCha8Rng::seed_from_u64(1);
        let none = Distance { off_by: 1.0, common: 0.0, outside: 0.0 };
        let mut w = World::new(&v, k, none, &mut rng);
        w.truth = w.all.iter().position(|h| h.fault == "outer-joint-worn");
        let case = World::case(&w.document).unwrap();
        let t = possible(&case, k, "S1").into_iter().find(|t| t.test == "neutral-coast").unwrap();
        let mut counts = vec![0.0; t.outcomes.len()];
        (0..4000).for_each(|_| counts[w.outcome(&t, &mut rng)] += 1.0 / 4000.0);
        for (o, c) in counts.iter().enumerate() {
            assert!((c - t.rows[o][w.truth.unwrap()]).abs() < 0.03, "{o}: {c}");
        }
    }

    #[test]
    fn the_normal_share_is_the_known_one() {
        for (z, p) in [(0.0, 0.5), (1.0, 0.841_344_7), (-1.96, 0.024_997_9)] {
            assert!((normal_share(z) - p).abs() < 1e-6);
        }
    }
}
