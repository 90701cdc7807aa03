//! The vehicle's numbers as a form, and back into the document.

use crate::stations::form::{FormFields, parse_number};
use baricord_core::error::Problem;
use baricord_core::typed_input::{Length, two_tyre_sizes};
use baricord_core::units::KilometresPerHour;
use baricord_core::vehicle::{AxleKind, GearboxKind, JointKind, Tyre, Vehicle};
use serde_json::{Number, Value, json};

/// How a field is filled in.
pub enum Kind {
    /// A number with its unit.
    Number(String, &'static str),
    /// A line of text.
    Text(String),
    /// One of a few: id, words, whether it is the one.
    Choice(Vec<(String, String, bool)>),
}

/// One thing to be said of a part.
pub struct Field {
    pub name: String,
    pub label: &'static str,
    pub kind: Kind,
}

/// The fields of one part, and what they come to.
pub struct Group {
    pub id: String,
    pub title: String,
    pub fields: Vec<Field>,
    pub fact: String,
}

/// The form of a vehicle: its parts in the order of the drawing.
pub struct VehicleForm {
    pub name: String,
    pub groups: Vec<Group>,
}

fn shown(x: f64) -> String {
    let s = format!("{x:.4}");
    s.trim_end_matches('0').trim_end_matches('.').to_string()
}

fn number(name: impl Into<String>, label: &'static str, value: Option<f64>, unit: &'static str) -> Field {
    Field { name: name.into(), label, kind: Kind::Number(value.map(shown).unwrap_or_default(), unit) }
}

fn choice(name: impl Into<String>, label: &'static str, options: &[(&str, &str)], now: &str) -> Field {
    let options = options.iter().map(|(id, words)| ((*id).into(), (*words).into(), *id == now)).collect();
    Field { name: name.into(), label, kind: Kind::Choice(options) }
}

const JOINTS: [(JointKind, &str); 5] = [
    (JointKind::Cross, "cross"),
    (JointKind::DoubleCross, "double-cross"),
    (JointKind::Ball, "ball"),
    (JointKind::Tripod, "tripod"),
    (JointKind::Flex, "flex"),
];

/// The labels of joints and sections, first to last.
const NTH: [&str; 5] = ["first", "second", "third", "fourth", "fifth"];
const JOINT_LABELS: [&str; 4] = ["first joint", "second joint", "third joint", "fourth joint"];

fn wheels(v: &Vehicle) -> Vec<Field> {
    let tyre = v.tyre.size.clone().unwrap_or_else(|| {
        let rolled = v.tyre.rolling_circumference_m.map(|c| format!("{} m", c.get()));
        rolled.or(v.tyre.revs_per_km.map(|r| format!("{r} /km"))).unwrap_or_default()
    });
    vec![Field { name: "tyre".into(), label: "size, roll-out or turns", kind: Kind::Text(tyre) }]
}

fn gearbox(v: &Vehicle) -> Vec<Field> {
    let gears = v.gearbox.gears.iter().map(|g| shown(g.ratio)).collect::<Vec<_>>().join("  ");
    let mut out = vec![];
    if !v.is_electric() && v.gearbox.kind != GearboxKind::Cvt {
        let now = if v.gearbox.kind == GearboxKind::Automatic { "automatic" } else { "manual" };
        out.push(choice("gearbox", "kind", &[("manual", "manual"), ("automatic", "automatic")], now));
    }
    out.push(Field { name: "gears".into(), label: "ratios, first to last", kind: Kind::Text(gears) });
    out
}

fn axle(v: &Vehicle, i: usize) -> Vec<Field> {
    let a = &v.axles[i];
    let now = if a.kind == AxleKind::Solid { "solid" } else { "independent" };
    let mut out = vec![choice(format!("axle{i}"), "kind", &[("solid", "solid"), ("independent", "independent")], now)];
    if a.driven {
        out.push(number(format!("ring{i}"), "ring", a.ring_teeth.map(f64::from), "teeth"));
        out.push(number(format!("pinion{i}"), "pinion", a.pinion_teeth.map(f64::from), "teeth"));
        // Teeth say it better; where they are known the ratio stands in the words below.
        out.push(number(format!("ratio{i}"), "or ratio", a.ratio.filter(|_| a.ring_teeth.is_none()), "to 1"));
    }
    out
}

fn joint(v: &Vehicle, i: usize, k: usize) -> Field {
    let kind = v.props[i].joints[k].kind();
    let options: Vec<(&str, &str)> = JOINTS.iter().map(|(j, id)| (*id, j.words())).collect();
    let now = JOINTS.iter().find(|j| j.0 == kind).map_or("cross", |j| j.1);
    choice(format!("joint{i}_{k}"), JOINT_LABELS[k.min(3)], &options, now)
}

/// The form as the vehicle stands: engine, gearbox, shafts, axles, wheels.
pub fn form(v: &Vehicle) -> VehicleForm {
    let facts = facts(v);
    let mut groups = vec![];
    let mut add = |id: String, title: String, fields: Vec<Field>| {
        let fact = facts.iter().find(|f| f.0 == id).map(|f| f.1.clone()).unwrap_or_default();
        groups.push(Group { id, title, fields, fact });
    };
    if let Some(e) = v.engine {
        add("engine".into(), "engine".into(), vec![number("cylinders", "cylinders", Some(f64::from(e.cylinders)), "")]);
    }
    add("gearbox".into(), if v.is_electric() { "drive unit" } else { "gearbox" }.into(), gearbox(v));
    for (i, p) in v.props.iter().enumerate() {
        let shaft = if v.props.len() > 1 { format!("{} shaft", p.end.id()) } else { "shaft".into() };
        for (k, s) in p.sections.iter().enumerate() {
            let title = match p.sections.len() {
                1 => shaft.clone(),
                _ => format!("{shaft}, {} section", NTH[k.min(4)]),
            };
            let mut fields = vec![joint(v, i, k)];
            fields.push(number(format!("length{i}_{k}"), "joint to joint", Some(s.length_mm.get()), "mm"));
            fields.push(number(format!("od{i}_{k}"), "tube", Some(s.od_mm.get()), "mm"));
            fields.push(number(format!("wall{i}_{k}"), "wall", Some(s.wall_mm.get()), "mm"));
            if k + 1 == p.sections.len() {
                fields.extend((k + 1..p.joints.len()).map(|j| joint(v, i, j)));
            }
            add(format!("prop{i}_{k}"), title, fields);
        }
    }
    for i in 0..v.axles.len() {
        add(format!("axle{i}"), format!("{} axle", v.axles[i].end.id()), axle(v, i));
    }
    add("wheels".into(), "tyres".into(), wheels(v));
    VehicleForm { name: v.name.clone(), groups }
}

/// What the numbers of each part come to, in words: group and sentence.
pub fn facts(v: &Vehicle) -> Vec<(String, String)> {
    let mut out = vec![];
    if let Ok(f) = v.tyre.figures() {
        out.push(("wheels".to_string(), tyre_figures(&f)));
    }
    let Ok(f) = v.figures_at(KilometresPerHour(100.0)) else { return out };
    if let Some(rpm) = f.engine_rpm {
        let gear = match v.gearbox.gears.last() {
            Some(g) if v.gearbox.gears.len() > 1 => format!(" in gear {}", g.name),
            _ => String::new(),
        };
        out.push((
            "gearbox".into(),
            format!("{}: {:.0} rpm at 100 km/h{gear}", if v.is_electric() { "motor" } else { "engine" }, rpm.get()),
        ));
    }
    for (i, a) in v.axles.iter().enumerate().filter(|(_, a)| a.driven) {
        if let Some((_, ratio)) = f.ratios.iter().find(|r| r.0 == a.end) {
            let teeth = match (a.ring_teeth, a.pinion_teeth) {
                (Some(r), Some(p)) => format!("{r}:{p} is {ratio:.3} to 1"),
                _ => format!("{ratio:.3} to 1"),
            };
            out.push((format!("axle{i}"), teeth));
        }
    }
    for (i, p) in f.props.iter().enumerate() {
        for (k, s) in p.sections.iter().enumerate() {
            let mut words = vec![];
            words.extend(p.rpm.filter(|_| k == 0).map(|r| format!("{:.0} rpm at 100 km/h", r.get())));
            if let Some(s) = s {
                words.push(match s.limit_kmh {
                    _ if s.is_far_off() => format!("bending speed allows {:.0} rpm", s.limit_rpm.get()),
                    Some(v) => format!("bending speed allows {:.0} rpm: {:.0} km/h", s.limit_rpm.get(), v.get()),
                    None => format!("bending speed allows {:.0} rpm", s.limit_rpm.get()),
                });
            }
            out.push((format!("prop{i}_{k}"), words.join("; ")));
        }
    }
    out
}

/// What is typed as a tyre: a size, a roll-out (`2.14 m`), or turns a kilometre (`467 /km`).
pub fn tyre(text: &str) -> Result<Value, Problem> {
    let t = text.trim();
    if let Some((a, b)) = two_tyre_sizes(t) {
        let rolls = |size: &str| Tyre::of_size(size).figures().map_or(0.0, |f| f.rolling_circumference_m.get());
        let message =
            format!("two sizes: {a} rolls {:.3} m per turn, {b} {:.3} m. Type the one of the driven axle", rolls(&a), rolls(&b));
        return Err(Problem::new("two-sizes", message).field("tyre"));
    }
    let plain = |suffix: &str| t.strip_suffix(suffix).and_then(|n| parse_number(n.trim()));
    let out = if let Some(n) = plain("/km") {
        json!({ "revs_per_km": n })
    } else if let Some(n) = plain("m") {
        json!({ "rolling_circumference_m": n })
    } else {
        json!({ "size": t })
    };
    let read: Tyre = baricord_core::error::read_json(&out)?;
    read.figures().map_err(|p| Problem { field: Some("tyre".into()), ..p })?;
    Ok(out)
}

fn tyre_figures(f: &baricord_core::vehicle::TyreFigures) -> String {
    format!(
        "{:.0} mm high, rolls {:.3} m per turn, {:.1} turns per km",
        f.diameter_mm.get(),
        f.rolling_circumference_m.get(),
        f.revs_per_km
    )
}

/// The ratio of an axle: by the teeth of ring and pinion, or by a number. What was changed of the two counts.
fn axle_ratio(axle: &mut Value, f: &FormFields, i: usize) -> Result<(), Problem> {
    let teeth = [("ring", "ring_teeth"), ("pinion", "pinion_teeth")];
    let ratio = f.number(&format!("ratio{i}"))?;
    let mut typed = vec![];
    for (field, key) in teeth {
        typed.push((key, f.number(&format!("{field}{i}"))?));
    }
    let changed = |key: &str, n: &Option<Number>| n.as_ref().is_some_and(|n| axle[key].as_f64() != n.as_f64());
    let new_teeth = typed.iter().any(|(key, n)| changed(key, n));
    let new_ratio = changed("ratio", &ratio);
    if let (true, true, [(_, Some(ring)), (_, Some(pinion))], Some(r)) = (new_teeth, new_ratio, &typed[..], &ratio) {
        let (ring, pinion, r) = (ring.as_f64().unwrap_or(0.0), pinion.as_f64().unwrap_or(1.0), r.as_f64().unwrap_or(0.0));
        if (ring / pinion - r).abs() > 0.006 * r {
            let message = format!("the teeth say {:.3} to 1, the ratio {r}: leave one of them empty", ring / pinion);
            return Err(Problem::new("contradiction", message).field(format!("ratio{i}")));
        }
    }
    let Some(axle) = axle.as_object_mut() else { return Ok(()) };
    if new_ratio && !new_teeth {
        teeth.iter().for_each(|(_, key)| drop(axle.shift_remove(*key)));
        axle.insert("ratio".into(), ratio.into());
    } else if new_teeth {
        axle.shift_remove("ratio");
        axle.extend(typed.into_iter().filter_map(|(key, n)| Some((key.to_string(), n?.into()))));
    }
    Ok(())
}

/// Writes the form into the document's vehicle; what the form does not know stays.
pub fn write(v: &mut Value, f: &FormFields) -> Result<(), Problem> {
    if let Some(name) = f.text("name") {
        v["name"] = name.into();
    }
    match f.text("tyre") {
        Some(t) => v["tyre"] = tyre(t)?,
        None if f.came("tyre") => return Err(Problem::new("missing", "which tyres?").field("tyre")),
        None => {}
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
    } else if f.came("gears") {
        if v["gearbox"]["kind"] != "cvt" {
            return Err(Problem::new("missing", "the ratios of the gears, first to last").field("gears"));
        }
        v["gearbox"]["gears"] = json!([]);
    }
    let count = |v: &Value, list: &str| v[list].as_array().map_or(0, Vec::len);
    for i in 0..count(v, "axles") {
        axle_ratio(&mut v["axles"][i], f, i)?;
        if let Some(kind) = f.text(&format!("axle{i}")) {
            v["axles"][i]["kind"] = kind.into();
        }
    }
    for i in 0..count(v, "props") {
        for k in 0..v["props"][i]["sections"].as_array().map_or(0, Vec::len) {
            for (field, key, what) in
                [("length", "length_mm", Length::Section), ("od", "od_mm", Length::Tube), ("wall", "wall_mm", Length::Wall)]
            {
                if let Some(n) = f.length(&format!("{field}{i}_{k}"), what)? {
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
            let value = |k: &Kind| match k {
                Kind::Number(v, _) | Kind::Text(v) => v.clone(),
                Kind::Choice(options) => options.iter().find(|o| o.2).map(|o| o.0.clone()).unwrap_or_default(),
            };
            let mut sent: Vec<(String, String)> =
                f.groups.iter().flat_map(|g| g.fields.iter().map(|x| (x.name.clone(), value(&x.kind)))).collect();
            sent.push(("name".into(), v.name.clone()));
            write(&mut doc, &FormFields(sent)).unwrap();
            assert_eq!(Vehicle::from_json(&doc).unwrap(), v);
        }
    }

    #[test]
    fn every_part_says_what_its_numbers_come_to() {
        for v in every_layout() {
            let f = form(&v);
            let fact = |id: &str| f.groups.iter().find(|g| g.id == id).map(|g| g.fact.clone()).unwrap_or_default();
            assert!(fact("wheels").contains("m per turn"));
            assert!(f.groups.iter().filter(|g| g.id.starts_with("prop")).all(|g| g.fact.contains("bending")), "{}", v.name);
        }
        let f = form(&rear_drive(2));
        let facts: Vec<&str> = f.groups.iter().map(|g| g.fact.as_str()).collect();
        assert!(facts.iter().any(|t| t.contains("41:10 is 4.100 to 1")), "{facts:?}");
        assert!(facts.iter().any(|t| t.contains("engine: ")), "{facts:?}");
        let order: Vec<&str> = f.groups.iter().map(|g| g.id.as_str()).collect();
        assert_eq!(order, ["engine", "gearbox", "prop0_0", "prop0_1", "axle0", "axle1", "wheels"]);
    }

    #[test]
    fn tyres_may_be_typed_in_three_ways() {
        assert_eq!(tyre("2,14 m").unwrap(), json!({"rolling_circumference_m": 2.14}));
        assert_eq!(tyre("467 /km").unwrap(), json!({"revs_per_km": 467}));
        assert_eq!(tyre("235/65R16").unwrap(), json!({"size": "235/65R16"}));
        assert_eq!(tyre("round").unwrap_err().field.as_deref(), Some("tyre"));
    }

    #[test]
    fn an_axle_ratio_may_be_typed_and_the_one_that_was_changed_counts() {
        let axle = |d: &Value| Vehicle::from_json(d).unwrap().axles[0].clone();
        let sent = |ring: &str, pinion: &str, ratio: &str| {
            FormFields(
                [("ring0", ring), ("pinion0", pinion), ("ratio0", ratio)].map(|(k, v)| (k.to_string(), v.to_string())).to_vec(),
            )
        };
        let mut doc = json!(rear_drive(1));
        write(&mut doc, &sent("41", "10", "4,30")).unwrap();
        assert_eq!((axle(&doc).ring_teeth, axle(&doc).ratio), (None, Some(4.3)));
        write(&mut doc, &sent("", "", "4.3")).unwrap();
        assert_eq!(axle(&doc).ratio, Some(4.3));
        write(&mut doc, &sent("39", "9", "4.3")).unwrap();
        assert_eq!((axle(&doc).ring_teeth, axle(&doc).pinion_teeth, axle(&doc).ratio), (Some(39), Some(9), None));
        assert_eq!(write(&mut doc, &sent("41", "10", "4.3")).unwrap_err().field.as_deref(), Some("ratio0"));
        write(&mut doc, &sent("43", "10", "4.3")).unwrap();
        assert_eq!(axle(&doc).ring_teeth, Some(43));
    }

    #[test]
    fn a_continuously_variable_gearbox_needs_no_ratios_and_any_other_does() {
        let empty = || FormFields(vec![("gears".into(), " ".into())]);
        let cvt = every_layout().into_iter().find(|v| v.gearbox.kind == GearboxKind::Cvt).unwrap();
        let mut doc = json!(cvt);
        write(&mut doc, &empty()).unwrap();
        assert!(Vehicle::from_json(&doc).unwrap().gearbox.gears.is_empty());
        assert!(!form(&Vehicle::from_json(&doc).unwrap()).groups.is_empty());
        assert_eq!(write(&mut json!(rear_drive(1)), &empty()).unwrap_err().field.as_deref(), Some("gears"));
    }

    #[test]
    fn inches_and_two_sizes_are_asked_about() {
        let mut doc = json!(rear_drive(1));
        let e = write(&mut doc, &FormFields(vec![("length0_0".into(), "46.25".into())])).unwrap_err();
        assert_eq!((e.code.as_str(), e.field.as_deref()), ("unit-asked", Some("length0_0")));
        write(&mut doc, &FormFields(vec![("length0_0".into(), "46.25 in".into())])).unwrap();
        assert_eq!(doc["props"][0]["sections"][0]["length_mm"], 1174.75);
        let e = write(&mut doc, &FormFields(vec![("tyre".into(), "225/45R17 255/40R17".into())])).unwrap_err();
        assert!(e.code == "two-sizes" && e.message.contains("225/45R17 rolls"), "{}", e.message);
    }

    #[test]
    fn bad_numbers_name_their_box() {
        let mut doc = json!(rear_drive(1));
        let e = write(&mut doc, &FormFields(vec![("gears".into(), "3.9 x".into())])).unwrap_err();
        assert_eq!(e.field.as_deref(), Some("gears"));
        let e = write(&mut doc, &FormFields(vec![("length0_0".into(), "-3".into())])).unwrap_err();
        assert_eq!(e.field.as_deref(), Some("vehicle.props[0].sections[0].length_mm"));
    }
}
