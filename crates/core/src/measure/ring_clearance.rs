//! The clearance of a blocking ring on its cone: how much of its wear is left.
//!
//! The gap between ring and gear closes as the ring wears. Read at three places or more round the ring; the smallest counts. What is left
//! is (smallest − limit)/(new − limit).

use crate::error::{Finding, Level, Problem, finite, positive};
use serde::{Deserialize, Serialize};

/// Readings that differ by so much tell of a ring that does not sit straight, mm.
pub const MOST_SPREAD_MM: f64 = 0.25;
/// From this share on the next ring is thought of.
const LITTLE_LEFT: f64 = 0.25;
const READINGS: std::ops::RangeInclusive<usize> = 1..=24;

/// What was read.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RingClearanceInput {
    /// Round the ring.
    pub readings_mm: Vec<f64>,
    /// Smallest that is allowed.
    pub limit_mm: f64,
    /// Of a new ring.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub new_mm: Option<f64>,
}

/// What is left.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RingClearance {
    /// The one that counts.
    pub smallest_mm: f64,
    /// Of all.
    pub mean_mm: f64,
    /// Largest less smallest.
    pub spread_mm: f64,
    /// Down to the limit; negative below it.
    pub left_mm: f64,
    /// Of what a new ring has, 0 to 1; none where that was not given.
    pub left_share: Option<f64>,
    /// The outcome of the test that it amounts to.
    pub outcome: &'static str,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// Clearance against its limit, mm. Errors name the field: readings and limits are above 0 and below 10 mm.
///
/// ```
/// use baricord_core::{error::read_json, measure::ring_clearance::ring_clearance};
/// let input = serde_json::json!({"readings_mm": [0.9, 0.95, 0.92], "limit_mm": 0.5, "new_mm": 1.3});
/// assert!((ring_clearance(&read_json(&input).unwrap()).unwrap().left_share.unwrap() - 0.5).abs() < 1e-9);
/// ```
pub fn ring_clearance(input: &RingClearanceInput) -> Result<RingClearance, Problem> {
    let x = &input.readings_mm;
    if !READINGS.contains(&x.len()) {
        return Err(Problem::new("missing", "the gap is read at three places or more round the ring").field("readings_mm"));
    }
    for (i, v) in x.iter().enumerate() {
        let field = format!("readings_mm[{i}]");
        if !(0.0..10.0).contains(&finite(*v, &field)?) {
            return Err(Problem::new("out-of-range", "a clearance lies from 0 to 10 mm").field(field));
        }
    }
    let limit = positive(input.limit_mm, "limit_mm")?;
    let (smallest, largest) = x.iter().fold((f64::MAX, 0.0f64), |(s, l), v| (s.min(*v), l.max(*v)));
    let mut findings = vec![];
    if x.len() < 3 {
        findings.push(Finding::new("few", Level::Warn, "read it at three places round the ring: it may sit askew"));
    }
    let spread = largest - smallest;
    if spread > MOST_SPREAD_MM {
        let message =
            format!("{spread:.2} mm between the places: the ring sits askew or is bent; press it on evenly and read again");
        findings.push(Finding::new("askew", Level::Warn, message));
    }
    if smallest < limit {
        let message = format!("{smallest:.2} mm, below {limit:.2} mm: it no longer blocks");
        findings.push(Finding::new("below-limit", Level::Over, message));
    }
    let share = match input.new_mm {
        Some(new) if positive(new, "new_mm")? > limit => Some(((smallest - limit) / (new - limit)).clamp(0.0, 1.0)),
        Some(_) => return Err(Problem::new("out-of-range", "a new ring has more than the limit").field("new_mm")),
        None => None,
    };
    if let Some(s) = share.filter(|s| *s < LITTLE_LEFT && smallest >= limit) {
        let message = format!("{:.0} % of its wear is left: while the box is open, a new ring is cheap", 100.0 * s);
        findings.push(Finding::new("little-left", Level::Warn, message));
    }
    Ok(RingClearance {
        smallest_mm: smallest,
        mean_mm: x.iter().sum::<f64>() / x.len() as f64,
        spread_mm: spread,
        left_mm: smallest - limit,
        left_share: share,
        outcome: if smallest < limit { "below" } else { "within" },
        findings,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn of(v: &Value) -> Result<RingClearance, Problem> {
        ring_clearance(&read_json(v).unwrap())
    }

    #[test]
    fn the_smallest_counts_and_a_ring_askew_is_told() {
        let r = of(&json!({"readings_mm": [0.9, 0.45, 0.8], "limit_mm": 0.5, "new_mm": 1.2})).unwrap();
        assert_eq!((r.outcome, r.left_share), ("below", Some(0.0)));
        assert_eq!(r.findings.iter().map(|f| f.code.as_str()).collect::<Vec<_>>(), ["askew", "below-limit"]);
        let r = of(&json!({"readings_mm": [0.6, 0.62, 0.6], "limit_mm": 0.5, "new_mm": 1.3})).unwrap();
        assert_eq!(r.findings[0].code, "little-left");
    }

    #[test]
    fn errors_name_the_field() {
        let field = |v: Value| of(&v).unwrap_err().field.unwrap();
        assert_eq!(field(json!({"readings_mm": [], "limit_mm": 0.5})), "readings_mm");
        assert_eq!(field(json!({"readings_mm": [0.8, -1], "limit_mm": 0.5})), "readings_mm[1]");
        assert_eq!(field(json!({"readings_mm": [0.8], "limit_mm": 0.5, "new_mm": 0.4})), "new_mm");
    }

    proptest! {
        #[test]
        fn wear_only_takes(readings in prop::collection::vec(0.0f64..2.0, 3..8), worn in 0.0f64..0.5) {
            let left = |by: f64| {
                let mm: Vec<f64> = readings.iter().map(|r| (r - by).max(0.0)).collect();
                of(&json!({"readings_mm": mm, "limit_mm": 0.5, "new_mm": 1.5})).unwrap().left_share.unwrap()
            };
            prop_assert!(left(worn) <= left(0.0) && (0.0..=1.0).contains(&left(worn)));
        }
    }
}
