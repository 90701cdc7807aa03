//! Pictures of the sheets: a clock for what lies round a turn, a bar with the band that is wanted, a stack, a curve.

use crate::charts::clock_face;
use crate::drawing::esc;
use std::fmt::Write;

/// Something at an angle of the clock.
pub(super) struct Hand {
    pub deg: f64,
    /// From the middle, 0 to 1.
    pub reach: f64,
    /// reading, fitted, here, body.
    pub class: &'static str,
    pub words: String,
    /// Drawn as a line from the middle; else as a dot.
    pub is_arm: bool,
}

/// A turn from 0° at the top, clockwise, with what lies round it.
pub(super) fn clock(label: &str, hands: &[Hand], middle: &str) -> String {
    let (c, r) = (150.0, 112.0);
    let at = |deg: f64, radius: f64| (c + radius * deg.to_radians().sin(), c - radius * deg.to_radians().cos());
    let mut o = format!(r#"<svg class="dial clock" viewBox="-14 0 328 300" role="img" aria-label="{}">"#, esc(label));
    let _ = write!(o, r#"<circle class="frame" cx="{c}" cy="{c}" r="{r}"/><circle class="hair" cx="{c}" cy="{c}" r="134"/>"#);
    o += &clock_face((c, c));
    for h in hands {
        let (x, y) = at(h.deg, r * h.reach.clamp(0.0, 1.1));
        if h.is_arm {
            let _ = write!(o, r#"<path class="{} arm" d="M{c} {c} L{x:.1} {y:.1}"/>"#, h.class);
        }
        let _ = write!(o, r#"<circle class="{}" cx="{x:.1}" cy="{y:.1}" r="7"/>"#, h.class);
        if !h.words.is_empty() {
            // Within the dot where there is room, else beyond it.
            let (tx, ty) = at(h.deg, if h.reach < 0.45 { r * h.reach + 26.0 } else { r * h.reach - 24.0 });
            let _ = write!(o, r#"<text class="label mid" x="{tx:.1}" y="{:.1}">{}</text>"#, ty + 4.0, esc(&h.words));
        }
    }
    if !middle.is_empty() {
        let _ = write!(o, r#"<text class="note mid" x="{c}" y="{:.1}">{}</text>"#, c + 4.0, esc(middle));
    }
    o + "</svg>"
}

/// A line of a bar chart: words, value, what is drawn over it as its limit.
pub(super) struct Bar {
    pub words: String,
    pub value: f64,
    /// The value with its unit.
    pub shown: String,
    /// Where a tick stands.
    pub limit: Option<f64>,
    pub is_over: bool,
}

/// Bars under each other, all to one scale, from zero.
pub(super) fn bars(label: &str, all: &[Bar]) -> String {
    if all.is_empty() {
        return String::new();
    }
    let most = all.iter().flat_map(|b| [Some(b.value.abs()), b.limit]).flatten().fold(1e-9, f64::max) * 1.08;
    let h = 46.0 * all.len() as f64 + 4.0;
    let mut o = format!(r#"<svg class="bars" viewBox="0 0 420 {h}" role="img" aria-label="{}">"#, esc(label));
    for (i, b) in all.iter().enumerate() {
        let y = 46.0 * i as f64;
        let w = 416.0 * (b.value.abs() / most).min(1.0);
        let class = if b.is_over { "bar-fill over" } else { "bar-fill" };
        let _ = write!(
            o,
            r#"<text class="label" x="2" y="{:.1}">{}</text><text class="figure end" x="418" y="{:.1}">{}</text><rect class="bar-frame" x="2" y="{:.1}" width="416" height="16"/><rect class="{class}" x="2" y="{:.1}" width="{w:.1}" height="16"/>"#,
            y + 17.0,
            esc(&b.words),
            y + 17.0,
            esc(&b.shown),
            y + 23.0,
            y + 23.0
        );
        if let Some(l) = b.limit {
            let x = 2.0 + 416.0 * l / most;
            let _ = write!(o, r#"<line class="here" x1="{x:.1}" y1="{:.1}" x2="{x:.1}" y2="{:.1}"/>"#, y + 19.0, y + 43.0);
        }
    }
    o + "</svg>"
}

/// One value with the band in which it is wanted.
pub(super) fn band(label: &str, value: Option<(f64, String)>, wanted: [f64; 2], words: &str) -> String {
    let most = value.as_ref().map_or(0.0, |v| v.0).max(wanted[1]) * 1.25 + 1e-9;
    let x = |v: f64| 4.0 + 412.0 * (v / most).clamp(0.0, 1.0);
    let mut o = format!(r#"<svg class="bars" viewBox="0 0 420 96" role="img" aria-label="{}">"#, esc(label));
    let (a, b) = (x(wanted[0]), x(wanted[1]));
    let _ = write!(
        o,
        r#"<rect class="bar-frame" x="4" y="34" width="412" height="26"/><rect class="wanted" x="{a:.1}" y="34" width="{:.1}" height="26"/><text class="label mid" x="{:.1}" y="82">{}</text>"#,
        (b - a).max(3.0),
        ((a + b) / 2.0).clamp(70.0, 350.0),
        esc(words)
    );
    if let Some((v, shown)) = value {
        let at = x(v);
        let _ = write!(
            o,
            r#"<path class="gauge" d="M{at:.1} 34 l-8 -11 h16 z"/><line class="line" x1="{at:.1}" y1="34" x2="{at:.1}" y2="60"/><text class="label mid" x="{:.1}" y="17">{}</text>"#,
            at.clamp(40.0, 380.0),
            esc(&shown)
        );
    }
    o + "</svg>"
}

/// A curve with its zero lines; names of both axes with their units.
pub(super) fn curve(label: &str, points: &[(f64, f64)], across: &str, up: &str, limit: Option<f64>) -> String {
    if points.len() < 2 {
        return String::new();
    }
    let (x0, x1) = points.iter().fold((f64::MAX, f64::MIN), |b, p| (b.0.min(p.0), b.1.max(p.0)));
    let all = || points.iter().map(|p| p.1).chain(limit.map(|l| -l)).chain([0.0]);
    let (y0, y1) = all().fold((f64::MAX, f64::MIN), |b, y| (b.0.min(y), b.1.max(y)));
    let (wide, high) = ((x1 - x0).max(1e-9), (y1 - y0).max(1e-9));
    let x = |v: f64| 56.0 + 340.0 * (v - x0) / wide;
    let y = |v: f64| 20.0 + 130.0 * (y1 - v) / high;
    let line: Vec<String> = points.iter().map(|p| format!("{:.1},{:.1}", x(p.0), y(p.1))).collect();
    let mut o = format!(r#"<svg class="bars" viewBox="0 0 420 196" role="img" aria-label="{}">"#, esc(label));
    let _ = write!(
        o,
        r#"<line class="hair" x1="56" y1="{0:.1}" x2="396" y2="{0:.1}"/><polyline class="curve-line" points="{1}"/><text class="note" x="56" y="12">{2}</text><text class="note end" x="396" y="190">{3}</text>"#,
        y(0.0),
        line.join(" "),
        esc(up),
        esc(across)
    );
    if x0 < 0.0 && x1 > 0.0 {
        let _ = write!(o, r#"<line class="hair" x1="{0:.1}" y1="20" x2="{0:.1}" y2="150"/>"#, x(0.0));
    }
    if let Some(l) = limit {
        let _ = write!(o, r#"<line class="here" x1="56" y1="{0:.1}" x2="396" y2="{0:.1}"/>"#, y(-l));
    }
    for v in [y0, y1] {
        let _ =
            write!(o, r#"<text class="figure end" x="50" y="{:.1}" data-figure="{v:.1}" data-of="mm">{v:.1}</text>"#, y(v) + 5.0);
    }
    for v in [x0, x1] {
        let _ = write!(o, r#"<text class="figure mid" x="{:.1}" y="170" data-figure="{v:.0}" data-of="mm">{v:.0}</text>"#, x(v));
    }
    o + "</svg>"
}

/// A plate of a pack: its thickness, its letter (f friction, s steel, w spring, x shim), whether something is wrong with it.
pub(super) struct PlateDrawn {
    pub mm: f64,
    pub letter: char,
    pub is_wrong: bool,
}

/// Plates of packs on each other.
pub(super) fn stack(label: &str, packs: &[(&str, Vec<PlateDrawn>)]) -> String {
    let most = packs.iter().map(|p| p.1.len()).max().unwrap_or(0);
    let h = 26.0 * most as f64 + 40.0;
    let mut o = format!(r#"<svg class="bars" viewBox="0 0 420 {h}" role="img" aria-label="{}">"#, esc(label));
    for (i, (name, plates)) in packs.iter().enumerate() {
        let x = 10.0 + 210.0 * i as f64;
        let _ = write!(o, r#"<text class="label" x="{x}" y="18">{}</text>"#, esc(name));
        for (k, PlateDrawn { mm, letter: kind, is_wrong: wrong }) in plates.iter().enumerate() {
            let y = 28.0 + 26.0 * k as f64;
            let fill = if *kind == 'f' { "plate lined" } else { "plate" };
            let words = match kind {
                'f' => "friction",
                's' => "steel",
                'w' => "spring",
                _ => "shim",
            };
            let over = if *wrong { " over" } else { "" };
            let _ = write!(
                o,
                r#"<rect class="{fill}{over}" x="{x}" y="{y:.1}" width="64" height="20"/><text class="figure{over}" x="{:.1}" y="{:.1}">{mm:.2} mm {words}</text>"#,
                x + 72.0,
                y + 15.0
            );
        }
    }
    o + "</svg>"
}

/// A tooth of the ring gear with the painted pattern: toe at the left, heel at the right, face above, flank below.
pub(super) fn tooth(label: &str, patterns: &[(&str, i8, i8)]) -> String {
    let mut o = format!(r#"<svg class="bars" viewBox="0 0 420 150" role="img" aria-label="{}">"#, esc(label));
    for (i, (name, along, up)) in patterns.iter().enumerate() {
        let x = 12.0 + 208.0 * i as f64;
        let (cx, cy) = (x + 92.0 + 48.0 * f64::from(*along), 76.0 - 20.0 * f64::from(*up));
        let _ = write!(
            o,
            r#"<text class="label" x="{x}" y="16">{}</text><path class="body" d="M{x} 40 L{:.1} 28 V124 L{x} 112 Z"/><ellipse class="paint" cx="{cx:.1}" cy="{cy:.1}" rx="38" ry="16"/><text class="note" x="{x}" y="140">toe</text><text class="note end" x="{:.1}" y="140">heel</text>"#,
            esc(name),
            x + 184.0,
            x + 184.0
        );
    }
    o + "</svg>"
}
