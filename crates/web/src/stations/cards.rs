//! A proposed test as a card: what to do, how, what each outcome would do, and what is looked at while it is open.

use crate::page::{Known, ask_words, cause_words};
use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::Test;
use baricord_core::reasoning::opened::{Opened, while_open};
use baricord_core::reasoning::{RECORDED, beliefs, hypotheses, moved};
use baricord_core::road_coach::Leg;

/// One outcome to tap.
pub struct OutcomeButton {
    pub id: String,
    pub words: String,
    /// What it would do.
    pub then: String,
}

/// A proposed test.
pub struct TestCard {
    pub number: usize,
    pub test: String,
    pub at: String,
    pub gear: String,
    pub ask: String,
    pub how: String,
    pub minutes: String,
    pub settles: String,
    pub cautions: Vec<String>,
    pub outcomes: Vec<OutcomeButton>,
    /// What else can be true at once: id and words.
    pub also: Vec<(String, String)>,
    /// Wheels turn under power: what must be seen to first.
    pub acknowledge: bool,
    /// A page where numbers are read instead.
    pub read_at: String,
    /// Where it is recorded: the runs to drive.
    pub runs: Vec<String>,
    /// What is looked at for little while it is open.
    pub looks: Vec<String>,
}

/// The button of an outcome; of a test that names a place one for each place, with what that place would do.
pub fn button(case: &Case, t: &Test, outcome: &str, place: Option<&str>, then: String) -> Option<OutcomeButton> {
    let rule = t.outcome(outcome)?;
    Some(match place {
        None => OutcomeButton { id: rule.id.clone(), words: rule.words.clone(), then },
        Some(p) => OutcomeButton {
            id: format!("{}@{p}", rule.id),
            words: format!("{}: {}", rule.words, case.vehicle.place_words(p)),
            then,
        },
    })
}

/// What else can be true at once with an outcome, of a test that allows it.
pub fn also_of(t: &Test) -> Vec<(String, String)> {
    let more = t.outcomes.iter().filter(|o| t.several && o.id != t.innocent().id);
    more.map(|o| (o.id.clone(), o.words.clone())).collect()
}

/// What is looked at for little while something is open, in words. `but` is the test that opens it.
pub fn looks(k: &Known, opened: &Opened, but: Option<&str>) -> Vec<String> {
    let (kb, case) = (&*k.knowledge, k.case());
    let Some(symptom) = k.symptom.as_deref().filter(|_| !opened.is_empty()) else { return vec![] };
    let p = beliefs(case, kb, symptom, k.analysis.as_ref());
    while_open(case, kb, symptom, &p, opened, but)
        .into_iter()
        .map(|l| {
            let places: Vec<String> = l.at.iter().map(|a| case.vehicle.place_words(a)).collect();
            let each = if places.len() > 1 { " each" } else { "" };
            format!("{}: {} ({:.0} min{each})", kb.test(&l.test).map_or("", |t| &t.ask), places.join(", "), l.minutes)
        })
        .collect()
}

/// What is looked at for little once a test has opened something, in words.
pub fn looks_after(k: &Known, t: &Test, at: Option<&str>) -> Vec<String> {
    let v = &k.case().vehicle;
    let at = at.and_then(|a| v.place(a));
    looks(k, &Opened::by_test(v, t, at.as_ref()), Some(&t.id))
}

/// What is looked at for little while a repair at a place is made, in words.
pub fn looks_at_repair(k: &Known, fault: &str, at: Option<&str>) -> Vec<String> {
    let v = &k.case().vehicle;
    match (k.knowledge.fault(fault), at.and_then(|a| v.place(a))) {
        (Some(f), Some(at)) => looks(k, &Opened::by_repair(v, f, &at), None),
        _ => vec![],
    }
}

/// What an outcome would do to what is believed, in words: the cause that gains most, and how the first falls.
pub fn falls_and_rises(k: &Known, p: &[f64], row: &[f64]) -> String {
    let (kb, case) = (&*k.knowledge, k.case());
    let all = hypotheses(&case.vehicle, kb);
    let m = moved(p, row);
    let name = |i: usize| cause_words(kb, case, &all[i].fault, &all[i].at, all[i].gear.as_deref());
    told_change(m.gain, || name(m.rises.0), m.rises.1, (p[m.now.0], m.now.1))
}

/// A rise and a fall in words.
fn told_change(gain: f64, name: impl Fn() -> String, to: f64, (from, then): (f64, f64)) -> String {
    let rises = (gain > 0.05).then(|| format!("{} rises to {:.0} %", name(), to * 100.0));
    let falls = (from - then > 0.04).then(|| format!("the first falls from {:.0} to {:.0} %", from * 100.0, then * 100.0));
    match (rises, falls) {
        (Some(r), Some(f)) => format!("{r}; {f}"),
        (Some(one), None) | (None, Some(one)) => one,
        (None, None) => "changes little".into(),
    }
}

/// How much of what is open a test answers, in words.
pub fn answers_share(bits: f64, open: f64) -> String {
    format!("{:.0} % of what is open", (100.0 * bits / open.max(1e-9)).min(100.0))
}

/// Cards for the proposed tests of a case.
pub fn cards(k: &Known, wanted: impl Fn(&Test) -> bool, most: usize) -> Vec<TestCard> {
    let (kb, case) = (&*k.knowledge, k.case());
    let Some(a) = k.answer() else { return vec![] };
    a.next
        .iter()
        .filter_map(|n| kb.test(&n.test).map(|t| (n, t)))
        .filter(|(_, t)| wanted(t))
        .take(most)
        .enumerate()
        .map(|(i, (n, t))| {
            let first = a.ranked.first();
            let outcomes = n
                .outcomes
                .iter()
                .filter_map(|o| {
                    let name = || cause_words(kb, case, &o.rises, &o.rises_at, None);
                    let then = told_change(o.gain, name, o.rises_to, (first.map_or(0.0, |f| f.p), o.first_then));
                    button(case, t, &o.outcome, o.place.as_deref(), then)
                })
                .collect();
            let read_at = match t.id.as_str() {
                "runout-survey" => {
                    format!("/cases/{}/measure?tool=runout&at={}.centre", k.stored.id, n.at.clone().unwrap_or_default())
                }
                "half-shaft-runout" => {
                    format!("/cases/{}/measure?tool=runout&at={}", k.stored.id, n.at.clone().unwrap_or_default())
                }
                "angle-survey" => format!("/cases/{}/measure?tool=angles&at={}", k.stored.id, n.at.clone().unwrap_or_default()),
                RECORDED => format!("/cases/{}/road", k.stored.id),
                _ => String::new(),
            };
            TestCard {
                number: i + 1,
                test: t.id.clone(),
                at: n.at.clone().unwrap_or_default(),
                gear: n.gear.clone().unwrap_or_default(),
                ask: ask_words(kb, case, &t.id, n.at.as_deref(), n.gear.as_deref()),
                how: t.how.clone(),
                minutes: format!("{:.0}", n.minutes),
                settles: answers_share(n.bits, a.open_bits),
                cautions: t.caution.iter().filter_map(|c| kb.caution(c)).map(String::from).collect(),
                acknowledge: t.wheels,
                outcomes,
                also: also_of(t),
                read_at,
                runs: n.runs.iter().map(Leg::words).collect(),
                looks: looks_after(k, t, n.at.as_deref()),
            }
        })
        .collect()
}
