//! What is bought for a repair: the qualities in which its parts come, and a choice as it is put into a case.

use crate::case::entries::append;
use crate::case::fault_at::FaultAt;
use crate::error::Problem;
use crate::reasoning::knowledge::{Knowledge, PartOption};
use crate::reasoning::wording::pair_words;
use crate::vehicle::Vehicle;
use serde::Serialize;
use serde_json::{Value, json};

/// A way to buy what a cause needs, in the workshop's money.
#[derive(Clone, Debug, Serialize)]
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
#[derive(Clone, Debug, Default, PartialEq)]
pub struct ChosenRepair {
    /// Id of a fault of the knowledge: `joint-worn`.
    pub fault: String,
    /// Where.
    pub at: Option<String>,
    /// In which gear.
    pub gear: Option<String>,
    /// The other one of a pair.
    pub with: Vec<FaultAt>,
    /// The way to buy it, by its id.
    pub part: Option<String>,
    /// Which symptom it is meant to cure.
    pub symptom: Option<String>,
    /// Why it is ordered, where that was asked.
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

    /// As it stands in a case file without what is planned with it.
    fn entry(&self) -> Value {
        let more = [("gear", &self.gear), ("part", &self.part), ("symptom", &self.symptom), ("reason", &self.reason)];
        let mut r = json!({"fault": self.fault, "at": self.at});
        for (key, value) in more.into_iter().filter_map(|(key, v)| v.as_deref().map(|v| (key, v))) {
            r[key] = value.into();
        }
        // A complete unit is an original with more around it.
        if self.part.as_deref() == Some("unit") {
            (r["part"], r["unit"]) = ("original".into(), true.into());
        }
        r
    }

    /// Puts its repair into a case's document. The other place of the same fault is a further place of it; another fault, and
    /// what was changed as due before the same drive, is changed with it.
    pub fn plan(&self, document: &mut Value) {
        let mut r = self.entry();
        let places: Vec<&str> = self.with.iter().filter(|w| w.fault == self.fault).map(|w| w.at.as_str()).collect();
        let others = self.with.iter().filter(|w| w.fault != self.fault).map(FaultAt::id);
        let with: Vec<String> = others.chain(due_unaccounted(document)).collect();
        if !places.is_empty() {
            r["places"] = json!(places);
        }
        if !with.is_empty() {
            r["with"] = json!(with);
        }
        append(document, "repairs", r);
    }

    /// Puts it into a case's document as changed because it was due, which names no cause.
    pub fn change_as_due(&self, document: &mut Value) {
        append(document, "due", self.entry());
        for w in &self.with {
            let (fault, at) = (w.fault.clone(), Some(w.at.clone()));
            append(document, "due", Self { fault, at, gear: None, with: vec![], ..self.clone() }.entry());
        }
    }
}

/// What was changed as due and stands with no repair yet: it came before the same drive as the next one, whose cause it
/// leaves open.
fn due_unaccounted(document: &Value) -> Vec<String> {
    let list = |key: &str| document[key].as_array().into_iter().flatten();
    let named = |d: &Value| format!("{}@{}", d["fault"].as_str().unwrap_or_default(), d["at"].as_str().unwrap_or("none"));
    let accounted: Vec<&str> =
        list("repairs").filter_map(|r| r["with"].as_array()).flatten().filter_map(|w| w.as_str()).collect();
    list("due").map(named).filter(|d| !accounted.contains(&d.as_str())).collect()
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
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::front_drive;

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
            let mut document = json!({"due": [{"fault": "oil-wrong", "at": "gearbox"}]});
            c.plan(&mut document);
            document["repairs"][0].clone()
        };
        let (own, due) = ("outer-joint-worn", "oil-wrong@gearbox");
        assert_eq!(
            planned(&twins),
            json!({"fault": own, "at": "half.fl.outer", "part": "original", "places": ["half.fr.outer"], "with": [due]})
        );
        let other = pair("wheel-bearing-worn@hub.fl");
        assert_eq!(planned(&other)["with"], json!(["wheel-bearing-worn@hub.fl", due]));
        let mut document = json!({});
        twins.change_as_due(&mut document);
        assert_eq!(document["due"].as_array().unwrap().len(), 2);
        let code = |c: ChosenRepair| c.problem(builtin(), &v).map(|p| p.code);
        assert_eq!(code(pair("nothing@hub.fl")).as_deref(), Some("unknown-fault"));
        assert_eq!(code(pair("wheel-bearing-worn@hub.xx")).as_deref(), Some("unknown-place"));
        assert_eq!(code(ChosenRepair { part: Some("stolen".into()), ..twins.clone() }).as_deref(), Some("unknown-part"));
    }
}
