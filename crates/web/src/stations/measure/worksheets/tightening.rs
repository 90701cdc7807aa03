//! Tightening: passes, the wrench with an adapter, the order, a castle nut.

use super::fields::{Field, Group, Typed, trimmed};
use super::pictures::{Hand, clock};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::error::Problem;
use baricord_core::measure::torque::{CastleNut, Pass, TorqueInput, TorqueUnit, torque};
use baricord_core::units::Unit;
use baricord_core::vehicle::PlaceKind;

const PASSES: usize = 4;

pub(super) const SHEET: Sheet = Sheet {
    id: "torque",
    name: "Tightening",
    how: "What the wrench is set to with an adapter, pass by pass, and in which order. Every bolt is started by hand first.",
    caution: "The figure is the maker's: look it up. Never a rattle gun as a torque limit.",
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: |_, p| !matches!(p.kind, PlaceKind::Prop | PlaceKind::Engine),
    groups,
    answer,
};

fn groups(_: &SheetContext) -> Vec<Group> {
    let pass = |i: usize| {
        let fields = vec![
            Field::amount(format!("p{i}-to"), "to", Unit::NewtonMetre),
            Field::amount(format!("p{i}-on"), "or on by", Unit::Degree),
            Field::amount(format!("p{i}-back"), "or back by", Unit::Degree),
        ];
        let group = Group::new(format!("Pass {i}"), fields);
        if i > 2 { group.folded() } else { group }
    };
    let mut all: Vec<Group> = (1..=PASSES).map(pass).collect();
    all.extend([
        Group::new(
            "Fasteners and wrench",
            vec![
                Field::number("n", "fasteners"),
                Field::amount("wrench", "wrench, grip to square", Unit::Millimetre),
                Field::amount("extension", "adapter, square to bolt", Unit::Millimetre),
                Field::amount("angle", "adapter stands at (0 straight on, 90 square)", Unit::Degree).filled(0),
                Field::amount("low", "wrench goes from", Unit::NewtonMetre),
                Field::amount("high", "to", Unit::NewtonMetre),
            ],
        ),
        Group::new(
            "Castle nut",
            vec![
                Field::number("slots", "slots"),
                Field::amount("next", "at its torque, on to the next slot", Unit::Degree),
                Field::tick("taper", "it holds taper bearings with play"),
            ],
        )
        .folded(),
    ]);
    all
}

fn answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let mut passes = vec![];
    for i in 1..=PASSES {
        let amount = |what: &str, unit| f.amount(&format!("p{i}-{what}"), unit);
        let pass = Pass {
            value: amount("to", Unit::NewtonMetre)?,
            turn_deg: amount("on", Unit::Degree)?,
            back_off_deg: amount("back", Unit::Degree)?,
        };
        passes.extend((pass != Pass::default()).then_some(pass));
    }
    let mm = |name: &str| f.amount(name, Unit::Millimetre);
    let fasteners = f.count("n")?.map(|n| n as usize);
    let castle = match f.count("slots")? {
        None => None,
        Some(slots) => Some(CastleNut {
            slots,
            to_next_deg: f.amount("next", Unit::Degree)?.unwrap_or(0.0),
            taper_bearing: f.ticked("taper"),
        }),
    };
    let t = torque(&TorqueInput {
        passes: passes.clone(),
        unit: TorqueUnit::NewtonMetre,
        wrench_mm: mm("wrench")?,
        extension_mm: mm("extension")?,
        angle_deg: f.amount("angle", Unit::Degree)?,
        fasteners,
        wrench_range: f.range("low", "high", Unit::NewtonMetre)?,
        castle,
    })?;
    let row = |(i, (p, set)): (usize, (&Pass, &Option<f64>))| {
        let (wanted, wrench) = match (p.value, p.turn_deg, p.back_off_deg, set) {
            (Some(v), .., Some(s)) => (format!("{} N·m", trimmed(v, 1)), format!("{} N·m", trimmed(*s, 1))),
            (_, Some(d), ..) => (format!("on by {}°", trimmed(d, 0)), "angle gauge".into()),
            (_, _, Some(d), _) => (format!("back by {}°", trimmed(d, 0)), "angle gauge".into()),
            _ => (String::new(), String::new()),
        };
        vec![format!("{}", i + 1), wanted, wrench]
    };
    let rows: Vec<Vec<String>> = passes.iter().zip(&t.settings).enumerate().map(row).collect();
    let n = t.sequence.len();
    let hand = |(turn, bolt): (usize, &usize)| Hand {
        deg: 360.0 * (*bolt as f64 - 1.0) / n as f64,
        reach: 0.82,
        class: "reading",
        words: format!("{}", turn + 1),
        is_arm: false,
    };
    let hands: Vec<Hand> = t.sequence.iter().enumerate().map(hand).collect();
    let order: Vec<String> = t.sequence.iter().map(usize::to_string).collect();
    let first = t.settings.iter().flatten().next_back().map(|s| format!("{} N·m", trimmed(*s, 1)));
    let said: Vec<String> = rows.iter().map(|r| r[1].clone()).collect();
    Ok(SheetAnswer {
        picture: if n > 0 {
            clock("Bolts round the joint, in the order in which they are turned", &hands, "order of turning")
        } else {
            String::new()
        },
        figures: first.map(|s| ("wrench set to, last".to_string(), s)).into_iter().collect(),
        pairs: if n > 0 { vec![("bolts in this order, each pass".into(), order.join(" · "))] } else { vec![] },
        headings: vec!["pass", "wanted", "wrench"],
        rows,
        findings: t.findings,
        words: said.join(", then "),
        ..SheetAnswer::default()
    })
}
