//! Measurements as evidence, through how far they are from their limit with the instrument's uncertainty.

use super::evidence::Evidence;
use super::likelihood::{Model, temper};
use crate::case::{Case, Measurement};
use crate::error::Warning;

/// Measurements, through how far they are from their limit with the instrument's uncertainty.
pub(super) fn measurements(case: &Case, model: &Model, symptom: &str, warnings: &mut Vec<Warning>) -> Vec<Evidence> {
    let mut out = vec![];
    let of_this: Vec<&Measurement> =
        case.measurements.iter().filter(|m| Case::concerns(m.symptom.as_deref(), symptom) && !m.is_after()).collect();
    for (i, m) in of_this.iter().enumerate() {
        if of_this[i + 1..].iter().any(|l| l.kind == m.kind && l.at == m.at) {
            continue;
        }
        match measured(case, model, m) {
            Ok(Some(e)) => out.push(e),
            Ok(None) => {}
            Err(p) => warnings.push(Warning::new(&p.code, format!("{} measurement not weighed: {}", m.kind, p.message))),
        }
    }
    out
}

/// How surely a value is over a limit, for an instrument's standard error.
fn surely_over(value: f64, limit: f64, sigma: f64) -> f64 {
    let z = (value - limit) / sigma.max(1e-9);
    // The normal distribution function, by the logistic that follows it within a hundredth.
    (1.0 / (1.0 + (-1.702 * z).exp())).clamp(0.01, 0.99)
}

fn measured(case: &Case, model: &Model, m: &Measurement) -> Result<Option<Evidence>, crate::error::Problem> {
    let (v, k) = (&case.vehicle, model.k);
    let (test, over, gross, value_words, at) = match m.kind.as_str() {
        "angles" => {
            let at = case.measurement_place(m)?;
            let mut input: crate::measure::angles::AnglesInput = crate::error::read_json(&m.input)?;
            if input.limits == Default::default() {
                input.limits = v.limits.clone();
            }
            let a = crate::measure::angles::angles(&input)?;
            let limit = input.limits.torsional_rads2.unwrap_or(crate::measure::angles::TORSIONAL_RADS2);
            let section = input.limits.section_rads2.unwrap_or(crate::measure::angles::SECTION_RADS2);
            // 0.15° on joints of a few degrees moves these accelerations by about a tenth.
            let torsional = surely_over(a.torsional_rads2.get(), limit, 0.12 * limit + 0.05 * a.torsional_rads2.get());
            let sections = a
                .sections_rads2
                .iter()
                .map(|s| surely_over(s.get(), section, 0.12 * section + 0.05 * s.get()))
                .fold(0.0, f64::max);
            let p: f64 = torsional.max(sections);
            let words = format!("angles: pinion {:.0} rad/s², limit {limit:.0}", a.torsional_rads2.get());
            let worst = a.sections_rads2.iter().map(|s| s.get() / section).fold(a.torsional_rads2.get() / limit, f64::max);
            ("angle-survey", p, worst, words, at)
        }
        "runout" => {
            let at = case.measurement_place(m)?;
            let mut input: crate::measure::runout::RunoutInput = crate::error::read_json(&m.input)?;
            let limit = input.limit_mm.or_else(|| crate::measure::runout::limit_at(&v.limits, &at).map(|l| l.get()));
            let Some(limit) = limit else { return Ok(None) };
            input.limit_mm = None;
            let r = crate::measure::runout::runout(&input)?;
            let test = if at.starts_with("half.") { "half-shaft-runout" } else { "runout-survey" };
            let p = surely_over(r.raw_tir_mm.get(), limit, 0.03);
            let words = format!("runout {:.2} mm, limit {limit:.2}, at {}", r.raw_tir_mm.get(), v.place_words(&at));
            (test, p, r.raw_tir_mm.get() / limit, words, at)
        }
        _ => return Ok(None),
    };
    let Some(t) = k.test(test) else { return Ok(None) };
    let place = v.place(&at);
    let index = |id: &str| t.outcomes.iter().position(|o| o.id == id);
    let (Some(o), Some(w)) = (index("over"), index("within")) else { return Ok(None) };
    let l = model.likelihoods(t, place.as_ref(), None);
    // A little over the limit is common on sound vehicles; a lot over is not: the less so, the further.
    let base = t.outcomes[o].base;
    let rarer = (1.0 / gross.max(1.0).powi(2)).max(k.weights.measured.least);
    let weigh = |h: usize| {
        let a = l.rows[o][h];
        let a = if a < 2.0 * base { a * rarer } else { a };
        let mut p = [a, l.rows[w][h]];
        temper(&mut p, &k.weights.exponent, k.weights.exponent.observation);
        over * p[0] + (1.0 - over) * p[1]
    };
    let likelihood = (0..model.all.len()).map(weigh).collect();
    Ok(Some(Evidence { words: value_words, test: test.into(), at: Some(at), likelihood }))
}
