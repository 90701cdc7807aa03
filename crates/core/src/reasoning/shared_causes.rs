//! One cause of several symptoms: when one explains them far better than one each, that is said.

use super::Weighed;
use serde::{Deserialize, Serialize};

/// A cause that explains several symptoms.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Shared {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    pub at: String,
    /// The symptoms that it explains.
    pub symptoms: Vec<String>,
    /// Probability that it is the one cause of them.
    pub p: f64,
}

/// How often two symptoms of one vehicle have one cause, before anything is known of them.
const ONE_CAUSE_PRIOR: f64 = 0.4;
/// A cause is named for several symptoms from this share of each on, and from this probability of being the one on.
const EACH_MIN_PROBABILITY: f64 = 0.05;
const SHARED_MIN_PROBABILITY: f64 = 0.3;

/// The causes that explain two or more symptoms at once. With p₁, p₂ what is believed of each symptom alone, c the
/// likelihood of what hands found (which counts in both) and π the prior, one cause h of both has the odds
/// s·Σ p₁(h)·p₂(h)/(π(h)·c(h)) : (1 − s)·1, scaled by what c is on average.
pub(super) fn shared(of: &[(String, Weighed)]) -> Vec<Shared> {
    let mut out: Vec<Shared> = vec![];
    for (i, (a, wa)) in of.iter().enumerate() {
        for (b, wb) in &of[i + 1..] {
            let common: f64 = wa.prior.iter().zip(&wa.common).map(|(p, c)| p * c).sum();
            let joint: Vec<f64> =
                (0..wa.all.len()).map(|h| wa.p[h] * wb.p[h] * common / (wa.prior[h] * wa.common[h]).max(1e-12)).collect();
            let one: f64 = ONE_CAUSE_PRIOR * joint.iter().sum::<f64>();
            for h in 0..wa.all.len() {
                // Alone, or as one of a pair.
                let holds = |i: usize| i == h || wa.all[i].pair.is_some_and(|members| members.contains(&h));
                let joint_of: f64 = (0..wa.all.len()).filter(|i| holds(*i)).map(|i| joint[i]).sum();
                let p = ONE_CAUSE_PRIOR * joint_of / (one + 1.0 - ONE_CAUSE_PRIOR);
                let single = !wa.all[h].is_unknown() && !wa.all[h].is_pair();
                if !single || p < SHARED_MIN_PROBABILITY || wa.p[h] < EACH_MIN_PROBABILITY || wb.p[h] < EACH_MIN_PROBABILITY {
                    continue;
                }
                let (fault, at) = (wa.all[h].fault.clone(), wa.all[h].at.clone());
                match out.iter_mut().find(|s| s.fault == fault && s.at == at) {
                    Some(s) => {
                        s.p = s.p.min(p);
                        [a, b].into_iter().for_each(|id| {
                            if !s.symptoms.contains(id) {
                                s.symptoms.push(id.clone())
                            }
                        });
                    }
                    None => out.push(Shared { fault, at, symptoms: vec![a.clone(), b.clone()], p }),
                }
            }
        }
    }
    out.sort_by(|x, y| y.p.total_cmp(&x.p));
    out
}
