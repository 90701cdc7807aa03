//! An amount as people type it: `46 1/4 in`, `8 thou`, `3 ft 10 1/4 in`, `41 lb·ft`, `2° 30′`, `55`.
//!
//! A unit that is typed says what is meant; a plain number is in the unit of the field.

use super::conversion::{Dimension, Unit};
use crate::error::Problem;
use regex::Regex;
use std::sync::LazyLock;

/// An amount that was typed.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Amount {
    /// In the base unit of its dimension.
    pub value: f64,
    /// The unit that was typed with it, the last where several were (`3 ft 10 in`); none for a plain number.
    pub unit: Option<Unit>,
}

/// A number, whole, broken or decimal, and what stands up to the next number.
#[allow(clippy::expect_used)] // A pattern that is written here: a test reads with it.
static PART: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r"^\s*(?:(\d+)(?:\s+|\s*-\s*))?(\d+)\s*[/⁄]\s*(\d+)|^\s*(\d+(?:[.,]\d*)?|[.,]\d+)").expect("a pattern")
});

/// Names of units without spaces, points, dots and hyphens.
const NAMES: [(&[&str], Unit); 27] = [
    (&["mm", "millimetre", "millimetres", "millimeter", "millimeters"], Unit::Millimetre),
    (&["cm", "centimetre", "centimetres", "centimeter", "centimeters"], Unit::Centimetre),
    (&["m", "metre", "metres", "meter", "meters"], Unit::Metre),
    (&["in", "inch", "inches", "\"", "″", "”", "''", "′′", "’’"], Unit::Inch),
    (&["thou", "thousandth", "thousandths", "thousandthsofaninch", "thousandthsin", "mil", "mils"], Unit::Thousandth),
    (&["ft", "foot", "feet", "'", "′", "’"], Unit::Foot),
    (&["km", "kilometre", "kilometres", "kilometer", "kilometers"], Unit::Kilometre),
    (&["mi", "mile", "miles"], Unit::Mile),
    (&["km/h", "kmh", "kph", "kmph", "kmperhour"], Unit::KilometrePerHour),
    (&["mph", "mi/h", "milesperhour"], Unit::MilePerHour),
    (&["nm", "newtonmetre", "newtonmetres", "newtonmeter", "newtonmeters"], Unit::NewtonMetre),
    (&["lbft", "lbsft", "ftlb", "ftlbs", "lbfft", "ftlbf", "poundfeet", "poundfoot", "footpound", "footpounds"], Unit::PoundFoot),
    (
        &["lbin", "lbsin", "inlb", "inlbs", "lbfin", "inlbf", "poundinch", "poundinches", "inchpound", "inchpounds"],
        Unit::PoundInch,
    ),
    (&["°", "deg", "degs", "degree", "degrees"], Unit::Degree),
    (&["'", "′", "’", "min", "arcmin", "minute", "minutes"], Unit::ArcMinute),
    (&["°c", "c", "degc", "celsius"], Unit::Celsius),
    (&["°f", "f", "degf", "fahrenheit"], Unit::Fahrenheit),
    (&["l", "litre", "litres", "liter", "liters"], Unit::Litre),
    (&["ml", "millilitre", "millilitres", "milliliter", "milliliters"], Unit::Millilitre),
    (&["qt", "qts", "quart", "quarts"], Unit::Quart),
    (&["floz", "fluidounce", "fluidounces", "oz"], Unit::FluidOunce),
    (&["n", "newton", "newtons"], Unit::Newton),
    (&["lbf", "lb", "lbs", "pound", "pounds"], Unit::PoundForce),
    (&["kg", "kilo", "kilos", "kilogram", "kilograms"], Unit::Kilogram),
    (&["lb", "lbs", "pound", "pounds"], Unit::Pound),
    (&["bar"], Unit::Bar),
    (&["psi"], Unit::PoundPerSquareInch),
];

/// What a dimension is called, with what may be typed.
fn expected(dimension: Dimension) -> &'static str {
    match dimension {
        Dimension::Length => "a length, as “1175 mm”, “46 1/4 in” or “8 thou”",
        Dimension::Distance => "a distance, as “91000 km” or “56500 mi”",
        Dimension::Speed => "a speed, as “88 km/h” or “55 mph”",
        Dimension::Torque => "a torque, as “55 N·m” or “41 lb·ft”",
        Dimension::Angle => "an angle, as “2.5” or “2° 30′”",
        Dimension::Temperature => "a temperature, as “60 °C” or “140 °F”",
        Dimension::Volume => "an amount, as “1.4 l” or “1.5 qt”",
        Dimension::Force => "a force, as “40 N” or “9 lbf”",
        Dimension::Mass => "a weight, as “12 kg” or “26 lb”",
        Dimension::Pressure => "a pressure, as “2.4 bar” or “35 psi”",
    }
}

/// The unit of a name among those that measure the dimension; else one of another.
fn unit_of(name: &str, dimension: Dimension) -> Option<Unit> {
    let plain: String =
        name.to_lowercase().chars().filter(|c| !c.is_whitespace() && !matches!(c, '·' | '.' | '-' | '*')).collect();
    let all = || NAMES.iter().filter(|(names, _)| names.contains(&plain.as_str())).map(|n| n.1);
    all().find(|u| u.dimension() == dimension).or_else(|| all().next())
}

fn number(found: &regex::Captures) -> Option<f64> {
    let part = |i: usize| found.get(i).map(|m| m.as_str().replace(',', "."));
    if let Some(decimal) = part(4) {
        return decimal.parse().ok();
    }
    let (above, below): (f64, f64) = (part(2)?.parse().ok()?, part(3)?.parse().ok()?);
    let whole: f64 = part(1).map_or(Some(0.0), |w| w.parse().ok())?;
    (below > 0.0).then_some(whole + above / below)
}

/// Reads an amount; a plain number is in `plain`. Parts of one dimension add up (`3 ft 10 1/4 in`); a sign stands before all of them.
///
/// Refused as `bad-number` where no number is found, as `bad-unit` where its unit measures something else or is none.
///
/// ```
/// use baricord_core::units::{Unit, amount};
/// assert_eq!(amount("46 1/4 in", Unit::Millimetre, "length").unwrap().value, 1174.75);
/// ```
pub fn amount(text: &str, plain: Unit, field: &str) -> Result<Amount, Problem> {
    let dimension = plain.dimension();
    let typed = text.trim();
    let bad = || Problem::new("bad-number", format!("“{typed}” is not {}", expected(dimension))).field(field);
    let (sign, mut rest) = match typed.strip_prefix(['-', '−']) {
        Some(rest) => (-1.0, rest),
        None => (1.0, typed.strip_prefix('+').unwrap_or(typed)),
    };
    let (mut sum, mut unit) = (0.0, None);
    loop {
        let found = PART.captures(rest).ok_or_else(bad)?;
        let x = number(&found).ok_or_else(bad)?;
        rest = &rest[found.get(0).map_or(0, |m| m.end())..];
        let until = rest.find(|c: char| c.is_ascii_digit()).unwrap_or(rest.len());
        let (name, after) = rest.split_at(until);
        let name = name.trim();
        let last = after.trim().is_empty();
        let this = match name {
            // A second number needs the unit of the first: 3 10 is neither.
            "" if unit.is_some() || !last => return Err(bad()),
            "" => plain,
            _ => {
                let wrong = || {
                    Problem::new("bad-unit", format!("“{typed}”: “{name}” is no unit of {}", expected(dimension))).field(field)
                };
                let of = unit_of(name, dimension).filter(|u| u.dimension() == dimension).ok_or_else(wrong)?;
                // Only parts of a unit follow it, as inches a foot.
                if unit.is_some_and(|u: Unit| of.to_base(1.0) >= u.to_base(1.0)) {
                    return Err(bad());
                }
                unit = Some(of);
                of
            }
        };
        sum += this.to_base(x);
        rest = after;
        if last {
            break;
        }
    }
    let value = if sign < 0.0 && dimension == Dimension::Temperature {
        // Degrees below nothing are below the nothing of their own scale.
        let of = unit.unwrap_or(plain);
        of.to_base(-of.from_base(sum))
    } else {
        sign * sum
    };
    if !value.is_finite() {
        return Err(bad());
    }
    Ok(Amount { value, unit })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn mm(text: &str) -> f64 {
        amount(text, Unit::Millimetre, "x").unwrap().value
    }

    #[test]
    fn lengths_as_they_are_written() {
        for text in [
            "46 1/4 in",
            "46-1/4\"",
            "46 1/4″",
            "46.25 in",
            "46,25 inches",
            "3 ft 10 1/4 in",
            "3' 10 1/4\"",
            "1174.75",
            "117.475 cm",
        ] {
            assert!((mm(text) - 1174.75).abs() < 1e-9, "{text}: {}", mm(text));
        }
        for text in ["8 thou", "8 thousandths", "0.008 in", ".008\"", "8 mils", "+8 thou"] {
            assert!((mm(text) - 0.2032).abs() < 1e-9, "{text}: {}", mm(text));
        }
        assert!((mm("-3/4 in") + 19.05).abs() < 1e-9);
        assert_eq!(amount("12", Unit::Thousandth, "x").unwrap(), Amount { value: 12.0 * 0.0254, unit: None });
    }

    #[test]
    fn other_amounts() {
        let of = |t: &str, u: Unit| amount(t, u, "x").unwrap().value;
        for text in ["41 lb·ft", "41 lb-ft", "41 ft lb", "41 ft-lbs", "41 lbf ft", "41 pound-feet", "41"] {
            assert!((of(text, Unit::PoundFoot) - 55.588_537).abs() < 1e-5, "{text}");
        }
        assert_eq!(of("55 Nm", Unit::PoundFoot), 55.0);
        assert!((of("120 in lb", Unit::NewtonMetre) - 13.558_179).abs() < 1e-5);
        for text in ["2° 30′", "2 deg 30 min", "2.5", "2,5°"] {
            assert_eq!(of(text, Unit::Degree), 2.5, "{text}");
        }
        assert_eq!(of("-2° 30′", Unit::Degree), -2.5);
        assert!((of("55 mph", Unit::KilometrePerHour) - 88.51392).abs() < 1e-9);
        assert_eq!(of("88 kmh", Unit::MilePerHour), 88.0);
        assert!((of("-40 °F", Unit::Celsius) + 40.0).abs() < 1e-9);
        assert!((of("10 lb", Unit::Newton) - 44.482_216).abs() < 1e-5);
        assert!((of("10 lb", Unit::Kilogram) - 4.535_923_7).abs() < 1e-9);
    }

    #[test]
    fn what_is_no_amount_is_refused_by_its_field() {
        for (text, code) in [
            ("", "bad-number"),
            ("long", "bad-number"),
            ("3 10", "bad-number"),
            ("3 in 10", "bad-number"),
            ("3 in 2 ft", "bad-number"),
            ("1/0 in", "bad-number"),
            ("1..5", "bad-unit"),
            ("55 mph", "bad-unit"),
            ("12 parsecs", "bad-unit"),
        ] {
            let p = amount(text, Unit::Millimetre, "length0_0").unwrap_err();
            assert_eq!((p.code.as_str(), p.field.as_deref()), (code, Some("length0_0")), "{text}");
        }
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "[0-9 ./,°′'\"a-zA-Z·-]{0,24}", i in 0usize..27) {
            let _ = amount(&text, Unit::ALL[i], "x");
        }
        #[test]
        fn what_a_unit_prints_it_reads(i in 0usize..27, x in -20_000i32..20_000) {
            let (unit, x) = (Unit::ALL[i], f64::from(x) / 16.0);
            let read = amount(&format!("{x} {}", unit.symbol()), Unit::base(unit.dimension()), "x").unwrap();
            prop_assert_eq!(read.unit, Some(unit));
            prop_assert!((read.value - unit.to_base(x)).abs() < 1e-9 * read.value.abs().max(1.0));
        }
        #[test]
        fn a_broken_inch_is_its_decimal(whole in 0u32..90, above in 1u32..32) {
            let (a, b) = (mm(&format!("{whole} {above}/32 in")), mm(&format!("{} in", f64::from(whole) + f64::from(above) / 32.0)));
            prop_assert!((a - b).abs() < 1e-9);
        }
    }
}
