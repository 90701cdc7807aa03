//! The description of a vehicle as the open case file carries it.

use super::tyre::Tyre;
use crate::units::{Degrees, Millimetres};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Front or rear: of an axle, of a shaft, of a transaxle.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum End {
    /// The front axle's end.
    Front,
    /// The rear axle's end.
    Rear,
}

impl End {
    /// Both, front first.
    pub const BOTH: [End; 2] = [End::Front, End::Rear];
    /// The word in places.
    pub fn id(self) -> &'static str {
        match self {
            End::Front => "front",
            End::Rear => "rear",
        }
    }
    /// The other end.
    pub fn other(self) -> End {
        match self {
            End::Front => End::Rear,
            End::Rear => End::Front,
        }
    }
    /// Its two corners, left first.
    pub fn corners(self) -> [Corner; 2] {
        match self {
            End::Front => [Corner::Fl, Corner::Fr],
            End::Rear => [Corner::Rl, Corner::Rr],
        }
    }
}

/// A corner of the vehicle, left and right as seen by the driver.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Corner {
    /// Front left.
    Fl,
    /// Front right.
    Fr,
    /// Rear left.
    Rl,
    /// Rear right.
    Rr,
}

impl Corner {
    /// The word in places.
    pub fn id(self) -> &'static str {
        match self {
            Corner::Fl => "fl",
            Corner::Fr => "fr",
            Corner::Rl => "rl",
            Corner::Rr => "rr",
        }
    }
    /// Its axle.
    pub fn end(self) -> End {
        match self {
            Corner::Fl | Corner::Fr => End::Front,
            Corner::Rl | Corner::Rr => End::Rear,
        }
    }
    /// Whether it is on the driver's left hand.
    pub fn is_left(self) -> bool {
        matches!(self, Corner::Fl | Corner::Rl)
    }
    /// As people read it.
    pub fn words(self) -> &'static str {
        match self {
            Corner::Fl => "front left",
            Corner::Fr => "front right",
            Corner::Rl => "rear left",
            Corner::Rr => "rear right",
        }
    }
    /// From the word in places.
    pub fn parse(s: &str) -> Option<Corner> {
        [Corner::Fl, Corner::Fr, Corner::Rl, Corner::Rr].into_iter().find(|c| c.id() == s)
    }
}

/// The engine; absent on an electric vehicle.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Engine {
    /// Number of cylinders.
    pub cylinders: u32,
    /// Strokes of the cycle: 2 or 4.
    #[serde(default = "four")]
    pub strokes: u32,
}

fn four() -> u32 {
    4
}

/// A motor beside an engine.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Motor {
    /// Motor turns for one wheel turn, where it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ratio: Option<f64>,
}

/// Kinds of gearbox.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum GearboxKind {
    /// With a clutch pedal.
    Manual,
    /// With a converter or its like.
    Automatic,
    /// Continuously variable.
    Cvt,
    /// One fixed reduction.
    SingleSpeed,
}

/// A forward gear with its ratio.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Gear {
    /// As the driver calls it.
    pub name: String,
    /// Input turns for one output turn.
    pub ratio: f64,
    /// Teeth of its mesh: driving, driven.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub teeth: Option<[u32; 2]>,
}

/// Gearbox with its gears, slowest first.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Gearbox {
    /// Of what kind; it decides what can be wrong with it.
    pub kind: GearboxKind,
    /// Built together with a final drive.
    #[serde(default)]
    pub transaxle: bool,
    /// Where a transaxle sits, when said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end: Option<End>,
    /// Whether engine and gearbox lie across the vehicle; left out: a transaxle at the front does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transverse: Option<bool>,
    /// Its gears, in the maker's order.
    #[serde(default)]
    pub gears: Vec<Gear>,
}

/// What carries the wheel of a solid driven axle.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Floating {
    /// The shaft carries the wheel in one bearing at the axle end.
    Semi,
    /// The hub carries the wheel; the shaft only turns it.
    Full,
}

/// One range of a transfer case.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Range {
    /// As the driver calls it.
    pub name: String,
    /// Gearbox output turns for one shaft turn.
    pub ratio: f64,
}

/// How the front axle of a transfer case is driven.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FrontDrive {
    /// Engaged by hand.
    PartTime,
    /// Always.
    FullTime,
    /// By itself.
    Automatic,
}

/// A transfer case.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Transfer {
    /// Its ranges, the usual one first.
    #[serde(default)]
    pub ranges: Vec<Range>,
    /// How the front axle is driven.
    #[serde(default = "part_time")]
    pub front_drive: FrontDrive,
}

fn part_time() -> FrontDrive {
    FrontDrive::PartTime
}

/// A coupling unit before an axle.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Coupler {
    /// The axle it stands before.
    pub before: End,
}

/// Kinds of axle.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AxleKind {
    /// One rigid beam.
    Solid,
    /// Wheels sprung on their own.
    Independent,
}

/// An axle with its final drive, where it has one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Axle {
    /// Which one.
    pub end: End,
    /// Whether it is ever driven.
    pub driven: bool,
    /// How it is built.
    pub kind: AxleKind,
    /// Teeth of the pinion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pinion_teeth: Option<u32>,
    /// Teeth of the ring.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ring_teeth: Option<u32>,
    /// Final drive ratio, where the teeth are unknown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ratio: Option<f64>,
    /// What carries the wheels of a solid driven axle; semi when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub floating: Option<Floating>,
    /// Whether its differential is a limited slip; not known when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limited_slip: Option<bool>,
    /// Its tyres, where they are not those of the other axle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tyre: Option<Tyre>,
    /// Whether its hubs can be freed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub free_hubs: bool,
}

impl Axle {
    /// The final drive ratio, from the teeth where they are known.
    pub fn final_ratio(&self) -> Option<f64> {
        match (self.ring_teeth, self.pinion_teeth) {
            (Some(r), Some(p)) if p > 0 => Some(f64::from(r) / f64::from(p)),
            _ => self.ratio,
        }
    }
}

/// Where a shaft's length is taken up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Slip {
    /// In the gearbox's tail.
    Gearbox,
    /// In the transfer case's output.
    Transfer,
    /// On the shaft's own splines.
    Shaft,
    /// At the axle.
    Axle,
}

/// Tube material.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Material {
    /// steel or aluminium.
    Named(String),
    /// As given.
    Given {
        /// Young's modulus, GPa.
        e_gpa: f64,
        /// Density, kg/m³.
        density_kgm3: f64,
    },
}

/// One section of a propeller shaft.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Section {
    /// Centre to centre of its joints.
    pub length_mm: Millimetres,
    /// Outer diameter of the tube.
    pub od_mm: Millimetres,
    /// Wall of the tube.
    pub wall_mm: Millimetres,
    /// What it is made of.
    #[serde(default = "steel")]
    pub material: Material,
    /// Phase error of its yokes; in line when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phase_deg: Option<Degrees>,
}

fn steel() -> Material {
    Material::Named("steel".into())
}

/// Kinds of joint.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum JointKind {
    /// Universal joint with one cross.
    Cross,
    /// Two crosses in one: constant velocity.
    DoubleCross,
    /// Ball joint: constant velocity.
    Ball,
    /// Tripod joint: constant velocity.
    Tripod,
    /// Rubber coupling.
    Flex,
}

impl JointKind {
    /// As people read it.
    pub fn words(self) -> &'static str {
        match self {
            JointKind::Cross => "cross joint",
            JointKind::DoubleCross => "double cross joint",
            JointKind::Ball => "ball joint",
            JointKind::Tripod => "tripod joint",
            JointKind::Flex => "flex coupling",
        }
    }
}

/// A joint: its kind alone, or an object where there is more to say.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Joint {
    /// The kind alone.
    Plain(JointKind),
    /// With arms (flex) or balls.
    Detailed {
        /// Of what kind; it decides what can be wrong with it.
        kind: JointKind,
        /// Arms of a flex coupling.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        arms: Option<u32>,
        /// Balls of a ball joint.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        balls: Option<u32>,
    },
}

impl Joint {
    /// Of what kind; it decides what can be wrong with it.
    pub fn kind(&self) -> JointKind {
        match self {
            Joint::Plain(k) | Joint::Detailed { kind: k, .. } => *k,
        }
    }
    /// Arms of a flex coupling; three when not said.
    pub fn arms(&self) -> u32 {
        match self {
            Joint::Detailed { arms: Some(n), .. } => *n,
            _ => 3,
        }
    }
}

/// A propeller shaft.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Prop {
    /// The axle it leads to.
    pub end: End,
    /// Where its length is taken up.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slip: Option<Slip>,
    /// Its sections from the gearbox on.
    pub sections: Vec<Section>,
    /// Its joints from the gearbox on: one more than sections.
    pub joints: Vec<Joint>,
}

/// A half shaft with joints.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct HalfShaft {
    /// Which corner.
    pub corner: Corner,
    /// Joint at the final drive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inner: Option<JointKind>,
    /// Joint at the wheel.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outer: Option<JointKind>,
    /// Balls of its ball joints.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub balls: Option<u32>,
    /// Its intermediate shaft, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub intermediate: Option<Intermediate>,
}

/// An intermediate shaft between final drive and half shaft.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Intermediate {
    /// Whether a bearing of its own carries it.
    #[serde(default)]
    pub bearing: bool,
}

/// A rolling bearing of known size, or known by its number.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Bearing {
    /// Its place.
    pub at: String,
    /// The number that stands on it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<String>,
    /// Number of balls or rollers; 0 where its geometry is not known.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub elements: u32,
    /// Their diameter.
    #[serde(default, skip_serializing_if = "is_none_mm")]
    pub element_mm: Millimetres,
    /// Pitch diameter.
    #[serde(default, skip_serializing_if = "is_none_mm")]
    pub pitch_mm: Millimetres,
    /// Contact angle.
    #[serde(default)]
    pub contact_deg: Degrees,
}

fn is_zero(n: &u32) -> bool {
    *n == 0
}

fn is_none_mm(x: &Millimetres) -> bool {
    x.get() == 0.0
}

impl Bearing {
    /// Whether anything of its geometry is given; one that is known by its number alone turns with no orders of its own.
    pub fn has_geometry(&self) -> bool {
        self.elements != 0 || self.element_mm.get() != 0.0 || self.pitch_mm.get() != 0.0
    }
}

/// Limits of a vehicle or of one calculation; what is left out has the default.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Limits {
    /// Torsional excitation of the pinion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub torsional_rads2: Option<f64>,
    /// Inertia excitation of a section.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub section_rads2: Option<f64>,
    /// Smallest working angle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_deg: Option<f64>,
    /// Largest working angle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_deg: Option<f64>,
    /// How equal first and last joint must be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub equal_deg: Option<f64>,
    /// Largest angle of a flex coupling.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub flex_deg: Option<f64>,
    /// Highest shaft speed over critical speed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub critical_ratio: Option<f64>,
    /// Runout by measuring point or kind of point.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub runout_mm: BTreeMap<String, f64>,
    /// Backlash from, to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backlash_mm: Option<[f64; 2]>,
    /// Highest road speed, km/h.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_kmh: Option<f64>,
}

impl Limits {
    /// Whether none is given.
    pub(crate) fn is_default(&self) -> bool {
        *self == Self::default()
    }

    /// These, and where they say nothing those of the workshop.
    pub fn or(&self, overrides: &Limits) -> Limits {
        let mut runout_mm = overrides.runout_mm.clone();
        // A place of the vehicle's own comes before a kind of point, as it always does.
        runout_mm.extend(self.runout_mm.clone());
        Limits {
            torsional_rads2: self.torsional_rads2.or(overrides.torsional_rads2),
            section_rads2: self.section_rads2.or(overrides.section_rads2),
            min_deg: self.min_deg.or(overrides.min_deg),
            max_deg: self.max_deg.or(overrides.max_deg),
            equal_deg: self.equal_deg.or(overrides.equal_deg),
            flex_deg: self.flex_deg.or(overrides.flex_deg),
            critical_ratio: self.critical_ratio.or(overrides.critical_ratio),
            runout_mm,
            backlash_mm: self.backlash_mm.or(overrides.backlash_mm),
            max_kmh: self.max_kmh.or(overrides.max_kmh),
        }
    }
}

/// A vehicle's driveline.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Vehicle {
    /// What the workshop calls it.
    #[serde(default)]
    pub name: String,
    /// Its tyres.
    pub tyre: Tyre,
    /// Its engine; none on an electric vehicle.
    #[serde(default)]
    pub engine: Option<Engine>,
    /// Its motor beside the engine, of a plug-in hybrid.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub motor: Option<Motor>,
    /// What turns the shafts.
    pub gearbox: Gearbox,
    /// Its transfer case.
    #[serde(default)]
    pub transfer: Option<Transfer>,
    /// Its coupling unit.
    #[serde(default)]
    pub coupler: Option<Coupler>,
    /// Front and rear, each once.
    pub axles: Vec<Axle>,
    /// Its propeller shafts.
    #[serde(default)]
    pub props: Vec<Prop>,
    /// Its jointed half shafts.
    #[serde(default)]
    pub half_shafts: Vec<HalfShaft>,
    /// Its bearings of known size.
    #[serde(default)]
    pub bearings: Vec<Bearing>,
    /// Limits of this vehicle; where one is missing the workshop's, then the default.
    #[serde(default)]
    pub limits: Limits,
}
