//! The contact pattern of ring and pinion, as painted, and which way that moves them.
//!
//! Height tells the depth of the pinion: at the tips of the teeth it stands too far from the ring, at their roots too near. Along the
//! tooth it tells the ring: at the toe (inner end) the backlash is too small, at the heel too large. Depth comes first, then backlash is
//! set again; on offset axes a change of depth draws drive and coast side to opposite ends, so the height decides where both are off.

use crate::error::{Finding, Level, Problem, positive};
use serde::{Deserialize, Serialize};

/// Where it lies along the tooth.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Along {
    /// The outer, large end.
    Heel,
    /// In the middle, or a little to the toe.
    #[default]
    Centre,
    /// The inner, small end.
    Toe,
}

/// Where it lies up the tooth.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Height {
    /// At the tip: shallow.
    Face,
    /// In the middle.
    #[default]
    Centre,
    /// At the root: deep.
    Flank,
}

/// The pattern of one side of the teeth.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pattern {
    /// Along the tooth.
    #[serde(default)]
    pub along: Along,
    /// Up the tooth.
    #[serde(default)]
    pub height: Height,
}

/// Both sides, as seen on the ring.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct ContactPatternInput {
    /// The side that pulls: the convex one.
    pub drive: Pattern,
    /// The side that holds back: the concave one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub coast: Option<Pattern>,
    /// Backlash as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backlash_mm: Option<f64>,
    /// Its range.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range_mm: Option<[f64; 2]>,
}

/// What is moved.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Moved {
    /// By the shim behind its head.
    Pinion,
    /// From side to side.
    Ring,
    /// It is good.
    Nothing,
}

/// Which way.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// To the other gear.
    Nearer,
    /// From it.
    Farther,
    /// Not at all.
    Stays,
}

/// What to move.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ContactPattern {
    /// What.
    #[serde(rename = "move")]
    pub moved: Moved,
    /// Which way.
    pub way: Way,
    /// The outcome of the test that it amounts to.
    pub outcome: &'static str,
    /// Why.
    pub why: String,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// Which way pinion or ring is moved. Errors name the field.
///
/// ```
/// use baricord_core::{error::read_json, measure::contact_pattern::{Moved, Way, contact_pattern}};
/// let input = serde_json::json!({"drive": {"height": "flank"}, "coast": {"height": "flank"}});
/// let p = contact_pattern(&read_json(&input).unwrap()).unwrap();
/// assert_eq!((p.moved, p.way, p.outcome), (Moved::Pinion, Way::Farther, "deep"));
/// ```
pub fn contact_pattern(input: &ContactPatternInput) -> Result<ContactPattern, Problem> {
    let mut findings = vec![];
    if let Some(b) = input.backlash_mm {
        positive(b, "backlash_mm")?;
        let [low, high] = input.range_mm.unwrap_or(super::backlash::USUAL_RANGE_MM);
        if low > high {
            return Err(Problem::new("out-of-range", "the range runs from low to high").field("range_mm"));
        }
        if !(low..=high).contains(&b) {
            let message = format!("backlash is {b:.2} mm, outside {low:.2} to {high:.2} mm: set it first, then paint again");
            findings.push(Finding::new("backlash-first", Level::Warn, message));
        }
    }
    let (drive, coast) = (input.drive, input.coast.unwrap_or(input.drive));
    if input.coast.is_none() {
        findings.push(Finding::new("coast-unread", Level::Info, "only the drive side was looked at: paint the coast side too"));
    }
    let opposite = |a: Height, b: Height| a != b && a != Height::Centre && b != Height::Centre;
    if opposite(drive.height, coast.height) {
        let message = "drive and coast side lie at opposite heights: worn or mismatched gears are not set right by shims";
        findings.push(Finding::new("mismatched", Level::Warn, message));
    }
    let height = if drive.height == Height::Centre { coast.height } else { drive.height };
    let (moved, way, outcome, why) = match (height, drive.along) {
        (Height::Face, _) => (Moved::Pinion, Way::Nearer, "shallow", "at the tips: the pinion stands too far from the ring"),
        (Height::Flank, _) => (Moved::Pinion, Way::Farther, "deep", "at the roots: the pinion stands too near the ring"),
        (Height::Centre, Along::Heel) => {
            (Moved::Ring, Way::Nearer, "heel", "at the heel: the ring stands too far from the pinion")
        }
        (Height::Centre, Along::Toe) => (Moved::Ring, Way::Farther, "toe", "at the toe: the ring stands too near the pinion"),
        (Height::Centre, Along::Centre) => (Moved::Nothing, Way::Stays, "good", "in the middle of the tooth"),
    };
    if moved == Moved::Pinion {
        let message = "a change of depth changes backlash: set it back into its range, then paint again";
        findings.push(Finding::new("backlash-again", Level::Info, message));
    }
    Ok(ContactPattern { moved, way, outcome, why: why.into(), findings })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use serde_json::json;

    #[test]
    fn height_decides_before_heel_and_toe() {
        let of = |v| contact_pattern(&read_json(&v).unwrap()).unwrap();
        let p = of(json!({"drive": {"along": "toe", "height": "flank"}, "coast": {"along": "heel", "height": "flank"}}));
        assert_eq!((p.moved, p.way, p.outcome), (Moved::Pinion, Way::Farther, "deep"));
        let p = of(json!({"drive": {"along": "heel"}, "coast": {}}));
        assert_eq!((p.moved, p.way), (Moved::Ring, Way::Nearer));
        let p = of(json!({"drive": {"along": "toe"}, "coast": {}, "backlash_mm": 0.05}));
        assert_eq!((p.way, p.findings[0].code.as_str()), (Way::Farther, "backlash-first"));
        let p = of(json!({"drive": {"height": "face"}, "coast": {"height": "flank"}}));
        assert_eq!(p.findings[0].code, "mismatched");
        assert_eq!(of(json!({"drive": {}, "coast": {}})).outcome, "good");
    }

    #[test]
    fn the_outcomes_are_those_of_the_test() {
        let k = crate::reasoning::knowledge::builtin();
        let test = k.test("contact-pattern").unwrap();
        for along in [Along::Heel, Along::Centre, Along::Toe] {
            for height in [Height::Face, Height::Centre, Height::Flank] {
                let input =
                    ContactPatternInput { drive: Pattern { along, height }, coast: None, backlash_mm: None, range_mm: None };
                let outcome = contact_pattern(&input).unwrap().outcome;
                assert!(test.outcomes.iter().any(|o| o.id == outcome), "{outcome}");
            }
        }
    }
}
