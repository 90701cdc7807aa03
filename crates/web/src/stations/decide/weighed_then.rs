//! What a decision rested on, where today's knowledge would weigh the same case otherwise: both side by side.

use crate::error::PageError;
use crate::page::LoadedCase;
use crate::wording::cause_words;
use baricord_core::reasoning::wording::percent_words;
use baricord_core::workflow::assessment::Assessment;
use baricord_store::Scope;

/// Causes that are shown of each weighing.
const SHOWN: usize = 3;
/// A first cause that moved by less is weighed alike.
const ALIKE: f64 = 0.05;

/// A decision with both weighings.
pub(super) struct WeighedThenView {
    pub what: String,
    pub person: String,
    /// The day.
    pub on: String,
    /// Causes with how sure, then and today.
    pub then: Vec<(String, String)>,
    pub today: Vec<(String, String)>,
}

/// The likeliest causes of a symptom: fault, place, probability.
fn first(a: &Assessment, symptom: &str) -> Vec<(String, String, f64)> {
    let of = a.diagnosis.symptoms.iter().find(|s| s.id == symptom);
    let named = of.into_iter().flat_map(|s| &s.ranked).filter(|r| r.fault != "unknown");
    named.take(SHOWN).map(|r| (r.fault.clone(), r.at.clone(), r.p)).collect()
}

/// Whether two weighings say otherwise: another cause stands first, or it is clearly more or less sure.
fn differ(then: &[(String, String, f64)], today: &[(String, String, f64)]) -> bool {
    match (then.first(), today.first()) {
        (Some(a), Some(b)) => (&a.0, &a.1) != (&b.0, &b.1) || (a.2 - b.2).abs() >= ALIKE,
        (None, None) => false,
        _ => true,
    }
}

/// Decisions on the page's symptom that today's knowledge would weigh otherwise.
pub(super) async fn weighed_then(s: &mut Scope, k: &LoadedCase) -> Result<Vec<WeighedThenView>, PageError> {
    let Some(symptom) = k.symptom.clone() else { return Ok(vec![]) };
    let words = |all: Vec<(String, String, f64)>| {
        let line =
            |(fault, at, p): (String, String, f64)| (cause_words(&k.knowledge, k.case(), &fault, &at, None), percent_words(p));
        all.into_iter().map(line).collect()
    };
    let mut out = vec![];
    for w in s.weighed_then(k).await? {
        let (then, today) = (first(&w.then, &symptom), first(&w.today, &symptom));
        if differ(&then, &today) {
            let on = w.at_time.get(..10).unwrap_or(&w.at_time).to_string();
            out.push(WeighedThenView { what: w.what, person: w.person, on, then: words(then), today: words(today) });
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weighings_differ_by_their_first_cause_or_clearly_by_how_sure() {
        let one = |fault: &str, p: f64| vec![(fault.to_string(), "prop.rear.j1".to_string(), p)];
        assert!(!differ(&one("joint-worn", 0.60), &one("joint-worn", 0.63)));
        assert!(
            differ(&one("joint-worn", 0.60), &one("joint-worn", 0.70)) && differ(&one("joint-worn", 0.6), &one("slip-dry", 0.6))
        );
        assert!(differ(&one("joint-worn", 0.6), &[]) && !differ(&[], &[]));
    }
}
