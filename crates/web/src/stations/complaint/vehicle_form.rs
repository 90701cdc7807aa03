//! The vehicle's numbers as a form, and what is typed in it as a description.

use crate::stations::form::{FormFields, parse_number};
use baricord_core::edit::vehicle::{
    AxleDescription, BearingDescription, HalfShaftDescription, JointDescription, Known, SectionDescription, VehicleDescription,
};
use baricord_core::error::Problem;
use baricord_core::typed_input::{Length, two_tyre_sizes};
use baricord_core::units::{KilometresPerHour, Metres};
use baricord_core::vehicle::{
    Axle, AxleKind, Corner, End, Floating, FrontDrive, GearboxKind, JointKind, Place, PlaceKind, Section, Tyre, Vehicle,
};
use std::borrow::Cow;

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
    pub label: Cow<'static, str>,
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
    Field { name: name.into(), label: label.into(), kind: Kind::Number(value.map(shown).unwrap_or_default(), unit) }
}

fn choice(name: impl Into<String>, label: &'static str, options: &[(&str, &str)], now: &str) -> Field {
    let options = options.iter().map(|(id, words)| ((*id).into(), (*words).into(), *id == now)).collect();
    Field { name: name.into(), label: label.into(), kind: Kind::Choice(options) }
}

const GEARBOXES: [(GearboxKind, &str); 2] = [(GearboxKind::Manual, "manual"), (GearboxKind::Automatic, "automatic")];

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

/// A tyre as it is typed.
fn typed_tyre(t: &Tyre) -> String {
    t.size.clone().unwrap_or_else(|| {
        let rolled = t.rolling_circumference_m.map(|c| format!("{} m", c.get()));
        rolled.or(t.revs_per_km.map(|r| format!("{r} /km"))).unwrap_or_default()
    })
}

fn text(name: impl Into<String>, label: &'static str, value: String) -> Field {
    Field { name: name.into(), label: label.into(), kind: Kind::Text(value) }
}

fn wheels(v: &Vehicle) -> Vec<Field> {
    let mut out = vec![text("tyre", "size, roll-out or turns", typed_tyre(&v.tyre))];
    for (i, a) in v.axles.iter().enumerate() {
        let label = if a.end == End::Front { "front, if unlike" } else { "rear, if unlike" };
        out.push(text(format!("tyre{i}"), label, a.tyre.as_ref().map_or(String::new(), typed_tyre)));
    }
    out
}

const YES_NO: [(&str, &str); 2] = [("no", "no"), ("yes", "yes")];
const KNOWN: [(Known, &str, &str); 3] =
    [(Known::Unknown, "unknown", "not known"), (Known::No, "no", "no"), (Known::Yes, "yes", "yes")];
const FRONT_DRIVES: [(FrontDrive, &str, &str); 3] = [
    (FrontDrive::PartTime, "part-time", "by hand"),
    (FrontDrive::FullTime, "full-time", "always"),
    (FrontDrive::Automatic, "automatic", "by itself"),
];
const INTERMEDIATES: [(&str, &str); 3] = [
    ("none", "no intermediate shaft"),
    ("bearing", "intermediate shaft with its bearing"),
    ("plain", "intermediate shaft, no bearing"),
];

fn yes_no(is: bool) -> &'static str {
    if is { "yes" } else { "no" }
}

/// The half shafts of an axle's wheels.
fn half_shafts(v: &Vehicle, end: End) -> Vec<Field> {
    let of = |c: &Corner| {
        let h = v.half_shaft(*c)?;
        let now = match h.intermediate {
            None => "none",
            Some(i) if i.bearing => "bearing",
            Some(_) => "plain",
        };
        let label = if c.is_left() { "left half shaft" } else { "right half shaft" };
        Some(choice(format!("half-{}", c.id()), label, &INTERMEDIATES, now))
    };
    end.corners().iter().filter_map(of).collect()
}

/// Bearings that are known by a number.
fn bearing_numbers(v: &Vehicle) -> Vec<(String, String)> {
    let is_bearing = |p: &Place| matches!(p.kind, PlaceKind::Hub | PlaceKind::Support | PlaceKind::HalfBearing);
    v.places().into_iter().filter(is_bearing).map(|p| (p.id, p.words)).collect()
}

fn gearbox(v: &Vehicle) -> Vec<Field> {
    let gears = v.gearbox.gears.iter().map(|g| shown(g.ratio)).collect::<Vec<_>>().join("  ");
    let mut out = vec![];
    if !v.is_electric() && v.gearbox.kind != GearboxKind::Cvt {
        let now = if v.gearbox.kind == GearboxKind::Automatic { "automatic" } else { "manual" };
        out.push(choice("gearbox", "kind", &[("manual", "manual"), ("automatic", "automatic")], now));
    }
    out.push(text("gears", "ratios, first to last", gears));
    out
}

fn axle(v: &Vehicle, i: usize) -> Vec<Field> {
    let a = &v.axles[i];
    let now = if a.kind == AxleKind::Solid { "solid" } else { "independent" };
    let mut out = vec![choice(format!("axle{i}"), "kind", &[("solid", "solid"), ("independent", "independent")], now)];
    if a.driven && a.kind == AxleKind::Solid && a.end == End::Rear {
        let now = if a.floating == Some(Floating::Full) { "full" } else { "semi" };
        out.push(choice(
            format!("floating{i}"),
            "wheels carried",
            &[("semi", "by the shaft"), ("full", "by the hub (full floating)")],
            now,
        ));
    }
    if a.driven {
        let slip = KNOWN.iter().find(|k| k.0.said() == a.limited_slip).map_or("unknown", |k| k.1);
        let options: Vec<(&str, &str)> = KNOWN.iter().map(|k| (k.1, k.2)).collect();
        out.push(choice(format!("slip{i}"), "limited slip", &options, slip));
        if a.end == End::Front && v.transfer.is_some() {
            out.push(choice(format!("hubs{i}"), "free-running hubs", &YES_NO, yes_no(a.free_hubs)));
        }
        out.extend(half_shafts(v, a.end));
        out.extend(final_drive_sizes(a, i));
    }
    out
}

fn final_drive_sizes(a: &Axle, i: usize) -> [Field; 3] {
    [
        number(format!("ring{i}"), "ring", a.ring_teeth.map(f64::from), "teeth"),
        number(format!("pinion{i}"), "pinion", a.pinion_teeth.map(f64::from), "teeth"),
        // Teeth say it better; where they are known the ratio stands in the words below.
        number(format!("ratio{i}"), "or ratio", a.ratio.filter(|_| a.ring_teeth.is_none()), "to 1"),
    ]
}

fn section_sizes(s: &Section, i: usize, k: usize) -> [Field; 3] {
    [
        number(format!("length{i}_{k}"), "joint to joint", Some(s.length_mm.get()), "mm"),
        number(format!("od{i}_{k}"), "tube", Some(s.od_mm.get()), "mm"),
        number(format!("wall{i}_{k}"), "wall", Some(s.wall_mm.get()), "mm"),
    ]
}

fn section_title(v: &Vehicle, i: usize, k: usize) -> String {
    let p = &v.props[i];
    let shaft = if v.props.len() > 1 { format!("{} shaft", p.end.id()) } else { "shaft".into() };
    match p.sections.len() {
        1 => shaft,
        _ => format!("{shaft}, {} section", NTH[k.min(4)]),
    }
}

/// The sizes of a vehicle that work on it can change: sections, ratios, tyres.
pub fn sizes(v: &Vehicle) -> Vec<Group> {
    let group = |id: String, title: String, fields: Vec<Field>| Group { id, title, fields, fact: String::new() };
    let mut out = vec![group("wheels".into(), "tyres".into(), wheels(v))];
    for (i, a) in v.axles.iter().enumerate().filter(|(_, a)| a.driven) {
        out.push(group(format!("axle{i}"), format!("{} axle", a.end.id()), final_drive_sizes(a, i).into()));
    }
    for (i, p) in v.props.iter().enumerate() {
        for (k, s) in p.sections.iter().enumerate() {
            out.push(group(format!("prop{i}_{k}"), section_title(v, i, k), section_sizes(s, i, k).into()));
        }
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
        let motor = choice("motor", "plug-in hybrid", &YES_NO, yes_no(v.motor.is_some()));
        add("engine".into(), "engine".into(), vec![number("cylinders", "cylinders", Some(f64::from(e.cylinders)), ""), motor]);
    }
    add("gearbox".into(), if v.is_electric() { "drive unit" } else { "gearbox" }.into(), gearbox(v));
    if let Some(t) = &v.transfer {
        let options: Vec<(&str, &str)> = FRONT_DRIVES.iter().map(|d| (d.1, d.2)).collect();
        let now = FRONT_DRIVES.iter().find(|d| d.0 == t.front_drive).map_or("part-time", |d| d.1);
        add("transfer".into(), "transfer case".into(), vec![choice("front-drive", "front axle driven", &options, now)]);
    }
    for (i, p) in v.props.iter().enumerate() {
        for (k, s) in p.sections.iter().enumerate() {
            let title = section_title(v, i, k);
            let mut fields = vec![joint(v, i, k)];
            fields.extend(section_sizes(s, i, k));
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
    let numbered = |at: &str| v.bearings.iter().find(|b| b.at == at).and_then(|b| b.number.clone()).unwrap_or_default();
    let bearings = bearing_numbers(v).into_iter().map(|(at, words)| Field {
        kind: Kind::Text(numbered(&at)),
        name: format!("bearing-{at}"),
        label: words.into(),
    });
    add("bearings".into(), "bearings, by number".into(), bearings.collect());
    VehicleForm { name: v.name.clone(), groups }
}

/// What the numbers of each part come to, in words: group and sentence.
pub fn facts(v: &Vehicle) -> Vec<(String, String)> {
    let mut out = vec![];
    if let Ok(f) = v.tyre.figures() {
        out.push(("wheels".to_string(), tyre_figures(&f)));
    }
    out.extend(unknown_facts(v));
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

/// What is not known, and what that costs.
fn unknown_facts(v: &Vehicle) -> Vec<(String, String)> {
    let mut out = vec![];
    for (i, a) in v.axles.iter().enumerate().filter(|(_, a)| a.driven && a.final_ratio().is_none()) {
        let costs = if v.prop(a.end).is_some() { "shaft, pinion and engine" } else { "pinion and engine" };
        out.push((format!("axle{i}"), format!("Ratio not known: {costs} lines look like wheel lines.")));
    }
    if v.gearbox.gears.is_empty() && v.gearbox.kind != GearboxKind::Cvt && !v.is_electric() {
        out.push(("gearbox".into(), "Ratios not known: no line can be laid to the engine or to a gear.".into()));
    }
    let geometry = |at: &str| v.bearings.iter().any(|b| b.at == at && b.has_geometry());
    let unknown = bearing_numbers(v).iter().filter(|(at, _)| !geometry(at)).count();
    if unknown > 0 {
        let bearings = if unknown == 1 { "one bearing".to_string() } else { format!("{unknown} bearings") };
        out.push(("bearings".into(), format!("Geometry of {bearings} not known: a recording says nothing for or against them.")));
    }
    out
}

/// What is typed as a tyre: a size, a roll-out (`2.14 m`), or turns a kilometre (`467 /km`).
pub fn tyre(text: &str) -> Result<Tyre, Problem> {
    let t = text.trim();
    if let Some((a, b)) = two_tyre_sizes(t) {
        let rolls = |size: &str| Tyre::of_size(size).figures().map_or(0.0, |f| f.rolling_circumference_m.get());
        let message =
            format!("two sizes: {a} rolls {:.3} m per turn, {b} {:.3} m. Type the one of the driven axle", rolls(&a), rolls(&b));
        return Err(Problem::new("two-sizes", message).field("tyre"));
    }
    let plain = |suffix: &str| t.strip_suffix(suffix).and_then(|n| parse_number(n.trim()));
    let read = if let Some(n) = plain("/km") {
        Tyre { revs_per_km: Some(n), ..Tyre::default() }
    } else if let Some(n) = plain("m") {
        Tyre { rolling_circumference_m: Some(Metres(n)), ..Tyre::default() }
    } else {
        Tyre::of_size(t)
    };
    read.figures().map_err(|p| Problem { field: Some("tyre".into()), ..p })?;
    Ok(read)
}

fn tyre_figures(f: &baricord_core::vehicle::TyreFigures) -> String {
    format!(
        "{:.0} mm high, rolls {:.3} m per turn, {:.1} turns per km",
        f.diameter_mm.get(),
        f.rolling_circumference_m.get(),
        f.revs_per_km
    )
}

/// The ratios of the gears as they are typed, first to last.
fn gear_ratios(f: &FormFields) -> Result<Option<Vec<f64>>, Problem> {
    let Some(text) = f.text("gears") else { return Ok(f.came("gears").then(Vec::new)) };
    let ratio = |part: &str| {
        parse_number(part).ok_or_else(|| Problem::new("bad-number", format!("“{part}” is not a gear ratio")).field("gears"))
    };
    let parts = text.split(|c: char| c.is_whitespace() || c == ';' || c == '/').filter(|p| !p.is_empty());
    parts.map(ratio).collect::<Result<_, _>>().map(Some)
}

fn axle_description(f: &FormFields, i: usize, a: &Axle) -> Result<AxleDescription, Problem> {
    let kind = match f.text(&format!("axle{i}")) {
        Some("solid") => Some(AxleKind::Solid),
        Some("independent") => Some(AxleKind::Independent),
        _ => None,
    };
    let (ring_teeth, pinion_teeth) = (f.count(&format!("ring{i}"))?, f.count(&format!("pinion{i}"))?);
    // Fields that came empty were emptied: it is not known.
    let ratio = f.number(&format!("ratio{i}"))?;
    let came = ["ring", "pinion", "ratio"].iter().all(|n| f.came(&format!("{n}{i}")));
    let ratio_unknown = came && ring_teeth.is_none() && pinion_teeth.is_none() && ratio.is_none();
    let typed = format!("tyre{i}");
    let own_tyre = match f.text(&typed) {
        Some(t) => Some(tyre(t).map_err(|p| Problem { field: Some(typed), ..p })?),
        None => f.came(&typed).then(Tyre::default),
    };
    Ok(AxleDescription {
        kind,
        ring_teeth,
        pinion_teeth,
        ratio,
        ratio_unknown,
        floating: f.text(&format!("floating{i}")).map(|w| if w == "full" { Floating::Full } else { Floating::Semi }),
        limited_slip: f.text(&format!("slip{i}")).and_then(|w| KNOWN.iter().find(|k| k.1 == w)).map(|k| k.0),
        tyre: own_tyre,
        free_hubs: f.text(&format!("hubs{i}")).map(|w| w == "yes"),
        ..AxleDescription::of(a.end)
    })
}

/// What the form says of the vehicle; what it does not name is left out.
pub fn read(v: &Vehicle, f: &FormFields) -> Result<VehicleDescription, Problem> {
    let tyre = match f.text("tyre") {
        Some(t) => Some(tyre(t)?),
        None if f.came("tyre") => return Err(Problem::new("missing", "which tyres?").field("tyre")),
        None => None,
    };
    let mut d = VehicleDescription {
        title: f.owned("title"),
        distance_km: f.odometer("distance_km")?,
        name: f.owned("name"),
        tyre,
        cylinders: f.count("cylinders")?,
        gearbox: f.text("gearbox").and_then(|k| GEARBOXES.iter().find(|g| g.1 == k)).map(|g| g.0),
        gear_ratios: gear_ratios(f)?,
        ..VehicleDescription::default()
    };
    for (i, a) in v.axles.iter().enumerate() {
        d.axles.push(axle_description(f, i, a)?);
        for c in a.end.corners() {
            let said = f.text(&format!("half-{}", c.id()));
            let of = |w: &str| HalfShaftDescription { corner: c, intermediate: w != "none", bearing: w == "bearing" };
            d.half_shafts.extend(said.map(of));
        }
    }
    d.front_drive = f.text("front-drive").and_then(|w| FRONT_DRIVES.iter().find(|d| d.1 == w)).map(|d| d.0);
    d.motor = f.text("motor").map(|w| w == "yes");
    for (at, _) in bearing_numbers(v) {
        let name = format!("bearing-{at}");
        if f.came(&name) {
            d.bearings.push(BearingDescription { number: f.text(&name).unwrap_or_default().into(), at });
        }
    }
    for (i, p) in v.props.iter().enumerate() {
        for k in 0..p.sections.len() {
            d.sections.push(SectionDescription {
                at: format!("prop.{}.s{}", p.end.id(), k + 1),
                length_mm: f.length(&format!("length{i}_{k}"), Length::Section)?,
                od_mm: f.length(&format!("od{i}_{k}"), Length::Tube)?,
                wall_mm: f.length(&format!("wall{i}_{k}"), Length::Wall)?,
            });
        }
        for k in 0..p.joints.len() {
            let kind = f.text(&format!("joint{i}_{k}")).and_then(|id| JOINTS.iter().find(|j| j.1 == id));
            d.joints.extend(kind.map(|j| JointDescription { at: format!("prop.{}.j{}", p.end.id(), k + 1), kind: j.0 }));
        }
    }
    Ok(d)
}

/// The field of the form that a problem of the vehicle is shown at.
pub fn at_field(p: Problem) -> Problem {
    let number = |of: &str, rest: &str| of.strip_prefix("vehicle.axles[")?.strip_suffix(rest).map(String::from);
    let field = p.field.as_deref().and_then(|f| match f {
        "vehicle.gearbox.gears" => Some("gears".to_string()),
        f => number(f, "].ratio").map(|i| format!("ratio{i}")),
    });
    Problem { field: field.or(p.field), ..p }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::vehicle::sample::*;

    /// The vehicle after a form was sent.
    fn sent(v: &Vehicle, fields: &[(&str, &str)]) -> Result<Vehicle, Problem> {
        let fields = fields.iter().map(|(k, v)| ((*k).to_string(), (*v).to_string())).collect();
        let mut now = v.clone();
        read(v, &FormFields::metric(fields))?.write(&mut now).map_err(at_field)?;
        Ok(now)
    }

    #[test]
    fn a_form_sent_back_unchanged_changes_nothing() {
        for v in every_layout() {
            let f = form(&v);
            let value = |k: &Kind| match k {
                Kind::Number(v, _) | Kind::Text(v) => v.clone(),
                Kind::Choice(options) => options.iter().find(|o| o.2).map(|o| o.0.clone()).unwrap_or_default(),
            };
            let mut sent: Vec<(String, String)> =
                f.groups.iter().flat_map(|g| g.fields.iter().map(|x| (x.name.clone(), value(&x.kind)))).collect();
            sent.push(("name".into(), v.name.clone()));
            let said = read(&v, &FormFields::metric(sent)).unwrap();
            let mut now = v.clone();
            said.write(&mut now).unwrap();
            assert_eq!(now, v);
            assert!(said.only_new("", None, &v).is_empty(), "{}", v.name);
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
        assert_eq!(order, ["engine", "gearbox", "prop0_0", "prop0_1", "axle0", "axle1", "wheels", "bearings"]);
    }

    #[test]
    fn tyres_may_be_typed_in_three_ways() {
        assert_eq!(tyre("2,14 m").unwrap().rolling_circumference_m, Some(Metres(2.14)));
        assert_eq!(tyre("467 /km").unwrap().revs_per_km, Some(467.0));
        assert_eq!(tyre("235/65R16").unwrap(), Tyre::of_size("235/65R16"));
        assert_eq!(tyre("round").unwrap_err().field.as_deref(), Some("tyre"));
    }

    #[test]
    fn an_axle_ratio_may_be_typed_and_the_one_that_was_changed_counts() {
        let typed = |v: &Vehicle, ring: &str, pinion: &str, ratio: &str| {
            sent(v, &[("ring0", ring), ("pinion0", pinion), ("ratio0", ratio)])
        };
        let by_ratio = typed(&rear_drive(1), "41", "10", "4,30").unwrap();
        assert_eq!((by_ratio.axles[0].ring_teeth, by_ratio.axles[0].ratio), (None, Some(4.3)));
        assert_eq!(typed(&by_ratio, "", "", "4.3").unwrap(), by_ratio);
        let by_teeth = typed(&by_ratio, "39", "9", "4.3").unwrap();
        let a = &by_teeth.axles[0];
        assert_eq!((a.ring_teeth, a.pinion_teeth, a.ratio), (Some(39), Some(9), None));
        assert_eq!(typed(&by_teeth, "41", "10", "4.3").unwrap_err().field.as_deref(), Some("ratio0"));
        assert_eq!(typed(&by_teeth, "43", "10", "4.3").unwrap().axles[0].ring_teeth, Some(43));
        assert_eq!(typed(&by_teeth, "43.5", "10", "").unwrap_err().field.as_deref(), Some("ring0"));
    }

    #[test]
    fn a_continuously_variable_gearbox_needs_no_ratios_and_any_other_does() {
        let cvt = every_layout().into_iter().find(|v| v.gearbox.kind == GearboxKind::Cvt).unwrap();
        let now = sent(&cvt, &[("gears", " ")]).unwrap();
        assert!(now.gearbox.gears.is_empty() && !form(&now).groups.is_empty());
        assert_eq!(sent(&rear_drive(1), &[("gears", " ")]).unwrap_err().field.as_deref(), Some("gears"));
    }

    #[test]
    fn inches_and_two_sizes_are_asked_about() {
        let v = rear_drive(1);
        let e = sent(&v, &[("length0_0", "46.25")]).unwrap_err();
        assert_eq!((e.code.as_str(), e.field.as_deref()), ("unit-asked", Some("length0_0")));
        assert_eq!(sent(&v, &[("length0_0", "46.25 in")]).unwrap().props[0].sections[0].length_mm.get(), 1174.75);
        let e = sent(&v, &[("tyre", "225/45R17 255/40R17")]).unwrap_err();
        assert!(e.code == "two-sizes" && e.message.contains("225/45R17 rolls"), "{}", e.message);
    }

    #[test]
    fn what_is_seldom_fitted_is_said_and_what_is_not_known_says_what_it_costs() {
        let v = four_wheel_drive();
        let front = v.axles.iter().position(|a| a.end == End::Front).unwrap();
        let rear = v.axles.iter().position(|a| a.end == End::Rear).unwrap();
        let (hubs, slip, tyre) = (format!("hubs{front}"), format!("slip{rear}"), format!("tyre{rear}"));
        let now = sent(
            &v,
            &[
                ("front-drive", "full-time"),
                (&hubs, "yes"),
                (&slip, "yes"),
                (&tyre, "33x12.50R15LT"),
                ("motor", "yes"),
                ("bearing-hub.rl", "BX 6206"),
            ],
        )
        .unwrap();
        assert_eq!((now.axles[front].free_hubs, now.axles[rear].limited_slip), (true, Some(true)));
        assert_eq!(now.axles[rear].tyre.as_ref().and_then(|t| t.size.as_deref()), Some("33x12.50R15LT"));
        assert!(now.motor.is_some() && now.transfer.as_ref().unwrap().front_drive == FrontDrive::FullTime);
        assert_eq!(sent(&now, &[(&slip, "unknown"), (&tyre, "")]).unwrap().axles[rear].limited_slip, None);
        assert_eq!(sent(&v, &[(&tyre, "round")]).unwrap_err().field.as_deref(), Some(tyre.as_str()));
        let fact = |v: &Vehicle, id: &str| form(v).groups.iter().find(|g| g.id == id).map(|g| g.fact.clone()).unwrap_or_default();
        let mut unknown = rear_drive(1);
        let i = unknown.axles.iter().position(|a| a.driven).unwrap();
        (unknown.axles[i].ring_teeth, unknown.axles[i].pinion_teeth, unknown.axles[i].ratio) = (None, None, None);
        assert!(fact(&unknown, &format!("axle{i}")).contains("look like wheel lines"));
        assert!(fact(&unknown, "bearings").contains("nothing for or against"));
    }

    #[test]
    fn bad_numbers_name_their_box() {
        let v = rear_drive(1);
        assert_eq!(sent(&v, &[("gears", "3.9 x")]).unwrap_err().field.as_deref(), Some("gears"));
        let e = sent(&v, &[("length0_0", "-3")]).unwrap_err();
        assert_eq!(e.field.as_deref(), Some("vehicle.props[0].sections[0].length_mm"));
    }
}
