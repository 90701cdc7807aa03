//! What holds the vehicle: which wheels may leave the ground, where chocks and stands go.

use super::fields::{Field, Group, Typed};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::drawing::esc;
use crate::stations::form::FormFields;
use baricord_core::error::Problem;
use baricord_core::lift::holding::{Holding, HoldingChoice, Selector, of};
use baricord_core::vehicle::{Corner, End, GearboxKind, PlaceKind, Vehicle};
use std::fmt::Write;

const CORNERS: [(Corner, &str); 4] =
    [(Corner::Fl, "front left"), (Corner::Fr, "front right"), (Corner::Rl, "rear left"), (Corner::Rr, "rear right")];

pub(super) const SHEET: Sheet = Sheet {
    id: "holding",
    name: "What holds it",
    how: "Say which wheels are up, what is off and how the gearbox stands: where chocks and stands go, and what no longer holds the vehicle.",
    caution: "Chocks and stands come before anything is loosened. Jacks hold nothing: stands at the maker's points. Local rules and the lift's maker come first.",
    is_answer_first: false,
    is_of_vehicle: true,
    is_at: |_, p| matches!(p.kind, PlaceKind::Gearbox | PlaceKind::Wheel | PlaceKind::Diff | PlaceKind::Prop | PlaceKind::Half),
    groups,
    answer,
};

/// What can be off that the gearbox holds through.
fn can_be_off(v: &Vehicle) -> Vec<(String, String)> {
    let of_drive = |k: PlaceKind| {
        matches!(
            k,
            PlaceKind::Prop | PlaceKind::Half | PlaceKind::Diff | PlaceKind::Gearbox | PlaceKind::Transfer | PlaceKind::Clutch
        )
    };
    v.places().into_iter().filter(|p| of_drive(p.kind)).map(|p| (p.id, p.words)).collect()
}

fn groups(c: &SheetContext) -> Vec<Group> {
    let v = c.vehicle();
    let is_up = c.case.state.as_ref().is_some_and(baricord_core::case::State::is_up);
    let off: &[String] = c.case.state.as_ref().map_or(&[], |s| &s.off);
    let wheel = |(corner, words): &(Corner, &str)| {
        Field::tick(format!("up-{}", corner.id()), *words).filled(if is_up { "yes" } else { "" })
    };
    let part = |(id, words): (String, String)| {
        let value = if off.contains(&id) { "yes" } else { "" };
        Field::tick(format!("off-{id}"), words).filled(value)
    };
    let usual = if v.gearbox.kind == GearboxKind::Manual { "gear" } else { "park" };
    let mut set = vec![
        Field::choice("gearbox", "gearbox", &[("gear", "in gear"), ("park", "in park"), ("neutral", "in neutral")]).filled(usual),
        Field::choice("brake", "parking brake", &[("on", "on"), ("off", "off")]),
        Field::choice("brake-end", "it acts on the", &[("rear", "rear wheels"), ("front", "front wheels")]),
        Field::tick("running", "the engine turns the wheels"),
    ];
    if v.transfer.is_some() {
        set.push(Field::tick("transfer", "transfer case in neutral"));
        set.push(Field::tick("front", "front drive engaged"));
    }
    vec![
        Group::new("Wheels off the ground", CORNERS.iter().map(wheel).collect()),
        Group::new("How it is set", set),
        Group::new("Off", can_be_off(v).into_iter().map(part).collect()).folded(),
    ]
}

/// The vehicle from above: wheels that stand, wheels in the air on stands, chocks.
fn from_above(h: &Holding) -> String {
    let mut o = String::from(
        r#"<svg class="bars from-above" viewBox="0 0 420 220" role="img" aria-label="The vehicle from above: wheels, chocks, stands. Front is to the left">"#,
    );
    o += r#"<rect class="body" x="80" y="60" width="260" height="100" rx="14"/><line class="axis" x1="60" y1="110" x2="360" y2="110"/><text class="note" x="14" y="114">front</text>"#;
    let at: [(&str, f64, f64); 4] =
        [("wheel.fl", 110.0, 186.0), ("wheel.fr", 110.0, 34.0), ("wheel.rl", 310.0, 186.0), ("wheel.rr", 310.0, 34.0)];
    for (id, x, y) in at {
        let Some(w) = h.wheels.iter().find(|w| w.at == id) else { continue };
        let (class, words) = match (w.up, w.held_by.is_empty()) {
            (true, _) => ("wheel-up", "in the air".to_string()),
            (false, true) => ("wheel-loose", "held by chocks alone".to_string()),
            (false, false) => ("wheel-held", format!("held by {}", w.held_by.join(" and "))),
        };
        let _ = write!(o, r#"<rect class="{class}" x="{:.1}" y="{:.1}" width="52" height="22" rx="5"/>"#, x - 26.0, y - 11.0);
        if h.chock.iter().any(|c| c == id) {
            for side in [-1.0, 1.0] {
                let tip = x + side * 29.0;
                let _ = write!(o, r#"<path class="chock" d="M{tip:.1} {:.1} l{:.1} 0 l0 -14 z"/>"#, y + 11.0, side * 14.0);
            }
        }
        if h.stands.iter().any(|c| c == id) {
            let _ =
                write!(o, r#"<path class="stand" d="M{x:.1} {:.1} l-9 16 h18 z"/>"#, if y > 110.0 { y - 34.0 } else { y + 18.0 });
        }
        let _ = write!(
            o,
            r#"<text class="note mid" x="{:.1}" y="{:.1}">{}</text>"#,
            x.clamp(90.0, 330.0),
            if y > 110.0 { y + 26.0 } else { y - 17.0 },
            esc(&words)
        );
    }
    o + "</svg>"
}

fn answer(c: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let v = c.vehicle();
    let up: Vec<Corner> = CORNERS.iter().map(|c| c.0).filter(|c| f.ticked(&format!("up-{}", c.id()))).collect();
    let off = can_be_off(v).into_iter().map(|p| p.0).filter(|id| f.ticked(&format!("off-{id}"))).collect();
    let h = of(
        v,
        &HoldingChoice {
            up,
            off,
            gearbox: match f.text("gearbox") {
                Some("neutral") => Some(Selector::Neutral),
                Some("park") => Some(Selector::Park),
                Some("gear") => Some(Selector::Gear),
                _ => None,
            },
            transfer_neutral: f.ticked("transfer"),
            front_engaged: f.ticked("front"),
            brake: Some(f.text("brake") != Some("off")),
            brake_end: Some(if f.text("brake-end") == Some("front") { End::Front } else { End::Rear }),
            running: f.ticked("running"),
        },
    );
    let words = |ids: &[String]| {
        if ids.is_empty() { "none".to_string() } else { ids.iter().map(|i| v.place_words(i)).collect::<Vec<_>>().join(", ") }
    };
    let all_up = h.wheels.iter().all(|w| w.up);
    let held = match (h.held, all_up) {
        (true, _) => "held, and chocked",
        (false, true) => "lift or four stands alone",
        (false, false) => "chocks alone",
    };
    let mut pairs = vec![("chock both sides of".to_string(), words(&h.chock)), ("stands at".into(), words(&h.stands))];
    pairs.extend(h.lost.iter().map(|l| (format!("{} no longer holds", l.what), l.why.clone())));
    let row = |l: &baricord_core::lift::holding::LiftChoice| {
        vec![words(&l.up), if l.ok { "may" } else { "must not" }.into(), l.why.clone()]
    };
    Ok(SheetAnswer {
        picture: from_above(&h),
        figures: vec![("it is".into(), held.into())],
        pairs,
        headings: vec!["may leave the ground", "", "because"],
        rows: h.may_lift.iter().map(row).collect(),
        findings: h.findings,
        ..SheetAnswer::default()
    })
}
