//! The slope of one element of a shaft: read on one face or on several, its plan view by an angle or by two offsets and a length.

use crate::error::{Finding, Level, Problem, finite, positive};
use crate::units::Degrees;
use serde::{Deserialize, Serialize};

/// Two readings of one slope that are farther apart are taken again.
pub const READ_AGAIN_DEG: f64 = 0.3;
/// One sigma of a slope that was read once.
const GAUGE_SIGMA_DEG: f64 = 0.15;
/// Readings of one element at most.
const MOST_READINGS: usize = 12;

/// One element: gearbox output, a shaft section, the pinion.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(try_from = "WrittenElement")]
pub struct Element {
    /// What it is called.
    pub name: String,
    /// Side slope, positive when the rear (axle) end is lower; the mean where it was read on several faces.
    pub side_deg: Degrees,
    /// Plan slope, positive when the axle end points right; on a front shaft left ([`super::angles::positive_plan_side`]).
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plan_deg: Option<Degrees>,
    /// Side slopes as they were read, on each face or each time.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub side_readings_deg: Vec<Degrees>,
    /// Offsets of its front and its rear end from one straight line, positive to the side to which a positive plan slope points.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plan_offsets_mm: Option<[f64; 2]>,
    /// From the one to the other along the line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub plan_length_mm: Option<f64>,
}

/// An element as it is written.
#[derive(Deserialize)]
struct WrittenElement {
    #[serde(default)]
    name: String,
    side_deg: Option<Degrees>,
    #[serde(default)]
    plan_deg: Option<Degrees>,
    #[serde(default)]
    side_readings_deg: Vec<Degrees>,
    #[serde(default)]
    plan_offsets_mm: Option<[f64; 2]>,
    #[serde(default)]
    plan_length_mm: Option<f64>,
}

/// What was read of one element.
#[derive(Clone, Debug, Default)]
pub struct SlopeReadings {
    /// What it is called.
    pub name: String,
    /// On each face, or each time; at least one.
    pub side_deg: Vec<Degrees>,
    /// Plan slope.
    pub plan_deg: Option<Degrees>,
    /// In its place: offsets of its front and its rear end from one straight line.
    pub plan_offsets_mm: Option<[f64; 2]>,
    /// And how far these are apart.
    pub plan_length_mm: Option<f64>,
}

impl TryFrom<WrittenElement> for Element {
    type Error = Problem;

    fn try_from(w: WrittenElement) -> Result<Self, Problem> {
        let side_deg = match (w.side_readings_deg.is_empty(), w.side_deg) {
            (false, _) => w.side_readings_deg,
            (true, Some(side)) => vec![side],
            (true, None) => return Err(Problem::new("missing", "side_deg, or side_readings_deg, is needed").field("side_deg")),
        };
        Self::read(SlopeReadings {
            name: w.name,
            side_deg,
            plan_deg: w.plan_deg,
            plan_offsets_mm: w.plan_offsets_mm,
            plan_length_mm: w.plan_length_mm,
        })
    }
}

impl Element {
    /// The slope from what was read: the mean of several faces, the plan view from two offsets. Errors name the field.
    pub fn read(r: SlopeReadings) -> Result<Self, Problem> {
        let n = r.side_deg.len();
        if !(1..=MOST_READINGS).contains(&n) {
            return Err(
                Problem::new("out-of-range", format!("1 to {MOST_READINGS} readings of one slope")).field("side_readings_deg")
            );
        }
        let plan_deg = match (r.plan_offsets_mm, r.plan_length_mm) {
            (Some([front, rear]), Some(length)) => {
                let across = finite(rear, "plan_offsets_mm[1]")? - finite(front, "plan_offsets_mm[0]")?;
                Some(Degrees((across / positive(length, "plan_length_mm")?).atan().to_degrees()))
            }
            (Some(_), None) => return Err(Problem::new("missing", "how far are the two offsets apart?").field("plan_length_mm")),
            (None, _) => r.plan_deg,
        };
        Ok(Self {
            name: r.name,
            side_deg: Degrees(r.side_deg.iter().map(|d| d.get()).sum::<f64>() / n as f64),
            plan_deg,
            side_readings_deg: if n > 1 { r.side_deg } else { vec![] },
            plan_offsets_mm: r.plan_offsets_mm,
            plan_length_mm: r.plan_length_mm,
        })
    }

    /// Largest less smallest of its readings; 0 where it was read once.
    pub fn spread_deg(&self) -> Degrees {
        let r = &self.side_readings_deg;
        let (low, high) = r.iter().fold((f64::MAX, f64::MIN), |(l, h), d| (l.min(d.get()), h.max(d.get())));
        Degrees(if r.len() < 2 { 0.0 } else { high - low })
    }

    /// Standard error of its mean over that of one reading: less by their number, more by their spread.
    pub fn mean_sigma_over_one(&self) -> f64 {
        let n = (self.side_readings_deg.len().max(1) as f64).sqrt();
        (1.0 / n).max(self.spread_deg().get() / (2.0 * n) / GAUGE_SIGMA_DEG)
    }
}

/// Slopes whose readings are too far apart, to be read again.
pub(super) fn to_read_again(elements: &[Element]) -> impl Iterator<Item = Finding> {
    elements.iter().enumerate().filter(|(_, e)| e.spread_deg().get() > READ_AGAIN_DEG + 1e-9).map(|(i, e)| {
        let name = if e.name.is_empty() { format!("element {}", i + 1) } else { e.name.clone() };
        let message = format!("{name}: readings {:.1}° apart; clean the face and read it a third time", e.spread_deg().get());
        Finding::new("read-again", Level::Warn, message).at(format!("e{}", i + 1))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use serde_json::{Value, json};

    fn of(v: &Value) -> Result<Element, Problem> {
        read_json(v)
    }

    #[test]
    fn faces_are_averaged_and_the_plan_view_comes_from_two_offsets() {
        let e = of(&json!({"side_readings_deg": [4.0, 4.4], "plan_offsets_mm": [10, 31], "plan_length_mm": 1200})).unwrap();
        assert!((e.side_deg.get() - 4.2).abs() < 1e-12 && (e.spread_deg().get() - 0.4).abs() < 1e-12);
        assert!((e.plan_deg.unwrap().get() - 1.0026).abs() < 1e-4);
        assert_eq!(to_read_again(std::slice::from_ref(&e)).next().unwrap().code, "read-again");
        assert_eq!(of(&serde_json::to_value(&e).unwrap()).unwrap(), e);
        let once = of(&json!({"side_deg": 3.0})).unwrap();
        assert_eq!(serde_json::to_value(&once).unwrap(), json!({"name": "", "side_deg": 3.0}));
        assert!(to_read_again(&[once]).next().is_none());
    }

    #[test]
    fn what_is_missing_is_named() {
        for (v, word) in [(json!({}), "side_deg"), (json!({"side_deg": 1, "plan_offsets_mm": [1, 2]}), "apart")] {
            let e = of(&v).unwrap_err();
            assert!(e.message.contains(word), "{}", e.message);
        }
    }
}
