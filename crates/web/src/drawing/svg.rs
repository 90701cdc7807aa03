//! The drawing as SVG: line weights for parts, hatching for suspicion, a tick and a strike for what
//! is cleared, readings pinned where they were taken. No style attributes; classes only.

use super::apart;
use super::labels::{labels, pair, pins};
use super::layout::{HEIGHT, Part, Rect, Sheet, lay_out};
use baricord_core::repair::teardown::Teardown;
use baricord_core::vehicle::{JointKind, PlaceKind, Vehicle};
use std::collections::{HashMap, HashSet};
use std::fmt::Write;

/// A reading at its place.
#[derive(Clone, Debug)]
pub struct Pin {
    /// Where.
    pub place: String,
    /// What it says.
    pub text: String,
    /// Asks for action.
    pub wanted: bool,
}

/// What hangs on the drawing.
#[derive(Clone, Debug, Default)]
pub struct Marks {
    /// How suspect each place is.
    pub suspect: HashMap<String, f64>,
    /// Two places of one fault that hold most of it together, and how much.
    pub pair: Option<([String; 2], f64)>,
    /// Places that are out of it.
    pub cleared: HashSet<String>,
    /// Places where a test was made.
    pub looked: HashSet<String>,
    /// Readings.
    pub pins: Vec<Pin>,
    /// Ladder rungs that belong to each place, for pointing both ways.
    pub rungs: HashMap<String, Vec<String>>,
    /// Where a click on a part leads; the place is put behind it.
    pub href: Option<String>,
    /// How it is taken apart.
    pub apart: Option<Teardown>,
}

/// Escapes text for SVG.
pub(crate) fn esc(s: &str) -> String {
    s.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// The band on top of every page of a case: a wide sheet and a phone's, one of them shown.
pub fn band(v: &Vehicle, marks: &Marks) -> String {
    let mut out = String::new();
    for narrow in [false, true] {
        let class = if narrow { "sheet sheet-narrow" } else { "sheet sheet-wide" };
        out += &render(v, &lay_out(v, narrow), marks, class, if narrow { "n" } else { "w" }, true);
    }
    out
}

/// A small picture of a layout, without links.
pub fn picture(v: &Vehicle) -> String {
    render(v, &lay_out(v, true), &Marks::default(), "sheet sheet-picture", &format!("p{}", v.name.replace(' ', "")), false)
}

fn render(v: &Vehicle, s: &Sheet, m: &Marks, class: &str, id: &str, words: bool) -> String {
    let mut o = String::with_capacity(24_000);
    let _ = write!(
        o,
        r#"<svg class="{class}" viewBox="0 0 {} {HEIGHT}" role="group" aria-label="Driveline of {}, plan view, front to the left{}">"#,
        s.width,
        esc(&v.name),
        esc(&m.apart.as_ref().map(|t| apart::words(s, t)).unwrap_or_default())
    );
    let _ = write!(
        o,
        r#"<defs><pattern id="hatch-{id}" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><line x1="0" y1="0" x2="0" y2="6" class="hatch"/></pattern></defs>"#
    );
    let _ = write!(o, r#"<line class="axis" x1="8" y1="{0}" x2="{1}" y2="{0}"/>"#, s.axis, s.width - 8.0);
    beams(&mut o, v, s);
    if s.width > 500.0 {
        let _ = write!(
            o,
            r#"<path class="arrow" d="M18 {0} l16 -8 v16 z"/><text class="note" x="14" y="{1}">front</text>"#,
            s.axis,
            s.axis - 16.0
        );
    }
    for p in &s.parts {
        let out = m.apart.as_ref().filter(|t| apart::is_off(t, &p.place)).map(|_| apart::lifted(s, p));
        if let Some((dx, dy)) = out {
            apart::ghost(&mut o, p.rect);
            let _ = write!(o, r#"<g class="lifted" transform="translate({dx:.1} {dy:.1})">"#);
        }
        part(&mut o, v, p, m, id, words);
        if out.is_some() {
            o.push_str("</g>");
        }
    }
    if let Some(t) = &m.apart {
        pins(&mut o, s, m);
        apart::over(&mut o, s, t);
    } else if words {
        pair(&mut o, s, m);
        let taken = pins(&mut o, s, m);
        labels(&mut o, v, s, m, taken);
    }
    o += "</svg>";
    o
}

/// Axles that nothing drives are a thin line between their hubs; solid ones a tube.
fn beams(o: &mut String, v: &Vehicle, s: &Sheet) {
    let rect = |id: &str| s.parts.iter().find(|p| p.place.id == id).map(|p| p.rect);
    for a in &v.axles {
        let [l, r] = a.end.corners();
        if let (Some(l), Some(r)) = (rect(&format!("hub.{}", l.id())), rect(&format!("hub.{}", r.id())))
            && !a.driven
        {
            let _ = write!(o, r#"<line class="beam" x1="{0}" y1="{1}" x2="{0}" y2="{2}"/>"#, l.cx(), l.bottom(), r.y);
        }
    }
}

fn part(o: &mut String, v: &Vehicle, p: &Part, m: &Marks, id: &str, words: bool) {
    let place = &p.place;
    let suspicion = m.suspect.get(&place.id).copied().unwrap_or(0.0);
    let cleared = m.cleared.contains(&place.id);
    let state = if suspicion >= 0.08 {
        " suspect"
    } else if cleared {
        " cleared"
    } else {
        ""
    };
    let state_words = if suspicion >= 0.08 {
        format!(", suspect {:.0} %", suspicion * 100.0)
    } else if cleared {
        ", cleared".to_string()
    } else {
        String::new()
    };
    let rungs = m.rungs.get(&place.id).map(|r| r.join(" ")).unwrap_or_default();
    match &m.href {
        Some(h) => {
            let _ = write!(
                o,
                r#"<a class="part{state}" href="{h}{0}" data-place="{0}" data-rungs="{rungs}" aria-label="{1}{state_words}"><title>{1}{state_words}</title>"#,
                place.id,
                esc(&place.words)
            );
        }
        None => {
            let _ = write!(o, r#"<g class="part{state}">"#);
        }
    }
    let r = p.rect;
    if words {
        // A finger is wider than a joint.
        let (w, h) = (r.w.max(26.0), r.h.max(26.0));
        let _ = write!(
            o,
            r#"<rect class="touch" x="{:.1}" y="{:.1}" width="{w:.1}" height="{h:.1}"/>"#,
            r.cx() - w / 2.0,
            r.cy() - h / 2.0
        );
    }
    shape(o, v, p);
    if suspicion >= 0.08 {
        let shown = if place.kind == PlaceKind::Prop { Rect::new(r.x, r.y, r.w, 4.0) } else { r };
        let _ = write!(
            o,
            r#"<rect class="suspicion" x="{:.1}" y="{:.1}" width="{:.1}" height="{:.1}" fill="url(#hatch-{id})" fill-opacity="{:.2}"/>"#,
            shown.x,
            shown.y,
            shown.w,
            shown.h,
            (0.35 + suspicion).min(1.0)
        );
    }
    // Small parts get a tick only where somebody looked at them: else every corner is crowded.
    let small = matches!(
        place.kind,
        PlaceKind::Hub
            | PlaceKind::Half
            | PlaceKind::HalfInner
            | PlaceKind::HalfOuter
            | PlaceKind::Strut
            | PlaceKind::Mount
            | PlaceKind::Clutch
            | PlaceKind::HalfBearing
            | PlaceKind::Brake
            | PlaceKind::Exhaust
    );
    if cleared && words && (!small || m.looked.contains(&place.id)) {
        let (x, y) = (
            r.cx() - 5.0,
            if matches!(
                place.kind,
                PlaceKind::Wheel | PlaceKind::Hub | PlaceKind::Half | PlaceKind::Diff | PlaceKind::Engine | PlaceKind::Gearbox
            ) {
                r.cy()
            } else {
                r.y - 6.0
            },
        );
        let _ = write!(o, r#"<path class="tick" d="M{x:.1} {y:.1} l4 5 l8 -11"/>"#);
    }
    o.push_str(if m.href.is_some() { "</a>" } else { "</g>" });
}

fn rect(o: &mut String, class: &str, r: Rect, round: f64) {
    let _ =
        write!(o, r#"<rect class="{class}" x="{:.1}" y="{:.1}" width="{:.1}" height="{:.1}" rx="{round}"/>"#, r.x, r.y, r.w, r.h);
}

fn shape(o: &mut String, v: &Vehicle, p: &Part) {
    let r = p.rect;
    let small = r.w < 16.0;
    match p.place.kind {
        PlaceKind::Engine if v.is_electric() => {
            rect(o, "body", r, 8.0);
            let k = (r.w.min(r.h) / 2.0 - 5.0).max(3.0);
            let _ = write!(
                o,
                r#"<circle class="fine" cx="{:.1}" cy="{:.1}" r="{k:.1}"/><circle class="fine" cx="{0:.1}" cy="{1:.1}" r="{2:.1}"/>"#,
                r.cx(),
                r.cy(),
                k * 0.5
            );
        }
        PlaceKind::Engine => {
            rect(o, "body", r, 0.0);
            let n = v.engine.map_or(4, |e| e.cylinders.min(8));
            let step = r.w / f64::from(n);
            for i in 0..n {
                let w = step * 0.56;
                rect(o, "fine", Rect::new(r.x + step * (f64::from(i) + 0.22), r.y + r.h * 0.24, w, r.h * 0.52), 0.0);
            }
        }
        PlaceKind::Clutch => {
            rect(o, "body", r, 0.0);
            let _ = write!(
                o,
                r#"<line class="fine" x1="{0:.1}" y1="{1:.1}" x2="{0:.1}" y2="{2:.1}"/>"#,
                r.cx(),
                r.y + 3.0,
                r.bottom() - 3.0
            );
        }
        PlaceKind::Gearbox if !v.gearbox.transaxle => {
            let (t, e) = (r.h * 0.24, r.w * 0.3);
            let _ = write!(
                o,
                r#"<path class="body" d="M{x:.1} {y:.1} h{a:.1} L{b:.1} {yt:.1} H{x2:.1} V{yb:.1} H{b:.1} L{c:.1} {y2:.1} H{x:.1} z"/>"#,
                x = r.x,
                y = r.y,
                a = r.w * 0.18,
                b = r.x + e,
                yt = r.y + t,
                x2 = r.right(),
                yb = r.bottom() - t,
                c = r.x + r.w * 0.18,
                y2 = r.bottom()
            );
        }
        PlaceKind::Gearbox => rect(o, "body", r, 4.0),
        PlaceKind::Transfer => {
            rect(o, "body", r, 6.0);
            let k = r.w * 0.26;
            let _ = write!(
                o,
                r#"<circle class="fine" cx="{0:.1}" cy="{1:.1}" r="{k:.1}"/><circle class="fine" cx="{0:.1}" cy="{2:.1}" r="{k:.1}"/>"#,
                r.cx(),
                r.y + r.w * 0.36,
                r.bottom() - r.w * 0.36
            );
        }
        PlaceKind::Coupler => {
            rect(o, "body", r, 3.0);
            for k in 1..4 {
                let x = r.x + r.w * f64::from(k) / 4.0;
                let _ = write!(
                    o,
                    r#"<line class="fine" x1="{x:.1}" y1="{:.1}" x2="{x:.1}" y2="{:.1}"/>"#,
                    r.y + 4.0,
                    r.bottom() - 4.0
                );
            }
        }
        PlaceKind::Prop => {
            let y = r.cy();
            let _ = write!(
                o,
                r#"<path class="dimension" d="M{0:.1} {y:.1} H{1:.1} M{2:.1} {3:.1} l8 -8 M{4:.1} {3:.1} l8 -8"/>"#,
                r.x,
                r.right(),
                r.x - 4.0,
                y + 4.0,
                r.right() - 4.0
            );
        }
        PlaceKind::Section => rect(o, "tube", r, 0.0),
        PlaceKind::Joint => joint(o, v, p),
        PlaceKind::Support => {
            rect(o, "body", r, 0.0);
            let _ = write!(
                o,
                r#"<path class="line" d="M{0:.1} {1:.1} h{2:.1} M{0:.1} {3:.1} h{2:.1}"/>"#,
                r.x - 3.0,
                r.y,
                r.w + 6.0,
                r.bottom()
            );
        }
        PlaceKind::Slip => {
            rect(o, "body", r, 0.0);
            for k in 1..4 {
                let y = r.y + r.h * f64::from(k) / 4.0;
                let _ = write!(
                    o,
                    r#"<line class="fine" x1="{:.1}" y1="{y:.1}" x2="{:.1}" y2="{y:.1}"/>"#,
                    r.x + 2.0,
                    r.right() - 2.0
                );
            }
        }
        PlaceKind::Diff => {
            rect(o, "body", r, r.h / 2.4);
            let _ = write!(o, r#"<circle class="fine" cx="{:.1}" cy="{:.1}" r="{:.1}"/>"#, r.cx(), r.cy(), (r.h.min(r.w)) / 3.2);
        }
        PlaceKind::Half => rect(o, "tube", r, 0.0),
        PlaceKind::HalfInner | PlaceKind::HalfOuter => {
            rect(o, "body", r, 2.0);
            let _ = write!(o, r#"<circle class="fine" cx="{:.1}" cy="{:.1}" r="{:.1}"/>"#, r.cx(), r.cy(), r.h / 3.0);
        }
        PlaceKind::Hub | PlaceKind::HalfBearing => rect(o, "body", r, 0.0),
        PlaceKind::Brake => rect(o, "body", r, 2.0),
        PlaceKind::Exhaust | PlaceKind::Body => rect(o, "tube", r, 2.5),
        PlaceKind::Wheel => {
            rect(o, "body", r, 5.0);
            for k in 1..4 {
                let x = r.x + r.w * f64::from(k) / 4.0;
                let _ = write!(
                    o,
                    r#"<line class="fine" x1="{x:.1}" y1="{:.1}" x2="{x:.1}" y2="{:.1}"/>"#,
                    r.y + 2.0,
                    r.bottom() - 2.0
                );
            }
        }
        PlaceKind::Strut => {
            let _ = write!(
                o,
                r#"<circle class="body" cx="{0:.1}" cy="{1:.1}" r="{2:.1}"/><circle class="fine" cx="{0:.1}" cy="{1:.1}" r="{3:.1}"/>"#,
                r.cx(),
                r.cy(),
                r.w / 2.0,
                r.w / 5.0
            );
        }
        PlaceKind::Mount => {
            let i = if small { 2.0 } else { 3.0 };
            let _ = write!(
                o,
                r#"<path class="body" d="M{:.1} {:.1} h{:.1} l{i} {:.1} h-{:.1} z"/>"#,
                r.x + i,
                r.y,
                r.w - 2.0 * i,
                r.h,
                r.w
            );
        }
    }
}

fn joint(o: &mut String, v: &Vehicle, p: &Part) {
    let r = p.rect;
    let kind = p.place.end.and_then(|e| v.prop(e)).and_then(|q| q.joints.get(p.place.number? - 1).map(|j| j.kind()));
    let k = (r.w.min(r.h) * 0.36).max(1.5);
    let (x, y) = (r.cx(), r.cy());
    match kind {
        Some(JointKind::Flex) => {
            rect(o, "body", Rect::new(r.x, r.y, r.w, r.h), 3.0);
            let _ = write!(
                o,
                r#"<path class="fine" d="M{x:.1} {y:.1} m0 -{k:.1} v{:.1} M{x:.1} {y:.1} l{:.1} {:.1} M{x:.1} {y:.1} l-{:.1} {:.1}"/>"#,
                k,
                k * 0.87,
                k * 0.5,
                k * 0.87,
                k * 0.5
            );
        }
        Some(JointKind::Cross) | None => {
            let w = r.w * 0.22;
            rect(o, "yoke", Rect::new(r.x, r.y, w, r.h), 0.0);
            rect(o, "yoke", Rect::new(r.right() - w, r.y, w, r.h), 0.0);
            let _ = write!(
                o,
                r#"<circle class="body" cx="{x:.1}" cy="{y:.1}" r="{k:.1}"/><path class="line" d="M{0:.1} {y:.1} h{1:.1} M{x:.1} {2:.1} v{1:.1}"/>"#,
                x - k * 0.7,
                k * 1.4,
                y - k * 0.7
            );
        }
        Some(JointKind::DoubleCross) => {
            rect(o, "body", Rect::new(r.x, y - r.h * 0.36, r.w, r.h * 0.72), 2.0);
            for dx in [-0.24, 0.24] {
                let _ = write!(o, r#"<circle class="line" cx="{:.1}" cy="{y:.1}" r="{:.1}"/>"#, x + r.w * dx, k * 0.6);
            }
        }
        Some(JointKind::Ball) => {
            let _ = write!(
                o,
                r#"<circle class="body" cx="{x:.1}" cy="{y:.1}" r="{0:.1}"/><circle class="line" cx="{x:.1}" cy="{y:.1}" r="{1:.1}"/>"#,
                r.w.min(r.h) / 2.0,
                k * 0.7
            );
        }
        Some(JointKind::Tripod) => {
            let _ = write!(
                o,
                r#"<circle class="body" cx="{x:.1}" cy="{y:.1}" r="{0:.1}"/><path class="line" d="M{x:.1} {y:.1} v-{k:.1} M{x:.1} {y:.1} l{1:.1} {2:.1} M{x:.1} {y:.1} l-{1:.1} {2:.1}"/>"#,
                r.w.min(r.h) / 2.0,
                k * 0.87,
                k * 0.5
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::vehicle::sample::*;

    #[test]
    fn every_part_is_a_link_with_its_name_and_nothing_has_a_style() {
        for v in every_layout() {
            let m = Marks { href: Some("/x/".into()), ..Marks::default() };
            let svg = band(&v, &m);
            for p in v.places() {
                assert_eq!(svg.matches(&format!("data-place=\"{}\"", p.id)).count(), 2, "{} {}", v.name, p.id);
            }
            assert!(!svg.contains("style="));
            assert_eq!(svg.matches("<a ").count(), svg.matches("</a>").count());
        }
    }

    #[test]
    fn suspicion_and_clearance_are_said_in_words_too() {
        let v = rear_drive(2);
        let mut m = Marks { href: Some("/x/".into()), ..Marks::default() };
        m.suspect.insert("prop.rear.s2".into(), 0.46);
        m.cleared.insert("wheel.fl".into());
        m.pins.push(Pin { place: "prop.rear.s2".into(), text: "0.42 m/s²".into(), wanted: false });
        let svg = band(&v, &m);
        assert!(svg.contains("rear section, suspect 46 %") && svg.contains("front left wheel, cleared"));
        assert!(svg.contains("0.42 m/s²") && svg.contains("rear section 46 %"));
    }

    #[test]
    fn names_are_escaped() {
        let mut v = rear_drive(1);
        v.name = "<script>\"&".into();
        let svg = band(&v, &Marks::default());
        assert!(!svg.contains("<script>") && svg.contains("&lt;script&gt;&quot;&amp;"));
    }
}
