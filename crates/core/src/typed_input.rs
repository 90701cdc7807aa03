//! What people type: numbers as they write them, and values that are likely meant otherwise.
//!
//! A value is never changed on its own: what is unlikely is asked about, with what was probably meant, and the
//! unit typed with it answers the question.

use crate::error::Problem;

/// One inch in millimetres.
const INCH_MM: f64 = 25.4;

/// A distance in km as people write it: `91000`, `91.000`, `91,000`, `91 000`, `91'000` and `91000,5` are meant as
/// they look; groups of three after one to three figures are thousands.
///
/// ```
/// use baricord_core::typed_input::odometer_km;
/// assert_eq!(odometer_km("91.000"), Some(91_000.0));
/// assert_eq!(odometer_km("91,5"), Some(91.5));
/// ```
pub fn odometer_km(text: &str) -> Option<f64> {
    let t = text.trim().trim_end_matches("km").trim_end();
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

/// A length in millimetres as it was typed: plain, with `mm`, or with `in` or `"`. A plain one that no vehicle has is
/// asked about, by its field, where it would be one in inches; typed with its unit it is taken.
pub fn length_mm(text: &str, what: Length, field: &str) -> Result<f64, Problem> {
    let t = text.trim();
    let (number, unit) = match ["mm", "in", "\"", "″"].into_iter().find_map(|u| Some((t.strip_suffix(u)?, u))) {
        Some((number, "mm")) => (number, Some(1.0)),
        Some((number, _)) => (number, Some(INCH_MM)),
        None => (t, None),
    };
    let bad = || Problem::new("bad-number", format!("“{t}” is not a number")).field(field);
    let x: f64 = number.trim().replace(',', ".").parse().map_err(|_| bad())?;
    if !x.is_finite() {
        return Err(bad());
    }
    if let Some(factor) = unit {
        return Ok(x * factor);
    }
    let (low, high) = what.range_mm();
    let fits = |mm: f64| (low..=high).contains(&mm);
    if fits(x) || x <= 0.0 && what != Length::Dial {
        // What is no length at all is refused where the vehicle is checked.
        return Ok(x);
    }
    let meant = match what {
        Length::Dial => format!("in hundredths of a millimetre it would be {} mm.", x / 100.0),
        _ if fits(x * INCH_MM) => format!("is it {t} in, which is {:.1} mm?", x * INCH_MM),
        _ => return Ok(x),
    };
    let message = format!("{t} mm is unlikely for {}: {meant} Type the unit with it: {t} in, or {t} mm", what.words());
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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_odometer_reads_as_it_is_written() {
        for text in ["91000", "91.000", "91,000", "91 000", "91\u{a0}000", "91'000", " 91 000 km "] {
            assert_eq!(odometer_km(text), Some(91_000.0), "{text}");
        }
        for (text, km) in [
            ("1.234.567", 1_234_567.0),
            ("91,5", 91.5),
            ("0.500", 0.5),
            ("91000.5", 91_000.5),
            ("91.000,5", 91_000.5),
            ("0", 0.0),
        ] {
            assert_eq!(odometer_km(text), Some(km), "{text}");
        }
        for bad in ["", "many", "-5", "9..1", "1.23.4", "1e5", "91,000,5"] {
            assert_eq!(odometer_km(bad), None, "{bad}");
        }
    }

    #[test]
    fn inches_in_a_millimetre_field_are_asked_about_and_a_unit_settles_it() {
        let p = length_mm("46.25", Length::Section, "length0_0").unwrap_err();
        assert_eq!((p.code.as_str(), p.field.as_deref()), ("unit-asked", Some("length0_0")));
        assert!(p.message.contains("46.25 in") && p.message.contains("1174.8 mm"), "{}", p.message);
        let of = |t: &str, what| length_mm(t, what, "x");
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
            let _ = (odometer_km(&text), length_mm(&text, Length::Section, "x"), two_tyre_sizes(&text));
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
                prop_assert_eq!(odometer_km(&grouped), Some(f64::from(km)));
            }
        }
    }
}
