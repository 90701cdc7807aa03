//! A test as a card: what to do, how, what must be seen to first, what each outcome would mean, and what is looked at with it.

use crate::next_view::href_of_test;
use crate::page::LoadedCase;
use crate::wording::{ask_words, cause_words};
use baricord_core::case::NOT_POSSIBLE;
use baricord_core::drive::coach::Leg;
use baricord_core::lift::holding::words_for_test;
use baricord_core::measure::instrument::InstrumentKind;
use baricord_core::reasoning::access::OpenedPlaces;
use baricord_core::reasoning::availability::tries_on;
use baricord_core::reasoning::knowledge::{Caution, Test};
use baricord_core::reasoning::wording::{answers_words, outcome_words, percent_words};
use baricord_core::reasoning::{OpenSymptom, OpenTest, information_gain, moved};
use baricord_core::safety::cautions::{RunningCheck, at_test, running_checks};
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::station_of_test;

/// One outcome to tap.
pub struct OutcomeButton {
    pub id: String,
    pub words: String,
    /// What it would mean.
    pub then: String,
    /// How likely it is.
    pub chance: f64,
    /// Of a test with many answers one of the less likely: it stands folded behind the others.
    pub rare: bool,
}

/// A caution: in a word or two, and whole.
pub struct CautionView {
    pub head: String,
    pub words: String,
    /// Its head stands, the words one press away.
    pub brief: bool,
}

impl CautionView {
    /// Of a caution.
    pub fn new(c: &Caution) -> Self {
        Self { head: c.head.clone(), words: c.words.clone(), brief: c.brief }
    }
}

/// A test that is looked at with another one.
pub struct WithIt {
    pub words: String,
    pub minutes: String,
    pub href: String,
}

/// A test that can be made.
pub struct TestCard {
    pub number: usize,
    pub test: String,
    /// It is made by recording a run.
    pub recorded: bool,
    /// How its numbers are read, of a test that a spring balance answers.
    pub by_balance: Option<&'static str>,
    pub at: String,
    pub gear: String,
    pub ask: String,
    pub how: String,
    pub minutes: String,
    pub answers: String,
    pub posture: String,
    /// What holds the vehicle meanwhile; empty where that is no question.
    pub holds: String,
    pub cautions: Vec<CautionView>,
    pub outcomes: Vec<OutcomeButton>,
    /// What else can be true at once: id and words.
    pub also: Vec<(String, String)>,
    /// What must be ticked before wheels turn under power or an engine runs with parts off.
    pub checks: Vec<RunningCheck>,
    /// A page where numbers are read instead.
    pub read_at: String,
    /// Where it is recorded: the runs to drive.
    pub runs: Vec<String>,
    /// What is looked at for little while it is open.
    pub looks: Vec<String>,
    /// What costs nothing where one stands, and what it is called.
    pub with_it: Vec<WithIt>,
    pub with_words: &'static str,
    /// What was answered already; empty where nothing was.
    pub answered: String,
    /// Where it is answered.
    pub href: String,
    /// Where all its places are answered in one go, and how many there are; empty where there is one.
    pub everywhere: String,
    pub places: usize,
}

impl TestCard {
    /// Of a test that names its place: its answers at one place, and those that name none.
    pub fn at_place(mut self, place: &str) -> Self {
        self.outcomes.retain(|o| o.id.split_once('@').is_none_or(|(_, at)| at == place));
        self
    }

    /// Folds the less likely of many answers behind the `most` likeliest. One alone behind a fold is worth no press.
    pub fn fold_rare(mut self, most: usize) -> Self {
        if self.outcomes.len() > most + 1 {
            let mut by_chance: Vec<usize> = (0..self.outcomes.len()).collect();
            by_chance.sort_by(|&a, &b| self.outcomes[b].chance.total_cmp(&self.outcomes[a].chance));
            by_chance.into_iter().skip(most).for_each(|i| self.outcomes[i].rare = true);
            self.outcomes.sort_by_key(|o| o.rare);
        }
        self
    }

    /// How many of its answers stand folded behind the others.
    pub fn rare(&self) -> usize {
        self.outcomes.iter().filter(|o| o.rare).count()
    }
}

/// The button of an outcome; of a test that names a place one for each place.
fn button(k: &LoadedCase, t: &Test, outcome: &str, place: Option<&str>, then: String, chance: f64) -> Option<OutcomeButton> {
    let rule = t.outcome(outcome)?;
    Some(OutcomeButton {
        id: place.map_or(rule.id.clone(), |p| format!("{}@{p}", rule.id)),
        words: outcome_words(&k.knowledge, &k.case().vehicle, &t.id, outcome, place),
        then,
        chance,
        rare: false,
    })
}

/// What else can be true at once with an outcome, of a test that allows it.
fn also_of(t: &Test) -> Vec<(String, String)> {
    let more = t.outcomes.iter().filter(|o| t.several && o.id != t.innocent().id);
    more.map(|o| (o.id.clone(), o.words.clone())).collect()
}

/// What is looked at for little while something is open, in words. `but` is the test that opens it.
pub fn looks(k: &LoadedCase, open: &OpenSymptom<'_>, opened: &OpenedPlaces, but: Option<&str>) -> Vec<String> {
    let (kb, case) = (&*k.knowledge, k.case());
    open.quick_looks(opened, but)
        .into_iter()
        .map(|l| {
            let places: Vec<String> = l.at.iter().map(|a| case.vehicle.place_words(a)).collect();
            let each = if places.len() > 1 { " each" } else { "" };
            format!("{}: {} ({:.0} min{each})", kb.test(&l.test).map_or("", |t| &t.ask), places.join(", "), l.minutes)
        })
        .collect()
}

/// What is looked at for little once a test has opened something, in words.
fn looks_after(k: &LoadedCase, open: &OpenSymptom<'_>, t: &Test, at: Option<&str>) -> Vec<String> {
    let v = &k.case().vehicle;
    let at = at.and_then(|a| v.place(a));
    looks(k, open, &OpenedPlaces::by_test(v, t, at.as_ref()), Some(&t.id))
}

/// What is looked at for little while a repair at a place is made, in words.
pub fn looks_at_repair(k: &LoadedCase, open: &OpenSymptom<'_>, fault: &str, at: Option<&str>) -> Vec<String> {
    let v = &k.case().vehicle;
    match (k.knowledge.fault(fault), at.and_then(|a| v.place(a))) {
        (Some(f), Some(at)) => looks(k, open, &OpenedPlaces::by_repair(v, f, &at), None),
        _ => vec![],
    }
}

/// What an outcome found `here` would mean, in words: what would then stand first and how sure, or what rises most.
pub fn then_words(k: &LoadedCase, open: &OpenSymptom<'_>, row: &[f64], here: Option<&str>) -> String {
    const HARDLY: f64 = 0.04;
    let (all, p) = (open.hypotheses(), open.beliefs());
    let m = moved(p, row);
    let name = |i: usize| {
        let h = &all[i];
        let fault = k.knowledge.fault(&h.fault).filter(|_| here == Some(h.at.as_str()) && h.gear.is_none() && !h.is_pair());
        fault.map_or_else(
            || cause_words(&k.knowledge, k.case(), &h.fault, &h.at, h.gear.as_deref()),
            |f| format!("{} here", f.name),
        )
    };
    let (first, p_first) = m.first;
    let was = p[m.now.0];
    match () {
        () if all[first].is_unknown() => format!("then none of these, {}", percent_words(p_first)),
        () if p_first >= k.knowledge.weights.gate.certainty => {
            format!("{} {}: enough to repair it", name(first), percent_words(p_first))
        }
        () if first != m.now.0 => format!("then {}, {}", name(first), percent_words(p_first)),
        () if (m.now.1 - was).abs() >= HARDLY => {
            format!("{} {}, from {}", name(first), percent_words(m.now.1), percent_words(was))
        }
        () if m.gain >= HARDLY => format!("{} rises to {}", name(m.rises.0), percent_words(m.rises.1)),
        () => "changes little".into(),
    }
}

/// The cautions that stand at a test on this vehicle as it stands.
pub fn cautions(k: &LoadedCase, t: &Test, more: Option<&str>) -> Vec<CautionView> {
    let more = more.and_then(|id| k.knowledge.caution(id));
    at_test(k.case(), &k.knowledge, t).into_iter().chain(more).map(CautionView::new).collect()
}

/// What was answered last to a test, in words; empty where nothing was.
fn answered(k: &LoadedCase, t: &OpenTest) -> String {
    let case = k.case();
    let same = |o: &&baricord_core::case::Observation| {
        o.test == t.test && o.gear == t.gear && (o.at == t.at || t.places.iter().any(Option::is_some)) && !o.is_after()
    };
    let last = case.observations.iter().rev().find(same);
    last.map_or(String::new(), |o| match o.outcome.as_str() {
        NOT_POSSIBLE => "cannot be made here".into(),
        _ => {
            let place = o.at.as_deref().filter(|_| t.at.is_none());
            outcome_words(&k.knowledge, &case.vehicle, &o.test, &o.outcome, place)
        }
    })
}

/// A card of a test.
pub fn card(k: &LoadedCase, open: &OpenSymptom<'_>, t: &OpenTest, number: usize) -> Option<TestCard> {
    let (kb, case) = (&*k.knowledge, k.case());
    let rule = kb.test(&t.test)?;
    let symptom = k.symptom.clone().unwrap_or_default();
    let (p, open_bits) = (open.beliefs(), k.answer().map_or(0.0, |a| a.open_bits));
    let came = t.outcomes.iter().zip(&t.places).zip(&t.rows);
    let chance = |row: &[f64]| row.iter().zip(p).map(|(l, p)| l * p).sum::<f64>();
    let outcomes = came
        .map(|(o, row)| (o, row, chance(row)))
        .filter(|(_, _, p)| *p > 0.0)
        .filter_map(|((o, place), row, p)| {
            let then = then_words(k, open, row, place.as_deref().or(t.at.as_deref()));
            button(k, rule, o, place.as_deref(), then, p)
        })
        .collect();
    let (at, gear) = (t.at.as_deref(), t.gear.as_deref());
    let href = href_of_test(kb, k.stored.id, &t.test, at, gear, &symptom);
    let is_read = station_of_test(kb, &t.test) == Station::Measure;
    let places = tries_on(&case.vehicle, rule).len();
    let runs = k.answer().into_iter().flat_map(|a| &a.next).filter(|n| n.test == t.test).flat_map(|n| &n.runs);
    Some(TestCard {
        number,
        test: rule.id.clone(),
        recorded: rule.recorded,
        by_balance: rule.instrument().filter(|i| i.kind == InstrumentKind::Answer).map(|i| i.how),
        at: t.at.clone().unwrap_or_default(),
        gear: t.gear.clone().unwrap_or_default(),
        ask: ask_words(kb, case, &rule.id, at, gear),
        how: rule.how.clone(),
        minutes: format!("{:.0}", t.minutes),
        answers: answers_words(information_gain(p, &t.rows), open_bits),
        posture: rule.posture().join(", "),
        holds: words_for_test(case, rule),
        cautions: cautions(k, rule, None),
        checks: running_checks(case, rule),
        outcomes,
        also: also_of(rule),
        read_at: match () {
            () if is_read => href.clone(),
            () if rule.recorded => format!("/cases/{}/road?s={symptom}#record", k.stored.id),
            () => String::new(),
        },
        runs: runs.map(Leg::words).collect(),
        looks: looks_after(k, open, rule, at),
        with_it: vec![],
        with_words: if rule.is_of_the_road() { "On the same drive" } else { "Where you stand anyway" },
        answered: answered(k, t),
        everywhere: if places > 1 { crate::stations::everywhere::href(k.stored.id, &rule.id, &symptom) } else { String::new() },
        places,
        href,
    })
}

/// The card of one test, whether it is worth making or was made already.
pub fn one_card(k: &LoadedCase, open: &OpenSymptom<'_>, test: &str, at: Option<&str>, gear: Option<&str>) -> Option<TestCard> {
    card(k, open, &open.any_test(test, at, gear)?, 1)
}

/// What is looked at with a test for nothing, where one stands.
pub fn with_it(k: &LoadedCase, open: &OpenSymptom<'_>, test: &str, at: Option<&str>, gear: Option<&str>) -> Vec<WithIt> {
    let Some(symptom) = k.symptom.as_deref() else { return vec![] };
    open.tests_with_step((test, at, gear))
        .into_iter()
        .map(|r| WithIt {
            words: ask_words(&k.knowledge, k.case(), &r.test, r.at.as_deref(), r.gear.as_deref()),
            minutes: format!("{:.0} min", r.minutes),
            href: href_of_test(&k.knowledge, k.stored.id, &r.test, r.at.as_deref(), r.gear.as_deref(), symptom),
        })
        .collect()
}

/// Cards for the proposed tests of a case, the first step of the plan first.
pub fn cards(k: &LoadedCase, open: &OpenSymptom<'_>, wanted: impl Fn(&Test, Option<&str>) -> bool, most: usize) -> Vec<TestCard> {
    let Some(a) = k.answer() else { return vec![] };
    a.next
        .iter()
        .filter(|n| k.knowledge.test(&n.test).is_some_and(|t| wanted(t, n.at.as_deref())))
        .take(most)
        .filter_map(|n| open.open_test(&n.test, n.at.as_deref(), n.gear.as_deref()))
        .enumerate()
        .filter_map(|(i, t)| card(k, open, &t, i + 1))
        .collect()
}
