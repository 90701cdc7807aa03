//! Figures in a reader's units: a value as it is shown, and sentences that were written in metric ones.
//!
//! Knowledge, notes of the workshop and what the program works out speak metric; a reader who chose the other system gets each figure with
//! a metric unit in that system, rounded as finely as it was written. What stands in quotation marks is somebody's and stays.

use super::conversion::{Dimension, Unit, UnitSystem};
use regex::{Captures, Regex};
use std::borrow::Cow;
use std::sync::LazyLock;

/// A length from which on inches are broken, not decimal, mm.
const FRACTION_FROM_MM: f64 = 10.0;
/// As near as this to a sixteenth, a decimal length is that sixteenth, mm.
const SIXTEENTH_WITHIN_MM: f64 = 0.06;
/// A torque below which pound-inches are read, N·m.
const POUND_INCH_BELOW_NM: f64 = 12.0;
/// Inches in a millimetre.
const INCH_PER_MM: f64 = 1.0 / 25.4;

/// Inches to the nearest sixteenth: `46 1/4`, `3/16`, `3`.
pub(crate) fn sixteenths(inches: f64) -> String {
    let sign = if inches < 0.0 { "−" } else { "" };
    let all = (inches.abs() * 16.0).round() as u64;
    let (whole, mut above, mut below) = (all / 16, all % 16, 16);
    while above > 0 && above % 2 == 0 {
        (above, below) = (above / 2, below / 2);
    }
    match (whole, above) {
        (w, 0) => format!("{sign}{w}"),
        (0, a) => format!("{sign}{a}/{below}"),
        (w, a) => format!("{sign}{w} {a}/{below}"),
    }
}

fn fixed(x: f64, decimals: usize) -> String {
    let text = format!("{x:.decimals$}");
    // Nothing below nothing.
    if text.bytes().all(|b| matches!(b, b'-' | b'0' | b'.')) { text.trim_start_matches('-').to_string() } else { text }
}

/// Without noughts after the point.
fn trimmed(text: String) -> String {
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_string() } else { text }
}

/// The unit in which a reader of the other system meets a figure, and how it is written there. `most` is the largest of the figures that
/// share the unit, `decimals` how finely it was written.
fn target(unit: Unit, most: f64, decimals: usize) -> Option<(Unit, Style)> {
    let whole_from = |limit: f64| Style::Decimals(if most >= limit { 0 } else { 1 }.max(decimals.saturating_sub(1)));
    Some(match unit {
        Unit::Millimetre | Unit::Centimetre => {
            let mm = unit.to_base(most);
            let style = match (decimals, unit) {
                (0, Unit::Millimetre) if mm >= FRACTION_FROM_MM => Style::Sixteenths,
                (0, Unit::Centimetre) => Style::Decimals(0),
                (0, _) => Style::Decimals(2),
                (d, _) if mm >= FRACTION_FROM_MM => Style::SixteenthsIfNear(d + 1),
                (d, _) => Style::Decimals((d + 1).clamp(3, 4)),
            };
            (Unit::Inch, style)
        }
        Unit::Metre if decimals >= 2 => (Unit::Inch, Style::Decimals(decimals - 1)),
        Unit::Metre => (Unit::Foot, Style::Decimals(decimals)),
        Unit::Kilometre => (Unit::Mile, Style::Decimals(if most >= 10.0 { 0 } else { decimals.max(1) })),
        Unit::KilometrePerHour => (Unit::MilePerHour, Style::Decimals(decimals)),
        Unit::NewtonMetre if most < POUND_INCH_BELOW_NM => (Unit::PoundInch, Style::Decimals(decimals.saturating_sub(1))),
        Unit::NewtonMetre => (Unit::PoundFoot, Style::Trimmed(decimals)),
        Unit::Celsius => (Unit::Fahrenheit, Style::Decimals(decimals)),
        Unit::Litre => (Unit::Quart, Style::Decimals(decimals.max(1))),
        Unit::Millilitre => (Unit::FluidOunce, whole_from(300.0)),
        Unit::Newton => (Unit::PoundForce, whole_from(40.0)),
        Unit::Kilogram => (Unit::Pound, whole_from(10.0)),
        Unit::Bar => (Unit::PoundPerSquareInch, Style::Decimals(0)),
        _ => return None,
    })
}

#[derive(Clone, Copy)]
enum Style {
    Decimals(usize),
    /// As many decimals, without noughts at their end.
    Trimmed(usize),
    Sixteenths,
    SixteenthsIfNear(usize),
}

impl Style {
    fn text(self, x: f64) -> String {
        match self {
            Style::Decimals(d) => fixed(x, d),
            Style::Trimmed(d) => trimmed(fixed(x, d)),
            Style::Sixteenths => sixteenths(x),
            Style::SixteenthsIfNear(d) => {
                let near = ((x * 16.0).round() / 16.0 - x).abs() / INCH_PER_MM <= SIXTEENTH_WITHIN_MM;
                if near { sixteenths(x) } else { fixed(x, d) }
            }
        }
    }
}

/// A figure as a reader of a system meets it: number and unit, apart. `metric` is as it was written in a metric unit; what is no number,
/// and any figure for a metric reader, stays as it is.
///
/// ```
/// use baricord_core::units::{Unit, UnitSystem, figure};
/// assert_eq!(figure("0.25", Unit::Millimetre, UnitSystem::Imperial), ("0.010".to_string(), Unit::Inch));
/// ```
pub fn figure(metric: &str, unit: Unit, system: UnitSystem) -> (String, Unit) {
    let same = || (metric.to_string(), unit);
    if system == UnitSystem::Metric {
        return same();
    }
    let (Some(x), decimals) = (value(metric), decimals(metric)) else { return same() };
    let Some((to, style)) = target(unit, x.abs(), decimals) else { return same() };
    (style.text(to.from_base(unit.to_base(x))), to)
}

/// The unit of a field for whoever types in a system: a dial is read in thousandths.
pub fn field_unit(metric: Unit, dial: bool, system: UnitSystem) -> Unit {
    if system == UnitSystem::Metric {
        return metric;
    }
    match metric.dimension() {
        Dimension::Length if dial => Unit::Thousandth,
        Dimension::Length => Unit::Inch,
        Dimension::Distance => Unit::Mile,
        Dimension::Speed => Unit::MilePerHour,
        Dimension::Torque => Unit::PoundFoot,
        Dimension::Angle => Unit::Degree,
        Dimension::Temperature => Unit::Fahrenheit,
        Dimension::Volume => Unit::Quart,
        Dimension::Force => Unit::PoundForce,
        Dimension::Mass => Unit::Pound,
        Dimension::Pressure => Unit::PoundPerSquareInch,
    }
}

/// What stands in a field for whoever types in a system: as short as says the value, lengths in sixteenths where they are some.
pub fn field_text(base: f64, unit: Unit) -> String {
    let x = unit.from_base(base);
    if unit == Unit::Inch && ((x * 16.0).round() / 16.0 - x).abs() / INCH_PER_MM <= SIXTEENTH_WITHIN_MM && x.abs() >= 0.25 {
        return sixteenths(x);
    }
    let decimals: usize = match unit {
        Unit::Mile if x.abs() >= 100.0 => 0,
        Unit::Inch => 3,
        Unit::Millimetre => 2,
        _ => 1,
    };
    trimmed(fixed(x, decimals))
}

fn value(text: &str) -> Option<f64> {
    let plain: String = text.chars().filter(|c| !is_group_space(*c)).collect();
    plain.replace(',', ".").replace('−', "-").trim_start_matches('+').parse().ok()
}

fn is_group_space(c: char) -> bool {
    c == '\u{a0}' || c == '\u{202f}'
}

fn decimals(text: &str) -> usize {
    text.rfind(['.', ',']).map_or(0, |i| text.len() - i - 1)
}

/// Figures that share a unit, and the unit.
#[allow(clippy::expect_used)] // A pattern that is written here: a test reads with it.
static FIGURES: LazyLock<Regex> = LazyLock::new(|| {
    let number = r"[+−-]?\d+(?:[\u{a0}\u{202f}]\d{3})*(?:[.,]\d+)?";
    let joint = r"(?:\s?[–±×]\s?|\s(?:to|and|or|by)\s)";
    let unit = r"km/h|km|mm|cm|m|N·m|N|°C|kg|ml|l|bar|turns per km|/km";
    Regex::new(&format!(r"({number}(?:{joint}{number})*)([\s\u{{a0}}\u{{202f}}]?)({unit})")).expect("a pattern")
});
#[allow(clippy::expect_used)]
static NUMBER: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r"[+−-]?\d+(?:[\u{a0}\u{202f}]\d{3})*(?:[.,]\d+)?").expect("a pattern"));

fn unit_of(symbol: &str) -> Option<Unit> {
    Unit::ALL.into_iter().find(|u| u.symbol() == symbol)
}

/// Where quotations stand: what is in one is somebody's words.
fn quoted(text: &str) -> Vec<(usize, usize)> {
    let mut out = vec![];
    let mut open = None;
    for (i, c) in text.char_indices() {
        match c {
            '“' if open.is_none() => open = Some(i),
            '”' => out.extend(open.take().map(|o| (o, i))),
            _ => {}
        }
    }
    out
}

fn grouped(text: &str, like: &str) -> String {
    let Some(space) = like.chars().find(|c| is_group_space(*c)) else { return text.to_string() };
    if text.contains('.') || text.len() <= 3 {
        return text.to_string();
    }
    let first = text.len() % 3;
    let mut out = text[..first].to_string();
    for i in (first..text.len()).step_by(3) {
        if !out.is_empty() {
            out.push(space);
        }
        out += &text[i..i + 3];
    }
    out
}

/// A sentence with metric figures, for a reader of a system. Metric readers get it as it is.
///
/// ```
/// use baricord_core::units::{UnitSystem, sentence};
/// let words = "Drive 70 to 110 km/h; runout 0.25 mm.";
/// assert_eq!(sentence(words, UnitSystem::Imperial), "Drive 43 to 68 mph; runout 0.010 in.");
/// ```
pub fn sentence(text: &str, system: UnitSystem) -> Cow<'_, str> {
    if system == UnitSystem::Metric || !text.bytes().any(|b| b.is_ascii_digit()) {
        return Cow::Borrowed(text);
    }
    let quotes = quoted(text);
    FIGURES.replace_all(text, |found: &Captures| {
        let whole = found.get(0).map_or((0, 0), |m| (m.start(), m.end()));
        let as_it_is = found[0].to_string();
        let before = text[..whole.0].chars().next_back();
        let after = text[whole.1..].chars().next();
        // A unit that goes on is another: m/s², mm², N·m/°, and a number that began before is no number.
        let goes_on = after.is_some_and(|c| c.is_alphanumeric() || matches!(c, '/' | '²' | '³' | '·' | '_' | '='));
        let began = before.is_some_and(|c| c.is_alphanumeric() || matches!(c, '.' | ',' | '/' | ':' | '_' | '#'));
        if goes_on || began || quotes.iter().any(|q| q.0 < whole.0 && whole.1 <= q.1) {
            return as_it_is;
        }
        let numbers = &found[1];
        let each: Vec<&str> = NUMBER.find_iter(numbers).map(|m| m.as_str()).collect();
        let figures: Vec<f64> = each.iter().filter_map(|n| value(n)).collect();
        let most = figures.iter().fold(0.0, |a: f64, x| a.max(x.abs()));
        let finest = each.iter().map(|n| decimals(n)).max().unwrap_or(0);
        if let "turns per km" | "/km" = &found[3] {
            let per_mile = |c: &Captures| value(&c[0]).map_or(c[0].to_string(), |x| fixed(x * Unit::Mile.to_base(1.0), finest));
            return format!("{}{}{}", NUMBER.replace_all(numbers, per_mile), &found[2], found[3].replace("km", "mi"));
        }
        let Some((from, (to, style))) = unit_of(&found[3]).and_then(|u| Some((u, target(u, most, finest)?))) else {
            return as_it_is;
        };
        let other = |c: &Captures| match value(&c[0]) {
            Some(x) => grouped(&style.text(to.from_base(from.to_base(x))), &c[0]),
            None => c[0].to_string(),
        };
        let space = if found[2].is_empty() { " " } else { &found[2] };
        format!("{}{space}{}", NUMBER.replace_all(numbers, other), to.symbol())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::amount;
    use proptest::prelude::*;

    #[test]
    fn sentences_in_the_other_system() {
        for (metric, imperial) in [
            ("worst at 88 km/h", "worst at 55 mph"),
            ("5th, light throttle, 70 to 110 km/h, slowly through", "5th, light throttle, 43 to 68 mph, slowly through"),
            ("60–80 km/h", "37–50 mph"),
            ("runout 0.25 mm, limit 0.50 mm", "runout 0.010 in, limit 0.020 in"),
            ("0.31 ± 0.02 mm", "0.012 ± 0.001 in"),
            ("eccentricity 0.125 mm", "eccentricity 0.0049 in"),
            ("1175 mm joint to joint", "46 1/4 in joint to joint"),
            ("76.2 mm tube", "3 in tube"),
            ("within 2 mm", "within 0.08 in"),
            ("flange bolts 55 N·m (plate)", "flange bolts 41 lb·ft (plate)"),
            ("flange bolts 55.6 N·m", "flange bolts 41 lb·ft"),
            ("drags 0.5 N·m", "drags 4 lb·in"),
            ("hotter than 60 °C", "hotter than 140 °F"),
            ("1.4 l of gear oil", "1.5 qt of gear oil"),
            ("rolls 2.139 m per turn, 467.5 turns per km", "rolls 84.21 in per turn, 752.4 turns per mi"),
            ("91\u{a0}000 km at the last", "56\u{a0}545 mi at the last"),
            ("0.8 km ago", "0.5 mi ago"),
            ("3 m away", "10 ft away"),
            ("level 0.35 m/s² at 88 km/h", "level 0.35 m/s² at 55 mph"),
            ("he says “it shakes at 90 km/h” and 90 km/h it is", "he says “it shakes at 90 km/h” and 56 mph it is"),
            ("2:15 l", "2:15 l"),
            ("M8 mm", "M8 mm"),
            ("3 minutes, gear 3, 2 bearings", "3 minutes, gear 3, 2 bearings"),
            ("0 mm", "0.00 in"),
        ] {
            assert_eq!(sentence(metric, UnitSystem::Imperial), imperial);
            assert_eq!(sentence(metric, UnitSystem::Metric), metric);
        }
    }

    #[test]
    fn a_field_says_what_was_typed() {
        for (typed, unit, text) in [
            ("46 1/4 in", Unit::Inch, "46 1/4"),
            ("46.250 in", Unit::Inch, "46 1/4"),
            ("8 thou", Unit::Thousandth, "8"),
            ("0.065 in", Unit::Inch, "0.065"),
            ("55 mph", Unit::MilePerHour, "55"),
            ("41 lb·ft", Unit::PoundFoot, "41"),
            ("1400 mm", Unit::Millimetre, "1400"),
        ] {
            let base = amount(typed, unit, "x").unwrap().value;
            assert_eq!(field_text(base, unit), text);
        }
    }

    proptest! {
        #[test]
        fn any_sentence_stands(text in ".{0,80}") {
            let _ = sentence(&text, UnitSystem::Imperial);
        }
        #[test]
        fn a_figure_comes_back_within_its_rounding(mm in 10u32..3000) {
            let (text, unit) = figure(&mm.to_string(), Unit::Millimetre, UnitSystem::Imperial);
            let back = amount(&text, unit, "x").unwrap().value;
            prop_assert!((back - f64::from(mm)).abs() <= 25.4 / 32.0 + 1e-9, "{mm} {text} {back}");
        }
        #[test]
        fn nothing_metric_is_left(x in 0u32..400, unit in prop::sample::select(vec!["km/h", "mm", "N·m", "km", "kg", "l", "°C", "bar"])) {
            let other = sentence(&format!("about {x} {unit}."), UnitSystem::Imperial).into_owned();
            let words: Vec<&str> = other.trim_end_matches('.').split(' ').collect();
            prop_assert!(words.last() != Some(&unit), "{other}");
        }
    }
}
