//! Lash: all turning play of a driveline at the shaft, member by member, and what none of them explains.
//!
//! An arc on a clamp is the angle 2·asin(arc/2R). Play at a wheel counts at the shaft i_d times the mean of both sides with an open
//! differential: one side's alone counts half. With a locked one the side with less play holds the shaft: the smaller counts.

use crate::error::{Finding, Level, Problem, finite, positive};
use crate::units::{Degrees, Millimetres};
use crate::vehicle::{End, Place, PlaceKind, Vehicle};
use serde::{Deserialize, Serialize};

/// Readings that are taken at most.
const MOST_READINGS: usize = 64;
/// A part of the measured total that nothing explains, from which on it is said.
const UNEXPLAINED_SHARE: f64 = 0.2;

/// Where a play is read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ReferredTo {
    /// At the shaft.
    Shaft,
    /// At a wheel.
    Wheel,
}

/// A side of the vehicle.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    Left,
    Right,
}

/// A play that was read, as an angle or as an arc.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LashReading {
    /// Of what: slip splines, ring and pinion …
    #[serde(default)]
    pub member: String,
    /// As an angle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deg: Option<Degrees>,
    /// As the chord of a mark on a clamp.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub arc_mm: Option<Millimetres>,
    /// How far from the axis the mark is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub radius_mm: Option<Millimetres>,
    /// Where it was read.
    pub referred_to: ReferredTo,
    /// Of one side only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub side: Option<Side>,
    /// With the differential locked.
    #[serde(default)]
    pub locked: bool,
}

/// The chain.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LashInput {
    /// Final drive ratio.
    pub ratio: f64,
    /// Each member.
    pub readings: Vec<LashReading>,
    /// All of it, read at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total: Option<LashReading>,
}

/// What can have play on an axle: id, words, whether it is usually read at the wheels.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LashMember {
    /// A place, or ring, side-gears, inner, outer, splines.
    pub id: String,
    /// What it is called.
    pub words: String,
    /// Where it is usually read.
    pub referred_to: ReferredTo,
}

/// The chain of an axle, from the gearbox to the wheels.
pub fn members(v: &Vehicle, end: End) -> Vec<LashMember> {
    let member = |id: &str, words: &str, referred_to| LashMember { id: id.into(), words: words.into(), referred_to };
    let is_of_shaft = |p: &Place| matches!(p.kind, PlaceKind::Slip | PlaceKind::Joint | PlaceKind::Coupler) && p.end == Some(end);
    let mut out: Vec<LashMember> =
        v.places().iter().filter(|p| is_of_shaft(p)).map(|p| member(&p.id, &p.words, ReferredTo::Shaft)).collect();
    out.push(member("ring", "ring and pinion", ReferredTo::Shaft));
    out.push(member("side-gears", "side gears", ReferredTo::Wheel));
    if v.half_shafts.iter().any(|h| h.corner.end() == end) {
        out.push(member("inner", "inner joints", ReferredTo::Wheel));
        out.push(member("outer", "outer joints", ReferredTo::Wheel));
    }
    out.push(member("splines", "hub splines", ReferredTo::Wheel));
    out
}

/// A member's part.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct MemberShare {
    /// Which.
    pub member: String,
    /// At the shaft.
    pub deg: Degrees,
    /// Of the total, 0 to 1.
    pub share: f64,
}

/// What the chain comes to.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Lash {
    /// At the shaft: measured, else the sum.
    pub total_deg: Degrees,
    /// In the order in which they were read.
    pub members: Vec<MemberShare>,
    /// Of the measured total; none without one.
    pub unexplained_deg: Option<Degrees>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

impl LashReading {
    /// The angle where it was read.
    fn angle(&self, path: &str) -> Result<f64, Problem> {
        let at = |field: &str| format!("{path}.{field}");
        if let Some(deg) = self.deg {
            let deg = finite(deg.get(), &at("deg"))?;
            return match (0.0..=360.0).contains(&deg) {
                true => Ok(deg),
                false => Err(Problem::new("out-of-range", "a play lies from 0° to 360°").field(at("deg"))),
            };
        }
        let missing = |field: &str| Problem::new("missing", "a play as deg, or as arc_mm with radius_mm").field(at(field));
        let arc = finite(self.arc_mm.ok_or_else(|| missing("deg"))?.get(), &at("arc_mm"))?;
        let radius = positive(self.radius_mm.ok_or_else(|| missing("radius_mm"))?.get(), &at("radius_mm"))?;
        if !(0.0..=2.0 * radius).contains(&arc) {
            let message = "an arc lies from 0 mm to twice its radius";
            return Err(Problem::new("out-of-range", message).field(at("arc_mm")));
        }
        Ok((2.0 * (arc / (2.0 * radius)).asin()).to_degrees())
    }
}

/// The angle at the shaft of all readings of one member.
fn at_shaft(ratio: f64, of_member: &[(&LashReading, f64)]) -> f64 {
    let locked: Vec<&(&LashReading, f64)> =
        of_member.iter().filter(|(r, _)| r.referred_to == ReferredTo::Wheel && r.locked && r.side.is_some()).collect();
    let held = |side: Side| locked.iter().filter(|(r, _)| r.side == Some(side)).map(|x| x.1).sum::<f64>();
    // A side that was not read has no play: it holds the shaft.
    let by_lock = ratio * held(Side::Left).min(held(Side::Right));
    let rest = of_member.iter().map(|(r, deg)| match (r.referred_to, r.side, r.locked) {
        (ReferredTo::Shaft, ..) => *deg,
        (ReferredTo::Wheel, None, _) => ratio * deg,
        (ReferredTo::Wheel, Some(_), false) => 0.5 * ratio * deg,
        (ReferredTo::Wheel, Some(_), true) => 0.0,
    });
    by_lock + rest.sum::<f64>()
}

/// Every member's play at the shaft in degrees, its share, and what is left unexplained. `ratio` is above 0; a reading is an angle up to
/// 360° or an arc up to twice its radius. Errors name the field.
///
/// ```
/// use baricord_core::{error::read_json, measure::lash::lash};
/// let input = serde_json::json!({"ratio": 4.1, "total": {"deg": 6, "referred_to": "shaft"}, "readings": [
///     {"member": "ring and pinion", "deg": 2.0, "referred_to": "shaft"},
///     {"member": "left outer joint", "deg": 1.0, "referred_to": "wheel", "side": "left"}]});
/// let l = lash(&read_json(&input).unwrap()).unwrap();
/// assert!((l.members[1].deg.get() - 2.05).abs() < 1e-12 && (l.unexplained_deg.unwrap().get() - 1.95).abs() < 1e-12);
/// ```
pub fn lash(input: &LashInput) -> Result<Lash, Problem> {
    let ratio = positive(input.ratio, "ratio")?;
    if input.readings.len() > MOST_READINGS {
        return Err(Problem::new("out-of-range", format!("{MOST_READINGS} readings at most")).field("readings"));
    }
    if input.readings.is_empty() && input.total.is_none() {
        return Err(Problem::new("missing", "a play of a member, or the total").field("readings"));
    }
    let mut members: Vec<(String, Vec<(&LashReading, f64)>)> = vec![];
    for (i, r) in input.readings.iter().enumerate() {
        let deg = r.angle(&format!("readings[{i}]"))?;
        match members.iter_mut().find(|m| m.0 == r.member && !r.member.is_empty()) {
            Some(m) => m.1.push((r, deg)),
            None => members.push((r.member.clone(), vec![(r, deg)])),
        }
    }
    let counted: Vec<(String, f64)> = members.into_iter().map(|(name, of)| (name, at_shaft(ratio, &of))).collect();
    let sum: f64 = counted.iter().map(|m| m.1).sum();
    let measured = match &input.total {
        Some(t) => Some(at_shaft(ratio, &[(t, t.angle("total")?)])),
        None => None,
    };
    let total = measured.unwrap_or(sum);
    let share = |deg: f64| if total > 0.0 { (deg / total).clamp(0.0, 1.0) } else { 0.0 };
    let mut findings = vec![];
    if let Some(t) = measured {
        if sum > t * 1.05 + 0.05 {
            let message = format!("the members add up to {sum:.1}°, more than the {t:.1}° in all: read again");
            findings.push(Finding::new("more-than-total", Level::Warn, message));
        } else if t - sum > UNEXPLAINED_SHARE * t {
            let message = format!("{:.1}° of {t:.1}° are in none of the members that were read", t - sum);
            findings.push(Finding::new("unexplained", Level::Warn, message));
        }
    }
    Ok(Lash {
        total_deg: Degrees(total),
        members: counted.into_iter().map(|(member, d)| MemberShare { member, deg: Degrees(d), share: share(d) }).collect(),
        unexplained_deg: measured.map(|t| Degrees(t - sum)),
        findings,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use serde_json::{Value, json};

    #[test]
    fn the_chain_is_that_of_the_axle() {
        use crate::vehicle::sample::{all_wheel_drive, front_drive, rear_drive};
        let ids = |v: Vehicle, end| members(&v, end).into_iter().map(|m| m.id).collect::<Vec<_>>();
        let rear = ids(rear_drive(1), End::Rear);
        assert!(rear.iter().any(|i| i == "prop.rear.j2") && !rear.contains(&"inner".to_string()), "{rear:?}");
        assert_eq!(ids(front_drive(), End::Front), ["ring", "side-gears", "inner", "outer", "splines"]);
        assert!(ids(all_wheel_drive(), End::Rear).iter().any(|i| i == "coupler"));
        assert!(!ids(all_wheel_drive(), End::Front).iter().any(|i| i == "coupler" || i.starts_with("prop.rear")));
    }

    fn of(input: &Value) -> Result<Lash, Problem> {
        lash(&read_json(input).unwrap())
    }

    #[test]
    fn open_counts_the_mean_and_locked_the_smaller_side() {
        let wheels = |locked: bool| {
            json!({"ratio": 4.0, "readings": [
                {"member": "outer joints", "deg": 1.0, "referred_to": "wheel", "side": "left", "locked": locked},
                {"member": "outer joints", "deg": 3.0, "referred_to": "wheel", "side": "right", "locked": locked}]})
        };
        assert_eq!(of(&wheels(false)).unwrap().total_deg, Degrees(8.0));
        assert_eq!(of(&wheels(true)).unwrap().total_deg, Degrees(4.0));
        let one = json!({"ratio": 4.0, "readings": [{"member": "hub", "deg": 1.0, "referred_to": "wheel"}]});
        assert_eq!(of(&one).unwrap().total_deg, Degrees(4.0));
        let side = json!({"ratio": 4.0, "readings": [{"member": "hub", "deg": 1.0, "referred_to": "wheel", "side": "left", "locked": true}]});
        assert_eq!(of(&side).unwrap().total_deg, Degrees(0.0));
    }

    #[test]
    fn an_arc_is_its_angle_and_the_rest_is_told() {
        let l = of(
            &json!({"ratio": 4.1, "readings": [{"member": "splines", "arc_mm": 10, "radius_mm": 100, "referred_to": "shaft"}],
            "total": {"deg": 10, "referred_to": "shaft"}}),
        )
        .unwrap();
        assert!((l.members[0].deg.get() - 5.731_968).abs() < 1e-5, "{l:?}");
        assert!((l.members[0].share - 0.573_2).abs() < 1e-4);
        assert_eq!(l.findings[0].code, "unexplained");
        let l = of(
            &json!({"ratio": 4.1, "readings": [{"member": "a", "deg": 3, "referred_to": "shaft"}], "total": {"deg": 2, "referred_to": "shaft"}}),
        );
        let l = l.unwrap();
        assert_eq!(
            (l.findings[0].code.as_str(), l.members[0].share, l.unexplained_deg),
            ("more-than-total", 1.0, Some(Degrees(-1.0)))
        );
        assert!(of(&json!({"ratio": 4.1, "readings": [{"deg": 3, "referred_to": "shaft"}]})).unwrap().unexplained_deg.is_none());
    }

    #[test]
    fn errors_name_the_field() {
        let field = |v: Value| of(&v).unwrap_err().field.unwrap();
        assert_eq!(field(json!({"ratio": 0, "readings": []})), "ratio");
        assert_eq!(field(json!({"ratio": 4, "readings": []})), "readings");
        assert_eq!(field(json!({"ratio": 4, "readings": [{"referred_to": "shaft"}]})), "readings[0].deg");
        assert_eq!(field(json!({"ratio": 4, "readings": [{"arc_mm": 3, "referred_to": "shaft"}]})), "readings[0].radius_mm");
        assert_eq!(
            field(json!({"ratio": 4, "readings": [{"arc_mm": 30, "radius_mm": 10, "referred_to": "shaft"}]})),
            "readings[0].arc_mm"
        );
    }
}
