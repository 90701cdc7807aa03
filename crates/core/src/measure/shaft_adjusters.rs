//! What can usually be moved to set the angles of a shaft on a vehicle, within which range, and in which steps.
//!
//! Ranges are those that a workshop reaches without other parts; a solid axle takes wedges, ride height and longer arms, an
//! independent one the mounts of its final drive.

use super::angle_plan::{Adjuster, AdjusterKind};
use crate::vehicle::{AxleKind, Prop, Vehicle};

/// From the axle's middle to the joint, mm, where nobody measured it.
const USUAL_ARM_MM: f64 = 200.0;
/// From the front to the rear mount of engine and gearbox, mm, where nobody measured it.
const USUAL_PIVOT_MM: f64 = 900.0;

/// Whether the axle of a shaft is solid: wedges go under it, and its height sets the angles.
pub fn is_solid(v: &Vehicle, p: &Prop) -> bool {
    v.axles.iter().any(|a| a.end == p.end && a.kind == AxleKind::Solid)
}

fn adjuster(kind: AdjusterKind, [from, to, step]: [f64; 3]) -> Adjuster {
    Adjuster {
        kind,
        from: Some(from),
        to: Some(to),
        step: Some(step),
        at_hand: None,
        arm_mm: None,
        offset_mm: None,
        centres_mm: None,
        pivot_mm: None,
        joint_mm: None,
        joint: None,
        deg_per_mm: None,
    }
}

/// The adjusters that a shaft can have, each with its usual range. One that is seldom moved starts with a range of nothing.
pub fn usual_adjusters(v: &Vehicle, p: &Prop) -> Vec<Adjuster> {
    let bearing = |k| Adjuster { joint: Some(k), ..adjuster(AdjusterKind::SupportBearing, [-25.0, 25.0, 5.0]) };
    let mut out: Vec<Adjuster> = (1..p.sections.len()).map(bearing).collect();
    out.push(Adjuster { arm_mm: Some(USUAL_ARM_MM), ..adjuster(AdjusterKind::PinionWedge, [-3.0, 3.0, 0.5]) });
    out.push(Adjuster { pivot_mm: Some(USUAL_PIVOT_MM), ..adjuster(AdjusterKind::GearboxMount, [0.0, 12.0, 3.0]) });
    if is_solid(v, p) {
        out.push(adjuster(AdjusterKind::RideHeight, [0.0, 0.0, 10.0]));
        out.push(adjuster(AdjusterKind::ArmLength, [0.0, 0.0, 5.0]));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::measure::angle_plan::{AnglePlanInput, angle_plan};
    use crate::vehicle::layout::layouts;
    use serde_json::json;

    #[test]
    fn on_every_layout_the_usual_adjusters_of_each_shaft_make_plans() {
        for layout in layouts() {
            for p in &layout.vehicle.props {
                let adjusters = usual_adjusters(&layout.vehicle, p);
                let bearings = adjusters.iter().filter(|a| a.kind == AdjusterKind::SupportBearing).count();
                assert_eq!(bearings, p.sections.len() - 1, "{}", layout.id);
                let slopes: Vec<_> = (0..p.sections.len() + 2).map(|i| json!({"side_deg": 1.5 * i as f64})).collect();
                let shaft = json!({"elements": slopes, "joints": p.joints, "rpm": 3000});
                let input = AnglePlanInput {
                    shaft: serde_json::from_value(shaft).unwrap(),
                    lengths_mm: p.sections.iter().map(|s| s.length_mm.get()).collect(),
                    adjusters,
                    slip_available_mm: None,
                    climb_deg: None,
                };
                assert!(!angle_plan(&input).unwrap().plans.is_empty(), "{}", layout.id);
            }
        }
    }
}
