//! The tyre: from its size to the distance it rolls in one turn.
//!
//! D = rim·25.4 + 2·width·aspect/100 mm; the rolling circumference of a radial tyre is 3.05·D (the
//! factor of the European tyre standards). Turns counted per kilometre, or a measured roll-out,
//! override it.

use crate::error::{Problem, positive};
use crate::units::{Metres, Millimetres};
use serde::{Deserialize, Serialize};

/// Rolling circumference over diameter of a radial tyre.
pub const RADIAL_FACTOR: f64 = 3.05;

/// A tyre as it is described: by size, by turns a kilometre, or by a measured roll-out.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Tyre {
    /// As `235/65R16`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<String>,
    /// Turns a kilometre.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revs_per_km: Option<f64>,
    /// Measured roll-out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rolling_circumference_m: Option<Metres>,
}

/// A tyre's figures.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct TyreFigures {
    /// Outer diameter by the size; else from the circumference.
    pub diameter_mm: Millimetres,
    /// Distance of one turn.
    pub rolling_circumference_m: Metres,
    /// Turns a kilometre.
    pub revs_per_km: f64,
}

impl Tyre {
    /// A tyre by its size.
    pub fn of_size(size: &str) -> Self {
        Self { size: Some(size.into()), ..Self::default() }
    }

    /// The figures; of several descriptions the later one of size, turns, roll-out wins.
    ///
    /// ```
    /// # use baricord_core::vehicle::Tyre;
    /// let f = Tyre::of_size("235/65R16").figures().unwrap();
    /// assert!((f.diameter_mm.get() - 711.9).abs() < 1e-9);
    /// ```
    pub fn figures(&self) -> Result<TyreFigures, Problem> {
        let by_size = self.size.as_deref().map(diameter).transpose()?;
        let circumference = if let Some(c) = self.rolling_circumference_m {
            positive(c.get(), "rolling_circumference_m")?
        } else if let Some(r) = self.revs_per_km {
            1000.0 / positive(r, "revs_per_km")?
        } else if let Some(d) = by_size {
            RADIAL_FACTOR * d.get() / 1000.0
        } else {
            return Err(Problem::new("missing", "a tyre needs its size, its turns per kilometre or its rolling circumference")
                .field("size"));
        };
        if !(0.3..=10.0).contains(&circumference) {
            return Err(Problem::new(
                "out-of-range",
                format!("a rolling circumference of {circumference:.3} m is not that of a road vehicle"),
            )
            .field("rolling_circumference_m"));
        }
        Ok(TyreFigures {
            diameter_mm: by_size.unwrap_or(Millimetres(circumference * 1000.0 / RADIAL_FACTOR)),
            rolling_circumference_m: Metres(circumference),
            revs_per_km: 1000.0 / circumference,
        })
    }
}

/// Outer diameter of a size such as `235/65R16`, `P235/65R16`, `LT235/85ZR16 120Q`.
fn diameter(size: &str) -> Result<Millimetres, Problem> {
    let wrong = || {
        Problem::new("bad-tyre-size", format!("“{size}” is not a tyre size; write it as on the side wall, for example 235/65R16"))
            .field("size")
    };
    let text = size.trim().to_ascii_uppercase();
    let body = text.split_whitespace().collect::<Vec<_>>().join(" ");
    if let Some(d) = flotation(&body) {
        return d.ok_or_else(wrong);
    }
    let body = body.strip_prefix("LT").or_else(|| body.strip_prefix('P')).unwrap_or(&body).trim_start();
    let (width, rest) = body.split_once('/').ok_or_else(wrong)?;
    let digits = rest.find(|c: char| !c.is_ascii_digit() && c != '.').ok_or_else(wrong)?;
    let (aspect, rest) = rest.split_at(digits);
    let rest = rest.trim_start().trim_start_matches('Z');
    let rim = rest.strip_prefix('R').ok_or_else(wrong)?.trim_start();
    let end = rim.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(rim.len());
    let number = |s: &str| s.trim().parse::<f64>().map_err(|_| wrong());
    let (w, a, r) = (number(width)?, number(aspect)?, number(&rim[..end])?);
    if !(100.0..=500.0).contains(&w) || !(15.0..=110.0).contains(&a) || !(8.0..=30.0).contains(&r) {
        return Err(wrong());
    }
    Ok(Millimetres(r * 25.4 + 2.0 * w * a / 100.0))
}

/// Outer diameter of a flotation size such as `33X12.50R15LT`: the first number, in inches. None of another kind of size; nothing where
/// it is one and cannot be.
fn flotation(body: &str) -> Option<Option<Millimetres>> {
    let (height, rest) = body.split_once('X')?;
    let read = || {
        let (width, rim) = rest.split_once(['R', '-'])?;
        let rim: String = rim.trim_start().chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
        let number = |s: &str| s.trim().parse::<f64>().ok();
        let (h, w, r) = (number(height)?, number(width)?, number(&rim)?);
        let can_be = (20.0..=60.0).contains(&h) && (4.0..=25.0).contains(&w) && (8.0..=30.0).contains(&r) && h > r + 2.0;
        can_be.then_some(Millimetres(h * 25.4))
    };
    Some(read())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flotation_size_says_its_diameter_in_inches() {
        for s in ["33x12.50R15LT", "33X12.50R15", "33x12.5 R15 LT", "33x12.50-15"] {
            let f = Tyre::of_size(s).figures().unwrap();
            assert!((f.diameter_mm.get() - 838.2).abs() < 1e-9, "{s}");
            assert!((f.rolling_circumference_m.get() - 2.556_51).abs() < 1e-9, "{s}");
        }
        for s in ["33x12.50", "5x12R15", "33x90R15", "33x12.50R40", "x12R15", "15x10R15"] {
            assert_eq!(Tyre::of_size(s).figures().unwrap_err().code, "bad-tyre-size", "{s}");
        }
    }

    #[test]
    fn worked_value_of_the_size() {
        let f = Tyre::of_size("235/65R16").figures().unwrap();
        assert!((f.diameter_mm.get() - 711.9).abs() < 1e-9);
        assert!((f.rolling_circumference_m.get() - 2.1713).abs() < 5e-5);
        assert!((f.revs_per_km - 460.6).abs() < 0.05);
    }

    #[test]
    fn prefixes_suffixes_and_load_indices_are_accepted() {
        let plain = Tyre::of_size("235/65R16").figures().unwrap();
        for s in ["P235/65R16", "235/65ZR16", "LT235/65R16", "235/65R16 103T", "235/65 R16", "235/65r16C", " 235/65R16 "] {
            assert_eq!(Tyre::of_size(s).figures().unwrap(), plain, "{s}");
        }
    }

    #[test]
    fn the_later_description_wins() {
        let t = Tyre { size: Some("235/65R16".into()), revs_per_km: Some(467.0), rolling_circumference_m: Some(Metres(2.14)) };
        let f = t.figures().unwrap();
        assert_eq!(f.rolling_circumference_m, Metres(2.14));
        assert!((f.diameter_mm.get() - 711.9).abs() < 1e-9);
        let f = Tyre { rolling_circumference_m: None, ..t }.figures().unwrap();
        assert!((f.rolling_circumference_m.get() - 1000.0 / 467.0).abs() < 1e-12);
    }

    #[test]
    fn nonsense_is_refused_by_field() {
        for s in ["", "235", "235/65", "235/65X16", "9/65R16", "abc/65R16", "235/65R"] {
            assert_eq!(Tyre::of_size(s).figures().unwrap_err().field.as_deref(), Some("size"), "{s}");
        }
        let t = Tyre { revs_per_km: Some(-1.0), ..Tyre::default() };
        assert_eq!(t.figures().unwrap_err().field.as_deref(), Some("revs_per_km"));
    }
}
