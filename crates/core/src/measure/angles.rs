//! Joint angles in space: what each joint bends, how far the joints cancel, and what shakes.
//!
//! An element's direction, x rearward, y right, z up: d = (1, tan p, −tan s), with side slope s
//! (rear end lower is positive) and plan slope p (rear end to the right is positive). Joint angle β
//! is the angle between neighbouring directions, its bend direction δ = atan2(Δz, Δy). One cross
//! joint makes its output run unevenly twice a turn by β²/2, with angular acceleration β²ω². Joints
//! add as vectors: S_k = Σ_{i≤k, cross} (−1)^{n_i} β_i² exp(2j(γ_i − δ_i)), n_i the cross joints
//! before joint i and γ_i the phase errors of the shafts before it. The equivalent residual angle
//! is √|S_last|; the pinion is shaken by |S_last|ω², a section behind joint k by |S_k|ω² seen from
//! the front and |S_last − S_k|ω² on coast.

use super::slopes::to_read_again;
pub use super::slopes::{Element, SlopeReadings};
use crate::error::{Finding, Level, Problem, finite, positive};
use crate::units::{Degrees, RadPerS2, Rpm};
use crate::vehicle::{Joint, JointKind, Limits};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};

/// Largest torsional excitation of the pinion, by default.
pub const TORSIONAL_RADS2: f64 = 300.0;
/// Largest inertia excitation of a section, by default.
pub const SECTION_RADS2: f64 = 1000.0;
/// Smallest working angle of a cross joint, by default: the needles must roll.
pub const MIN_JOINT_DEG: f64 = 0.5;
/// A flex coupling bends no more than this, by default.
pub const MAX_FLEX_DEG: f64 = 1.5;

/// No element of a shaft slopes so steeply.
const STEEPEST_DEG: f64 = 60.0;
/// Ends are parallel, and first and last joint equal, within this by default.
const EQUAL_DEG: f64 = 1.0;

/// The side to which the axle end of an element points when its plan slope is positive: right on a shaft that runs rearward; of a
/// front shaft the picture is turned half round about the vertical, and it is left.
pub fn positive_plan_side(end: crate::vehicle::End) -> &'static str {
    match end {
        crate::vehicle::End::Rear => "right",
        crate::vehicle::End::Front => "left",
    }
}

/// A shaft with its neighbours.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AnglesInput {
    /// Gearbox, each section, pinion.
    pub elements: Vec<Element>,
    /// Kinds of the joints between them.
    pub joints: Vec<Joint>,
    /// Phase error of each section's yokes; in line when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phase_deg: Option<Vec<Degrees>>,
    /// Shaft speed.
    pub rpm: Rpm,
    /// Limits other than the default.
    #[serde(default, skip_serializing_if = "Limits::is_default")]
    pub limits: Limits,
}

/// What the joints do.
#[derive(Clone, Debug, Serialize)]
pub struct Angles {
    /// Angle of each joint.
    pub joint_deg: Vec<Degrees>,
    /// The single joint that would do what all do together.
    pub residual_deg: Degrees,
    /// Angular acceleration of the pinion.
    pub torsional_rads2: RadPerS2,
    /// Angular acceleration of each section, seen from the front.
    pub sections_rads2: Vec<RadPerS2>,
    /// Angular acceleration of each section on coast.
    pub sections_coast_rads2: Vec<RadPerS2>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

impl Angles {
    /// Broken limits, counted as the planner counts them.
    pub fn broken(&self) -> usize {
        self.findings.iter().filter(|f| f.level == Level::Over).count()
    }
}

/// The largest single joint angle at a speed: √(limit)/ω.
pub fn largest_angle(rpm: Rpm, section_rads2: RadPerS2) -> Degrees {
    Degrees((section_rads2.get().sqrt() / rpm.omega()).to_degrees())
}

/// Limits of joints and shaft, those that were not said at their default.
struct Thresholds {
    torsional: f64,
    section: f64,
    /// Largest angle of a cross joint at this speed.
    largest_deg: f64,
    min_deg: f64,
    /// Only where it was asked for.
    max_deg: Option<f64>,
    flex_deg: f64,
    /// Only where it was asked for.
    equal_deg: Option<f64>,
}

/// What a joint breaks.
enum JointBreak {
    TooSteep,
    TooStraight,
    OverMax,
    FlexTooSteep,
}

impl Thresholds {
    fn new(input: &AnglesInput) -> Self {
        let l = &input.limits;
        let section = l.section_rads2.unwrap_or(SECTION_RADS2);
        Self {
            torsional: l.torsional_rads2.unwrap_or(TORSIONAL_RADS2),
            section,
            largest_deg: largest_angle(input.rpm, RadPerS2(section)).get(),
            min_deg: l.min_deg.unwrap_or(MIN_JOINT_DEG),
            max_deg: l.max_deg,
            flex_deg: l.flex_deg.unwrap_or(MAX_FLEX_DEG),
            equal_deg: l.equal_deg,
        }
    }

    fn joint(&self, kind: JointKind, deg: f64) -> impl Iterator<Item = JointBreak> {
        let (cross, flex) = (kind == JointKind::Cross, kind == JointKind::Flex);
        [
            (cross && deg > self.largest_deg).then_some(JointBreak::TooSteep),
            (cross && deg < self.min_deg).then_some(JointBreak::TooStraight),
            (cross && self.max_deg.is_some_and(|max| deg > max)).then_some(JointBreak::OverMax),
            (flex && deg > self.flex_deg).then_some(JointBreak::FlexTooSteep),
        ]
        .into_iter()
        .flatten()
    }
}

/// A shaft made ready for many slopes: its joints, its phases, its limits.
pub(super) struct Shaft {
    kinds: Vec<JointKind>,
    /// e^(2jγ) before each joint.
    turned: Vec<Complex64>,
    /// Squared speed, 1/s².
    omega2: f64,
    limits: Thresholds,
}

impl Shaft {
    /// Of an input that has been checked.
    pub(super) fn new(input: &AnglesInput) -> Self {
        let mut phase = 0.0;
        let mut turned = vec![];
        for i in 0..input.joints.len() {
            if i > 0 {
                phase += input.phase_deg.as_ref().map_or(0.0, |p| p[i - 1].rad());
            }
            turned.push(Complex64::from_polar(1.0, 2.0 * phase));
        }
        let kinds = input.joints.iter().map(Joint::kind).collect();
        Self { kinds, turned, omega2: input.rpm.omega().powi(2), limits: Thresholds::new(input) }
    }

    /// Goes along the joints: of each its number, its angle in radians, and S_k behind it. Slopes are directions.
    fn along(&self, direction: impl Fn(usize) -> [f64; 3], mut joint: impl FnMut(usize, f64, Complex64)) {
        let (mut sum, mut sign) = (Complex64::new(0.0, 0.0), 1.0);
        let mut before = direction(0);
        for (i, kind) in self.kinds.iter().enumerate() {
            let after = direction(i + 1);
            let (beta, dy, dz) = bend(before, after);
            if *kind == JointKind::Cross {
                // e^(−2jδ) of the bend direction, without an angle: δ = atan2(Δz, Δy).
                let (back, flat) = (Complex64::new(dy, -dz), dy * dy + dz * dz);
                if flat > 0.0 {
                    sum += back * back / flat * self.turned[i] * (sign * beta * beta);
                }
                sign = -sign;
            }
            joint(i, beta, sum);
            before = after;
        }
    }

    /// Limits broken and the residual angle in degrees, of side slopes in degrees and the tangents of the plan slopes; none where a slope
    /// is no slope of a shaft.
    pub(super) fn broken(&self, side_deg: &[f64], plan: &[f64]) -> Option<(usize, f64)> {
        if side_deg.iter().any(|s| s.is_nan() || s.abs() >= STEEPEST_DEG) {
            return None;
        }
        let (mut broken, mut first, mut last, mut all) = (0, 0.0, 0.0, Complex64::new(0.0, 0.0));
        let joints = self.kinds.len();
        self.along(
            |i| [1.0, plan[i], -side_deg[i].to_radians().tan()],
            |i, beta, sum| {
                let deg = beta.to_degrees();
                broken += self.limits.joint(self.kinds[i], deg).count();
                // A section stands behind every joint but the last.
                broken += usize::from(i + 1 < joints && sum.norm() * self.omega2 > self.limits.section);
                if i == 0 {
                    first = deg;
                }
                (last, all) = (deg, sum);
            },
        );
        broken += usize::from(all.norm() * self.omega2 > self.limits.torsional);
        broken += usize::from(joints > 1 && self.limits.equal_deg.is_some_and(|equal| (first - last).abs() > equal));
        Some((broken, all.norm().sqrt().to_degrees()))
    }
}

fn direction(e: &Element) -> [f64; 3] {
    [1.0, e.plan_deg.unwrap_or_default().rad().tan(), -e.side_deg.rad().tan()]
}

/// Angle between two neighbours in radians, and the difference of their directions across, y and z.
fn bend(a: [f64; 3], b: [f64; 3]) -> (f64, f64, f64) {
    let cross = [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
    let dot = a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
    let beta = cross.iter().map(|c| c * c).sum::<f64>().sqrt().atan2(dot);
    (beta, b[1] - a[1], b[2] - a[2])
}

fn check(input: &AnglesInput) -> Result<(), Problem> {
    let n = input.elements.len();
    if n < 2 {
        return Err(Problem::new("missing", "at least the gearbox and the pinion are needed").field("elements"));
    }
    if input.joints.len() != n - 1 {
        return Err(Problem::new(
            "mismatch",
            format!("{n} elements have {} joints between them, got {}", n - 1, input.joints.len()),
        )
        .field("joints"));
    }
    if let Some(p) = &input.phase_deg {
        if p.len() != n - 2 {
            return Err(
                Problem::new("mismatch", format!("{} sections need {} phases, got {}", n - 2, n - 2, p.len())).field("phase_deg")
            );
        }
        for (i, g) in p.iter().enumerate() {
            finite(g.get(), &format!("phase_deg[{i}]"))?;
        }
    }
    check_slopes(&input.elements)?;
    positive(input.rpm.get(), "rpm")?;
    Ok(())
}

fn check_slopes(elements: &[Element]) -> Result<(), Problem> {
    for (i, e) in elements.iter().enumerate() {
        for (name, d) in [("side_deg", e.side_deg), ("plan_deg", e.plan_deg.unwrap_or_default())] {
            if d.get().is_nan() || d.get().abs() >= STEEPEST_DEG {
                return Err(Problem::new("out-of-range", format!("a slope lies between −60° and 60°, got {}", d.get()))
                    .field(format!("elements[{i}].{name}")));
            }
        }
    }
    Ok(())
}

/// Gearbox and pinion alone.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct EndsInput {
    /// Gearbox, pinion.
    pub elements: Vec<Element>,
}

/// How far the ends of a shaft are from parallel.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Ends {
    /// Difference of their side slopes.
    pub ends_deg: Degrees,
    /// None: the shaft was not read.
    pub joint_deg: Vec<Degrees>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// What two ends say without the shaft between them: how far they are apart, degrees. Two elements with slopes within ±60°.
///
/// ```
/// use baricord_core::{error::read_json, measure::angles::ends};
/// let e = ends(&read_json(&serde_json::json!({"elements": [{"side_deg": 4.2}, {"side_deg": -1.0}]})).unwrap()).unwrap();
/// assert!((e.ends_deg.get() - 5.2).abs() < 1e-12 && e.findings[0].message.contains("which joint carries it"));
/// ```
pub fn ends(input: &EndsInput) -> Result<Ends, Problem> {
    let [gearbox, pinion] = &input.elements[..] else {
        let message = format!("gearbox and pinion are two elements, got {}", input.elements.len());
        return Err(Problem::new("mismatch", message).field("elements"));
    };
    check_slopes(&input.elements)?;
    let apart = (gearbox.side_deg - pinion.side_deg).abs();
    let (level, message) = match apart.get() {
        x if x <= EQUAL_DEG => {
            (Level::Info, format!("the ends are {x:.1}° apart: two equal joints cancel, whatever the shaft's slope"))
        }
        x => (Level::Warn, format!("the ends are {x:.1}° apart: read the shaft to see which joint carries it")),
    };
    let mut findings = vec![Finding::new("ends", level, message)];
    findings.extend(to_read_again(&input.elements));
    Ok(Ends { ends_deg: apart, joint_deg: vec![], findings })
}

/// What the joints of a shaft do at a speed: each joint's angle (degrees), what the pinion and each section are shaken by (rad/s²),
/// the residual angle, and findings against the limits. Slopes lie within ±60°; errors name the field.
///
/// ```
/// use baricord_core::{error::read_json, measure::angles::angles};
/// let input = serde_json::json!({"elements": [{"side_deg": 4.2}, {"side_deg": 6.9}, {"side_deg": 3.1}],
///     "joints": ["cross", "cross"], "rpm": 3200});
/// let a = angles(&read_json(&input).unwrap()).unwrap();
/// assert!((a.torsional_rads2.get() - 244.6).abs() < 0.1);
/// ```
pub fn angles(input: &AnglesInput) -> Result<Angles, Problem> {
    check(input)?;
    let shaft = Shaft::new(input);
    let (mut joints, mut sums) = (vec![], vec![]);
    shaft.along(
        |i| direction(&input.elements[i]),
        |_, beta, sum| {
            joints.push(Degrees(beta.to_degrees()));
            sums.push(sum);
        },
    );
    let sum = sums.last().copied().unwrap_or_default();
    let sections = input.elements.len() - 2;
    let acc = |z: Complex64| RadPerS2(z.norm() * shaft.omega2);
    let mut out = Angles {
        residual_deg: Degrees(sum.norm().sqrt().to_degrees()),
        torsional_rads2: acc(sum),
        sections_rads2: sums[..sections].iter().map(|&s| acc(s)).collect(),
        sections_coast_rads2: sums[..sections].iter().map(|&s| acc(sum - s)).collect(),
        joint_deg: joints,
        findings: vec![],
    };
    out.findings = findings(&shaft, &out);
    out.findings.extend(to_read_again(&input.elements));
    Ok(out)
}

fn findings(shaft: &Shaft, a: &Angles) -> Vec<Finding> {
    let l = &shaft.limits;
    let mut out = vec![];
    let mut over = |code: &str, at: String, message: String| out.push(Finding::new(code, Level::Over, message).at(at));
    if a.torsional_rads2.get() > l.torsional {
        over("torsional", "pinion".into(), format!("pinion: {:.0} rad/s², limit {:.0}", a.torsional_rads2.get(), l.torsional));
    }
    for (k, s) in a.sections_rads2.iter().enumerate() {
        if s.get() > l.section {
            over("section", format!("s{}", k + 1), format!("section {}: {:.0} rad/s², limit {:.0}", k + 1, s.get(), l.section));
        }
    }
    for (k, b) in a.joint_deg.iter().enumerate() {
        let (b, n) = (b.get(), k + 1);
        for broken in l.joint(shaft.kinds[k], b) {
            let (code, message) = match broken {
                JointBreak::TooSteep => {
                    ("joint-too-steep", format!("joint {n} bends {b:.1}°: over {:.1}° for this speed", l.largest_deg))
                }
                JointBreak::TooStraight => {
                    ("joint-too-straight", format!("joint {n} bends {b:.2}°: below {}° the needles dent their races", l.min_deg))
                }
                JointBreak::OverMax => {
                    ("joint-over-max", format!("joint {n} bends {b:.1}°: over {}°", l.max_deg.unwrap_or_default()))
                }
                JointBreak::FlexTooSteep => ("flex-too-steep", format!("the flex coupling bends {b:.1}°: over {}°", l.flex_deg)),
            };
            over(code, format!("j{n}"), message);
        }
    }
    for (k, s) in a.sections_coast_rads2.iter().enumerate() {
        if s.get() > l.section {
            out.push(
                Finding::new("section-coast", Level::Warn, format!("section {} on coast: {:.0} rad/s²", k + 1, s.get()))
                    .at(format!("s{}", k + 1)),
            );
        }
    }
    for (k, b) in a.joint_deg.iter().enumerate() {
        match shaft.kinds[k] {
            JointKind::Cross if b.get() > 3.0 => {
                out.push(
                    Finding::new("over-three", Level::Info, format!("joint {} bends more than 3°", k + 1))
                        .at(format!("j{}", k + 1)),
                );
            }
            JointKind::Flex if b.get() > 1.0 && b.get() <= l.flex_deg => {
                out.push(
                    Finding::new("flex-steep", Level::Warn, "the flex coupling bends more than 1°").at(format!("j{}", k + 1)),
                );
            }
            _ => {}
        }
    }
    if let [first, .., last] = a.joint_deg[..] {
        let gap = (first - last).abs().get();
        if gap > l.equal_deg.unwrap_or(EQUAL_DEG) {
            let level = if l.equal_deg.is_some() { Level::Over } else { Level::Info };
            out.push(Finding::new("unequal", level, format!("first and last joint differ by {gap:.1}°")));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn shaft(slopes: &[(f64, f64)], joints: &[JointKind], phase: &[f64], rpm: f64) -> Angles {
        angles(&AnglesInput {
            elements: slopes
                .iter()
                .map(|&(s, p)| Element { side_deg: Degrees(s), plan_deg: Some(Degrees(p)), ..Element::default() })
                .collect(),
            joints: joints.iter().map(|&k| Joint::Plain(k)).collect(),
            phase_deg: Some(phase.iter().map(|&p| Degrees(p)).collect()),
            rpm: Rpm(rpm),
            limits: Limits::default(),
        })
        .unwrap()
    }
    fn near(got: &[f64], want: &[f64], tol: f64) {
        assert_eq!(got.len(), want.len());
        for (g, w) in got.iter().zip(want) {
            assert!((g - w).abs() <= tol, "{got:?} {want:?}");
        }
    }
    fn degs(d: &[Degrees]) -> Vec<f64> {
        d.iter().map(|d| d.get()).collect()
    }
    fn accs(d: &[RadPerS2]) -> Vec<f64> {
        d.iter().map(|d| d.get()).collect()
    }
    use JointKind::{Ball, Cross};

    #[test]
    fn worked_one_section() {
        let a = shaft(&[(4.2, 0.0), (6.9, 0.0), (3.1, 0.0)], &[Cross; 2], &[0.0], 3200.0);
        near(&degs(&a.joint_deg), &[2.7, 3.8], 1e-9);
        near(&[a.residual_deg.get()], &[2.674], 5e-4);
        near(&[a.torsional_rads2.get()], &[244.6], 0.05);
        near(&accs(&a.sections_rads2), &[249.4], 0.05);
        near(&accs(&a.sections_coast_rads2), &[493.9], 0.06);
    }

    #[test]
    fn worked_two_sections_in_phase() {
        let a = shaft(&[(4.0, 0.0), (1.0, 0.0), (5.5, 0.0), (3.0, 0.0)], &[Cross; 3], &[0.0, 0.0], 3600.0);
        near(&degs(&a.joint_deg), &[3.0, 4.5, 2.5], 1e-9);
        near(&[a.residual_deg.get(), a.torsional_rads2.get()], &[2.236, 216.5], 0.05);
        near(&accs(&a.sections_rads2), &[389.6, 487.0], 0.06);
        near(&accs(&a.sections_coast_rads2), &[606.1, 270.6], 0.06);
    }

    #[test]
    fn worked_with_plan_and_phase() {
        let a = shaft(&[(4.0, 0.0), (1.0, 1.5), (5.5, 0.0), (3.0, 0.0)], &[Cross; 3], &[0.0, 90.0], 3600.0);
        near(&degs(&a.joint_deg), &[3.354, 4.743, 2.5], 1e-3);
        near(&[a.residual_deg.get()], &[4.251], 1e-3);
        near(&[a.torsional_rads2.get()], &[782.5], 0.1);
        near(&accs(&a.sections_rads2), &[486.9, 524.6], 0.1);
        near(&accs(&a.sections_coast_rads2), &[1201.6, 270.6], 0.1);
    }

    #[test]
    fn worked_signs_of_phase_and_plan() {
        let a = shaft(&[(4.0, 0.4), (-3.0, 2.0), (5.5, -2.0), (1.0, 1.5)], &[Cross; 3], &[15.0, -20.0], 3600.0);
        near(&degs(&a.joint_deg), &[7.178, 9.388, 5.695], 1e-3);
        near(&[a.residual_deg.get()], &[7.550], 1e-3);
        near(&[a.torsional_rads2.get()], &[2468.0], 0.5);
        near(&accs(&a.sections_rads2), &[2230.9, 3109.5], 0.5);
        let wrong = shaft(&[(4.0, 0.4), (-3.0, 2.0), (5.5, -2.0), (1.0, 1.5)], &[Cross; 3], &[-15.0, 20.0], 3600.0);
        near(&[wrong.residual_deg.get()], &[6.437], 1e-3);
    }

    #[test]
    fn worked_ball_joint_in_the_middle_carries_the_yoke_through() {
        let a = shaft(&[(4.0, 0.0), (1.0, 0.0), (5.5, 0.0), (3.0, 0.0)], &[Cross, Ball, Cross], &[0.0, 0.0], 3600.0);
        near(&[a.residual_deg.get()], &[1.658], 1e-3);
    }

    #[test]
    fn the_largest_angle_falls_with_speed() {
        near(&[largest_angle(Rpm(5000.0), RadPerS2(1000.0)).get()], &[3.46], 0.005);
        near(&[largest_angle(Rpm(3000.0), RadPerS2(1000.0)).get()], &[5.77], 0.005);
    }

    #[test]
    fn broken_limits_are_counted_one_by_one() {
        let a = shaft(&[(4.0, 0.0), (1.0, 0.0), (8.4, 0.0), (5.9, 0.0)], &[Cross; 3], &[0.0, 0.0], 3200.0);
        let over: Vec<_> = a.findings.iter().filter(|f| f.level == Level::Over).map(|f| f.code.as_str()).collect();
        assert_eq!(over, ["torsional", "section", "joint-too-steep"]);
        assert_eq!(a.broken(), 3);
        let straight = shaft(&[(3.0, 0.0), (3.2, 0.0), (3.0, 0.0)], &[Cross; 2], &[0.0], 3000.0);
        assert_eq!(straight.broken(), 2);
    }

    #[test]
    fn lists_that_do_not_fit_are_refused_by_field() {
        let mut i =
            AnglesInput { elements: vec![], joints: vec![], phase_deg: None, rpm: Rpm(3000.0), limits: Limits::default() };
        assert_eq!(angles(&i).unwrap_err().field.as_deref(), Some("elements"));
        i.elements = vec![Element { side_deg: Degrees(1.0), ..Element::default() }; 3];
        assert_eq!(angles(&i).unwrap_err().field.as_deref(), Some("joints"));
        i.joints = vec![Joint::Plain(Cross); 2];
        i.elements[1].side_deg = Degrees(f64::NAN);
        assert_eq!(angles(&i).unwrap_err().field.as_deref(), Some("elements[1].side_deg"));
    }

    proptest! {
        #[test]
        fn parallel_ends_cancel(s in -8.0..8.0f64, d in 0.6..8.0f64, p in -3.0..3.0f64, rpm in 500.0..5000.0f64) {
            let a = shaft(&[(s, 0.0), (s + d, p), (s, 0.0)], &[Cross; 2], &[0.0], rpm);
            prop_assert!(a.residual_deg.get() < 1e-4);
        }
        #[test]
        fn the_floor_cancels(s in -4.0..4.0f64, d in 0.0..6.0f64, floor in -2.0..2.0f64) {
            let a = shaft(&[(s, 0.0), (s + d, 0.0), (s + 1.0, 0.0)], &[Cross; 2], &[0.0], 3000.0);
            let b = shaft(&[(s + floor, 0.0), (s + d + floor, 0.0), (s + 1.0 + floor, 0.0)], &[Cross; 2], &[0.0], 3000.0);
            prop_assert!((a.residual_deg.get() - b.residual_deg.get()).abs() < 1e-9);
        }
    }
}
