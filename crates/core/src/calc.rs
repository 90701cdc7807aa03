//! One calculation by name, JSON in and JSON out: the face that the command line, the HTTP
//! interface and the pages share.

use crate::error::{Problem, read_json};
use crate::lift::holding;
use crate::measure::{
    angle_plan, angle_targets, angles, backlash, balance, bearing, bending_speed, bow, clamps, clutch_pack, contact_pattern,
    critical_speed, indexing, joint_drag, lash, orders, preload, ring_clearance, roll_out, runout, shaft_length, torque,
};
use crate::reasoning::road_plan;
use crate::units::{Hz, KilometresPerHour, Rpm};
use crate::vehicle::{Tyre, Vehicle};
use serde::Deserialize;
use serde_json::{Value, json};

/// The calculations there are.
pub const NAMES: &[&str] = &[
    "tyre",
    "speeds",
    "orders",
    "separability",
    "angles",
    "angle-plan",
    "angle-targets",
    "runout",
    "bow",
    "index",
    "balance",
    "clamps",
    "balance-grade",
    "lash",
    "shaft-length",
    "critical-speed",
    "bending-speed",
    "bearing",
    "backlash",
    "preload",
    "contact-pattern",
    "clutch-pack",
    "ring-clearance",
    "joint-drag",
    "roll-out",
    "holding",
    "torque",
];

#[derive(Deserialize)]
struct Setting {
    vehicle: Value,
    #[serde(default)]
    speed_kmh: Option<KilometresPerHour>,
    #[serde(default)]
    gear: Option<String>,
    #[serde(default)]
    range: Option<String>,
}

/// Does one calculation.
///
/// ```
/// let out = baricord_core::calc::calc("tyre", &serde_json::json!({"size": "235/65R16"})).unwrap();
/// assert!((out["rolling_circumference_m"].as_f64().unwrap() - 2.1713).abs() < 1e-4);
/// ```
pub fn calc(name: &str, input: &Value) -> Result<Value, Problem> {
    if !input.is_object() {
        return Err(Problem::new("bad-input", "a calculation takes one JSON object"));
    }
    let out = match name {
        "tyre" => json!(read_json::<Tyre>(input)?.figures()?),
        "speeds" => speeds(&read_json(input)?)?,
        "orders" => {
            let s: Setting = read_json(input)?;
            let v = Vehicle::from_json(&s.vehicle)?;
            v.range_ratio(s.range.as_deref())?;
            json!({ "orders": orders::orders(&v, s.gear.as_deref())? })
        }
        "angles" if input["joints"].as_array().is_some_and(Vec::is_empty) => json!(angles::ends(&read_json(input)?)?),
        "angles" => json!(angles::angles(&read_json(input)?)?),
        "angle-plan" => json!(angle_plan::angle_plan(&read_json(input)?)?),
        "angle-targets" => json!(angle_targets::angle_targets(&read_json(input)?)?),
        "bow" => json!(bow::bow(&read_json(input)?)?),
        "bending-speed" => json!(bending_speed::bending_speed(&read_json(input)?)?),
        "preload" => json!(preload::preload(&read_json(input)?)?),
        "contact-pattern" => json!(contact_pattern::contact_pattern(&read_json(input)?)?),
        "clutch-pack" => json!(clutch_pack::clutch_pack(&read_json(input)?)?),
        "ring-clearance" => json!(ring_clearance::ring_clearance(&read_json(input)?)?),
        "joint-drag" => json!(joint_drag::joint_drag(&read_json(input)?)?),
        "roll-out" => json!(roll_out::roll_out(&read_json(input)?)?),
        "holding" => json!(holding::holding(&read_json(input)?)?),
        "runout" => json!(runout::runout(&read_json(input)?)?),
        "index" => json!(indexing::index(&read_json(input)?)?),
        "balance" => json!(balance::balance(&read_json(input)?)?),
        "clamps" => json!(clamps::clamps(read_json(input)?)?),
        "balance-grade" => json!(balance::balance_grade(read_json(input)?)?),
        "lash" => json!(lash::lash(&read_json(input)?)?),
        "shaft-length" => json!(shaft_length::shaft_length(&read_json(input)?)?),
        "backlash" => json!(backlash::backlash(&read_json(input)?)?),
        "torque" => json!(torque::torque(&read_json(input)?)?),
        "critical-speed" => json!(critical_speed::critical_speed(&read_json(input)?)?),
        "separability" => json!(road_plan::separability(&read_json(input)?)?),
        "bearing" => json!(bearing::bearing(read_json(input)?)?),
        other => {
            return Err(Problem::new("unknown-calculation", format!("no calculation “{other}”; there are {}", NAMES.join(", ")))
                .field("name"));
        }
    };
    Ok(out)
}

fn speeds(s: &Setting) -> Result<Value, Problem> {
    let v = Vehicle::from_json(&s.vehicle)?;
    let kmh = s.speed_kmh.ok_or_else(|| Problem::new("missing", "speed_kmh is needed").field("speed_kmh"))?;
    if !(0.0..=500.0).contains(&kmh.get()) {
        return Err(Problem::new("out-of-range", "a road speed lies from 0 to 500 km/h").field("speed_kmh"));
    }
    let (gear, range) = (s.gear.as_deref(), s.range.as_deref());
    let wheel = v.wheel_hz(kmh)?;
    let rate = |o: crate::units::Order| Hz(o.get() * wheel.get());
    let mut props = vec![];
    for p in &v.props {
        let hz = v.prop_per_wheel(p, gear, range)?.map(rate);
        props.push(json!({ "end": p.end, "hz": hz, "rpm": hz.map(Hz::to_rpm) }));
    }
    let engine: Option<Rpm> = v.engine_per_wheel(gear, range)?.map(|e| rate(e).to_rpm());
    Ok(json!({ "wheel_hz": wheel, "props": props, "engine_rpm": engine }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::*;

    #[test]
    fn worked_speeds_by_name() {
        let mut v = rear_drive(2);
        v.tyre = Tyre { rolling_circumference_m: Some(crate::units::Metres(2.2)), ..Default::default() };
        v.gearbox.gears[4].ratio = 0.82;
        let out = calc("speeds", &json!({"vehicle": v, "speed_kmh": 100, "gear": "5"})).unwrap();
        assert!((out["wheel_hz"].as_f64().unwrap() - 12.626).abs() < 5e-4);
        assert!((out["props"][0]["rpm"].as_f64().unwrap() - 3106.0).abs() < 0.5);
        assert!((out["engine_rpm"].as_f64().unwrap() - 2547.0).abs() < 0.5);
        let out = calc("speeds", &json!({"vehicle": v, "speed_kmh": 100, "gear": null})).unwrap();
        assert!(out["engine_rpm"].is_null());
    }

    #[test]
    fn errors_name_the_field() {
        let field = |name, input: Value| calc(name, &input).unwrap_err().field;
        assert_eq!(field("nothing", json!({})).as_deref(), Some("name"));
        assert_eq!(field("speeds", json!({"vehicle": rear_drive(1)})).as_deref(), Some("speed_kmh"));
        assert_eq!(field("tyre", json!({"size": 5})).as_deref(), Some("size"));
        assert_eq!(field("runout", json!({"mm": ["a"]})).as_deref(), Some("mm[0]"));
        assert_eq!(calc("tyre", &json!([])).unwrap_err().code, "bad-input");
    }

    #[test]
    fn every_name_answers() {
        for name in NAMES {
            assert_ne!(calc(name, &json!({})).err().map(|p| p.code), Some("unknown-calculation".into()), "{name}");
        }
    }
}
