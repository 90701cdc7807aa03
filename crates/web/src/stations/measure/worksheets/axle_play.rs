//! The chain of play: every member read at one place, the rest that nothing explains.

use super::fields::{Field, Group, Typed};
use super::pictures::{Bar, bars};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::error::Problem;
use baricord_core::measure::lash::{LashInput, LashMember, LashReading, ReferredTo, Side, lash, members};
use baricord_core::units::{Degrees, Millimetres, Unit};
use baricord_core::vehicle::{End, PlaceKind};

pub(super) const SHEET: Sheet = Sheet {
    id: "lash",
    name: "Play, member by member",
    how: "Both wheels held. Turn to and fro and read each member as an angle, or as an arc on a clamp; all are put to the shaft. What is left over sits in something not read yet.",
    caution: "Out of gear the gearbox does not hold it: chock the wheels first. Key away, engine off: hands are on shafts that turn.",
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: |v, p| p.kind == PlaceKind::Diff && v.axles.iter().any(|a| Some(a.end) == p.end && a.driven),
    groups,
    answer,
};

/// How a reading was taken: value, words.
const READ_AS: [(&str, &str); 5] = [
    ("shaft", "° at the shaft"),
    ("wheel", "° at the wheels"),
    ("left", "° left wheel only"),
    ("right", "° right wheel only"),
    ("arc", "arc at the shaft, mm"),
];

fn end_of(c: &SheetContext) -> Option<End> {
    c.vehicle().place(c.at).and_then(|p| p.end)
}

fn chain(c: &SheetContext) -> Vec<LashMember> {
    end_of(c).map(|end| members(c.vehicle(), end)).unwrap_or_default()
}

fn groups(c: &SheetContext) -> Vec<Group> {
    let ratio = end_of(c).and_then(|e| c.vehicle().final_ratio(e));
    let mut out = vec![Group::new(
        "The whole play",
        vec![
            Field::number("total", "read at the shaft, °"),
            Field::number("ratio", "final drive").known(ratio, 3),
            Field::amount("radius", "radius of the clamp, where arcs are read", Unit::Millimetre),
            Field::tick("locked", "the differential is locked"),
        ],
    )];
    for LashMember { id, words, referred_to } in chain(c) {
        let usual = if referred_to == ReferredTo::Wheel { "wheel" } else { "shaft" };
        let how = Field::choice(format!("{id}-as"), "read as", &READ_AS).filled(usual);
        out.push(Group::new(words, vec![Field::number(format!("{id}-x"), "play"), how]));
    }
    out
}

fn answer(c: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let locked = f.ticked("locked");
    let radius = f.amount("radius", Unit::Millimetre)?.map(Millimetres);
    let mut readings = vec![];
    for LashMember { id, words, .. } in chain(c) {
        let Some(x) = f.number(&format!("{id}-x"))? else { continue };
        let how = f.text(&format!("{id}-as")).unwrap_or("shaft");
        let is_arc = how == "arc";
        readings.push(LashReading {
            member: words,
            deg: (!is_arc).then_some(Degrees(x)),
            arc_mm: is_arc.then_some(Millimetres(x)),
            radius_mm: radius.filter(|_| is_arc),
            referred_to: if matches!(how, "shaft" | "arc") { ReferredTo::Shaft } else { ReferredTo::Wheel },
            side: match how {
                "left" => Some(Side::Left),
                "right" => Some(Side::Right),
                _ => None,
            },
            locked,
        });
    }
    let total = f.number("total")?.map(|x| LashReading {
        member: "all".into(),
        deg: Some(Degrees(x)),
        arc_mm: None,
        radius_mm: None,
        referred_to: ReferredTo::Shaft,
        side: None,
        locked,
    });
    let ratio = f.need_number("ratio", "the final drive ratio")?;
    let l = lash(&LashInput { ratio, readings, total })?;
    let bar = |m: &baricord_core::measure::lash::MemberShare| Bar {
        words: m.member.clone(),
        value: m.deg.get(),
        shown: format!("{:.2}°, {:.0} %", m.deg.get(), 100.0 * m.share),
        limit: None,
        is_over: false,
    };
    let mut all: Vec<Bar> = l.members.iter().map(bar).collect();
    if let Some(rest) = l.unexplained_deg.map(Degrees::get).filter(|d| *d > 0.0) {
        let share = 100.0 * rest / l.total_deg.get().max(1e-9);
        all.push(Bar {
            words: "nothing read explains".into(),
            value: rest,
            shown: format!("{rest:.2}°, {share:.0} %"),
            limit: None,
            is_over: l.findings.iter().any(|f| f.code == "unexplained"),
        });
    }
    let largest = l.members.iter().max_by(|a, b| a.deg.get().total_cmp(&b.deg.get()));
    let words = largest.map_or(String::new(), |m| {
        format!("{:.2}° at the shaft, most of it {}: {:.2}°", l.total_deg.get(), m.member, m.deg.get())
    });
    Ok(SheetAnswer {
        picture: bars("Play of each member, at the shaft", &all),
        figures: vec![("all of it, at the shaft".into(), format!("{:.2}°", l.total_deg.get()))],
        findings: l.findings,
        words,
        ..SheetAnswer::default()
    })
}
