//! Every fault at every place where this vehicle can have it, and the orders it would make.

use super::knowledge::{Knowledge, LineRule, kind_bits};
use crate::orders::{OrderLine, What};
use crate::vehicle::{AxleKind, End, FrontDrive, GearboxKind, JointKind, Place, PlaceKind, Slip, Vehicle};

/// A fault at a place.
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
    /// All kinds of places that its place is, as bits.
    pub kinds: u64,
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
}

/// Whether a place is of a kind that knowledge names.
pub fn is_kind(v: &Vehicle, p: &Place, kind: &str) -> bool {
    use PlaceKind as K;
    let joint = || {
        let prop = p.end.and_then(|e| v.prop(e))?;
        prop.joints.get(p.number? - 1).map(|j| j.kind())
    };
    let driven_solid = || p.end.and_then(|e| v.axle(e)).is_some_and(|a| a.driven && a.kind == AxleKind::Solid);
    match kind {
        "engine" => p.kind == K::Engine,
        "engine-combustion" => p.kind == K::Engine && !v.is_electric(),
        "clutch" => p.kind == K::Clutch,
        "gearbox" | "gear" => p.kind == K::Gearbox,
        "gearbox-manual" => p.kind == K::Gearbox && v.gearbox.kind == GearboxKind::Manual,
        "gearbox-automatic" => p.kind == K::Gearbox && matches!(v.gearbox.kind, GearboxKind::Automatic | GearboxKind::Cvt),
        "gearbox-separate" => p.kind == K::Gearbox && !v.gearbox.transaxle,
        "gearbox-transaxle" => p.kind == K::Gearbox && v.gearbox.transaxle,
        "transfer" => p.kind == K::Transfer,
        "coupler" => p.kind == K::Coupler,
        "prop" => p.kind == K::Prop,
        "prop-with-cross" => {
            p.kind == K::Prop
                && p.end.and_then(|e| v.prop(e)).is_some_and(|q| q.joints.iter().any(|j| j.kind() == JointKind::Cross))
        }
        "section" => p.kind == K::Section,
        "joint" => p.kind == K::Joint,
        "cross-joint" => p.kind == K::Joint && joint().is_some_and(|k| matches!(k, JointKind::Cross | JointKind::DoubleCross)),
        "flex-joint" => p.kind == K::Joint && joint() == Some(JointKind::Flex),
        "support" => p.kind == K::Support,
        "slip" => p.kind == K::Slip,
        "slip-at-gearbox" => {
            p.kind == K::Slip
                && p.end.and_then(|e| v.prop(e)).is_some_and(|q| matches!(q.slip, Some(Slip::Gearbox | Slip::Transfer)))
        }
        "diff" | "diff-with-clutches" => p.kind == K::Diff,
        // Of an axle whose drive can be taken away: in front of a transfer case, behind a coupling unit.
        "diff-on-demand" => {
            let part = v.transfer.as_ref().is_some_and(|t| t.front_drive != FrontDrive::FullTime) && p.end == Some(End::Front);
            p.kind == K::Diff && (part || v.coupler.as_ref().is_some_and(|c| p.end == Some(c.before)))
        }
        "half" => p.kind == K::Half,
        "half-inner" => p.kind == K::HalfInner,
        "half-outer" => p.kind == K::HalfOuter,
        "hub" => p.kind == K::Hub && !driven_solid(),
        "axle-hub" => p.kind == K::Hub && driven_solid(),
        "wheel" => p.kind == K::Wheel,
        "strut" => p.kind == K::Strut,
        "mount" => p.kind == K::Mount,
        _ => kind.strip_prefix("mount-").is_some_and(|m| p.id == format!("mount.{m}")),
    }
}

/// All hypotheses of a vehicle, the unknown one last.
pub fn hypotheses(v: &Vehicle, k: &Knowledge) -> Vec<Hypothesis> {
    let places = v.places();
    let kinds: Vec<u64> = places.iter().map(|p| kind_bits(|kind| is_kind(v, p, kind))).collect();
    let mut out = vec![];
    for f in &k.faults {
        let weight = k.weights.rarity.get(&f.rarity).copied().unwrap_or(1.0);
        let mut found: Vec<(usize, Option<String>, &str)> = vec![];
        for kind in &f.at {
            for (i, _) in places.iter().enumerate().filter(|(_, p)| is_kind(v, p, kind)) {
                if kind == "gear" {
                    found.extend(v.gearbox.gears.iter().map(|g| (i, Some(g.name.clone()), kind.as_str())));
                } else {
                    found.push((i, None, kind));
                }
            }
        }
        let n = found.len().max(1) as f64;
        out.extend(found.into_iter().map(|(i, gear, kind)| Hypothesis {
            fault: f.id.clone(),
            at: places[i].id.clone(),
            gear,
            weight: weight / n,
            place: Some(places[i].clone()),
            kind: kind.into(),
            kinds: kinds[i],
        }));
    }
    let sum: f64 = out.iter().map(|h: &Hypothesis| h.weight).sum();
    let unknown = k.weights.prior.unknown;
    out.push(Hypothesis {
        fault: "unknown".into(),
        at: "none".into(),
        gear: None,
        weight: sum * unknown / (1.0 - unknown),
        place: None,
        kind: "none".into(),
        kinds: 0,
    });
    out
}

/// Whether a rung of the ladder belongs to a hypothesis' place.
fn is_of(h: &Hypothesis, l: &OrderLine) -> bool {
    let Some(p) = &h.place else { return false };
    if l.at == p.id || l.at.strip_prefix(&p.id).is_some_and(|r| r.starts_with('.')) {
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
    /// The line.
    pub line: OrderLine,
    /// How much its absence speaks against the fault, 0 to 1.
    pub needed: f64,
}

/// The lines that a hypothesis predicts.
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
    use crate::orders::orders;
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
    fn only_an_axle_that_can_be_let_go_is_engaged_and_freed() {
        let can = |v: &Vehicle| -> Vec<String> {
            v.places().iter().filter(|p| is_kind(v, p, "diff-on-demand")).map(|p| p.id.clone()).collect()
        };
        assert_eq!(can(&rear_drive(2)), Vec::<String>::new());
        assert_eq!(can(&four_wheel_drive()), ["diff.front"]);
        assert_eq!(can(&all_wheel_drive()), ["diff.rear"]);
    }

    #[test]
    fn priors_share_out_among_places_and_leave_room_for_the_unknown() {
        for v in every_layout() {
            let h = hypotheses(&v, builtin());
            let sum: f64 = h.iter().map(|h| h.weight).sum();
            assert!((h[h.len() - 1].weight / sum - 0.05).abs() < 1e-9);
            assert!(h.len() > 20 && h.len() < 200, "{} has {}", v.name, h.len());
        }
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
