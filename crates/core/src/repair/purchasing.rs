//! What is bought for a repair: the qualities in which its parts come, and a choice as it is put into a case.

use crate::case::fault_at::FaultAt;
use crate::case::{AlsoChanged, Case, Due, Repair};
use crate::error::Problem;
use crate::reasoning::knowledge::{Knowledge, PartOption};
use crate::reasoning::wording::pair_words;
use crate::vehicle::Vehicle;
use serde::{Deserialize, Serialize};

/// A way to buy what a cause needs, in the workshop's money.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct PurchaseOption {
    /// What stands in the case as the repair's part.
    pub id: String,
    /// As people read it.
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

/// What is chosen at the gate: one cause, or both of a pair.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct ChosenRepair {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// The other one of a pair.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<FaultAt>,
    /// The way to buy it, by its id.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// Which symptom it is meant to cure.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// Why it is ordered, where that was asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

impl ChosenRepair {
    /// What is wrong with it: a fault, a place or a way to buy it that is not there; none when all is.
    pub fn problem(&self, k: &Knowledge, v: &Vehicle) -> Option<Problem> {
        let faults = || [self.fault.as_str()].into_iter().chain(self.with.iter().map(|w| w.fault.as_str()));
        let mut places = self.at.iter().filter(|at| *at != "none").chain(self.with.iter().map(|w| &w.at));
        if let Some(fault) = faults().find(|f| k.fault(f).is_none()) {
            return Some(Problem::new("unknown-fault", format!("no fault “{fault}”")).field("fault"));
        }
        if let Some(at) = places.find(|at| v.place(at).is_none()) {
            return Some(Problem::new("unknown-place", format!("this vehicle has no place “{at}”")).field("at"));
        }
        let part = self.part.as_deref()?;
        let is_sold = options(k, &faults().collect::<Vec<_>>()).iter().any(|o| o.id == part);
        (!is_sold).then(|| Problem::new("unknown-part", format!("“{part}” is no way to buy it")).field("part"))
    }

    /// In words, both of a pair.
    pub fn words(&self, k: &Knowledge, v: &Vehicle) -> String {
        pair_words(k, v, &self.fault, self.at.as_deref().unwrap_or("none"), self.gear.as_deref(), &self.with)
    }

    /// Its part as it stands in a case: a complete unit is an original with more around it.
    fn part_and_unit(&self) -> (Option<String>, bool) {
        match self.part.as_deref() {
            Some("unit") => (Some("original".into()), true),
            part => (part.map(String::from), false),
        }
    }

    /// Puts its repair into a case under an id. The other place of the same fault is a further place of it; another fault, and what
    /// was changed as due before the same drive, is changed with it.
    pub fn plan(&self, case: &mut Case, id: &str) {
        let others = self.with.iter().filter(|w| w.fault != self.fault).map(FaultAt::id);
        let with = others.chain(due_unaccounted(case)).map(AlsoChanged::Words).collect();
        let (part, unit) = self.part_and_unit();
        case.repairs.push_back(Repair {
            id: id.into(),
            symptom: self.symptom.clone(),
            fault: self.fault.clone(),
            at: self.at.clone(),
            gear: self.gear.clone(),
            part,
            unit,
            reason: self.reason.clone(),
            other_changes: with,
            places: self.with.iter().filter(|w| w.fault == self.fault).map(|w| w.at.clone()).collect(),
            ..Repair::default()
        });
    }

    /// Puts it into a case as changed because it was due, which names no cause. A pair is two entries.
    pub fn change_as_due(&self, case: &mut Case, id: &str) {
        let (part, unit) = self.part_and_unit();
        let entry = |id: String, fault: &str, at: Option<String>, gear: Option<String>| Due {
            id,
            fault: fault.into(),
            at,
            gear,
            symptom: self.symptom.clone(),
            part: part.clone(),
            unit,
            reason: self.reason.clone(),
            ..Due::default()
        };
        case.replaced_as_due.push_back(entry(id.into(), &self.fault, self.at.clone(), self.gear.clone()));
        let more = self.with.iter().zip(2..).map(|(w, n)| entry(format!("{id}.{n}"), &w.fault, Some(w.at.clone()), None));
        case.replaced_as_due.extend(more);
    }
}

/// What was changed as due and stands with no repair yet: it came before the same drive as the next one, whose cause it
/// leaves open.
fn due_unaccounted(case: &Case) -> Vec<String> {
    let accounted: Vec<String> = case.repairs.iter().flat_map(|r| &r.other_changes).map(AlsoChanged::words).collect();
    let named = |d: &Due| FaultAt::new(&d.fault, d.at.as_deref().unwrap_or("none")).id();
    case.replaced_as_due.iter().map(named).filter(|d| !accounted.contains(d)).collect()
}

/// The ways to buy what the repair of one fault needs.
fn options_of(k: &Knowledge, fault: &str) -> Vec<PurchaseOption> {
    let Some(f) = k.fault(fault) else { return vec![] };
    let hour = k.weights.time.rate / 60.0;
    let of = |o: &PartOption| {
        let (price, minutes) = (o.price * f.price, o.hours * f.minutes);
        let total = price + minutes * hour;
        PurchaseOption {
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
    };
    k.part(f).into_iter().flat_map(|p| &p.option).map(of).collect()
}

/// What is bought for the repair of several faults at once, the least a year first: of each the same quality.
pub fn options(k: &Knowledge, faults: &[&str]) -> Vec<PurchaseOption> {
    let both = |a: Vec<PurchaseOption>, b: Vec<PurchaseOption>| -> Vec<PurchaseOption> {
        let of = |x: PurchaseOption| {
            let y = b.iter().find(|y| y.id == x.id)?;
            Some(PurchaseOption {
                price: x.price + y.price,
                minutes: x.minutes + y.minutes,
                total: x.total + y.total,
                years: x.years.min(y.years),
                per_year: x.per_year + y.per_year,
                fails: 1.0 - (1.0 - x.fails) * (1.0 - y.fails),
                ..x
            })
        };
        a.into_iter().filter_map(of).collect()
    };
    let mut out = faults.iter().map(|f| options_of(k, f)).reduce(both).unwrap_or_default();
    out.sort_by(|a, b| a.per_year.total_cmp(&b.per_year));
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::front_drive;
    use serde_json::json;

    #[test]
    fn the_ways_to_buy_stand_side_by_side_by_what_a_year_costs() {
        let o = options(builtin(), &["outer-joint-worn"]);
        assert!(o.len() >= 4 && o.windows(2).all(|w| w[0].per_year <= w[1].per_year));
        let original = o.iter().find(|x| x.id == "original").unwrap();
        let f = builtin().fault("outer-joint-worn").unwrap();
        assert_eq!((original.price, original.minutes), (f.price, f.minutes));
        assert!((original.total - (f.price + f.minutes)).abs() < 1e-9);
        // Both of a pair cost twice as much, and one of them fails nearly twice as often.
        let two = options(builtin(), &["outer-joint-worn"; 2]);
        let both = two.iter().find(|x| x.id == "original").unwrap();
        assert_eq!((both.total, both.per_year), (2.0 * original.total, 2.0 * original.per_year));
        assert!(both.fails > original.fails && both.fails < 2.0 * original.fails);
    }

    #[test]
    fn both_of_a_pair_are_planned_and_what_is_not_there_is_refused() {
        let v = front_drive();
        let pair = |with: &str| ChosenRepair {
            fault: "outer-joint-worn".into(),
            at: Some("half.fl.outer".into()),
            with: FaultAt::parse(with).into_iter().collect(),
            part: Some("original".into()),
            ..ChosenRepair::default()
        };
        let twins = pair("outer-joint-worn@half.fr.outer");
        assert_eq!(twins.problem(builtin(), &v), None);
        let planned = |c: &ChosenRepair| {
            let mut case = sample::case(front_drive(), &[json!({"due": [{"fault": "oil-wrong", "at": "gearbox"}]})]);
            c.plan(&mut case, "r1");
            json!(case.repairs[0])
        };
        let (own, due) = ("outer-joint-worn", "oil-wrong@gearbox");
        assert_eq!(
            planned(&twins),
            json!({"id": "r1", "fault": own, "at": "half.fl.outer", "part": "original", "places": ["half.fr.outer"], "with": [due]})
        );
        let other = pair("wheel-bearing-worn@hub.fl");
        assert_eq!(planned(&other)["with"], json!(["wheel-bearing-worn@hub.fl", due]));
        let mut case = sample::case(front_drive(), &[]);
        twins.change_as_due(&mut case, "e");
        assert_eq!(case.replaced_as_due.iter().map(|d| d.id.as_str()).collect::<Vec<_>>(), ["e", "e.2"]);
        let code = |c: ChosenRepair| c.problem(builtin(), &v).map(|p| p.code);
        assert_eq!(code(pair("nothing@hub.fl")).as_deref(), Some("unknown-fault"));
        assert_eq!(code(pair("wheel-bearing-worn@hub.xx")).as_deref(), Some("unknown-place"));
        assert_eq!(code(ChosenRepair { part: Some("stolen".into()), ..twins.clone() }).as_deref(), Some("unknown-part"));
    }
}
