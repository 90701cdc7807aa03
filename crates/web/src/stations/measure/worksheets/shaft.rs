//! Length and slip of a shaft, and its bending speed after a change.

use super::fields::{Field, Group, Typed, trimmed};
use super::pictures::{Bar, bars, curve};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::error::Problem;
use baricord_core::measure::bending_speed::{Change, bending_speed_of};
use baricord_core::measure::shaft_length::{ShaftLengthInput, Travel, shaft_length};
use baricord_core::units::{KilometresPerHour, Millimetres, Unit};
use baricord_core::vehicle::{PlaceKind, Tyre};

pub(super) const LENGTH: Sheet = Sheet {
    id: "shaft-length",
    name: "Length and slip",
    how: "At ride height, the axle loaded: joint to joint with the slip pushed fully home, then drawn out by a reserve. The travel of the axle asks for slip on top.",
    caution: "Under the vehicle: stands under the axle so that it carries its load; a jack holds nothing.",
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: |_, p| p.kind == PlaceKind::Slip,
    groups: length_groups,
    answer: length_answer,
};

pub(super) const BENDING_SPEED: Sheet = Sheet {
    id: "bending-speed",
    name: "Bending speed after a change",
    how: "How near each section comes to its bending speed at the highest road speed, as it is and with another final drive or tyre.",
    caution: "A shaft that runs at its bending speed can break loose: never tried on the road.",
    is_answer_first: true,
    is_of_vehicle: true,
    is_at: |_, p| p.kind == PlaceKind::Section,
    groups: bending_groups,
    answer: bending_answer,
};

fn length_groups(_: &SheetContext) -> Vec<Group> {
    let mm = |name: &str, label: &str| Field::amount(name, label, Unit::Millimetre);
    vec![
        Group::new(
            "Length",
            vec![
                mm("bottomed", "joint to joint, slip fully home"),
                mm("reserve", "drawn out by").filled(22),
                mm("cap", "cap of the joint across, for the other school"),
            ],
        ),
        Group::new("Splines", vec![mm("spline", "across the splines"), mm("engaged", "overlap at ride height")]),
        Group::new(
            "Travel",
            vec![
                mm("x", "rear joint behind the front one by"),
                mm("z", "and below it by"),
                mm("bump", "up to full bump"),
                mm("droop", "down to full droop"),
            ],
        ),
    ]
}

fn length_answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let mm = |name: &str| f.amount(name, Unit::Millimetre).map(|x| x.map(Millimetres));
    let travel = match mm("x")? {
        None => None,
        Some(x_mm) => Some(Travel {
            x_mm,
            z_mm: mm("z")?.unwrap_or_default(),
            bump_mm: mm("bump")?.unwrap_or_default(),
            droop_mm: mm("droop")?.unwrap_or_default(),
        }),
    };
    let reserve = mm("reserve")?;
    let s = shaft_length(&ShaftLengthInput {
        bottomed_mm: Millimetres(f.need_amount("bottomed", "the length with the slip fully home", Unit::Millimetre)?),
        reserve_mm: reserve,
        cap_mm: mm("cap")?,
        spline_diameter_mm: mm("spline")?,
        engaged_mm: mm("engaged")?,
        travel,
    })?;
    let points: Vec<(f64, f64)> = s.curve.iter().map(|p| (p.lower_mm.get(), p.slip_mm.get())).collect();
    let mut pairs = vec![];
    if let Some(l) = s.length_by_cap_mm {
        pairs.push(("by the school of the cap".to_string(), format!("{:.0} mm", l.get())));
    }
    if let Some(ok) = s.engagement_ok {
        pairs.push(("overlap of the splines".into(), if ok { "enough".into() } else { "too little".into() }));
    }
    if let Some([bump, droop]) = s.slip_needed_mm {
        let way = |x: Millimetres| match x.get() {
            v if v >= 0.0 => format!("{v:.1} mm longer"),
            v => format!("{:.1} mm shorter", -v),
        };
        pairs.push(("at full bump".into(), way(bump)));
        pairs.push(("at full droop".into(), way(droop)));
    }
    let length = format!("{:.0} mm", s.length_mm.get());
    Ok(SheetAnswer {
        picture: curve(
            "Slip that the travel asks for",
            &points,
            "axle lower, mm; higher to the left",
            "slip, mm longer; the line is the reserve",
            Some(reserve.map_or(22.0, Millimetres::get)),
        ),
        figures: vec![("length, joint to joint".into(), length.clone())],
        pairs,
        findings: s.findings,
        words: format!("{length} joint to joint"),
        ..SheetAnswer::default()
    })
}

fn bending_groups(c: &SheetContext) -> Vec<Group> {
    let v = c.vehicle();
    let ratio = |a: &baricord_core::vehicle::Axle| {
        Field::number(format!("ratio-{}", a.end.id()), format!("final drive, {}", a.end.id())).known(a.final_ratio(), 3)
    };
    let size = v.tyre.size.clone().unwrap_or_default();
    vec![
        Group::new(
            "At",
            vec![
                Field::amount("kmh", "highest road speed", Unit::KilometrePerHour)
                    .filled(trimmed(v.limits.max_kmh.unwrap_or(130.0), 0)),
            ],
        ),
        Group::new(
            "With",
            v.axles
                .iter()
                .filter(|a| a.driven)
                .map(ratio)
                .chain([Field::line("tyre", "tyre", "215/70R15").filled(size)])
                .collect(),
        ),
    ]
}

fn bending_answer(c: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let v = c.vehicle();
    let mut change = Change::default();
    for a in v.axles.iter().filter(|a| a.driven) {
        if let Some(r) = f.number(&format!("ratio-{}", a.end.id()))? {
            // The rounded figure of the form is no change.
            if a.final_ratio().is_none_or(|own| (own - r).abs() > 5e-4) {
                change.ratio.insert(a.end.id().into(), r);
            }
        }
    }
    let size = f.text("tyre").map(str::to_string);
    if size != v.tyre.size && size.is_some() {
        change.tyre = Some(Tyre { size, ..Tyre::default() });
    }
    change.speed_kmh = f.amount("kmh", Unit::KilometrePerHour)?.map(KilometresPerHour);
    let b = bending_speed_of(v, &change)?;
    let mut rows = vec![];
    let mut all = vec![];
    for s in &b.sections {
        let (rpm, limit) = (s.rpm_after.get(), s.limit_rpm.get());
        all.push(Bar {
            words: v.place_words(&s.at),
            value: rpm,
            shown: format!("{rpm:.0} rpm, limit {limit:.0}"),
            limit: Some(limit),
            is_over: rpm > limit,
        });
        rows.push(vec![
            v.place_words(&s.at),
            format!("{:.0}", s.rpm.get()),
            format!("{rpm:.0}"),
            format!("{limit:.0}"),
            format!("{:.0} km/h", s.limit_kmh_after.get()),
        ]);
    }
    let lowest = b.sections.iter().map(|s| s.limit_kmh_after.get()).fold(f64::MAX, f64::min);
    Ok(SheetAnswer {
        picture: bars("Speed of each section against its limit", &all),
        figures: vec![(
            "limit reached at".into(),
            if lowest < f64::MAX { format!("{lowest:.0} km/h") } else { "not known".into() },
        )],
        headings: vec!["section", "rpm now", "rpm then", "limit, rpm", "reached at"],
        rows,
        findings: b.findings,
        words: if change.is_none() { String::new() } else { format!("with the change the limit is reached at {lowest:.0} km/h") },
        ..SheetAnswer::default()
    })
}
