//! The form of the dial: a mark for each position round the part, the circle beside it.

use super::instrument_form::{FormContext, InstrumentForm, finding_line, rendered};
use crate::charts;
use crate::stations::form::{FormFields, parse_number};
use askama::Template;
use baricord_core::error::Problem;
use baricord_core::measure::instrument::Reading as ReadWith;
use baricord_core::measure::runout::{LEAST_READINGS, Reading, RunoutInput, limit_at, runout};
use baricord_core::typed_input::Length;
use baricord_core::units::Degrees;
use baricord_core::vehicle::Vehicle;

/// Marks that are offered before anything was read.
const MARKS: u32 = 8;

struct Mark {
    deg: u32,
    value: String,
}

/// The circle and its figures.
#[derive(Template, Default)]
#[template(path = "measure/runout_answer.html")]
struct RunoutAnswer {
    dial: String,
    lines: Vec<(String, String)>,
    findings: Vec<(String, &'static str)>,
    problem: String,
}

#[derive(Template)]
#[template(path = "measure/dial.html")]
struct DialForm {
    href: String,
    marks: Vec<Mark>,
    answer: String,
}

/// Readings that were typed: positions `deg`, values `mm`, in their order; empty ones are left out.
fn readings(f: &FormFields) -> Result<Vec<Reading>, Problem> {
    let values: Vec<&str> = f.fields.iter().filter(|(k, _)| k == "mm").map(|(_, v)| v.trim()).collect();
    let degs: Vec<&str> = f.fields.iter().filter(|(k, _)| k == "deg").map(|(_, v)| v.trim()).collect();
    let mut out = vec![];
    for (d, v) in degs.iter().zip(values) {
        if v.is_empty() {
            continue;
        }
        let bad = |t: &str, what: &str| Problem::new("bad-number", format!("“{t}” at {d}° is not a number")).field(what);
        let mm = f.typed_length("mm", v, Length::Dial);
        let mm = mm.map_err(|p| if p.code == "bad-number" { bad(v, "mm") } else { p })?;
        let deg = parse_number(d).ok_or_else(|| bad(d, "deg"))?;
        out.push(Reading { deg: Degrees(deg), mm });
    }
    Ok(out)
}

fn runout_answer(v: &Vehicle, at: &str, points: Vec<Reading>) -> RunoutAnswer {
    let limit = limit_at(&v.limits, at).map(|l| l.get());
    let mut out = RunoutAnswer::default();
    if points.len() < LEAST_READINGS {
        out.dial = charts::dial(&points, None, limit);
        if !points.is_empty() {
            out.problem = format!("{} of at least {LEAST_READINGS} marks", points.len());
        }
        return out;
    }
    match runout(&RunoutInput { readings: Some(points.clone()), mm: None, limit_mm: limit }) {
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
            out.findings = r.findings.iter().map(finding_line).collect();
            if let Some(l) = limit.filter(|_| out.findings.is_empty()) {
                out.findings.push((format!("within {l:.2} mm"), "within"));
            }
        }
    }
    out
}

/// What was read before; none where it cannot be read.
fn points_of(earlier: &Option<ReadWith>) -> Vec<Reading> {
    match earlier {
        Some(ReadWith::Runout(input)) => input.points().unwrap_or_default(),
        _ => vec![],
    }
}

pub(super) const DIAL: InstrumentForm = InstrumentForm { instrument: "runout", save_words: "Save readings", form, input, answer };

fn form(c: &FormContext) -> Result<String, Problem> {
    let points = points_of(&c.earlier);
    let marks = if points.is_empty() {
        (0..MARKS).map(|i| Mark { deg: 360 / MARKS * i, value: String::new() }).collect()
    } else {
        points.iter().map(|p| Mark { deg: p.deg.get().round() as u32, value: format!("{}", p.mm.get()) }).collect()
    };
    let answer = rendered(&runout_answer(&c.case.vehicle, c.at, points))?;
    rendered(&DialForm { href: c.href.clone(), marks, answer })
}

fn input(_: &Vehicle, _: &str, f: &FormFields) -> Result<ReadWith, Problem> {
    Ok(ReadWith::Runout(RunoutInput { readings: Some(readings(f)?), ..RunoutInput::default() }))
}

fn answer(v: &Vehicle, at: &str, f: &FormFields) -> Result<String, Problem> {
    rendered(&match readings(f) {
        Ok(points) => runout_answer(v, at, points),
        Err(p) => RunoutAnswer { problem: p.message, dial: charts::dial(&[], None, None), ..RunoutAnswer::default() },
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn f(pairs: &[(&str, &str)]) -> FormFields {
        FormFields::metric(pairs.iter().map(|(k, v)| (k.to_string(), v.to_string())).collect())
    }

    #[test]
    fn readings_skip_empty_marks_and_name_bad_ones() {
        let r = readings(&f(&[("deg", "0"), ("mm", "0,10"), ("deg", "45"), ("mm", ""), ("deg", "90"), ("mm", "-0.2")])).unwrap();
        assert_eq!(r.len(), 2);
        assert!(readings(&f(&[("deg", "45"), ("mm", "x")])).unwrap_err().message.contains("45°"));
    }
}
