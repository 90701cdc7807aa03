//! Views beside the drawing: the order map's ladder, levels against speed, the dial, the side view,
//! before over after. SVG, classes only; one line style for each family everywhere.

mod levels;
mod map;

pub use levels::{Curve, level_chart, phase_chart};
pub use map::{Axes, map_frame};

use crate::drawing::esc;
use baricord_core::measure::angles::{Angles, Element};
use baricord_core::measure::orders::Family;
use baricord_core::measure::runout::{Reading, Runout};
use baricord_core::vehicle::JointKind;
use std::fmt::Write;

/// Where the map's plot stands in its own units: the canvas is laid over it.
/// Where the plot of a map lies: left, upper edge, width, height.
pub const PLOT: (f64, f64, f64, f64) = (62.0, 12.0, 690.0, 300.0);

/// A rung of the ladder beside the map.
pub struct Rung {
    pub key: String,
    pub words: String,
    pub order: f64,
    pub family: Family,
    pub chosen: bool,
    pub found: bool,
    pub href: Option<String>,
}

/// Class of a family's line style.
pub fn family_class(f: Family) -> &'static str {
    match f {
        Family::Wheel => "wheel",
        Family::Half => "half",
        Family::Shaft => "shaft",
        Family::Engine => "engine",
        Family::Mesh => "mesh",
        Family::Bearing => "bearing",
    }
}

/// Round ticks over a range.
fn ticks(lo: f64, hi: f64, most: usize) -> Vec<f64> {
    let raw = (hi - lo).max(1e-9) / most as f64;
    let mag = 10f64.powf(raw.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].iter().map(|k| k * mag).find(|s| *s >= raw).unwrap_or(mag * 10.0);
    let first = (lo / step).ceil() as i64;
    (first..).map(|i| i as f64 * step).take_while(|x| *x <= hi + 1e-9).collect()
}

fn tick_text(x: f64, step: f64) -> String {
    if step >= 1.0 {
        format!("{x:.0}")
    } else if step >= 0.1 {
        format!("{x:.1}")
    } else {
        format!("{x:.2}")
    }
}

fn axis_x(o: &mut String, plot: (f64, f64, f64, f64), lo: f64, hi: f64) {
    let (px, py, pw, ph) = plot;
    let all = ticks(lo, hi, 10);
    for (i, t) in all.iter().enumerate() {
        let x = px + pw * (t - lo) / (hi - lo);
        let _ = write!(o, r#"<line class="hair" x1="{x:.1}" y1="{:.1}" x2="{x:.1}" y2="{:.1}"/>"#, py + ph, py + ph + 5.0);
        // The last figure carries the unit; it is drawn leftwards near the edge, so that it is never cut.
        let y = py + ph + 19.0;
        let _ = match i + 1 == all.len() {
            true => {
                write!(o, r#"<text class="figure end" x="{:.1}" y="{y:.1}">{t:.0} km/h</text>"#, (x + 42.0).min(px + pw + 12.0))
            }
            false => {
                write!(o, r#"<text class="figure mid" x="{x:.1}" y="{y:.1}" data-figure="{t:.0}" data-of="km/h">{t:.0}</text>"#)
            }
        };
    }
}

/// The least that a dial's picture reaches to where no limit is known, mm.
const DIAL_SCALE_MM: f64 = 0.5;

/// Ticks and figures of a turn round a middle: 0° at the top, clockwise.
pub fn clock_face((cx, cy): (f64, f64)) -> String {
    let at = |deg: f64, radius: f64| (cx + radius * deg.to_radians().sin(), cy - radius * deg.to_radians().cos());
    let mut o = String::new();
    for k in 0..24 {
        let d = 15.0 * f64::from(k);
        let ((x1, y1), (x2, y2)) = (at(d, 134.0), at(d, if k % 3 == 0 { 124.0 } else { 129.0 }));
        let _ = write!(o, r#"<line class="line" x1="{x1:.1}" y1="{y1:.1}" x2="{x2:.1}" y2="{y2:.1}"/>"#);
    }
    for d in [0.0, 90.0, 180.0, 270.0] {
        let (x, y) = at(d, 145.0);
        let _ = write!(o, r#"<text class="figure mid" x="{x:.1}" y="{:.1}">{d:.0}°</text>"#, y + 4.5);
    }
    o
}

/// The dial at its measuring point: the part's own circle, readings round it, the fitted circle, the high spot.
pub fn dial(points: &[Reading], fit: Option<&Runout>, limit: Option<f64>) -> String {
    let (cx, cy, r) = (150.0, 150.0, 84.0);
    let largest = points.iter().map(|p| p.mm.get().abs()).fold(limit.unwrap_or(DIAL_SCALE_MM), f64::max).max(0.05);
    let scale = 40.0 / largest;
    let mut o =
        String::from(r#"<svg class="dial" viewBox="-14 0 328 300" role="img" aria-label="Dial readings round one turn">"#);
    let _ = write!(o, r#"<circle class="frame" cx="{cx}" cy="{cy}" r="{r}"/><circle class="hair" cx="{cx}" cy="{cy}" r="134"/>"#);
    let at = |deg: f64, radius: f64| {
        let a = deg.to_radians();
        (cx + radius * a.sin(), cy - radius * a.cos())
    };
    o += &clock_face((cx, cy));
    if let Some(f) = fit {
        let (dx, dy) = at(f.high_spot_deg.get(), f.eccentricity_mm.get() * scale);
        let base = f.offset_mm.get() * scale;
        let _ = write!(o, r#"<circle class="fitted" cx="{dx:.1}" cy="{dy:.1}" r="{:.1}"/>"#, (r + base).max(4.0));
        let ((x1, y1), (x2, y2)) = (at(f.high_spot_deg.get(), 100.0), at(f.high_spot_deg.get(), 132.0));
        let (tx, ty) = at(f.high_spot_deg.get(), 62.0);
        let _ = write!(
            o,
            r#"<path class="here thick" d="M{x1:.1} {y1:.1} L{x2:.1} {y2:.1}"/><text class="label mid" x="{tx:.1}" y="{:.1}">high {:.0}°</text>"#,
            ty + 4.0,
            f.high_spot_deg.get()
        );
        let over = limit.is_some_and(|l| f.raw_tir_mm.get() > l);
        let of_limit = limit.map_or(String::new(), |l| format!(", limit {l:.2} mm"));
        let tir = format!("{:.2}", f.raw_tir_mm.get());
        let _ = write!(
            o,
            r#"<text class="big mid{}" x="{cx}" y="{:.1}" data-figure="{tir}" data-of="mm">{tir}</text><text class="note mid" x="{cx}" y="{:.1}"><tspan data-figure="{tir}" data-of="mm" data-part="unit">mm</tspan>{of_limit}</text>"#,
            if over { " over" } else { "" },
            cy + 4.0,
            cy + 22.0
        );
    } else {
        let _ = write!(o, r#"<text class="note mid" x="{cx}" y="{cy}">four marks at least</text>"#);
    }
    for p in points {
        let (x, y) = at(p.deg.get(), r + p.mm.get() * scale);
        let (x0, y0) = at(p.deg.get(), r);
        let _ = write!(
            o,
            r#"<line class="hair" x1="{x0:.1}" y1="{y0:.1}" x2="{x:.1}" y2="{y:.1}"/><circle class="reading" cx="{x:.1}" cy="{y:.1}" r="4"/>"#
        );
    }
    o += "</svg>";
    o
}

/// The side view: true slopes, drawn four times too steep, joints with their angle; one drawing for the desk, one for a phone.
pub fn side_view(elements: &[Element], joints: &[JointKind], fit: Option<&Angles>, over: &[bool]) -> String {
    [false, true].map(|narrow| side_view_at(elements, joints, fit, over, narrow)).concat()
}

fn side_view_at(elements: &[Element], joints: &[JointKind], fit: Option<&Angles>, over: &[bool], narrow: bool) -> String {
    const STEEP: f64 = 4.0;
    let n = elements.len();
    let (w, ends, edge) = if narrow { (358.0, 46.0, 14.0) } else { (900.0, 110.0, 60.0) };
    let middle = (w - 2.0 * edge - 2.0 * ends) / (n.saturating_sub(2)).max(1) as f64;
    let lengths: Vec<f64> = (0..n).map(|i| if i == 0 || i + 1 == n { ends } else { middle }).collect();
    let slope = |i: usize| (elements[i].side_deg.rad() * STEEP).clamp(-1.1, 1.1);
    let mut points = vec![(edge, 0.0)];
    for (i, l) in lengths.iter().enumerate() {
        let (x, y) = points[i];
        points.push((x + l * slope(i).cos(), y + l * slope(i).sin()));
    }
    let (lo, hi) = points.iter().fold((f64::MAX, f64::MIN), |b, p| (b.0.min(p.1), b.1.max(p.1)));
    let shrink = (110.0 / (hi - lo).max(1.0)).min(1.0);
    let y0 = 92.0 - lo * shrink;
    let bottom = y0 + hi * shrink + 52.0;
    let h = bottom + 30.0;
    let at = |i: usize| (points[i].0, y0 + points[i].1 * shrink);
    let mut o = format!(
        r#"<svg class="sideview {}" viewBox="0 0 {w} {h}" role="img" aria-label="Side view of the shaft, slopes drawn four times too steep">"#,
        if narrow { "sheet-narrow" } else { "sheet-wide" }
    );
    for (i, element) in elements.iter().enumerate() {
        let ((x1, y1), (x2, y2)) = (at(i), at(i + 1));
        let thick = if i == 0 || i + 1 == n { 19.0 } else { 11.0 } * if narrow { 0.6 } else { 1.0 };
        let length = (x2 - x1).hypot(y2 - y1).max(1.0);
        let (ux, uy) = (-(y2 - y1) / length * thick, (x2 - x1) / length * thick);
        let _ = write!(
            o,
            r#"<polygon class="body" points="{:.1},{:.1} {:.1},{:.1} {:.1},{:.1} {:.1},{:.1}"/><line class="axis" x1="{x1:.1}" y1="{y1:.1}" x2="{x2:.1}" y2="{y2:.1}"/>"#,
            x1 + ux,
            y1 + uy,
            x2 + ux,
            y2 + uy,
            x2 - ux,
            y2 - uy,
            x1 - ux,
            y1 - uy
        );
        let (mx, my) = ((x1 + x2) / 2.0, (y1 + y2) / 2.0);
        let d = element.side_deg.get();
        let lower = if d > 0.04 {
            "axle end lower"
        } else if d < -0.04 {
            "axle end higher"
        } else {
            "level"
        };
        // On a phone the drawing says which way, and names stand in two rows.
        let lower = if narrow { "" } else { lower };
        let row = if narrow && i % 2 == 1 { 15.0 } else { 0.0 };
        let _ = write!(
            o,
            r#"<path class="gauge" d="M{mx:.1} {:.1} l-7 -9 h14 z"/><text class="label mid" x="{mx:.1}" y="{:.1}">{:.1}° {lower}</text><text class="note mid" x="{mx:.1}" y="{:.1}">{}</text>"#,
            my - thick,
            my - thick - 14.0,
            d.abs(),
            my + thick + 15.0 + row,
            esc(&element.name)
        );
    }
    for i in 1..n {
        let (x, y) = at(i);
        let bad = over.get(i - 1).copied().unwrap_or(false);
        let class = if bad { "joint over" } else { "joint" };
        let _ = write!(o, r#"<circle class="{class}" cx="{x:.1}" cy="{y:.1}" r="9"/>"#);
        if let Some(b) = fit.and_then(|f| f.joint_deg.get(i - 1)) {
            let _ = write!(
                o,
                r#"<line class="hair" x1="{x:.1}" y1="{:.1}" x2="{x:.1}" y2="{:.1}"/><text class="{} mid" x="{x:.1}" y="{:.1}">{:.1}°</text>"#,
                y + 9.0,
                h - 26.0,
                if bad { "angle over" } else { "angle" },
                h - 9.0,
                b.get()
            );
        }
        if let Some(k) = joints.get(i - 1).filter(|k| **k != JointKind::Cross) {
            let _ = write!(o, r#"<text class="note mid" x="{x:.1}" y="{:.1}">{}</text>"#, y - 14.0, k.words());
        }
    }
    o += "</svg>";
    o
}

/// A stretch of sound as a picture: its outline, on the same scale of time for all.
pub fn wave(samples: &[f32], rate: f64, seconds: f64) -> String {
    let n = ((seconds * rate) as usize).min(samples.len());
    let columns = 160usize;
    let each = (n / columns).max(1);
    let mut path = String::new();
    for (i, part) in samples[..n].chunks(each).take(columns).enumerate() {
        let (lo, hi) = part.iter().fold((0.0f32, 0.0f32), |b, v| (b.0.min(*v), b.1.max(*v)));
        let _ = write!(path, "M{} {:.1} V{:.1} ", 2 * i + 1, 26.0 - 34.0 * hi, 26.0 - 34.0 * lo);
    }
    format!(
        r#"<svg class="wave" viewBox="0 0 {} 52" preserveAspectRatio="none" role="img" aria-label="{seconds:.1} seconds of it"><path class="order wheel" d="{path}"/></svg>"#,
        2 * columns
    )
}

/// Speed and level over time, as a recorder writes them: speed as the full line, level dotted below it.
pub fn trace(speed: &[(f64, f64)], level: &[(f64, f64)], top_kmh: f64) -> String {
    let (x0, y0, w, h) = (62.0, 10.0, 690.0, 84.0);
    let last = |l: &[(f64, f64)]| l.last().map_or(0.0, |r| r.0);
    let span = last(speed).max(last(level)).max(20.0);
    let (top, most) = (top_kmh * 1.1, level.iter().map(|l| l.1).fold(0.5, f64::max) * 1.15);
    let path = |l: &[(f64, f64)], full: f64| {
        let step = (l.len() / 240).max(1);
        let points: Vec<String> = l
            .iter()
            .step_by(step)
            .map(|(t, v)| format!("{:.1} {:.1}", x0 + w * t / span, y0 + h * (1.0 - (v / full).clamp(0.0, 1.0))))
            .collect();
        if points.is_empty() { String::new() } else { format!("M{}", points.join(" L")) }
    };
    let mut o =
        String::from(r#"<svg class="levels trace" viewBox="0 0 950 122" role="img" aria-label="Speed and level over time">"#);
    let _ = write!(o, r#"<rect class="frame" x="{x0}" y="{y0}" width="{w}" height="{h}"/>"#);
    for t in ticks(0.0, span, 8) {
        let x = x0 + w * t / span;
        let _ = write!(
            o,
            r#"<line class="hair" x1="{x:.1}" y1="{0:.1}" x2="{x:.1}" y2="{1:.1}"/><text class="figure" x="{x:.1}" y="{2:.1}">{t:.0} s</text>"#,
            y0 + h,
            y0 + h + 5.0,
            y0 + h + 20.0
        );
    }
    let _ = write!(
        o,
        r#"<path class="order wheel" d="{}"/><path class="order half" d="{}"/><text class="rungname" x="{2}" y="{3}">full line: speed, to {top:.0} km/h</text><text class="rungname" x="{2}" y="{4}">dotted: level, to {most:.2} m/s²</text></svg>"#,
        path(speed, top),
        path(level, most),
        x0 + w + 14.0,
        y0 + 24.0,
        y0 + 48.0,
    );
    o
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::units::{Degrees, Millimetres};

    #[test]
    fn ticks_are_round_and_inside() {
        assert_eq!(ticks(40.0, 130.0, 10), [40.0, 50.0, 60.0, 70.0, 80.0, 90.0, 100.0, 110.0, 120.0, 130.0]);
        assert_eq!(ticks(0.0, 0.45, 3), [0.0, 0.2, 0.4]);
    }

    #[test]
    fn a_map_with_no_rungs_and_a_chart_with_no_levels_draw() {
        use baricord_core::analysis::OrderMap;
        let m = OrderMap { speed_from: 40.0, speed_step: 1.0, columns: 80, order_step: 0.03, rows: 300, full: 1.0, ink: vec![] };
        assert!(map_frame(&Axes::new(&m), &[], None).ends_with("</svg>"));
        assert_eq!(level_chart(&[], &[], None, "m/s²"), "");
    }

    #[test]
    fn a_dial_shows_its_limit_and_says_when_it_is_over() {
        let points: Vec<Reading> = (0..8)
            .map(|i| Reading { deg: Degrees(45.0 * f64::from(i)), mm: Millimetres((f64::from(i) * 0.785).cos()) })
            .collect();
        let input = baricord_core::measure::runout::RunoutInput { readings: Some(points.clone()), ..Default::default() };
        let fit = baricord_core::measure::runout::runout(&input).unwrap();
        let svg = dial(&points, Some(&fit), Some(0.75));
        assert!(svg.contains("limit 0.75 mm") && svg.contains("big mid over"));
        assert!(!dial(&points, Some(&fit), Some(3.0)).contains("big mid over"));
        let unlimited = dial(&points, Some(&fit), None);
        assert!(!unlimited.contains("limit") && !unlimited.contains("big mid over"));
    }
}
