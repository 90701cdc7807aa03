//! Every fault at every place where this vehicle can have it, the pairs that the knowledge names, and the orders they
//! would make.

use super::knowledge::{Behaviour, Fault, Knowledge, LineRule, Shows, TurnsWith};
use super::place_kinds::is_kind;
use crate::measure::orders::{OrderLine, What};
use crate::vehicle::{End, Place, PlaceKind, Vehicle, is_part_of};

/// A fault at a place, or two faults at once.
#[derive(Clone, Debug, PartialEq)]
pub struct Hypothesis {
    /// The fault; `unknown` for none of these.
    pub fault: String,
    /// Its place; `none` for the unknown.
    pub at: String,
    /// The gear, for a fault of one gear.
    pub gear: Option<String>,
    /// Prior weight before history and symptom.
    pub weight: f64,
    /// The place itself.
    pub place: Option<Place>,
    /// The kind of place at which the knowledge puts it.
    pub kind: String,
    /// How it behaves there.
    pub behaviour: Option<Behaviour>,
    /// Of a pair: where its two members stand in the list of all hypotheses.
    pub pair: Option<[usize; 2]>,
}

impl Hypothesis {
    /// Whether it is the unknown cause.
    pub fn is_unknown(&self) -> bool {
        self.fault == "unknown"
    }
    /// The end of the vehicle it belongs to.
    pub fn end(&self) -> Option<End> {
        self.place.as_ref().and_then(|p| p.end)
    }
    /// Whether it is two faults at once.
    pub fn is_pair(&self) -> bool {
        self.pair.is_some()
    }
}

/// How often a fault is at one place, relative to the other faults.
fn rate_at(f: &Fault, kind: &str, p: &Place) -> f64 {
    let factor = |key: &str| f.rate_factor.get(key).copied().unwrap_or(1.0);
    f.rate / f.places * factor(kind) * p.end.map_or(1.0, |e| factor(e.id()))
}

/// How a fault behaves at a place of this vehicle: a shaft that lies before a rear transaxle turns with the engine.
fn behaviour_at(v: &Vehicle, f: &Fault, kind: &str, p: &Place) -> Behaviour {
    let mut b = f.behaviour_at(kind);
    if b.turns == TurnsWith::Shaft && p.is_of_shaft() && p.end.is_some_and(|e| v.prop_before_gearbox(e)) {
        b.turns = TurnsWith::Engine;
    }
    b
}

/// Single faults at their places, the pairs of them, and the unknown cause last.
pub fn hypotheses(v: &Vehicle, k: &Knowledge) -> Vec<Hypothesis> {
    let places = v.places();
    let mut out: Vec<Hypothesis> = vec![];
    for f in &k.faults {
        for kind in &f.at {
            for p in places.iter().filter(|p| is_kind(v, p, kind)) {
                if out.iter().any(|h| h.fault == f.id && h.at == p.id) && kind != "gear" {
                    continue;
                }
                let gears: Vec<Option<String>> = match kind.as_str() {
                    "gear" => v.gearbox.gears.iter().map(|g| Some(g.name.clone())).collect(),
                    _ => vec![None],
                };
                let weight = rate_at(f, kind, p) / gears.len() as f64;
                out.extend(gears.into_iter().map(|gear| Hypothesis {
                    fault: f.id.clone(),
                    at: p.id.clone(),
                    gear,
                    weight,
                    place: Some(p.clone()),
                    kind: kind.clone(),
                    behaviour: Some(behaviour_at(v, f, kind, p)),
                    pair: None,
                }));
            }
        }
    }
    let pairs = pairs(&out, k.weights.prior.pair);
    out.extend(pairs);
    let sum: f64 = out.iter().map(|h: &Hypothesis| h.weight).sum();
    let unknown = k.weights.prior.unknown;
    out.push(Hypothesis {
        fault: "unknown".into(),
        at: "none".into(),
        gear: None,
        weight: sum * unknown / (1.0 - unknown),
        place: None,
        kind: "none".into(),
        behaviour: None,
        pair: None,
    });
    out
}

/// Faults that come on both sides at once, and both joints of one shaft.
const TWINS: &[&str] = &["outer-joint-worn", "inner-joint-worn", "wheel-bearing-worn", "axle-bearing-worn", "boot-leaking"];
const OF_ONE_SHAFT: &[&str] = &["joint-worn", "joint-stiff", "prop-joint-worn"];
/// Faults of one shaft of which one brings the other.
const CAUSE_AND_CONSEQUENCE: &[[&str; 2]] =
    &[["joint-angle", "support-bearing-worn"], ["support-bearing-misplaced", "support-bearing-worn"]];
/// A leak that starves a bearing at the same place.
const STARVED: &[[&str; 2]] = &[
    ["pinion-seal-leaking", "pinion-bearing-worn"],
    ["axle-seal-leaking", "axle-bearing-worn"],
    ["output-seal-leaking", "gearbox-output-bearing"],
    ["output-seal-leaking", "transfer-worn"],
];

/// Whether two single hypotheses are a pair that the knowledge names.
fn is_pair(a: &Hypothesis, b: &Hypothesis) -> bool {
    let (Some(p), Some(q)) = (&a.place, &b.place) else { return false };
    let fault = a.fault.as_str();
    let is = |pair: &[&str; 2]| [fault, b.fault.as_str()] == *pair || [b.fault.as_str(), fault] == *pair;
    if a.fault == b.fault {
        let sides = TWINS.contains(&fault) && p.corner.is_some() && p.end == q.end && p.corner != q.corner;
        return sides || OF_ONE_SHAFT.contains(&fault) && p.end == q.end && p.id != q.id;
    }
    CAUSE_AND_CONSEQUENCE.iter().any(is) && p.end == q.end || STARVED.iter().any(is) && p.id == q.id
}

fn pairs(singles: &[Hypothesis], share: f64) -> Vec<Hypothesis> {
    let mut out = vec![];
    for (i, a) in singles.iter().enumerate() {
        for (j, b) in singles.iter().enumerate().skip(i + 1).filter(|(_, b)| is_pair(a, b)) {
            out.push(Hypothesis { weight: share * a.weight.min(b.weight), pair: Some([i, j]), ..a.clone() });
        }
    }
    out
}

/// Whether a fault shows something.
pub(super) fn shows(h: &Hypothesis, what: Shows) -> bool {
    h.behaviour.as_ref().is_some_and(|b| b.shows.contains(&what))
}

/// Whether a rung of the ladder belongs to a hypothesis' place.
fn is_of(h: &Hypothesis, l: &OrderLine) -> bool {
    let Some(p) = &h.place else { return false };
    if is_part_of(&l.at, &p.id) {
        return true;
    }
    match l.what {
        What::Prop | What::PropTwice => {
            p.end.is_some_and(|e| l.at == format!("prop.{}", e.id())) && (p.is_of_shaft() || p.kind == PlaceKind::Diff)
        }
        What::EngineHalf | What::EngineFirst | What::EngineFiring => p.id == "mount.engine",
        What::Wheel => {
            p.kind == PlaceKind::Diff && l.at.starts_with("wheel.") && p.end.is_some_and(|e| l.at.ends_with(e.corners()[0].id()))
        }
        What::GearMesh => p.kind == PlaceKind::Gearbox && h.gear.as_deref().is_some_and(|g| l.at == format!("gearbox.{g}")),
        _ => false,
    }
}

/// A line that a fault at a place would make.
#[derive(Clone, Debug)]
pub struct Predicted {
    /// Where it stands on the ladder of orders.
    pub line: OrderLine,
    /// How much its absence speaks against the fault, 0 to 1.
    pub needed: f64,
}

/// The lines that a single hypothesis predicts.
pub fn predicted(k: &Knowledge, h: &Hypothesis, ladder: &[OrderLine]) -> Vec<Predicted> {
    let Some(f) = k.fault(&h.fault) else { return vec![] };
    let mut out: Vec<Predicted> = vec![];
    let mut add = |rule: &LineRule, l: &OrderLine| {
        let line = OrderLine { order: l.order * rule.times, ..l.clone() };
        if !out.iter().any(|o| o.line.base == line.base && (o.line.order.get() - line.order.get()).abs() < 1e-9) {
            out.push(Predicted { line, needed: rule.needed });
        }
    };
    for rule in &f.lines {
        for l in ladder.iter().filter(|l| l.what == rule.what && is_of(h, l)) {
            add(rule, l);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::measure::orders::orders;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::*;

    fn has(v: &Vehicle, fault: &str, at: &str) -> bool {
        hypotheses(v, builtin()).iter().any(|h| h.fault == fault && h.at == at)
    }

    #[test]
    fn layouts_decide_what_can_be_wrong() {
        assert!(has(&rear_drive(2), "support-bearing-worn", "prop.rear.sb1"));
        assert!(has(&rear_drive(2), "axle-bearing-worn", "hub.rl"));
        assert!(!has(&rear_drive(2), "wheel-bearing-worn", "hub.rl"));
        assert!(has(&rear_drive(2), "wheel-bearing-worn", "hub.fl"));
        assert!(has(&front_drive(), "outer-joint-worn", "half.fl.outer"));
        assert!(!has(&front_drive(), "prop-imbalance", "prop.rear.s1"));
        assert!(has(&all_wheel_drive(), "coupler-bearing-worn", "coupler"));
        assert!(!has(&electric(), "clutch-release-bearing", "clutch"));
        assert!(!has(&electric(), "accessory-belt", "engine"));
        assert!(has(&rear_drive_independent(), "flex-coupling-cracked", "prop.rear.j1"));
    }

    #[test]
    fn priors_are_per_place_and_leave_room_for_the_unknown() {
        for v in every_layout() {
            let h = hypotheses(&v, builtin());
            let sum: f64 = h.iter().map(|h| h.weight).sum();
            assert!((h[h.len() - 1].weight / sum - 0.05).abs() < 1e-9);
            assert!(h.len() > 40 && h.len() < 260, "{} has {}", v.name, h.len());
        }
        let weight = |v: &Vehicle, fault: &str, at: &str| {
            hypotheses(v, builtin()).iter().find(|h| h.fault == fault && h.at == at).unwrap().weight
        };
        // A pickup's front hub is as often worn as a car's; a steered joint ten times as often as one that is not.
        assert_eq!(
            weight(&rear_drive(1), "wheel-bearing-worn", "hub.fl"),
            weight(&front_drive(), "wheel-bearing-worn", "hub.rr")
        );
        let joint = |at: &str| weight(&all_wheel_drive(), "outer-joint-worn", at);
        assert!((joint("half.fl.outer") / joint("half.rl.outer") - 10.0).abs() < 1e-9);
    }

    #[test]
    fn pairs_are_the_named_ones_at_a_share_of_the_less_likely_member() {
        let all = hypotheses(&rear_drive(2), builtin());
        let pairs: Vec<(String, String, f64)> = all
            .iter()
            .filter_map(|h| {
                let [a, b] = h.pair?;
                let name = |i: usize| format!("{}@{}", all[i].fault, all[i].at);
                assert!((h.weight - 0.15 * all[a].weight.min(all[b].weight)).abs() < 1e-12);
                Some((name(a), name(b), h.weight))
            })
            .collect();
        let has = |a: &str, b: &str| pairs.iter().any(|p| (p.0 == a && p.1 == b) || (p.1 == a && p.0 == b));
        assert!(has("joint-worn@prop.rear.j1", "joint-worn@prop.rear.j2"));
        assert!(has("wheel-bearing-worn@hub.fl", "wheel-bearing-worn@hub.fr"));
        assert!(has("support-bearing-worn@prop.rear.sb1", "joint-angle@prop.rear"));
        assert!(has("pinion-bearing-worn@diff.rear", "pinion-seal-leaking@diff.rear"));
        assert!(!has("wheel-imbalance@wheel.fl", "wheel-imbalance@wheel.fr"));
    }

    #[test]
    fn predicted_lines_come_from_the_ladder() {
        let v = rear_drive(2);
        let ladder = orders(&v, Some("5")).unwrap();
        let all = hypotheses(&v, builtin());
        let of = |fault: &str, at: &str| {
            let h = all.iter().find(|h| h.fault == fault && h.at == at).unwrap();
            predicted(builtin(), h, &ladder).iter().map(|p| p.line.order.get()).collect::<Vec<_>>()
        };
        assert_eq!(of("prop-bent", "prop.rear.s2"), [4.1]);
        assert_eq!(of("joint-worn", "prop.rear.j2"), [4.1, 8.2]);
        assert_eq!(of("wheel-imbalance", "wheel.fl"), [1.0, 2.0, 3.0]);
        assert_eq!(of("engine-mount-worn", "mount.engine"), [0.5, 1.0, 2.0]);
        assert_eq!(of("slip-dry", "prop.rear.slip"), Vec::<f64>::new());
    }
}
