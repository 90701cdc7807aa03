//! Orders of a bearing from its geometry.

use super::fields::{Field, Group, Typed, trimmed};
use super::pictures::{Bar, bars};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::error::Problem;
use baricord_core::measure::bearing::{BearingInput, bearing};
use baricord_core::reasoning::knowledge::book_number;
use baricord_core::units::{Degrees, Millimetres, Unit};
use baricord_core::vehicle::{Bearing, PlaceKind};

pub(super) const SHEET: Sheet = Sheet {
    id: "bearing",
    name: "Bearing orders",
    how: "Counted and measured on the bearing, or from its maker: how often a fault of each ring, a ball or the cage is met in one turn. Without its geometry a bearing is neither for nor against.",
    caution: "",
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: |_, p| matches!(p.kind, PlaceKind::Hub | PlaceKind::Support | PlaceKind::Diff | PlaceKind::Coupler),
    groups,
    answer,
};

fn known<'a>(c: &'a SheetContext) -> Option<&'a Bearing> {
    c.vehicle().bearings.iter().find(|b| b.has_geometry() && (b.at == c.at || b.at.starts_with(c.at)))
}

fn groups(c: &SheetContext) -> Vec<Group> {
    let b = known(c);
    let numbered = c.vehicle().bearings.iter().find(|b| b.at == c.at || b.at.starts_with(c.at)).and_then(|b| b.number.clone());
    vec![Group::new(
        "Its geometry",
        vec![
            Field::line("number", "number on it, if the workshop's book has it", "6208").filled(numbered.unwrap_or_default()),
            Field::number("balls", "balls or rollers").known(b.map(|b| f64::from(b.elements)), 0),
            Field::amount("element", "across one of them", Unit::Millimetre).known(b.map(|b| b.element_mm.get()), 2),
            Field::amount("pitch", "pitch circle across", Unit::Millimetre).known(b.map(|b| b.pitch_mm.get()), 2),
            Field::amount("contact", "contact angle", Unit::Degree).known(b.map_or(Some(0.0), |b| Some(b.contact_deg.get())), 1),
        ],
    )]
}

/// What was typed; where no count was, what the book has under the number.
fn typed(c: &SheetContext, f: &FormFields) -> Result<BearingInput, Problem> {
    if let Some(elements) = f.count("balls")? {
        return Ok(BearingInput {
            elements,
            element_mm: Millimetres(f.need_amount("element", "the size of one of them", Unit::Millimetre)?),
            pitch_mm: Millimetres(f.need_amount("pitch", "the pitch circle", Unit::Millimetre)?),
            contact_deg: Degrees(f.amount("contact", Unit::Degree)?.unwrap_or(0.0)),
        });
    }
    let missing = || Problem::new("missing", "the number of balls or rollers is missing").field("balls");
    let number = f.text("number").ok_or_else(missing)?;
    let unknown = || {
        let message = format!("{number} is not in the workshop's book: count and measure it, and write it in at Knowledge");
        Problem::new("unknown-bearing", message).field("number")
    };
    let b = c.house.bearings.get(&book_number(number)).ok_or_else(unknown)?;
    Ok(BearingInput { elements: b.elements, element_mm: b.element_mm, pitch_mm: b.pitch_mm, contact_deg: b.contact_deg })
}

fn answer(c: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let b = bearing(typed(c, f)?)?;
    let of = [
        ("cage", b.cage.get()),
        ("outer ring", b.outer.get()),
        ("inner ring", b.inner.get()),
        ("a ball, met twice each spin", 2.0 * b.element.get()),
    ];
    let bar =
        |(words, x): &(&str, f64)| Bar { words: (*words).into(), value: *x, shown: trimmed(*x, 3), limit: None, is_over: false };
    let all: Vec<Bar> = of.iter().map(bar).collect();
    let words: Vec<String> = of.iter().map(|(w, x)| format!("{w} {}", trimmed(*x, 3))).collect();
    Ok(SheetAnswer {
        picture: bars("How often a fault is met in one turn of the inner ring", &all),
        figures: vec![("outer ring, in one turn".into(), trimmed(of[1].1, 3))],
        pairs: vec![("written into the vehicle".into(), "its lines stand on the order map at once".into())],
        words: words.join(", "),
        ..SheetAnswer::default()
    })
}
