//! The fields of a symptom: as they are told first, and as they stand.

use crate::stations::form::FormFields;
use crate::wording::kind_words;
use baricord_core::case::{Case, SpeedRange, Symptom, intake};
use baricord_core::edit::act::NewSymptom;
use baricord_core::error::Problem;
use baricord_core::reasoning::availability::{has, tries_on};
use baricord_core::reasoning::knowledge::{FELT, HEARD_FROM, HISTORY, KINDS, builtin};
use baricord_core::units::Unit;

/// A choice: id, words, whether it stands.
pub type Pick = (&'static str, String, bool);

/// The fields, filled with what stands.
pub struct SymptomForm {
    pub kinds: Vec<Pick>,
    pub felt: Vec<Pick>,
    pub heard: Vec<Pick>,
    pub history: Vec<Pick>,
    /// When it comes: id and words, where this vehicle can have it.
    pub when: Vec<(&'static str, &'static str)>,
    pub words: String,
    pub since: String,
    pub from: String,
    pub peak: String,
    pub to: String,
    pub intermittent: bool,
}

/// Where a symptom is heard from, in words.
pub fn heard_words(h: &str) -> String {
    match h {
        "fl" => "front left".into(),
        "fr" => "front right".into(),
        "rl" => "rear left".into(),
        "rr" => "rear right".into(),
        "unknown" => "can't tell".into(),
        other => other.into(),
    }
}

/// Whether a vehicle has what a test needs.
fn can_be(case: &Case, test: &str) -> bool {
    builtin().test(test).is_some_and(|t| !tries_on(&case.vehicle, t).is_empty() && t.needs.iter().all(|n| has(&case.vehicle, *n)))
}

impl SymptomForm {
    /// Of a symptom, or of none yet.
    pub fn of(s: Option<&Symptom>, case: &Case) -> Self {
        let pick = |id: &&'static str, words: String, is: bool| (*id, words, is);
        let number = |x: Option<f64>| x.map_or(String::new(), |x| x.to_string());
        let speed = s.and_then(|s| s.speed_kmh);
        Self {
            kinds: KINDS.iter().map(|k| pick(k, kind_words(k), s.is_some_and(|s| s.kind == *k))).collect(),
            felt: FELT.iter().map(|k| pick(k, kind_words(k), s.is_some_and(|s| s.felt.iter().any(|f| f == k)))).collect(),
            heard: HEARD_FROM
                .iter()
                .map(|k| pick(k, heard_words(k), s.is_some_and(|s| s.heard_from.as_deref() == Some(k))))
                .collect(),
            history: HISTORY.iter().map(|h| pick(h, kind_words(h), case.history.iter().any(|x| x == h))).collect(),
            when: intake::whens()
                .iter()
                .filter(|w| w.shows.as_ref().is_none_or(|(test, _)| can_be(case, test)))
                .map(|w| (w.id.as_str(), w.words.as_str()))
                .collect(),
            words: s.map_or(String::new(), |s| s.words.clone()),
            since: s.and_then(|s| s.since.clone()).unwrap_or_default(),
            from: number(speed.and_then(|r| r.from)),
            peak: number(speed.and_then(|r| r.peak)),
            to: number(speed.and_then(|r| r.to)),
            intermittent: s.is_some_and(Symptom::is_intermittent),
        }
    }
}

/// A symptom as the form has it.
pub fn symptom_of(f: &FormFields) -> Result<NewSymptom, Problem> {
    let speed = SpeedRange {
        from: f.amount("from", Unit::KilometrePerHour)?,
        peak: f.amount("peak", Unit::KilometrePerHour)?,
        to: f.amount("to", Unit::KilometrePerHour)?,
    };
    Ok(NewSymptom {
        kind: f.need("kind", "what it is")?.into(),
        felt: f.all("felt"),
        heard_from: f.owned("heard_from"),
        speed_kmh: Some(speed),
        words: f.owned("words").unwrap_or_default(),
        since: f.owned("since"),
        intermittent: f.text("intermittent").is_some(),
        when: f.all("when"),
        history: f.all("history"),
        no_other_work: f.text("no-other-work").is_some(),
    })
}
