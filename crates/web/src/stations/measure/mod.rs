//! Measure: a dial at its station, and joint angles on a side view. The picture answers at once.

use crate::App;
use crate::auth::Member;
use crate::charts;
use crate::error::{PageError, may_write};
use crate::page::{Frame, LoadedCase};
use crate::stations::form::FormFields;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::case::Case;
use baricord_core::case::entries::append;
use baricord_core::error::{Finding, Level, Problem, read_json};
use baricord_core::measure::angles::{AnglesInput, Element, angles, positive_plan_side};
use baricord_core::measure::runout::{Reading, RunoutInput, limit_at, runout};
use baricord_core::typed_input::{Length, length_mm};
use baricord_core::units::{Degrees, KilometresPerHour, Millimetres};
use baricord_core::vehicle::{JointKind, PlaceKind, Prop, Vehicle};
use baricord_core::workflow::Station;
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;

#[derive(Clone, Debug, Default, Deserialize)]
struct Asked {
    #[serde(default)]
    s: Option<String>,
    #[serde(default)]
    tool: Option<String>,
    #[serde(default)]
    at: Option<String>,
}

struct StationOption {
    id: String,
    words: String,
    limit: String,
    here: bool,
}

struct Mark {
    deg: u32,
    value: String,
}

/// The answer beside the dial.
#[derive(Template, WebTemplate, Default)]
#[template(path = "measure/runout_answer.html")]
struct RunoutAnswer {
    dial: String,
    lines: Vec<(String, String)>,
    findings: Vec<(String, &'static str)>,
    problem: String,
}

struct Slope {
    name: String,
    label: String,
    value: String,
    lower: bool,
    higher: bool,
    plan: String,
    right: bool,
    left: bool,
}

/// The answer under the side view.
#[derive(Template, WebTemplate, Default)]
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
    /// Where the limit stands on the bar.
    tick: f64,
}

#[derive(Template, WebTemplate)]
#[template(path = "measure/measure.html")]
struct MeasurePage {
    f: Frame,
    tool: &'static str,
    at: String,
    at_words: String,
    stations: Vec<StationOption>,
    marks: Vec<Mark>,
    runout: RunoutAnswer,
    shafts: Vec<StationOption>,
    slopes: Vec<Slope>,
    rpm: String,
    phases: Vec<(String, String)>,
    angles: AnglesAnswer,
    taken: Vec<(String, String)>,
}

/// Stations where a dial can stand on this vehicle.
fn dial_stations(case: &Case, here: &str) -> Vec<StationOption> {
    let v = &case.vehicle;
    let mut ids: Vec<String> = vec![];
    for p in v.places() {
        match p.kind {
            PlaceKind::Section => ids.extend(["front", "centre", "rear"].iter().map(|x| format!("{}.{x}", p.id))),
            PlaceKind::Diff => ids.push(format!("{}.flange", p.id)),
            PlaceKind::Half | PlaceKind::Hub | PlaceKind::Wheel => ids.push(p.id.clone()),
            _ => {}
        }
    }
    ids.into_iter()
        .map(|id| StationOption {
            words: v.place_words(&id),
            limit: limit_at(&v.limits, &id).map_or(String::new(), |l| format!("{:.2}", l.get())),
            here: id == here,
            id,
        })
        .collect()
}

/// Readings that were typed: positions `deg`, values `mm`, in their order; empty ones are left out.
fn readings(f: &FormFields) -> Result<Vec<Reading>, Problem> {
    let values: Vec<&str> = f.0.iter().filter(|(k, _)| k == "mm").map(|(_, v)| v.trim()).collect();
    let degs: Vec<&str> = f.0.iter().filter(|(k, _)| k == "deg").map(|(_, v)| v.trim()).collect();
    let mut out = vec![];
    for (d, v) in degs.iter().zip(values) {
        if v.is_empty() {
            continue;
        }
        let bad = |t: &str, what: &str| Problem::new("bad-number", format!("“{t}” at {d}° is not a number")).field(what);
        let mm = length_mm(v, Length::Dial, "mm").map_err(|p| if p.code == "bad-number" { bad(v, "mm") } else { p })?;
        let deg = crate::stations::form::parse_number(d).and_then(|n| n.as_f64()).ok_or_else(|| bad(d, "deg"))?;
        out.push(Reading { deg: Degrees(deg), mm: Millimetres(mm) });
    }
    Ok(out)
}

/// A finding with the class that shows how weighty it is.
fn told(f: &Finding) -> (String, &'static str) {
    let class = match f.level {
        Level::Over => "over",
        Level::Warn => "better",
        Level::Info => "remark",
    };
    (f.message.clone(), class)
}

fn runout_answer(case: &Case, at: &str, points: Vec<Reading>) -> RunoutAnswer {
    let limit = limit_at(&case.vehicle.limits, at).map_or(0.5, |l| l.get());
    let mut out = RunoutAnswer::default();
    if points.len() < 4 {
        out.dial = charts::dial(&points, None, limit);
        if !points.is_empty() {
            out.problem = format!("{} of at least four marks", points.len());
        }
        return out;
    }
    match runout(&RunoutInput { readings: Some(points.clone()), mm: None, limit_mm: Some(limit) }) {
        Err(p) => {
            out.dial = charts::dial(&points, None, limit);
            out.problem = p.message;
        }
        Ok(r) => {
            out.dial = charts::dial(&points, Some(&r), limit);
            out.lines = vec![
                ("eccentricity".into(), format!("{:.3} mm, {:.2} mm on the dial", r.eccentricity_mm.get(), r.tir_mm.get())),
                ("high spot".into(), format!("{:.0}°", r.high_spot_deg.get())),
                ("out of round".into(), r.ovality_mm.map_or("needs six marks".into(), |o| format!("{:.3} mm", o.get()))),
                ("does not fit a circle".into(), format!("{:.3} mm", r.residual_mm.get())),
            ];
            out.findings = r.findings.iter().map(told).collect();
            if out.findings.is_empty() {
                out.findings.push((format!("within {limit:.2} mm"), "within"));
            }
        }
    }
    out
}

fn shaft_of<'a>(case: &'a Case, at: &str) -> Option<&'a Prop> {
    case.vehicle.props.iter().find(|p| at.strip_prefix("prop.").is_some_and(|e| e.split('.').next() == Some(p.end.id())))
}

/// Shaft speed at the speed where the symptom is worst.
fn usual_rpm(case: &Case, p: &Prop, symptom: Option<&str>) -> f64 {
    let kmh = symptom.and_then(|s| case.symptom(s)).and_then(|s| s.speed_kmh).and_then(|r| r.peak.or(r.to)).unwrap_or(100.0);
    let gear = case.vehicle.gearbox.gears.last().map(|g| g.name.clone());
    let turns = case.vehicle.prop_per_wheel(p, gear.as_deref(), None).ok().flatten();
    let wheel = case.vehicle.wheel_hz(KilometresPerHour(kmh)).ok();
    match (turns, wheel) {
        (Some(t), Some(w)) => ((t.get() * w.get() * 60.0) / 50.0).round() * 50.0,
        _ => 3000.0,
    }
}

/// The input of the calculation from what was typed: a size and which end is lower, never a sign.
fn angles_input(v: &Vehicle, p: &Prop, f: &FormFields) -> Result<Value, Problem> {
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
        let mut e = json!({"name": name, "side_deg": round(side - floor)});
        if let Some(x) = plan {
            e["plan_deg"] = json!(round(x));
        }
        elements.push(e);
    }
    let mut phases = vec![];
    for k in 0..p.sections.len() {
        phases.push(f.float(&format!("phase{k}"))?.or(p.sections[k].phase_deg.map(|g| g.get())).unwrap_or(0.0));
    }
    let rpm = f.float("rpm")?.ok_or_else(|| Problem::new("missing", "the shaft speed is missing").field("rpm"))?;
    Ok(json!({"elements": elements, "joints": p.joints, "phase_deg": phases, "rpm": rpm}))
}

/// A size with its direction: positive for the one word, negative for the other.
fn signed(f: &FormFields, name: &str, direction: &str, plus: &str, minus: &str) -> Result<Option<f64>, Problem> {
    let Some(x) = f.float(name)? else { return Ok(None) };
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

fn angles_answer(case: &Case, p: &Prop, input: Result<Value, Problem>) -> AnglesAnswer {
    let names = case.vehicle.slope_words(p);
    let kinds: Vec<JointKind> = p.joints.iter().map(|j| j.kind()).collect();
    let flat: Vec<Element> = names.iter().map(|n| Element { name: n.clone(), side_deg: Degrees(0.0), plan_deg: None }).collect();
    let mut out = AnglesAnswer::default();
    let read = input.and_then(|v| {
        let mut i: AnglesInput = read_json(&v)?;
        i.limits = case.vehicle.limits.clone();
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
    let limit = case.vehicle.limits.torsional_rads2.unwrap_or(baricord_core::measure::angles::TORSIONAL_RADS2);
    let section = case.vehicle.limits.section_rads2.unwrap_or(baricord_core::measure::angles::SECTION_RADS2);
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
    out.findings = a.findings.iter().map(told).collect();
    out
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(q): Query<Asked>) -> Result<MeasurePage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, q.s.as_deref()).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Measure).await?;
    let case = k.case();
    let first = case.vehicle.props.first();
    let has_shaft = first.is_some();
    let tool = if q.tool.as_deref() == Some("angles") && has_shaft { "angles" } else { "runout" };
    let usual = match first {
        Some(p) => format!("prop.{}.s{}.centre", p.end.id(), p.sections.len()),
        None => case.vehicle.places().into_iter().find(|p| p.kind == PlaceKind::Half).map_or("wheel.fl".into(), |p| p.id),
    };
    let at = q.at.clone().filter(|a| case.vehicle.place(a).is_some()).unwrap_or(usual);
    let earlier = case.measurements.iter().rev().find(|x| x.at.as_deref() == Some(&at) && x.kind == "runout");
    let points: Vec<Reading> =
        earlier.and_then(|x| read_json::<RunoutInput>(&x.input).ok()).and_then(|i| i.points().ok()).unwrap_or_default();
    let marks = if points.is_empty() {
        (0..8).map(|i| Mark { deg: 45 * i, value: String::new() }).collect()
    } else {
        points.iter().map(|p| Mark { deg: p.deg.get().round() as u32, value: format!("{}", p.mm.get()) }).collect()
    };
    let shaft = shaft_of(case, &at).or(first);
    let shaft_id = shaft.map_or(String::new(), |p| format!("prop.{}", p.end.id()));
    let old =
        case.measurements.iter().rev().find(|x| x.kind == "angles" && (x.at.is_none() || x.at.as_deref() == Some(&shaft_id)));
    let old_input = old.map(|x| x.input.clone());
    let slopes = shaft.map(|p| slopes(&case.vehicle, p, old_input.as_ref())).unwrap_or_default();
    let rpm = old_input
        .as_ref()
        .and_then(|i| i["rpm"].as_f64())
        .or_else(|| shaft.map(|p| usual_rpm(case, p, k.symptom.as_deref())))
        .unwrap_or(3000.0);
    let angles = match (shaft, old_input) {
        (Some(p), Some(i)) => angles_answer(case, p, Ok(i)),
        (Some(p), None) => AnglesAnswer { problem: String::new(), ..angles_answer(case, p, Err(Problem::new("", ""))) },
        (None, _) => AnglesAnswer::default(),
    };
    let phases = shaft
        .map(|p| {
            p.sections
                .iter()
                .enumerate()
                .map(|(i, s)| (format!("section {}", i + 1), s.phase_deg.map_or("0".into(), |g| g.get().to_string())))
                .collect()
        })
        .unwrap_or_default();
    let taken = case
        .measurements
        .iter()
        .map(|x| (x.kind.clone(), case.measurement_place(x).map_or_else(|e| e.message, |a| case.vehicle.place_words(&a))))
        .collect();
    Ok(MeasurePage {
        tool,
        at_words: case.vehicle.place_words(if tool == "angles" { &shaft_id } else { &at }),
        stations: dial_stations(case, &at),
        runout: runout_answer(case, &at, points),
        marks,
        shafts: case
            .vehicle
            .props
            .iter()
            .map(|p| {
                let id = format!("prop.{}", p.end.id());
                StationOption { words: case.vehicle.place_words(&id), limit: String::new(), here: id == shaft_id, id }
            })
            .collect(),
        slopes,
        rpm: format!("{rpm:.0}"),
        phases,
        angles,
        taken,
        at: if tool == "angles" { shaft_id } else { at },
        f,
    })
}

fn slopes(v: &Vehicle, p: &Prop, old: Option<&Value>) -> Vec<Slope> {
    let positive = positive_plan_side(p.end);
    v.slope_words(p)
        .into_iter()
        .enumerate()
        .map(|(i, label)| {
            let e = old.map(|o| &o["elements"][i]);
            let side = e.and_then(|e| e["side_deg"].as_f64());
            let plan = e.and_then(|e| e["plan_deg"].as_f64()).filter(|x| *x != 0.0);
            Slope {
                name: i.to_string(),
                label,
                value: side.map_or(String::new(), |x| format!("{}", x.abs())),
                lower: side.is_some_and(|x| x >= 0.0),
                higher: side.is_some_and(|x| x < 0.0),
                plan: plan.map_or(String::new(), |x| format!("{}", x.abs())),
                right: plan.is_some_and(|x| (x > 0.0) == (positive == "right")),
                left: plan.is_some_and(|x| (x > 0.0) == (positive == "left")),
            }
        })
        .collect()
}

async fn runout_preview(
    m: Member,
    Path(id): Path<Uuid>,
    Form(f): Form<Vec<(String, String)>>,
) -> Result<RunoutAnswer, PageError> {
    let mut s = m.scope().await?;
    let c = s.case(id).await?;
    let f = FormFields(f);
    let at = f.text("at").unwrap_or_default().to_string();
    Ok(match readings(&f) {
        Ok(points) => runout_answer(&c.case, &at, points),
        Err(p) => RunoutAnswer { problem: p.message, dial: charts::dial(&[], None, 0.5), ..RunoutAnswer::default() },
    })
}

async fn runout_save(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let at = f.need("at", "the station")?.to_string();
    let points = readings(&f)?;
    let input = json!({"readings": points});
    runout(&read_json(&input)?)?;
    save(&m, id, &f, "runout", &at, input).await
}

async fn angles_preview(
    m: Member,
    Path(id): Path<Uuid>,
    Form(f): Form<Vec<(String, String)>>,
) -> Result<AnglesAnswer, PageError> {
    let mut s = m.scope().await?;
    let c = s.case(id).await?;
    let f = FormFields(f);
    let p = shaft_of(&c.case, f.text("at").unwrap_or_default()).ok_or(PageError::NotFound)?;
    Ok(angles_answer(&c.case, p, angles_input(&c.case.vehicle, p, &f)))
}

async fn angles_save(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let f = FormFields(f);
    let at = f.need("at", "the shaft")?.to_string();
    let case = m.scope().await?.case(id).await?.case;
    let p = shaft_of(&case, &at).ok_or(PageError::NotFound)?;
    let input = angles_input(&case.vehicle, p, &f)?;
    angles(&read_json(&input)?)?;
    save(&m, id, &f, "angles", &at, input).await
}

async fn save(m: &Member, id: Uuid, f: &FormFields, kind: &str, at: &str, input: Value) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let what = format!("{kind} read at {at}");
    s.edit_case(id, None, &what, &m.person.name, |d| {
        let case = Case::from_json(d)?;
        // What is read while a repair waits for its proof is after it.
        let after = case.is_after_repair();
        if case.vehicle.place(at).is_none() {
            return Err(Problem::new("unknown-place", format!("this vehicle has no place “{at}”")).field("at"));
        }
        let mut reading = json!({"kind": kind, "at": at, "input": input});
        if after {
            reading["phase"] = "after".into();
        }
        append(d, "measurements", reading);
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/measure?tool={kind}&at={at}&s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/measure", get(show))
        .route("/cases/{id}/measure/runout", post(runout_save))
        .route("/cases/{id}/measure/runout/answer", post(runout_preview))
        .route("/cases/{id}/measure/angles", post(angles_save))
        .route("/cases/{id}/measure/angles/answer", post(angles_preview))
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::vehicle::sample::rear_drive;

    fn f(pairs: &[(&str, &str)]) -> FormFields {
        FormFields(pairs.iter().map(|(k, v)| (k.to_string(), v.to_string())).collect())
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
        assert_eq!(v["elements"][0]["side_deg"], 4.2);
        let a = angles(&read_json(&v).unwrap()).unwrap();
        assert!((a.torsional_rads2.get() - 244.6).abs() < 0.1);
        let mut bad = ok;
        bad[0] = ("side0", "-4.2");
        assert_eq!(angles_input(&car, p, &f(&bad)).unwrap_err().code, "sign");
        bad[0] = ("side0", "4.2");
        bad[1] = ("end0", "");
        assert_eq!(angles_input(&car, p, &f(&bad)).unwrap_err().field.as_deref(), Some("end0"));
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
        assert_eq!(
            (v["elements"][0]["side_deg"].as_f64(), v["elements"][1]["side_deg"].as_f64(), v["elements"][2]["side_deg"].as_f64()),
            (Some(3.5), Some(-0.5), Some(-1.5))
        );
    }

    #[test]
    fn readings_skip_empty_marks_and_name_bad_ones() {
        let r = readings(&f(&[("deg", "0"), ("mm", "0,10"), ("deg", "45"), ("mm", ""), ("deg", "90"), ("mm", "-0.2")])).unwrap();
        assert_eq!(r.len(), 2);
        assert!(readings(&f(&[("deg", "45"), ("mm", "x")])).unwrap_err().message.contains("45°"));
    }
}
