//! The form of the angle gauge: a slope for each element of a shaft, the side view above.

use super::instrument_form::{FormContext, InstrumentForm, finding_line, rendered};
use super::worksheets::plan_rows;
use crate::charts;
use crate::stations::form::FormFields;
use askama::Template;
use baricord_core::case::Case;
use baricord_core::error::{Level, Problem};
use baricord_core::measure::angles::{
    AnglesInput, Element, Ends, EndsInput, SECTION_RADS2, SlopeReadings, TORSIONAL_RADS2, angles, ends, positive_plan_side,
};
use baricord_core::measure::instrument::Reading;
use baricord_core::units::{Degrees, KilometresPerHour, Rpm, Unit};
use baricord_core::vehicle::{JointKind, Limits, Prop, Vehicle};

/// Shaft speed where none can be worked out, rpm.
const USUAL_RPM: f64 = 3000.0;

struct Slope {
    name: String,
    label: String,
    value: String,
    /// The second reading.
    again: String,
    /// Front end, axle end, from one to the other.
    offsets: (String, String, String),
    lower: bool,
    higher: bool,
    plan: String,
    right: bool,
    left: bool,
}

/// The answer under the side view.
#[derive(Template, Default)]
#[template(path = "measure/angles_answer.html")]
struct AnglesAnswer {
    view: String,
    torsional: String,
    limit: String,
    bar: f64,
    over: bool,
    sections: Vec<String>,
    residual: String,
    findings: Vec<(String, &'static str)>,
    problem: String,
    /// How far both ends are apart, where nothing between them was read.
    ends: String,
    /// Where the limit stands on the bar.
    tick: f64,
    /// What would cure it: headings and rows, today first; none where nothing breaks a limit.
    plan_headings: Vec<&'static str>,
    plan_rows: Vec<Vec<String>>,
}

#[derive(Template)]
#[template(path = "measure/angle_gauge.html")]
struct GaugeForm {
    href: String,
    slopes: Vec<Slope>,
    rpm: String,
    phases: Vec<(String, String)>,
    answer: String,
}

fn shaft_of<'a>(v: &'a Vehicle, at: &str) -> Option<&'a Prop> {
    v.props.iter().find(|p| at.strip_prefix("prop.").is_some_and(|e| e.split('.').next() == Some(p.end.id())))
}

/// Shaft speed at the speed where the symptom is worst.
fn usual_rpm(case: &Case, p: &Prop, symptom: Option<&str>) -> f64 {
    let kmh = symptom.and_then(|s| case.symptom(s)).and_then(|s| s.speed_kmh).and_then(|r| r.peak.or(r.to)).unwrap_or(100.0);
    let gear = case.vehicle.gearbox.gears.last().map(|g| g.name.clone());
    let turns = case.vehicle.prop_per_wheel(p, gear.as_deref(), None).ok().flatten();
    let wheel = case.vehicle.wheel_hz(KilometresPerHour(kmh)).ok();
    match (turns, wheel) {
        (Some(t), Some(w)) => ((t.get() * w.get() * 60.0) / 50.0).round() * 50.0,
        _ => USUAL_RPM,
    }
}

/// The input of the calculation from what was typed: a size and which end is lower, never a sign.
fn angles_input(v: &Vehicle, p: &Prop, f: &FormFields) -> Result<AnglesInput, Problem> {
    let floor = signed(f, "floor", "floor-lower", "rear", "front")?.unwrap_or(0.0);
    let mut elements = vec![];
    let right = positive_plan_side(p.end);
    let left = if right == "right" { "left" } else { "right" };
    for (i, name) in v.slope_words(p).iter().enumerate() {
        let side = signed(f, &format!("side{i}"), &format!("end{i}"), "lower", "higher")?.ok_or_else(|| {
            Problem::new("missing", format!("the slope of the {name} is not read yet")).field(format!("side{i}"))
        })?;
        let plan = signed(f, &format!("plan{i}"), &format!("way{i}"), right, left)?;
        let round = |x: f64| (x * 1000.0).round() / 1000.0;
        let plan_deg = plan.map(|x| Degrees(round(x)));
        // The second reading points the same way as the first.
        let again = f
            .amount(&format!("again{i}"), Unit::Degree)?
            .map(|x| Degrees(round(x * if side < 0.0 { -1.0 } else { 1.0 } - floor)));
        let first = Degrees(round(side - floor));
        let mm = |what: &str| f.amount(&format!("off-{what}{i}"), Unit::Millimetre);
        let offsets = mm("front")?.zip(mm("rear")?);
        // To the left is positive on a front shaft.
        let turned = if right == "right" { 1.0 } else { -1.0 };
        elements.push(Element::read(SlopeReadings {
            name: name.clone(),
            side_deg: vec![first].into_iter().chain(again).collect(),
            plan_deg,
            plan_offsets_mm: offsets.map(|(a, b)| [turned * a, turned * b]),
            plan_length_mm: mm("length")?,
        })?);
    }
    let mut phases = vec![];
    for k in 0..p.sections.len() {
        phases
            .push(f.amount(&format!("phase{k}"), Unit::Degree)?.map(Degrees).or(p.sections[k].phase_deg).unwrap_or(Degrees(0.0)));
    }
    let rpm = f.number("rpm")?.ok_or_else(|| Problem::new("missing", "the shaft speed is missing").field("rpm"))?;
    let (joints, phase_deg) = (p.joints.clone(), Some(phases));
    Ok(AnglesInput { elements, joints, phase_deg, rpm: Rpm(rpm), limits: Limits::default() })
}

/// A size with its direction: positive for the one word, negative for the other.
fn signed(f: &FormFields, name: &str, direction: &str, plus: &str, minus: &str) -> Result<Option<f64>, Problem> {
    let Some(x) = f.amount(name, Unit::Degree)? else { return Ok(None) };
    if x < 0.0 {
        return Err(Problem::new(
            "sign",
            "type the size as the gauge shows it, without a sign; choose the drawing for the direction",
        )
        .field(name));
    }
    match f.text(direction) {
        Some(d) if d == plus => Ok(Some(x)),
        Some(d) if d == minus => Ok(Some(-x)),
        _ if x == 0.0 => Ok(Some(0.0)),
        _ => Err(Problem::new("missing", "choose the drawing that shows which way it slopes").field(direction)),
    }
}

fn angles_answer(v: &Vehicle, p: &Prop, input: Result<AnglesInput, Problem>) -> AnglesAnswer {
    let names = v.slope_words(p);
    let kinds: Vec<JointKind> = p.joints.iter().map(|j| j.kind()).collect();
    let flat: Vec<Element> = names.iter().map(|n| Element { name: n.clone(), ..Element::default() }).collect();
    let mut out = AnglesAnswer::default();
    let read = input.and_then(|mut i| {
        i.limits = v.limits.clone();
        let a = angles(&i)?;
        Ok((i, a))
    });
    let (i, a) = match read {
        Ok(x) => x,
        Err(e) => {
            out.view = charts::side_view(&flat, &kinds, None, &[]);
            out.problem = e.message;
            return out;
        }
    };
    let over: Vec<bool> = (0..a.joint_deg.len())
        .map(|k| a.findings.iter().any(|f| f.level == Level::Over && f.at.as_deref() == Some(&format!("j{}", k + 1))))
        .collect();
    out.view = charts::side_view(&i.elements, &kinds, Some(&a), &over);
    let limit = v.limits.torsional_rads2.unwrap_or(TORSIONAL_RADS2);
    let section = v.limits.section_rads2.unwrap_or(SECTION_RADS2);
    let t = a.torsional_rads2.get();
    out.torsional = format!("{t:.0}");
    out.limit = format!("{limit:.0}");
    out.bar = (100.0 * t / (limit * 1.6)).min(100.0);
    out.tick = 100.0 / 1.6;
    out.over = t > limit;
    out.sections = a
        .sections_rads2
        .iter()
        .enumerate()
        .map(|(k, s)| format!("section {} {:.0} of {section:.0} rad/s²", k + 1, s.get()))
        .collect();
    out.residual = format!("{:.2}°", a.residual_deg.get());
    out.findings = a.findings.iter().map(finding_line).collect();
    if let Some((headings, rows)) = plan_rows(v, &format!("prop.{}", p.end.id()), &i) {
        (out.plan_headings, out.plan_rows) = (headings, rows);
    }
    out
}

fn slopes(v: &Vehicle, p: &Prop, old: Option<&AnglesInput>) -> Vec<Slope> {
    let positive = positive_plan_side(p.end);
    v.slope_words(p)
        .into_iter()
        .enumerate()
        .map(|(i, label)| {
            let e = old.and_then(|o| o.elements.get(i));
            let side = e.map(|e| e.side_deg.get());
            let plan = e.and_then(|e| e.plan_deg).map(Degrees::get).filter(|x| *x != 0.0);
            let readings = e.map(|e| e.side_readings_deg.as_slice()).unwrap_or_default();
            let size = |d: Option<&Degrees>| d.map_or(String::new(), |d| format!("{}", d.get().abs()));
            let turned = if positive == "right" { 1.0 } else { -1.0 };
            let offset = |at: usize| e.and_then(|e| e.plan_offsets_mm).map_or(String::new(), |o| format!("{}", turned * o[at]));
            let length = e.and_then(|e| e.plan_length_mm).map_or(String::new(), |l| format!("{l}"));
            Slope {
                again: size(readings.get(1)),
                offsets: (offset(0), offset(1), length),
                name: i.to_string(),
                label,
                value: if readings.is_empty() {
                    side.map_or(String::new(), |x| format!("{}", x.abs()))
                } else {
                    size(readings.first())
                },
                lower: side.is_some_and(|x| x >= 0.0),
                higher: side.is_some_and(|x| x < 0.0),
                plan: plan.map_or(String::new(), |x| format!("{}", x.abs())),
                right: plan.is_some_and(|x| (x > 0.0) == (positive == "right")),
                left: plan.is_some_and(|x| (x > 0.0) == (positive == "left")),
            }
        })
        .collect()
}

pub(super) const ANGLE_GAUGE: InstrumentForm =
    InstrumentForm { instrument: "angles", save_words: "Save slopes", form, input, answer };

fn form(c: &FormContext) -> Result<String, Problem> {
    let v = &c.case.vehicle;
    let p = need_shaft(v, c.at)?;
    let earlier = match &c.earlier {
        Some(Reading::Angles(a)) => Some(a),
        _ => None,
    };
    let rpm = earlier.map(|a| a.rpm.get()).unwrap_or_else(|| usual_rpm(c.case, p, c.symptom));
    // Before anything was read the shaft is drawn level, with nothing to complain of.
    let input = earlier.cloned().ok_or_else(|| Problem::new("missing", ""));
    let sections = p.sections.iter().enumerate();
    let phase = |(i, s): (usize, &baricord_core::vehicle::Section)| {
        (format!("section {}", i + 1), s.phase_deg.map_or("0".into(), |g| g.get().to_string()))
    };
    rendered(&GaugeForm {
        href: c.href.clone(),
        slopes: slopes(v, p, earlier),
        rpm: format!("{rpm:.0}"),
        phases: sections.map(phase).collect(),
        answer: rendered(&angles_answer(v, p, input))?,
    })
}

fn input(v: &Vehicle, at: &str, f: &FormFields) -> Result<Reading, Problem> {
    angles_input(v, need_shaft(v, at)?, f).map(Reading::Angles)
}

fn answer(v: &Vehicle, at: &str, f: &FormFields) -> Result<String, Problem> {
    let p = need_shaft(v, at)?;
    let mut out = angles_answer(v, p, angles_input(v, p, f));
    // Both ends alone say something already.
    if let (true, Some(e)) = (!out.problem.is_empty(), ends_alone(p, f)) {
        out.findings = e.findings.iter().map(finding_line).collect();
        out.ends = format!("{:.1}°", e.ends_deg.get());
    }
    rendered(&out)
}

/// What gearbox and pinion say where the shaft between them was not read.
fn ends_alone(p: &Prop, f: &FormFields) -> Option<Ends> {
    let last = p.sections.len() + 1;
    let is_read = (1..last).any(|i| f.text(&format!("side{i}")).is_some());
    let slope = |i: usize| {
        let side = signed(f, &format!("side{i}"), &format!("end{i}"), "lower", "higher").ok()??;
        Some(Element { side_deg: Degrees(side), ..Element::default() })
    };
    let elements = vec![slope(0)?, slope(last)?];
    if is_read { None } else { ends(&EndsInput { elements }).ok() }
}

fn need_shaft<'a>(v: &'a Vehicle, at: &str) -> Result<&'a Prop, Problem> {
    shaft_of(v, at).ok_or_else(|| Problem::new("unknown-place", format!("this vehicle has no shaft “{at}”")).field("at"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::vehicle::sample::rear_drive;

    fn f(pairs: &[(&str, &str)]) -> FormFields {
        FormFields::metric(pairs.iter().map(|(k, v)| (k.to_string(), v.to_string())).collect())
    }

    #[test]
    fn a_sign_is_never_typed_and_a_direction_always_chosen() {
        let car = rear_drive(1);
        let p = &car.props[0];
        let ok = [
            ("side0", "4,2"),
            ("end0", "lower"),
            ("side1", "6.9"),
            ("end1", "lower"),
            ("side2", "3.1"),
            ("end2", "lower"),
            ("rpm", "3200"),
        ];
        let v = angles_input(&car, p, &f(&ok)).unwrap();
        assert_eq!(v.elements[0].side_deg, Degrees(4.2));
        let a = angles(&v).unwrap();
        assert!((a.torsional_rads2.get() - 244.6).abs() < 0.1);
        let mut bad = ok;
        bad[0] = ("side0", "-4.2");
        assert_eq!(angles_input(&car, p, &f(&bad)).unwrap_err().code, "sign");
        bad[0] = ("side0", "4.2");
        bad[1] = ("end0", "");
        assert_eq!(angles_input(&car, p, &f(&bad)).unwrap_err().field.as_deref(), Some("end0"));
    }

    #[test]
    fn a_second_reading_is_averaged_and_two_offsets_give_the_plan_view() {
        let car = rear_drive(1);
        let p = &car.props[0];
        let typed = [
            ("side0", "4.0"),
            ("again0", "4.4"),
            ("end0", "higher"),
            ("side1", "1"),
            ("end1", "lower"),
            ("side2", "2"),
            ("end2", "lower"),
            ("off-front1", "10"),
            ("off-rear1", "31"),
            ("off-length1", "1200"),
            ("rpm", "3000"),
        ];
        let v = angles_input(&car, p, &f(&typed)).unwrap();
        assert!((v.elements[0].side_deg.get() + 4.2).abs() < 1e-9 && v.elements[0].side_readings_deg.len() == 2);
        assert!((v.elements[1].plan_deg.unwrap().get() - 1.0026).abs() < 1e-3 && v.elements[1].side_readings_deg.is_empty());
        let shown = slopes(&car, p, Some(&v));
        assert_eq!((shown[0].value.as_str(), shown[0].again.as_str(), shown[0].higher), ("4", "4.4", true));
        assert_eq!(shown[1].offsets, ("10".to_string(), "31".to_string(), "1200".to_string()));
    }

    #[test]
    fn a_slope_may_be_typed_in_degrees_and_minutes() {
        let car = rear_drive(1);
        let typed = [
            ("side0", "2° 30′"),
            ("end0", "lower"),
            ("side1", "1"),
            ("end1", "lower"),
            ("side2", "2"),
            ("end2", "lower"),
            ("rpm", "3000"),
        ];
        assert_eq!(angles_input(&car, &car.props[0], &f(&typed)).unwrap().elements[0].side_deg, Degrees(2.5));
    }

    #[test]
    fn both_ends_alone_say_how_far_they_are_apart() {
        let car = rear_drive(2);
        let both = [("side0", "4.2"), ("end0", "lower"), ("side3", "1"), ("end3", "higher"), ("rpm", "3000")];
        let html = answer(&car, "prop.rear", &f(&both)).unwrap();
        assert!(html.contains("5.2°") && html.contains("which joint carries it"), "{html}");
        let one = answer(&car, "prop.rear", &f(&both[..2])).unwrap();
        assert!(!one.contains("apart"), "{one}");
    }

    #[test]
    fn the_floor_is_taken_off_every_slope() {
        let car = rear_drive(1);
        let p = &car.props[0];
        let v = angles_input(
            &car,
            p,
            &f(&[
                ("side0", "4"),
                ("end0", "lower"),
                ("side1", "0"),
                ("side2", "1"),
                ("end2", "higher"),
                ("rpm", "3000"),
                ("floor", "0.5"),
                ("floor-lower", "rear"),
            ]),
        )
        .unwrap();
        assert_eq!(v.elements.iter().map(|e| e.side_deg.get()).collect::<Vec<_>>(), [3.5, -0.5, -1.5]);
    }
}
