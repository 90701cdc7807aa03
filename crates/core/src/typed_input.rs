//! What people type: numbers as they write them, and values that are likely meant otherwise.
//!
//! A value is never changed on its own: what is unlikely is asked about, with what was probably meant, and the
//! unit typed with it answers the question.

use crate::error::Problem;
use crate::units::{Unit, UnitSystem, amount, field_unit};

/// No dial is read finer than this, thousandths of an inch.
const FINEST_THOUSANDTHS: f64 = 0.1;

/// A distance in km as people write it: `91000`, `91.000`, `91,000`, `91 000`, `91'000` and `91000,5` are meant as
/// they look; groups of three after one to three figures are thousands. A plain one is in km, or in miles for who reads those; `km` or `mi`
/// typed with it says which.
///
/// ```
/// use baricord_core::{typed_input::odometer_km, units::UnitSystem::{Imperial, Metric}};
/// assert_eq!(odometer_km("91.000", Metric), Some(91_000.0));
/// assert_eq!(odometer_km("91,5", Metric), Some(91.5));
/// assert_eq!(odometer_km("100", Imperial), odometer_km("100 mi", Metric));
/// ```
pub fn odometer_km(text: &str, system: UnitSystem) -> Option<f64> {
    let t = text.trim();
    let with = |names: &[&str]| names.iter().find_map(|n| t.strip_suffix(n)).map(str::trim_end);
    let (t, unit) = match (with(&["km"]), with(&["miles", "mile", "mi"])) {
        (Some(t), _) => (t, Unit::Kilometre),
        (_, Some(t)) => (t, Unit::Mile),
        _ => (t, field_unit(Unit::Kilometre, false, system)),
    };
    grouped_number(t).map(|x| unit.to_base(x))
}

/// A number with or without groups.
fn grouped_number(t: &str) -> Option<f64> {
    let plain: String = t.chars().filter(|c| !c.is_whitespace() && !matches!(c, '\'' | '’')).collect();
    let parts: Vec<&str> = plain.split(['.', ',']).collect();
    let all_digits = |p: &str| !p.is_empty() && p.bytes().all(|b| b.is_ascii_digit());
    if !parts.iter().all(|p| all_digits(p)) {
        return None;
    }
    let grouped = |parts: &[&str]| {
        parts.len() > 1 && (1..=3).contains(&parts[0].len()) && parts[0] != "0" && parts[1..].iter().all(|p| p.len() == 3)
    };
    let separators: Vec<char> = plain.chars().filter(|c| matches!(c, '.' | ',')).collect();
    let same = separators.windows(2).all(|w| w[0] == w[1]);
    match parts.as_slice() {
        [one] => one.parse().ok(),
        all if same && grouped(all) => all.concat().parse().ok(),
        [whole, fraction] => format!("{whole}.{fraction}").parse().ok(),
        // 91.000,5: the last separator is the decimal one, and another than that of the groups.
        [groups @ .., fraction] if grouped(groups) => {
            let (last, before) = separators.split_last()?;
            let apart = before.iter().all(|s| s == &before[0] && s != last);
            if apart { format!("{}.{fraction}", groups.concat()).parse().ok() } else { None }
        }
        _ => None,
    }
}

/// A length that a vehicle has, and between which millimetres it lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Length {
    /// A section of a shaft, joint to joint.
    Section,
    /// The diameter of its tube.
    Tube,
    /// The wall of its tube.
    Wall,
    /// A reading of a dial.
    Dial,
}

impl Length {
    fn range_mm(self) -> (f64, f64) {
        match self {
            Length::Section => (120.0, 3_500.0),
            Length::Tube => (25.0, 250.0),
            Length::Wall => (0.8, 15.0),
            Length::Dial => (-10.0, 10.0),
        }
    }
    fn words(self) -> &'static str {
        match self {
            Length::Section => "a section of a shaft",
            Length::Tube => "the tube of a shaft",
            Length::Wall => "the wall of a tube",
            Length::Dial => "a reading of a dial",
        }
    }
}

/// A length in millimetres as it was typed. A plain number is in mm, or in inches for who reads those, on a dial in thousandths. One that
/// no vehicle has is asked about, by its field, where it would be one in another unit; typed with its unit it is taken.
pub fn length_mm(text: &str, what: Length, system: UnitSystem, field: &str) -> Result<f64, Problem> {
    let t = text.trim();
    let plain = field_unit(Unit::Millimetre, what == Length::Dial, system);
    let typed = amount(t, plain, field)?;
    let (low, high) = what.range_mm();
    let fits = |mm: f64| (low..=high).contains(&mm);
    // What is no length at all is refused where the vehicle is checked.
    if typed.unit.is_some() || typed.value <= 0.0 && what != Length::Dial {
        return Ok(typed.value);
    }
    let x = plain.from_base(typed.value);
    let others = match (what, plain) {
        (Length::Dial, Unit::Millimetre) => vec![],
        (_, Unit::Millimetre) => vec![Unit::Inch],
        _ => vec![Unit::Millimetre, Unit::Inch],
    };
    // A reading of a part of a thousandth is one in inches.
    let too_fine = plain == Unit::Thousandth && x != 0.0 && x.abs() < FINEST_THOUSANDTHS;
    if fits(typed.value) && !too_fine {
        return Ok(typed.value);
    }
    let other = others.into_iter().find(|u| *u != plain && fits(u.to_base(x)) && !(too_fine && *u == Unit::Millimetre));
    let symbol = plain.symbol();
    let (meant, unit) = match other {
        _ if what == Length::Dial && plain == Unit::Millimetre => {
            (format!("in hundredths of a millimetre it would be {} mm.", x / 100.0), Unit::Inch)
        }
        Some(u) => {
            let (number, shown) = match u {
                Unit::Inch if plain == Unit::Thousandth => (format!("{:.1}", 1000.0 * x), Unit::Thousandth),
                Unit::Inch => (format!("{:.1}", u.to_base(x)), Unit::Millimetre),
                _ => (format!("{:.2}", Unit::Inch.from_base(x)), Unit::Inch),
            };
            (format!("is it “{t} {}”, which is {number} {}?", u.symbol(), shown.symbol()), u)
        }
        None => return Ok(typed.value),
    };
    let message = format!(
        "“{t} {symbol}” is unlikely for {}: {meant} Type the unit with it: “{t} {}”, or “{t} {symbol}”",
        what.words(),
        unit.symbol()
    );
    Err(Problem::new("unit-asked", message).field(field))
}

/// Two sizes typed where one belongs, as `225/45R17 255/40R17`.
pub fn two_tyre_sizes(text: &str) -> Option<(String, String)> {
    let upper = text.to_ascii_uppercase();
    let sizes: Vec<&str> = upper
        .split(|c: char| c.is_whitespace() || matches!(c, ';' | ',' | '+' | '&' | '|'))
        .filter(|p| crate::vehicle::Tyre::of_size(p).figures().is_ok())
        .collect();
    match sizes.as_slice() {
        [a, b, ..] if a != b => Some(((*a).to_string(), (*b).to_string())),
        _ => None,
    }
}

/// A width across flats as it is typed, mm to the hundredth: 36, 36 mm, 15/16 in. Sockets are named by millimetres whatever system is read.
///
/// # Errors
/// As [`amount`], at the field.
///
/// ```
/// use baricord_core::typed_input::across_flats_mm;
/// assert_eq!((across_flats_mm("36", "size"), across_flats_mm("1 7/16 in", "size")), (Ok(36.0), Ok(36.51)));
/// ```
pub fn across_flats_mm(text: &str, field: &str) -> Result<f64, Problem> {
    let size = amount(text, Unit::Millimetre, field)?;
    Ok((Unit::Millimetre.from_base(size.value) * 100.0).round() / 100.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::UnitSystem::{Imperial, Metric};
    use proptest::prelude::*;

    #[test]
    fn an_odometer_reads_as_it_is_written() {
        for text in ["91000", "91.000", "91,000", "91 000", "91\u{a0}000", "91'000", " 91 000 km "] {
            assert_eq!(odometer_km(text, Metric), Some(91_000.0), "{text}");
        }
        for (text, km) in [
            ("1.234.567", 1_234_567.0),
            ("91,5", 91.5),
            ("0.500", 0.5),
            ("91000.5", 91_000.5),
            ("91.000,5", 91_000.5),
            ("0", 0.0),
        ] {
            assert_eq!(odometer_km(text, Metric), Some(km), "{text}");
        }
        for bad in ["", "many", "-5", "9..1", "1.23.4", "1e5", "91,000,5"] {
            assert_eq!(odometer_km(bad, Metric), None, "{bad}");
        }
    }

    #[test]
    fn inches_in_a_millimetre_field_are_asked_about_and_a_unit_settles_it() {
        let p = length_mm("46.25", Length::Section, Metric, "length0_0").unwrap_err();
        assert_eq!((p.code.as_str(), p.field.as_deref()), ("unit-asked", Some("length0_0")));
        assert!(p.message.contains("46.25 in") && p.message.contains("1174.8 mm"), "{}", p.message);
        let of = |t: &str, what| length_mm(t, what, Metric, "x");
        assert_eq!(of("46.25 in", Length::Section).unwrap(), 1174.75);
        assert_eq!(of("46,25\"", Length::Section).unwrap(), 1174.75);
        assert_eq!(of("46.25 mm", Length::Section).unwrap(), 46.25);
        assert_eq!(of("1400", Length::Section).unwrap(), 1400.0);
        assert!(of("3", Length::Tube).is_err() && of("0.065", Length::Wall).is_err());
        assert_eq!(of("76.2", Length::Tube).unwrap(), 76.2);
        assert!(of("46.25", Length::Dial).unwrap_err().message.contains("0.4625 mm"));
        assert_eq!(of("-0.25", Length::Dial).unwrap(), -0.25);
        assert_eq!(of("x", Length::Dial).unwrap_err().code, "bad-number");
        assert_eq!(of("-3", Length::Section).unwrap(), -3.0);
    }

    #[test]
    fn who_reads_inches_types_them() {
        let of = |t: &str, what| length_mm(t, what, Imperial, "x");
        assert_eq!(of("46 1/4", Length::Section).unwrap(), 1174.75);
        assert_eq!(of("1175 mm", Length::Section).unwrap(), 1175.0);
        assert!((of("8", Length::Dial).unwrap() - 0.2032).abs() < 1e-9);
        assert!((of("-12", Length::Dial).unwrap() + 0.3048).abs() < 1e-9);
        let p = of("1175", Length::Section).unwrap_err();
        assert!(p.code == "unit-asked" && p.message.contains("is it “1175 mm”, which is 46.26 in?"), "{}", p.message);
        let p = of("0.008", Length::Dial).unwrap_err();
        assert!(p.code == "unit-asked" && p.message.contains("is it “0.008 in”, which is 8.0 thou?"), "{}", p.message);
        assert_eq!(of("0", Length::Dial).unwrap(), 0.0);
        assert!((odometer_km("56 500", Imperial).unwrap() - 90_927.936).abs() < 1e-6);
        assert_eq!(odometer_km("91 000 km", Imperial), Some(91_000.0));
    }

    #[test]
    fn two_sizes_are_told_apart_and_one_twice_is_one() {
        let two = two_tyre_sizes("front 225/45r17, rear 255/40R17").unwrap();
        assert_eq!((two.0.as_str(), two.1.as_str()), ("225/45R17", "255/40R17"));
        assert_eq!(two_tyre_sizes("225/45R17 225/45R17"), None);
        assert_eq!(two_tyre_sizes("LT235/85R16 120Q"), None);
        assert_eq!(two_tyre_sizes("235/65 R16"), None);
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in ".{0,40}") {
            let _ = (odometer_km(&text, Metric), length_mm(&text, Length::Section, Metric, "x"), two_tyre_sizes(&text));
        }
        #[test]
        fn a_whole_distance_is_the_same_grouped_or_not(km in 0u32..2_000_000) {
            let digits = km.to_string();
            for separator in [".", ",", " ", "'"] {
                let mut grouped = String::new();
                for (i, d) in digits.chars().enumerate() {
                    if i > 0 && (digits.len() - i) % 3 == 0 {
                        grouped += separator;
                    }
                    grouped.push(d);
                }
                prop_assert_eq!(odometer_km(&grouped, Metric), Some(f64::from(km)));
            }
        }
    }
}
