//! What the drawing shows of a case: suspicion, what is cleared, readings, where to look next.

use crate::drawing::{Marks, Pin};
use crate::page::LoadedCase;
use crate::wording::rung;
use baricord_core::analysis::{Analysis, OrderFound};
use baricord_core::case::Heard;
use baricord_core::case::{Case, Measurement};
use baricord_core::lift::sound_localisation::heard;
use baricord_core::measure::instrument::instrument;
use baricord_core::workflow::next_action::ActionKind;
use std::collections::{HashMap, HashSet};

/// The strongest orders of the runs before, one list.
pub fn main_orders(case: &Case, a: &Analysis) -> Vec<OrderFound> {
    let before: HashSet<&str> = case.recordings.iter().filter(|r| !r.is_after()).map(|r| r.id.as_str()).collect();
    a.recordings.iter().filter(|r| before.contains(r.id.as_str())).flat_map(|r| r.orders.iter().take(6).cloned()).collect()
}

/// What is written where the next step is.
fn wanted_words(kind: ActionKind) -> &'static str {
    match kind {
        ActionKind::Choose | ActionKind::Repair => "repair here",
        ActionKind::Prove | ActionKind::Judge => "look here again",
        _ => "look here next",
    }
}

/// What the drawing shows of a case.
pub fn marks(k: &LoadedCase) -> Marks {
    let case = k.case();
    let mut m = Marks { href: Some(format!("/cases/{}/part/", k.stored.id)), ..Marks::default() };
    if let Some(a) = k.answer() {
        let sum: HashMap<String, f64> = a.part_sums().into_iter().collect();
        // A place is cleared when a test put a fault of it out and nothing of it is left.
        for r in &a.ruled_out {
            if sum.get(&r.at).copied().unwrap_or(0.0) < 0.01 {
                m.cleared.insert(r.at.clone());
            }
        }
        m.suspect = sum.into_iter().filter(|(_, p)| *p >= 0.08).collect();
        m.pair = a.twins().map(|t| (t.at, t.p));
    }
    for at in k.assessment.next.places().filter_map(|a| case.vehicle.place(a)) {
        m.pins.push(Pin { place: at.id, text: wanted_words(k.assessment.next.kind).into(), wanted: true });
    }
    m.looked = case.observations.iter().filter_map(|o| o.at.clone()).collect();
    m.pins.extend(readings(case));
    // Levels where they were listened to, the loudest first: where there is no room for all, it has its own.
    let mut levels = heard(case);
    levels.sort_by(|a, b| b.level.total_cmp(&a.level));
    let level = |h: Heard| Pin { place: h.at, text: format!("{} {}", h.level, h.unit.words()), wanted: false };
    m.pins.extend(levels.into_iter().map(level));
    if let Some(a) = &k.analysis {
        for o in main_orders(case, a).iter().take(1) {
            if let Some(s) = o.sources.iter().find(|s| m.suspect.contains_key(&s.at)).or(o.sources.first()) {
                let unit = o.unit.clone().unwrap_or("m/s²".into());
                m.pins.insert(
                    0,
                    Pin {
                        place: s.at.clone(),
                        text: format!("{:.2} × {} · {:.2} {unit}", o.order, o.base.words(), o.level().0),
                        wanted: false,
                    },
                );
            }
        }
    }
    if let Ok(ladder) = baricord_core::measure::orders::orders(&case.vehicle, None) {
        for p in case.vehicle.places() {
            let rungs: Vec<String> = ladder
                .iter()
                .filter(|l| {
                    l.at == p.id
                        || p.is_of_shaft() && p.end.is_some_and(|e| l.at == format!("prop.{}", e.id()))
                        || p.kind == baricord_core::vehicle::PlaceKind::Hub
                            && l.at == format!("wheel.{}", p.corner.map_or("", |c| c.id()))
                })
                .map(|l| rung(l.base, l.order.get()))
                .collect();
            m.rungs.insert(p.id, rungs);
        }
    }
    m
}

/// Readings pinned to where they were taken; what cannot be worked out has no pin.
pub fn readings(case: &Case) -> Vec<Pin> {
    let pins_of = |m: &Measurement| {
        let at = case.measurement_place(m).ok()?;
        Some((instrument(&m.kind)?.evaluate)(&case.vehicle, &at, &m.input).ok()?.pins)
    };
    let pin = |(place, text)| Pin { place, text, wanted: false };
    case.measurements.iter().filter_map(pins_of).flatten().map(pin).collect()
}
