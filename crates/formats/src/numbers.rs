//! Numbers as people and instruments write them.

/// A number with a decimal point, or with a decimal comma where that is the file's way.
pub(crate) fn number(text: &str, comma: bool) -> Option<f64> {
    let t = text.trim().trim_matches('"').trim();
    if t.is_empty() {
        return None;
    }
    let x = if comma && t.contains(',') { t.replacen(',', ".", 1).parse::<f64>() } else { t.parse::<f64>() };
    x.ok().filter(|x| x.is_finite())
}

/// A heading split into its name and the unit in brackets, as in `speed [km/h]` or `az (g)`.
pub(crate) fn heading(text: &str) -> (String, Option<String>) {
    let t = text.trim().trim_start_matches('\u{feff}').trim_matches('"').trim();
    for (open, close) in [('[', ']'), ('(', ')')] {
        if let (Some(a), Some(b)) = (t.rfind(open), t.rfind(close))
            && a < b
            && b + 1 == t.len()
        {
            return (t[..a].trim().to_string(), Some(t[a + 1..b].trim().to_string()));
        }
    }
    (t.to_string(), None)
}

/// Factor from a unit of speed to m/s.
pub(crate) fn speed_factor(unit: &str) -> Option<f64> {
    Some(match unit.trim().to_ascii_lowercase().as_str() {
        "km/h" | "kmh" | "kph" => 1.0 / 3.6,
        "mph" | "mi/h" => 0.44704,
        "m/s" | "ms" => 1.0,
        "kn" | "kt" | "knots" => 1852.0 / 3600.0,
        _ => return None,
    })
}

/// Factor from a unit of time to seconds.
pub(crate) fn time_factor(unit: &str) -> Option<f64> {
    Some(match unit.trim().to_ascii_lowercase().as_str() {
        "s" | "sec" | "" => 1.0,
        "ms" => 1e-3,
        "us" | "µs" => 1e-6,
        "min" => 60.0,
        _ => return None,
    })
}

/// Factor of a channel's unit to its unit in the program, and that unit.
pub(crate) fn channel_factor(quantity: &str, unit: &str) -> Option<(f64, &'static str)> {
    Some(match (quantity, unit.trim().to_ascii_lowercase().as_str()) {
        ("acceleration", "m/s2" | "m/s²" | "m/s^2" | "") => (1.0, "m/s2"),
        ("acceleration", "g") => (9.80665, "m/s2"),
        ("acceleration", "mg") => (0.00980665, "m/s2"),
        ("sound", "pa") => (1.0, "Pa"),
        ("sound", "fs" | "") => (1.0, "fs"),
        ("velocity", "mm/s" | "") => (1.0, "mm/s"),
        ("pulse", _) => (1.0, ""),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_in_both_ways() {
        assert_eq!(number("1,25", true), Some(1.25));
        assert_eq!(number(" -0.5 ", false), Some(-0.5));
        assert_eq!(number("1e-3", true), Some(0.001));
        assert_eq!(number("", true), None);
        assert_eq!(number("NaN", false), None);
        assert_eq!(number("1,2,3", true), None);
    }

    #[test]
    fn headings_carry_units() {
        assert_eq!(heading("speed [km/h]"), ("speed".into(), Some("km/h".into())));
        assert_eq!(heading("\"az (g)\""), ("az".into(), Some("g".into())));
        assert_eq!(heading("t"), ("t".into(), None));
    }

    #[test]
    fn units_have_factors() {
        assert_eq!(speed_factor("km/h"), Some(1.0 / 3.6));
        assert_eq!(speed_factor("furlongs"), None);
        assert_eq!(channel_factor("acceleration", "g"), Some((9.80665, "m/s2")));
        assert_eq!(channel_factor("sound", "m/s2"), None);
        assert_eq!(time_factor("ms"), Some(1e-3));
    }
}
