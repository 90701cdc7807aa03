//! Inside the final drive and the gearbox: backlash and its shims, preload, the painted pattern, clutch packs, blocking rings.

use super::fields::{Field, Group, Typed, trimmed};
use super::pictures::{Bar, Hand, PlateDrawn, band, bars, clock, stack, tooth};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::error::Problem;
use baricord_core::measure::backlash::{BacklashInput, PackMm, PackSide, ShimMove, USUAL_RANGE_MM, backlash};
use baricord_core::measure::clutch_pack::{ClutchPackInput, Plate, PlateKind, clutch_pack};
use baricord_core::measure::contact_pattern::{Along, ContactPatternInput, Height, Moved, Pattern, Way, contact_pattern};
use baricord_core::measure::preload::{PreloadAction, PreloadInput, Spacer, preload};
use baricord_core::measure::ring_clearance::{RingClearanceInput, ring_clearance};
use baricord_core::typed_input::Length;
use baricord_core::units::Unit;
use baricord_core::vehicle::{GearboxKind, Place, PlaceKind, Vehicle};

const OPEN_AXLE: &str =
    "A heavy unit on the bench stands secure. Gear oil and cleaner: gloves, catch tray. The maker's figures come before these.";

fn final_drive(v: &Vehicle, p: &Place) -> bool {
    p.kind == PlaceKind::Diff && v.axles.iter().any(|a| Some(a.end) == p.end && a.driven)
}

pub(super) const BACKLASH: Sheet = Sheet {
    id: "backlash",
    name: "Backlash and shims",
    how: "Read at four places or more round the ring. Then which shim goes from which side, and which packs can be made of what is on hand.",
    caution: OPEN_AXLE,
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: final_drive,
    groups: backlash_groups,
    answer: backlash_answer,
};

pub(super) const PRELOAD: Sheet = Sheet {
    id: "preload",
    name: "Preload of the pinion",
    how: "Turning torque before it was opened, plus the drag of the new seal. Mark nut, pinion and flange before the nut is loosened; once opened without a reading it is lost.",
    caution: OPEN_AXLE,
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: final_drive,
    groups: preload_groups,
    answer: preload_answer,
};

pub(super) const PATTERN: Sheet = Sheet {
    id: "contact-pattern",
    name: "Contact pattern",
    how: "Paint a few teeth of the ring, turn it both ways under drag, and say where the paint is worn off. Depth first, then backlash again.",
    caution: OPEN_AXLE,
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: final_drive,
    groups: pattern_groups,
    answer: pattern_answer,
};

pub(super) const CLUTCH_PACK: Sheet = Sheet {
    id: "clutch-pack",
    name: "Clutch packs",
    how: "Plates from the side gear outwards: f friction, s steel, w spring, x shim, each with its thickness: s1.8 f2.0 s1.8.",
    caution: "Springs of the packs fly: eye protection.",
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: |v, p| final_drive(v, p) && v.axles.iter().any(|a| Some(a.end) == p.end && a.limited_slip != Some(false)),
    groups: pack_groups,
    answer: pack_answer,
};

pub(super) const RING_CLEARANCE: Sheet = Sheet {
    id: "ring-clearance",
    name: "Blocking ring",
    how: "The ring pressed on its cone by hand: the gap at three places round it with a feeler gauge.",
    caution: "",
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: |v, p| p.kind == PlaceKind::Gearbox && v.gearbox.kind == GearboxKind::Manual,
    groups: ring_groups,
    answer: ring_answer,
};

fn range_of(v: &Vehicle) -> [f64; 2] {
    v.limits.backlash_mm.unwrap_or(USUAL_RANGE_MM)
}

fn backlash_groups(c: &SheetContext) -> Vec<Group> {
    let [low, high] = range_of(c.vehicle());
    let mut moves = vec![];
    for i in 1..=2 {
        moves.push(Field::dial(format!("m{i}-shim"), format!("move {i}: shim, + towards the pinion")));
        moves.push(Field::dial(format!("m{i}-before"), "mean before"));
        moves.push(Field::dial(format!("m{i}-after"), "mean after"));
    }
    vec![
        Group::new(
            "Round the ring",
            vec![
                Field {
                    dial: true,
                    unit: Some(Unit::Millimetre),
                    ..Field::line("readings", "backlash at each place", "0.15 0.17 0.18 0.16")
                },
                Field::dial("low", "wanted from").filled(trimmed(low, 2)),
                Field::dial("high", "to").filled(trimmed(high, 2)),
            ],
        ),
        Group::new(
            "Shims",
            vec![
                Field::dial("left", "pack at the left now"),
                Field::dial("right", "pack at the right now"),
                Field::choice(
                    "toward",
                    "ring comes nearer the pinion with a thicker pack at the",
                    &[("left", "left"), ("right", "right")],
                ),
                Field::dial("preload", "added for preload").filled(0),
                Field {
                    dial: true,
                    unit: Some(Unit::Millimetre),
                    ..Field::line("shims", "shims on hand, those in it too", "1.20 1.25 1.30 1.35")
                },
            ],
        ),
        Group::new("Moves made on this axle", moves).folded(),
    ]
}

fn backlash_answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let mm = |name: &str| f.dial(name);
    let readings = f.dials("readings")?;
    let mut moves = vec![];
    for i in 1..=2 {
        if let (Some(shim_mm), Some(before_mm), Some(after_mm)) =
            (mm(&format!("m{i}-shim"))?, mm(&format!("m{i}-before"))?, mm(&format!("m{i}-after"))?)
        {
            moves.push(ShimMove { shim_mm, before_mm, after_mm });
        }
    }
    let shims = f.dials("shims")?;
    let range = f.dial_range("low", "high")?;
    let b = backlash(&BacklashInput {
        readings_mm: readings.clone(),
        range_mm: range,
        shims: (!shims.is_empty()).then_some(shims),
        moves,
        pack_mm: mm("left")?.zip(mm("right")?).map(|(left, right)| PackMm { left, right }),
        toward_pinion: Some(if f.text("toward") == Some("right") { PackSide::Right } else { PackSide::Left }),
        preload_mm: mm("preload")?.unwrap_or(0.0),
    })?;
    let most = readings.iter().fold(1e-9, |m: f64, r| m.max(*r));
    let hand = |(i, r): (usize, &f64)| Hand {
        deg: 360.0 * i as f64 / readings.len() as f64,
        reach: r / most,
        class: "reading",
        words: trimmed(*r, 3),
        is_arm: false,
    };
    let hands: Vec<Hand> = readings.iter().enumerate().map(hand).collect();
    let [low, high] = range.unwrap_or(USUAL_RANGE_MM);
    let way = match b.move_mm {
        m if m.abs() < 0.005 => "none".to_string(),
        m if m > 0.0 => format!("{m:.2} mm to the side that brings the ring nearer"),
        m => format!("{:.2} mm to the side that takes the ring away", -m),
    };
    let side = |x: &[f64]| {
        if x.is_empty() { "none".into() } else { x.iter().map(|s| format!("{s:.2}")).collect::<Vec<_>>().join(" + ") }
    };
    let rows =
        b.packs.iter().flatten().map(|p| vec![side(&p.left), side(&p.right), format!("{:.2} mm", p.backlash_mm)]).collect();
    Ok(SheetAnswer {
        picture: clock("Backlash round the ring", &hands, ""),
        figures: vec![("mean".into(), format!("{:.2} mm", b.mean_mm)), ("to be moved".into(), way)],
        pairs: vec![
            ("spread round the ring".into(), format!("{:.2} mm", b.spread_mm)),
            ("backlash for each mm of shim".into(), trimmed(b.ratio, 2)),
        ],
        headings: if b.packs.is_some() { vec!["left", "right", "expected"] } else { vec![] },
        rows,
        words: format!("mean {:.2} mm, spread {:.2} mm, wanted {low:.2} to {high:.2} mm", b.mean_mm, b.spread_mm),
        beside: None,
        outcome: Some(("backlash", b.outcome.into())),
        findings: b.findings,
    })
}

fn preload_groups(_: &SheetContext) -> Vec<Group> {
    let nm = |name: &str, label: &str| Field::amount(name, label, Unit::NewtonMetre);
    vec![
        Group::new(
            "What it shall be",
            vec![
                nm("before", "turned with, before it was opened"),
                nm("seal", "drag of the new seal").filled(0),
                Field::tick("new-bearings", "new bearings"),
                nm("low", "maker's range, from"),
                nm("high", "to"),
            ],
        ),
        Group::new(
            "As it is",
            vec![
                nm("now", "turns with now"),
                Field::choice("spacer", "held apart by", &[("crush", "a crush sleeve"), ("solid", "a solid spacer with shims")]),
                Field::amount("mark", "nut past its mark by (− before it)", Unit::Degree),
            ],
        ),
    ]
}

fn preload_answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let nm = |name: &str| f.amount(name, Unit::NewtonMetre);
    let now = nm("now")?;
    let p = preload(&PreloadInput {
        before_nm: nm("before")?,
        seal_nm: nm("seal")?.unwrap_or(0.0),
        new_bearings: f.ticked("new-bearings"),
        range_nm: f.range("low", "high", Unit::NewtonMetre)?,
        now_nm: now,
        spacer: if f.text("spacer") == Some("solid") { Spacer::Solid } else { Spacer::Crush },
        nut_past_mark_deg: f.amount("mark", Unit::Degree)?,
    })?;
    let [low, high] = p.wanted_nm;
    let action = p.action.map_or("turn it and read", |a| match a {
        PreloadAction::Tighten => "tighten a little, read again",
        PreloadAction::Leave => "leave it",
        PreloadAction::NewSleeve => "new sleeve, start again",
        PreloadAction::MoreShim => "add shim at the spacer",
    });
    Ok(SheetAnswer {
        picture: band(
            "Turning torque against what is wanted",
            now.map(|n| (n, format!("{n:.2} N·m now"))),
            p.wanted_nm,
            &format!("{low:.2} to {high:.2} N·m wanted"),
        ),
        figures: vec![("wanted".into(), format!("{low:.2} to {high:.2} N·m")), ("next".into(), action.into())],
        words: format!(
            "wanted {low:.2} to {high:.2} N·m{}",
            now.map_or(String::new(), |n| format!(", {n:.2} N·m now: {action}"))
        ),
        findings: p.findings,
        ..SheetAnswer::default()
    })
}

const ALONG: [(&str, &str); 4] = [
    ("", "not looked at yet"),
    ("centre", "in the middle"),
    ("toe", "at the toe, inner end"),
    ("heel", "at the heel, outer end"),
];
const HEIGHT: [(&str, &str); 4] =
    [("", "not looked at yet"), ("centre", "half way up"), ("face", "at the tips"), ("flank", "at the roots")];

fn pattern_groups(c: &SheetContext) -> Vec<Group> {
    let [low, high] = range_of(c.vehicle());
    let side = |name: &str, words: &str| {
        let fields = vec![
            Field::choice(format!("{name}-along"), "along the tooth", &ALONG),
            Field::choice(format!("{name}-height"), "up the tooth", &HEIGHT),
        ];
        Group::new(words, fields)
    };
    vec![
        side("drive", "Drive side, convex"),
        side("coast", "Coast side, concave"),
        Group::new(
            "Backlash as it is",
            vec![
                Field::dial("backlash", "mean"),
                Field::dial("low", "wanted from").filled(trimmed(low, 2)),
                Field::dial("high", "to").filled(trimmed(high, 2)),
            ],
        ),
    ]
}

/// The pattern of a side; none where it was not looked at. Both what it is along and up the tooth are said, or neither.
fn pattern_of(f: &FormFields, side: &str) -> Result<Option<Pattern>, Problem> {
    let along = match f.text(&format!("{side}-along")) {
        Some("toe") => Some(Along::Toe),
        Some("heel") => Some(Along::Heel),
        Some("centre") => Some(Along::Centre),
        _ => None,
    };
    let height = match f.text(&format!("{side}-height")) {
        Some("face") => Some(Height::Face),
        Some("flank") => Some(Height::Flank),
        Some("centre") => Some(Height::Centre),
        _ => None,
    };
    match (along, height) {
        (Some(along), Some(height)) => Ok(Some(Pattern { along, height })),
        (None, None) => Ok(None),
        (None, _) => Err(Problem::new("missing", format!("where along the tooth, {side} side?")).field(format!("{side}-along"))),
        (_, None) => Err(Problem::new("missing", format!("where up the tooth, {side} side?")).field(format!("{side}-height"))),
    }
}

fn pattern_answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let (drive, coast) = (pattern_of(f, "drive")?, pattern_of(f, "coast")?);
    let drive =
        drive.ok_or_else(|| Problem::new("missing", "where does the paint lie on the drive side?").field("drive-along"))?;
    let p = contact_pattern(&ContactPatternInput {
        drive,
        coast,
        backlash_mm: f.dial("backlash")?,
        range_mm: f.dial_range("low", "high")?,
    })?;
    let drawn = |p: Pattern| {
        let along = match p.along {
            Along::Toe => -1,
            Along::Centre => 0,
            Along::Heel => 1,
        };
        let up = match p.height {
            Height::Flank => -1,
            Height::Centre => 0,
            Height::Face => 1,
        };
        (along, up)
    };
    let sides = [("drive side", Some(drive)), ("coast side", coast)];
    let shown: Vec<(&str, i8, i8)> = sides.into_iter().filter_map(|(name, p)| p.map(drawn).map(|(a, u)| (name, a, u))).collect();
    let what = match (p.moved, p.way) {
        (Moved::Pinion, Way::Nearer) => "pinion nearer the ring: thicker shim behind its head",
        (Moved::Pinion, _) => "pinion away from the ring: thinner shim behind its head",
        (Moved::Ring, Way::Nearer) => "ring nearer the pinion: backlash gets less",
        (Moved::Ring, _) => "ring away from the pinion: backlash gets more",
        (Moved::Nothing, _) => "nothing: it is good",
    };
    Ok(SheetAnswer {
        picture: tooth("The painted pattern on drive and coast side", &shown),
        figures: vec![("move".into(), what.into())],
        pairs: vec![("because it lies".into(), p.why.clone())],
        words: format!("{}; {what}", p.why),
        outcome: Some(("contact-pattern", p.outcome.into())),
        findings: p.findings,
        ..SheetAnswer::default()
    })
}

fn kind_of(c: char) -> Option<PlateKind> {
    match c {
        'f' => Some(PlateKind::Friction),
        's' => Some(PlateKind::Steel),
        'w' => Some(PlateKind::Spring),
        'x' => Some(PlateKind::Shim),
        _ => None,
    }
}

fn letter(kind: PlateKind) -> char {
    match kind {
        PlateKind::Friction => 'f',
        PlateKind::Steel => 's',
        PlateKind::Spring => 'w',
        PlateKind::Shim => 'x',
    }
}

fn plates(f: &FormFields, name: &str) -> Result<Vec<Plate>, Problem> {
    let bad = |t: &str| {
        Problem::new("bad-value", format!("“{t}” is no plate: a letter f, s, w or x and its thickness, s1.8")).field(name)
    };
    let parts = f.text(name).unwrap_or_default().split_whitespace();
    parts
        .map(|t| {
            let mut letters = t.chars();
            let kind = letters.next().map(|c| c.to_ascii_lowercase()).and_then(kind_of).ok_or_else(|| bad(t))?;
            let rest = letters.as_str();
            if rest.is_empty() {
                return Err(bad(t));
            }
            Ok(Plate { kind, mm: f.typed_length(name, rest, Length::Dial)?.get() })
        })
        .collect()
}

fn pack_groups(_: &SheetContext) -> Vec<Group> {
    vec![
        Group::new(
            "The packs, from the side gear outwards",
            vec![Field::line("left", "left", "s1.8 f2.0 s1.8 f2.0"), Field::line("right", "right", "s1.8 f2.0 s1.8 f2.0")],
        ),
        Group::new(
            "What the maker says",
            vec![
                Field::line("order", "order, by letters", "s f s f"),
                Field::dial("low", "thickness of a pack, from"),
                Field::dial("high", "to"),
                Field::dial("least", "friction plate at least"),
                Field { dial: true, unit: Some(Unit::Millimetre), ..Field::line("shims", "shims on hand", "0.2 0.3") },
            ],
        ),
    ]
}

fn pack_answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let bad = |c: char| Problem::new("bad-value", format!("“{c}” is no plate: f, s, w or x")).field("order");
    let order = f.text("order").map(|t| {
        let letters = t.chars().filter(|c| c.is_alphabetic());
        letters.map(|c| kind_of(c.to_ascii_lowercase()).ok_or_else(|| bad(c))).collect::<Result<Vec<_>, _>>()
    });
    let (left, right) = (plates(f, "left")?, plates(f, "right")?);
    let p = clutch_pack(&ClutchPackInput {
        order: order.transpose()?,
        left: left.clone(),
        right: right.clone(),
        pack_mm: f.dial_range("low", "high")?,
        least_friction_mm: f.dial("least")?,
        shims_mm: f.dials("shims")?,
    })?;
    let drawn = |plates: &[Plate], sum: &baricord_core::measure::clutch_pack::PackSum| {
        let wrong = |n: usize| sum.thin.contains(&n) || sum.first_wrong == Some(n);
        plates
            .iter()
            .enumerate()
            .map(|(i, x)| PlateDrawn { mm: x.mm, letter: letter(x.kind), is_wrong: wrong(i + 1) })
            .collect::<Vec<_>>()
    };
    let words = format!("left {:.2} mm, right {:.2} mm", p.left.thickness_mm, p.right.thickness_mm);
    Ok(SheetAnswer {
        picture: stack("Plates of both packs", &[("left", drawn(&left, &p.left)), ("right", drawn(&right, &p.right))]),
        figures: vec![
            ("left".into(), format!("{:.2} mm", p.left.thickness_mm)),
            ("right".into(), format!("{:.2} mm", p.right.thickness_mm)),
        ],
        pairs: vec![("difference".into(), format!("{:.2} mm", p.difference_mm.abs()))],
        findings: p.findings,
        words,
        ..SheetAnswer::default()
    })
}

fn ring_groups(c: &SheetContext) -> Vec<Group> {
    let gears: Vec<(&str, &str)> = c.vehicle().gearbox.gears.iter().map(|g| (g.name.as_str(), g.name.as_str())).collect();
    vec![Group::new(
        "The gap",
        vec![
            Field::choice("gear", "of gear", &gears),
            Field {
                dial: true,
                unit: Some(Unit::Millimetre),
                ..Field::line("readings", "at three places round it", "0.9 0.95 0.9")
            },
            Field::dial("limit", "least that is allowed"),
            Field::dial("new", "of a new ring"),
        ],
    )]
}

fn ring_answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let limit = f
        .dial("limit")?
        .ok_or_else(|| Problem::new("missing", "the least clearance that is allowed is missing").field("limit"))?;
    let r = ring_clearance(&RingClearanceInput { readings_mm: f.dials("readings")?, limit_mm: limit, new_mm: f.dial("new")? })?;
    let mut pairs = vec![("mean".to_string(), format!("{:.2} mm", r.mean_mm))];
    if let Some(s) = r.left_share {
        pairs.push(("wear left".into(), format!("{:.0} %", 100.0 * s)));
    }
    let bar = Bar {
        words: "smallest gap".into(),
        value: r.smallest_mm,
        shown: format!("{:.2} mm, limit {limit:.2} mm", r.smallest_mm),
        limit: Some(limit),
        is_over: r.smallest_mm < limit,
    };
    Ok(SheetAnswer {
        picture: bars("Smallest gap against its limit", &[bar]),
        figures: vec![("smallest".into(), format!("{:.2} mm", r.smallest_mm))],
        pairs,
        words: format!("smallest gap {:.2} mm, limit {limit:.2} mm", r.smallest_mm),
        outcome: Some(("ring-clearance", r.outcome.into())),
        findings: r.findings,
        ..SheetAnswer::default()
    })
}
