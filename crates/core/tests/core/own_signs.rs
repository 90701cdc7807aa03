//! A fault that behaves as it does comes first: with all of its own signs shown, and after the five tests that the program
//! itself proposes, answered by draws from its behaviour.

use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::{FELT, KINDS, Knowledge, SpeedShape, ZONES, builtin};
use baricord_core::reasoning::likelihood::Model;
use baricord_core::reasoning::{Hypothesis, OpenTest, behaviour_in, diagnose, hypotheses, open_tests};
use baricord_core::vehicle::{Vehicle, sample};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde_json::{Value, json};

fn document(v: &Vehicle, symptom: Value, observations: &[Value]) -> Value {
    let mut d = Case::new_document("t", "t", json!(v));
    d["symptoms"] = json!([symptom]);
    d["observations"] = json!(observations);
    d
}

fn observation(test: &str, at: Option<&str>, gear: Option<&str>, outcome: &str) -> Value {
    let mut o = json!({"test": test, "outcome": outcome});
    if let Some(at) = at {
        o["at"] = json!(at);
    }
    if let Some(g) = gear {
        o["gear"] = json!(g);
    }
    o
}

/// Every fault at every place: its usual outcomes of all tests that speak clearly of it.
#[test]
fn every_fault_with_its_own_signs_comes_first() {
    let k = builtin();
    let (mut asked, mut first, mut wrong) = (0, 0, vec![]);
    for v in sample::every_layout() {
        let all = hypotheses(&v, k);
        for (i, h) in all.iter().enumerate().filter(|(_, h)| !h.is_unknown() && !h.is_pair()) {
            let kind = k.fault(&h.fault).unwrap().kinds_at(&h.kind).iter().max_by(|a, b| a.1.total_cmp(b.1)).unwrap().0.clone();
            let symptom = json!({"id": "S1", "kind": kind, "heard_from": "unknown"});
            let case = Case::from_json(&document(&v, symptom.clone(), &[])).unwrap();
            let signs: Vec<Value> = open_tests(&case, k, "S1")
                .into_iter()
                .filter_map(|t| {
                    let best = (0..t.rows.len()).max_by(|a, b| t.rows[*a][i].total_cmp(&t.rows[*b][i]))?;
                    let telling = t.rows[best][i] > 0.4 && t.rows[best][i] > 1.2 * t.rows[best].last().copied().unwrap_or(1.0);
                    let at = t.places[best].as_deref().or(t.at.as_deref());
                    telling.then(|| observation(&t.test, at, t.gear.as_deref(), &t.outcomes[best]))
                })
                .collect();
            if signs.len() < 2 {
                continue;
            }
            let d = diagnose(&Case::from_json(&document(&v, symptom, &signs)).unwrap(), k, None);
            assert!(d.warnings.is_empty(), "{:?}", d.warnings);
            let (top, own) = (&d.symptoms[0].ranked[0], d.symptoms[0].probability(&h.fault, &h.at));
            asked += 1;
            // Where nothing names the place, a twin may stand beside it.
            if top.fault == h.fault && top.p - own < 1e-9 {
                first += 1;
            } else {
                wrong.push(format!("{}: {}@{} {own:.2}, first {}@{} {:.2}", v.name, h.fault, h.at, top.fault, top.at, top.p));
            }
        }
    }
    assert!(asked > 400, "{asked}");
    assert!(f64::from(first) >= 0.93 * f64::from(asked), "{first} of {asked}: {wrong:#?}");
}

fn pick(weights: &[f64], rng: &mut ChaCha8Rng) -> usize {
    let mut at = rng.random::<f64>() * weights.iter().sum::<f64>();
    weights
        .iter()
        .position(|w| {
            at -= w;
            at < 0.0
        })
        .unwrap_or(weights.len() - 1)
}

fn kinds_of(k: &Knowledge, h: &Hypothesis) -> Vec<f64> {
    KINDS.iter().map(|kind| k.kind_probability(&h.fault, &h.kind, kind)).collect()
}

/// What a driver usually says of a fault: its usual kind, where it is heard and felt, and its speed where it has one.
fn usual_complaint(k: &Knowledge, v: &Vehicle, all: &[Hypothesis], i: usize) -> Value {
    let h = &all[i];
    let largest = |of: &[f64]| (0..of.len()).max_by(|a, b| of[*a].total_cmp(&of[*b])).unwrap();
    let kind = KINDS[largest(&kinds_of(k, h))];
    let mut s = complaint(k, v, all, i, kind, |p| largest(p), |p| p >= 0.5);
    // What comes at any speed is said without one.
    let peak_kmh = match h.behaviour.as_ref().map(|b| b.speed) {
        Some(SpeedShape::Low) => 25.0,
        Some(SpeedShape::PullingAway) => 10.0,
        Some(SpeedShape::Converter) => 65.0,
        Some(SpeedShape::High) => 110.0,
        Some(SpeedShape::Any) | None => return s,
    };
    if !matches!(kind, "leak" | "no-drive" | "hard-shift" | "jumps-out") {
        s["speed_kmh"] = json!({"peak": peak_kmh});
    }
    s
}

/// What a driver says of a fault, each part drawn from its distribution.
fn drawn_complaint(k: &Knowledge, v: &Vehicle, all: &[Hypothesis], i: usize, rng: &mut ChaCha8Rng) -> Value {
    let h = &all[i];
    let kind = KINDS[pick(&kinds_of(k, h), rng)];
    let (mut zones, mut felt) = (rng.clone(), rng.clone());
    rng.random::<u64>();
    complaint(k, v, all, i, kind, |p| pick(p, &mut zones), |p| felt.random_bool(p))
}

fn complaint(
    k: &Knowledge,
    v: &Vehicle,
    all: &[Hypothesis],
    i: usize,
    kind: &str,
    mut zone: impl FnMut(&[f64]) -> usize,
    mut is_felt: impl FnMut(f64) -> bool,
) -> Value {
    let model = Model::new(v, k, all, kind);
    let mut s = json!({"id": "S1", "kind": kind});
    if let Some(heard) = model.heard(i) {
        s["heard_from"] = json!(ZONES[zone(&heard)]);
    }
    if matches!(kind, "vibration" | "shudder") {
        s["felt"] = FELT.iter().filter(|place| is_felt(model.felt(i, place))).copied().collect();
    }
    s
}

/// Minutes at each place up to which a test is made at all its places in one go: all hubs, both boots, every gear.
const IN_ONE_GO: f64 = 5.0;

/// How a case stands after its plan was followed through some tests.
struct Followed {
    /// The place of the true fault in the ranking of faults; 0 when a repair has cured it.
    place: usize,
    /// Repairs that did not cure.
    in_vain: usize,
    /// What was said, answered and repaired.
    said: Vec<String>,
}

/// Follows the plan through so many tests, each answered by a draw from the fault's behaviour. A repair that the plan proposes is
/// made: it cures the true fault, and is kept as not cured otherwise.
fn follow(
    k: &Knowledge,
    v: &Vehicle,
    all: &[Hypothesis],
    i: usize,
    symptom: &Value,
    tests: usize,
    rng: &mut ChaCha8Rng,
) -> Followed {
    let mut d = document(v, symptom.clone(), &[]);
    let (mut said, mut made, mut in_vain) = (vec![symptom.to_string()], 0, 0);
    let push = |d: &mut Value, list: &str, entry: Value| d[list].as_array_mut().unwrap().push(entry);
    while made < tests {
        let c = Case::from_json(&d).unwrap();
        let answer = diagnose(&c, k, None).symptoms.remove(0);
        let Some(step) = answer.plan.steps.first() else { break };
        let Some(test) = &step.test else {
            let (fault, at) = (step.fault.clone().unwrap(), step.at.clone().unwrap());
            said.push(format!("repaired {fault} {at}"));
            if fault == "unknown" {
                break;
            }
            let same = |f: &str, a: &str| f == all[i].fault && a == all[i].at;
            if same(&fault, &at) || step.with.iter().any(|w| same(&w.fault, &w.at)) {
                return Followed { place: 0, in_vain, said };
            }
            in_vain += 1;
            for (fault, at) in step.with.iter().map(|w| (&w.fault, &w.at)).chain([(&fault, &at)]) {
                push(&mut d, "repairs", json!({"fault": fault, "at": at, "result": "not-cured", "part": "original"}));
            }
            continue;
        };
        made += 1;
        let proposed = |t: &OpenTest| t.test == *test && t.at == step.at && t.gear == step.gear;
        let in_one_go = k.test(test).unwrap().minutes <= IN_ONE_GO;
        for t in open_tests(&c, k, "S1").iter().filter(|t| proposed(t) || in_one_go && t.test == *test) {
            let rows = behaviour_in(&c, k, "S1", t).unwrap();
            let came = pick(&rows.iter().map(|r| r[i]).collect::<Vec<_>>(), rng);
            let at = t.places[came].as_deref().or(t.at.as_deref());
            said.push(format!("{} {:?} {}", t.test, at, t.outcomes[came]));
            push(&mut d, "observations", observation(&t.test, at, t.gear.as_deref(), &t.outcomes[came]));
        }
    }
    let answer = diagnose(&Case::from_json(&d).unwrap(), k, None).symptoms.remove(0);
    let top = &answer.ranked[0];
    said.push(format!("first {}@{} {:.2}", top.fault, top.at, top.p));
    let mut names: Vec<&str> = vec![];
    for r in &answer.ranked {
        if !names.contains(&r.fault.as_str()) {
            names.push(&r.fault);
        }
    }
    Followed { place: names.iter().position(|n| *n == all[i].fault).unwrap_or(99), in_vain, said }
}

/// Faults drawn by their frequency on every layout, five proposed tests each: the shares that are first then, and among the
/// first three, and the repairs in vain of each.
fn after_five_tests(draws: usize, usual: bool) -> (f64, f64, f64) {
    let k = builtin();
    let layouts = sample::every_layout();
    let one = |n: usize| {
        let mut rng = ChaCha8Rng::seed_from_u64(1200 + n as u64);
        let v = &layouts[n % layouts.len()];
        let all = hypotheses(v, k);
        let weights: Vec<f64> = all.iter().map(|h| if h.is_unknown() || h.is_pair() { 0.0 } else { h.weight }).collect();
        let i = pick(&weights, &mut rng);
        let symptom = if usual { usual_complaint(k, v, &all, i) } else { drawn_complaint(k, v, &all, i, &mut rng) };
        let f = follow(k, v, &all, i, &symptom, 5, &mut rng);
        if f.place > 0 {
            println!("{}: {}@{}: {}", v.name, all[i].fault, all[i].at, f.said.join("; "));
        }
        [f64::from(f.place == 0), f64::from(f.place < 3), f.in_vain as f64]
    };
    let sum = |a: [f64; 3], b: [f64; 3]| [a[0] + b[0], a[1] + b[1], a[2] + b[2]];
    let [first, of_three, in_vain] = (0..draws).into_par_iter().map(one).reduce(|| [0.0; 3], sum).map(|x| x / draws as f64);
    println!("{draws} draws: first {first:.3}, among the first three {of_three:.3}, in vain {in_vain:.2}");
    (first, of_three, in_vain)
}

fn draws(usual: usize) -> usize {
    std::env::var("DRAWS").ok().and_then(|d| d.parse().ok()).unwrap_or(usual)
}

/// Said as it usually is, five proposed tests name the fault in nine of ten draws, within one standard error of so many
/// (3000 draws give 0.907).
#[test]
fn after_five_proposed_tests_the_true_fault_is_first() {
    let n = draws(1000);
    let (first, of_three, in_vain) = after_five_tests(n, true);
    let standard_error = (0.9 * 0.1 / n as f64).sqrt();
    assert!(first >= 0.9 - standard_error && of_three >= 0.95 && in_vain < 0.1, "{first} {of_three} {in_vain}");
}

/// Said as a driver might say it, a whine called a vibration, heard from the wrong end, it takes more.
#[test]
fn an_odd_complaint_still_leads_near_the_fault() {
    let (first, of_three, in_vain) = after_five_tests(draws(300), false);
    assert!(first >= 0.75 && of_three >= 0.88 && in_vain < 0.6, "{first} {of_three} {in_vain}");
}
