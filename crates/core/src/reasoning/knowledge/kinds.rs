//! What a driver calls a fault: P(kind of symptom | fault), a choice among fifteen kinds.

use super::fault::Fault;
use super::weights::KindWeights;
use crate::case::vocabulary::KINDS;
use std::collections::{BTreeMap, HashMap};

/// P(kind | fault at a kind of place), for all kinds.
#[derive(Clone, Debug, Default)]
pub(super) struct KindTable {
    /// By fault, and by kind of place where it is called otherwise there.
    of: HashMap<String, HashMap<String, Vec<f64>>>,
}

/// The kinds share out so much of what a driver says: those that fit, their neighbours, the rest. Sums to 1.
fn distribution(own: &BTreeMap<String, f64>, w: &KindWeights) -> Vec<f64> {
    let fits = |k: &str| own.get(k).copied().unwrap_or(0.0);
    let cannot = |k: &str| w.only_own.iter().any(|o| o == k) && fits(k) == 0.0;
    let beside = |k: &str| -> f64 {
        if fits(k) > 0.0 || cannot(k) {
            return 0.0;
        }
        let of_chain = |c: &Vec<String>| -> f64 {
            let near = |i: usize| {
                let left = i.checked_sub(1).map_or(0.0, |j| fits(&c[j]));
                left + c.get(i + 1).map_or(0.0, |n| fits(n))
            };
            c.iter().position(|x| x == k).map_or(0.0, near)
        };
        w.chains.iter().map(of_chain).sum()
    };
    let all_beside: f64 = KINDS.iter().map(|k| beside(k)).sum();
    let others = KINDS.iter().filter(|k| fits(k) == 0.0 && beside(k) == 0.0 && !cannot(k)).count();
    let of = |k: &&str| match (fits(k), beside(k)) {
        (own, _) if own > 0.0 => w.own * own,
        (_, near) if near > 0.0 => w.neighbour * near / all_beside,
        _ if cannot(k) => 0.0,
        _ => w.rest / others.max(1) as f64,
    };
    let mut p: Vec<f64> = KINDS.iter().map(of).collect();
    let sum: f64 = p.iter().sum();
    p.iter_mut().for_each(|x| *x /= sum);
    p
}

impl KindTable {
    pub(super) fn new(faults: &[Fault], w: &KindWeights) -> Self {
        let table = |f: &Fault| {
            let usual = std::iter::once((String::new(), distribution(&f.kinds, w)));
            let there = f.only.iter().filter(|o| !o.kinds.is_empty());
            usual.chain(there.flat_map(|o| o.at.iter().map(|a| (a.clone(), distribution(&o.kinds, w))))).collect()
        };
        Self { of: faults.iter().map(|f| (f.id.clone(), table(f))).collect() }
    }

    pub(super) fn probability(&self, fault: &str, place_kind: &str, kind: &str) -> f64 {
        let table = self.of.get(fault).and_then(|t| t.get(place_kind).or_else(|| t.get("")));
        let i = KINDS.iter().position(|k| *k == kind);
        table.zip(i).map_or(0.0, |(t, i)| t[i])
    }
}

#[cfg(test)]
mod tests {
    use super::super::builtin;
    use super::*;

    #[test]
    fn what_a_driver_says_of_a_fault_sums_to_one_and_is_mostly_its_own_kinds() {
        let k = builtin();
        for f in &k.faults {
            for place in &f.at {
                let p: Vec<f64> = KINDS.iter().map(|kind| k.kind_probability(&f.id, place, kind)).collect();
                assert!((p.iter().sum::<f64>() - 1.0).abs() < 1e-9, "{}", f.id);
                let own: f64 = f.kinds_at(place).keys().map(|kind| k.kind_probability(&f.id, place, kind)).sum();
                assert!(own > 0.88, "{} {own}", f.id);
            }
        }
        assert_eq!(k.kind_probability("wheel-bearing-worn", "hub", "leak"), 0.0);
        let near = k.kind_probability("wheel-imbalance", "wheel", "shudder");
        let far = k.kind_probability("wheel-imbalance", "wheel", "clunk");
        assert!(near > 10.0 * far && far > 0.0);
    }
}
