//! How near each section of a vehicle's shafts comes to its bending speed, before and after a change of ratio or tyre.
//!
//! Shaft speed = road speed/circumference · final drive (and the range that the shaft lies behind); the bending speed is that of
//! [`super::critical_speed`].

use super::critical_speed::{CriticalSpeedInput, critical_speed};
use crate::error::{Finding, Level, Problem};
use crate::units::{KilometresPerHour, Rpm};
use crate::vehicle::{Tyre, Vehicle};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// Speed at which a shaft is looked at where none is given, km/h.
const USUAL_TOP_KMH: f64 = 130.0;

/// The vehicle and what becomes of it.
#[derive(Clone, Debug, Deserialize)]
pub struct BendingSpeedInput {
    /// As it is.
    pub vehicle: Value,
    /// What becomes of it.
    #[serde(flatten)]
    pub change: Change,
}

/// Another final drive or tyre, and the speed at which it is looked at.
#[derive(Clone, Debug, Default, Deserialize)]
pub struct Change {
    /// Highest speed; the vehicle's own, else 130 km/h.
    #[serde(default)]
    pub speed_kmh: Option<KilometresPerHour>,
    /// Another tyre on all wheels.
    #[serde(default)]
    pub tyre: Option<Tyre>,
    /// Another final drive of an axle, by its end.
    #[serde(default)]
    pub ratio: BTreeMap<String, f64>,
}

impl Change {
    /// Whether the vehicle stays as it is.
    pub fn is_none(&self) -> bool {
        self.tyre.is_none() && self.ratio.is_empty()
    }
}

/// A section at the highest speed.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct SectionSpeed {
    /// Which.
    pub at: String,
    /// First bending speed.
    pub critical_rpm: Rpm,
    /// Highest that is allowed.
    pub limit_rpm: Rpm,
    /// Where twice a turn meets it.
    pub half_rpm: Rpm,
    /// As it is.
    pub rpm: Rpm,
    /// As it will be.
    pub rpm_after: Rpm,
    /// Road speed at which the limit is reached afterwards.
    pub limit_kmh_after: KilometresPerHour,
}

/// All sections.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct BendingSpeeds {
    /// At this speed.
    pub speed_kmh: KilometresPerHour,
    /// Of all shafts, front to rear.
    pub sections: Vec<SectionSpeed>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// Speed of every section at the highest road speed, rpm, before and after. Errors name the field: `speed_kmh` above 0 and up to 500,
/// a ratio's end is one of the vehicle's axles.
pub fn bending_speed(input: &BendingSpeedInput) -> Result<BendingSpeeds, Problem> {
    let v = Vehicle::from_json(&input.vehicle).map_err(|e| e.under("vehicle"))?;
    bending_speed_of(&v, &input.change)
}

/// The same of a vehicle that has been read.
pub fn bending_speed_of(v: &Vehicle, input: &Change) -> Result<BendingSpeeds, Problem> {
    let mut after = v.clone();
    if let Some(t) = &input.tyre {
        t.figures().map_err(|e| e.under("tyre"))?;
        after.tyre = t.clone();
        after.axles.iter_mut().for_each(|a| a.tyre = None);
    }
    for (end, ratio) in &input.ratio {
        let unknown = || Problem::new("unknown-place", format!("this vehicle has no axle “{end}”")).field(format!("ratio.{end}"));
        let axle = after.axles.iter_mut().find(|a| a.end.id() == end).ok_or_else(unknown)?;
        if !(0.2..=20.0).contains(ratio) {
            return Err(Problem::new("out-of-range", "a final drive lies from 0.2 to 20").field(format!("ratio.{end}")));
        }
        (axle.ratio, axle.pinion_teeth, axle.ring_teeth) = (Some(*ratio), None, None);
    }
    let kmh = input.speed_kmh.or(v.limits.max_kmh.map(KilometresPerHour)).unwrap_or(KilometresPerHour(USUAL_TOP_KMH));
    if !(kmh.get() > 0.0 && kmh.get() <= 500.0) {
        return Err(Problem::new("out-of-range", "a road speed lies above 0 and up to 500 km/h").field("speed_kmh"));
    }
    let (mut sections, mut findings) = (vec![], vec![]);
    for p in &v.props {
        let turning = |v: &Vehicle| -> Result<Option<Rpm>, Problem> {
            let wheel = v.wheel_hz(kmh)?.get() * 60.0;
            Ok(v.prop_per_wheel(p, None, None)?.map(|t| Rpm(t.get() * wheel)))
        };
        let (Some(rpm), Some(rpm_after)) = (turning(v)?, turning(&after)?) else { continue };
        for (i, s) in p.sections.iter().enumerate() {
            let at = format!("prop.{}.s{}", p.end.id(), i + 1);
            let c = critical_speed(&CriticalSpeedInput { section: s.clone(), max_rpm: None, limits: v.limits.clone() })?;
            let limit_kmh = kmh.get() * c.limit_rpm.get() / rpm_after.get();
            if rpm_after.get() > c.limit_rpm.get() {
                let message = format!(
                    "{:.0} rpm at {:.0} km/h, over {:.0} rpm: from {limit_kmh:.0} km/h on it comes too near its bending speed",
                    rpm_after.get(),
                    kmh.get(),
                    c.limit_rpm.get()
                );
                findings.push(Finding::new("too-fast", Level::Over, message).at(at.clone()));
            }
            sections.push(SectionSpeed {
                at,
                critical_rpm: c.rpm,
                limit_rpm: c.limit_rpm,
                half_rpm: c.half_rpm,
                rpm,
                rpm_after,
                limit_kmh_after: KilometresPerHour(limit_kmh),
            });
        }
    }
    Ok(BendingSpeeds { speed_kmh: kmh, sections, findings })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use crate::vehicle::sample::rear_drive;
    use serde_json::json;

    #[test]
    fn a_shorter_final_drive_turns_the_shaft_faster() {
        let v = rear_drive(1);
        let of = |more: Value| {
            let mut input = json!({"vehicle": v, "speed_kmh": 120});
            input.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
            bending_speed(&read_json(&input).unwrap())
        };
        let same = of(json!({})).unwrap();
        assert_eq!(same.sections[0].rpm, same.sections[0].rpm_after);
        let i = v.axles.iter().find(|a| a.end.id() == "rear").unwrap().final_ratio().unwrap();
        let s = &of(json!({"ratio": {"rear": 1.2 * i}})).unwrap().sections[0];
        assert!((s.rpm_after.get() / s.rpm.get() - 1.2).abs() < 1e-9);
        assert!((s.limit_kmh_after.get() / same.sections[0].limit_kmh_after.get() - 1.0 / 1.2).abs() < 1e-9);
        assert_eq!(of(json!({"ratio": {"front": 50.0}})).unwrap_err().field.as_deref(), Some("ratio.front"));
        let fast = of(json!({"ratio": {"rear": 15.0}})).unwrap();
        assert_eq!(fast.findings[0].code, "too-fast");
        let small = &of(json!({"tyre": {"rolling_circumference_m": 1.0}})).unwrap().sections[0];
        assert!((small.rpm_after.get() / small.rpm.get() - v.tyre.figures().unwrap().rolling_circumference_m.get()).abs() < 1e-9);
    }
}
