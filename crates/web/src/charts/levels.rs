//! Levels and phase against speed.

use super::{axis_x, tick_text, ticks};
use crate::drawing::esc;
use baricord_core::analysis::{LevelBin, PhaseBin};
use std::fmt::Write;

/// One curve of levels.
pub struct Curve<'a> {
    pub levels: &'a [LevelBin],
    pub class: &'static str,
    pub words: String,
}

/// Levels against speed, with the felt line (speed, level) where there is one.
pub fn level_chart(curves: &[Curve], felt: &[(f64, f64)], mark: Option<f64>, unit: &str) -> String {
    let all = || curves.iter().flat_map(|c| c.levels.iter());
    let (lo, hi) = all().fold((f64::MAX, f64::MIN), |b, l| (b.0.min(l.speed_kmh - 2.5), b.1.max(l.speed_kmh + 2.5)));
    if lo >= hi {
        return String::new();
    }
    let top = all().map(|l| l.amplitude + l.sigma).fold(1e-6, f64::max) * 1.15;
    let plot = (62.0, 14.0, 690.0, 96.0);
    let (px, py, pw, ph) = plot;
    let x = |v: f64| px + pw * (v - lo) / (hi - lo);
    let y = |a: f64| py + ph * (1.0 - (a / top).clamp(0.0, 1.0));
    let mut o = String::from(r#"<svg class="levels" viewBox="0 0 772 140" role="img" aria-label="Level against road speed">"#);
    let _ = write!(o, r#"<path class="hair" d="M{px} {py} V{:.1} H{:.1}"/>"#, py + ph, px + pw);
    axis_x(&mut o, plot, lo, hi);
    let steps = ticks(0.0, top, 3);
    let step = steps.get(1).copied().unwrap_or(1.0);
    for t in steps {
        let _ = write!(o, r#"<text class="figure end" x="{:.1}" y="{:.1}">{}</text>"#, px - 9.0, y(t) + 4.5, tick_text(t, step));
    }
    let _ = write!(o, r#"<text class="note" x="{:.1}" y="11">{}, peak</text>"#, px + 4.0, esc(unit));
    if !felt.is_empty() {
        let line: Vec<String> =
            felt.iter().filter(|f| f.0 >= lo && f.0 <= hi).map(|f| format!("{:.1},{:.1}", x(f.0), y(f.1))).collect();
        if line.len() > 1 {
            let _ = write!(
                o,
                r#"<polyline class="felt" points="{}"/><text class="note felt-word" x="{:.1}" y="11">- - felt from this line up</text>"#,
                line.join(" "),
                px + 96.0
            );
        }
    }
    for c in curves {
        let band: Vec<(f64, f64, f64)> = c
            .levels
            .iter()
            .map(|l| (x(l.speed_kmh), y(l.amplitude + 2.0 * l.sigma), y((l.amplitude - 2.0 * l.sigma).max(0.0))))
            .collect();
        let up: Vec<String> = band.iter().map(|b| format!("{:.1},{:.1}", b.0, b.1)).collect();
        let down: Vec<String> = band.iter().rev().map(|b| format!("{:.1},{:.1}", b.0, b.2)).collect();
        let line: Vec<String> = c.levels.iter().map(|l| format!("{:.1},{:.1}", x(l.speed_kmh), y(l.amplitude))).collect();
        let _ = write!(
            o,
            r#"<polygon class="error" points="{} {}"/><polyline class="curve order {}" points="{}"/>"#,
            up.join(" "),
            down.join(" "),
            c.class,
            line.join(" ")
        );
    }
    for (x, y, c) in named(curves, &x, &y, py) {
        let _ = write!(o, r#"<text class="note {}" x="{x:.1}" y="{y:.1}">{}</text>"#, c.class, esc(&c.words));
    }
    if let Some(v) = mark {
        let _ = write!(o, r#"<line class="here" x1="{0:.1}" y1="{py}" x2="{0:.1}" y2="{1:.1}"/>"#, x(v), py + ph);
    }
    o += "</svg>";
    o
}

/// Where each curve's name stands: at its highest point, moved down where another name stands already.
fn named<'a, 'b>(
    curves: &'b [Curve<'a>],
    x: &dyn Fn(f64) -> f64,
    y: &dyn Fn(f64) -> f64,
    top: f64,
) -> Vec<(f64, f64, &'b Curve<'a>)> {
    const HIGH: f64 = 14.0;
    const WIDE: f64 = 7.0;
    let mut out: Vec<(f64, f64, &Curve)> = vec![];
    for c in curves.iter().filter(|c| !c.words.is_empty()) {
        let Some(l) = c.levels.iter().max_by(|a, b| a.amplitude.total_cmp(&b.amplitude)) else { continue };
        let width = WIDE * c.words.chars().count() as f64;
        let at = (x(l.speed_kmh) + 6.0).min(752.0 - width);
        let mut down = (y(l.amplitude) - 6.0).max(top + 8.0);
        let meets = |down: f64, o: &(f64, f64, &Curve)| {
            let reach = WIDE * o.2.words.chars().count() as f64;
            (o.1 - down).abs() < HIGH && at < o.0 + reach && o.0 < at + width
        };
        while let Some(other) = out.iter().find(|o| meets(down, o)) {
            // A little more than needed: a rounded sum must not meet it again.
            down = other.1 + HIGH + 0.5;
        }
        out.push((at, down, c));
    }
    out
}

/// How far an order stands behind the pulse at each speed. Phase goes round: a step over the top is none.
pub fn phase_chart(phase: &[PhaseBin]) -> String {
    let (lo, hi) = phase.iter().fold((f64::MAX, f64::MIN), |b, p| (b.0.min(p.speed_kmh - 2.5), b.1.max(p.speed_kmh + 2.5)));
    if lo >= hi {
        return String::new();
    }
    let plot = (62.0, 14.0, 690.0, 96.0);
    let (px, py, pw, ph) = plot;
    let x = |v: f64| px + pw * (v - lo) / (hi - lo);
    let y = |deg: f64| py + ph * (1.0 - deg.clamp(0.0, 360.0) / 360.0);
    let mut o = String::from(r#"<svg class="levels" viewBox="0 0 772 140" role="img" aria-label="Phase against road speed">"#);
    let _ = write!(o, r#"<path class="hair" d="M{px} {py} V{:.1} H{:.1}"/>"#, py + ph, px + pw);
    axis_x(&mut o, plot, lo, hi);
    for deg in [0.0, 180.0, 360.0] {
        let _ = write!(o, r#"<text class="figure end" x="{:.1}" y="{:.1}">{deg:.0}°</text>"#, px - 9.0, y(deg) + 4.5);
    }
    let _ = write!(o, r#"<text class="note" x="{:.1}" y="11">degrees behind the pulse</text>"#, px + 4.0);
    for p in phase {
        let (up, down) = (y(p.behind_deg + 2.0 * p.sigma_deg), y(p.behind_deg - 2.0 * p.sigma_deg));
        let _ = write!(
            o,
            r#"<line class="order wheel" x1="{0:.1}" y1="{up:.1}" x2="{0:.1}" y2="{down:.1}"/><circle class="reading" cx="{0:.1}" cy="{1:.1}" r="4"/>"#,
            x(p.speed_kmh),
            y(p.behind_deg)
        );
    }
    o += "</svg>";
    o
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bins(peak: f64) -> Vec<LevelBin> {
        (8..20)
            .map(|i| LevelBin { speed_kmh: 5.0 * f64::from(i) + 2.5, amplitude: peak * f64::from(i) / 19.0, sigma: 0.01 })
            .collect()
    }

    #[test]
    fn names_of_curves_that_end_alike_stand_apart() {
        let (a, b) = (bins(0.50), bins(0.49));
        let curve = |levels, words: &str| Curve { levels, class: "wheel", words: words.into() };
        let curves = [curve(&a, "before"), curve(&b, "after")];
        let placed = named(&curves, &|v| 6.0 * v, &|a| 100.0 - 100.0 * a, 14.0);
        assert!((placed[0].1 - placed[1].1).abs() >= 14.0 && placed.iter().all(|p| p.0 < 752.0 - 30.0));
        let svg = level_chart(&curves, &[], None, "m/s²");
        assert!(svg.contains(">before</text>") && svg.contains(">after</text>"));
    }

    #[test]
    fn names_find_a_place_wherever_their_curves_stand() {
        for k in 0..2000 {
            let (a, b, c) = (bins(0.5), bins(0.5 - 0.0001 * f64::from(k)), bins(0.5 - 0.00007 * f64::from(k)));
            let curve = |levels, words: &str| Curve { levels, class: "wheel", words: words.into() };
            let curves = [curve(&a, "before"), curve(&b, "after"), curve(&c, "again")];
            let placed = named(&curves, &|v| 6.0 * v, &|a| 17.3 / 3.0 - 113.7 * a, -500.0);
            assert!((placed[0].1 - placed[1].1).abs() >= 14.0 && (placed[2].1 - placed[1].1).abs() >= 14.0);
        }
    }

    #[test]
    fn a_phase_has_its_marks_and_nothing_is_drawn_of_none() {
        let p = [
            PhaseBin { speed_kmh: 52.5, behind_deg: 90.0, sigma_deg: 3.0 },
            PhaseBin { speed_kmh: 57.5, behind_deg: 350.0, sigma_deg: 9.0 },
        ];
        assert_eq!(phase_chart(&p).matches("<circle").count(), 2);
        assert_eq!(phase_chart(&[]), "");
    }
}
