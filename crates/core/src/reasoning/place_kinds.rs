//! The kinds of places that faults and tests name, and which places of a vehicle are of them: what a layout can have.

use crate::vehicle::{Axle, AxleKind, End, Floating, FrontDrive, GearboxKind, JointKind, Place, PlaceKind, Slip, Vehicle};

/// Whether an axle end carries its wheel in a bearing on the half shaft itself.
fn is_semi_floating(a: &Axle, v: &Vehicle) -> bool {
    a.driven && a.kind == AxleKind::Solid && !v.is_steered(a.end) && a.floating != Some(Floating::Full)
}

/// The kind of a propeller shaft's joint.
fn joint_kind(v: &Vehicle, p: &Place) -> Option<JointKind> {
    let prop = p.end.and_then(|e| v.prop(e)).filter(|_| p.kind == PlaceKind::Joint)?;
    prop.joints.get(p.number? - 1).map(|j| j.kind())
}

/// The drive to this axle can be taken away: in front of a transfer case, behind a coupling unit, by free hubs.
fn is_on_demand(v: &Vehicle, end: End) -> bool {
    let part = v.transfer.as_ref().is_some_and(|t| t.front_drive != FrontDrive::FullTime) && end == End::Front;
    let free = v.axle(end).is_some_and(|a| a.free_hubs);
    part || free || v.coupler.as_ref().is_some_and(|c| end == c.before)
}

/// Whether a place is of a kind that knowledge names.
pub fn is_kind(v: &Vehicle, p: &Place, kind: &str) -> bool {
    use PlaceKind as K;
    let axle = p.end.and_then(|e| v.axle(e));
    let independent = axle.is_some_and(|a| a.kind == AxleKind::Independent);
    let driven = axle.is_some_and(|a| a.driven);
    let in_gearbox = p.end.is_some_and(|e| v.final_drive_in_gearbox(e));
    let manual = v.gearbox.kind == GearboxKind::Manual;
    let steered = p.end.is_some_and(|e| v.is_steered(e));
    let limited_slip = || axle.map(|a| a.limited_slip);
    match kind {
        "engine" => p.kind == K::Engine,
        "engine-combustion" => p.kind == K::Engine && !v.is_electric(),
        "exhaust" => p.kind == K::Exhaust,
        "clutch" => p.kind == K::Clutch,
        "gearbox" => p.kind == K::Gearbox,
        "gear" => p.kind == K::Gearbox && manual && v.gearbox.gears.len() > 1,
        "gearbox-manual" => p.kind == K::Gearbox && manual,
        // With a lever and what leads from it to the gearbox.
        "gearbox-shifted" => p.kind == K::Gearbox && v.gearbox.kind != GearboxKind::SingleSpeed,
        "gearbox-automatic" => p.kind == K::Gearbox && matches!(v.gearbox.kind, GearboxKind::Automatic | GearboxKind::Cvt),
        "gearbox-with-converter" => p.kind == K::Gearbox && v.gearbox.kind == GearboxKind::Automatic,
        "gearbox-layshaft" => p.kind == K::Gearbox && manual && !v.gearbox.transaxle,
        "gearbox-separate" => p.kind == K::Gearbox && !v.gearbox.transaxle,
        "gearbox-transaxle" => p.kind == K::Gearbox && v.gearbox.transaxle && v.gearbox.kind != GearboxKind::Cvt,
        "gearbox-transaxle-cvt" => p.kind == K::Gearbox && v.gearbox.transaxle && v.gearbox.kind == GearboxKind::Cvt,
        "gearbox-transaxle-halves" => p.kind == K::Gearbox && v.gearbox.transaxle,
        "transfer" => p.kind == K::Transfer,
        // Where two axles can be locked together: in the transfer case, or in the coupling unit where there is none.
        "windup" => match &v.transfer {
            Some(_) => p.kind == K::Transfer,
            None => p.kind == K::Coupler,
        },
        "coupler" => p.kind == K::Coupler,
        "prop" => p.kind == K::Prop,
        "prop-with-cross" => {
            let cross = |e| v.prop(e).is_some_and(|q| q.joints.iter().any(|j| j.kind() == JointKind::Cross));
            p.kind == K::Prop && p.end.is_some_and(cross)
        }
        "section" => p.kind == K::Section,
        "joint" => p.kind == K::Joint,
        "cross-joint" => matches!(joint_kind(v, p), Some(JointKind::Cross | JointKind::DoubleCross)),
        "flex-joint" => joint_kind(v, p) == Some(JointKind::Flex),
        "cv-joint" | "booted-joint" => matches!(joint_kind(v, p), Some(JointKind::Ball | JointKind::Tripod)),
        "support" => p.kind == K::Support,
        "slip" => p.kind == K::Slip,
        "slip-at-gearbox" => {
            let in_tail = |e| v.prop(e).is_some_and(|q| matches!(q.slip, Some(Slip::Gearbox | Slip::Transfer)));
            p.kind == K::Slip && p.end.is_some_and(in_tail)
        }
        "diff" => p.kind == K::Diff,
        // A pair of bevel gears with a pinion of its own: not the helical pair of a transverse transaxle.
        "diff-hypoid" => p.kind == K::Diff && !(in_gearbox && (v.is_transverse() || v.is_electric())),
        // A housing of its own, with a flange, a pinion seal and an oil of its own.
        "diff-separate" => p.kind == K::Diff && !in_gearbox,
        "diff-limited-slip" => p.kind == K::Diff && limited_slip() == Some(Some(true)),
        "diff-maybe-limited-slip" => p.kind == K::Diff && limited_slip() == Some(None),
        "diff-on-demand" => p.kind == K::Diff && p.end.is_some_and(|e| is_on_demand(v, e)),
        "half" => p.kind == K::Half,
        // Boots stand on jointed half shafts of independent axles.
        "boot-half" => p.kind == K::Half && independent && driven,
        "half-inner" => p.kind == K::HalfInner,
        "boot-inner" => p.kind == K::HalfInner && independent,
        "half-outer" => p.kind == K::HalfOuter,
        "boot-outer" => p.kind == K::HalfOuter && independent,
        "half-outer-steered" => p.kind == K::HalfOuter && steered,
        "half-outer-unsteered" => p.kind == K::HalfOuter && !steered,
        "half-bearing" => p.kind == K::HalfBearing,
        "hub" => p.kind == K::Hub && !axle.is_some_and(|a| is_semi_floating(a, v)),
        "axle-hub" => p.kind == K::Hub && axle.is_some_and(|a| is_semi_floating(a, v)),
        "hub-nut" => p.kind == K::Hub && driven && independent,
        "hub-free" => p.kind == K::Hub && !driven,
        "hub-lock" => p.kind == K::Hub && driven && axle.is_some_and(|a| a.free_hubs),
        "wheel" => p.kind == K::Wheel,
        "brake" => p.kind == K::Brake,
        "strut" => p.kind == K::Strut,
        "mount" => p.kind == K::Mount,
        _ => kind.strip_prefix("mount-").is_some_and(|m| p.id == format!("mount.{m}")),
    }
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::PLACE_KINDS;
    use super::*;
    use crate::vehicle::sample::*;

    fn of(v: &Vehicle, kind: &str) -> Vec<String> {
        v.places().iter().filter(|p| is_kind(v, p, kind)).map(|p| p.id.clone()).collect()
    }

    #[test]
    fn every_kind_of_place_is_somewhere() {
        let mut all = every_layout();
        let mut more = rear_drive_independent();
        more.axles[0].limited_slip = Some(true);
        more.half_shafts[0].intermediate = Some(crate::vehicle::Intermediate { bearing: true });
        more.props[0].joints[1] = crate::vehicle::Joint::Plain(JointKind::Ball);
        let mut free = four_wheel_drive();
        free.axles[1].free_hubs = true;
        all.extend([more, free]);
        for kind in PLACE_KINDS {
            assert!(all.iter().any(|v| !of(v, kind).is_empty()), "{kind}");
        }
    }

    #[test]
    fn only_an_axle_that_can_be_let_go_is_engaged_and_freed() {
        assert_eq!(of(&rear_drive(2), "diff-on-demand"), Vec::<String>::new());
        assert_eq!(of(&four_wheel_drive(), "diff-on-demand"), ["diff.front"]);
        assert_eq!(of(&all_wheel_drive(), "diff-on-demand"), ["diff.rear"]);
    }

    #[test]
    fn a_final_drive_in_the_gearbox_has_no_seal_and_across_the_vehicle_no_pinion_of_its_own() {
        assert_eq!((of(&front_drive(), "diff-separate"), of(&front_drive(), "diff-hypoid")), (vec![], vec![]));
        assert_eq!(of(&rear_transaxle(), "diff-separate"), Vec::<String>::new());
        assert_eq!(of(&rear_transaxle(), "diff-hypoid"), ["diff.rear"]);
        assert_eq!(of(&all_wheel_drive(), "diff-separate"), ["diff.rear"]);
        assert_eq!(of(&rear_drive(1), "diff-hypoid"), ["diff.rear"]);
        assert_eq!(of(&electric(), "diff-hypoid"), Vec::<String>::new());
    }

    #[test]
    fn a_solid_axle_has_no_boots_and_its_ends_are_semi_floating_unless_said() {
        let mut v = rear_drive(1);
        assert_eq!(of(&v, "boot-half"), Vec::<String>::new());
        assert_eq!(of(&v, "axle-hub"), ["hub.rl", "hub.rr"]);
        v.axles[0].floating = Some(Floating::Full);
        assert_eq!(of(&v, "axle-hub"), Vec::<String>::new());
        let v = four_wheel_drive();
        assert_eq!(of(&v, "half-outer-steered"), ["half.fl.outer", "half.fr.outer"]);
        assert_eq!((of(&v, "boot-outer"), of(&v, "axle-hub").len()), (vec![], 2));
    }

    #[test]
    fn a_gear_is_asked_for_only_where_there_are_gears_to_choose() {
        for (v, some) in [(front_drive(), true), (electric(), false), (variable(), false)] {
            assert_eq!(!of(&v, "gear").is_empty(), some, "{}", v.name);
        }
    }
}
