//! Every fault that shows its own signs, at every place of every layout, comes first.

use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::{Bears, Fault, Knowledge, Mark, Test, builtin};
use baricord_core::reasoning::{Hypothesis, diagnose, hypotheses, place_is};
use baricord_core::vehicle::{PlaceKind, Vehicle, sample};
use serde_json::{Value, json};

fn probability(k: &Knowledge, m: &Mark) -> f64 {
    k.probability(m).unwrap_or(0.0)
}

/// The likeliest outcome of a test under a fault, when the fault says that it is usual.
fn usual_outcome(k: &Knowledge, f: &Fault, t: &Test, h: &Hypothesis) -> Option<String> {
    let (name, mark) = f.marks(&t.id, &h.kind)?.iter().max_by(|a, b| probability(k, a.1).total_cmp(&probability(k, b.1)))?;
    if probability(k, mark) < 0.5 {
        return None;
    }
    let left = h.place.as_ref()?.corner.map(|c| c.is_left());
    Some(match (name.as_str(), left) {
        ("@loaded", Some(true)) => "right".into(),
        ("@loaded", Some(false)) => "left".into(),
        ("@loaded", None) => return None,
        (n, _) => n.into(),
    })
}

/// Where the test would be made for this hypothesis; none when it cannot.
fn place(v: &Vehicle, t: &Test, h: &Hypothesis) -> Option<Value> {
    let p = h.place.as_ref()?;
    if t.at.is_empty() {
        return Some(Value::Null);
    }
    if let Some(g) = &h.gear {
        return Some(json!(format!("gearbox.{g}")));
    }
    let fits =
        |q: &baricord_core::vehicle::Place| t.at.iter().any(|a| place_is(v, q, a) || a == "hub" && q.kind == PlaceKind::Hub);
    let all = v.places();
    let mut found = all.iter().filter(|q| fits(q));
    match t.bears {
        _ if fits(p) => Some(json!(p.id)),
        Bears::Corner => found.find(|q| q.corner.is_some() && q.corner == p.corner).map(|q| json!(q.id)),
        Bears::Shaft => found.find(|q| q.end == p.end).map(|q| json!(q.id)),
        Bears::Axle => found.find(|q| q.end == p.end).map(|q| json!(q.id)),
        Bears::Vehicle => Some(Value::Null),
        Bears::Place | Bears::Unit => None,
    }
}

#[test]
fn every_fault_with_its_own_signs_comes_first() {
    let k = builtin();
    let (mut asked, mut first, mut wrong) = (0, 0, vec![]);
    for v in sample::every_layout() {
        for h in hypotheses(&v, k).iter().filter(|h| !h.is_unknown()) {
            let f = k.fault(&h.fault).unwrap();
            let mut doc = Case::new_document("t", "t", json!(v));
            doc["symptoms"] = json!([{"id": "S1", "kind": f.kinds_at(&h.kind)[0], "heard_from": "unknown"}]);
            let signs: Vec<Value> = k
                .tests
                .iter()
                .filter_map(|t| {
                    let (outcome, at) = (usual_outcome(k, f, t, h)?, place(&v, t, h)?);
                    let mut o = json!({"test": t.id, "outcome": outcome});
                    if !at.is_null() {
                        o["at"] = at;
                    }
                    Some(o)
                })
                .collect();
            if signs.len() < 2 {
                continue;
            }
            doc["observations"] = json!(signs);
            let case = Case::from_json(&doc).unwrap();
            let d = diagnose(&case, k, None);
            assert!(d.warnings.is_empty(), "{:?}", d.warnings);
            let top = &d.symptoms[0].ranked[0];
            asked += 1;
            // Where nothing names the place, a twin may stand beside it.
            let twin = d.symptoms[0].ranked.iter().find(|r| r.fault == h.fault && r.at == h.at && r.gear == h.gear).unwrap();
            if top.fault == h.fault && top.p - twin.p < 1e-9 {
                first += 1;
            } else {
                wrong.push(format!(
                    "{}: {}@{} {:?} {:.2}, first {}@{} {:.2}",
                    v.name, h.fault, h.at, h.gear, twin.p, top.fault, top.at, top.p
                ));
            }
        }
    }
    assert!(asked > 400, "{asked}");
    assert!(first as f64 >= 0.97 * f64::from(asked), "{first} of {asked}: {wrong:#?}");
}
