//! The roll-out of the tyres.

use super::fields::{Field, Group, Typed};
use super::pictures::{Bar, bars};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::error::Problem;
use baricord_core::measure::roll_out::{RollOutInput, RolledWheel, roll_out};
use baricord_core::units::Unit;
use baricord_core::vehicle::PlaceKind;

const CORNERS: [(&str, &str); 4] = [("fl", "front left"), ("fr", "front right"), ("rl", "rear left"), ("rr", "rear right")];

pub(super) const SHEET: Sheet = Sheet {
    id: "roll-out",
    name: "Roll-out",
    how: "Chalk on tyre and floor, rolled straight by hand under its own load, three turns if there is room; the way between the marks.",
    caution: "Pushed by hand on the level, somebody at the brake.",
    is_answer_first: false,
    is_of_vehicle: true,
    is_at: |_, p| p.kind == PlaceKind::Wheel,
    groups,
    answer,
};

fn groups(c: &SheetContext) -> Vec<Group> {
    let wheel = |(id, words): &(&str, &str)| {
        let fields = vec![
            Field::number(format!("{id}-turns"), "turns").filled(3),
            Field::amount(format!("{id}-way"), "way", Unit::Millimetre),
            Field {
                unit: Some(Unit::Millimetre),
                ..Field::line(format!("{id}-tread"), "tread round it, equal steps", "6.5 6.4 6.6 6.5")
            },
        ];
        let group = Group::new(*words, fields);
        if c.at.ends_with(id) { group } else { group.folded() }
    };
    let mut all: Vec<Group> = CORNERS.iter().map(wheel).collect();
    all.sort_by_key(|g| g.is_folded);
    all
}

fn answer(c: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let mut wheels = vec![];
    for (id, _) in CORNERS {
        let Some(distance_mm) = f.amount(&format!("{id}-way"), Unit::Millimetre)? else { continue };
        wheels.push(RolledWheel {
            at: format!("wheel.{id}"),
            turns: f.need_number(&format!("{id}-turns"), "the number of turns")?,
            distance_mm,
            tread_mm: f.amounts(&format!("{id}-tread"), Unit::Millimetre)?,
        });
    }
    let r = roll_out(&RollOutInput {
        wheels,
        tyre: Some(c.vehicle().tyre.clone()),
        recorded_scale: c.scale.map(|s| s.0),
        recorded_scale_sigma: c.scale.map(|s| s.1),
    })?;
    let described = r.scale.map(|s| s * r.rolling_circumference_m);
    let bar = |w: &baricord_core::measure::roll_out::WheelRollOut| Bar {
        words: c.vehicle().place_words(&w.at),
        value: w.circumference_m,
        shown: format!("{:.3} ± {:.3} m", w.circumference_m, w.sigma_m),
        limit: described,
        is_over: false,
    };
    let mut pairs = vec![];
    if let Some(s) = r.scale {
        pairs.push(("scale by the roll-out".to_string(), format!("{s:.3}")));
    }
    if let Some((s, sigma)) = c.scale {
        pairs.push(("scale that the run found".into(), format!("{s:.3} ± {sigma:.3}")));
    }
    if r.wheels.len() > 1 {
        pairs.push(("largest over smallest".into(), format!("{:.1} %", r.difference_percent)));
    }
    Ok(SheetAnswer {
        picture: bars(
            "Way in one turn of each wheel, the described one as a tick",
            &r.wheels.iter().map(bar).collect::<Vec<_>>(),
        ),
        figures: vec![("one turn".into(), format!("{:.3} m", r.rolling_circumference_m))],
        pairs,
        words: format!("{:.3} m in one turn", r.rolling_circumference_m),
        findings: r.findings,
        ..SheetAnswer::default()
    })
}
