//! Whether the advice is worth following: vehicles with hidden faults played to their cure under three ways of working,
//! and the plan held against the exact optimum of small games.

use baricord_core::reasoning::course::AHEAD;
use baricord_core::reasoning::knowledge::{Knowledge, builtin};
use baricord_core::reasoning::policy::Game;
use baricord_core::reasoning::{Hypothesis, Possible, advise, beliefs, possible};
use baricord_core::vehicle::PlaceKind;
use baricord_core::vehicle::sample::every_layout;
use baricord_simulator::worlds::{Distance, World, small_game};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde_json::{Value, json};

/// A way of working.
#[derive(Clone, Copy)]
enum Way {
    Advice,
    /// The likeliest part, handed on when the unknown is the likeliest.
    Likeliest,
    /// The likeliest part, whatever it costs.
    EveryPart,
    Catalogue,
}

/// What a cure took.
#[derive(Clone, Copy, Default)]
struct Took {
    minutes: f64,
    money: f64,
    vain: f64,
}

/// What is done next.
enum Next {
    Test(Box<Possible>),
    Repair(usize),
}

fn next(way: Way, w: &World, document: &Value, k: &Knowledge, replaced: &[usize]) -> Next {
    let case = World::case(document).expect("a case");
    // Who replaces parts whatever it costs hands the vehicle on only when most of it speaks for nothing that is known.
    let likeliest = |p: &[f64]| {
        let unknown = p.len() - 1;
        let asked = match way {
            Way::EveryPart if p[unknown] > 0.5 => 0..0,
            Way::EveryPart => 0..unknown,
            _ => 0..p.len(),
        };
        asked.filter(|i| !replaced.contains(i)).max_by(|a, b| p[*a].total_cmp(&p[*b])).unwrap_or(unknown)
    };
    match way {
        Way::Likeliest | Way::EveryPart => Next::Repair(likeliest(&beliefs(&case, k, "S1", None))),
        Way::Catalogue => {
            let p = beliefs(&case, k, "S1", None);
            let first = likeliest(&p);
            if p[first] >= k.weights.gate.certainty {
                return Next::Repair(first);
            }
            let open = possible(&case, k, "S1").into_iter().next();
            open.map_or(Next::Repair(first), |t| Next::Test(Box::new(t)))
        }
        Way::Advice => {
            let course = advise(&case, k, "S1", None);
            let step = &course.steps[0];
            if let Some(test) = &step.test {
                let same = |t: &Possible| t.test == *test && t.at == step.at && t.gear == step.gear;
                if let Some(t) = possible(&case, k, "S1").into_iter().find(same) {
                    return Next::Test(Box::new(t));
                }
            }
            let named = |i: &usize| {
                let h = &w.all[*i];
                step.fault.as_deref() == Some(h.fault.as_str())
                    && step.at.as_deref() == Some(h.at.as_str())
                    && step.gear == h.gear
            };
            let repair = (0..w.all.len()).find(|i| named(i) && !replaced.contains(i));
            Next::Repair(repair.unwrap_or_else(|| likeliest(&beliefs(&case, k, "S1", None))))
        }
    }
}

/// How the vehicle stands after a test: up for one on the lift, without what it took off; whole again for a drive.
fn stands_after(document: &mut Value, w: &World, k: &Knowledge, t: &Possible) {
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

fn play(way: Way, w: &World, k: &Knowledge, seed: u64) -> Took {
    let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x51ed);
    let mut document = w.document.clone();
    let (mut took, mut replaced) = (Took::default(), vec![]);
    loop {
        match next(way, w, &document, k, &replaced) {
            Next::Test(t) => {
                took.minutes += t.minutes;
                World::write(&mut document, &t, w.outcome(&t, &mut rng));
                stands_after(&mut document, w, k, &t);
            }
            Next::Repair(i) => {
                let h = &w.all[i];
                // What no catalogue knows is handed on, and cured there.
                let Some(f) = k.fault(&h.fault) else {
                    took.minutes += k.weights.gate.hand_on_minutes;
                    return took;
                };
                took.minutes += f.minutes + moved(&document, k, h);
                // It is driven to see: everything is back.
                document["state"] = json!({"on": "ground", "off": []});
                took.money += f.price;
                if w.truth == Some(i) {
                    return took;
                }
                took.vain += f64::from(u8::from(f.price > 0.0));
                replaced.push(i);
                let repair = json!({"fault": h.fault, "at": h.at, "gear": h.gear, "result": "not-cured", "part": "original"});
                document["repairs"].as_array_mut().expect("a list").push(repair);
            }
        }
    }
}

fn main() {
    let vehicles: u64 = std::env::var("VEHICLES").ok().and_then(|c| c.parse().ok()).unwrap_or(2000);
    let (k, all) = (builtin(), every_layout());
    let rate = k.weights.time.rate / 60.0;
    println!("{vehicles} vehicles with hidden faults, played to their cure");
    println!("  way of working                   minutes   parts   parts in vain   whole cost");
    for (way, told) in [
        (Way::Advice, "this program's plan"),
        (Way::EveryPart, "the likeliest part each time"),
        (Way::Likeliest, "the same, giving up"),
        (Way::Catalogue, "tests in catalogue order"),
    ] {
        let one = |seed: u64| {
            let mut rng = ChaCha8Rng::seed_from_u64(seed);
            let v = &all[rng.random_range(0..all.len())];
            play(way, &World::new(v, k, Distance::USUAL, &mut rng), k, seed)
        };
        let join = |a: Took, b: Took| Took { minutes: a.minutes + b.minutes, money: a.money + b.money, vain: a.vain + b.vain };
        let sum = (0..vehicles).into_par_iter().map(one).reduce(Took::default, join);
        let n = vehicles as f64;
        let whole = (sum.minutes * rate + sum.money) / n;
        println!("  {told:<32} {:>7.0} {:>7.0} {:>15.2} {whole:>12.0}", sum.minutes / n, sum.money / n, sum.vain / n);
    }
    let mut rng = ChaCha8Rng::seed_from_u64(7);
    let games: Vec<Game> = (0..200).map(|_| small_game(&mut rng)).collect();
    let over: Vec<f64> = games.par_iter().map(|g| g.followed(AHEAD) / g.optimum() - 1.0).collect();
    let mean = 100.0 * over.iter().sum::<f64>() / over.len() as f64;
    let worst = 100.0 * over.iter().copied().fold(0.0, f64::max);
    println!("200 small games: the plan costs {mean:.2} % more than the optimum on average, {worst:.1} % at worst");
}
