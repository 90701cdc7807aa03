//! The gate before parts: what ordering a cause's part now would cost against testing first, and when a reason is asked. In what
//! qualities a part comes, and what becomes of a choice, is [`crate::repair::purchasing`].

use super::decision_problem::Action;
use super::knowledge::Knowledge;
use super::open_symptom::OpenSymptom;
use super::plan::MOVES_AHEAD;
use super::test_selection::{NextTest, next_tests};
use super::units::{unit_of_hypothesis, units};
use super::wording::test_words;
use crate::analysis::Analysis;
use crate::case::Case;
use crate::case::fault_at::FaultAt;
use crate::repair::purchasing::{ChosenRepair, PurchaseOption, options};
use crate::vehicle::Vehicle;
use serde::{Deserialize, Serialize};

/// Why a reason is asked before parts are ordered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ReasonAsked {
    /// The cause is less sure than the workshop wants it.
    BelowCertainty,
    /// A cheap test that parts it from the others is still open.
    PartingTest,
}

/// One cause at the gate.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Gate {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    pub at: String,
    /// In which gear.
    pub gear: Option<String>,
    /// The other one of a pair.
    pub with: Vec<FaultAt>,
    /// It is what the plan does next: no certainty is asked for.
    pub planned: bool,
    /// How sure that it is there, alone or as one of a pair.
    pub p: f64,
    /// How sure that the cause is in the unit that it is bought as.
    pub unit_p: f64,
    /// Why a reason is asked; nothing where the way is free.
    pub asked: Vec<ReasonAsked>,
    /// What it costs on average until the vehicle is cured when this part is ordered now.
    pub order_now: f64,
    /// The ways to buy it, the least a year first.
    pub options: Vec<PurchaseOption>,
}

/// All causes at the gate.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Gates {
    /// Likeliest first.
    pub causes: Vec<Gate>,
    /// What it costs on average when the best test comes first; none where no test is left.
    pub test_first: Option<f64>,
    /// The cheap test that is still open.
    pub parting: Option<NextTest>,
    /// From how sure on no reason is asked.
    pub certainty: f64,
    /// The plan says that acting beats testing.
    pub enough: bool,
}

impl Gate {
    /// Whether this is what was chosen.
    fn is(&self, chosen: &ChosenRepair) -> bool {
        let of_gear = self.gear.is_none() || self.gear == chosen.gear;
        self.fault == chosen.fault && Some(&self.at) == chosen.at.as_ref() && of_gear && self.with == chosen.with
    }
}

impl Gates {
    /// Why a reason is asked of a cause. What is so unlikely that it is not at the gate is below every line.
    /// A complete unit is asked about by how sure it is that the cause is in it.
    pub fn asked_of(&self, chosen: &ChosenRepair) -> Vec<ReasonAsked> {
        let Some(c) = self.causes.iter().find(|c| c.is(chosen)) else { return vec![ReasonAsked::BelowCertainty] };
        let unit_is_sure = chosen.part.as_deref() == Some("unit") && c.unit_p >= self.certainty;
        c.asked.iter().copied().filter(|a| !(unit_is_sure && *a == ReasonAsked::BelowCertainty)).collect()
    }

    /// Why a reason is asked, in words.
    pub fn asked_words(&self, k: &Knowledge, v: &Vehicle, asked: &[ReasonAsked]) -> Vec<String> {
        let words = |a: &ReasonAsked| match (a, &self.parting) {
            (ReasonAsked::PartingTest, Some(t)) => {
                let test = test_words(k, v, &t.test, t.at.as_deref(), t.gear.as_deref());
                format!("{test} is still open: {:.0} minutes", t.minutes)
            }
            _ => format!("less sure than the {:.0} % from which no reason is asked", 100.0 * self.certainty),
        };
        asked.iter().map(words).collect()
    }
}

/// The `most` likeliest causes of a symptom at the gate: what ordering each one's part now would cost until the vehicle is cured
/// against testing first (workshop money, on average), in what qualities the part comes, and why a reason is asked.
pub fn gates(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>, most: usize) -> Gates {
    OpenSymptom::with(case, k, symptom, analysis, |open| gates_of(open, most))
}

/// The same of a symptom that was weighed already.
pub(crate) fn gates_of(open: &OpenSymptom<'_>, most: usize) -> Gates {
    let (k, w, planned_case) = (open.k, open.w, open.planned());
    let (rules, start) = (&k.weights.gate, planned_case.problem.start());
    let ahead = planned_case.first_action(k);
    let first = ahead.first;
    let enough = !matches!(first, Some(Action::Test(_)));
    let open_bits = super::information::entropy(&w.p);
    let cheap = |t: &NextTest| t.minutes <= rules.parting_minutes && t.bits >= rules.parting_share * open_bits;
    // Where acting beats testing nothing is asked first, and what is all but sure needs no separating.
    let parting = next_tests(w, &open.evaluated).into_iter().find(|t| !enough && open_bits > 0.5 && cheap(t));
    let by_unit = units(k, &w.all, &w.p);
    let causes = planned_case
        .causes
        .iter()
        .take(most)
        .enumerate()
        .map(|(cause, of)| {
            let (h, with) = w.leading_cause(of[0]);
            // Alone, in any of its gears, or as one of a pair.
            let holds = |i: &usize| of.contains(i) || w.all[*i].pair.is_some_and(|m| m.iter().any(|j| of.contains(j)));
            let p: f64 = (0..w.all.len()).filter(holds).map(|i| w.p[i]).sum();
            let unit = unit_of_hypothesis(k, &w.all[of[0]]);
            let unit_p = unit.and_then(|u| by_unit.iter().find(|x| x.unit == u)).map_or(p, |u| u.p);
            let mut asked = vec![];
            let planned = enough && first == Some(Action::Replace(cause));
            if p < rules.certainty && !planned {
                asked.push(ReasonAsked::BelowCertainty);
            }
            if parting.is_some() {
                asked.push(ReasonAsked::PartingTest);
            }
            let faults: Vec<&str> = [h.fault.as_str()].into_iter().chain(with.iter().map(|w| w.fault.as_str())).collect();
            let options = options(k, &faults);
            Gate {
                fault: h.fault.clone(),
                at: h.at.clone(),
                gear: h.gear.clone().filter(|_| of.len() == 1),
                with,
                planned,
                p,
                unit_p,
                asked,
                options,
                order_now: planned_case.problem.expected_cost_after(&start, Action::Replace(cause), MOVES_AHEAD - 1)
                    - planned_case.last_repair,
            }
        })
        .collect();
    let test_first = ahead.test_first.map(|cost| cost - planned_case.last_repair);
    Gates { causes, test_first, parting, certainty: rules.certainty, enough }
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::*;
    use crate::case::sample::case_with_symptom;
    use crate::vehicle::sample::*;
    use serde_json::json;

    fn case(more: serde_json::Value) -> Case {
        case_with_symptom(front_drive(), "click-repeating", more)
    }

    #[test]
    fn a_hunch_is_asked_for_its_reason_and_costs_more_than_testing() {
        let g = gates(&case(json!({})), builtin(), "S1", None, 6);
        assert!(
            g.parting.is_some() && g.causes[0].asked == [ReasonAsked::BelowCertainty, ReasonAsked::PartingTest],
            "{:?}",
            g.causes[0].asked
        );
        assert!(g.causes.iter().all(|c| c.order_now > g.test_first.unwrap()));
    }

    #[test]
    fn what_is_sure_passes_freely() {
        let sure = json!({"observations": [{"test": "turn", "outcome": "right"}, {"test": "boot-look", "at": "half.fl.outer", "outcome": "torn"},
            {"test": "boot-look", "at": "half.fr.outer", "outcome": "sound"}, {"test": "neutral-coast", "outcome": "stops"},
            {"test": "lash-watch", "outcome": "outer-joint", "at": "half.fl.outer"}, {"test": "reverse", "outcome": "quieter"},
            {"test": "opened-look", "at": "half.fl.outer", "outcome": "pitted"}]});
        let g = gates(&case(sure), builtin(), "S1", None, 3);
        assert_eq!((g.causes[0].fault.as_str(), g.causes[0].at.as_str()), ("outer-joint-worn", "half.fl.outer"));
        assert!(g.causes[0].p > 0.9 && g.causes[0].asked.is_empty(), "{} {:?} {:?}", g.causes[0].p, g.causes[0].asked, g.parting);
    }

    #[test]
    fn a_pair_that_is_not_at_the_gate_is_below_every_line_however_sure_one_of_it_is() {
        let pair = ChosenRepair {
            fault: "outer-joint-worn".into(),
            at: Some("half.fl.outer".into()),
            with: FaultAt::parse("wheel-bearing-worn@hub.fl").into_iter().collect(),
            ..ChosenRepair::default()
        };
        let g = gates(&case(json!({})), builtin(), "S1", None, 6);
        assert_eq!(g.asked_of(&pair), [ReasonAsked::BelowCertainty]);
    }
}
