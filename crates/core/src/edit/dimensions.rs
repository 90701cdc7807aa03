//! Rules of sizes that are others from a day on: the vehicle has them from then, and what was read before says so.

use super::act::NewDimensions;
use super::vehicle::VehicleDescription;
use super::{Applied, CaseEdit};
use crate::case::Case;
use crate::case::dimension_change::{ChangedDimension, DimensionChange, DimensionKind};
use crate::error::Problem;
use crate::vehicle::{Corner, End, Tyre, Vehicle};

/// Lengths, tyres and ratios are sizes; a name, a gearbox or a kind of joint is described.
fn only_sizes(d: &VehicleDescription) -> Result<(), Problem> {
    let sizes = VehicleDescription {
        tyre: d.tyre.clone(),
        sections: d.sections.clone(),
        axles: d
            .axles
            .iter()
            .map(|a| super::vehicle::AxleDescription {
                kind: None,
                floating: None,
                limited_slip: None,
                free_hubs: None,
                ..a.clone()
            })
            .collect(),
        ..VehicleDescription::default()
    };
    if *d != sizes {
        let message = "only a length, a tyre or a ratio becomes another by work on it: describe the rest of the vehicle";
        return Err(Problem::new("no-size", message).field("vehicle"));
    }
    Ok(())
}

fn tyre_words(t: &Tyre) -> String {
    match (&t.size, t.rolling_circumference_m, t.revs_per_km) {
        (_, Some(m), _) => format!("{} m round", m.get()),
        (_, _, Some(n)) => format!("{n} turns per km"),
        (Some(size), _, _) => size.clone(),
        _ => "unknown".into(),
    }
}

/// What differs between two vehicles, with words from what to what.
fn differences(was: &Vehicle, is: &Vehicle) -> (Vec<ChangedDimension>, Vec<String>) {
    let (mut changed, mut words) = (vec![], vec![]);
    for (a, b) in was.props.iter().zip(&is.props) {
        for (k, (x, y)) in a.sections.iter().zip(&b.sections).enumerate() {
            let at = format!("prop.{}.s{}", a.end.id(), k + 1);
            let mut size = |what: &str, x: f64, y: f64| {
                if x != y {
                    words.push(format!("{}, {what}: {x} mm to {y} mm", is.place_words(&at)));
                }
                x != y
            };
            let any = [
                size("length", x.length_mm.get(), y.length_mm.get()),
                size("tube", x.od_mm.get(), y.od_mm.get()),
                size("wall", x.wall_mm.get(), y.wall_mm.get()),
            ];
            if any.contains(&true) {
                changed.push(ChangedDimension { of: DimensionKind::Length, at });
            }
        }
    }
    let tyre = |v: &Vehicle, c: Corner| {
        let own = v.axles.iter().find(|a| a.end.corners().contains(&c)).and_then(|a| a.tyre.clone());
        own.unwrap_or_else(|| v.tyre.clone())
    };
    let other: Vec<Corner> = End::BOTH.into_iter().flat_map(|e| e.corners()).filter(|c| tyre(was, *c) != tyre(is, *c)).collect();
    if let Some(c) = other.first() {
        words.push(format!("tyre: {} to {}", tyre_words(&tyre(was, *c)), tyre_words(&tyre(is, *c))));
    }
    changed.extend(DimensionChange::tyres(&other));
    for (a, b) in was.axles.iter().zip(&is.axles) {
        if let (Some(x), Some(y)) = (a.final_ratio(), b.final_ratio())
            && x != y
        {
            let at = format!("diff.{}", a.end.id());
            words.push(format!("{}: {x:.3} to {y:.3} to 1", is.place_words(&at)));
            changed.push(ChangedDimension { of: DimensionKind::Ratio, at });
        }
    }
    (changed, words)
}

/// Sizes become others: the vehicle has them, and the vehicle as it was stays with the change.
pub(super) fn change(case: &mut Case, e: &CaseEdit, d: &NewDimensions) -> Result<Applied, Problem> {
    only_sizes(&d.vehicle)?;
    if let Some(id) = d.repair.as_deref().filter(|id| !case.repairs.iter().any(|r| r.id == **id)) {
        return Err(Problem::new("missing", format!("this case has no repair “{id}”")).field("repair"));
    }
    let before = case.vehicle.clone();
    d.vehicle.write(&mut case.vehicle)?;
    let (mut changed, mut words) = differences(&before, &case.vehicle);
    for at in &d.angles {
        if !case.vehicle.props.iter().any(|p| format!("prop.{}", p.end.id()) == *at) {
            return Err(Problem::new("unknown-place", format!("“{at}” is no shaft with angles")).field("angles"));
        }
        words.push(format!("angles of the {}", case.vehicle.place_words(at)));
        changed.push(ChangedDimension { of: DimensionKind::Angle, at: at.clone() });
    }
    if changed.is_empty() {
        return Err(Problem::new(
            "nothing-changed",
            "nothing here differs from what the vehicle has: change a figure, or tick whose angles changed",
        )
        .field("changed"));
    }
    let (id, words) = (e.entry_id(), words.join("; "));
    case.dimension_changes.push_back(DimensionChange {
        id: id.clone(),
        changed,
        words: words.clone(),
        before: Some(before).filter(|v| *v != case.vehicle),
        repair: d.repair.clone(),
        at_time: e.time(),
        by: e.person(),
    });
    Ok(Applied::made(format!("another size from now on: {words}"), id))
}
