//! A vehicle described in part: what is left out stays as it is.

use crate::case::patch::Path;
use crate::error::Problem;
use crate::units::Degrees;
use crate::units::Millimetres;
use crate::vehicle::{
    Axle, AxleKind, Bearing, Corner, End, Floating, FrontDrive, Gear, GearboxKind, Intermediate, Joint, JointKind, Tyre, Vehicle,
};
use serde::{Deserialize, Serialize};

/// What is said of a vehicle and its case.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct VehicleDescription {
    /// What the case is called.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// What the vehicle has run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub distance_km: Option<f64>,
    /// What the workshop calls the vehicle.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Its tyres.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tyre: Option<Tyre>,
    /// Cylinders of its engine.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cylinders: Option<u32>,
    /// Its gearbox.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gearbox: Option<GearboxKind>,
    /// The ratios of its gears, first to last; those that stay keep their names.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear_ratios: Option<Vec<f64>>,
    /// Its axles.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub axles: Vec<AxleDescription>,
    /// Sections of its shafts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub sections: Vec<SectionDescription>,
    /// Joints of its shafts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub joints: Vec<JointDescription>,
    /// Half shafts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub half_shafts: Vec<HalfShaftDescription>,
    /// How the front axle of its transfer case is driven.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub front_drive: Option<FrontDrive>,
    /// Whether a motor drives beside the engine: a plug-in hybrid.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub motor: Option<bool>,
    /// Numbers of its bearings.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub bearings: Vec<BearingDescription>,
}

/// Yes, no, or not known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Known {
    /// It is.
    Yes,
    /// It is not.
    No,
    /// Nobody knows.
    Unknown,
}

impl Known {
    /// As a vehicle holds it.
    pub fn said(self) -> Option<bool> {
        match self {
            Self::Yes => Some(true),
            Self::No => Some(false),
            Self::Unknown => None,
        }
    }
}

/// What is said of a half shaft.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HalfShaftDescription {
    /// At which wheel.
    pub corner: Corner,
    /// Whether an intermediate shaft leads to it.
    pub intermediate: bool,
    /// Whether that has a bearing of its own.
    #[serde(default)]
    pub bearing: bool,
}

/// What is said of a bearing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BearingDescription {
    /// Where: `hub.fl`.
    pub at: String,
    /// The number that stands on it; empty where it is not known.
    pub number: String,
}

/// What is said of an axle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AxleDescription {
    /// Which.
    pub end: End,
    /// How it is built.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<AxleKind>,
    /// Teeth of the ring.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ring_teeth: Option<u32>,
    /// Teeth of the pinion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pinion_teeth: Option<u32>,
    /// Its ratio. Of teeth and ratio what was changed counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ratio: Option<f64>,
    /// Neither its teeth nor its ratio are known.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ratio_unknown: bool,
    /// What carries its wheels.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub floating: Option<Floating>,
    /// Whether its differential is a limited slip.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limited_slip: Option<Known>,
    /// Its tyres; one that says nothing: those of the vehicle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tyre: Option<Tyre>,
    /// Whether its hubs can be freed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub free_hubs: Option<bool>,
}

impl AxleDescription {
    /// Of an axle, saying nothing yet.
    pub fn of(end: End) -> Self {
        Self {
            end,
            kind: None,
            ring_teeth: None,
            pinion_teeth: None,
            ratio: None,
            ratio_unknown: false,
            floating: None,
            limited_slip: None,
            tyre: None,
            free_hubs: None,
        }
    }
}

/// What is said of a section of a shaft.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SectionDescription {
    /// Which: `prop.rear.s1`.
    pub at: String,
    /// Joint to joint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub length_mm: Option<Millimetres>,
    /// Tube.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub od_mm: Option<Millimetres>,
    /// Wall.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wall_mm: Option<Millimetres>,
}

/// What is said of a joint of a shaft.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct JointDescription {
    /// Which: `prop.rear.j1`.
    pub at: String,
    /// Its kind.
    pub kind: JointKind,
}

/// A ratio by teeth and one that was typed are the same within this share.
const SAME_RATIO: f64 = 0.006;

/// The shaft's end and the number, from 1, of `prop.rear.s2`.
fn numbered(at: &str, letter: char) -> Option<(End, usize)> {
    let (end, number) = at.strip_prefix("prop.")?.split_once('.')?;
    let end = End::BOTH.into_iter().find(|e| e.id() == end)?;
    Some((end, number.strip_prefix(letter)?.parse().ok()?))
}

impl AxleDescription {
    fn write(&self, axle: &mut Axle, path: &str) -> Result<(), Problem> {
        if let Some(kind) = self.kind {
            axle.kind = kind;
        }
        if let Some(floating) = self.floating {
            // Semi is the usual: it need not be said.
            axle.floating = Some(floating).filter(|f| *f == Floating::Full || axle.floating.is_some());
        }
        if let Some(known) = self.limited_slip {
            axle.limited_slip = known.said();
        }
        if let Some(tyre) = &self.tyre {
            axle.tyre = Some(tyre.clone()).filter(|t| *t != Tyre::default());
        }
        if let Some(free) = self.free_hubs {
            axle.free_hubs = free;
        }
        if self.ratio_unknown {
            if self.ring_teeth.is_some() || self.pinion_teeth.is_some() || self.ratio.is_some() {
                let message = "teeth or a ratio, or that they are not known: not both";
                return Err(Problem::new("contradiction", message).field(format!("{path}.ratio_unknown")));
            }
            (axle.ring_teeth, axle.pinion_teeth, axle.ratio) = (None, None, None);
            return Ok(());
        }
        let changed = |n: Option<u32>, has: Option<u32>| n.is_some() && n != has;
        let new_teeth = changed(self.ring_teeth, axle.ring_teeth) || changed(self.pinion_teeth, axle.pinion_teeth);
        let new_ratio = self.ratio.is_some() && self.ratio != axle.ratio;
        if let (true, true, Some(ring), Some(pinion), Some(r)) =
            (new_teeth, new_ratio, self.ring_teeth, self.pinion_teeth, self.ratio)
        {
            let by_teeth = f64::from(ring) / f64::from(pinion.max(1));
            if (by_teeth - r).abs() > SAME_RATIO * r {
                let message = format!("the teeth say {by_teeth:.3} to 1, the ratio {r}: leave one of them empty");
                return Err(Problem::new("contradiction", message).field(format!("{path}.ratio")));
            }
        }
        if new_ratio && !new_teeth {
            (axle.ring_teeth, axle.pinion_teeth, axle.ratio) = (None, None, self.ratio);
        } else if new_teeth {
            axle.ratio = None;
            axle.ring_teeth = self.ring_teeth.or(axle.ring_teeth);
            axle.pinion_teeth = self.pinion_teeth.or(axle.pinion_teeth);
        }
        Ok(())
    }
}

impl HalfShaftDescription {
    fn write(&self, v: &mut Vehicle) -> Result<(), Problem> {
        let at = format!("half.{}", self.corner.id());
        let missing = || Problem::new("unknown-place", format!("this vehicle has no place “{at}”")).field("at");
        let usual = v.half_shaft(self.corner).ok_or_else(missing)?;
        let intermediate = self.intermediate.then_some(Intermediate { bearing: self.bearing });
        if usual.intermediate == intermediate {
            return Ok(());
        }
        match v.half_shafts.iter_mut().find(|h| h.corner == self.corner) {
            Some(h) => h.intermediate = intermediate,
            None => v.half_shafts.push(crate::vehicle::HalfShaft { intermediate, ..usual }),
        }
        Ok(())
    }
}

impl BearingDescription {
    fn write(&self, v: &mut Vehicle) -> Result<(), Problem> {
        let number = Some(self.number.trim().to_string()).filter(|n| !n.is_empty());
        if number.as_ref().is_some_and(|n| n.chars().count() > 60) {
            return Err(Problem::new("too-long", "a bearing's number has up to 60 characters").field("number"));
        }
        if v.place(&self.at).is_none() {
            return Err(Problem::new("unknown-place", format!("this vehicle has no place “{}”", self.at)).field("at"));
        }
        match v.bearings.iter_mut().find(|b| b.at == self.at) {
            Some(b) => b.number = number,
            None if number.is_some() => v.bearings.push(Bearing {
                at: self.at.clone(),
                number,
                elements: 0,
                element_mm: Millimetres(0.0),
                pitch_mm: Millimetres(0.0),
                contact_deg: Degrees(0.0),
            }),
            None => {}
        }
        v.bearings.retain(|b| b.number.is_some() || b.has_geometry());
        Ok(())
    }
}

impl VehicleDescription {
    /// Writes what is said of the vehicle into it. What the description does not name stays.
    ///
    /// # Errors
    /// By field, as `vehicle.axles[0].ratio`: teeth and ratio that contradict each other, no ratios where the gearbox needs some, a
    /// section or joint that is not there, and whatever no vehicle can have.
    pub fn write(&self, v: &mut Vehicle) -> Result<(), Problem> {
        if let Some(name) = &self.name {
            v.name = name.clone();
        }
        if let Some(tyre) = &self.tyre {
            tyre.figures().map_err(|p| Problem { field: Some("vehicle.tyre".into()), ..p })?;
            v.tyre = tyre.clone();
        }
        if let (Some(n), Some(engine)) = (self.cylinders, &mut v.engine) {
            engine.cylinders = n;
        }
        if let Some(kind) = self.gearbox {
            v.gearbox.kind = kind;
        }
        if let Some(ratios) = &self.gear_ratios {
            if ratios.is_empty() && v.gearbox.kind != GearboxKind::Cvt {
                return Err(Problem::new("missing", "the ratios of the gears, first to last").field("vehicle.gearbox.gears"));
            }
            let gear = |(i, ratio): (usize, &f64)| match v.gearbox.gears.get(i) {
                Some(has) => Gear { ratio: *ratio, ..has.clone() },
                None => Gear { name: (i + 1).to_string(), ratio: *ratio, teeth: None },
            };
            v.gearbox.gears = ratios.iter().enumerate().map(gear).collect();
        }
        for d in &self.axles {
            let missing = || Problem::new("unknown-place", format!("there is no {} axle", d.end.id())).field("vehicle.axles");
            let i = v.axles.iter().position(|a| a.end == d.end).ok_or_else(missing)?;
            d.write(&mut v.axles[i], &format!("vehicle.axles[{i}]"))?;
        }
        let missing = |at: &str| Problem::new("unknown-place", format!("this vehicle has no place “{at}”")).field("at");
        for d in &self.sections {
            let at = numbered(&d.at, 's');
            let section = at.and_then(|(end, n)| v.props.iter_mut().find(|p| p.end == end)?.sections.get_mut(n.checked_sub(1)?));
            let section = section.ok_or_else(|| missing(&d.at))?;
            section.length_mm = d.length_mm.unwrap_or(section.length_mm);
            section.od_mm = d.od_mm.unwrap_or(section.od_mm);
            section.wall_mm = d.wall_mm.unwrap_or(section.wall_mm);
        }
        for d in &self.joints {
            let at = numbered(&d.at, 'j');
            let joint = at.and_then(|(end, n)| v.props.iter_mut().find(|p| p.end == end)?.joints.get_mut(n.checked_sub(1)?));
            let joint = joint.ok_or_else(|| missing(&d.at))?;
            // One of the same kind keeps what is known of it.
            if joint.kind() != d.kind {
                *joint = match d.kind {
                    JointKind::Flex => Joint::Detailed { kind: JointKind::Flex, arms: Some(3), balls: None },
                    kind => Joint::Plain(kind),
                };
            }
        }
        for d in &self.half_shafts {
            d.write(v)?;
        }
        if let (Some(front_drive), Some(t)) = (self.front_drive, &mut v.transfer) {
            t.front_drive = front_drive;
        }
        if let Some(has) = self.motor {
            v.motor = has.then(|| v.motor.unwrap_or_default());
        }
        for d in &self.bearings {
            d.write(v)?;
        }
        v.check().map_err(|p| p.under("vehicle"))
    }

    /// The parts of a case that it names.
    pub(super) fn changes_parts(&self) -> Vec<Path> {
        let said = [
            (&["title"][..], self.title.is_some()),
            (&["distance_km"], self.distance_km.is_some()),
            (&["vehicle", "name"], self.name.is_some()),
            (&["vehicle", "tyre"], self.tyre.is_some()),
            (&["vehicle", "engine"], self.cylinders.is_some()),
            (&["vehicle", "gearbox"], self.gearbox.is_some() || self.gear_ratios.is_some()),
            (&["vehicle", "axles"], !self.axles.is_empty()),
            (&["vehicle", "props"], !self.sections.is_empty() || !self.joints.is_empty()),
            (&["vehicle", "half_shafts"], !self.half_shafts.is_empty()),
            (&["vehicle", "transfer"], self.front_drive.is_some()),
            (&["vehicle", "motor"], self.motor.is_some()),
            (&["vehicle", "bearings"], !self.bearings.is_empty()),
        ];
        said.iter().filter(|s| s.1).map(|s| s.0.iter().map(|p| (*p).to_string()).collect()).collect()
    }

    /// Leaves only what says something else than the case has: a form sends all its fields.
    #[must_use]
    pub fn only_new(mut self, title: &str, distance_km: Option<f64>, v: &Vehicle) -> Self {
        let differs = |d: &Self| {
            let mut next = v.clone();
            // What cannot be written is said when it is applied.
            d.write(&mut next).is_err() || next != *v
        };
        self.title = self.title.filter(|t| t != title);
        self.distance_km = self.distance_km.filter(|km| Some(*km) != distance_km);
        let alone = |d: Self| if differs(&d) { d } else { Self::default() };
        let name = alone(Self { name: self.name, ..Self::default() }).name;
        let tyre = alone(Self { tyre: self.tyre, ..Self::default() }).tyre;
        let cylinders = alone(Self { cylinders: self.cylinders, ..Self::default() }).cylinders;
        let gears = alone(Self { gearbox: self.gearbox, gear_ratios: self.gear_ratios, ..Self::default() });
        let axles = alone(Self { axles: self.axles, ..Self::default() }).axles;
        let shafts = alone(Self { sections: self.sections, joints: self.joints, ..Self::default() });
        let half_shafts = alone(Self { half_shafts: self.half_shafts, ..Self::default() }).half_shafts;
        let front_drive = alone(Self { front_drive: self.front_drive, ..Self::default() }).front_drive;
        let motor = alone(Self { motor: self.motor, ..Self::default() }).motor;
        let bearings = alone(Self { bearings: self.bearings, ..Self::default() }).bearings;
        Self {
            name,
            tyre,
            cylinders,
            gearbox: gears.gearbox,
            gear_ratios: gears.gear_ratios,
            axles,
            sections: shafts.sections,
            joints: shafts.joints,
            half_shafts,
            front_drive,
            motor,
            bearings,
            title: self.title,
            distance_km: self.distance_km,
        }
    }

    /// Whether it says nothing.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::{every_layout, rear_drive};

    fn axle(ring: Option<u32>, pinion: Option<u32>, ratio: Option<f64>) -> VehicleDescription {
        let axles = vec![AxleDescription { ring_teeth: ring, pinion_teeth: pinion, ratio, ..AxleDescription::of(End::Rear) }];
        VehicleDescription { axles, ..VehicleDescription::default() }
    }

    #[test]
    fn of_teeth_and_ratio_the_one_that_was_changed_counts() {
        let mut v = rear_drive(1);
        let now = |v: &Vehicle| {
            let a = v.axles.iter().find(|a| a.end == End::Rear).unwrap();
            (a.ring_teeth, a.pinion_teeth, a.ratio)
        };
        axle(Some(41), Some(10), Some(4.3)).write(&mut v).unwrap();
        assert_eq!(now(&v), (None, None, Some(4.3)));
        axle(Some(39), Some(9), Some(4.3)).write(&mut v).unwrap();
        assert_eq!(now(&v), (Some(39), Some(9), None));
        let e = axle(Some(41), Some(10), Some(4.3)).write(&mut v).unwrap_err();
        assert_eq!(e.code, "contradiction");
        assert!(e.field.unwrap().ends_with(".ratio"));
    }

    #[test]
    fn what_is_said_again_as_it_is_changes_nothing() {
        for v in every_layout() {
            let said = VehicleDescription {
                title: Some("t".into()),
                name: Some(v.name.clone()),
                tyre: Some(v.tyre.clone()),
                gearbox: Some(v.gearbox.kind),
                gear_ratios: Some(v.gearbox.gears.iter().map(|g| g.ratio).collect()),
                ..VehicleDescription::default()
            };
            assert!(said.only_new("t", None, &v).is_empty(), "{}", v.name);
        }
    }

    #[test]
    fn a_section_and_a_joint_are_named_by_their_place() {
        let mut v = rear_drive(2);
        let said = |section: &str, joint: &str| VehicleDescription {
            sections: vec![SectionDescription {
                at: section.into(),
                length_mm: Some(Millimetres(900.0)),
                od_mm: None,
                wall_mm: None,
            }],
            joints: vec![JointDescription { at: joint.into(), kind: JointKind::Flex }],
            ..VehicleDescription::default()
        };
        said("prop.rear.s2", "prop.rear.j1").write(&mut v).unwrap();
        assert_eq!((v.props[0].sections[1].length_mm, v.props[0].joints[0].arms()), (Millimetres(900.0), 3));
        for (s, j) in [
            ("prop.rear.s3", "prop.rear.j1"),
            ("prop.rear.s0", "prop.rear.j1"),
            ("prop.front.s1", "prop.rear.j1"),
            ("prop.rear.s1", "x"),
        ] {
            assert_eq!(said(s, j).write(&mut v.clone()).unwrap_err().code, "unknown-place", "{s} {j}");
        }
    }
}
