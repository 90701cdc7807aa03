//! Whether the advice is worth following: vehicles with hidden faults worked to their cure by this program's plan and by a
//! good mechanic written as rules, on every layout; and the plan held against the exact optimum of small games.
//!
//! The good mechanic asks first, drives, then looks, cheap first, with every test of the catalogue at hand; weighs what
//! was found as the program does; buys no part below 80 %, unless nothing is left to try; hands on what stays dark.

use baricord_core::reasoning::decision_problem::DecisionProblem;
use baricord_core::reasoning::first_steps::layouts;
use baricord_core::reasoning::knowledge::{Knowledge, Test, builtin};
use baricord_core::reasoning::plan::MOVES_AHEAD;
use baricord_core::reasoning::{Hypothesis, OpenTest, advise, beliefs, information_gain, open_tests};
use baricord_core::vehicle::PlaceKind;
use baricord_simulator::worlds::{Distance, World, small_problem};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde_json::{Value, json};

/// A way of working.
#[derive(Clone, Copy, PartialEq)]
enum Way {
    /// What the program says.
    Advice,
    /// A good mechanic, by rules.
    Mechanic,
    /// The likeliest part each time.
    Parts,
}

/// What a cure took.
#[derive(Clone, Copy, Default)]
struct Took {
    minutes: f64,
    money: f64,
    vain: f64,
    handed_on: f64,
}

impl Took {
    fn and(self, b: Took) -> Took {
        Took {
            minutes: self.minutes + b.minutes,
            money: self.money + b.money,
            vain: self.vain + b.vain,
            handed_on: self.handed_on + b.handed_on,
        }
    }
}

/// What is done next.
enum Next {
    Test(Box<OpenTest>),
    /// These hypotheses are repaired: one, or both of a pair.
    Repair(Vec<usize>),
}

/// The order in which a good mechanic goes: asks and tries standing, drives, looks on the lift, takes something off.
fn stage(t: &Test) -> u8 {
    match () {
        () if t.off || !t.opens.is_empty() || t.minutes > 20.0 => 4,
        () if t.wheels => 3,
        () if t.lift => 2,
        () if t.is_of_the_road() => 1,
        () => 0,
    }
}

/// Probability that a single fault is there, alone or as one of two.
fn holding(all: &[Hypothesis], p: &[f64], i: usize) -> f64 {
    (0..all.len()).filter(|&h| h == i || all[h].pair.is_some_and(|m| m.contains(&i))).map(|h| p[h]).sum()
}

fn likeliest(all: &[Hypothesis], p: &[f64], replaced: &[usize]) -> usize {
    let unknown = p.len() - 1;
    let single = |i: &usize| !all[*i].is_pair() && !replaced.contains(i);
    (0..unknown).filter(single).max_by(|a, b| p[*a].total_cmp(&p[*b])).filter(|i| p[*i] > 0.02).unwrap_or(unknown)
}

/// Share of what is open that a test must answer for a good mechanic to make it.
const WORTH_TRYING: f64 = 0.04;

fn mechanic(w: &World, document: &Value, k: &Knowledge, replaced: &[usize]) -> Next {
    let case = World::case(document).expect("a case");
    let p = beliefs(&case, k, "S1", None);
    let first = likeliest(&w.all, &p, replaced);
    if holding(&w.all, &p, first) >= 0.8 {
        return Next::Repair(vec![first]);
    }
    let open: f64 = p.iter().filter(|x| **x > 0.0).map(|x| -x * x.log2()).sum();
    let mut tests: Vec<(u8, f64, OpenTest)> = open_tests(&case, k, "S1")
        .into_iter()
        .filter_map(|t| {
            let rule = k.test(&t.test)?;
            let bits = information_gain(&p, &t.rows);
            (bits >= WORTH_TRYING * open).then(|| (stage(rule), bits / t.minutes, t))
        })
        .collect();
    tests.sort_by(|a, b| a.0.cmp(&b.0).then(b.1.total_cmp(&a.1)));
    let unknown = w.all.len() - 1;
    match tests.into_iter().next() {
        Some((.., t)) => Next::Test(Box::new(t)),
        // Nothing is left to try: the likeliest part, unless the cause is more likely none of these.
        None if p[unknown] > p[first] => Next::Repair(vec![unknown]),
        None => Next::Repair(vec![first]),
    }
}

fn advice(w: &World, document: &Value, k: &Knowledge, replaced: &[usize]) -> Next {
    let case = World::case(document).expect("a case");
    let course = advise(&case, k, "S1", None);
    let step = &course.steps[0];
    if let Some(test) = &step.test {
        let same = |t: &OpenTest| t.test == *test && t.at == step.at && t.gear == step.gear;
        if let Some(t) = open_tests(&case, k, "S1").into_iter().find(same) {
            return Next::Test(Box::new(t));
        }
    }
    let named =
        |fault: &str, at: &str| (0..w.all.len()).find(|i| w.all[*i].fault == fault && w.all[*i].at == at && !w.all[*i].is_pair());
    let with = step.with.iter().filter_map(|x| named(&x.fault, &x.at));
    let first = step.fault.as_deref().zip(step.at.as_deref()).and_then(|(f, at)| named(f, at));
    let mut all: Vec<usize> = first.into_iter().chain(with).filter(|i| !replaced.contains(i)).collect();
    if all.is_empty() {
        all.push(w.all.len() - 1);
    }
    Next::Repair(all)
}

fn next(way: Way, w: &World, document: &Value, k: &Knowledge, replaced: &[usize]) -> Next {
    match way {
        Way::Advice => advice(w, document, k, replaced),
        Way::Mechanic => mechanic(w, document, k, replaced),
        Way::Parts => {
            let p = beliefs(&World::case(document).expect("a case"), k, "S1", None);
            Next::Repair(vec![likeliest(&w.all, &p, replaced)])
        }
    }
}

/// How the vehicle stands after a test: up for one on the lift, without what it took off; whole again for a drive.
fn stands_after(document: &mut Value, w: &World, k: &Knowledge, t: &OpenTest) {
    let Some(rule) = k.test(&t.test) else { return };
    if rule.is_of_the_road() {
        document["state"] = json!({"on": "ground", "off": []});
    }
    if rule.lift {
        document["state"]["on"] = "lift".into();
    }
    if !rule.opens.is_empty() {
        let place = |id: &str| w.all.iter().filter_map(|h| h.place.as_ref()).find(|p| p.id == id);
        let shaft = t.at.as_deref().and_then(place).filter(|p| p.is_of_shaft()).and_then(|p| p.whole());
        let halves =
            || w.all.iter().filter_map(|h| h.place.as_ref()).filter(|p| !p.is_of_shaft()).filter_map(|p| p.whole()).collect();
        let off: Vec<String> = shaft.map_or_else(halves, |s| vec![s]);
        document["state"]["off"] = json!(off);
    }
}

/// What a repair takes more or less for how the vehicle stands: going up, and a shaft that is off already.
fn moved(document: &Value, k: &Knowledge, h: &Hypothesis) -> f64 {
    let (case, time) = (World::case(document).expect("a case"), &k.weights.time);
    let (Some(place), Some(f)) = (&h.place, k.fault(&h.fault)) else { return 0.0 };
    let state = case.state.unwrap_or_default();
    let below = !matches!(place.kind, PlaceKind::Engine | PlaceKind::Strut);
    let up = if below && !state.is_up() { time.lift_minutes } else { 0.0 };
    let off = place.is_of_shaft() && state.is_off(place) && !f.in_place && f.minutes > time.shaft_minutes;
    up - if off { time.shaft_minutes } else { 0.0 }
}

/// Whether repairing these cures the vehicle: the true fault, in whichever gear, or both of two.
fn is_cured(w: &World, replaced: &[usize]) -> bool {
    let Some(truth) = w.truth else { return false };
    let same = |a: usize, b: usize| w.all[a].fault == w.all[b].fault && w.all[a].at == w.all[b].at;
    let members = w.all[truth].pair.map_or(vec![truth], |m| m.to_vec());
    members.iter().all(|m| replaced.iter().any(|r| same(*r, *m)))
}

fn play(way: Way, w: &World, k: &Knowledge, seed: u64) -> Took {
    let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x51ed);
    let mut document = w.document.clone();
    let (mut took, mut replaced) = (Took::default(), vec![]);
    // What a workshop would not go on with is handed on.
    for _ in 0..60 {
        match next(way, w, &document, k, &replaced) {
            Next::Test(t) => {
                let rule = k.test(&t.test);
                took.minutes += t.minutes * rule.map_or(1.0, |r| if r.helper { 2.0 } else { 1.0 });
                took.money += rule.map_or(0.0, |r| r.materials);
                World::write(&mut document, &t, w.outcome(k, &t, &mut rng));
                stands_after(&mut document, w, k, &t);
            }
            Next::Repair(these) => {
                for &i in &these {
                    let h = &w.all[i];
                    // What no catalogue knows is handed on, and cured there.
                    let Some(f) = k.fault(&h.fault) else {
                        took.minutes += k.weights.gate.hand_on_minutes;
                        took.handed_on += 1.0;
                        return took;
                    };
                    took.minutes += f.minutes + moved(&document, k, h);
                    // It is driven to see: everything is back.
                    document["state"] = json!({"on": "ground", "off": []});
                    took.money += f.price;
                    replaced.push(i);
                    if !is_cured(w, &replaced) {
                        let of_truth = w.truth.is_some_and(|t| w.all[t].pair.is_some_and(|m| m.contains(&i)));
                        took.vain += f64::from(u8::from(f.price > 0.0 && !of_truth));
                    }
                }
                if is_cured(w, &replaced) {
                    return took;
                }
                for &i in &these {
                    let h = &w.all[i];
                    let repair = json!({"fault": h.fault, "at": h.at, "result": "not-cured", "part": "original"});
                    document["repairs"].as_array_mut().expect("a list").push(repair);
                }
            }
        }
    }
    took.minutes += k.weights.gate.hand_on_minutes;
    took.handed_on += 1.0;
    took
}

fn main() {
    let vehicles: u64 = std::env::var("VEHICLES").ok().and_then(|c| c.parse().ok()).unwrap_or(100);
    let k = builtin();
    let rate = k.weights.time.rate / 60.0;
    println!("{vehicles} vehicles with hidden faults on each layout, worked to their cure");
    println!("  layout            way of working        minutes   money   whole cost   parts in vain   handed on");
    let ways = [(Way::Advice, "this program"), (Way::Mechanic, "a good mechanic"), (Way::Parts, "parts by likelihood")];
    let mut all = [Took::default(); 3];
    let print = |layout: &str, told: &str, t: Took, n: f64| {
        let whole = (t.minutes * rate + t.money) / n;
        println!(
            "  {layout:<17} {told:<20} {:>8.0} {:>7.0} {whole:>12.0} {:>15.2} {:>11.2}",
            t.minutes / n,
            t.money / n,
            t.vain / n,
            t.handed_on / n
        );
    };
    for (layout, v) in layouts() {
        for (i, (way, told)) in ways.iter().enumerate() {
            let one = |seed: u64| {
                let mut rng = ChaCha8Rng::seed_from_u64(seed);
                play(*way, &World::new(&v, k, Distance::USUAL, &mut rng), k, seed)
            };
            let sum = (0..vehicles).into_par_iter().map(one).reduce(Took::default, Took::and);
            print(layout, told, sum, vehicles as f64);
            all[i] = all[i].and(sum);
        }
    }
    for (sum, (_, told)) in all.iter().zip(&ways) {
        print("all layouts", told, *sum, vehicles as f64 * layouts().len() as f64);
    }
    let mut rng = ChaCha8Rng::seed_from_u64(7);
    let games: Vec<DecisionProblem> = (0..200).map(|_| small_problem(&mut rng)).collect();
    let over: Vec<f64> = games.par_iter().map(|g| g.policy_cost(MOVES_AHEAD) / g.optimal_cost() - 1.0).collect();
    let mean = 100.0 * over.iter().sum::<f64>() / over.len() as f64;
    let worst = 100.0 * over.iter().copied().fold(0.0, f64::max);
    println!("200 small games: the plan costs {mean:.2} % more than the optimum on average, {worst:.1} % at worst");
}
