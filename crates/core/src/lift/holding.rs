//! What holds the vehicle while wheels are off the ground or parts are off, on this layout: brake, gearbox, chocks; which wheels may leave
//! the ground, and where stands go.
//!
//! The gearbox holds an axle only through an unbroken driveline, and through an open differential only while both its wheels stand. What
//! may let go by itself (a coupling, a centre differential with the other axle in the air, a motor without a parking lock) is not counted
//! on. A parking brake holds the wheels that it acts on and that stand on the ground.

use crate::case::Case;
use crate::error::{Finding, Level, Problem};
use crate::reasoning::knowledge::Test;
use crate::vehicle::{Corner, End, FrontDrive, GearboxKind, Vehicle, is_part_of};
use serde::{Deserialize, Serialize};
use serde_json::Value;

const CORNERS: [Corner; 4] = [Corner::Fl, Corner::Fr, Corner::Rl, Corner::Rr];

/// How gearbox and selector stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Selector {
    Neutral,
    Gear,
    Park,
}

/// A vehicle and how it stands.
#[derive(Clone, Debug, Deserialize)]
pub struct HoldingInput {
    /// Whose.
    pub vehicle: Value,
    /// How it stands.
    #[serde(flatten)]
    pub choice: HoldingChoice,
}

/// How a vehicle stands.
#[derive(Clone, Debug, Default, Deserialize)]
pub struct HoldingChoice {
    /// Wheels that are off the ground.
    #[serde(default)]
    pub up: Vec<Corner>,
    /// Places that are off.
    #[serde(default)]
    pub off: Vec<String>,
    /// Left out: in gear with a pedal clutch, park else.
    #[serde(default)]
    pub gearbox: Option<Selector>,
    /// Whether the transfer case is in neutral.
    #[serde(default)]
    pub transfer_neutral: bool,
    /// Whether a part-time front drive is engaged.
    #[serde(default)]
    pub front_engaged: bool,
    /// Whether the parking brake is on; left out: it is.
    #[serde(default)]
    pub brake: Option<bool>,
    /// The axle on which it acts; left out: the rear one.
    #[serde(default)]
    pub brake_end: Option<End>,
    /// Whether the engine turns the wheels.
    #[serde(default)]
    pub running: bool,
}

/// A wheel as it stands.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct StandingWheel {
    /// Which.
    pub at: String,
    /// Whether it is off the ground.
    pub up: bool,
    /// What holds it: brake, gearbox.
    pub held_by: Vec<&'static str>,
}

/// What no longer holds the vehicle.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Lost {
    /// brake or gearbox.
    pub what: &'static str,
    /// Why.
    pub why: String,
}

/// Wheels that are lifted together.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct LiftChoice {
    /// Which.
    pub up: Vec<String>,
    /// Whether something beside chocks holds it then, or it hangs on four stands or a lift.
    pub ok: bool,
    /// Why, or what to mind.
    pub why: String,
}

/// What holds it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Holding {
    /// Each wheel.
    pub wheels: Vec<StandingWheel>,
    /// Whether brake or gearbox holds a wheel that stands on the ground; false when all are in the air.
    pub held: bool,
    /// Wheels that are chocked on both sides.
    pub chock: Vec<String>,
    /// Corners under which a stand goes, at the maker's points.
    pub stands: Vec<String>,
    /// What no longer holds.
    pub lost: Vec<Lost>,
    /// Which wheels may leave the ground with what is off and set now.
    pub may_lift: Vec<LiftChoice>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// The vehicle and how it is set.
struct Standing<'a> {
    v: &'a Vehicle,
    off: &'a [String],
    selector: Selector,
    transfer_neutral: bool,
    front_engaged: bool,
    brake: bool,
    brake_end: End,
}

/// What holds the vehicle as it stands: wheels, chocks, stands, what is lost. Errors name the field: places of `off` are the vehicle's.
///
/// ```
/// use baricord_core::{error::read_json, lift::holding::holding, vehicle::sample::rear_drive};
/// let input = serde_json::json!({"vehicle": rear_drive(1), "up": ["rl", "rr"], "off": ["prop.rear"]});
/// let h = holding(&read_json(&input).unwrap()).unwrap();
/// assert!(!h.held && h.chock == ["wheel.fl", "wheel.fr"]);
/// ```
pub fn holding(input: &HoldingInput) -> Result<Holding, Problem> {
    let v = Vehicle::from_json(&input.vehicle).map_err(|e| e.under("vehicle"))?;
    for (i, o) in input.choice.off.iter().enumerate() {
        let near = |c: &Corner| [format!("brake.{}", c.id()), format!("wheel.{}", c.id())].contains(o);
        if v.place(o).is_none() && !CORNERS.iter().any(near) {
            return Err(Problem::new("unknown-place", format!("this vehicle has no “{o}”")).field(format!("off[{i}]")));
        }
    }
    Ok(of(&v, &input.choice))
}

/// What holds a vehicle as it stands.
pub fn of(v: &Vehicle, input: &HoldingChoice) -> Holding {
    let s = Standing {
        v,
        off: &input.off,
        selector: input.gearbox.unwrap_or(match v.gearbox.kind {
            GearboxKind::Manual => Selector::Gear,
            _ => Selector::Park,
        }),
        transfer_neutral: input.transfer_neutral,
        front_engaged: input.front_engaged,
        brake: input.brake.unwrap_or(true),
        brake_end: input.brake_end.unwrap_or(End::Rear),
    };
    let up = &input.up;
    let wheels = CORNERS.map(|c| s.wheel(c, up));
    let held = wheels.iter().any(|w| !w.up && !w.held_by.is_empty());
    let all_up = CORNERS.iter().all(|c| up.contains(c));
    let name = |c: &Corner| format!("wheel.{}", c.id());
    // Opposite the lifted end; where all stand, the axle that the brake does not hold.
    let down: Vec<Corner> = CORNERS.into_iter().filter(|c| !up.contains(c)).collect();
    let chock = match down.len() {
        4 => s.brake_end.other().corners().iter().map(name).collect(),
        _ => down.iter().map(name).collect(),
    };
    let mut findings = vec![];
    if !held && !all_up {
        let message = "nothing but the chocks holds it: chock both sides of every wheel on the ground before anything comes off";
        findings.push(Finding::new("chocks-alone", Level::Warn, message));
    }
    if all_up {
        let message = "all four wheels in the air: chocks hold nothing; a lift, or four stands at the maker's points";
        findings.push(Finding::new("all-up", Level::Info, message));
    }
    if input.running {
        let on_ground = |c: &&Corner| !up.contains(c) && s.may_be_driven(c.end());
        let drive: Vec<String> = CORNERS.iter().filter(on_ground).map(name).collect();
        if !drive.is_empty() {
            let message = "a driven wheel stands on the ground: it drives off the stands. All driven wheels free before the engine turns them";
            findings.push(Finding::new("drives-off", Level::Over, message).at(drive.join(", ")));
        }
    }
    let lost = s.lost(up);
    let choices: [&[Corner]; 7] = [
        &[Corner::Fl],
        &[Corner::Fr],
        &[Corner::Rl],
        &[Corner::Rr],
        &[Corner::Fl, Corner::Fr],
        &[Corner::Rl, Corner::Rr],
        &CORNERS,
    ];
    Holding {
        held,
        chock,
        stands: up.iter().map(name).collect(),
        lost,
        may_lift: choices.iter().map(|up| s.choice(up, input.running)).collect(),
        wheels: wheels.to_vec(),
        findings,
    }
}

/// How the vehicle is held for a test that turns its wheels, or lifts it while parts are off, in a sentence; empty for any other. Where
/// wheels turn, every driven one is free.
pub fn words_for_test(case: &Case, t: &Test) -> String {
    let off = case.state.as_ref().map(|s| s.off.clone()).unwrap_or_default();
    if !t.wheels && (!t.lift || off.is_empty()) {
        return String::new();
    }
    let v = &case.vehicle;
    let driven: Vec<End> = v.axles.iter().filter(|a| a.driven).map(|a| a.end).collect();
    let up: Vec<Corner> = match driven[..] {
        [only] => only.corners().to_vec(),
        _ => CORNERS.to_vec(),
    };
    let h = of(
        v,
        &HoldingChoice { up, off, gearbox: t.wheels.then_some(Selector::Neutral), running: t.wheels, ..HoldingChoice::default() },
    );
    let lost = h
        .lost
        .iter()
        .find(|l| l.why.ends_with("is off"))
        .map_or(String::new(), |l| format!(" The gearbox no longer holds it: {}.", l.why));
    match driven[..] {
        [only] => {
            let alone = if h.held { "" } else { "; nothing else holds it" };
            format!(
                "On a lift, or the {} wheels on stands and both {} wheels chocked{alone}.{lost}",
                only.id(),
                only.other().id()
            )
        }
        _ => format!("On a lift, or all four wheels on stands: chocks hold nothing.{lost}"),
    }
}

impl Standing<'_> {
    fn is_off(&self, place: &str) -> bool {
        self.off.iter().any(|o| is_part_of(place, o) || is_part_of(o, place))
    }

    /// Whether an axle may be driven: also one that is engaged by itself.
    fn may_be_driven(&self, end: End) -> bool {
        let Some(a) = self.v.axles.iter().find(|a| a.end == end && a.driven) else { return false };
        let part_time = self.v.transfer.as_ref().is_some_and(|t| t.front_drive == FrontDrive::PartTime) && a.end == End::Front;
        (!part_time || self.front_engaged) && self.broken(end).is_none()
    }

    /// What is off between the gearbox and both wheels of an axle.
    fn broken(&self, end: End) -> Option<String> {
        let mut places = vec!["gearbox".to_string(), format!("diff.{}", end.id())];
        // In gear it is the engine's compression that holds.
        if self.selector == Selector::Gear {
            places.extend(["engine".to_string(), "clutch".to_string()]);
        }
        if self.v.props.iter().any(|p| p.end == end) {
            places.push(format!("prop.{}", end.id()));
        }
        if self.v.transfer.is_some() {
            places.push("transfer".into());
        }
        if self.v.coupler.is_some_and(|c| c.before == end) {
            places.push("coupler".into());
        }
        places.extend(self.v.half_shafts.iter().filter(|h| h.corner.end() == end).map(|h| format!("half.{}", h.corner.id())));
        places.extend(end.corners().iter().map(|c| format!("axle.{}", c.id())));
        places.into_iter().find(|p| self.is_off(p))
    }

    /// Why the gearbox does not hold an axle; none where it does, or where that axle is never driven.
    fn not_by_gearbox(&self, end: End, up: &[Corner]) -> Option<String> {
        if self.selector == Selector::Neutral {
            return Some("the gearbox is in neutral".into());
        }
        if self.selector == Selector::Gear && self.v.gearbox.kind != GearboxKind::Manual {
            return Some("without park it rolls: no clutch ties the wheels to the engine".into());
        }
        if self.transfer_neutral && self.v.transfer.is_some() {
            return Some("the transfer case is in neutral".into());
        }
        if let Some(p) = self.broken(end) {
            return Some(format!("{} is off", self.v.place_words(&p)));
        }
        if end == End::Front
            && self.v.transfer.as_ref().is_some_and(|t| t.front_drive == FrontDrive::PartTime)
            && !self.front_engaged
        {
            return Some("the front drive is not engaged".into());
        }
        if self.v.axles.iter().any(|a| a.end == end && a.free_hubs) {
            return Some("its hubs may be set free: they are not counted on".into());
        }
        if self.v.coupler.is_some_and(|c| c.before == end) {
            return Some("a coupling lets go by itself: it is not counted on".into());
        }
        if end == End::Front && self.v.transfer.as_ref().is_some_and(|t| t.front_drive == FrontDrive::Automatic) {
            return Some("the front drive engages by itself: it is not counted on".into());
        }
        if end.corners().iter().any(|c| up.contains(c)) {
            return Some("one wheel in the air turns free, and through the differential the other rolls".into());
        }
        let other = end.other();
        let full_time = self.v.transfer.as_ref().is_some_and(|t| t.front_drive == FrontDrive::FullTime);
        let both = self.v.axles.iter().filter(|a| a.driven).count() == 2;
        let centre = full_time || (both && self.v.transfer.is_none() && self.v.coupler.is_none());
        if centre && (self.broken(other).is_some() || other.corners().iter().any(|c| up.contains(c))) {
            return Some("the centre differential lets it roll while the other axle is free".into());
        }
        None
    }

    fn braked(&self, c: Corner) -> bool {
        let parts = [format!("brake.{}", c.id()), format!("hub.{}", c.id()), format!("wheel.{}", c.id())];
        self.brake && c.end() == self.brake_end && !parts.iter().any(|p| self.is_off(p))
    }

    fn drives(&self, end: End) -> bool {
        self.v.axles.iter().any(|a| a.end == end && a.driven)
    }

    fn wheel(&self, c: Corner, up: &[Corner]) -> StandingWheel {
        let mut held_by = vec![];
        if self.braked(c) {
            held_by.push("brake");
        }
        if self.drives(c.end()) && self.not_by_gearbox(c.end(), up).is_none() {
            held_by.push("gearbox");
        }
        StandingWheel { at: format!("wheel.{}", c.id()), up: up.contains(&c), held_by }
    }

    fn lost(&self, up: &[Corner]) -> Vec<Lost> {
        let mut out: Vec<Lost> = vec![];
        for end in [End::Rear, End::Front] {
            if !self.drives(end) {
                continue;
            }
            if let Some(why) = self.not_by_gearbox(end, up) {
                let why = format!("{} wheels: {why}", end.id());
                out.push(Lost { what: "gearbox", why });
            }
        }
        if !self.brake {
            out.push(Lost { what: "brake", why: "the parking brake is off".into() });
        } else if self.brake_end.corners().iter().all(|c| up.contains(c)) {
            out.push(Lost {
                what: "brake",
                why: format!("it acts on the {} wheels, and they are in the air", self.brake_end.id()),
            });
        }
        out
    }

    /// Whether wheels may leave the ground together.
    fn choice(&self, up: &[Corner], running: bool) -> LiftChoice {
        let names: Vec<String> = up.iter().map(|c| format!("wheel.{}", c.id())).collect();
        let make = |ok: bool, why: String| LiftChoice { up: names.clone(), ok, why };
        let grounded_driven = CORNERS.iter().any(|c| !up.contains(c) && self.may_be_driven(c.end()));
        if running && grounded_driven {
            return make(false, "a driven wheel stays on the ground: it drives off".into());
        }
        if up.len() == CORNERS.len() {
            return make(true, "on a lift, or on four stands: chocks hold nothing".into());
        }
        let down: Vec<StandingWheel> = CORNERS.into_iter().filter(|c| !up.contains(c)).map(|c| self.wheel(c, up)).collect();
        let by = |what: &str| down.iter().any(|w| w.held_by.contains(&what));
        match (by("brake"), by("gearbox")) {
            (true, true) => make(true, "parking brake and gearbox hold it; chock the wheels that stand".into()),
            (true, false) => make(true, "the parking brake holds it; chock the wheels that stand".into()),
            (false, true) => make(true, "the gearbox holds it; chock the wheels that stand".into()),
            (false, false) => make(false, "nothing but chocks would hold it".into()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use crate::vehicle::layout::layouts;
    use crate::vehicle::sample::{all_wheel_drive, rear_drive};
    use serde_json::json;

    fn of_json(v: Value) -> Holding {
        holding(&read_json(&v).unwrap()).unwrap()
    }
    fn codes(h: &Holding) -> Vec<&str> {
        h.findings.iter().map(|f| f.code.as_str()).collect()
    }

    #[test]
    fn with_the_shaft_off_and_the_rear_up_only_chocks_hold_a_rear_drive() {
        let v = rear_drive(1);
        let h = of_json(json!({"vehicle": v}));
        assert!(h.held && h.lost.is_empty() && h.chock == ["wheel.fl", "wheel.fr"]);
        let h = of_json(json!({"vehicle": v, "off": ["prop.rear"]}));
        assert!(h.held && h.lost[0].why.contains("is off"), "the parking brake still does: {h:?}");
        let h = of_json(json!({"vehicle": v, "up": ["rl", "rr"]}));
        assert_eq!((h.held, codes(&h)), (false, vec!["chocks-alone"]));
        let h = of_json(json!({"vehicle": v, "up": ["rl"]}));
        assert!(h.held, "the other rear wheel is braked");
        assert!(!h.wheels[3].held_by.contains(&"gearbox"), "but not by the gearbox: the differential is open");
        assert_eq!(of_json(json!({"vehicle": v, "up": ["fl", "fr"]})).wheels[2].held_by, ["brake", "gearbox"]);
    }

    #[test]
    fn a_driven_wheel_on_the_ground_drives_off() {
        let v = all_wheel_drive();
        let h = of_json(json!({"vehicle": v, "up": ["rl", "rr"], "running": true}));
        assert!(codes(&h).contains(&"drives-off"));
        let ok: Vec<usize> = h.may_lift.iter().filter(|c| c.ok).map(|c| c.up.len()).collect();
        assert_eq!(ok, [4], "an all-wheel drive runs with all four in the air only");
        let h = of_json(json!({"vehicle": v, "up": ["fl", "fr", "rl", "rr"], "running": true}));
        assert_eq!((codes(&h), h.stands.len(), h.chock.len()), (vec!["all-up"], 4, 0));
        let h = of_json(json!({"vehicle": rear_drive(1), "up": ["rl", "rr"], "running": true}));
        assert!(!codes(&h).contains(&"drives-off"));
    }

    #[test]
    fn on_every_layout_neutral_without_brake_is_held_by_nothing() {
        for layout in layouts() {
            let v = layout.vehicle;
            let loose = of_json(json!({"vehicle": v, "gearbox": "neutral", "brake": false}));
            assert!(!loose.held && codes(&loose) == ["chocks-alone"], "{}", layout.id);
            assert!(loose.may_lift.iter().all(|c| !c.ok || c.up.len() == 4), "{}", layout.id);
            // Taking something off never makes a vehicle held better.
            let all = of_json(json!({"vehicle": v, "brake": false}));
            for p in v.places() {
                let h = of_json(json!({"vehicle": v, "brake": false, "off": [p.id]}));
                assert!(all.held || !h.held, "{} {}", layout.id, p.id);
            }
        }
    }

    #[test]
    fn a_test_says_how_the_vehicle_is_held_for_it() {
        let k = crate::reasoning::knowledge::builtin();
        let said = |v: crate::vehicle::Vehicle, test: &str| words_for_test(&Case::new("c1", "Hum", v), k.test(test).unwrap());
        assert_eq!(
            said(rear_drive(1), "lift-run"),
            "On a lift, or the rear wheels on stands and both front wheels chocked; nothing else holds it."
        );
        assert!(said(all_wheel_drive(), "lift-run").contains("all four wheels on stands"));
        assert_eq!(said(rear_drive(1), "neutral-coast"), "");
    }

    #[test]
    fn an_unknown_place_is_named() {
        let e = holding(&read_json(&json!({"vehicle": rear_drive(1), "off": ["prop.front"]})).unwrap()).unwrap_err();
        assert_eq!(e.field.as_deref(), Some("off[0]"));
    }
}
