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

/// The side to which the axle end of an element points when its plan slope is positive: right on a shaft that runs rearward; of a
/// front shaft the picture is turned half round about the vertical, and it is left.
pub fn positive_plan_side(end: crate::vehicle::End) -> &'static str {
    match end {
        crate::vehicle::End::Rear => "right",
        crate::vehicle::End::Front => "left",
    }
}

/// One element: gearbox output, a shaft section, the pinion.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Element {
    /// What it is called.
    #[serde(default)]
    pub name: String,
    /// Side slope, positive when the rear (axle) end is lower.
    pub side_deg: Degrees,
    /// Plan slope, positive when the axle end points right; on a front shaft left ([`positive_plan_side`]).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan_deg: Option<Degrees>,
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

fn direction(e: &Element) -> [f64; 3] {
    [1.0, e.plan_deg.unwrap_or_default().rad().tan(), -e.side_deg.rad().tan()]
}

/// Angle and bend direction between two neighbours, radians.
fn bend(a: [f64; 3], b: [f64; 3]) -> (f64, f64) {
    let cross = [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
    let dot = a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
    let beta = cross.iter().map(|c| c * c).sum::<f64>().sqrt().atan2(dot);
    (beta, (b[2] - a[2]).atan2(b[1] - a[1]))
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
    for (i, e) in input.elements.iter().enumerate() {
        for (name, d) in [("side_deg", e.side_deg), ("plan_deg", e.plan_deg.unwrap_or_default())] {
            if d.get().is_nan() || d.get().abs() >= 60.0 {
                return Err(Problem::new("out-of-range", format!("a slope lies between −60° and 60°, got {}", d.get()))
                    .field(format!("elements[{i}].{name}")));
            }
        }
    }
    positive(input.rpm.get(), "rpm")?;
    Ok(())
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
    let omega = input.rpm.omega();
    let (mut sum, mut crosses, mut phase) = (Complex64::new(0.0, 0.0), 0usize, 0.0f64);
    let (mut joints, mut sums) = (vec![], vec![]);
    for (i, joint) in input.joints.iter().enumerate() {
        let (beta, delta) = bend(direction(&input.elements[i]), direction(&input.elements[i + 1]));
        if i > 0 {
            phase += input.phase_deg.as_ref().map_or(0.0, |p| p[i - 1].rad());
        }
        if joint.kind() == JointKind::Cross {
            let sign = if crosses.is_multiple_of(2) { 1.0 } else { -1.0 };
            sum += Complex64::from_polar(beta * beta, 2.0 * (phase - delta)) * sign;
            crosses += 1;
        }
        joints.push(Degrees(beta.to_degrees()));
        sums.push(sum);
    }
    let sections = input.elements.len() - 2;
    let acc = |z: Complex64| RadPerS2(z.norm() * omega * omega);
    let mut out = Angles {
        residual_deg: Degrees(sum.norm().sqrt().to_degrees()),
        torsional_rads2: acc(sum),
        sections_rads2: sums[..sections].iter().map(|&s| acc(s)).collect(),
        sections_coast_rads2: sums[..sections].iter().map(|&s| acc(sum - s)).collect(),
        joint_deg: joints,
        findings: vec![],
    };
    out.findings = findings(input, &out);
    Ok(out)
}

fn findings(input: &AnglesInput, a: &Angles) -> Vec<Finding> {
    let l = &input.limits;
    let torsional = l.torsional_rads2.unwrap_or(TORSIONAL_RADS2);
    let section = l.section_rads2.unwrap_or(SECTION_RADS2);
    let largest = largest_angle(input.rpm, RadPerS2(section)).get();
    let mut out = vec![];
    let mut over = |code: &str, at: String, message: String| out.push(Finding::new(code, Level::Over, message).at(at));
    if a.torsional_rads2.get() > torsional {
        over("torsional", "pinion".into(), format!("pinion: {:.0} rad/s², limit {torsional:.0}", a.torsional_rads2.get()));
    }
    for (k, s) in a.sections_rads2.iter().enumerate() {
        if s.get() > section {
            over("section", format!("s{}", k + 1), format!("section {}: {:.0} rad/s², limit {section:.0}", k + 1, s.get()));
        }
    }
    for (k, b) in a.joint_deg.iter().enumerate() {
        let (at, b, n) = (format!("j{}", k + 1), b.get(), k + 1);
        match input.joints[k].kind() {
            JointKind::Cross => {
                if b > largest {
                    over("joint-too-steep", at.clone(), format!("joint {n} bends {b:.1}°: over {largest:.1}° for this speed"));
                }
                if b < l.min_deg.unwrap_or(MIN_JOINT_DEG) {
                    let min = l.min_deg.unwrap_or(MIN_JOINT_DEG);
                    over(
                        "joint-too-straight",
                        at.clone(),
                        format!("joint {n} bends {b:.2}°: below {min}° the needles dent their races"),
                    );
                }
                if let Some(max) = l.max_deg
                    && b > max
                {
                    over("joint-over-max", at, format!("joint {n} bends {b:.1}°: over {max}°"));
                }
            }
            JointKind::Flex if b > l.flex_deg.unwrap_or(MAX_FLEX_DEG) => {
                over(
                    "flex-too-steep",
                    at,
                    format!("the flex coupling bends {b:.1}°: over {}°", l.flex_deg.unwrap_or(MAX_FLEX_DEG)),
                );
            }
            _ => {}
        }
    }
    for (k, s) in a.sections_coast_rads2.iter().enumerate() {
        if s.get() > section {
            out.push(
                Finding::new("section-coast", Level::Warn, format!("section {} on coast: {:.0} rad/s²", k + 1, s.get()))
                    .at(format!("s{}", k + 1)),
            );
        }
    }
    for (k, b) in a.joint_deg.iter().enumerate() {
        match input.joints[k].kind() {
            JointKind::Cross if b.get() > 3.0 => {
                out.push(
                    Finding::new("over-three", Level::Info, format!("joint {} bends more than 3°", k + 1))
                        .at(format!("j{}", k + 1)),
                );
            }
            JointKind::Flex if b.get() > 1.0 && b.get() <= l.flex_deg.unwrap_or(MAX_FLEX_DEG) => {
                out.push(
                    Finding::new("flex-steep", Level::Warn, "the flex coupling bends more than 1°").at(format!("j{}", k + 1)),
                );
            }
            _ => {}
        }
    }
    if let [first, .., last] = a.joint_deg[..] {
        let gap = (first - last).abs().get();
        if gap > l.equal_deg.unwrap_or(1.0) {
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
                .map(|&(s, p)| Element { name: String::new(), side_deg: Degrees(s), plan_deg: Some(Degrees(p)) })
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
        i.elements = vec![Element { name: String::new(), side_deg: Degrees(1.0), plan_deg: None }; 3];
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
