//! Decide: the next step with what each outcome would mean, the two after it, and the causes that can be repaired.

mod weighed_then;

use crate::App;
use crate::auth::Member;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::ledger::{because_words, overturn_words};
use crate::next_view::href_of_test;
use crate::page::{Frame, LoadedCase, Which};
use crate::pages_ahead::MadePage;
use crate::printout::due_words;
use crate::rendered_pages::Page;
use crate::stations::form::Posted;
use crate::stations::test_cards::{TestCard, WithIt, looks_at_repair, one_card, with_it};
use crate::wording::{ask_words, cause_words, money};
use askama::Template;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::case::fault_at::FaultAt;
use baricord_core::edit::act::CaseAct;
use baricord_core::error::Problem;
use baricord_core::reasoning::gate::{Gate, Gates};
use baricord_core::reasoning::plan::PlanStep;
use baricord_core::reasoning::wording::{
    answers_words, outcome_words, pair_words, percent_words, ranked_words, repair_words, twins_words,
};
use baricord_core::reasoning::{DiagnosisStatus, NextTest, OpenSymptom, Ranked, SymptomAnswer};
use baricord_core::repair::purchasing::ChosenRepair;
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::ActionKind;
use uuid::Uuid;

/// A cause that can be repaired from the page.
pub struct CauseRow {
    pub fault: String,
    pub at: String,
    pub gear: String,
    /// The other one of a pair, as `fault@place`.
    pub with: Vec<String>,
    pub words: String,
    pub percent: String,
    pub bar: f64,
    pub because: Vec<(String, String)>,
    /// Why a reason is asked; nothing where the way is free.
    pub asked: Vec<String>,
    /// What it costs on average until the vehicle is cured when it is repaired now, and when it is tested first.
    pub costs: String,
    pub options: Vec<OptionRow>,
    /// What is looked at for little while it is open.
    pub looks: Vec<String>,
    /// It is the next step of the plan: no reason is asked.
    pub is_planned: bool,
}

/// A way to buy a part.
pub struct OptionRow {
    pub id: String,
    pub words: String,
    pub price: String,
    pub hours: String,
    pub years: String,
    pub per_year: String,
    pub risk: String,
}

/// A move of the plan that comes after the next step.
pub struct PlannedTest {
    pub number: usize,
    pub words: String,
    pub minutes: String,
    pub href: String,
    /// What its likeliest outcomes would mean.
    pub meanings: Vec<String>,
}

/// A test that is no part of the plan.
pub struct OtherTest {
    pub words: String,
    pub minutes: String,
    pub answers: String,
    pub href: String,
}

#[derive(Template)]
#[template(path = "decide/decide.html")]
struct DecidePage {
    f: Frame,
    sentence: String,
    /// The next step of this symptom's plan, where it is a test.
    head: Option<TestCard>,
    /// The next step of this symptom's plan, where acting beats testing.
    repair: Option<CauseRow>,
    /// Nothing that is known fits: it is handed on.
    hands_on: bool,
    /// The next step of the case is of another symptom, or another kind: its words and where it is done.
    elsewhere: Option<(String, String)>,
    then: Vec<PlannedTest>,
    /// The likeliest causes, and those after them.
    causes: Vec<CauseRow>,
    more_causes: Vec<CauseRow>,
    /// What repairing now costs against testing first.
    costs: String,
    others: Vec<OtherTest>,
    /// What would put another cause first.
    overturn: Vec<String>,
    line: u32,
    history: Vec<(String, String)>,
    /// What was changed as due, which is no diagnosis.
    due: Vec<String>,
    /// The symptom is cured.
    is_cured: bool,
    /// Decisions that today's knowledge would weigh otherwise.
    weighed_then: Vec<weighed_then::WeighedThenView>,
}

/// Causes that are shown at once, of those that can be acted on.
const SHOWN: usize = 3;
/// Answers of the next step that are shown at once: the station where it is made shows all.
const ANSWERS: usize = 4;
/// Outcomes of a later step whose meaning is shown.
const MEANINGS: usize = 2;

/// What the likeliest outcomes of a planned move would mean.
fn meanings(k: &LoadedCase, s: &PlanStep) -> Vec<String> {
    let (kb, case) = (&*k.knowledge, k.case());
    let mut outcomes: Vec<_> = s.outcomes.iter().filter(|o| o.p >= 0.01).collect();
    outcomes.sort_by(|x, y| y.p.total_cmp(&x.p));
    outcomes
        .iter()
        .take(MEANINGS)
        .map(|o| {
            let first = match o.fault.as_str() {
                "others" => "none stands out".to_string(),
                fault => format!("{} {}", cause_words(kb, case, fault, &o.at, None), percent_words(o.p_then)),
            };
            match (&s.test, o.outcome.as_str()) {
                (_, "cured") => format!("{} cured", percent_words(o.p)),
                (Some(t), outcome) => {
                    format!("{}: {first}", outcome_words(kb, &case.vehicle, t, outcome, o.place.as_deref()))
                }
                (None, _) => format!("not cured: {first}"),
            }
        })
        .collect()
}

/// The moves of the plan after the next step.
fn then(k: &LoadedCase, a: &SymptomAnswer) -> Vec<PlannedTest> {
    let (kb, case) = (&*k.knowledge, k.case());
    let step = |(i, s): (usize, &PlanStep)| {
        let (at, gear) = (s.at.as_deref(), s.gear.as_deref());
        let (words, href) = match (&s.test, s.fault.as_deref()) {
            (Some(t), _) => (ask_words(kb, case, t, at, gear), href_of_test(kb, k.stored.id, t, at, gear, &a.id)),
            (None, Some("unknown")) => ("Hand it on: nothing that is known here fits".into(), String::new()),
            (None, f) => {
                let words = pair_words(kb, &case.vehicle, f.unwrap_or_default(), at.unwrap_or("none"), gear, &s.with);
                (format!("Repair: {words}"), String::new())
            }
        };
        PlannedTest { number: i + 1, words, minutes: format!("{:.0} min", s.minutes), href, meanings: meanings(k, s) }
    };
    a.plan.steps.iter().enumerate().skip(1).map(step).collect()
}

/// The open tests that are no part of the plan.
fn others(k: &LoadedCase, a: &SymptomAnswer) -> Vec<OtherTest> {
    let planned = |n: &NextTest| {
        a.plan.steps.iter().any(|s| s.test.as_deref() == Some(n.test.as_str()) && s.at == n.at && s.gear == n.gear)
    };
    let (kb, case) = (&*k.knowledge, k.case());
    a.next
        .iter()
        .filter(|n| !planned(n))
        .map(|n| OtherTest {
            words: ask_words(kb, case, &n.test, n.at.as_deref(), n.gear.as_deref()),
            minutes: format!("{:.0} min", n.minutes),
            answers: answers_words(n.bits, a.open_bits),
            href: href_of_test(kb, k.stored.id, &n.test, n.at.as_deref(), n.gear.as_deref(), &a.id),
        })
        .collect()
}

fn cause_row(k: &LoadedCase, open: &OpenSymptom<'_>, g: &Gates, r: &Ranked, c: &Gate) -> CauseRow {
    let kb = &*k.knowledge;
    let now = format!("Repaired now it costs {} on average until it is cured", money(kb, c.order_now));
    CauseRow {
        fault: r.fault.clone(),
        at: r.at.clone(),
        gear: r.gear.clone().unwrap_or_default(),
        with: r.with.iter().map(FaultAt::id).collect(),
        words: ranked_words(kb, &k.case().vehicle, r),
        percent: percent_words(r.p),
        bar: 100.0 * r.p,
        because: because_words(r, 8),
        asked: g.asked_words(kb, &k.case().vehicle, &c.asked),
        costs: match g.test_first {
            Some(t) if !g.enough => format!("{now}, tested first {}.", money(kb, t)),
            _ => format!("{now}."),
        },
        options: c
            .options
            .iter()
            .map(|o| OptionRow {
                id: o.id.clone(),
                words: o.words.clone(),
                price: money(kb, o.price),
                hours: format!("{:.1}\u{a0}h", o.minutes / 60.0),
                years: format!("{:.0}", o.years),
                per_year: money(kb, o.per_year),
                risk: o.risk.clone(),
            })
            .collect(),
        looks: looks_at_repair(k, open, &r.fault, Some(&r.at)),
        is_planned: c.planned,
    }
}

fn causes(k: &LoadedCase, open: &OpenSymptom<'_>, a: &SymptomAnswer, g: &Gates) -> Vec<CauseRow> {
    let same = |r: &Ranked, c: &Gate| r.fault == c.fault && r.at == c.at && r.gear == c.gear && r.with == c.with;
    let at_gate = a.ranked.iter().filter_map(|r| g.causes.iter().find(|c| same(r, c)).map(|c| (r, c)));
    at_gate.map(|(r, c)| cause_row(k, open, g, r, c)).collect()
}

/// Where the search stands, in one sentence.
fn sentence(k: &LoadedCase, a: &SymptomAnswer) -> String {
    let named = |r: &Ranked| ranked_words(&k.knowledge, &k.case().vehicle, r);
    if let Some(t) = a.twins().filter(|_| a.plan.enough) {
        return format!("{}: {}. Enough to repair.", twins_words(&k.knowledge, &k.case().vehicle, &t), percent_words(t.p));
    }
    match a.status(k.knowledge.weights.gate.certainty) {
        DiagnosisStatus::Sure(r) if a.plan.enough => format!("{} is sure enough to repair.", named(r)),
        DiagnosisStatus::Sure(r) => format!("{} is nearly sure; one more look costs less than a part in vain.", named(r)),
        _ if a.plan.enough => "More testing would cost more than it saves.".into(),
        DiagnosisStatus::Left(1) => "One suspect is left, not sure enough yet.".into(),
        DiagnosisStatus::Left(n) => format!("{n} suspects are left."),
        DiagnosisStatus::Leads(r) => format!("{} leads, but most of it is open.", named(r)),
        DiagnosisStatus::Open => "Nothing stands out yet: the cheapest tests first.".into(),
    }
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    // What decisions rested on is kept by edits: it changes with the case.
    let mut slot = m.page("decide", w.s.as_deref()).of(&mut s, id).await?;
    if let Some(page) = slot.held(&mut s).await? {
        return Ok(page);
    }
    let k = slot.load(&mut s).await?;
    let weighed_then = weighed_then::weighed_then(&mut s, &k).await?;
    drop(s);
    slot.or_make(move || Ok(k.with_open(|open| decide_page(&m, &k, open, weighed_then)))).await
}

/// The page before somebody asks for it.
pub fn ahead(m: Member, id: Uuid) -> MadePage {
    Box::pin(show(m, Path(id), Query(Which::default())))
}

fn decide_page(
    m: &Member,
    k: &LoadedCase,
    open: &OpenSymptom<'_>,
    weighed_then: Vec<weighed_then::WeighedThenView>,
) -> DecidePage {
    let f = Frame::new(m, k, Station::Decide);
    let (kb, case) = (&*k.knowledge, k.case());
    let mut page = DecidePage {
        f,
        sentence: String::new(),
        head: None,
        repair: None,
        hands_on: false,
        elsewhere: None,
        then: vec![],
        causes: vec![],
        more_causes: vec![],
        costs: String::new(),
        others: vec![],
        overturn: vec![],
        line: (kb.weights.gate.certainty * 100.0).round() as u32,
        history: vec![],
        due: vec![],
        is_cured: false,
        weighed_then,
    };
    let Some(a) = k.answer() else {
        page.sentence = "No symptom yet: begin with the driver's words.".into();
        return page;
    };
    let Some(g) = k.assessment.of_symptom(&a.id).map(|s| &s.gates) else { return page };
    let mut causes = causes(k, open, a, g);
    page.due = due_words(k);
    page.history = history(k);
    if let Some(r) = case.cured_by(&a.id) {
        page.sentence = format!(
            "Cured: {}. Nothing is left to decide; if it comes back, what was known then stands here.",
            repair_words(kb, case, r)
        );
        page.is_cured = true;
    } else {
        page.sentence = sentence(k, a);
        let first = a.plan.steps.first();
        if let Some(test) = first.and_then(|s| s.test.as_deref()) {
            let (at, gear) = (first.and_then(|s| s.at.as_deref()), first.and_then(|s| s.gear.as_deref()));
            let card = one_card(k, open, test, at, gear).map(|c| c.fold_rare(ANSWERS));
            // What is a step of the plan is not listed twice.
            let planned = |w: &WithIt| {
                a.plan
                    .steps
                    .iter()
                    .filter_map(|s| Some((s.test.as_deref()?, s)))
                    .any(|(t, s)| w.href == href_of_test(kb, k.stored.id, t, s.at.as_deref(), s.gear.as_deref(), &a.id))
            };
            page.head = card.map(|c| TestCard {
                with_it: with_it(k, open, test, at, gear).into_iter().filter(|w| !planned(w)).collect(),
                ..c
            });
        }
        page.hands_on = first.is_some_and(|s| s.fault.as_deref() == Some("unknown"));
        if let Some(i) = causes.iter().position(|c| c.is_planned) {
            page.repair = Some(causes.remove(i));
        }
        page.then = then(k, a);
        page.others = others(k, a);
        let with: Vec<&str> = page.head.iter().flat_map(|h| &h.with_it).map(|w| w.href.as_str()).collect();
        page.others.retain(|o| !with.contains(&o.href.as_str()));
        page.overturn = overturn_words(k, &a.id, 3);
        // The case goes on elsewhere: with another symptom, or with a repair that is planned.
        let own = matches!(k.assessment.next.kind, ActionKind::Test | ActionKind::Choose | ActionKind::HandOn);
        if !own || k.assessment.next.symptom.as_deref() != Some(a.id.as_str()) {
            page.elsewhere = Some((k.assessment.next.words_with_minutes(), page.f.next.href.clone()));
        }
    }
    if let (Some(first), Some(t), false) = (g.causes.first(), g.test_first, a.plan.enough) {
        let words = cause_words(kb, case, &first.fault, &first.at, first.gear.as_deref());
        page.costs = format!(
            "Repairing “{words}” now costs {} on average until it is cured, testing first {}.",
            money(kb, first.order_now),
            money(kb, t)
        );
    }
    page.more_causes = causes.split_off(causes.len().min(SHOWN));
    page.causes = causes;
    page
}

/// Repairs that were judged, with how they ended.
fn history(k: &LoadedCase) -> Vec<(String, String)> {
    let judged = k.case().repairs.iter().filter(|r| !r.is_open());
    judged.map(|r| (repair_words(&k.knowledge, k.case(), r), r.result.as_deref().unwrap_or_default().replace('-', " "))).collect()
}

/// A cause is chosen: a repair is planned for it. A part that is due anyway is changed without calling it the cause.
async fn choose(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let with = f.all("with").iter().map(|w| FaultAt::parse(w)).collect::<Option<Vec<_>>>();
    let unread = || Problem::new("bad-pair", "what is repaired with it is named as fault@place").field("with");
    let chosen = Box::new(ChosenRepair {
        fault: f.need("fault", "the cause")?.into(),
        at: f.owned("at"),
        gear: f.owned("gear"),
        with: with.ok_or_else(unread)?,
        part: f.owned("part"),
        symptom: f.owned("symptom"),
        reason: f.owned("reason"),
    });
    let is_due = f.text("due") == Some("yes");
    let act = if is_due { CaseAct::ReplaceAsDue(chosen) } else { CaseAct::ChooseRepair(chosen) };
    keep_now(&m, id, &f, act).await?;
    let then = if is_due { "decide" } else { "repair" };
    Ok(Redirect::to(&format!("/cases/{id}/{then}?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/decide", get(show)).route("/cases/{id}/repairs", post(choose))
}
