//! What the last answers did: the cause that they moved most, from what to what.

use super::knowledge::Knowledge;
use super::wording::{outcome_words, pair_words, percent_words};
use super::{Hypothesis, Weighed, beliefs, weigh};
use crate::analysis::Analysis;
use crate::case::fault_at::FaultAt;
use crate::case::{Case, NOT_POSSIBLE, Observation};
use crate::vehicle::Vehicle;
use serde::{Deserialize, Serialize};

/// A move of less is none.
const MIN_PROBABILITY_CHANGE: f64 = 0.01;

/// What an answer did to what is believed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Effect {
    /// What was answered, in words.
    pub said: String,
    /// What moved most, in words; none where nothing moved by one in a hundred.
    pub moved: Option<Moved>,
}

/// A cause that moved.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Moved {
    /// The cause that moved most, as `fault@place`.
    pub cause: String,
    /// What was believed of it before.
    pub from: f64,
    /// What is believed of it now.
    pub to: f64,
}

impl Effect {
    /// What moved most, in words: “tyre noise 41 %, from 22 %”; none where nothing did.
    pub fn moved_words(&self) -> Option<String> {
        self.moved.as_ref().map(|m| format!("{} {}, from {}", m.cause, percent_words(m.to), percent_words(m.from)))
    }

    /// In a sentence: “Spin the wheel by hand, front left hub and front right hub: smooth. Tyre noise 41 %, from 22 %”.
    pub fn words(&self) -> String {
        format!("{}: {}", self.said, self.moved_words().unwrap_or_else(|| "moves nothing".into()))
    }
}

/// The hypotheses of each fault.
fn groups(all: &[Hypothesis]) -> Vec<(String, Vec<usize>)> {
    let mut out: Vec<(String, Vec<usize>)> = vec![];
    for (i, h) in all.iter().enumerate().filter(|(_, h)| !h.is_unknown()) {
        match out.iter_mut().find(|g| g.0 == h.fault) {
            Some(g) => g.1.push(i),
            None => out.push((h.fault.clone(), vec![i])),
        }
    }
    out
}

/// What `after` knows more than `before` did to a symptom, where both are one vehicle's case; `said` is what was answered.
pub fn effect_of(before: &Case, after: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>, said: String) -> Effect {
    let was = beliefs(before, k, symptom, analysis);
    effect_between(&after.vehicle, k, &was, &weigh(after, k, symptom, analysis, &mut vec![]), said)
}

/// The same, from what was believed before and what is after.
fn effect_between(v: &Vehicle, k: &Knowledge, was: &[f64], after: &Weighed, said: String) -> Effect {
    let (all, is) = (&after.all, &after.p);
    if was.len() != is.len() {
        return Effect { said, moved: None };
    }
    let sum = |p: &[f64], of: &[usize]| of.iter().map(|&i| p[i]).sum::<f64>();
    // A fault at all its places together, and at each of them: what moved more tells more.
    let candidates = groups(all).into_iter().flat_map(|(fault, of)| {
        let whole = (k.fault(&fault).map_or(fault, |f| f.name.clone()), sum(was, &of), sum(is, &of));
        let places = of.iter().map(|&i| {
            let h = &all[i];
            // As the ledger counts: one fault alone, and a pair as the pair.
            let with: Vec<FaultAt> = h.pair.iter().map(|m| FaultAt::new(&all[m[1]].fault, &all[m[1]].at)).collect();
            let words = pair_words(k, v, &h.fault, &h.at, h.gear.as_deref(), &with);
            let same = |j: usize| all[j].at == h.at && all[j].gear == h.gear && all[j].pair == h.pair;
            let there: Vec<usize> = of.iter().copied().filter(|&j| same(j)).collect();
            (words, sum(was, &there), sum(is, &there))
        });
        std::iter::once(whole).filter(|_| of.len() > 1).chain(places).collect::<Vec<_>>()
    });
    let moved = candidates
        // What rises is what one asks about; what falls is shown where nothing rises.
        .filter(|(_, from, to)| (to - from).abs() >= MIN_PROBABILITY_CHANGE)
        .max_by(|a, b| {
            let worth = |m: &(String, f64, f64)| (m.2 - m.1).abs() * if m.2 > m.1 { 1.2 } else { 1.0 };
            worth(a).total_cmp(&worth(b))
        })
        .map(|(cause, from, to)| Moved { cause, from, to });
    Effect { said, moved }
}

/// The last answers of a case: those at the end of its list to the same test with the same outcome.
fn last_answers(case: &Case) -> Vec<&Observation> {
    let all = &case.observations;
    let Some(last) = all.last() else { return vec![] };
    let same = all.iter().rev().take_while(|o| o.test == last.test && o.outcome == last.outcome && o.phase == last.phase).count();
    all.iter().skip(all.len() - same).collect()
}

/// What the last answers of a case did to a symptom: those at the end of its list that say the same of one test. None where
/// nothing was answered, or the answer was that it cannot be made.
pub fn last_effect(case: &Case, k: &Knowledge, symptom: &str, analysis: Option<&Analysis>) -> Option<Effect> {
    last_effect_of(case, k, symptom, analysis, &weigh(case, k, symptom, analysis, &mut vec![]))
}

/// The same of a symptom that was weighed already.
pub(crate) fn last_effect_of(
    case: &Case,
    k: &Knowledge,
    symptom: &str,
    analysis: Option<&Analysis>,
    w: &Weighed,
) -> Option<Effect> {
    let last = last_answers(case);
    let o = last.first().filter(|o| o.outcome != NOT_POSSIBLE)?;
    let mut before = case.clone();
    before.observations.truncate(case.observations.len() - last.len());
    let ask = k.test(&o.test).map_or(o.test.clone(), |t| t.ask.clone());
    let names_place = k.test(&o.test).is_some_and(|t| t.names_place);
    let places: Vec<String> = last.iter().filter_map(|o| o.at.as_deref()).map(|a| case.vehicle.place_words(a)).collect();
    let gears: Vec<String> = last.iter().filter_map(|o| o.gear.clone()).map(|g| format!("gear {g}")).collect();
    let outcome = outcome_words(k, &case.vehicle, &o.test, &o.outcome, None);
    let said = match (gears.is_empty(), places.is_empty()) {
        (false, _) => format!("{ask}, {}: {outcome}", gears.join(" and ")),
        (true, false) if names_place => format!("{ask}: {outcome}, {}", places.join(" and ")),
        (true, false) => format!("{ask}, {}: {outcome}", places.join(" and ")),
        (true, true) => format!("{ask}: {outcome}"),
    };
    Some(effect_between(&case.vehicle, k, &beliefs(&before, k, symptom, analysis), w, said))
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::*;
    use crate::case::sample::case_with_symptom;
    use crate::vehicle::sample::*;
    use serde_json::{Value, json};

    fn case(observations: Value) -> Case {
        case_with_symptom(front_drive(), "growl", json!({"observations": observations}))
    }

    #[test]
    fn an_answer_says_what_it_moved_and_from_where() {
        let rough = case(json!([{"test": "spin-by-hand", "at": "hub.fl", "outcome": "rough"}]));
        let e = last_effect(&rough, builtin(), "S1", None).unwrap();
        let m = e.moved.clone().unwrap();
        assert!(m.cause.contains("front left") && m.to > m.from + 0.2, "{e:?}");
        assert!(e.words().starts_with("Spin the wheel by hand, front left hub: rough: wheel bearing worn"), "{}", e.words());
        // Its figure is that of the ledger.
        let d = super::super::diagnose(&rough, builtin(), None);
        let words = |r: &super::super::Ranked| super::super::wording::ranked_words(builtin(), &rough.vehicle, r);
        let ranked = d.symptoms[0].ranked.iter().find(|r| words(r) == m.cause).unwrap();
        assert!((ranked.p - m.to).abs() < 1e-9, "{} and {}", ranked.p, m.to);
    }

    #[test]
    fn the_same_answer_at_two_places_is_one() {
        let smooth = |at: &str| json!({"test": "spin-by-hand", "at": at, "outcome": "smooth"});
        let both = case(json!([smooth("hub.fl"), smooth("hub.fr")]));
        let e = last_effect(&both, builtin(), "S1", None).unwrap();
        assert!(e.said.contains("front left hub and front right hub"), "{}", e.said);
        let m = e.moved.unwrap();
        assert!(m.from != m.to);
        // From what was believed before both, not before the second.
        let first = last_effect(&case(json!([smooth("hub.fl")])), builtin(), "S1", None).unwrap().moved.unwrap();
        assert!((m.to - m.from).abs() > (first.to - first.from).abs());
    }

    #[test]
    fn what_cannot_be_made_did_nothing_and_neither_did_nothing() {
        assert_eq!(last_effect(&case(json!([])), builtin(), "S1", None), None);
        let not = case(json!([{"test": "neutral-coast", "outcome": "not-possible"}]));
        assert_eq!(last_effect(&not, builtin(), "S1", None), None);
    }
}
