//! A joint that is swung by hand, in numbers: a spring balance on the yoke, both axes.
//!
//! The pull at an arm's length gives the torque that the joint resists with: M = F · r. What counts is how it compares:
//! along one axis (a spot that holds), and one axis with the other (one trunnion tighter). There is no general limit in
//! N·m: the maker's own, where there is one, comes first.

use crate::case::BalancePulls;
use crate::error::Problem;
use serde::{Deserialize, Serialize};

/// One sigma of a spring balance read by hand, N.
const BALANCE_SIGMA_N: f64 = 0.5;
/// A spot, or an axis, that pulls so many times harder is stiff.
const STIFF_RATIO: f64 = 1.5;
/// Below this torque (N·m) on both axes nothing holds the joint any more.
const LOOSE_TORQUE_NM: f64 = 0.05;

/// What was read.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct JointDragInput {
    /// Where the balance pulls, from the joint's centre.
    pub arm_mm: f64,
    /// Pulls about the one axis, through its travel, N.
    pub first_n: Vec<f64>,
    /// About the other.
    pub second_n: Vec<f64>,
}

impl From<BalancePulls> for JointDragInput {
    fn from(p: BalancePulls) -> Self {
        Self { arm_mm: p.arm_mm, first_n: p.first_n, second_n: p.second_n }
    }
}

/// What it says.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct JointDrag {
    /// Median torque about each axis, N·m.
    pub torque_nm: [f64; 2],
    /// Its error, one sigma, N·m.
    pub sigma_nm: f64,
    /// Highest pull over the median, on each axis.
    pub peak_ratio: [f64; 2],
    /// The tighter axis over the other.
    pub axes_ratio: f64,
    /// The outcome of `joint-swing` that it amounts to.
    pub outcome: &'static str,
    /// Why.
    pub reason: String,
}

fn median(x: &[f64]) -> f64 {
    let mut s = x.to_vec();
    s.sort_by(f64::total_cmp);
    let n = s.len();
    if n % 2 == 1 { s[n / 2] } else { 0.5 * (s[n / 2 - 1] + s[n / 2]) }
}

/// Reads a swung joint.
pub fn joint_drag(input: &JointDragInput) -> Result<JointDrag, Problem> {
    if !(10.0..=2000.0).contains(&input.arm_mm) {
        return Err(Problem::new("out-of-range", format!("an arm lies from 10 to 2000 mm, got {}", input.arm_mm)).field("arm_mm"));
    }
    for (x, field) in [(&input.first_n, "first_n"), (&input.second_n, "second_n")] {
        if x.len() < 3 || x.len() > 40 {
            return Err(Problem::new("missing", "three to forty pulls through the travel").field(field));
        }
        if let Some(odd) = x.iter().find(|v| !(0.0..=1000.0).contains(*v)) {
            return Err(Problem::new("out-of-range", format!("a pull lies from 0 to 1000 N, got {odd}")).field(field));
        }
    }
    let arm = input.arm_mm / 1000.0;
    let (a, b) = (median(&input.first_n), median(&input.second_n));
    // A ratio of small pulls says nothing: what the balance cannot tell is put under it.
    let over = |x: f64, y: f64| (x - 3.0 * BALANCE_SIGMA_N).max(0.0) / y.max(BALANCE_SIGMA_N);
    let peak = |x: &[f64], m: f64| x.iter().copied().fold(0.0, f64::max) / m.max(BALANCE_SIGMA_N);
    let sure = |x: &[f64], m: f64| over(x.iter().copied().fold(0.0, f64::max), m) > STIFF_RATIO;
    let (tight, slack) = (a.max(b), a.min(b));
    let (outcome, reason) = if sure(&input.first_n, a) || sure(&input.second_n, b) {
        ("stiff-spot", "one spot holds far more than the rest of its axis".to_string())
    } else if over(tight, slack) > STIFF_RATIO {
        ("stiff-spot", "one axis is far tighter than the other".to_string())
    } else if tight * arm < LOOSE_TORQUE_NM && tight < 3.0 * BALANCE_SIGMA_N {
        ("loose", "nothing holds it: the balance shows no pull on either axis".to_string())
    } else {
        ("smooth", "alike on both axes and all through".to_string())
    };
    Ok(JointDrag {
        torque_nm: [a * arm, b * arm],
        sigma_nm: BALANCE_SIGMA_N * arm,
        peak_ratio: [peak(&input.first_n, a), peak(&input.second_n, b)],
        axes_ratio: tight / slack.max(BALANCE_SIGMA_N),
        outcome,
        reason,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(first: &[f64], second: &[f64]) -> JointDrag {
        joint_drag(&JointDragInput { arm_mm: 100.0, first_n: first.into(), second_n: second.into() }).unwrap()
    }

    #[test]
    fn pull_times_arm_is_the_torque_and_alike_is_smooth() {
        let s = of(&[10.0, 11.0, 10.5], &[9.5, 10.0, 10.0]);
        assert!((s.torque_nm[0] - 1.05).abs() < 1e-9 && (s.torque_nm[1] - 1.0).abs() < 1e-9);
        assert!((s.sigma_nm - 0.05).abs() < 1e-9);
        assert_eq!(s.outcome, "smooth");
    }

    #[test]
    fn a_spot_that_holds_and_an_axis_that_is_tighter_are_stiff() {
        assert_eq!(of(&[10.0, 24.0, 10.0, 11.0], &[10.0, 10.0, 11.0]).outcome, "stiff-spot");
        assert_eq!(of(&[22.0, 23.0, 22.0], &[10.0, 10.0, 11.0]).outcome, "stiff-spot");
        // What the balance cannot tell apart is no stiffness.
        assert_eq!(of(&[1.0, 2.0, 1.5], &[1.0, 1.0, 1.5]).outcome, "smooth");
        assert_eq!(of(&[0.2, 0.0, 0.3], &[0.2, 0.2, 0.1]).outcome, "loose");
    }

    #[test]
    fn what_cannot_be_read_is_named() {
        let err = |arm, first: &[f64]| {
            joint_drag(&JointDragInput { arm_mm: arm, first_n: first.into(), second_n: vec![1.0; 3] }).unwrap_err()
        };
        assert_eq!(err(5.0, &[1.0; 3]).field.as_deref(), Some("arm_mm"));
        assert_eq!(err(100.0, &[1.0; 2]).field.as_deref(), Some("first_n"));
        assert_eq!(err(100.0, &[1.0, f64::NAN, 1.0]).field.as_deref(), Some("first_n"));
    }
}
