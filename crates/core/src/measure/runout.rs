//! Runout: a dial indicator round one turn.
//!
//! Least squares of r(θ) = a0 + Σ a_k cos kθ + b_k sin kθ with k = 1, and 2 from six positions on.
//! θ is the mark on the part under the dial. Eccentricity √(a1² + b1²), its total reading twice
//! that, high spot atan2(b1, a1); k = 2 is ovality, which no indexing cures.

use crate::error::{Finding, Level, Problem, finite, positive};
use crate::units::{Degrees, Millimetres};
use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};

/// Positions that a circle needs.
pub const LEAST_READINGS: usize = 4;
/// Positions that are read round one turn at most.
pub const MOST_READINGS: usize = 36;

/// One reading of the dial.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Reading {
    /// Mark under the dial.
    pub deg: Degrees,
    /// What the dial shows.
    pub mm: Millimetres,
}

/// Readings round one turn: with their positions, or equally spaced from 0°.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct RunoutInput {
    /// With positions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub readings: Option<Vec<Reading>>,
    /// Equally spaced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mm: Option<Vec<f64>>,
    /// Held against the raw total reading.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_mm: Option<f64>,
}

/// The fit.
#[derive(Clone, Debug, Serialize)]
pub struct Runout {
    /// Mean reading.
    pub offset_mm: Millimetres,
    /// How far the centre is off.
    pub eccentricity_mm: Millimetres,
    /// Total reading of the eccentricity alone.
    pub tir_mm: Millimetres,
    /// Largest less smallest reading.
    pub raw_tir_mm: Millimetres,
    /// Where the high spot is.
    pub high_spot_deg: Degrees,
    /// Amplitude of the twice-a-turn part; none below six readings.
    pub ovality_mm: Option<Millimetres>,
    /// Root mean square of what the fit leaves.
    pub residual_mm: Millimetres,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

impl RunoutInput {
    /// The readings with their positions.
    pub fn points(&self) -> Result<Vec<Reading>, Problem> {
        let points = match (&self.readings, &self.mm) {
            (Some(r), _) if !r.is_empty() => r.clone(),
            (_, Some(mm)) => {
                let step = 360.0 / mm.len().max(1) as f64;
                mm.iter().enumerate().map(|(i, &x)| Reading { deg: Degrees(step * i as f64), mm: Millimetres(x) }).collect()
            }
            _ => return Err(Problem::new("missing", "dial readings are needed: readings, or mm from 0° on").field("readings")),
        };
        if !(LEAST_READINGS..=MOST_READINGS).contains(&points.len()) {
            return Err(Problem::new(
                "out-of-range",
                format!("{LEAST_READINGS} to {MOST_READINGS} positions round the turn are needed, got {}", points.len()),
            )
            .field(if self.readings.is_some() { "readings" } else { "mm" }));
        }
        for (i, p) in points.iter().enumerate() {
            let under = |e: Problem| e.under(&format!("readings[{i}]"));
            finite(p.deg.get(), "deg").map_err(under)?;
            finite(p.mm.get(), "mm").map_err(under)?;
        }
        Ok(points)
    }
}

/// Fits the readings, 4 to 36 positions round one turn (the out-of-round part needs 6): eccentricity and total reading in mm, the
/// high spot in degrees, findings. Positions that do not go round the turn are an error of field `readings`.
///
/// ```
/// use baricord_core::measure::runout::{RunoutInput, runout};
/// let mm = vec![0.10, 0.28, 0.41, 0.42, 0.30, 0.13, -0.01, -0.02];
/// let r = runout(&RunoutInput { mm: Some(mm), ..RunoutInput::default() }).unwrap();
/// assert!((r.tir_mm.get() - 0.465).abs() < 5e-4 && (r.high_spot_deg.get() - 115.8).abs() < 0.05);
/// ```
pub fn runout(input: &RunoutInput) -> Result<Runout, Problem> {
    let points = input.points()?;
    let harmonics = if points.len() >= 6 { 2 } else { 1 };
    let design = DMatrix::from_fn(points.len(), 1 + 2 * harmonics, |i, j| {
        let (k, th) = (j.div_ceil(2) as f64, points[i].deg.rad());
        if j % 2 == 1 { (k * th).cos() } else { (k * th).sin() + if j == 0 { 1.0 } else { 0.0 } }
    });
    let y = DVector::from_iterator(points.len(), points.iter().map(|p| p.mm.get()));
    let svd = design.clone().svd(true, true);
    let largest = svd.singular_values.max();
    if svd.singular_values.min() < 1e-6 * largest {
        return Err(Problem::new(
            "badly-spread",
            "these positions do not go round the turn: spread them, all at different marks",
        )
        .field("readings"));
    }
    let fit = svd.solve(&y, 0.0).map_err(|e| Problem::new("no-fit", e))?;
    let rest = &y - &design * &fit;
    let residual = (rest.norm_squared() / points.len() as f64).sqrt();
    let ecc = fit[1].hypot(fit[2]);
    let raw = y.max() - y.min();
    let mut findings = vec![];
    if let Some(limit) = input.limit_mm {
        positive(limit, "limit_mm")?;
        if raw > limit {
            findings.push(Finding::new("over-limit", Level::Over, format!("{raw:.2} mm total, over {limit:.2} mm")));
        }
    }
    if residual > ecc / 4.0 && residual > 0.005 {
        findings.push(Finding::new(
            "unsteady",
            Level::Warn,
            "the readings do not fit a circle: a dent, rust or a slipped indicator; clean the track and read again",
        ));
    }
    Ok(Runout {
        offset_mm: Millimetres(fit[0]),
        eccentricity_mm: Millimetres(ecc),
        tir_mm: Millimetres(2.0 * ecc),
        raw_tir_mm: Millimetres(raw),
        high_spot_deg: Degrees(fit[2].atan2(fit[1]).to_degrees()).turned(),
        ovality_mm: (harmonics == 2).then(|| Millimetres(fit[3].hypot(fit[4]))),
        residual_mm: Millimetres(residual),
        findings,
    })
}

/// The limit at a measuring point by default: shaft ends 0.5, middle 0.75, flange face 0.13, flange radial
/// 0.15, rim 0.8, tyre 1.2 mm. A vehicle's own figure, by place or by kind of point, comes first.
pub fn limit_at(limits: &crate::vehicle::Limits, at: &str) -> Option<Millimetres> {
    let (kind, default) = if at.ends_with(".centre") || at.starts_with("prop.") && at.matches('.').count() == 2 {
        ("shaft-centre", 0.75)
    } else if at.starts_with("prop.") || at.starts_with("half.") {
        ("shaft-end", 0.5)
    } else if at.ends_with(".face") || at.starts_with("hub.") {
        ("flange-face", 0.13)
    } else if at.contains("flange") {
        ("flange-radial", 0.15)
    } else if at.ends_with(".tyre") {
        ("tyre", 1.2)
    } else if at.starts_with("wheel.") {
        ("rim", 0.8)
    } else {
        return None;
    };
    Some(Millimetres(limits.runout_mm.get(at).or_else(|| limits.runout_mm.get(kind)).copied().unwrap_or(default)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn even(mm: &[f64]) -> Runout {
        runout(&RunoutInput { mm: Some(mm.to_vec()), ..Default::default() }).unwrap()
    }

    #[test]
    fn worked_readings() {
        let r = even(&[0.10, 0.28, 0.41, 0.42, 0.30, 0.13, -0.01, -0.02]);
        let near = |a: f64, b: f64, tol: f64| assert!((a - b).abs() <= tol, "{a} {b}");
        near(r.offset_mm.get(), 0.2013, 6e-5);
        near(r.eccentricity_mm.get(), 0.2325, 5e-5);
        near(r.tir_mm.get(), 0.465, 5e-4);
        near(r.high_spot_deg.get(), 115.8, 0.05);
        near(r.ovality_mm.unwrap().get(), 0.0025, 5e-5);
        near(r.residual_mm.get(), 0.0016, 5e-5);
        near(r.raw_tir_mm.get(), 0.44, 1e-12);
        assert!(r.findings.is_empty());
    }

    #[test]
    fn below_six_positions_there_is_no_ovality() {
        assert!(even(&[0.0, 0.1, 0.2, 0.1]).ovality_mm.is_none());
    }

    #[test]
    fn a_limit_and_a_slipped_indicator_are_told() {
        let r = runout(&RunoutInput {
            mm: Some(vec![0.0, 0.9, 0.0, 0.1, 0.0, 0.05, 0.0, 0.4]),
            limit_mm: Some(0.5),
            ..Default::default()
        })
        .unwrap();
        let codes: Vec<_> = r.findings.iter().map(|f| f.code.as_str()).collect();
        assert_eq!(codes, ["over-limit", "unsteady"]);
    }

    #[test]
    fn readings_at_one_side_only_are_refused() {
        let r = |deg: f64| Reading { deg: Degrees(deg), mm: Millimetres(0.1) };
        let e = runout(&RunoutInput { readings: Some(vec![r(10.0), r(10.0), r(370.0), r(10.0)]), ..Default::default() });
        assert_eq!(e.unwrap_err().code, "badly-spread");
        assert_eq!(runout(&RunoutInput::default()).unwrap_err().code, "missing");
    }

    #[test]
    fn limits_follow_the_station() {
        let none = crate::vehicle::Limits::default();
        let at = |s| limit_at(&none, s).unwrap().get();
        assert_eq!(at("prop.rear.s2.centre"), 0.75);
        assert_eq!(at("prop.rear.s2.rear"), 0.5);
        assert_eq!(at("diff.rear.flange"), 0.15);
        assert_eq!(at("wheel.fl"), 0.8);
        let own: crate::vehicle::Limits =
            serde_json::from_str(r#"{"runout_mm":{"shaft-centre":0.6,"prop.rear.s1.centre":0.4}}"#).unwrap();
        assert_eq!(limit_at(&own, "prop.rear.s2.centre").unwrap().get(), 0.6);
        assert_eq!(limit_at(&own, "prop.rear.s1.centre").unwrap().get(), 0.4);
    }

    proptest! {
        #[test]
        fn a_known_eccentricity_comes_back(ecc in 0.01..2.0f64, spot in 0.0..360.0f64, off in -1.0..1.0f64, n in 4usize..36) {
            let mm: Vec<f64> = (0..n)
                .map(|i| off + ecc * (std::f64::consts::TAU * i as f64 / n as f64 - spot.to_radians()).cos())
                .collect();
            let r = even(&mm);
            prop_assert!((r.eccentricity_mm.get() - ecc).abs() < 1e-9);
            let gap = (r.high_spot_deg.get() - spot).rem_euclid(360.0);
            prop_assert!(gap.min(360.0 - gap) < 1e-6);
            prop_assert!(r.residual_mm.get() < 1e-9);
        }
    }
}
