//! The knowledge explained to a mechanic: what speaks for a fault and what against it.

use super::super::hypotheses;
use super::super::likelihood::Model;
use super::{Fault, Knowledge, Test};
use crate::vehicle::sample::every_layout;
use crate::vehicle::{Place, Vehicle};

/// How an outcome bears on a fault.
#[derive(Clone, Debug, PartialEq)]
pub struct Explanation {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Its heading.
    pub ask: String,
    /// What comes out.
    pub outcome: String,
    /// How likely that is with this fault.
    pub p: f64,
    /// How many times likelier than for no reason.
    pub times: f64,
    /// Why, where it follows from how the fault behaves.
    pub why: Option<String>,
}

impl Explanation {
    /// How often, in words.
    pub fn often(&self) -> &'static str {
        match (self.times >= 1.0, self.p) {
            (true, p) if p >= 0.9 => "nearly always",
            (true, p) if p >= 0.5 => "usually",
            (true, p) if p >= 0.1 => "sometimes",
            (true, _) => "rare, but telling",
            (false, p) if p >= 0.1 => "seldom",
            (false, _) => "practically never",
        }
    }
}

/// Below this factor an outcome says nothing worth a line.
const EXPLAINED_MIN_FACTOR: f64 = 1.25;

/// A vehicle that can have a fault.
fn vehicle_with(k: &Knowledge, f: &Fault) -> Option<(Vehicle, usize)> {
    let mut all = every_layout();
    let more: Vec<Vehicle> = all.iter().map(equipped).collect();
    all.extend(more);
    let at = |v: &Vehicle| hypotheses(v, k).iter().position(|h| h.fault == f.id && !h.is_pair());
    all.into_iter().find_map(|v| at(&v).map(|i| (v, i)))
}

/// A vehicle with what is seldom fitted: free hubs, a limited slip, intermediate shafts, constant-velocity shaft joints.
fn equipped(v: &Vehicle) -> Vehicle {
    use crate::vehicle::{Intermediate, Joint, JointKind};
    let mut v = v.clone();
    for a in v.axles.iter_mut().filter(|a| a.driven) {
        (a.free_hubs, a.limited_slip) = (true, Some(true));
    }
    v.half_shafts.iter_mut().for_each(|h| h.intermediate = Some(Intermediate { bearing: true }));
    v.props.iter_mut().filter_map(|p| p.joints.first_mut()).for_each(|j| *j = Joint::Plain(JointKind::Ball));
    v
}

fn outcome_words(t: &Test, outcome: usize, place: &Place) -> String {
    let o = &t.outcomes[outcome];
    match (t.id.as_str(), o.id.as_str(), place.corner.map(|c| c.is_left())) {
        ("turn" | "turn-power", "right", Some(true)) | ("turn" | "turn-power", "left", Some(false)) => {
            "heard in the turn that loads this side".into()
        }
        ("turn" | "turn-power", "left" | "right", Some(_)) => "heard in the turn that unloads this side".into(),
        _ => o.words.clone(),
    }
}

impl Knowledge {
    /// What speaks for a fault and what against it, the strongest first: each test made at its place, in a symptom that
    /// the fault is usually called.
    pub fn explain(&self, f: &Fault) -> (Vec<Explanation>, Vec<Explanation>) {
        let mut all: Vec<Explanation> = vec![];
        let kind = f.usual_kinds().first().copied().unwrap_or("vibration").to_string();
        if let Some((v, i)) = vehicle_with(self, f) {
            let hypotheses = hypotheses(&v, self);
            let model = Model::new(&v, self, &hypotheses, &kind);
            let h = &hypotheses[i];
            for t in self.tests.iter().filter(|t| t.asked_of.is_empty() || t.asked_of.contains(&kind)) {
                let Some(place) = &h.place else { continue };
                let test_places = model.places_of(t);
                let own = test_places
                    .iter()
                    .find(|s| s.id == place.id)
                    .or_else(|| test_places.iter().find(|s| s.corner.is_some() && s.corner == place.corner));
                let at = if t.names_place { None } else { own.or(test_places.first()) };
                if at.is_none() && !t.at.is_empty() && !t.names_place {
                    continue;
                }
                let l = model.likelihoods(t, at, h.gear.as_deref());
                let unknown = hypotheses.len() - 1;
                for outcome in 0..t.outcomes.len() {
                    let sum = |h: usize| {
                        l.cells.iter().zip(&l.rows).filter(|(c, _)| c.outcome == outcome).map(|(_, r)| r[h]).sum::<f64>()
                    };
                    let (p, base) = (sum(i), sum(unknown));
                    if base > 0.0 {
                        all.push(Explanation {
                            test: t.id.clone(),
                            ask: t.ask.clone(),
                            outcome: outcome_words(t, outcome, place),
                            p,
                            times: p / base,
                            why: model.reason(i, t, at, h.gear.as_deref()).filter(|_| !f.tests.contains_key(&t.id)),
                        });
                    }
                }
            }
        }
        let (mut speaks, mut against): (Vec<Explanation>, Vec<Explanation>) = all.into_iter().partition(|s| s.times >= 1.0);
        speaks.retain(|s| s.times >= EXPLAINED_MIN_FACTOR);
        against.retain(|s| s.times <= 1.0 / EXPLAINED_MIN_FACTOR);
        speaks.sort_by(|a, b| b.times.total_cmp(&a.times));
        against.sort_by(|a, b| a.times.total_cmp(&b.times));
        (speaks, against)
    }
}

#[cfg(test)]
mod tests {
    use super::super::builtin;

    #[test]
    fn every_fault_has_something_that_speaks_for_it() {
        let k = builtin();
        for f in &k.faults {
            let (speaks, against) = k.explain(f);
            assert!(!speaks.is_empty(), "{}", f.id);
            assert!(speaks.iter().all(|s| s.times > 1.0) && against.iter().all(|s| s.times < 1.0));
        }
        let (speaks, _) = k.explain(k.fault("axle-nut-loose").unwrap());
        assert!(speaks.iter().any(|s| s.test == "axle-nut-check" && s.often() == "nearly always"), "{speaks:?}");
    }

    #[test]
    fn what_hardly_ever_comes_with_a_fault_speaks_against_it_with_its_reason() {
        let k = builtin();
        let (_, against) = k.explain(k.fault("wheel-imbalance").unwrap());
        let rev = against.iter().find(|s| s.test == "standstill-rev").unwrap();
        assert!(rev.often() == "practically never" && rev.why.is_some(), "{rev:?}");
    }
}
