//! The ledger of a symptom: the ranked causes with how sure, what is ruled out and by what, what the last answer did, the next
//! step large and the two after it small.

use crate::mend;
use crate::page::LoadedCase;
use crate::wording::{ask_words, cause_words, kind_words};
use baricord_core::case::{Case, Observation};
use baricord_core::edit::act::EntryKind;
use baricord_core::reasoning::knowledge::Knowledge;
use baricord_core::reasoning::wording::{factor_words, outcome_words, percent_words, ranked_words, twins_words};
use baricord_core::reasoning::{Ranked, SymptomAnswer, disagreeing, hypotheses};
use baricord_core::workflow::next_action::ActionKind;

/// A cause in the ledger.
pub struct Cause {
    pub name: String,
    pub percent: u32,
    /// Length of its bar, of 100.
    pub bar: f64,
    /// What moved it, and how much, in words.
    pub because: Vec<(String, String)>,
    /// What the drawing shows of its part, where that is more than this cause alone.
    pub part: String,
}

/// What one piece of evidence has put out.
pub struct Ruled {
    pub names: Vec<String>,
    pub more: usize,
    pub by: String,
    /// All of them, each with how much less likely it made them.
    pub all: Vec<(String, String)>,
}

/// A test to come, small.
pub struct NextLine {
    pub ask: String,
    pub minutes: String,
}

/// The ledger of one symptom.
#[derive(Default)]
pub struct Ledger {
    pub heading: String,
    pub others: Vec<(String, String)>,
    pub causes: Vec<Cause>,
    /// Two places of one fault together, where they hold most of it.
    pub both: String,
    /// Causes that explain several symptoms at once.
    pub shared: Vec<String>,
    pub rest: String,
    pub ruled: Vec<Ruled>,
    /// What the last answer did.
    pub effect: String,
    /// What comes after the next step, where it goes as expected.
    pub then: Vec<NextLine>,
    pub warnings: Vec<String>,
    /// What was observed twice and came out otherwise.
    pub contradictions: Vec<Disagreement>,
    /// What would put another cause first.
    pub overturn: String,
}

/// Answers to one question that disagree.
pub struct Disagreement {
    /// The question.
    pub words: String,
    /// Each answer with who gave it, and where it is opened; the last one counts.
    pub answers: Vec<(String, String)>,
}

/// Answers of a symptom that disagree, side by side.
fn disagreements(k: &LoadedCase, symptom: &str) -> Vec<Disagreement> {
    let (kb, case) = (&*k.knowledge, k.case());
    let answer = |o: &&Observation| {
        let came = outcome_words(kb, &case.vehicle, &o.test, &o.outcome, None);
        let words = o.by.as_ref().map_or(came.clone(), |by| format!("{came} ({by})"));
        (words, mend::href(k.stored.id, EntryKind::Answer, &o.id, symptom))
    };
    let of = |answers: Vec<&Observation>| Disagreement {
        words: answers.first().map_or(String::new(), |o| ask_words(kb, case, &o.test, o.at.as_deref(), o.gear.as_deref())),
        answers: answers.iter().map(answer).collect(),
    };
    disagreeing(case, kb, symptom).into_iter().map(of).collect()
}

/// What moved a cause, each with how much, in words.
pub fn because_words(r: &Ranked, most: usize) -> Vec<(String, String)> {
    r.because.iter().take(most).map(|b| (b.evidence.clone(), factor_words(b.bits))).collect()
}

/// What would change one's mind, in words: the likeliest outcomes that would put another cause first.
pub fn overturn_words(k: &LoadedCase, symptom: &str, most: usize) -> Vec<String> {
    let (kb, case) = (&*k.knowledge, k.case());
    let all = hypotheses(&case.vehicle, kb);
    let reversals = k.assessment.of_symptom(symptom).map_or(&[][..], |s| &s.reversals);
    reversals
        .iter()
        .take(most)
        .map(|o| {
            let ask = ask_words(kb, case, &o.test, o.place.as_deref().or(o.at.as_deref()), o.gear.as_deref());
            let outcome = outcome_words(kb, &case.vehicle, &o.test, &o.outcome, None);
            let h = &all[o.then];
            let then = cause_words(kb, case, &h.fault, &h.at, h.gear.as_deref());
            let (chance, p) = (percent_words(o.chance), percent_words(o.p_then));
            format!("{ask}: “{outcome}” ({chance} likely) would put {then} first, at {p}")
        })
        .collect()
}

fn cause(k: &LoadedCase, a: &SymptomAnswer, r: &Ranked) -> Cause {
    let (kb, case) = (&*k.knowledge, k.case());
    let of_part = a.part_sums().into_iter().find(|(at, _)| *at == r.at).map_or(r.p, |x| x.1);
    let more = (100.0 * of_part).round() > (100.0 * r.p).round();
    Cause {
        name: ranked_words(kb, &case.vehicle, r),
        percent: (r.p * 100.0).round() as u32,
        bar: r.p * 100.0,
        because: because_words(r, 5),
        part: if more { format!("{} in all {}", case.vehicle.place_words(&r.at), percent_words(of_part)) } else { String::new() },
    }
}

/// The steps after the next one, small.
fn then(k: &LoadedCase) -> Vec<NextLine> {
    let (kb, case) = (&*k.knowledge, k.case());
    let line = |ask: String, minutes: f64| NextLine { ask, minutes: format!("{minutes:.0} min") };
    let planned = k.assessment.diagnosis.symptoms.iter().find(|s| Some(&s.id) == k.assessment.next.symptom.as_ref());
    match (k.assessment.next.kind, planned) {
        (ActionKind::Test, Some(a)) => a
            .plan
            .steps
            .iter()
            .skip(1)
            .take(2)
            .map(|s| match (&s.test, s.fault.as_deref()) {
                (Some(t), _) => line(ask_words(kb, case, t, s.at.as_deref(), s.gear.as_deref()), s.minutes),
                (None, Some("unknown")) => NextLine { ask: "hand it on".into(), minutes: String::new() },
                (None, f) => {
                    let words =
                        cause_words(kb, case, f.unwrap_or_default(), s.at.as_deref().unwrap_or("none"), s.gear.as_deref());
                    line(format!("repair: {words}"), s.minutes)
                }
            })
            .collect(),
        (ActionKind::Choose, _) => vec![NextLine { ask: "then the proof".into(), minutes: String::new() }],
        _ => vec![],
    }
}

/// The ledger of a symptom.
pub fn ledger(k: &LoadedCase, symptom: &str) -> Option<Ledger> {
    let (kb, case) = (&*k.knowledge, k.case());
    let a = k.assessment.diagnosis.symptoms.iter().find(|s| s.id == symptom)?;
    let said = case.symptom(&a.id);
    let mut l = Ledger {
        heading: said.map_or(String::new(), |s| {
            let words = if s.words.is_empty() { kind_words(&s.kind) } else { s.words.clone() };
            format!("{} · {}", s.id, words)
        }),
        others: case.symptoms.iter().filter(|s| s.id != a.id).map(|s| (s.id.clone(), kind_words(&s.kind))).collect(),
        ..Ledger::default()
    };
    let named: Vec<_> = a.ranked.iter().filter(|r| r.fault != "unknown").collect();
    l.both = a.twins().map_or(String::new(), |t| format!("{}: {}", twins_words(kb, &case.vehicle, &t), percent_words(t.p)));
    l.shared = shared(k, &a.id);
    // What is next to nothing is not listed beside what is sure.
    let listed = named.iter().enumerate().take(3).filter(|(i, r)| *i == 0 || r.p >= 0.005);
    l.causes = listed.map(|(_, r)| cause(k, a, r)).collect();
    // The sum of a part stands once, with its first cause.
    for i in 1..l.causes.len() {
        if l.causes[..i].iter().any(|c| c.part == l.causes[i].part) {
            l.causes[i].part.clear();
        }
    }
    let unknown = a.ranked.iter().find(|r| r.fault == "unknown").map_or(0.0, |r| r.p);
    let more = named.iter().skip(3).filter(|r| r.p >= 0.005).count();
    let sum: f64 = named.iter().skip(3).map(|r| r.p).sum();
    let none = format!("none of these {}", percent_words(unknown));
    l.rest = if more > 0 { format!("{more} more together {:.0} % · {none}", sum * 100.0) } else { none };
    l.ruled = ruled(kb, case, a);
    l.effect = k.assessment.of_symptom(&a.id).and_then(|s| s.effect.as_ref()).map_or(String::new(), |e| e.words());
    l.then = then(k);
    l.contradictions = disagreements(k, symptom);
    let told = k.assessment.diagnosis.warnings.iter().filter(|w| w.code != "contradiction");
    l.warnings = told.map(|w| w.message.clone()).collect();
    l.overturn = overturn_words(k, &a.id, 1).pop().unwrap_or_default();
    // What is cured needs no next test.
    if case.cured_by(&a.id).is_some() {
        (l.overturn, l.effect) = (String::new(), String::new());
    }
    Some(l)
}

/// Causes that explain this symptom and others at once, in words.
fn shared(k: &LoadedCase, symptom: &str) -> Vec<String> {
    let (kb, case) = (&*k.knowledge, k.case());
    let of = k.assessment.diagnosis.shared.iter().filter(|s| s.symptoms.iter().any(|id| id == symptom));
    of.map(|s| {
        let cause = cause_words(kb, case, &s.fault, &s.at, None);
        format!("{} may be one: {cause}, {}", s.symptoms.join(" and "), percent_words(s.p))
    })
    .collect()
}

/// What is out, one line for each piece of evidence; a fault that is out everywhere is named once.
fn ruled(kb: &Knowledge, case: &Case, a: &SymptomAnswer) -> Vec<Ruled> {
    const SHOWN: usize = 4;
    /// A fault, and where it is out.
    type Out<'a> = (&'a str, Vec<String>, f64);
    let mut by: Vec<(&str, Vec<Out<'_>>)> = vec![];
    for r in &a.ruled_out {
        let i = by.iter().position(|g| g.0 == r.by).unwrap_or_else(|| {
            by.push((&r.by, vec![]));
            by.len() - 1
        });
        match by[i].1.iter_mut().find(|f| f.0 == r.fault) {
            Some(f) => f.1.push(r.at.clone()),
            None => by[i].1.push((&r.fault, vec![r.at.clone()], r.bits)),
        }
    }
    let name = |fault: &str, at: &[String]| match at {
        [one] => cause_words(kb, case, fault, one, None),
        _ => {
            let name = kb.fault(fault).map_or(fault.to_string(), |f| f.name.clone());
            // What is still likely at one place is out at the others only.
            let still = a.ranked.iter().any(|r| r.fault == fault && r.p >= 0.05);
            if still { format!("{name} elsewhere") } else { name }
        }
    };
    by.into_iter()
        .take(5)
        .map(|(by, faults)| Ruled {
            names: faults.iter().take(SHOWN).map(|(f, at, _)| name(f, at)).collect(),
            all: faults.iter().map(|(f, at, b)| (name(f, at), factor_words(*b))).collect(),
            more: faults.len().saturating_sub(SHOWN),
            by: by.to_string(),
        })
        .collect()
}
