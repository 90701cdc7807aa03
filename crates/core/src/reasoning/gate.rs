//! The gate before parts: what ordering a cause's part now would cost against testing first, in what qualities it
//! comes, and when a reason is asked.

use super::course::{AHEAD, Play};
use super::knowledge::Knowledge;
use super::likelihood::Model;
use super::next::{NextTest, laid_out, next_tests};
use super::policy::Move;
use super::units::{unit_of_hypothesis, units};
use super::{Place, weigh};
use crate::analysis::Analysis;
use crate::case::Case;
use serde::Serialize;

/// A way to buy what a cause needs, in the workshop's money.
#[derive(Clone, Debug, Serialize)]
pub struct Buying {
    /// What stands in the case as the repair's part.
    pub id: String,
    /// In words.
    pub words: String,
    /// The parts.
    pub price: f64,
    /// The work, minutes.
    pub minutes: f64,
    /// Parts and work.
    pub total: f64,
    /// How long it usually lasts, years.
    pub years: f64,
    /// Parts and work for each year, with what is done again where it fails.
    pub per_year: f64,
    /// Share that fails within a year.
    pub fails: f64,
    /// The risk in words.
    pub risk: String,
}

/// Why a reason is asked before parts are ordered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Asked {
    /// The cause is less sure than the workshop wants it.
    BelowCertainty,
    /// A cheap test that parts it from the others is still open.
    PartingTest,
}

/// One cause at the gate.
#[derive(Clone, Debug, Serialize)]
pub struct Gate {
    /// The fault.
    pub fault: String,
    /// Where.
    pub at: String,
    /// In which gear.
    pub gear: Option<String>,
    /// The other one of a pair.
    pub with: Vec<Place>,
    /// How sure that it is there, alone or as one of a pair.
    pub p: f64,
    /// How sure that the cause is in the unit that it is bought as.
    pub unit_p: f64,
    /// Why a reason is asked; nothing where the way is free.
    pub asked: Vec<Asked>,
    /// What it costs on average until the vehicle is cured when this part is ordered now.
    pub order_now: f64,
    /// The ways to buy it, the least a year first.
    pub options: Vec<Buying>,
}

/// All causes at the gate.
#[derive(Clone, Debug, Serialize)]
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

impl Gates {
    /// Why a reason is asked of a cause. What is so unlikely that it is not at the gate is below every line.
    /// A complete unit is asked about by how sure it is that the cause is in it.
    pub fn asked_of(&self, fault: &str, at: Option<&str>, gear: Option<&str>, part: Option<&str>) -> Vec<Asked> {
        let same = |c: &&Gate| c.fault == fault && Some(c.at.as_str()) == at && (c.gear.is_none() || c.gear.as_deref() == gear);
        let Some(c) = self.causes.iter().find(same) else { return vec![Asked::BelowCertainty] };
        let unit_is_sure = part == Some("unit") && c.unit_p >= self.certainty;
        c.asked.iter().copied().filter(|a| !(unit_is_sure && *a == Asked::BelowCertainty)).collect()
    }
}

/// What was changed as due and stands with no repair yet: it came before the same drive as the next one, whose cause it
/// leaves open.
pub fn due_untold(document: &serde_json::Value) -> Vec<String> {
    let list = |key: &str| document[key].as_array().into_iter().flatten();
    let named =
        |d: &serde_json::Value| format!("{}@{}", d["fault"].as_str().unwrap_or_default(), d["at"].as_str().unwrap_or("none"));
    let told: Vec<&str> = list("repairs").filter_map(|r| r["with"].as_array()).flatten().filter_map(|w| w.as_str()).collect();
    list("due").map(named).filter(|d| !told.contains(&d.as_str())).collect()
}

/// What a cause's part costs in each quality.
fn options(k: &Knowledge, fault: &str) -> Vec<Buying> {
    let Some(f) = k.fault(fault) else { return vec![] };
    let hour = k.weights.time.rate / 60.0;
    let mut out: Vec<Buying> = k
        .part(f)
        .into_iter()
        .flat_map(|p| &p.option)
        .map(|o| {
            let (price, minutes) = (o.price * f.price, o.hours * f.minutes);
            let total = price + minutes * hour;
            Buying {
                id: o.id.clone(),
                words: o.words.clone(),
                price,
                minutes,
                total,
                years: o.years,
                // What fails within the year is done once more.
                per_year: total * (1.0 + o.fails) / o.years,
                fails: o.fails,
                risk: o.risk.clone(),
            }
        })
        .collect();
    out.sort_by(|a, b| a.per_year.total_cmp(&b.per_year));
    out
}

/// The likeliest causes of a symptom at the gate.
pub fn gates(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>, most: usize) -> Gates {
    let w = weigh(case, k, symptom, analysis, &mut vec![]);
    let kind = case.symptom(symptom).map_or("", |s| super::usual_kind(&s.kind));
    let model = Model::new(&case.vehicle, k, &w.all, kind);
    let laid = laid_out(case, &model, symptom, &w);
    let play = Play::new(case, k, &w, &laid);
    let (rules, start) = (&k.weights.gate, play.game.start());
    let ahead = play.look_ahead(k, &start);
    let first = ahead.first;
    let enough = !matches!(first, Some(Move::Test(_)));
    let open = super::next::entropy(&w.p);
    let cheap = |t: &NextTest| t.minutes <= rules.parting_minutes && t.bits >= rules.parting_share * open;
    // Where acting beats testing nothing is asked first, and what is all but sure needs no separating.
    let parting = next_tests(&w, &laid).into_iter().find(|t| !enough && open > 0.5 && cheap(t));
    let by_unit = units(k, &w.all, &w.p);
    let causes = play
        .causes
        .iter()
        .take(most)
        .enumerate()
        .map(|(cause, of)| {
            let (h, with) = w.leading(of[0]);
            // Alone, in any of its gears, or as one of a pair.
            let holds = |i: &usize| of.contains(i) || w.all[*i].pair.is_some_and(|m| m.iter().any(|j| of.contains(j)));
            let p: f64 = (0..w.all.len()).filter(holds).map(|i| w.p[i]).sum();
            let unit = unit_of_hypothesis(k, &w.all[of[0]]);
            let unit_p = unit.and_then(|u| by_unit.iter().find(|x| x.unit == u)).map_or(p, |u| u.p);
            let mut asked = vec![];
            let planned = enough && first == Some(Move::Replace(cause));
            if p < rules.certainty && !planned {
                asked.push(Asked::BelowCertainty);
            }
            if parting.is_some() {
                asked.push(Asked::PartingTest);
            }
            Gate {
                fault: h.fault.clone(),
                at: h.at.clone(),
                gear: h.gear.clone().filter(|_| of.len() == 1),
                with,
                p,
                unit_p,
                asked,
                order_now: play.game.course(&start, Move::Replace(cause), AHEAD - 1) - play.last_repair,
                options: options(k, &h.fault),
            }
        })
        .collect();
    let test_first = ahead.test_first.map(|cost| cost - play.last_repair);
    Gates { causes, test_first, parting, certainty: rules.certainty, enough }
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::*;
    use crate::vehicle::sample::*;
    use serde_json::json;

    fn case(more: serde_json::Value) -> Case {
        let mut doc = Case::new_document("t", "t", json!(front_drive()));
        doc["symptoms"] = json!([{"id": "S1", "kind": "click-repeating"}]);
        for (k, x) in more.as_object().unwrap() {
            doc[k] = x.clone();
        }
        Case::from_json(&doc).unwrap()
    }

    #[test]
    fn a_hunch_is_asked_for_its_reason_and_costs_more_than_testing() {
        let g = gates(&case(json!({})), builtin(), "S1", None, 6);
        assert!(
            g.parting.is_some() && g.causes[0].asked == [Asked::BelowCertainty, Asked::PartingTest],
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
    fn the_ways_to_buy_stand_side_by_side_by_what_a_year_costs() {
        let o = options(builtin(), "outer-joint-worn");
        assert!(o.len() >= 4 && o.windows(2).all(|w| w[0].per_year <= w[1].per_year));
        let original = o.iter().find(|x| x.id == "original").unwrap();
        let f = builtin().fault("outer-joint-worn").unwrap();
        assert_eq!((original.price, original.minutes), (f.price, f.minutes));
        assert!((original.total - (f.price + f.minutes)).abs() < 1e-9);
    }
}
