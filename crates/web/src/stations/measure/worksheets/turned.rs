//! What is turned on what: indexing, and the bow of a section.

use super::fields::{Field, Group, Typed, trimmed};
use super::pictures::{Bar, Hand, bars, clock};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::case::Case;
use baricord_core::error::Problem;
use baricord_core::measure::bow::{BowInput, bow};
use baricord_core::measure::indexing::{IndexInput, RunoutVector, index, part_alone};
use baricord_core::measure::instrument::Reading;
use baricord_core::measure::runout::runout;
use baricord_core::units::{Degrees, Millimetres, Unit};
use baricord_core::vehicle::{Place, PlaceKind, Vehicle};

pub(super) const INDEX: Sheet = Sheet {
    id: "index",
    name: "Best position",
    how: "A shaft on its flange, a rim on its hub, a tyre on its rim: turned to where their runout cancels. Afterwards read again what it became.",
    caution: "Mark both parts before they are parted. A shaft is held before its last bolt.",
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: |_, p| matches!(p.kind, PlaceKind::Section | PlaceKind::Wheel | PlaceKind::Hub),
    groups: index_groups,
    answer: index_answer,
};

pub(super) const BOW: Sheet = Sheet {
    id: "bow",
    name: "Bow",
    how: "How far the middle of a section is off the line of its ends, from its three readings by the same marks.",
    caution: "",
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: |_, p| p.kind == PlaceKind::Section,
    groups: bow_groups,
    answer: bow_answer,
};

/// The last reading of the dial at a point that stands.
fn read(case: &Case, at: &str) -> Option<RunoutVector> {
    let here =
        case.measurements.iter().rev().filter(|m| m.kind == "runout" && m.at.as_deref() == Some(at) && case.stale(m).is_none());
    here.filter_map(|m| match Reading::of(m)? {
        Reading::Runout(input) => runout(&input).ok(),
        _ => None,
    })
    .map(|r| RunoutVector { tir_mm: r.tir_mm, high_spot_deg: r.high_spot_deg })
    .next()
}

fn vector_fields(name: &str, known: Option<RunoutVector>) -> Vec<Field> {
    vec![
        Field::dial(format!("{name}-tir"), "on the dial").known(known.map(|v| v.tir_mm.get()), 3),
        Field::amount(format!("{name}-deg"), "high spot at mark", Unit::Degree).known(known.map(|v| v.high_spot_deg.get()), 0),
    ]
}

fn vector(f: &FormFields, name: &str, what: &str) -> Result<RunoutVector, Problem> {
    let tir = f
        .dial(&format!("{name}-tir"))?
        .ok_or_else(|| Problem::new("missing", format!("the runout of {what} is missing")).field(format!("{name}-tir")))?;
    let deg = f.need_amount(&format!("{name}-deg"), &format!("the high spot of {what}"), Unit::Degree)?;
    Ok(RunoutVector { tir_mm: Millimetres(tir), high_spot_deg: Degrees(deg) })
}

/// What stays and what is turned, at a place: words and measuring points.
fn pair(v: &Vehicle, at: &str) -> (&'static str, String, &'static str, String) {
    match v.place(at) {
        Some(Place { kind: PlaceKind::Section, end, .. }) => {
            let flange = end.map_or(String::new(), |e| format!("diff.{}.flange", e.id()));
            ("the flange", flange, "the shaft as it is mounted", format!("{at}.rear"))
        }
        Some(Place { id, kind: PlaceKind::Wheel, .. }) => ("the rim", id, "the tyre as it is mounted", String::new()),
        Some(Place { id, .. }) => {
            let corner = id.split('.').nth(1).unwrap_or_default();
            ("the hub", format!("hub.{corner}"), "the rim as it is mounted", format!("wheel.{corner}"))
        }
        None => ("what stays", String::new(), "what is turned", String::new()),
    }
}

fn index_groups(c: &SheetContext) -> Vec<Group> {
    let (fixed, fixed_at, turned, turned_at) = pair(c.vehicle(), c.at);
    // A tyre can be turned to any mark; a rim has its studs, a flange its bolts.
    let usual = match () {
        () if turned_at.is_empty() => 12,
        () if turned_at.starts_with("wheel") => 5,
        () => 4,
    };
    vec![
        Group::new(format!("Stays: {fixed}"), vector_fields("fixed", read(c.case, &fixed_at))),
        Group::new(format!("Is turned: {turned}"), vector_fields("turned", read(c.case, &turned_at))),
        Group::new(
            "How it goes on",
            vec![
                Field::number("positions", "positions it can take").filled(usual),
                Field::choice(
                    "alone",
                    "the second reading is",
                    &[("mounted", "as mounted: the first is in it"), ("alone", "of the part alone")],
                ),
            ],
        ),
    ]
}

fn index_answer(c: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let (fixed_words, _, turned_words, _) = pair(c.vehicle(), c.at);
    let (fixed, mounted) = (vector(f, "fixed", fixed_words)?, vector(f, "turned", turned_words)?);
    let turned = if f.text("alone") == Some("alone") { mounted } else { part_alone(mounted, fixed) };
    let positions = f.count("positions")?.unwrap_or(4);
    let i = index(&IndexInput { vectors: vec![fixed, turned], positions })?;
    let now = i.all.first().map_or(0.0, |p| p.tir_mm.get());
    let best = i.best;
    let words = match best.position {
        0 => "it stands best as it is".to_string(),
        n => format!("turn it on by {n} of {positions} positions, {:.0}°", best.turn_deg.get()),
    };
    let most = i.all.iter().map(|p| p.tir_mm.get()).fold(1e-9, f64::max);
    let hand = |p: &baricord_core::measure::indexing::Position| Hand {
        deg: p.turn_deg.get(),
        reach: 1.0,
        class: if p.position == best.position { "spot-best" } else { "reading" },
        words: if positions <= 12 { format!("{:.2}", p.tir_mm.get()) } else { String::new() },
        is_arm: false,
    };
    let hands: Vec<Hand> = if positions <= 36 { i.all.iter().map(hand).collect() } else { vec![hand(&best)] };
    Ok(SheetAnswer {
        picture: clock("Positions round the turn with the runout that is expected in each", &hands, "mm expected"),
        figures: vec![("expected on the dial".into(), format!("{:.2} mm", best.tir_mm.get()))],
        pairs: vec![
            ("as it is".into(), format!("{now:.2} mm")),
            ("worst position".into(), format!("{most:.2} mm")),
            ("the part alone".into(), format!("{:.2} mm at {:.0}°", turned.tir_mm.get(), turned.high_spot_deg.get())),
        ],
        words: format!("{words}; {now:.2} mm now, {:.2} mm expected", best.tir_mm.get()),
        findings: vec![baricord_core::error::Finding::new("turn", baricord_core::error::Level::Warn, words)],
        ..SheetAnswer::default()
    })
}

fn bow_groups(c: &SheetContext) -> Vec<Group> {
    let of = |end: &str| vector_fields(end, read(c.case, &format!("{}.{end}", c.at)));
    vec![Group::new("Front end", of("front")), Group::new("Middle", of("centre")), Group::new("Rear end", of("rear"))]
}

fn bow_answer(c: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let (front, centre, rear) =
        (vector(f, "front", "the front end")?, vector(f, "centre", "the middle")?, vector(f, "rear", "the rear end")?);
    let limit = baricord_core::measure::runout::limit_at(&c.vehicle().limits, &format!("{}.centre", c.at)).map(|l| l.get());
    let b = bow(&BowInput { front, centre, rear, centre_at: None, limit_mm: limit })?;
    let shown = |words: &str, v: RunoutVector| Bar {
        words: words.into(),
        value: v.tir_mm.get(),
        shown: format!("{:.2} mm at {:.0}°", v.tir_mm.get(), v.high_spot_deg.get()),
        limit: None,
        is_over: false,
    };
    let tir = b.tir_mm.get();
    let alone = Bar {
        limit,
        is_over: limit.is_some_and(|l| tir > l),
        ..shown("bow", RunoutVector { tir_mm: b.tir_mm, high_spot_deg: b.high_spot_deg })
    };
    Ok(SheetAnswer {
        picture: bars(
            "Runout at both ends, in the middle, and the bow alone",
            &[shown("front end", front), shown("middle", centre), shown("rear end", rear), alone],
        ),
        figures: vec![("bow, on the dial".into(), format!("{tir:.2} mm"))],
        pairs: vec![("towards mark".into(), format!("{}°", trimmed(b.high_spot_deg.get(), 0)))],
        words: format!("{tir:.2} mm towards {:.0}°", b.high_spot_deg.get()),
        findings: b.findings,
        ..SheetAnswer::default()
    })
}
