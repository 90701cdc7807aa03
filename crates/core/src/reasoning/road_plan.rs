//! The road test planned for what is suspected: the lines of the likeliest causes, the fewest runs that separate them, the coach
//! that watches them, and a test for what no run separates.

use super::Ranked;
use super::hypotheses::{Hypothesis, hypotheses, predicted};
use super::knowledge::builtin;
use super::separating_test::SeparatingTest;
use crate::case::Case;
use crate::drive::coach::Coach;
use crate::drive::run_plan::{self, Separability, SeparabilityInput, Suspect};
use crate::error::Problem;
use crate::measure::orders::{OrderLine, orders};
use crate::vehicle::Vehicle;

/// A cause below this probability is not planned for.
const PLANNED_MIN_PROBABILITY: f64 = 0.01;
/// Causes that are planned for at most.
const MOST_CAUSES: usize = 14;

/// The lines of the likeliest causes of a symptom, each once.
pub fn suspects_of(v: &Vehicle, ranked: &[Ranked]) -> Vec<Suspect> {
    let gear = v.gearbox.gears.last().map(|g| g.name.as_str());
    let Ok(ladder) = orders(v, gear) else { return vec![] };
    let all = hypotheses(v, builtin());
    let is_it = |r: &Ranked, h: &Hypothesis| r.p >= PLANNED_MIN_PROBABILITY && r.fault == h.fault && r.at == h.at;
    let likely = |h: &Hypothesis| ranked.iter().take(MOST_CAUSES).any(|r| is_it(r, h));
    let mut out: Vec<Suspect> = vec![];
    for line in all.iter().filter(|h| likely(h)).flat_map(|h| predicted(builtin(), h, &ladder)).map(|p| p.line) {
        let s = Suspect { what: line.what, at: line.at };
        if !out.contains(&s) {
            out.push(s);
        }
    }
    out
}

/// What collides, the fewest runs that separate, and for each pair that no run separates a test that does, where one is known.
/// Errors name the field of the input.
pub fn separability(input: &SeparabilityInput) -> Result<Separability, Problem> {
    let mut out = run_plan::separability(input)?;
    let v = Vehicle::from_json(&input.vehicle)?;
    let separating = SeparatingTest::new(&v, builtin());
    let ladder = orders(&v, input.gears.first().and_then(|g| g.as_deref()))?;
    let mut known: Vec<(OrderLine, Vec<usize>)> = vec![];
    let mut causes_of = |line: &OrderLine| match known.iter().find(|k| k.0 == *line) {
        Some(k) => k.1.clone(),
        None => {
            let causes = separating.causes_of(line, &ladder);
            known.push((line.clone(), causes.clone()));
            causes
        }
    };
    for (a, b, test) in &mut out.never {
        *test = separating.best(&causes_of(a), &causes_of(b)).map(String::from);
    }
    Ok(out)
}

/// The plan for a symptom by its likeliest causes; none where there is nothing to separate.
pub fn plan_for_symptom(case: &Case, symptom: &str, ranked: &[Ranked]) -> Option<Separability> {
    separability(&run_plan::input_for(case, symptom, suspects_of(&case.vehicle, ranked))?).ok()
}

/// The coach for a symptom: the fewest runs that separate its likeliest causes, or one run through its speeds where there is
/// nothing to separate.
pub fn coach_for_symptom(case: &Case, symptom: &str, ranked: &[Ranked]) -> Option<Coach> {
    let input = run_plan::input_for(case, symptom, suspects_of(&case.vehicle, ranked));
    let runs = input.and_then(|i| run_plan::fewest_runs(&i).ok()).unwrap_or_default();
    Coach::new(case, symptom, &runs)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::rear_drive;
    use serde_json::json;

    #[test]
    fn what_turns_alike_is_never_parted_on_the_road_but_by_another_test() {
        let input = json!({"vehicle": rear_drive(2), "speeds_kmh": {"from": 50, "to": 110}, "gears": ["5"], "turns": 32});
        let p = separability(&serde_json::from_value(input).unwrap()).unwrap();
        let wheels = p.never.iter().find(|n| n.0.at == "wheel.rl" && n.1.at == "wheel.rr").expect("two wheels");
        assert_eq!(wheels.2.as_deref(), Some("wheel-swap-retest"));
        // In one gear only what stands closer than the window's width is never parted.
        let wheel = |l: &OrderLine| {
            let per_wheel = rear_drive(2).engine_per_wheel(Some("5"), None).unwrap();
            l.wheel_order(per_wheel).unwrap().get()
        };
        assert!(p.never.iter().all(|n| (wheel(&n.0) - wheel(&n.1)).abs() < 2.0 / 32.0));
    }

    #[test]
    fn a_case_is_planned_from_its_likeliest_causes() {
        let mut doc = Case::new_document("t", "t", json!(rear_drive(2)));
        doc["symptoms"] =
            json!([{"id": "S1", "kind": "vibration", "heard_from": "unknown", "speed_kmh": {"from": 70, "to": 110}}]);
        let case = Case::from_json(&doc).unwrap();
        let answer = crate::reasoning::diagnose(&case, builtin(), None);
        let p = plan_for_symptom(&case, "S1", &answer.symptoms[0].ranked).unwrap();
        assert!(p.runs.len() <= 2 && p.runs.iter().all(|r| r.from.get() == 70.0 && r.to.get() == 110.0));
        assert!(!p.runs.is_empty() && !p.never.is_empty());
        assert!(plan_for_symptom(&case, "S9", &answer.symptoms[0].ranked).is_none());
        assert!(plan_for_symptom(&case, "S1", &[]).is_none());
    }

    #[test]
    fn what_no_run_separates_is_said_with_the_test_that_does() {
        let input = json!({"vehicle": rear_drive(2), "speeds_kmh": {"from": 50, "to": 110}, "gears": ["4", "5"], "turns": 32});
        let p = separability(&serde_json::from_value(input).unwrap()).unwrap();
        let never = p.never_words(&rear_drive(2), |t| t.to_string());
        assert!(never.iter().any(|n| n.contains("from one another; do: wheel-swap-retest")), "{never:?}");
    }
}
