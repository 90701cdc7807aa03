//! A fault that behaves as it does comes first: with all of its own signs shown, and after the five tests that the program
//! itself proposes, answered by draws from its behaviour.

use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::{FELT, KINDS, Knowledge, ZONES, builtin};
use baricord_core::reasoning::likelihood::Model;
use baricord_core::reasoning::{Hypothesis, diagnose, hypotheses, possible};
use baricord_core::vehicle::{Vehicle, sample};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;
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
            let signs: Vec<Value> = possible(&case, k, "S1")
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

/// What a driver says of a fault: kind, where it is heard and felt, each drawn from its distribution.
fn complaint(k: &Knowledge, v: &Vehicle, all: &[Hypothesis], i: usize, rng: &mut ChaCha8Rng) -> Value {
    let h = &all[i];
    let kinds: Vec<f64> = KINDS.iter().map(|kind| k.kind_probability(&h.fault, &h.kind, kind)).collect();
    let kind = KINDS[pick(&kinds, rng)];
    let model = Model::new(v, k, all, kind);
    let mut s = json!({"id": "S1", "kind": kind});
    if let Some(heard) = model.heard(i) {
        s["heard_from"] = json!(ZONES[pick(&heard, rng)]);
    }
    let felt: Vec<&str> = FELT.iter().filter(|place| rng.random_bool(model.felt(i, place))).copied().collect();
    if matches!(kind, "vibration" | "shudder") {
        s["felt"] = json!(felt);
    }
    s
}

/// Whether the true fault stands first after so many proposed tests, each answered by a draw from its behaviour.
fn first_after(
    k: &Knowledge,
    v: &Vehicle,
    all: &[Hypothesis],
    i: usize,
    tests: usize,
    rng: &mut ChaCha8Rng,
) -> (bool, bool, Vec<String>) {
    let symptom = complaint(k, v, all, i, rng);
    let (mut observations, mut told): (Vec<Value>, Vec<String>) = (vec![], vec![symptom.to_string()]);
    let case = |o: &[Value]| Case::from_json(&document(v, symptom.clone(), o)).unwrap();
    for _ in 0..tests {
        let c = case(&observations);
        let answer = diagnose(&c, k, None).symptoms.remove(0);
        let Some(next) = answer.next.first() else { break };
        let t = possible(&c, k, "S1").into_iter().find(|t| t.test == next.test && t.at == next.at && t.gear == next.gear);
        let Some(t) = t else { break };
        let came = pick(&t.rows.iter().map(|r| r[i]).collect::<Vec<_>>(), rng);
        let at = t.places[came].as_deref().or(t.at.as_deref());
        told.push(format!("{} {:?} {}", t.test, at, t.outcomes[came]));
        observations.push(observation(&t.test, at, t.gear.as_deref(), &t.outcomes[came]));
    }
    let answer = diagnose(&case(&observations), k, None).symptoms.remove(0);
    let top = &answer.ranked[0];
    told.push(format!("first {}@{} {:.2}", top.fault, top.at, top.p));
    let mut names: Vec<&str> = answer.ranked.iter().map(|r| r.fault.as_str()).collect();
    let mut seen: Vec<&str> = vec![];
    names.retain(|n| {
        let new = !seen.contains(n);
        seen.push(n);
        new
    });
    let place = names.iter().position(|n| *n == all[i].fault).unwrap_or(99);
    (place == 0, place < 3, told)
}

/// The answers are as often misleading as the knowledge says they are: five of them name the fault in three of four draws, and leave
/// it among the first three in nine of ten.
#[test]
fn after_five_proposed_tests_the_true_fault_is_first_or_near_it() {
    let k = builtin();
    let layouts = sample::every_layout();
    let mut rng = ChaCha8Rng::seed_from_u64(12);
    let (mut first, mut of_three, mut wrong) = (0, 0, vec![]);
    let draws = std::env::var("DRAWS").ok().and_then(|d| d.parse().ok()).unwrap_or(240);
    for n in 0..draws {
        let v = &layouts[n % layouts.len()];
        let all = hypotheses(v, k);
        let weights: Vec<f64> = all.iter().map(|h| if h.is_unknown() || h.is_pair() { 0.0 } else { h.weight }).collect();
        let i = pick(&weights, &mut rng);
        let (is_first, near, told) = first_after(k, v, &all, i, 5, &mut rng);
        first += usize::from(is_first);
        of_three += usize::from(near);
        if !near {
            wrong.push(format!("{}: {}@{}: {}", v.name, all[i].fault, all[i].at, told.join("; ")));
        }
    }
    println!("{first} of {draws} first, {of_three} among the first three");
    assert!(first as f64 >= 0.7 * draws as f64, "{first} of {draws}");
    assert!(of_three as f64 >= 0.86 * draws as f64, "{of_three} of {draws}\n{}", wrong.join("\n"));
}
