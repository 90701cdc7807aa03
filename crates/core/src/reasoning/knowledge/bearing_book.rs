//! The workshop's book of bearings: geometry by the number that stands on them, each with its source.

use crate::error::Problem;
use crate::measure::bearing::{BearingInput, bearing};
use crate::units::{Degrees, Millimetres};
use serde::{Deserialize, Serialize};

/// A bearing of the book.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BookBearing {
    /// Number of balls or rollers.
    pub elements: u32,
    /// Across one of them.
    pub element_mm: Millimetres,
    /// Pitch circle across.
    pub pitch_mm: Millimetres,
    /// Contact angle.
    #[serde(default)]
    pub contact_deg: Degrees,
    /// Where it comes from: measured on one, its maker's sheet.
    #[serde(default)]
    pub source: String,
}

impl BookBearing {
    /// Whether it can be a bearing. Errors name the field, those of the `bearing` calculation, and `source` where none is named.
    pub fn check(&self) -> Result<(), Problem> {
        bearing(BearingInput {
            elements: self.elements,
            element_mm: self.element_mm,
            pitch_mm: self.pitch_mm,
            contact_deg: self.contact_deg,
        })?;
        if self.source.trim().is_empty() {
            return Err(Problem::new("missing", "where does the geometry come from? A figure without a source is a guess")
                .field("source"));
        }
        Ok(())
    }
}

/// A number as the book keeps it: without spaces, in capitals.
pub fn book_number(number: &str) -> String {
    number.chars().filter(|c| !c.is_whitespace()).flat_map(char::to_uppercase).collect()
}

#[cfg(test)]
mod tests {
    use super::super::WorkshopOverrides;
    use super::*;
    use crate::vehicle::Bearing;
    use crate::vehicle::sample::rear_drive;

    #[test]
    fn a_numbered_bearing_gets_its_geometry_and_its_lines_from_the_book() {
        let ball = BookBearing {
            elements: 9,
            element_mm: Millimetres(12.0),
            pitch_mm: Millimetres(58.0),
            source: "measured".into(),
            ..Default::default()
        };
        let book = WorkshopOverrides { bearings: [(book_number("fl 6208"), ball.clone())].into(), ..Default::default() };
        let mut v = rear_drive(1);
        v.bearings = vec![Bearing {
            at: "hub.rl".into(),
            number: Some("FL6208".into()),
            elements: 0,
            element_mm: Millimetres(0.0),
            pitch_mm: Millimetres(0.0),
            contact_deg: Degrees(0.0),
        }];
        let lines = |v: &crate::vehicle::Vehicle| {
            crate::measure::orders::orders(v, None).unwrap().iter().filter(|o| o.at == "hub.rl").count()
        };
        let before = lines(&v);
        book.complete(&mut v);
        assert!(v.bearings[0].has_geometry() && lines(&v) > before);
        let own = v.bearings[0].clone();
        WorkshopOverrides::default().complete(&mut v);
        assert_eq!(v.bearings[0], own, "what the vehicle says itself stays");
        let e = BookBearing { source: String::new(), ..ball }.check().unwrap_err();
        assert_eq!(e.field.as_deref(), Some("source"));
    }
}
