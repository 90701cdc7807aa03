//! Bow of a shaft: how far its middle is off the line of its ends.
//!
//! Runout adds as vectors: bow = centre − the line between the ends at that place, halfway the mean of both.

use super::indexing::RunoutVector;
use crate::error::{Finding, Level, Problem, finite, positive};
use crate::units::{Degrees, Millimetres};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};

/// A bow over this is a bent tube, by default, mm total reading.
pub const MOST_TIR_MM: f64 = 0.75;

/// Runout at three places of one section, by the same marks.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct BowInput {
    /// At the front end.
    pub front: RunoutVector,
    /// In the middle.
    pub centre: RunoutVector,
    /// At the rear end.
    pub rear: RunoutVector,
    /// Where the middle one was read, of the length from the front end, 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre_at: Option<f64>,
    /// Largest total reading.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_mm: Option<f64>,
}

/// The bow.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Bow {
    /// As a total reading.
    pub tir_mm: Millimetres,
    /// How far the middle is off.
    pub eccentricity_mm: Millimetres,
    /// The mark to which it is bowed.
    pub high_spot_deg: Degrees,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// Bow of a section, mm. Errors name the field: total readings of 0 mm or more, `centre_at` between 0 and 1.
///
/// ```
/// use baricord_core::{error::read_json, measure::bow::bow};
/// let at = |tir: f64, deg: f64| serde_json::json!({"tir_mm": tir, "high_spot_deg": deg});
/// let b = bow(&read_json(&serde_json::json!({"front": at(0.2, 0.0), "centre": at(0.9, 0.0), "rear": at(0.2, 180.0)})).unwrap()).unwrap();
/// assert!((b.tir_mm.get() - 0.9).abs() < 1e-9);
/// ```
pub fn bow(input: &BowInput) -> Result<Bow, Problem> {
    let vector = |v: RunoutVector, field: &str| {
        let tir = finite(v.tir_mm.get(), &format!("{field}.tir_mm"))?;
        if tir < 0.0 {
            return Err(Problem::new("out-of-range", "a total reading is 0 mm or more").field(format!("{field}.tir_mm")));
        }
        finite(v.high_spot_deg.get(), &format!("{field}.high_spot_deg"))?;
        Ok(Complex64::from_polar(tir, v.high_spot_deg.rad()))
    };
    let (front, centre, rear) = (vector(input.front, "front")?, vector(input.centre, "centre")?, vector(input.rear, "rear")?);
    let share = finite(input.centre_at.unwrap_or(0.5), "centre_at")?;
    if !(0.0..=1.0).contains(&share) {
        return Err(Problem::new("out-of-range", "between the ends: from 0 to 1").field("centre_at"));
    }
    let limit = positive(input.limit_mm.unwrap_or(MOST_TIR_MM), "limit_mm")?;
    let off = centre - front * (1.0 - share) - rear * share;
    let (tir, ends) = (off.norm(), front.norm().max(rear.norm()));
    let mut findings = vec![];
    if tir > limit {
        let message =
            format!("{tir:.2} mm total off the line of its ends, over {limit:.2} mm: the tube is bent; no indexing cures that");
        findings.push(Finding::new("bent", Level::Over, message));
    } else if centre.norm() > limit && ends > tir {
        let message = "the middle only follows its ends: look at flange, yoke and joints, the tube is straight";
        findings.push(Finding::new("from-the-ends", Level::Info, message));
    }
    let high_spot_deg = Degrees(off.arg().to_degrees()).turned();
    Ok(Bow { tir_mm: Millimetres(tir), eccentricity_mm: Millimetres(tir / 2.0), high_spot_deg, findings })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn of(v: &Value) -> Result<Bow, Problem> {
        bow(&read_json(v).unwrap())
    }
    fn at(tir: f64, deg: f64) -> Value {
        json!({"tir_mm": tir, "high_spot_deg": deg})
    }

    #[test]
    fn a_bent_tube_and_one_that_follows_its_ends() {
        let b = of(&json!({"front": at(0.1, 0.0), "centre": at(1.1, 90.0), "rear": at(0.1, 0.0)})).unwrap();
        assert_eq!(b.findings[0].code, "bent");
        let b = of(&json!({"front": at(0.9, 30.0), "centre": at(0.9, 30.0), "rear": at(0.9, 30.0)})).unwrap();
        assert!(b.tir_mm.get() < 1e-9 && b.findings[0].code == "from-the-ends");
        let field = |v: Value| of(&v).unwrap_err().field.unwrap();
        assert_eq!(field(json!({"front": at(0.1, 0.0), "centre": at(-1.0, 0.0), "rear": at(0.1, 0.0)})), "centre.tir_mm");
        assert_eq!(
            field(json!({"front": at(0.1, 0.0), "centre": at(0.1, 0.0), "rear": at(0.1, 0.0), "centre_at": 2})),
            "centre_at"
        );
    }

    proptest! {
        #[test]
        fn a_tilted_straight_line_has_no_bow(f in 0.0f64..2.0, fd in 0.0f64..360.0, r in 0.0f64..2.0, rd in 0.0f64..360.0, share in 0.0f64..1.0) {
            let z = Complex64::from_polar(f, fd.to_radians()) * (1.0 - share) + Complex64::from_polar(r, rd.to_radians()) * share;
            let b = of(&json!({"front": at(f, fd), "centre": at(z.norm(), z.arg().to_degrees()), "rear": at(r, rd), "centre_at": share})).unwrap();
            prop_assert!(b.tir_mm.get() < 1e-9);
        }
    }
}
