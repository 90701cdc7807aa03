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
    #[serde(default, deserialize_with = "those_read", skip_serializing_if = "Option::is_none")]
    pub readings: Option<Vec<Reading>>,
    /// Equally spaced; none at a mark that was missed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mm: Option<Vec<Option<f64>>>,
    /// Held against the raw total reading.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limit_mm: Option<f64>,
}

/// Leaves out the positions at which nothing was read.
fn those_read<'de, D: serde::Deserializer<'de>>(d: D) -> Result<Option<Vec<Reading>>, D::Error> {
    #[derive(Deserialize)]
    struct Mark {
        deg: Degrees,
        mm: Option<Millimetres>,
    }
    let marks: Option<Vec<Mark>> = Deserialize::deserialize(d)?;
    Ok(marks.map(|m| m.into_iter().filter_map(|m| Some(Reading { deg: m.deg, mm: m.mm? })).collect()))
}

/// One thing that explains readings which fit no circle.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Disturbance {
    /// The indicator slipped: from this position on, in the order of reading, all are off by so much.
    Slipped {
        /// First position that is off.
        from_deg: Degrees,
        /// By how much.
        by_mm: Millimetres,
        /// Total reading without it.
        tir_mm: Millimetres,
        /// High spot without it.
        high_spot_deg: Degrees,
    },
    /// One reading stands off: a dent, rust, dirt.
    Spot {
        /// Where.
        at_deg: Degrees,
        /// By how much.
        by_mm: Millimetres,
        /// Total reading without it.
        tir_mm: Millimetres,
        /// High spot without it.
        high_spot_deg: Degrees,
    },
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
    /// What explains readings that fit no circle; none where they do, or nothing does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disturbance: Option<Disturbance>,
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
                let at = |(i, x): (usize, &Option<f64>)| Some(Reading { deg: Degrees(step * i as f64), mm: Millimetres((*x)?) });
                mm.iter().enumerate().filter_map(at).collect()
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
/// let mm = [0.10, 0.28, 0.41, 0.42, 0.30, 0.13, -0.01, -0.02].map(Some);
/// let r = runout(&RunoutInput { mm: Some(mm.to_vec()), ..RunoutInput::default() }).unwrap();
/// assert!((r.tir_mm.get() - 0.465).abs() < 5e-4 && (r.high_spot_deg.get() - 115.8).abs() < 0.05);
/// ```
pub fn runout(input: &RunoutInput) -> Result<Runout, Problem> {
    let points = input.points()?;
    let harmonics = if points.len() >= 6 { 2 } else { 1 };
    let Fit { of: fit, residual } = Fit::of(&points, harmonics, None)?;
    let ecc = fit[1].hypot(fit[2]);
    let (low, high) = points.iter().fold((f64::MAX, f64::MIN), |(l, h), p| (l.min(p.mm.get()), h.max(p.mm.get())));
    let raw = high - low;
    let mut findings = vec![];
    if let Some(limit) = input.limit_mm {
        positive(limit, "limit_mm")?;
        if raw > limit {
            findings.push(Finding::new("over-limit", Level::Over, format!("{raw:.2} mm total, over {limit:.2} mm")));
        }
    }
    let is_unsteady = residual > ecc / 4.0 && residual > 0.005;
    let disturbance = if is_unsteady { disturbance(&points, residual) } else { None };
    if is_unsteady {
        findings.push(Finding::new(
            "unsteady",
            Level::Warn,
            "the readings do not fit a circle: a dent, rust or a slipped indicator; clean the track and read again",
        ));
    }
    match disturbance {
        Some(Disturbance::Slipped { from_deg, by_mm, .. }) => findings.push(Finding::new(
            "slipped",
            Level::Warn,
            format!(
                "from {:.0}° on the readings are off by {:+.2} mm: the indicator slipped; fix its foot and read again",
                from_deg.get(),
                by_mm.get()
            ),
        )),
        Some(Disturbance::Spot { at_deg, by_mm, .. }) => findings.push(Finding::new(
            "spot",
            Level::Warn,
            format!(
                "the reading at {:.0}° stands off by {:+.2} mm: a dent, rust or dirt there; clean it and read again",
                at_deg.get(),
                by_mm.get()
            ),
        )),
        None => {}
    }
    Ok(Runout {
        offset_mm: Millimetres(fit[0]),
        eccentricity_mm: Millimetres(ecc),
        tir_mm: Millimetres(2.0 * ecc),
        raw_tir_mm: Millimetres(raw),
        high_spot_deg: Degrees(fit[2].atan2(fit[1]).to_degrees()).turned(),
        ovality_mm: (harmonics == 2).then(|| Millimetres(fit[3].hypot(fit[4]))),
        residual_mm: Millimetres(residual),
        disturbance,
        findings,
    })
}

/// One more unknown of the fit: how far some readings are off.
type Off<'a> = &'a dyn Fn(usize) -> bool;

struct Fit {
    of: DVector<f64>,
    residual: f64,
}

impl Fit {
    fn of(points: &[Reading], harmonics: usize, off: Option<Off>) -> Result<Self, Problem> {
        let columns = 1 + 2 * harmonics;
        let design = DMatrix::from_fn(points.len(), columns + usize::from(off.is_some()), |i, j| {
            let (k, th) = (j.div_ceil(2) as f64, points[i].deg.rad());
            match (j, off) {
                (0, _) => 1.0,
                (j, Some(off)) if j == columns => f64::from(u8::from(off(i))),
                (j, _) if j % 2 == 1 => (k * th).cos(),
                _ => (k * th).sin(),
            }
        });
        let y = DVector::from_iterator(points.len(), points.iter().map(|p| p.mm.get()));
        let svd = design.clone().svd(true, true);
        if svd.singular_values.min() < 1e-6 * svd.singular_values.max() {
            let message = "these positions do not go round the turn: spread them, all at different marks";
            return Err(Problem::new("badly-spread", message).field("readings"));
        }
        let of = svd.solve(&y, 0.0).map_err(|e| Problem::new("no-fit", e))?;
        let residual = ((&y - &design * &of).norm_squared() / points.len() as f64).sqrt();
        Ok(Self { of, residual })
    }
}

/// Readings that are needed to tell what disturbs them.
const LEAST_TO_TELL: usize = 8;
/// A disturbance explains the readings when it leaves no more than this share of what they are off by, a free value each allowed for.
const EXPLAINED: f64 = 0.3;

/// The one step, or the one spot, that explains readings which fit no circle.
fn disturbance(points: &[Reading], residual: f64) -> Option<Disturbance> {
    let n = points.len();
    if n < LEAST_TO_TELL {
        return None;
    }
    let free = |fit: f64, unknowns: usize| fit * (n as f64 / (n - unknowns) as f64).sqrt();
    let mut best: Option<(f64, Disturbance)> = None;
    let mut try_one = |off: Off, of: &dyn Fn(Millimetres, Millimetres, Degrees) -> Disturbance| {
        let Ok(fit) = Fit::of(points, 1, Some(off)) else { return };
        let (left, by) = (free(fit.residual, 4), fit.of[3]);
        let tir = Millimetres(2.0 * fit.of[1].hypot(fit.of[2]));
        let spot = Degrees(fit.of[2].atan2(fit.of[1]).to_degrees()).turned();
        if by.abs() > 4.0 * left && best.as_ref().is_none_or(|(b, _)| left < *b) {
            best = Some((left, of(Millimetres(by), tir, spot)));
        }
    };
    for (k, point) in points.iter().enumerate() {
        let deg = point.deg;
        try_one(&|i| i == k, &|by_mm, tir_mm, high_spot_deg| Disturbance::Spot { at_deg: deg, by_mm, tir_mm, high_spot_deg });
        // A step that moves the first or the last reading alone is a spot.
        if (2..n - 1).contains(&k) {
            try_one(&|i| i >= k, &|by_mm, tir_mm, high_spot_deg| Disturbance::Slipped {
                from_deg: deg,
                by_mm,
                tir_mm,
                high_spot_deg,
            });
        }
    }
    best.filter(|(left, _)| *left < EXPLAINED * free(residual, 3)).map(|(_, d)| d)
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
        runout(&RunoutInput { mm: Some(mm.iter().copied().map(Some).collect()), ..Default::default() }).unwrap()
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
            mm: Some([0.0, 0.9, 0.0, 0.1, 0.0, 0.05, 0.0, 0.4].map(Some).to_vec()),
            limit_mm: Some(0.5),
            ..Default::default()
        })
        .unwrap();
        let codes: Vec<_> = r.findings.iter().map(|f| f.code.as_str()).collect();
        assert_eq!(codes, ["over-limit", "unsteady"]);
    }

    fn circle(n: usize, off: impl Fn(usize) -> f64) -> Vec<f64> {
        (0..n).map(|i| 0.2 * (std::f64::consts::TAU * i as f64 / n as f64 - 1.0).cos() + off(i)).collect()
    }

    #[test]
    fn a_missed_mark_is_left_out() {
        let mut mm: Vec<Option<f64>> = circle(8, |_| 0.0).into_iter().map(Some).collect();
        (mm[2], mm[5]) = (None, None);
        let r = runout(&RunoutInput { mm: Some(mm), ..Default::default() }).unwrap();
        assert!((r.tir_mm.get() - 0.4).abs() < 1e-9);
        let v = serde_json::json!({"readings": [{"deg": 0, "mm": 0.1}, {"deg": 90, "mm": null}, {"deg": 120, "mm": 0}, {"deg": 200, "mm": 0},
            {"deg": 300, "mm": 0.1}]});
        assert_eq!(crate::error::read_json::<RunoutInput>(&v).unwrap().points().unwrap().len(), 4);
    }

    #[test]
    fn where_the_indicator_slipped_or_a_dent_is_is_found() {
        let r = even(&circle(12, |i| if i >= 5 { 0.3 } else { 0.0 }));
        let Some(Disturbance::Slipped { from_deg, by_mm, tir_mm, high_spot_deg }) = r.disturbance else { panic!("{r:?}") };
        assert!((from_deg.get() - 150.0).abs() < 1e-9 && (by_mm.get() - 0.3).abs() < 1e-9);
        assert!((tir_mm.get() - 0.4).abs() < 1e-9 && (high_spot_deg.get() - 57.3).abs() < 0.05);
        let r = even(&circle(8, |i| if i == 3 { -0.4 } else { 0.0 }));
        let Some(Disturbance::Spot { at_deg, by_mm, .. }) = r.disturbance else { panic!("{r:?}") };
        assert!((at_deg.get() - 135.0).abs() < 1e-9 && (by_mm.get() + 0.4).abs() < 1e-9);
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
        fn noise_alone_is_no_slip(seed in prop::collection::vec(-0.01f64..0.01, 12)) {
            prop_assert!(even(&circle(12, |i| seed[i])).disturbance.is_none());
        }

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
