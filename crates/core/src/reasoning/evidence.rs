//! Evidence: what was observed, as a likelihood for every hypothesis.

use super::driver_answers;
use super::knowledge::{Knowledge, SOUND_PICK, Test};
use super::likelihood::Model;
use crate::case::{Case, DRIVER, NOT_POSSIBLE, Observation, Symptom};
use crate::error::Warning;
use crate::vehicle::{Place, Vehicle, answered_place};

/// One piece of evidence: in words, and how likely it is under each hypothesis.
pub struct Evidence {
    /// In the mechanic's words.
    pub words: String,
    /// The test it came from.
    pub test: String,
    /// Where.
    pub at: Option<String>,
    /// One likelihood a hypothesis, in their order.
    pub likelihood: Vec<f64>,
}

/// The test whose answer stands for this one's, so that of both only the later one counts.
fn fact<'a>(k: &'a Knowledge, test: &'a str) -> &'a str {
    k.test(test).and_then(|t| t.same_as.as_deref()).unwrap_or(test)
}

/// The place that an observation names.
pub(super) fn place_of(v: &Vehicle, o: &Observation) -> Option<Result<Place, String>> {
    let id = answered_place(o.at.as_deref()?);
    Some(v.place(&id).ok_or_else(|| id.into_owned()))
}

/// Whether what an observation says bears on a symptom: a hand's finding on every one, how a symptom behaves on its own.
/// What has to be checked again, since a size that it rests on was changed, does not.
pub(super) fn bears_on(case: &Case, k: &Knowledge, o: &Observation, symptom: &str) -> bool {
    let of_symptom = k.test(&o.test).is_none_or(|t| t.of_symptom);
    !o.is_after() && case.outdated_answer(o).is_none() && (!of_symptom || Case::concerns(o.symptom.as_deref(), symptom))
}

/// The observations that bear on a symptom, the driver's answers first, each fact once: the later one counts.
pub(super) fn that_count(case: &Case, k: &Knowledge, symptom: &Symptom, warnings: &mut Vec<Warning>) -> Vec<Observation> {
    let said: Vec<&Observation> = case.observations.iter().filter(|o| bears_on(case, k, o, &symptom.id)).collect();
    let answered = driver_answers::observations(&case.vehicle, symptom);
    // What was tried takes the place of what the driver said of the same test.
    let mut out: Vec<Observation> =
        answered.into_iter().filter(|a| !said.iter().any(|o| o.test == a.test && o.outcome != NOT_POSSIBLE)).collect();
    let key = |o: &Observation| (fact(k, &o.test).to_string(), o.at.clone(), o.gear.clone());
    for (i, o) in said.iter().enumerate() {
        match said[i + 1..].iter().find(|l| key(l) == key(o)) {
            None => out.push((*o).clone()),
            Some(later) if later.outcome != o.outcome && o.outcome != NOT_POSSIBLE && later.outcome != NOT_POSSIBLE => warnings
                .push(
                    Warning::new("contradiction", contradiction_words(&case.vehicle, k, o, later))
                        .at(o.at.clone().unwrap_or_default()),
                ),
            Some(_) => {}
        }
    }
    out
}

/// Answers to one question of a symptom that disagree, as they were given; each question once, the last answer of each counts.
pub fn disagreeing<'c>(case: &'c Case, k: &Knowledge, symptom: &str) -> Vec<Vec<&'c Observation>> {
    let mut questions: Vec<Vec<&Observation>> = vec![];
    let weighed = |o: &&Observation| bears_on(case, k, o, symptom) && o.outcome != NOT_POSSIBLE;
    for o in case.observations.iter().filter(weighed) {
        let same = |q: &&mut Vec<&Observation>| {
            q.first().is_some_and(|f| fact(k, &f.test) == fact(k, &o.test) && f.at == o.at && f.gear == o.gear)
        };
        match questions.iter_mut().find(same) {
            Some(q) => q.push(o),
            None => questions.push(vec![o]),
        }
    }
    questions.retain(|q| q.iter().any(|o| o.outcome != q[0].outcome));
    questions
}

/// Outcomes by which a symptom was silent: of what comes and goes one of them is weak.
fn is_silence(outcome: &str) -> bool {
    matches!(outcome, "stops" | "absent" | "not-heard" | "none" | "cured")
}

/// Observations of a symptom.
pub(super) fn observations(case: &Case, model: &Model, symptom: &Symptom, warnings: &mut Vec<Warning>) -> Vec<Evidence> {
    let (v, k) = (model.v, model.k);
    let mut out = vec![];
    for o in that_count(case, k, symptom, warnings) {
        if o.outcome == NOT_POSSIBLE {
            continue;
        }
        if o.test == SOUND_PICK {
            match picked(model, &o.outcome) {
                Some(e) => out.push(e),
                None => warnings
                    .push(Warning::new("unknown-outcome", format!("{SOUND_PICK} names no fault “{}”: not weighed", o.outcome))),
            }
            continue;
        }
        let Some(t) = k.test(&o.test) else {
            warnings.push(Warning::new("unknown-test", format!("test “{}” is not understood and not weighed", o.test)));
            continue;
        };
        let named = std::iter::once(&o.outcome).chain(o.also.iter().filter(|_| t.several));
        let outcomes: Vec<Option<usize>> = named.map(|n| t.outcomes.iter().position(|x| x.id == *n)).collect();
        if outcomes.iter().any(Option::is_none) {
            warnings.push(Warning::new("unknown-outcome", format!("{} has no outcome “{}”: not weighed", o.test, o.outcome)));
            continue;
        }
        let at = match place_of(v, &o) {
            None => None,
            Some(Ok(p)) => Some(p),
            Some(Err(id)) => {
                let message = format!("this vehicle has no place “{id}”: {} is not weighed", o.test);
                warnings.push(Warning::new("unknown-place", message).at(id));
                continue;
            }
        };
        let outcomes: Vec<usize> = outcomes.into_iter().flatten().collect();
        let driver = o.source.as_deref() == Some(DRIVER);
        let w = &k.weights.exponent;
        let mut exponent = if driver { w.driver } else { w.observation };
        if symptom.is_intermittent() && t.of_symptom && is_silence(&o.outcome) {
            exponent *= w.intermittent;
        }
        out.push(Evidence {
            words: words(v, t, &outcomes, o.at.as_deref(), driver),
            test: t.id.clone(),
            at: o.at.clone(),
            likelihood: likelihood(model, t, &outcomes, at.as_ref(), o.named_gear(), exponent),
        });
    }
    if let Some(e) = driver_answers::gears(model, symptom) {
        out.push(e);
    }
    out
}

/// How likely what came out is under each hypothesis. Where the place was not said, over all where it can have been.
fn likelihood(model: &Model, t: &Test, outcomes: &[usize], at: Option<&Place>, gear: Option<&str>, exponent: f64) -> Vec<f64> {
    let one = |at: Option<&Place>| -> Vec<f64> {
        let l = model.tempered(t, at.filter(|_| !t.names_place), gear, exponent);
        let each: Vec<Vec<f64>> =
            outcomes.iter().map(|&o| l.outcome_likelihoods(o, at.filter(|_| t.names_place), model.v)).collect();
        together(t, &each)
    };
    let test_places = if t.names_place || t.at.is_empty() { vec![] } else { model.places_of(t) };
    match at {
        None if test_places.len() > 1 => {
            let all: Vec<Vec<f64>> = test_places.iter().map(|p| one(Some(p))).collect();
            // Nothing found without a place was found nowhere; something was found at one of them.
            let nothing = outcomes.iter().all(|&o| t.outcomes[o].id == t.innocent().id);
            let over = |h: usize| {
                let at_each = all.iter().map(|l| l[h]);
                if nothing { at_each.product() } else { at_each.sum::<f64>() / all.len() as f64 }
            };
            let mut p: Vec<f64> = (0..model.all.len()).map(over).collect();
            let most = p.iter().copied().fold(1e-300, f64::max);
            p.iter_mut().for_each(|x| *x /= most);
            p
        }
        None => one(test_places.first()),
        at => one(at),
    }
}

/// Two outcomes at once: findings that exclude each other in the table are read one beside the other, how a symptom
/// behaves between the two.
fn together(t: &Test, each: &[Vec<f64>]) -> Vec<f64> {
    let n = each.first().map_or(0, Vec::len);
    let of = |h: usize| match t.of_symptom {
        true => each.iter().map(|l| l[h]).sum::<f64>() / each.len() as f64,
        false => each.iter().map(|l| l[h]).product(),
    };
    (0..n).map(of).collect()
}

/// The driver picked the sound of a fault: weak evidence for it wherever it is.
fn picked(model: &Model, fault: &str) -> Option<Evidence> {
    let w = &model.k.weights.pick;
    let name = &model.k.fault(fault)?.name;
    Some(Evidence {
        words: format!("The driver says it sounds like: {name} (a memory, weak)"),
        test: SOUND_PICK.into(),
        at: None,
        likelihood: model.all.iter().map(|h| if h.fault == fault { w.right } else { w.wrong }).collect(),
    })
}

/// An observation in words.
fn words(v: &Vehicle, t: &Test, outcomes: &[usize], at: Option<&str>, driver: bool) -> String {
    let came: Vec<&str> = outcomes.iter().map(|&o| t.outcomes[o].words.as_str()).collect();
    let came = came.join(" and ");
    let who = if driver { " (the driver says)" } else { "" };
    match at.map(|a| v.place_words(a)) {
        Some(place) if !t.ask.contains(&place) => format!("{}: {came} at {place}{who}", t.ask),
        _ => format!("{}: {came}{who}", t.ask),
    }
}

/// A test that was made twice and came out otherwise, in words.
fn contradiction_words(v: &Vehicle, k: &Knowledge, first: &Observation, later: &Observation) -> String {
    let t = k.test(&first.test);
    let came = |o: &Observation| t.and_then(|t| t.outcome(&o.outcome)).map_or(o.outcome.clone(), |x| x.words.clone());
    let ask = t.map_or(first.test.as_str(), |t| t.ask.as_str());
    let place = first.at.as_deref().map(|a| v.place_words(a)).filter(|p| !ask.contains(p.as_str()));
    let at = place.map_or(String::new(), |p| format!(", {p}"));
    format!("{ask}{at}: “{}”, later “{}”; the later counts", came(first), came(later))
}
