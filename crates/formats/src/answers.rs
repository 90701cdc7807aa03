//! The answers about a whole open case, as the command line and the HTTP interface give them.

use crate::case_file::CaseSource;
use crate::recording::read_all;
use baricord_core::analysis::{self, Analysis, Silent};
use baricord_core::case::Case;
use baricord_core::error::Problem;
use baricord_core::proof::verify::{self, Verification};
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::{self, Diagnosis, attribution};
use baricord_core::repair::repair_plan::{self, Aim, RepairPlan};

/// Order work on the recordings of a case, or on one of them.
pub fn analyze(source: &CaseSource, only: Option<&str>) -> Result<Analysis, Problem> {
    let mut case = Case::from_json(&source.document)?;
    if let Some(id) = only {
        case.recordings.retain(|r| r.id == id);
        if case.recordings.is_empty() {
            return Err(Problem::new("unknown-recording", format!("the case has no recording {id}")).field("recording"));
        }
    }
    let found = attribution::analyze(&case, &read_all(&case, source), &Silent)?;
    // Nothing asked for could be read: that is an error, with the first reason.
    if !found.recordings.is_empty() && found.recordings.iter().all(|r| r.refused) {
        let first = &found.recordings[0];
        let mut p = first.warnings.last().map_or_else(
            || Problem::new("refused", "no recording could be read"),
            |w| Problem { line: w.line, ..Problem::new(&w.code, w.message.clone()) },
        );
        p.field = Some(format!("recordings.{}", first.id));
        return Err(p);
    }
    Ok(found)
}

/// Ranked causes for each symptom, and the next tests.
pub fn diagnose(source: &CaseSource) -> Result<(Case, Diagnosis), Problem> {
    let case = Case::from_json(&source.document)?;
    let found = match case.recordings.is_empty() {
        true => None,
        false => Some(attribution::analyze(&case, &read_all(&case, source), &Silent)?),
    };
    let mut d = reasoning::diagnose(&case, builtin(), found.as_ref());
    for r in found.iter().flat_map(|a| &a.recordings).filter(|r| r.refused) {
        d.warnings.extend(r.warnings.iter().map(|w| w.clone().at(&r.id)));
    }
    Ok((case, d))
}

/// Before against after, order by order.
pub fn prove(source: &CaseSource) -> Result<Verification, Problem> {
    let case = Case::from_json(&source.document)?;
    let tracked = analysis::track(&case, &read_all(&case, source), &Silent)?;
    let found = attribution::read_tracked(&case, &tracked, &Silent)?;
    Ok(verify::verify(&case, &tracked, &found))
}

/// The plan of the repairs that stand in the case.
pub fn repair_plan(source: &CaseSource, aim: Aim) -> Result<RepairPlan, Problem> {
    let case = Case::from_json(&source.document)?;
    Ok(repair_plan::repair_plan(&case, builtin(), aim))
}
