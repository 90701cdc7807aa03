//! The driveline taken apart: what is off stands lifted out beside its place, what hangs is drawn dashed and named, openings are rings,
//! chocks lie at the wheels, marks are counted dots. Each is told apart by its shape, and by a word.

use super::layout::{Part, Rect, Sheet};
use super::svg::esc;
use baricord_core::repair::teardown::Teardown;
use baricord_core::vehicle::{Place, PlaceKind, is_part_of};
use std::fmt::Write;

/// How far a shaft is lifted out, and a corner.
const OUT_DOWN: f64 = 46.0;
const OUT_ALONG: f64 = -86.0;
const OUT_ALONG_NARROW: f64 = 20.0;

/// Whether a part is off, with what it belongs to.
pub(super) fn is_off(t: &Teardown, p: &Place) -> bool {
    t.off.iter().any(|o| is_part_of(&p.id, o))
        || p.kind == PlaceKind::Clutch && t.off.contains("gearbox") && t.off.contains("clutch")
}

/// How a part that is off is moved on the sheet.
pub(super) fn lifted(s: &Sheet, p: &Part) -> (f64, f64) {
    let along = if s.width > 500.0 { OUT_ALONG } else { OUT_ALONG_NARROW };
    match p.place.corner {
        // Out over the ends of a wide sheet; on a phone's towards the middle, so that it stays on it.
        Some(_) if p.rect.cx() < s.width / 2.0 => (along, 0.0),
        Some(_) => (-along, 0.0),
        None => (0.0, OUT_DOWN),
    }
}

/// The place from which a part was taken, as a dashed outline.
pub(super) fn ghost(o: &mut String, r: Rect) {
    let _ = write!(o, r#"<rect class="ghost" x="{:.1}" y="{:.1}" width="{:.1}" height="{:.1}"/>"#, r.x, r.y, r.w, r.h);
}

fn rect_of(s: &Sheet, at: &str) -> Option<Rect> {
    let named = s.parts.iter().find(|p| p.place.id == at);
    named.or_else(|| s.parts.iter().find(|p| is_part_of(at, &p.place.id))).map(|p| p.rect)
}

fn moved(s: &Sheet, t: &Teardown, at: &str) -> Option<Rect> {
    let p = s.parts.iter().find(|p| p.place.id == at).or_else(|| s.parts.iter().find(|p| is_part_of(at, &p.place.id)))?;
    let (dx, dy) = if is_off(t, &p.place) { lifted(s, p) } else { (0.0, 0.0) };
    Some(Rect::new(p.rect.x + dx, p.rect.y + dy, p.rect.w, p.rect.h))
}

/// What lies over the parts: openings, chocks, marks, and the words of each.
pub(super) fn over(o: &mut String, s: &Sheet, t: &Teardown) {
    let is_wide = s.width > 500.0;
    let solid = s.parts.iter().filter_map(|p| moved(s, t, &p.place.id)).collect();
    let mut taken = Taken { words: vec![], solid, width: s.width, is_wide };
    chocks(o, s, t, is_wide);
    for (k, at) in t.marks.iter().enumerate() {
        if let Some(r) = moved(s, t, at) {
            dots(o, r, k + 1, is_wide);
        }
    }
    for at in &t.hanging {
        if let Some(r) = rect_of(s, at) {
            strap(o, &mut taken, r);
        }
    }
    for at in &t.open {
        if let Some(r) = rect_of(s, at) {
            ring(o, &mut taken, r, at.starts_with("half."));
        }
    }
    for at in &t.drained {
        if let Some(r) = rect_of(s, at) {
            oil_out(o, &mut taken, r);
        }
    }
}

/// Where something stands on the sheet already.
struct Taken {
    words: Vec<Rect>,
    /// Parts, where they are drawn now.
    solid: Vec<Rect>,
    width: f64,
    is_wide: bool,
}

/// A word beside its sign, on a wide sheet, at the first of the places where nothing is written yet, rather where nothing is drawn: the
/// sign says it, too.
fn word(o: &mut String, taken: &mut Taken, places: &[(f64, f64)], text: &str) {
    let rect = |&(x, y): &(f64, f64)| Rect::new(x, y - 14.0, 7.0 * text.len() as f64, 17.0);
    let is_unwritten =
        |r: &Rect| r.x >= 4.0 && r.right() <= taken.width && r.y >= 0.0 && !taken.words.iter().any(|t| t.overlaps(r));
    let is_bare = |r: &Rect| !taken.solid.iter().any(|t| t.overlaps(r));
    let free = || places.iter().filter(|p| is_unwritten(&rect(p)));
    let Some(at) = free().find(|p| is_bare(&rect(p))).or_else(|| free().next()).filter(|_| taken.is_wide) else { return };
    let (x, y) = *at;
    taken.words.push(rect(at));
    let _ = write!(o, r#"<text class="apart-word" x="{x:.1}" y="{y:.1}">{}</text>"#, esc(text));
}

/// A wedge on both sides of a wheel.
fn chocks(o: &mut String, s: &Sheet, t: &Teardown, is_wide: bool) {
    let k = if is_wide { 14.0 } else { 7.0 };
    for p in s.parts.iter().filter(|p| t.chocked.contains(&p.place.id)) {
        let r = p.rect;
        let _ = write!(
            o,
            r#"<path class="chock" d="M{a:.1} {b:.1} l{k:.1} 0 l0 -{h:.1} z M{c:.1} {b:.1} l-{k:.1} 0 l0 -{h:.1} z"/>"#,
            a = r.x - k - 2.0,
            b = r.bottom(),
            c = r.right() + k + 2.0,
            h = k * 0.8,
        );
    }
}

/// As many dots as the mark has.
fn dots(o: &mut String, r: Rect, n: usize, is_wide: bool) {
    let k = if is_wide { 3.2 } else { 1.8 };
    for i in 0..n.min(6) {
        let (x, y) = (r.cx() + (i as f64 - (n.min(6) as f64 - 1.0) / 2.0) * k * 2.4, r.y - k * 2.0);
        let _ = write!(o, r#"<circle class="mark-dot" cx="{x:.1}" cy="{y:.1}" r="{k:.1}"/>"#);
    }
}

/// An opening that is plugged: a ring with a bar. At a corner its word stands towards the middle of the sheet.
fn ring(o: &mut String, taken: &mut Taken, r: Rect, is_corner: bool) {
    let k = if taken.is_wide { 7.0 } else { 4.0 };
    let _ = write!(
        o,
        r#"<circle class="opening" cx="{x:.1}" cy="{y:.1}" r="{k:.1}"/><path class="opening" d="M{a:.1} {b:.1} L{c:.1} {d:.1}"/>"#,
        x = r.x,
        y = r.cy(),
        a = r.x - k * 0.7,
        b = r.cy() + k * 0.7,
        c = r.x + k * 0.7,
        d = r.cy() - k * 0.7,
    );
    let (beside, before) = ((r.right() + 12.0, r.cy() + 5.0), (r.x - 102.0, r.cy() + 5.0));
    let (above, below) = ((r.x - 30.0, r.y - 14.0), (r.x - 44.0, r.bottom() + 22.0));
    let aside = (r.x - 116.0, r.bottom() + 22.0);
    let places = if is_corner { [beside, before, above, below, aside] } else { [above, below, aside, before, beside] };
    word(o, taken, &places, "open, plugged");
}

/// A drop: the oil is out.
fn oil_out(o: &mut String, taken: &mut Taken, r: Rect) {
    let (x, y, k) = (r.cx(), r.bottom() + 6.0, if taken.is_wide { 8.0 } else { 4.0 });
    let _ = write!(
        o,
        r#"<path class="oil-out" d="M{x:.1} {y:.1} c-{k:.1} {k:.1} -{k:.1} {d:.1} 0 {d:.1} c{k:.1} 0 {k:.1} -{h:.1} 0 -{d:.1} z"/>"#,
        d = k * 1.7,
        h = k * 0.7
    );
    word(o, taken, &[(x + k + 4.0, y + k + 4.0), (x - k - 54.0, y + k + 4.0), (x - 24.0, y + k * 1.7 + 16.0)], "oil out");
}

/// Two lines up: it hangs on a strap.
fn strap(o: &mut String, taken: &mut Taken, r: Rect) {
    let (x, y, k) = (r.cx(), r.y, if taken.is_wide { 22.0 } else { 12.0 });
    let _ = write!(
        o,
        r#"<path class="strap" d="M{a:.1} {b:.1} L{x:.1} {y:.1} L{c:.1} {b:.1} M{d:.1} {b:.1} H{e:.1}"/>"#,
        a = x - k * 0.5,
        b = y - k,
        c = x + k * 0.5,
        d = x - k * 0.8,
        e = x + k * 0.8,
    );
    // No other word stands over its lines.
    taken.words.push(Rect::new(x - k * 0.8, y - k, k * 1.6, k));
    let y = (y - k + 4.0).max(16.0);
    word(o, taken, &[(x + k * 0.9, y), (x - k * 0.9 - 50.0, y), (x + k * 0.9, y + 18.0)], "tied up");
}

/// What is off, in words, for who does not see the drawing.
pub(super) fn words(s: &Sheet, t: &Teardown) -> String {
    let named = |at: &String| s.parts.iter().find(|p| p.place.id == *at).map(|p| p.place.words.clone());
    let off: Vec<String> = t.off.iter().filter_map(named).collect();
    if off.is_empty() { String::new() } else { format!(", taken apart: {} off", off.join(", ")) }
}
