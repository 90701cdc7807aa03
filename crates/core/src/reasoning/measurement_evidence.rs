//! Measurements as evidence, through how far they are from their limit with the instrument's uncertainty.

use super::evidence::Evidence;
use super::likelihood::{Model, temper};
use crate::case::{Case, Measurement};
use crate::error::Warning;

/// Measurements, through how far they are from their limit with the instrument's uncertainty.
pub(super) fn measurements(case: &Case, model: &Model, symptom: &str, warnings: &mut Vec<Warning>) -> Vec<Evidence> {
    let mut out = vec![];
    let counts = |m: &&Measurement| Case::concerns(m.symptom.as_deref(), symptom) && !m.is_after() && case.stale(m).is_none();
    let of_this: Vec<&Measurement> = case.measurements.iter().filter(counts).collect();
    let place = |m: &Measurement| case.measurement_place(m).ok();
    for (i, m) in of_this.iter().enumerate() {
        let same = |o: &&&Measurement| o.kind == m.kind && place(o) == place(m);
        if of_this[i + 1..].iter().any(|l| same(&l)) {
            continue;
        }
        let together: Vec<&Measurement> = of_this[..=i].iter().filter(same).copied().collect();
        match measured(case, model, &together) {
            Ok(Some(e)) => out.push(e),
            Ok(None) => {}
            Err(p) => warnings.push(Warning::new(&p.code, format!("{} measurement not weighed: {}", m.kind, p.message))),
        }
    }
    out
}

/// Readings of one instrument at one place, the last one last.
fn measured(case: &Case, model: &Model, together: &[&Measurement]) -> Result<Option<Evidence>, crate::error::Problem> {
    let (v, k) = (&case.vehicle, model.k);
    let (Some(read), Some(m)) = (case.repeated(together)?, together.last()) else { return Ok(None) };
    let at = case.measurement_place(m)?;
    let Some(check) = read.limit else { return Ok(None) };
    let (over, ratio) = (check.over_probability(), check.ratio);
    let place = v.place(&at);
    let made_at = |kind: &str| place.as_ref().is_some_and(|p| super::place_is(v, p, kind));
    let Some(t) = k.test_read_with(&m.kind, made_at) else { return Ok(None) };
    let index = |id: &str| t.outcomes.iter().position(|o| o.id == id);
    let (Some(o), Some(w)) = (index("over"), index("within")) else { return Ok(None) };
    let l = model.likelihoods(t, place.as_ref(), None);
    // A little over the limit is common on sound vehicles; a lot over is not: the less so, the further.
    let base = t.outcomes[o].base;
    let rarer = (1.0 / ratio.max(1.0).powi(2)).max(k.weights.measured.least);
    let weigh = |h: usize| {
        let a = l.rows[o][h];
        let a = if a < 2.0 * base { a * rarer } else { a };
        let mut p = [a, l.rows[w][h]];
        temper(&mut p, &k.weights.exponent, k.weights.exponent.observation);
        over * p[0] + (1.0 - over) * p[1]
    };
    let likelihood = (0..model.all.len()).map(weigh).collect();
    let words = match read.words() {
        again if again.is_empty() => read.last.evidence_words,
        again => format!("{}; {again}", read.last.evidence_words),
    };
    Ok(Some(Evidence { words, test: t.id.clone(), at: Some(at), likelihood }))
}
