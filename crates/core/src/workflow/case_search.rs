//! Everything that can be entered into a case or stands in it, found by what people say: “nut came off by hand” leads to the look for
//! traces of earlier work. What is ranked low, or was answered before, is found as well.
//!
//! Ranked by BM25 (Robertson and Zaragoza 2009) over words that are reduced to their stems.

use crate::case::Case;
use crate::case::entry::Entry;
use crate::edit::act::EntryKind;
use crate::measure::instrument::instruments_for;
use crate::reasoning::availability::tries_on;
use crate::reasoning::hypotheses;
use crate::reasoning::knowledge::{Knowledge, Test};
use crate::reasoning::wording::{cause_words, test_words};
use crate::safety::cautions::running_checks;
use crate::synonyms;
use crate::vehicle::Place;
use bm25::{Document, Language, SearchEngineBuilder};
use std::collections::BTreeSet;

/// What a search found.
#[derive(Clone, Debug, PartialEq)]
pub enum Found {
    /// A test, where it is made: no place where there are several and none was meant.
    Test {
        /// Its id.
        test: String,
        /// Where.
        at: Option<String>,
    },
    /// A part of the vehicle.
    Place {
        /// Which.
        at: String,
    },
    /// A cause, at the place that it has.
    Cause {
        /// Id of a fault.
        fault: String,
        /// Where.
        at: String,
    },
    /// An instrument that is read.
    Reading {
        /// Its id.
        instrument: &'static str,
    },
    /// Something that stands in the case.
    Entry {
        /// What it is.
        kind: EntryKind,
        /// Its id.
        id: String,
    },
}

/// What a search found, in words.
#[derive(Clone, Debug, PartialEq)]
pub struct Hit {
    /// What.
    pub found: Found,
    /// In words.
    pub words: String,
    /// What of it fits what was said: an outcome, a place.
    pub more: String,
}

/// Something that can be found, and the words by which it is.
struct Indexed {
    hit: Hit,
    said: String,
}

/// Longest search that is read, characters.
pub const LONGEST_SEARCH: usize = 200;
/// What fits so much worse than the best is no answer: share of its score.
const FITS: f32 = 0.4;
/// A long text counts less for a word than a short one, but not by much: people's phrases make a test's text long.
const LENGTH_WEIGHT: f32 = 0.3;

const SIDES: [&str; 4] = ["front", "rear", "left", "right"];

/// The words for sides that were said.
fn sides_in(text: &str) -> Vec<&'static str> {
    let text = text.to_lowercase();
    let said: BTreeSet<&str> = text.split(|c: char| !c.is_alphanumeric()).collect();
    SIDES.into_iter().filter(|s| said.contains(s)).collect()
}

/// Whether a place is on all the sides that were said.
fn is_on(p: &Place, sides: &[&str]) -> bool {
    let own = sides_in(&p.words);
    sides.iter().all(|s| own.contains(s))
}

fn index_tests(case: &Case, k: &Knowledge, sides: &[&str], out: &mut Vec<Indexed>) {
    for t in &k.tests {
        let tries = tries_on(&case.vehicle, t);
        if tries.is_empty() {
            continue;
        }
        let places: Vec<&Place> = tries.iter().filter_map(|(at, _)| at.as_ref()).collect();
        let meant: Vec<&Place> =
            if sides.is_empty() { places.clone() } else { places.iter().copied().filter(|p| is_on(p, sides)).collect() };
        let at = match meant.as_slice() {
            [one, more @ ..] if more.iter().all(|p| p.id == one.id) => Some(one.id.clone()),
            _ => None,
        };
        let outcomes = t.outcomes.iter().map(|o| o.words.as_str());
        let words = outcomes.chain(t.said.iter().map(String::as_str)).chain(places.iter().map(|p| p.words.as_str()));
        let said = words.fold(format!("{0} {0} {1}", t.ask, t.how), |all, w| format!("{all} {w}"));
        let words = test_words(k, &case.vehicle, &t.id, at.as_deref(), None);
        out.push(Indexed { hit: Hit { found: Found::Test { test: t.id.clone(), at }, words, more: String::new() }, said });
    }
}

fn index_causes(case: &Case, k: &Knowledge, out: &mut Vec<Indexed>) {
    for h in hypotheses(&case.vehicle, k).iter().filter(|h| !h.is_pair() && !h.is_unknown() && h.gear.is_none()) {
        let words = cause_words(k, &case.vehicle, &h.fault, &h.at, None);
        let found = Found::Cause { fault: h.fault.clone(), at: h.at.clone() };
        out.push(Indexed { said: words.clone(), hit: Hit { found, words, more: "a cause".into() } });
    }
}

fn index_entries(case: &Case, k: &Knowledge, out: &mut Vec<Indexed>) {
    let v = &case.vehicle;
    let mut add = |kind: EntryKind, id: &str, words: String, said: String| {
        let found = Found::Entry { kind, id: id.into() };
        out.push(Indexed { said: format!("{words} {said}"), hit: Hit { found, words, more: "in this case".into() } });
    };
    for o in &case.observations {
        let ask = test_words(k, v, &o.test, o.at.as_deref(), o.gear.as_deref());
        let came = k.test(&o.test).and_then(|t| t.outcome(&o.outcome)).map_or("", |o| o.words.as_str());
        add(EntryKind::Answer, o.id(), format!("{ask}: {came}"), o.note.clone().unwrap_or_default());
    }
    for s in &case.symptoms {
        add(EntryKind::Symptom, &s.id, format!("{} {}", s.id, s.kind.replace('-', " ")), s.words.clone());
    }
    for a in &case.attempts {
        add(EntryKind::Attempt, a.id(), a.what.clone(), a.result.clone().unwrap_or_default());
    }
    for f in &case.found {
        add(EntryKind::Finding, f.id(), f.what.clone(), f.at.as_deref().map_or(String::new(), |a| v.place_words(a)));
    }
    for n in &case.notes {
        add(EntryKind::Note, n.id(), n.text.clone(), n.at.as_deref().map_or(String::new(), |a| v.place_words(a)));
    }
    for r in &case.repairs {
        let words = crate::reasoning::wording::repair_words(k, case, r);
        let said = [&r.plan, &r.note, &r.marks].into_iter().flatten().fold(String::new(), |all, t| format!("{all} {t}"));
        add(EntryKind::Repair, r.id(), format!("repair: {words}"), said);
    }
}

/// The outcome of a test that says what was said: that which shares most of its words, where one does.
fn outcome_said<'t>(t: &'t Test, text: &str) -> Option<&'t str> {
    let docs: Vec<String> = t.outcomes.iter().map(|o| o.words.clone()).collect();
    let engine = SearchEngineBuilder::<u32>::with_corpus(Language::English, docs).build();
    let best = engine.search(text, 1).into_iter().next()?;
    t.outcomes.get(best.document.id as usize).map(|o| o.words.as_str())
}

/// An answer that a sentence may be.
#[derive(Clone, Debug, PartialEq)]
pub struct SaidAnswer {
    /// The test.
    pub test: String,
    /// Its outcome.
    pub outcome: String,
    /// Where, of a test that is made at places.
    pub at: Option<String>,
    /// Test and outcome in words.
    pub words: String,
}

/// The answer that a sentence of the driver may be: of the first test that it leads to, where one of its outcomes says as much and its place
/// is known. A person says whether it is.
pub fn answer_said(case: &Case, k: &Knowledge, sentence: &str) -> Option<SaidAnswer> {
    let said = |(test, at): (String, Option<String>)| {
        let t = k.test(&test)?;
        // What is looked at has a place; what must be seen to first is not answered with one press.
        if t.names_place || !t.at.is_empty() && at.is_none() || !running_checks(case, t).is_empty() {
            return None;
        }
        let words = outcome_said(t, sentence)?;
        let outcome = t.outcomes.iter().find(|o| o.words == words)?.id.clone();
        let asked = test_words(k, &case.vehicle, &test, at.as_deref(), None);
        Some(SaidAnswer { words: format!("{asked}: {words}"), outcome, test, at })
    };
    let tests = ranked(case, k, sentence, 12, false).into_iter().filter_map(|h| match h.found {
        Found::Test { test, at } => Some((test, at)),
        _ => None,
    });
    tests.take(1).find_map(said)
}

/// What fits what was said best, up to `most`; none where nothing was said.
pub fn search(case: &Case, k: &Knowledge, text: &str, most: usize) -> Vec<Hit> {
    ranked(case, k, text, most, true)
}

/// What fits best, with what stands in the case or without it: a sentence that stands there fits itself best of all.
fn ranked(case: &Case, k: &Knowledge, text: &str, most: usize, with_entries: bool) -> Vec<Hit> {
    let text: String = text.trim().chars().take(LONGEST_SEARCH).collect();
    if text.is_empty() {
        return vec![];
    }
    let sides = sides_in(&text);
    let mut all = vec![];
    index_tests(case, k, &sides, &mut all);
    index_causes(case, k, &mut all);
    if with_entries {
        index_entries(case, k, &mut all);
    }
    let hit = |found: Found, words: &str, more: &str| Hit { found, words: words.into(), more: more.into() };
    for p in case.vehicle.places() {
        all.push(Indexed { said: p.words.clone(), hit: hit(Found::Place { at: p.id }, &p.words, "a part") });
    }
    for i in instruments_for(&case.vehicle) {
        let words = format!("Measure {}", i.quantity);
        all.push(Indexed {
            said: format!("{words} {} {}", i.name, i.how),
            hit: hit(Found::Reading { instrument: i.id }, &words, "a reading"),
        });
    }
    let docs = all.iter().enumerate().map(|(i, x)| Document::new(i as u32, x.said.as_str()));
    let engine = SearchEngineBuilder::<u32>::with_documents(Language::English, docs).b(LENGTH_WEIGHT).build();
    // A thing is looked for by its own name, too, where another was said.
    let names = synonyms::meant(&text).into_iter().fold(text.clone(), |all, m| format!("{all} {}", m.name));
    let scored = engine.search(&names, 4 * most);
    let least = scored.first().map_or(0.0, |best| FITS * best.score);
    let found = scored.into_iter().filter(|r| r.score >= least).map(|r| &all[r.document.id as usize].hit);
    let mut out: Vec<Hit> = vec![];
    for h in found {
        // What is found at several places stands once, unless a place was said.
        let same = |o: &Hit| match (&o.found, &h.found) {
            (Found::Cause { fault: a, .. }, Found::Cause { fault: b, .. }) => a == b && sides.is_empty(),
            (a, b) => a == b,
        };
        if out.len() == most || out.iter().any(same) {
            continue;
        }
        let more = match &h.found {
            Found::Test { test, .. } => k.test(test).and_then(|t| outcome_said(t, &text)).unwrap_or_default().to_string(),
            _ => h.more.clone(),
        };
        out.push(Hit { more, ..h.clone() });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::{front_drive, rear_drive};
    use serde_json::json;

    /// The tests that a search finds, with their places.
    fn tests(case: &Case, said: &str) -> Vec<(String, Option<String>)> {
        let hits = search(case, builtin(), said, 8).into_iter();
        let of = |h: Hit| match h.found {
            Found::Test { test, at } => Some((test, at)),
            _ => None,
        };
        hits.filter_map(of).collect()
    }

    /// What people say, and the test that they mean. Each is said otherwise than the test says it.
    #[test]
    fn people_find_what_they_mean_in_their_own_words() {
        let front = sample::case(front_drive(), &[]);
        let rear = sample::case(rear_drive(2), &[]);
        for (case, said, test) in [
            (&front, "the hub nut came off by hand", "axle-nut-check"),
            (&front, "play in the wheel", "wheel-rock"),
            (&front, "wheel bearing growls when I spin it", "spin-by-hand"),
            (&front, "split gaiter, grease thrown round", "boot-look"),
            (&rear, "red powder at the uj cap", "joint-wiggle"),
            (&rear, "prop off, drove it, still shakes", "shaft-off-run"),
            (&rear, "glitter in the diff oil", "oil-look"),
            (&rear, "hanger bearing rubber torn", "support-bearing-look"),
            (&rear, "pops out of third", "shift-feel"),
            (&rear, "clonk when lifting off", "load-reversal"),
            (&front, "clicks on full lock", "turn-power"),
            (&front, "popped out driveshaft", "half-shaft-look"),
            (&rear, "swapped the wheels front to back", "wheel-swap-retest"),
            (&front, "one hub much hotter than the other", "heat-check"),
            (&rear, "moved the prop one bolt round", "reindex-retest"),
        ] {
            let found = tests(case, said);
            assert!(found.iter().take(2).any(|t| t.0 == test), "{said}: {found:?}");
        }
    }

    #[test]
    fn a_sentence_of_the_driver_may_be_an_answer_where_its_outcome_and_place_are_said() {
        let case = sample::case(front_drive(), &[]);
        let of = |s: &str| answer_said(&case, builtin(), s).map(|a| (a.test, a.outcome, a.at));
        assert_eq!(of("A clunk when lifting off the throttle"), Some(("load-reversal".into(), "clunk".into(), None)));
        let tug = sample::case(crate::vehicle::layout::of_layout("4x4-free-hubs").unwrap(), &[]);
        let said = answer_said(&tug, builtin(), "A clunk when lifting off the throttle").map(|a| (a.test, a.outcome));
        assert_eq!(said, Some(("load-reversal".into(), "clunk".into())));
        // Its own words in the case are not in the way.
        let words = json!({"symptoms": [{"id": "S1", "kind": "clunk", "words": "A clunk when lifting off the throttle"}]});
        let told = sample::case(crate::vehicle::layout::of_layout("4x4-free-hubs").unwrap(), &[words]);
        assert!(answer_said(&told, builtin(), "A clunk when lifting off the throttle").is_some());
        assert_eq!(of("play in a wheel"), None, "which wheel?");
        assert_eq!(of("the weather was fine"), None);
    }

    /// A nut may be the wheel's, the hub's or a trace of earlier work: all of them are offered.
    #[test]
    fn what_may_be_one_of_several_finds_them_all() {
        let found = tests(&sample::case(rear_drive(2), &[]), "nut came off by hand");
        for test in ["axle-nut-check", "wheel-nut-check", "earlier-work-look"] {
            assert!(found.iter().take(3).any(|t| t.0 == test), "{test}: {found:?}");
        }
    }

    #[test]
    fn a_side_that_was_said_is_the_place() {
        let case = sample::case(front_drive(), &[]);
        assert_eq!(tests(&case, "play in the front left wheel")[0], ("wheel-rock".into(), Some("hub.fl".into())));
        assert_eq!(tests(&case, "play in a wheel")[0].1, None);
    }

    #[test]
    fn what_stands_in_the_case_is_found_by_its_note_and_nothing_finds_nothing() {
        let case = sample::case(
            rear_drive(1),
            &[
                json!({"observations": [{"id": "o1", "test": "joint-wiggle", "at": "prop.rear.j1", "outcome": "none", "note": "circlip rattled"}]}),
            ],
        );
        let hits = search(&case, builtin(), "circlip", 5);
        assert!(hits.iter().any(|h| h.found == Found::Entry { kind: EntryKind::Answer, id: "o1".into() }), "{hits:?}");
        assert_eq!((search(&case, builtin(), "  ", 5), search(&case, builtin(), "xyzzy", 5)), (vec![], vec![]));
    }
}
