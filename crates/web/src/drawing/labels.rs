//! What is written on the drawing: names with how suspect they are, the bracket of a pair, readings and where to look next.

use super::layout::{Part, Rect, Sheet};
use super::svg::{Marks, esc};
use baricord_core::vehicle::{Place, PlaceKind, Vehicle};
use std::fmt::Write;

/// Width that a text will need, px, at 14 px Barlow Condensed.
fn text_width(s: &str) -> f64 {
    s.chars().count() as f64 * 6.7 + 4.0
}

/// A bracket that holds two places of one fault together; its figure stands among the labels.
pub(super) fn pair(o: &mut String, s: &Sheet, m: &Marks) {
    let Some((places, _)) = &m.pair else { return };
    let rect = |id: &String| s.parts.iter().find(|p| p.place.id == *id).map(|p| p.rect);
    let (Some(a), Some(b)) = (rect(&places[0]), rect(&places[1])) else { return };
    let (x, tick) = (a.x.min(b.x) - 14.0, 8.0);
    let (y1, y2) = (a.cy(), b.cy());
    let _ = if (y1 - y2).abs() > 4.0 {
        write!(o, r#"<path class="pair" d="M{:.1} {y1:.1} H{x:.1} V{y2:.1} h{tick}"/>"#, x + tick)
    } else {
        let y = a.y.min(b.y) - 10.0;
        write!(o, r#"<path class="pair" d="M{:.1} {:.1} V{y:.1} H{:.1} v{tick}"/>"#, a.cx(), y + tick, b.cx())
    };
}

/// Labels below the axis where there is room; what is suspect comes first.
pub(super) fn labels(o: &mut String, v: &Vehicle, s: &Sheet, m: &Marks, mut taken: Vec<Rect>) {
    let narrow = s.width < 500.0;
    let mut wanted: Vec<(&Part, f64, String)> = s
        .parts
        .iter()
        .filter_map(|p| {
            let suspicion = m.suspect.get(&p.place.id).copied().unwrap_or(0.0);
            let own = matches!(
                p.place.kind,
                PlaceKind::Engine
                    | PlaceKind::Gearbox
                    | PlaceKind::Transfer
                    | PlaceKind::Coupler
                    | PlaceKind::Section
                    | PlaceKind::Joint
                    | PlaceKind::Diff
                    | PlaceKind::Support
            );
            if suspicion < 0.08
                && (!own || narrow && !matches!(p.place.kind, PlaceKind::Section | PlaceKind::Gearbox | PlaceKind::Diff))
            {
                return None;
            }
            let mut words = short_words(&p.place);
            if p.place.kind == PlaceKind::Diff
                && let Some(a) = p.place.end.and_then(|e| v.axle(e))
            {
                match (a.ring_teeth, a.pinion_teeth) {
                    (Some(r), Some(q)) => words = format!("{words} {r}:{q}"),
                    _ => words = a.ratio.map_or(words.clone(), |r| format!("{words} {r:.2}")),
                }
            }
            if suspicion >= 0.08 {
                words = format!("{words} {:.0} %", suspicion * 100.0);
            }
            let rank = if suspicion >= 0.08 {
                SUSPECT_RANK + suspicion
            } else {
                f64::from(u8::from(p.place.kind != PlaceKind::Support))
            };
            Some((p, rank, words))
        })
        .collect();
    wanted.sort_by(|a, b| b.1.total_cmp(&a.1));
    // A pair has one label for both, before all others.
    if let Some((places, p)) = &m.pair
        && let Some(first) = s.parts.iter().find(|x| x.place.id == places[0])
    {
        let words = format!("{}, the other side or both {:.0} %", first.place.words, p * 100.0);
        if let Some(r) = free_spot(s, first, &words, &taken, true) {
            write_label(o, "label suspect", r, &words);
            taken.push(r);
        }
        wanted.retain(|w| !places.contains(&w.0.place.id));
    }
    let mut left_out = f64::INFINITY;
    let mut suspects = 0;
    for (p, rank, words) in wanted {
        let is_suspect = rank >= SUSPECT_RANK;
        // On a phone there is room for the likeliest few.
        suspects += usize::from(is_suspect);
        if narrow && is_suspect && suspects > NAMED_ON_A_PHONE {
            continue;
        }
        // A smaller suspect is never named where a larger one is not.
        if is_suspect && rank < left_out && left_out.is_finite() {
            continue;
        }
        let Some(r) = free_spot(s, p, &words, &taken, is_suspect) else {
            if is_suspect {
                left_out = rank;
            }
            continue;
        };
        // Away from its part it has a line to it.
        let away = (r.cx() - p.rect.cx()).abs() > r.w / 2.0 + 4.0 || r.y < p.rect.y;
        if is_suspect && away {
            // From the edge of the label that is nearest.
            let at = p.rect.cx().clamp(r.x, r.right());
            let beside = (at - p.rect.cx()).abs() > 1.0;
            let above = r.y < p.rect.y;
            let from = match (beside, above) {
                (true, _) => r.y + 8.0,
                (false, true) => r.bottom(),
                (false, false) => r.y,
            };
            let (x, y) = match (beside, above) {
                (true, _) => (if r.x > p.rect.cx() { p.rect.right() } else { p.rect.x }, p.rect.cy()),
                (false, true) => (p.rect.cx(), p.rect.y),
                (false, false) => (p.rect.cx(), p.rect.bottom()),
            };
            let _ = write!(o, r#"<line class="leader" x1="{at:.1}" y1="{from:.1}" x2="{x:.1}" y2="{y:.1}"/>"#);
        }
        write_label(o, if is_suspect { "label suspect" } else { "label" }, r, &words);
        taken.push(r);
    }
    // Lengths of the sections on the dimension line.
    if !narrow {
        for p in s.parts.iter().filter(|p| p.place.kind == PlaceKind::Section) {
            let length =
                p.place.end.and_then(|e| v.prop(e)).and_then(|q| q.sections.get(p.place.number? - 1)).map(|q| q.length_mm.get());
            let line = s.parts.iter().find(|q| q.place.kind == PlaceKind::Prop && q.place.end == p.place.end);
            if let (Some(l), Some(line)) = (length, line)
                && p.rect.w > 60.0
            {
                let _ = write!(
                    o,
                    r#"<text class="figure paper" x="{:.1}" y="{:.1}">{l:.0} mm</text>"#,
                    p.rect.cx(),
                    line.rect.cy() + 4.5
                );
            }
        }
    }
}

/// A part's name where it is seen where it stands: of a shaft without the shaft, of a joint without where it is.
fn short_words(p: &Place) -> String {
    let words = p.words.trim_start_matches("front shaft ").trim_start_matches("rear shaft ");
    match p.kind {
        PlaceKind::Joint => words.split(" at the ").next().unwrap_or(words).to_string(),
        _ => words.to_string(),
    }
}

/// Suspects that are named on a phone.
const NAMED_ON_A_PHONE: usize = 3;

/// Suspects are labelled before everything else.
const SUSPECT_RANK: f64 = 10.0;

/// How much farther a place on the other side of the axis counts.
const ACROSS: f64 = 200.0;

/// Where a label of a part finds room: below the axis under the part, else, where it may be `far`, at the nearest free place.
fn free_spot(s: &Sheet, p: &Part, words: &str, taken: &[Rect], far: bool) -> Option<Rect> {
    let w = text_width(words);
    let rows = [38.0, 54.0, 70.0, 86.0].map(|dy| s.axis + dy);
    let below = rows.iter().map(|&y| (0.0, y)).filter(|(_, y)| *y > p.rect.bottom() - 4.0);
    // The arrow that points to the front.
    let arrow = Rect::new(8.0, s.axis - 30.0, 34.0, 40.0);
    let free = |(dx, y): (f64, f64)| {
        let x = (p.rect.cx() - w / 2.0 + dx).clamp(4.0, (s.width - w - 4.0).max(4.0));
        let r = Rect::new(x, y, w, 15.0);
        let clear = !s.parts.iter().any(|q| q.rect.overlaps(&r)) && !taken.iter().any(|t| t.overlaps(&r)) && !arrow.overlaps(&r);
        (clear && r.y >= 0.0 && r.bottom() <= s.height && r.right() <= s.width).then_some(r)
    };
    if let Some(r) = below.clone().find_map(free) {
        return Some(r);
    }
    if !far {
        return None;
    }
    // What has no room below is named at the nearest place that has.
    let mut near: Vec<(f64, f64)> =
        (-16..=16).flat_map(|k| (0..13).map(move |row| (20.0 * f64::from(k), 16.0 * f64::from(row)))).collect();
    // A leader across the axis seems to point at the part of the other side.
    let across = |y: f64| (p.rect.cy() - s.axis).abs() > 40.0 && (y + 7.5 - s.axis) * (p.rect.cy() - s.axis) < 0.0;
    let distance = |(dx, y): &(f64, f64)| dx.abs() + (y + 7.5 - p.rect.cy()).abs() + if across(*y) { ACROSS } else { 0.0 };
    near.sort_by(|a, b| distance(a).total_cmp(&distance(b)));
    near.into_iter().find_map(free)
}

fn write_label(o: &mut String, class: &str, r: Rect, words: &str) {
    let _ = write!(o, r#"<text class="{class}" x="{:.1}" y="{:.1}">{}</text>"#, r.cx(), r.y + 12.0, esc(words));
}

/// Readings above, each with a line to its part.
pub(super) fn pins(o: &mut String, s: &Sheet, m: &Marks) -> Vec<Rect> {
    let mut taken: Vec<Rect> = vec![];
    for pin in &m.pins {
        let Some(p) = s.parts.iter().find(|p| p.place.id == pin.place) else { continue };
        let w = text_width(&pin.text) + 12.0;
        let low = s.height - 30.0;
        // What stands at the lower edge has its reading there.
        let rows = if p.rect.cy() > 0.7 * s.height { [low, 8.0, 34.0] } else { [8.0, 34.0, low] };
        let spot = rows.iter().find_map(|&y| {
            (0..40).map(|k| f64::from(if k % 2 == 0 { k / 2 } else { -(k + 1) / 2 }) * 14.0).find_map(|dx| {
                let x = p.rect.cx() - w / 2.0 + dx;
                let r = Rect::new(x, y, w, 21.0);
                let inside = x > 4.0 && r.right() < s.width - 4.0;
                let free = !s.parts.iter().any(|q| q.rect.overlaps(&r)) && !taken.iter().any(|t| t.overlaps(&r));
                (inside && free).then_some(r)
            })
        });
        let Some(r) = spot else { continue };
        let class = if pin.wanted { "pin wanted" } else { "pin" };
        let (x, y) = (p.rect.cx(), p.rect.y);
        let _ = write!(
            o,
            r#"<g class="{class}"><line x1="{:.1}" y1="{:.1}" x2="{x:.1}" y2="{y:.1}"/><circle cx="{x:.1}" cy="{y:.1}" r="2.5"/><rect x="{:.1}" y="{:.1}" width="{:.1}" height="{:.1}"/><text x="{:.1}" y="{:.1}">{}</text></g>"#,
            r.cx(),
            // Beside a part that stands at the upper edge the line leaves from under the reading.
            if r.bottom() < y { r.bottom() } else { r.y + r.h / 2.0 },
            r.x,
            r.y,
            r.w,
            r.h,
            r.cx(),
            r.y + 15.0,
            esc(&pin.text)
        );
        taken.push(r);
    }
    taken
}
