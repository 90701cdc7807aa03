//! What repairs, attempts of others and parts changed as due say of the cause.

use super::evidence::Evidence;
use super::hypotheses::Hypothesis;
use super::likelihood::{Model, is_within};
use super::units::contains;
use crate::case::{AlsoChanged, Attempt, Case, Due, Repair};

/// A part or a unit that was renewed.
#[derive(Clone, Debug, Default, PartialEq)]
struct Renewed {
    fault: Option<String>,
    at: Option<String>,
    gear: Option<String>,
    unit: Option<String>,
}

/// `fault@place`, or an object with fault and at, or with unit.
fn named(changed: &AlsoChanged) -> Option<Renewed> {
    match changed {
        AlsoChanged::Words(s) => match s.split_once('@') {
            Some((fault, at)) => Some(Renewed { fault: Some(fault.into()), at: Some(at.into()), ..Renewed::default() }),
            None => Some(Renewed { fault: Some(s.clone()), ..Renewed::default() }),
        },
        AlsoChanged::Named(n) => {
            let of = Renewed { fault: n.fault.clone(), at: n.at.clone(), gear: n.gear.clone(), unit: n.unit.clone() };
            Some(of).filter(|r| r.fault.is_some() || r.unit.is_some())
        }
        AlsoChanged::Unread(_) => None,
    }
}

/// How far something renewed concerns a single hypothesis.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Concern {
    None,
    /// Another fault of the same part.
    SamePart,
    /// The fault itself, or all that a unit contains.
    Cleared,
}

fn concern(model: &Model, r: &Renewed, h: &Hypothesis) -> Concern {
    let Some(place) = &h.place else { return Concern::None };
    if r.unit.as_deref().is_some_and(|u| contains(u, place)) {
        return Concern::Cleared;
    }
    let here = r.at.as_deref().is_none_or(|a| a == h.at);
    let of_gear = r.gear.as_deref().is_none_or(|g| h.gear.as_deref().is_none_or(|x| x == g));
    if r.fault.as_deref() == Some(h.fault.as_str()) && here && of_gear {
        return Concern::Cleared;
    }
    // A part that is renewed at its place takes with it whatever that part had.
    let renewed = |fault: &str| {
        model.k.fault(fault).is_some_and(|f| matches!(f.part.as_str(), "bearing" | "joint" | "shaft" | "unit" | "gear" | "mount"))
    };
    let same = r.at.as_deref().is_some_and(|a| is_within(a, &h.at) && a == h.at);
    if same && r.fault.as_deref().is_some_and(renewed) && renewed(&h.fault) { Concern::SamePart } else { Concern::None }
}

/// What is left of each hypothesis by what was renewed: a pair goes down with either of its members.
fn left(model: &Model, renewed: &[Renewed], cleared: f64, same_part: f64) -> Vec<f64> {
    let mut l: Vec<f64> = vec![];
    for h in model.all {
        l.push(match h.pair {
            Some([a, b]) => l[a].min(l[b]),
            None => match renewed.iter().map(|r| concern(model, r, h)).max().unwrap_or(Concern::None) {
                Concern::Cleared => cleared,
                Concern::SamePart => same_part.max(cleared),
                Concern::None => 1.0,
            },
        });
    }
    l
}

/// What is left of each when it is cured: whatever was renewed keeps its odds, all others fall.
fn cured(model: &Model, renewed: &[Renewed], others: f64) -> Vec<f64> {
    let mut l: Vec<f64> = vec![];
    for h in model.all {
        l.push(match h.pair {
            Some([a, b]) => l[a].max(l[b]).min(if l[a] < 1.0 || l[b] < 1.0 { 0.5 } else { 1.0 }),
            None if renewed.iter().any(|r| concern(model, r, h) != Concern::None) => 1.0,
            None => others,
        });
    }
    l
}

fn all_renewed(r: &Repair) -> Vec<Renewed> {
    let of =
        |at: Option<&str>| Renewed { fault: Some(r.fault.clone()), at: at.map(String::from), gear: r.gear.clone(), unit: None };
    let mut out: Vec<Renewed> = r.all_places().map(|p| of(Some(p))).collect();
    if out.is_empty() {
        out.push(of(None));
    }
    // A complete unit clears all that it contains.
    if r.is_unit() {
        out.extend(r.all_places().map(|p| Renewed { unit: Some(unit_at(p)), ..Renewed::default() }).collect::<Vec<_>>());
    }
    out.extend(r.other_changes.iter().filter_map(named));
    out
}

/// The unit that a place is a part of, by its id.
fn unit_at(place: &str) -> String {
    let mut parts = place.split('.');
    match (parts.next(), parts.next()) {
        (Some(a), Some(b)) => format!("{a}.{b}"),
        _ => place.into(),
    }
}

fn is_weak(part: Option<&str>) -> bool {
    matches!(part, Some("used" | "copy"))
}

/// Repairs with a result, attempts of others, parts changed as due: each as a likelihood for every hypothesis.
pub(super) fn repairs(case: &Case, model: &Model, symptom: &str) -> Vec<Evidence> {
    let mut out: Vec<Evidence> = case
        .repairs
        .iter()
        .filter(|r| Case::concerns(r.symptom.as_deref(), symptom) && !r.fault.is_empty())
        .filter_map(|r| of_repair(model, r))
        .collect();
    out.extend(case.attempts.iter().filter_map(|a| of_attempt(model, a)));
    out.extend(case.replaced_as_due.iter().filter_map(|d| of_due(model, d)));
    out
}

fn place_words(model: &Model, places: &[&str]) -> String {
    let words: Vec<String> = places.iter().map(|p| model.v.place_words(p)).collect();
    if words.is_empty() { String::new() } else { format!(" at {}", words.join(", ")) }
}

fn fault_words(model: &Model, fault: &str) -> String {
    model.k.fault(fault).map_or(fault.to_string(), |f| f.name.clone())
}

fn of_repair(model: &Model, r: &Repair) -> Option<Evidence> {
    let w = &model.k.weights.repair;
    let renewed = all_renewed(r);
    let result = r.result.as_deref()?;
    let likelihood = match result {
        "not-cured" => {
            let own = if is_weak(r.part.as_deref()) { w.not_cured_weak_part } else { w.not_cured };
            let with: Vec<Renewed> = r.other_changes.iter().filter_map(named).collect();
            let main: Vec<Renewed> = renewed.iter().filter(|x| !with.contains(x)).cloned().collect();
            let of_main = left(model, &main, own, w.not_cured_same_part);
            // What was changed besides before the same drive is cleared, too.
            let of_others = left(model, &with, own.max(w.not_cured), w.not_cured_same_part);
            of_main.iter().zip(of_others).map(|(a, b)| a.min(b)).collect()
        }
        "improved" => left(model, &renewed, w.improved, 1.0),
        "cured" => cured(model, &renewed, w.cured_others),
        _ => return None,
    };
    let places: Vec<&str> = r.all_places().collect();
    let words = format!("{}{} repaired: {}", fault_words(model, &r.fault), place_words(model, &places), result.replace('-', " "));
    Some(Evidence { words, test: "repair".into(), at: r.at.clone(), likelihood })
}

/// What a renewed part that changed nothing leaves of its fault, and what it leaves of others when it was gone.
fn changed(model: &Model, renewed: &[Renewed], changed: &str, trust: f64, weak: bool) -> Option<Vec<f64>> {
    let w = &model.k.weights.repair;
    let nothing = if weak { w.not_cured_weak_part } else { w.attempt_nothing };
    match changed {
        "nothing" => Some(left(model, renewed, nothing.powf(trust), w.not_cured_same_part.powf(trust))),
        "better" => Some(left(model, renewed, w.improved.powf(trust), 1.0)),
        // It came back, so it was no cure; but it was the right place, or near it.
        "gone" => Some(cured(model, renewed, 0.5_f64.powf(trust))),
        _ => None,
    }
}

fn of_attempt(model: &Model, a: &Attempt) -> Option<Evidence> {
    let w = &model.k.weights.repair;
    if a.fault.is_none() && a.unit.is_none() {
        return None;
    }
    let mut renewed = vec![Renewed { fault: a.fault.clone(), at: a.at.clone(), gear: None, unit: a.unit.clone() }];
    renewed.extend(a.with.iter().filter_map(named));
    let trust = w.trust.get(a.trust.as_deref().unwrap_or("told")).copied()?;
    let likelihood = changed(model, &renewed, a.changed.as_deref()?, trust, is_weak(a.part.as_deref()))?;
    let what = if a.what.trim().is_empty() { fault_words(model, a.fault.as_deref().unwrap_or("a unit")) } else { a.what.clone() };
    let came = match a.changed.as_deref() {
        Some("nothing") => "changed nothing",
        Some("better") => "made it better",
        _ => "it was gone for a while",
    };
    Some(Evidence { words: format!("tried before: {what}: {came}"), test: "attempt".into(), at: a.at.clone(), likelihood })
}

fn of_due(model: &Model, d: &Due) -> Option<Evidence> {
    // A complete unit clears all that it contains.
    let unit = d.at.as_deref().filter(|_| d.unit).map(unit_at);
    let renewed = [Renewed { fault: Some(d.fault.clone()), at: d.at.clone(), unit, ..Renewed::default() }];
    let likelihood = changed(model, &renewed, d.changed.as_deref()?, 1.0, is_weak(d.part.as_deref()))?;
    let places: Vec<&str> = d.at.as_deref().into_iter().collect();
    let words = format!("{}{} replaced as due", fault_words(model, &d.fault), place_words(model, &places));
    Some(Evidence { words, test: "due".into(), at: d.at.clone(), likelihood })
}
