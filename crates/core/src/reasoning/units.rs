//! What is bought as one: a hub, a half shaft with its joints, a propeller shaft, a final drive, a gearbox.

use super::hypotheses::Hypothesis;
use super::knowledge::Knowledge;
use crate::vehicle::{Place, PlaceKind, Vehicle};
use serde::{Deserialize, Serialize};

/// A unit with how likely the cause is in it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Unit {
    /// Its id: `hub.fl`, `half.fl`, `prop.rear`, `diff.rear`, `gearbox` …
    pub unit: String,
    /// The sum of its causes; a pair counts in each of its units.
    pub p: f64,
}

/// The unit that a part at a place is bought as.
pub fn unit_of(p: &Place) -> String {
    use PlaceKind as K;
    match p.kind {
        _ if p.is_of_shaft() => p.end.map_or(p.id.clone(), |e| format!("prop.{}", e.id())),
        K::Half | K::HalfInner | K::HalfOuter => p.corner.map_or(p.id.clone(), |c| format!("half.{}", c.id())),
        _ => p.id.clone(),
    }
}

/// The units of a vehicle that are changed whole: hubs, half shafts with their joints, propeller shafts, final drives, the gearbox.
pub fn complete_units(v: &Vehicle) -> Vec<Place> {
    let whole =
        |p: &Place| matches!(p.kind, PlaceKind::Half | PlaceKind::Prop | PlaceKind::Diff | PlaceKind::Gearbox | PlaceKind::Hub);
    v.places().into_iter().filter(whole).collect()
}

/// The unit that the repair of a hypothesis buys; none of the unknown, and none for two faults at once.
pub fn unit_of_hypothesis(k: &Knowledge, h: &Hypothesis) -> Option<String> {
    let place = h.place.as_ref().filter(|_| !h.is_pair())?;
    let named = k.fault(&h.fault).and_then(|f| f.bought_as.as_deref());
    Some(match (named, place.corner) {
        (Some("brake"), Some(c)) => format!("brake.{}", c.id()),
        _ => unit_of(place),
    })
}

/// Probabilities by unit, the likeliest first.
pub fn units(k: &Knowledge, all: &[Hypothesis], p: &[f64]) -> Vec<Unit> {
    let of: Vec<Option<String>> = all.iter().map(|h| unit_of_hypothesis(k, h)).collect();
    let mut out: Vec<Unit> = vec![];
    let mut add = |unit: &str, p: f64| match out.iter_mut().find(|u| u.unit == unit) {
        Some(u) => u.p += p,
        None => out.push(Unit { unit: unit.into(), p }),
    };
    for (i, h) in all.iter().enumerate() {
        let members: Vec<usize> = h.pair.map_or(vec![i], |m| m.to_vec());
        let mut named: Vec<&str> = members.iter().filter_map(|&m| of[m].as_deref()).collect();
        named.dedup();
        named.iter().for_each(|u| add(u, p[i]));
    }
    out.retain(|u| u.p >= 0.001);
    out.sort_by(|a, b| b.p.total_cmp(&a.p));
    out
}

/// Whether a complete unit, changed whole, contains a place.
pub fn contains(unit: &str, p: &Place) -> bool {
    use PlaceKind as K;
    let hub_unit = unit.strip_prefix("hub.").is_some_and(|c| p.kind == K::Hub && p.corner.is_some_and(|q| q.id() == c));
    let axle = |end: &str| {
        p.end.is_some_and(|e| e.id() == end)
            && matches!(p.kind, K::Diff | K::Half | K::HalfInner | K::HalfOuter | K::HalfBearing | K::Hub)
    };
    let of_gearbox = unit == "gearbox" && p.kind == K::Gearbox;
    hub_unit || of_gearbox || super::likelihood::is_within(&p.id, unit) || unit.strip_prefix("axle.").is_some_and(axle)
}

#[cfg(test)]
mod tests {
    use super::super::hypotheses;
    use super::super::knowledge::builtin;
    use super::*;
    use crate::vehicle::sample::*;

    #[test]
    fn a_pair_counts_in_each_of_its_units_and_a_half_shaft_is_one() {
        let all = hypotheses(&front_drive(), builtin());
        let i = all.iter().position(|h| h.is_pair() && h.fault == "outer-joint-worn").unwrap();
        let mut p = vec![0.0; all.len()];
        p[i] = 0.6;
        p[all.iter().position(|h| h.fault == "inner-joint-worn" && h.at == "half.fl.inner").unwrap()] = 0.3;
        let u = units(builtin(), &all, &p);
        assert_eq!(
            u.iter().map(|u| (u.unit.as_str(), (u.p * 10.0).round())).collect::<Vec<_>>(),
            [("half.fl", 9.0), ("half.fr", 6.0)]
        );
    }

    #[test]
    fn a_complete_unit_contains_its_parts() {
        let v = rear_drive_independent();
        let place = |id: &str| v.place(id).unwrap();
        assert!(contains("half.rl", &place("half.rl.inner")) && !contains("half.rl", &place("half.rr.inner")));
        assert!(contains("prop.rear", &place("prop.rear.j2")) && contains("axle.rear", &place("hub.rl")));
        assert!(!contains("hub.rl", &place("wheel.rl")));
    }
}
