//! Where the pinion shall point: four schools, each with its reason and what it does to this shaft.
//!
//! Gearbox and sections stay; the pinion's slope is sought at which the residual of all joints is least: on the one side of the last
//! section (ends parallel) or on the other (both ends bent the same way). The school that allows for torque sets the pinion lower by what
//! it climbs under way.

use super::angle_plan::MOST_CLIMB_DEG;
use super::angles::{self, AnglesInput};
use crate::error::{Problem, finite};
use crate::units::{Degrees, RadPerS2};
use crate::vehicle::JointKind;
use serde::{Deserialize, Serialize};

/// How far a leaf-sprung pinion climbs under torque, where it was not said: the middle of 1° to 2°.
pub const USUAL_CLIMB_DEG: f64 = 1.5;
/// The pinion is sought within this of the last section.
const WIDEST_DEG: f64 = 25.0;
/// A pinion that points along its section still turns its needles.
const ALONG_DEG: f64 = 0.75;
/// The wish of some: no joint bends more.
const WISHED_DEG: f64 = 3.0;

/// What the angles aim at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum School {
    /// Equal and opposite at cruise.
    Cruise,
    /// The same, set lower by what the pinion climbs.
    Climb,
    /// A double-cross or ball joint at the gearbox, the pinion along the shaft.
    PinionAlong,
    /// Both ends bent the same way.
    BrokenBack,
}

impl School {
    /// Every school.
    pub const ALL: [School; 4] = [School::Cruise, School::Climb, School::BrokenBack, School::PinionAlong];

    /// Its public id: `broken-back`.
    pub fn id(self) -> &'static str {
        match self {
            School::Cruise => "cruise",
            School::Climb => "climb",
            School::PinionAlong => "pinion-along",
            School::BrokenBack => "broken-back",
        }
    }

    /// What it aims at, in words.
    pub fn words(self) -> &'static str {
        match self {
            School::Cruise => "equal and opposite at cruise",
            School::Climb => "pinion lower by what it climbs",
            School::PinionAlong => "pinion along the shaft, double joint in front",
            School::BrokenBack => "both ends bent the same way",
        }
    }
}

/// A shaft, and how far its pinion climbs.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AngleTargetsInput {
    /// As it is.
    #[serde(flatten)]
    pub shaft: AnglesInput,
    /// Under torque; 1.5° when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub climb_deg: Option<f64>,
}

/// What a school asks for.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Target {
    /// Which.
    pub school: School,
    /// Slope of the pinion, standing.
    pub pinion_deg: Degrees,
    /// How far it must be turned from today; positive lifts its nose.
    pub turn_deg: Degrees,
    /// Each joint, under way.
    pub joint_deg: Vec<Degrees>,
    /// What all do together.
    pub residual_deg: Degrees,
    /// At the pinion.
    pub torsional_rads2: RadPerS2,
    /// Limits that are broken.
    pub broken: usize,
    /// Whether no cross joint bends more than 3°.
    pub within_three: bool,
    /// Its reason.
    pub why: &'static str,
}

/// The schools that fit this shaft.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct AngleTargets {
    /// Ends parallel first.
    pub targets: Vec<Target>,
}

/// Where each school wants the pinion, degrees. Input and errors as of `angles`, and `climb_deg` from 0° to 10°.
///
/// ```
/// use baricord_core::{error::read_json, measure::angle_targets::angle_targets};
/// let input = serde_json::json!({"elements": [{"side_deg": 4.0}, {"side_deg": 7.0}, {"side_deg": 1.0}], "joints": ["cross", "cross"],
///     "rpm": 3000});
/// let t = angle_targets(&read_json(&input).unwrap()).unwrap().targets;
/// assert!((t[0].pinion_deg.get() - 4.0).abs() < 1e-3 && (t[1].pinion_deg.get() - 2.5).abs() < 1e-3);
/// ```
pub fn angle_targets(input: &AngleTargetsInput) -> Result<AngleTargets, Problem> {
    let shaft = &input.shaft;
    angles::angles(shaft)?;
    let climb = finite(input.climb_deg.unwrap_or(USUAL_CLIMB_DEG), "climb_deg")?;
    if !(0.0..=MOST_CLIMB_DEG).contains(&climb) {
        return Err(Problem::new("out-of-range", format!("a pinion climbs from 0° to {MOST_CLIMB_DEG}°")).field("climb_deg"));
    }
    let slope = |i: usize| shaft.elements[i].side_deg.get();
    let n = shaft.elements.len();
    let (last, today) = (slope(n - 2), slope(n - 1));
    let kinds: Vec<JointKind> = shaft.joints.iter().map(|j| j.kind()).collect();
    let with = |pinion: f64| {
        let mut s = shaft.clone();
        s.elements[n - 1].side_deg = Degrees(pinion);
        s
    };
    let residual = |pinion: f64| angles::angles(&with(pinion)).map_or(f64::MAX, |a| a.residual_deg.get());
    // Ends are parallel when the last joint bends against the first.
    let against = if slope(1) >= slope(0) { -1.0 } else { 1.0 };
    let least = |side: f64| last + side * golden(|x| residual(last + side * x), 0.0, WIDEST_DEG);
    let target = |school: School, standing: f64, under_way: f64, why: &'static str| -> Result<Target, Problem> {
        let a = angles::angles(&with(under_way))?;
        let steep = |(b, k): (&Degrees, &JointKind)| *k == JointKind::Cross && b.get() > WISHED_DEG + 1e-6;
        Ok(Target {
            school,
            pinion_deg: Degrees(standing),
            turn_deg: Degrees(standing - today),
            residual_deg: a.residual_deg,
            torsional_rads2: a.torsional_rads2,
            broken: a.broken(),
            within_three: !a.joint_deg.iter().zip(&kinds).any(steep),
            joint_deg: a.joint_deg,
            why,
        })
    };
    let parallel = least(against);
    let mut targets = vec![];
    if kinds[0] == JointKind::Cross {
        targets.push(target(
            School::Cruise,
            parallel,
            parallel,
            "equal and opposite at cruise: the joints cancel at steady speed, with links or a stiff axle that hardly turns",
        )?);
        targets.push(target(
            School::Climb,
            parallel - climb,
            parallel,
            "set lower by what the pinion climbs under torque: the joints cancel when it pulls; leaf springs 1° to 2°, links up to 1°",
        )?);
        let same = least(-against);
        targets.push(target(
            School::BrokenBack,
            same,
            same,
            "both ends bent the same way: they cancel as well, for an axle that is set high; the angles change together as it travels",
        )?);
    } else {
        let along = last - ALONG_DEG;
        targets.push(target(
            School::PinionAlong,
            along,
            along,
            "the joint at the gearbox carries the angle evenly by itself: the pinion points along the shaft, just enough for the needles to roll",
        )?);
    }
    Ok(AngleTargets { targets })
}

/// The least of a function that has one, by golden section.
fn golden(f: impl Fn(f64) -> f64, mut from: f64, mut to: f64) -> f64 {
    const SHARE: f64 = 0.618_033_988_749_895;
    for _ in 0..60 {
        let (a, b) = (to - SHARE * (to - from), from + SHARE * (to - from));
        if f(a) < f(b) { to = b } else { from = a }
    }
    0.5 * (from + to)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn of(v: &Value) -> Vec<Target> {
        angle_targets(&read_json(v).unwrap()).unwrap().targets
    }
    fn shaft(slopes: &[f64], joints: Value) -> Value {
        let elements: Vec<Value> = slopes.iter().map(|s| json!({"side_deg": s})).collect();
        json!({"elements": elements, "joints": joints, "rpm": 3000})
    }

    #[test]
    fn ends_parallel_lower_or_bent_the_same_way() {
        let t = of(&shaft(&[4.0, 7.0, 1.0], json!(["cross", "cross"])));
        let near = |got: Degrees, want: f64| assert!((got.get() - want).abs() < 1e-3, "{got:?} {want}");
        near(t[0].pinion_deg, 4.0);
        near(t[0].turn_deg, 3.0);
        near(t[1].pinion_deg, 2.5);
        near(t[2].pinion_deg, 10.0);
        assert!(t[0].within_three && t.iter().all(|t| t.residual_deg.get() < 0.01));
    }

    #[test]
    fn a_double_joint_wants_the_pinion_along_the_shaft() {
        let t = of(&shaft(&[0.0, 12.0, 9.0], json!(["double-cross", "cross"])));
        assert_eq!((t.len(), t[0].school, t[0].pinion_deg), (1, School::PinionAlong, Degrees(11.25)));
        assert_eq!(t[0].broken, 0);
        let e = angle_targets(
            &read_json(&json!({"elements": [{"side_deg": 1}, {"side_deg": 2}, {"side_deg": 1}], "joints": ["cross", "cross"],
            "rpm": 3000, "climb_deg": 20}))
            .unwrap(),
        );
        assert_eq!(e.unwrap_err().field.as_deref(), Some("climb_deg"));
    }

    proptest! {
        #[test]
        fn no_other_pinion_cancels_better(g in -5.0f64..8.0, a in -4.0f64..6.0, b in -4.0f64..6.0, other in -20.0f64..20.0) {
            let slopes = [g, g + a, g + a + b, 0.0];
            let t = of(&shaft(&slopes, json!(["cross", "cross", "cross"])));
            let best = t[0].residual_deg.get().min(t[2].residual_deg.get());
            let mut v = shaft(&slopes, json!(["cross", "cross", "cross"]));
            v["elements"][3]["side_deg"] = json!(slopes[2] + other);
            let r = angles::angles(&read_json(&v).unwrap()).unwrap().residual_deg.get();
            prop_assert!(best <= r + 1e-3, "{best} {r}");
        }
    }
}
