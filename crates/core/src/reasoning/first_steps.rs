//! The first steps for every kind of symptom on every layout, where nothing else is known: the table that a foreman reads.

use super::diagnose;
use super::knowledge::{KINDS, Knowledge};
use super::plan::PlanStep;
use crate::case::Case;
use crate::vehicle::{Vehicle, layout};
use serde::Serialize;

/// Suspects that are shown.
const MAX_SHOWN_SUSPECTS: usize = 5;

/// A suspect with its probability.
#[derive(Clone, Debug, Serialize)]
pub struct Suspect {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    pub at: String,
    /// How sure.
    pub p: f64,
}

/// The first steps for one kind of symptom on one layout.
#[derive(Clone, Debug, Serialize)]
pub struct FirstSteps {
    /// Kind of symptom.
    pub kind: &'static str,
    /// One of the public names of layouts: `rwd-solid` …
    pub layout: &'static str,
    /// The first three steps of the plan.
    pub steps: Vec<PlanStep>,
    /// The first suspects.
    pub suspects: Vec<Suspect>,
}

/// Layouts that are offered and have no rows of their own: their first steps are those of their like.
const LIKE_OTHERS: [&str; 3] = ["rwd-solid-three", "fwd-plug-in", "4x4-free-hubs"];

/// One made-up vehicle of each layout, by the name of the layout.
pub fn layouts() -> Vec<(&'static str, Vehicle)> {
    let all = layout::layouts().into_iter();
    all.filter(|l| !LIKE_OTHERS.contains(&l.id)).map(|l| (l.id, l.vehicle)).collect()
}

/// The first steps of every kind of symptom on every layout.
///
/// # Errors
/// When a layout's vehicle cannot be read as a case: it ships with the program, and a test reads each.
pub fn first_steps(k: &Knowledge) -> Result<Vec<FirstSteps>, crate::error::Problem> {
    let mut out = vec![];
    for (layout, v) in layouts() {
        for kind in KINDS {
            let mut document = Case::new_document("first-steps", "", serde_json::to_value(&v).unwrap_or_default());
            document["symptoms"] = serde_json::json!([{"id": "S1", "kind": kind}]);
            let case = Case::from_json(&document)?;
            let answer = diagnose(&case, k, None).symptoms.remove(0);
            let suspects = answer.ranked.iter().take(MAX_SHOWN_SUSPECTS);
            out.push(FirstSteps {
                kind,
                layout,
                steps: answer.plan.steps,
                suspects: suspects.map(|r| Suspect { fault: r.fault.clone(), at: r.at.clone(), p: r.p }).collect(),
            });
        }
    }
    Ok(out)
}

/// The table as text, one row for each kind and layout: steps with minutes, suspects with their probability.
pub fn table(all: &[FirstSteps]) -> String {
    let mut out = String::new();
    let mut layout = "";
    for f in all {
        if f.layout != layout {
            layout = f.layout;
            out.push_str(&format!("\n## {layout}\n\n| symptom | first steps (minutes) | suspects |\n|---|---|---|\n"));
        }
        let place = |at: &str| if at == "none" { String::new() } else { format!(" {at}") };
        let step = |s: &PlanStep| {
            let what = s.test.clone().unwrap_or_else(|| format!("repair {}", s.fault.as_deref().unwrap_or("")));
            let gear = s.gear.as_ref().map_or(String::new(), |g| format!(" in {g}"));
            format!("{what}{}{gear} ({:.0})", s.at.as_deref().map_or(String::new(), place), s.minutes)
        };
        let steps: Vec<String> = f.steps.iter().map(step).collect();
        let suspects: Vec<String> =
            f.suspects.iter().map(|s| format!("{}{} {:.0} %", s.fault, place(&s.at), 100.0 * s.p)).collect();
        out.push_str(&format!("| {} | {} | {} |\n", f.kind, steps.join("; "), suspects.join(", ")));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::*;

    #[test]
    fn every_kind_on_every_layout_has_a_first_step_that_this_vehicle_can_take() {
        let all = first_steps(builtin()).unwrap();
        assert_eq!(all.len(), 11 * KINDS.len());
        let vehicles = layouts();
        for f in &all {
            let v = &vehicles.iter().find(|l| l.0 == f.layout).unwrap().1;
            assert!(!f.steps.is_empty() && f.steps.len() <= 3, "{} {}", f.layout, f.kind);
            for s in &f.steps {
                assert!(
                    s.at.as_deref().is_none_or(|a| a == "none" || v.place(a).is_some()),
                    "{} {}: {:?}",
                    f.layout,
                    f.kind,
                    s.at
                );
            }
        }
    }

    #[test]
    fn the_table_that_is_kept_is_the_one_that_the_program_makes() {
        let kept = include_str!("../../../../docs/first-steps.md");
        let now = table(&first_steps(builtin()).unwrap());
        let rows = |text: &str| {
            text.lines().filter(|l| l.starts_with("| ") || l.starts_with("## ")).map(String::from).collect::<Vec<_>>()
        };
        let (kept, now) = (rows(kept), rows(&now));
        let changed: Vec<String> = now
            .iter()
            .enumerate()
            .filter(|(i, row)| kept.get(*i) != Some(row))
            .map(|(i, row)| format!("was {}\n now {row}", kept.get(i).map_or("nothing", String::as_str)))
            .collect();
        assert!(
            changed.is_empty(),
            "read what changed as a foreman would; if it is better, `baricord first-steps > docs/first-steps.md`:\n{}",
            changed.join("\n")
        );
    }
}
