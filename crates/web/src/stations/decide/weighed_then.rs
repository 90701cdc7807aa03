//! What a decision rested on, where today's knowledge would weigh the same case otherwise: both side by side.

use crate::error::PageError;
use crate::page::LoadedCase;
use crate::wording::cause_words;
use baricord_core::reasoning::wording::percent_words;
use baricord_core::workflow::assessment::Assessment;
use baricord_store::Scope;

/// Causes that are shown of each weighing.
const SHOWN: usize = 3;

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

/// Decisions on the page's symptom that today's knowledge would weigh otherwise.
pub(super) async fn weighed_then(s: &mut Scope, k: &LoadedCase) -> Result<Vec<WeighedThenView>, PageError> {
    let Some(symptom) = k.symptom.clone() else { return Ok(vec![]) };
    let words = |a: &Assessment| {
        let line = |(fault, at, p)| (cause_words(&k.knowledge, k.case(), fault, at, None), percent_words(p));
        a.likeliest(&symptom).take(SHOWN).map(line).collect()
    };
    let mut out = vec![];
    for w in s.weighed_then(k).await? {
        if w.then.says_otherwise(&w.today, &symptom) {
            let on = w.at_time.get(..10).unwrap_or(&w.at_time).to_string();
            out.push(WeighedThenView { what: w.what, person: w.person, on, then: words(&w.then), today: words(&w.today) });
        }
    }
    Ok(out)
}
