//! The roll-out of a tyre: the way that it covers in counted turns, and what that says of its size.
//!
//! A mark on tyre and floor, the vehicle rolled straight under its own load: circumference = way/turns. The scale is that of a recording
//! (true wheel turns over those that the described size gives): described/rolled.

use crate::error::{Finding, Level, Problem, positive};
use crate::vehicle::Tyre;
use serde::{Deserialize, Serialize};

/// Wheels of one axle, or of a four-wheel drive, that differ by more are told, %.
pub const MOST_DIFFERENCE_PERCENT: f64 = 1.0;
/// Tread that differs by more round the tyre is uneven wear, mm.
pub const MOST_TREAD_SPREAD_MM: f64 = 1.0;
/// One sigma of a way that is measured with chalk and tape, mm.
const WAY_SIGMA_MM: f64 = 3.0;

/// A wheel that was rolled.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RolledWheel {
    /// Where: `wheel.rl`.
    #[serde(default)]
    pub at: String,
    /// Counted.
    pub turns: f64,
    /// The way.
    pub distance_mm: f64,
    /// Depth of tread at equal steps round the tyre.
    #[serde(default)]
    pub tread_mm: Vec<f64>,
}

/// What was rolled and measured.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RollOutInput {
    /// Each wheel.
    pub wheels: Vec<RolledWheel>,
    /// As it is described.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tyre: Option<Tyre>,
    /// The scale that a recording found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recorded_scale: Option<f64>,
    /// Its sigma.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recorded_scale_sigma: Option<f64>,
}

/// Tread round a tyre.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Tread {
    pub least_mm: f64,
    pub spread_mm: f64,
    /// Where it is least, from the first reading on.
    pub least_at_deg: f64,
}

/// One wheel.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct WheelRollOut {
    pub at: String,
    pub circumference_m: f64,
    /// One sigma.
    pub sigma_m: f64,
    /// None where its tread was not read.
    pub tread: Option<Tread>,
}

/// What the wheels come to.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RollOut {
    pub wheels: Vec<WheelRollOut>,
    /// Mean of all.
    pub rolling_circumference_m: f64,
    /// Largest over smallest, %.
    pub difference_percent: f64,
    /// Described over rolled; none without a description.
    pub scale: Option<f64>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// Circumference of each wheel, m, and how they differ. Errors name the field: 1 to 8 wheels, turns above 0, 0.5 to 6 m a turn.
///
/// ```
/// use baricord_core::{error::read_json, measure::roll_out::roll_out};
/// let input = serde_json::json!({"wheels": [{"turns": 3, "distance_mm": 6420}]});
/// assert!((roll_out(&read_json(&input).unwrap()).unwrap().rolling_circumference_m - 2.14).abs() < 1e-9);
/// ```
pub fn roll_out(input: &RollOutInput) -> Result<RollOut, Problem> {
    if input.wheels.is_empty() || input.wheels.len() > 8 {
        return Err(Problem::new("missing", "1 to 8 wheels").field("wheels"));
    }
    let mut findings = vec![];
    let mut wheels = vec![];
    for (i, w) in input.wheels.iter().enumerate() {
        let field = |f: &str| format!("wheels[{i}].{f}");
        let turns = positive(w.turns, &field("turns"))?;
        let around = positive(w.distance_mm, &field("distance_mm"))? / turns / 1000.0;
        if !(0.5..=6.0).contains(&around) {
            let message = format!("{around:.2} m a turn: a wheel rolls 0.5 to 6 m in one");
            return Err(Problem::new("out-of-range", message).field(field("distance_mm")));
        }
        let tread = tread(&w.tread_mm, &field("tread_mm"))?;
        if let Some(t) = tread.filter(|t| t.spread_mm > MOST_TREAD_SPREAD_MM) {
            let message = format!(
                "the tread differs by {:.1} mm round the tyre, least at {:.0}°: worn unevenly",
                t.spread_mm, t.least_at_deg
            );
            findings.push(Finding::new("uneven-wear", Level::Warn, message).at(w.at.clone()));
        }
        wheels.push(WheelRollOut { at: w.at.clone(), circumference_m: around, sigma_m: WAY_SIGMA_MM / turns / 1000.0, tread });
    }
    let mean = wheels.iter().map(|w| w.circumference_m).sum::<f64>() / wheels.len() as f64;
    let (least, most) = wheels.iter().fold((f64::MAX, 0.0f64), |(l, m), w| (l.min(w.circumference_m), m.max(w.circumference_m)));
    let difference = 100.0 * (most / least - 1.0);
    if difference > MOST_DIFFERENCE_PERCENT {
        let message =
            format!("the wheels differ by {difference:.1} %: a driven pair, or all four of an all-wheel drive, want like tyres");
        findings.push(Finding::new("unlike", Level::Warn, message));
    }
    let scale = match &input.tyre {
        Some(t) => Some(t.figures().map_err(|e| e.under("tyre"))?.rolling_circumference_m.get() / mean),
        None => None,
    };
    if let (Some(rolled), Some(recorded)) = (scale, input.recorded_scale) {
        positive(recorded, "recorded_scale")?;
        let own = WAY_SIGMA_MM / 1000.0 / mean / wheels.iter().zip(&input.wheels).map(|(_, w)| w.turns).sum::<f64>();
        let sigma = (own * rolled).hypot(input.recorded_scale_sigma.unwrap_or(0.002));
        // A display of speed reads a little high by law and habit: only what is rolled tells the tyre.
        if (rolled - recorded).abs() > 3.0 * sigma {
            let message = format!(
                "the recording's scale is {recorded:.3}, the roll-out's {rolled:.3}: what gave the speed is off by {:.1} %",
                100.0 * (recorded / rolled - 1.0)
            );
            findings.push(Finding::new("speed-off", Level::Info, message));
        }
    }
    if let Some(s) = scale.filter(|s| (s - 1.0).abs() > 0.02) {
        let message = format!(
            "it rolls {:.1} % {} than described: correct the tyre's size",
            100.0 * (1.0 / s - 1.0).abs(),
            if s < 1.0 { "farther" } else { "less" }
        );
        findings.push(Finding::new("other-size", Level::Warn, message));
    }
    Ok(RollOut { wheels, rolling_circumference_m: mean, difference_percent: difference, scale, findings })
}

fn tread(mm: &[f64], field: &str) -> Result<Option<Tread>, Problem> {
    if mm.is_empty() {
        return Ok(None);
    }
    if mm.len() > 36 {
        return Err(Problem::new("out-of-range", "up to 36 places round the tyre").field(field));
    }
    let mut least = (0, f64::MAX);
    let mut most = 0.0f64;
    for (i, x) in mm.iter().enumerate() {
        if !(0.0..=40.0).contains(x) {
            return Err(Problem::new("out-of-range", "a depth of tread lies from 0 to 40 mm").field(format!("{field}[{i}]")));
        }
        most = most.max(*x);
        if *x < least.1 {
            least = (i, *x);
        }
    }
    Ok(Some(Tread { least_mm: least.1, spread_mm: most - least.1, least_at_deg: 360.0 * least.0 as f64 / mm.len() as f64 }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use serde_json::{Value, json};

    fn of(v: &Value) -> Result<RollOut, Problem> {
        roll_out(&read_json(v).unwrap())
    }

    #[test]
    fn the_scale_stands_beside_that_of_the_recording() {
        let input = json!({"wheels": [{"at": "wheel.rl", "turns": 3, "distance_mm": 6600}], "tyre": {"rolling_circumference_m": 2.145},
            "recorded_scale": 0.975, "recorded_scale_sigma": 0.001});
        let r = of(&input).unwrap();
        assert!((r.scale.unwrap() - 0.975).abs() < 1e-9);
        assert_eq!(r.findings.iter().map(|f| f.code.as_str()).collect::<Vec<_>>(), ["other-size"]);
        let mut other = input;
        other["recorded_scale"] = json!(0.95);
        assert_eq!(of(&other).unwrap().findings[0].code, "speed-off");
    }

    #[test]
    fn unlike_tyres_and_uneven_wear_are_told() {
        let r = of(&json!({"wheels": [{"at": "wheel.rl", "turns": 2, "distance_mm": 4300, "tread_mm": [6, 6, 4, 6]},
            {"at": "wheel.rr", "turns": 2, "distance_mm": 4200}]}))
        .unwrap();
        assert_eq!(r.findings.iter().map(|f| f.code.as_str()).collect::<Vec<_>>(), ["uneven-wear", "unlike"]);
        assert_eq!(r.wheels[0].tread.unwrap().least_at_deg, 180.0);
        let field = |v: Value| of(&v).unwrap_err().field.unwrap();
        assert_eq!(field(json!({"wheels": [{"turns": 0, "distance_mm": 4200}]})), "wheels[0].turns");
        assert_eq!(field(json!({"wheels": [{"turns": 1, "distance_mm": 9000}]})), "wheels[0].distance_mm");
        assert_eq!(field(json!({"wheels": []})), "wheels");
    }
}
