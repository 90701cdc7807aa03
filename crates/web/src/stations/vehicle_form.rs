//! The vehicle's numbers as a form, and back into the document.

use super::fields::{Fields, parse_number};
use baricord_core::problem::Problem;
use baricord_core::vehicle::{AxleKind, GearboxKind, JointKind, Vehicle};
use serde_json::{Value, json};

/// A number to be filled in.
pub struct Box {
    pub name: String,
    pub label: String,
    pub value: String,
    pub unit: &'static str,
}

/// A choice.
pub struct Choice {
    pub name: String,
    pub label: String,
    pub options: Vec<(String, String, bool)>,
}

/// The form of a vehicle.
pub struct VehicleForm {
    pub name: String,
    pub tyre: String,
    pub circumference: String,
    pub gears: String,
    pub boxes: Vec<Box>,
    pub choices: Vec<Choice>,
}

fn shown(x: f64) -> String {
    let s = format!("{x:.4}");
    s.trim_end_matches('0').trim_end_matches('.').to_string()
}

/// The form as the vehicle stands.
pub fn form(v: &Vehicle) -> VehicleForm {
    let mut boxes = vec![];
    let mut add = |name: String, label: String, value: String, unit| boxes.push(Box { name, label, value, unit });
    if let Some(e) = v.engine {
        add("cylinders".into(), "cylinders".into(), e.cylinders.to_string(), "");
    }
    for (i, a) in v.axles.iter().enumerate().filter(|(_, a)| a.driven) {
        let of = |n: Option<u32>| n.map_or(String::new(), |n| n.to_string());
        add(format!("ring{i}"), format!("{} ring", a.end.id()), of(a.ring_teeth), "teeth");
        add(format!("pinion{i}"), format!("{} pinion", a.end.id()), of(a.pinion_teeth), "teeth");
        if a.ring_teeth.is_none() {
            add(format!("ratio{i}"), format!("{} ratio", a.end.id()), a.ratio.map(shown).unwrap_or_default(), "");
        }
    }
    for (i, p) in v.props.iter().enumerate() {
        for (k, s) in p.sections.iter().enumerate() {
            let of = format!("{} shaft, section {}", p.end.id(), k + 1);
            add(format!("length{i}_{k}"), format!("{of}: length"), shown(s.length_mm.get()), "mm");
            add(format!("od{i}_{k}"), "tube".to_string(), shown(s.od_mm.get()), "mm");
            add(format!("wall{i}_{k}"), "wall".to_string(), shown(s.wall_mm.get()), "mm");
        }
    }
    let mut choices = vec![];
    let option = |id: &str, words: &str, on: bool| (id.to_string(), words.to_string(), on);
    if !v.is_electric() && v.gearbox.kind != GearboxKind::Cvt {
        choices.push(Choice {
            name: "gearbox".into(),
            label: "gearbox".into(),
            options: vec![
                option("manual", "manual", v.gearbox.kind == GearboxKind::Manual),
                option("automatic", "automatic", v.gearbox.kind == GearboxKind::Automatic),
            ],
        });
    }
    for (i, a) in v.axles.iter().enumerate() {
        choices.push(Choice {
            name: format!("axle{i}"),
            label: format!("{} axle", a.end.id()),
            options: vec![
                option("solid", "solid", a.kind == AxleKind::Solid),
                option("independent", "independent", a.kind == AxleKind::Independent),
            ],
        });
    }
    const JOINTS: [(&str, JointKind); 5] = [
        ("cross", JointKind::Cross),
        ("double-cross", JointKind::DoubleCross),
        ("ball", JointKind::Ball),
        ("tripod", JointKind::Tripod),
        ("flex", JointKind::Flex),
    ];
    for (i, p) in v.props.iter().enumerate() {
        for (k, j) in p.joints.iter().enumerate() {
            choices.push(Choice {
                name: format!("joint{i}_{k}"),
                label: format!("{} shaft, joint {}", p.end.id(), k + 1),
                options: JOINTS.iter().map(|(id, kind)| option(id, kind.words(), j.kind() == *kind)).collect(),
            });
        }
    }
    VehicleForm {
        name: v.name.clone(),
        tyre: v.tyre.size.clone().unwrap_or_else(|| {
            v.tyre
                .rolling_circumference_m
                .map(|c| format!("{} m", c.get()))
                .or(v.tyre.revs_per_km.map(|r| format!("{r} /km")))
                .unwrap_or_default()
        }),
        circumference: tyre_words(v.tyre.size.as_deref().unwrap_or_default()).unwrap_or_default(),
        gears: v.gearbox.gears.iter().map(|g| shown(g.ratio)).collect::<Vec<_>>().join("  "),
        boxes,
        choices,
    }
}

/// What is typed as a tyre: a size, a roll-out (`2.14 m`), or turns a kilometre (`467 /km`).
pub fn tyre(text: &str) -> Result<Value, Problem> {
    let t = text.trim();
    let plain = |suffix: &str| t.strip_suffix(suffix).and_then(|n| parse_number(n.trim()));
    let out = if let Some(n) = plain("/km") {
        json!({ "revs_per_km": n })
    } else if let Some(n) = plain("m") {
        json!({ "rolling_circumference_m": n })
    } else {
        json!({ "size": t })
    };
    let read: baricord_core::vehicle::Tyre = baricord_core::problem::read_json(&out)?;
    read.figures().map_err(|p| Problem { field: Some("tyre".into()), ..p })?;
    Ok(out)
}

/// The figures of what is typed as a tyre, in words.
pub fn tyre_words(text: &str) -> Result<String, Problem> {
    let value = tyre(text)?;
    let read: baricord_core::vehicle::Tyre = baricord_core::problem::read_json(&value)?;
    let f = read.figures()?;
    Ok(format!(
        "{:.0} mm high, rolls {:.3} m a turn, {:.1} turns a kilometre",
        f.diameter_mm.get(),
        f.rolling_circumference_m.get(),
        f.revs_per_km
    ))
}

/// Writes the form into the document's vehicle; what the form does not know stays.
pub fn write(v: &mut Value, f: &Fields) -> Result<(), Problem> {
    if let Some(name) = f.text("name") {
        v["name"] = name.into();
    }
    if let Some(t) = f.text("tyre") {
        v["tyre"] = tyre(t)?;
    }
    if let Some(n) = f.number("cylinders")? {
        v["engine"]["cylinders"] = Value::Number(n);
    }
    if let Some(kind) = f.text("gearbox") {
        v["gearbox"]["kind"] = kind.into();
    }
    if let Some(text) = f.text("gears") {
        let old = v["gearbox"]["gears"].as_array().cloned().unwrap_or_default();
        let mut gears = vec![];
        for (i, part) in text.split(|c: char| c.is_whitespace() || c == ';' || c == '/').filter(|p| !p.is_empty()).enumerate() {
            let ratio = parse_number(part)
                .ok_or_else(|| Problem::new("bad-number", format!("“{part}” is not a gear ratio")).field("gears"))?;
            let mut g = old.get(i).cloned().unwrap_or_else(|| json!({ "name": (i + 1).to_string() }));
            g["ratio"] = Value::Number(ratio);
            gears.push(g);
        }
        v["gearbox"]["gears"] = Value::Array(gears);
    }
    let count = |v: &Value, list: &str| v[list].as_array().map_or(0, Vec::len);
    for i in 0..count(v, "axles") {
        for (field, key) in [("ring", "ring_teeth"), ("pinion", "pinion_teeth"), ("ratio", "ratio")] {
            if let Some(n) = f.number(&format!("{field}{i}"))? {
                v["axles"][i][key] = Value::Number(n);
            }
        }
        if let Some(kind) = f.text(&format!("axle{i}")) {
            v["axles"][i]["kind"] = kind.into();
        }
    }
    for i in 0..count(v, "props") {
        for k in 0..v["props"][i]["sections"].as_array().map_or(0, Vec::len) {
            for (field, key) in [("length", "length_mm"), ("od", "od_mm"), ("wall", "wall_mm")] {
                if let Some(n) = f.number(&format!("{field}{i}_{k}"))? {
                    v["props"][i]["sections"][k][key] = Value::Number(n);
                }
            }
        }
        for k in 0..v["props"][i]["joints"].as_array().map_or(0, Vec::len) {
            if let Some(kind) = f.text(&format!("joint{i}_{k}")) {
                v["props"][i]["joints"][k] = match kind {
                    "flex" => json!({"kind": "flex", "arms": 3}),
                    other => other.into(),
                };
            }
        }
    }
    Vehicle::from_json(v).map(|_| ())
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::vehicle::sample::*;

    #[test]
    fn a_form_written_back_unchanged_changes_nothing() {
        for v in every_layout() {
            let mut doc = json!(v);
            let f = form(&v);
            let mut sent: Vec<(String, String)> = f.boxes.iter().map(|b| (b.name.clone(), b.value.clone())).collect();
            sent.extend(f.choices.iter().filter_map(|c| c.options.iter().find(|o| o.2).map(|o| (c.name.clone(), o.0.clone()))));
            sent.extend([("tyre".into(), f.tyre.clone()), ("gears".into(), f.gears.clone()), ("name".into(), v.name.clone())]);
            write(&mut doc, &Fields(sent)).unwrap();
            assert_eq!(Vehicle::from_json(&doc).unwrap(), v);
        }
    }

    #[test]
    fn tyres_may_be_typed_in_three_ways() {
        assert_eq!(tyre("2,14 m").unwrap(), json!({"rolling_circumference_m": 2.14}));
        assert_eq!(tyre("467 /km").unwrap(), json!({"revs_per_km": 467}));
        assert_eq!(tyre("235/65R16").unwrap(), json!({"size": "235/65R16"}));
        assert_eq!(tyre("round").unwrap_err().field.as_deref(), Some("tyre"));
        assert!(tyre_words("235/65R16").unwrap().contains("rolls 2.171 m"));
    }

    #[test]
    fn bad_numbers_name_their_box() {
        let mut doc = json!(rear_drive(1));
        let e = write(&mut doc, &Fields(vec![("gears".into(), "3.9 x".into())])).unwrap_err();
        assert_eq!(e.field.as_deref(), Some("gears"));
        let e = write(&mut doc, &Fields(vec![("length0_0".into(), "-3".into())])).unwrap_err();
        assert_eq!(e.field.as_deref(), Some("vehicle.props[0].sections[0].length_mm"));
    }
}
