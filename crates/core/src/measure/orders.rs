//! The ladder of orders: at which multiple of wheel or engine speed each part of a vehicle makes
//! itself felt.

use crate::error::Problem;
use crate::measure::bearing::{BearingInput, bearing};
use crate::units::Order;
use crate::vehicle::{AxleKind, JointKind, PlaceKind, Turns, Vehicle};
use serde::{Deserialize, Serialize};

/// What an order is counted against.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Base {
    /// Turns of a wheel.
    Wheel,
    /// Turns of the engine or motor.
    Engine,
}

impl Base {
    /// In a word: “wheel”, “engine”.
    pub fn words(self) -> &'static str {
        match self {
            Base::Wheel => "wheel",
            Base::Engine => "engine",
        }
    }
}

/// What makes an order.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum What {
    /// Wheel, tyre or hub.
    Wheel,
    /// Half shaft.
    HalfShaft,
    /// Inner joint of a half shaft.
    InnerJoint,
    /// Outer joint of a half shaft.
    OuterJoint,
    /// Propeller shaft, once a turn.
    Prop,
    /// Propeller shaft, twice a turn: its cross joints.
    PropTwice,
    /// Arms of a flex coupling.
    Flex,
    /// Ring and pinion.
    Mesh,
    /// Cage of a bearing.
    BearingCage,
    /// Outer ring of a bearing.
    BearingOuter,
    /// Inner ring of a bearing.
    BearingInner,
    /// An element of a bearing.
    BearingElement,
    /// Engine, once in two turns.
    EngineHalf,
    /// Engine, once a turn.
    EngineFirst,
    /// Engine, its firing.
    EngineFiring,
    /// A gear pair.
    GearMesh,
}

/// The families of lines, each drawn in one style everywhere.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Family {
    /// Solid.
    Wheel,
    /// Dotted.
    Half,
    /// Dashed.
    Shaft,
    /// Dash-dot.
    Engine,
    /// Double.
    Mesh,
    /// Short dashes.
    Bearing,
}

impl What {
    /// The family by which it is drawn: one line style each.
    pub fn family(self) -> Family {
        match self {
            What::Wheel => Family::Wheel,
            What::HalfShaft | What::InnerJoint | What::OuterJoint => Family::Half,
            What::Prop | What::PropTwice | What::Flex => Family::Shaft,
            What::EngineHalf | What::EngineFirst | What::EngineFiring => Family::Engine,
            What::Mesh | What::GearMesh => Family::Mesh,
            _ => Family::Bearing,
        }
    }

    /// In words, as on the ladder.
    pub fn words(self) -> &'static str {
        match self {
            What::Wheel => "wheel, once a turn",
            What::HalfShaft => "half shaft, once a turn",
            What::InnerJoint => "inner joint",
            What::OuterJoint => "outer joint",
            What::Prop => "shaft, once a turn",
            What::PropTwice => "shaft, twice a turn",
            What::Flex => "flex coupling arms",
            What::Mesh => "ring and pinion",
            What::BearingCage => "bearing cage",
            What::BearingOuter => "bearing, outer ring",
            What::BearingInner => "bearing, inner ring",
            What::BearingElement => "bearing, rolling element",
            What::EngineHalf => "engine, once in two turns",
            What::EngineFirst => "engine, once a turn",
            What::EngineFiring => "engine, firing",
            What::GearMesh => "gear pair",
        }
    }
}

/// One rung.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OrderLine {
    /// Times a turn of the base.
    pub order: Order,
    /// What it is counted against.
    pub base: Base,
    /// What makes it.
    pub what: What,
    /// The part.
    pub at: String,
}

impl OrderLine {
    /// In wheel turns, when the engine's ratio to the wheels is known.
    pub fn wheel_order(&self, engine_per_wheel: Option<Order>) -> Option<Order> {
        match self.base {
            Base::Wheel => Some(self.order),
            Base::Engine => engine_per_wheel.map(|e| Order(self.order.get() * e.get())),
        }
    }
}

/// The base orders of a vehicle in a gear, without harmonics, lowest first within each base: in wheel turns (`Base::Wheel`) or
/// engine turns (`Base::Engine`). Without a gear what depends on it is left out. A gear that the vehicle has not is an error of
/// field `gear`.
///
/// ```
/// use baricord_core::{measure::orders::{What, orders}, vehicle::sample::rear_drive};
/// let ladder = orders(&rear_drive(1), Some("5")).unwrap();
/// let shaft = ladder.iter().find(|l| l.what == What::Prop).unwrap();
/// assert_eq!(shaft.order.get(), 4.1); // 41 teeth over 10
/// ```
pub fn orders(v: &Vehicle, gear: Option<&str>) -> Result<Vec<OrderLine>, Problem> {
    v.gear_ratio(gear)?;
    let mut out: Vec<OrderLine> = vec![];
    let mut add = |order: f64, base: Base, what: What, at: &str| {
        if order > 0.0 {
            out.push(OrderLine { order: Order(order), base, what, at: at.to_string() });
        }
    };
    for p in v.places() {
        match p.kind {
            PlaceKind::Wheel => add(1.0, Base::Wheel, What::Wheel, &p.id),
            PlaceKind::Half => add(1.0, Base::Wheel, What::HalfShaft, &p.id),
            PlaceKind::HalfInner | PlaceKind::HalfOuter => {
                let Some(h) = p.corner.and_then(|c| v.half_shaft(c)) else { continue };
                let inner = p.kind == PlaceKind::HalfInner;
                let n = match if inner { h.inner } else { h.outer } {
                    Some(JointKind::Tripod) => 3.0,
                    Some(JointKind::Ball) => f64::from(h.balls.unwrap_or(6)),
                    Some(JointKind::Cross | JointKind::DoubleCross) => 2.0,
                    _ => continue,
                };
                add(n, Base::Wheel, if inner { What::InnerJoint } else { What::OuterJoint }, &p.id);
            }
            PlaceKind::Diff => {
                let axle = p.end.and_then(|e| v.axle(e));
                if let Some(ring) = axle.and_then(|a| a.ring_teeth) {
                    add(f64::from(ring), Base::Wheel, What::Mesh, &p.id);
                }
            }
            _ => {}
        }
    }
    for p in &v.props {
        let id = format!("prop.{}", p.end.id());
        let Some(turns) = v.prop_turns(p) else { continue };
        let (base, i) = match turns {
            Turns::Wheel(i) => (Base::Wheel, i),
            Turns::Engine(k) => (Base::Engine, k),
        };
        add(i, base, What::Prop, &id);
        if p.joints.iter().any(|j| j.kind() == JointKind::Cross) {
            add(2.0 * i, base, What::PropTwice, &id);
        }
        for (k, j) in p.joints.iter().enumerate() {
            if j.kind() == JointKind::Flex {
                add(f64::from(j.arms()) * i, base, What::Flex, &format!("{id}.j{}", k + 1));
            }
        }
    }
    for b in v.bearings.iter().filter(|b| b.has_geometry()) {
        let Some((base, k, outer_turns)) = bearing_turns(v, &b.at) else { continue };
        let o = bearing(BearingInput {
            elements: b.elements,
            element_mm: b.element_mm,
            pitch_mm: b.pitch_mm,
            contact_deg: b.contact_deg,
        })?;
        let cage = if outer_turns { 1.0 - o.cage.get() } else { o.cage.get() };
        add(cage * k, base, What::BearingCage, &b.at);
        add(o.outer.get() * k, base, What::BearingOuter, &b.at);
        add(o.inner.get() * k, base, What::BearingInner, &b.at);
        add(2.0 * o.element.get() * k, base, What::BearingElement, &b.at);
    }
    if let Some(e) = v.engine {
        if e.strokes == 4 {
            add(0.5, Base::Engine, What::EngineHalf, "engine");
        }
        add(1.0, Base::Engine, What::EngineFirst, "engine");
        add(f64::from(e.cylinders) * 2.0 / f64::from(e.strokes), Base::Engine, What::EngineFiring, "engine");
    } else {
        add(1.0, Base::Engine, What::EngineFirst, "engine");
    }
    if let Some(g) = gear.and_then(|g| v.gear(g))
        && let Some([driving, _]) = g.teeth
    {
        add(f64::from(driving), Base::Engine, What::GearMesh, &format!("gearbox.{}", g.name));
    }
    out.sort_by(|a, b| a.base.cmp(&b.base).then(a.order.get().total_cmp(&b.order.get())));
    Ok(out)
}

/// What a bearing's shaft turns with, how many times, and whether its outer ring turns (hubs of
/// undriven wheels).
fn bearing_turns(v: &Vehicle, at: &str) -> Option<(Base, f64, bool)> {
    let place = v.place(at)?;
    let shaft = |end| {
        let p = v.prop(end);
        match p.and_then(|p| v.prop_turns(p)) {
            Some(Turns::Engine(k)) => Some((Base::Engine, k, false)),
            _ => v.final_ratio(end).map(|r| (Base::Wheel, r, false)),
        }
    };
    match place.kind {
        PlaceKind::Hub => {
            let c = place.corner?;
            let driven = v.axle(c.end()).is_some_and(|a| a.driven);
            let solid = v.axle(c.end()).is_some_and(|a| a.kind == AxleKind::Solid);
            Some((Base::Wheel, 1.0, !driven && !solid))
        }
        PlaceKind::Diff if at.ends_with(".carrier") => Some((Base::Wheel, 1.0, false)),
        PlaceKind::Diff => v.final_ratio(place.end?).map(|r| (Base::Wheel, r, false)),
        PlaceKind::Support => shaft(place.end?),
        PlaceKind::Coupler => v.final_ratio(place.end?).map(|r| (Base::Wheel, r, false)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::*;

    fn find(v: &Vehicle, gear: Option<&str>, what: What) -> Vec<OrderLine> {
        orders(v, gear).unwrap().into_iter().filter(|o| o.what == what).collect()
    }

    #[test]
    fn a_rear_drive_van_has_its_ladder() {
        let v = rear_drive(2);
        assert_eq!(find(&v, Some("5"), What::Wheel).len(), 4);
        assert_eq!(find(&v, Some("5"), What::Prop)[0].order, Order(4.1));
        assert_eq!(find(&v, Some("5"), What::PropTwice)[0].order, Order(8.2));
        assert_eq!(find(&v, Some("5"), What::Mesh)[0].order, Order(41.0));
        let firing = &find(&v, Some("5"), What::EngineFiring)[0];
        assert_eq!((firing.base, firing.order), (Base::Engine, Order(2.0)));
        let epw = v.engine_per_wheel(Some("5"), None).unwrap();
        assert!((firing.wheel_order(epw).unwrap().get() - 6.888).abs() < 1e-9);
        let outer = &find(&v, None, What::BearingOuter)[0];
        assert!((outer.order.get() - 3.572 * 4.1).abs() < 2e-3);
    }

    #[test]
    fn hubs_and_half_shafts_of_a_front_drive_car() {
        let v = front_drive();
        assert!(find(&v, None, What::InnerJoint).iter().all(|o| o.order == Order(3.0)));
        assert!(find(&v, None, What::OuterJoint).iter().all(|o| o.order == Order(6.0)));
        assert_eq!(find(&v, None, What::BearingOuter).len(), 2);
        assert!(find(&v, None, What::Prop).is_empty());
    }

    #[test]
    fn a_shaft_before_the_gearbox_is_the_engines() {
        let v = rear_transaxle();
        assert_eq!(find(&v, Some("3"), What::Prop)[0].base, Base::Engine);
        assert_eq!(find(&v, Some("3"), What::PropTwice)[0].order, Order(2.0));
    }

    #[test]
    fn an_electric_motor_has_no_firing() {
        let v = electric();
        assert!(find(&v, None, What::EngineFiring).is_empty());
        assert_eq!(find(&v, None, What::EngineFirst).len(), 1);
    }

    #[test]
    fn a_gear_with_teeth_has_its_mesh() {
        let mut v = rear_drive(1);
        v.gearbox.gears[2].teeth = Some([24, 34]);
        assert_eq!(find(&v, Some("3"), What::GearMesh)[0].at, "gearbox.3");
        assert!(find(&v, Some("2"), What::GearMesh).is_empty());
        assert_eq!(orders(&v, Some("9")).unwrap_err().code, "unknown-gear");
    }

    #[test]
    fn every_rung_is_at_a_place_of_its_vehicle() {
        for v in every_layout() {
            for o in orders(&v, None).unwrap() {
                assert!(v.place(&o.at).is_some(), "{} {}", v.name, o.at);
            }
        }
    }
}
