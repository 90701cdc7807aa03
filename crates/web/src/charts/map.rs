//! Axes and ladder around an order map; the canvas with the ink lies over the plot.

use super::{PLOT, Rung, axis_x, esc, family_class, tick_text, ticks};
use baricord_core::analysis::OrderMap;
use std::fmt::Write;

/// What part of a map is shown, and over what.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Axes {
    /// Speeds, km/h.
    pub speed: (f64, f64),
    /// Orders, or Hz.
    pub up: (f64, f64),
    /// Over frequency: a wheel's turns a second at 1 km/h.
    pub hz_per_kmh: Option<f64>,
}

impl Axes {
    /// All of a map, over orders.
    pub fn new(m: &OrderMap) -> Self {
        Self { speed: (m.speed_from, m.speed_to()), up: (0.0, m.top()), hz_per_kmh: None }
    }

    /// Where an order stands at a speed.
    fn height(&self, order: f64, kmh: f64) -> f64 {
        order * self.hz_per_kmh.map_or(1.0, |k| k * kmh)
    }
}

/// Draws them.
pub fn map_frame(axes: &Axes, rungs: &[Rung], mark: Option<(f64, f64)>) -> String {
    let (px, py, pw, ph) = PLOT;
    let ((lo, hi), (bottom, top)) = (axes.speed, axes.up);
    let y = |at: f64| py + ph * (1.0 - (at - bottom) / (top - bottom));
    let x = |kmh: f64| px + pw * (kmh - lo) / (hi - lo);
    let mut o = String::from(
        r#"<svg class="mapframe" viewBox="0 0 950 340" role="group" aria-label="Order map: orders against road speed">"#,
    );
    let _ = write!(o, r#"<rect class="frame" x="{px}" y="{py}" width="{pw}" height="{ph}"/>"#);
    axis_x(&mut o, PLOT, lo, hi);
    let all = ticks(bottom, top, 10);
    let step = all.windows(2).next().map_or(1.0, |w| w[1] - w[0]);
    for t in all {
        let _ = write!(
            o,
            r#"<line class="hair" x1="{:.1}" y1="{1:.1}" x2="{px}" y2="{1:.1}"/><text class="figure end" x="{2:.1}" y="{3:.1}">{4}</text>"#,
            px - 5.0,
            y(t),
            px - 9.0,
            y(t) + 4.5,
            tick_text(t, step)
        );
    }
    let words = if axes.hz_per_kmh.is_some() { "Hz" } else { "order, × wheel" };
    let _ = write!(
        o,
        r#"<text class="note turned" transform="translate(20 {:.0}) rotate(-90)">{words}</text>"#,
        py + ph / 2.0 + 50.0
    );
    ladder(&mut o, axes, rungs, &y, &x);
    if let Some((kmh, order)) = mark {
        let at = axes.height(order, kmh);
        if (bottom..top).contains(&at) && (lo..hi).contains(&kmh) {
            let _ = write!(o, r#"<circle class="spot" cx="{:.1}" cy="{:.1}" r="8"/>"#, x(kmh), y(at));
        }
    }
    o += "</svg>";
    o
}

/// The rungs that reach the right edge inside the view, with their words.
fn ladder(o: &mut String, axes: &Axes, rungs: &[Rung], y: &dyn Fn(f64) -> f64, x: &dyn Fn(f64) -> f64) {
    let (px, py, pw, ph) = PLOT;
    let ((lo, hi), (bottom, top)) = (axes.speed, axes.up);
    let edge = |r: &Rung| axes.height(r.order, hi);
    // Words keep their distance: pushed apart from the top down, then back up from the bottom.
    let mut sorted: Vec<&Rung> = rungs.iter().filter(|r| r.order > 0.0 && edge(r) > bottom && edge(r) < top).collect();
    sorted.sort_by(|a, b| b.order.total_cmp(&a.order));
    let mut at: Vec<f64> = sorted.iter().map(|r| y(edge(r))).collect();
    for i in 1..at.len() {
        at[i] = at[i].max(at[i - 1] + 19.0);
    }
    let floor = py + ph + 2.0;
    for i in (0..at.len()).rev() {
        let limit = if i + 1 == at.len() { floor } else { at[i + 1] - 19.0 };
        at[i] = at[i].min(limit);
    }
    for (r, ty) in sorted.iter().zip(&at) {
        let class = family_class(r.family);
        let state = match (r.chosen, r.found) {
            (true, _) => "chosen",
            (_, true) => "found",
            _ => "quiet",
        };
        let ly = y(edge(r));
        let (open, close) = match &r.href {
            Some(h) => (format!(r#"<a href="{}" data-rung="{}" class="rung {state}">"#, esc(h), r.key), "</a>"),
            None => (format!(r#"<g data-rung="{}" class="rung {state}" tabindex="0">"#, r.key), "</g>"),
        };
        let _ = write!(
            o,
            r#"{open}<rect class="touch" x="{0:.1}" y="{1:.1}" width="196" height="19"/><path class="order {class}" d="M{2:.1} {ly:.1} h8 L{3:.1} {ty:.1} h14"/><text class="rungname" x="{4:.1}" y="{5:.1}">{6}</text><text class="figure end" x="948" y="{5:.1}">{7:.2}</text>{close}"#,
            px + pw,
            ty - 10.0,
            px + pw,
            px + pw + 14.0,
            px + pw + 33.0,
            ty + 4.5,
            esc(&r.words),
            r.order
        );
        if r.chosen {
            let from = axes.height(r.order, lo).max(bottom);
            let _ = write!(
                o,
                r#"<line class="order chosen {class}" x1="{:.1}" y1="{:.1}" x2="{:.1}" y2="{ly:.1}"/>"#,
                x(if axes.hz_per_kmh.is_some() && axes.height(r.order, lo) < bottom {
                    lo.max(bottom * hi / edge(r))
                } else {
                    lo
                }),
                y(from),
                px + pw
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::measure::orders::Family;

    fn rung(order: f64) -> Rung {
        Rung { key: "w".into(), words: "shaft".into(), order, family: Family::Shaft, chosen: true, found: true, href: None }
    }

    #[test]
    fn what_is_out_of_view_is_left_out_and_the_rest_moves() {
        let all = Axes { speed: (40.0, 120.0), up: (0.0, 10.0), hz_per_kmh: None };
        let near = Axes { up: (3.0, 5.0), ..all };
        assert!(map_frame(&all, &[rung(4.1), rung(8.2)], None).matches("shaft</text>").count() == 2);
        let zoomed = map_frame(&near, &[rung(4.1), rung(8.2)], Some((90.0, 4.1)));
        assert!(zoomed.matches("shaft</text>").count() == 1 && zoomed.contains("spot"));
        assert!(!map_frame(&near, &[], Some((90.0, 8.2))).contains("spot"));
    }

    #[test]
    fn over_frequency_an_order_is_a_line_that_leans() {
        let axes = Axes { speed: (40.0, 120.0), up: (0.0, 100.0), hz_per_kmh: Some(0.133) };
        let o = map_frame(&axes, &[rung(4.1)], None);
        let line = o.split("order chosen").nth(1).unwrap();
        let at = |k: &str| line.split(&format!("{k}=\"")).nth(1).unwrap().split('"').next().unwrap().parse::<f64>().unwrap();
        assert!(at("y1") > at("y2") + 50.0, "{line}");
        assert!(o.contains(">Hz<"));
    }
}
