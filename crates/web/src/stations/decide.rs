//! Decide: the next tests with what each outcome would do, answered with one tap; and the choice of a cause.

use super::cards::{TestCard, cards, looks_at_repair};
use super::fields::Fields;
use crate::App;
use crate::auth::Member;
use crate::fail::{Fail, may, may_write};
use crate::page::{Frame, Known, Which, ask_words, bits, cause_words, overturn_words, ranked_words};
use crate::warmth::observed;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::entries::append;
use baricord_core::permission::Act;
use baricord_core::problem::Problem;
use baricord_core::progress::Station;
use baricord_core::reasoning::gate::{Asked, Gate, Gates, due_untold, gates};
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::{Ranked, Stands};
use baricord_core::road_coach::Leg;
use serde_json::json;
use uuid::Uuid;

pub struct CauseRow {
    pub fault: String,
    pub at: String,
    pub gear: String,
    pub words: String,
    pub percent: String,
    pub bar: f64,
    pub because: Vec<(String, String)>,
    /// Why a reason is asked; nothing where the way is free.
    pub asked: Vec<String>,
    /// Ordering now beside testing first.
    pub costs: Vec<CostBar>,
    pub options: Vec<OptionRow>,
}

/// What a way to begin costs on average until the vehicle is cured.
pub struct CostBar {
    pub words: &'static str,
    pub cost: String,
    pub bar: f64,
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

/// A move of the plan.
pub struct PlanStep {
    pub number: usize,
    pub words: String,
    pub minutes: String,
    pub cost: String,
    pub is_repair: bool,
    pub meanings: Vec<String>,
    /// What is looked at for little while it is open.
    pub looks: Vec<String>,
    /// Where it is recorded: the runs to drive.
    pub runs: Vec<String>,
}

#[derive(Template, WebTemplate)]
#[template(path = "decide.html")]
struct DecidePage {
    f: Frame,
    sentence: String,
    cards: Vec<TestCard>,
    plan: Vec<PlanStep>,
    plan_cost: String,
    causes: Vec<CauseRow>,
    /// What would put another cause first.
    overturn: Vec<String>,
    line: u32,
    history: Vec<(String, String)>,
    /// What was changed as due, which is no diagnosis.
    due: Vec<String>,
    /// The symptom is cured.
    is_cured: bool,
}

/// Causes that can be acted on from the page.
const ACTED_ON: usize = 12;

/// Money without cents.
fn money(x: f64) -> String {
    format!("{x:.0}")
}

/// The plan in words; the likeliest outcomes first.
fn plan(k: &Known) -> Vec<PlanStep> {
    let (kb, case) = (&*k.knowledge, k.case());
    let Some(a) = k.answer() else { return vec![] };
    a.course
        .steps
        .iter()
        .enumerate()
        .map(|(i, s)| {
            let test = s.test.as_deref();
            let at = s.at.as_deref();
            let words = match (test, s.fault.as_deref()) {
                (Some(t), _) => ask_words(kb, case, t, at, s.gear.as_deref()),
                (None, Some("unknown")) => "Hand it on: nothing that is known fits".into(),
                (None, f) => {
                    format!("Repair: {}", cause_words(kb, case, f.unwrap_or_default(), at.unwrap_or("none"), s.gear.as_deref()))
                }
            };
            let mut outcomes: Vec<_> = s.outcomes.iter().filter(|o| o.p >= 0.01).collect();
            outcomes.sort_by(|x, y| y.p.total_cmp(&x.p));
            let meanings = outcomes
                .iter()
                .take(4)
                .map(|o| {
                    let rule = test.and_then(|t| kb.test(t)).and_then(|t| t.outcome(&o.outcome));
                    let outcome = rule.map_or(o.outcome.replace('-', " "), |r| r.words.clone());
                    let first = match o.fault.as_str() {
                        "others" => "none stands out, all small ones together".to_string(),
                        fault => cause_words(kb, case, fault, &o.at, None),
                    };
                    match o.outcome.as_str() {
                        "cured" => format!("{:.0}\u{a0}% cured", 100.0 * o.p),
                        _ => format!("{:.0}\u{a0}% {outcome}: then {first} {:.0}\u{a0}%", 100.0 * o.p, 100.0 * o.p_then),
                    }
                })
                .collect();
            PlanStep {
                number: i + 1,
                words,
                minutes: format!("{:.0}", s.minutes),
                cost: money(s.cost),
                is_repair: test.is_none(),
                runs: a.next.iter().filter(|n| Some(n.test.as_str()) == test).flat_map(|n| &n.runs).map(Leg::words).collect(),
                meanings,
                looks: s.fault.as_deref().map_or(vec![], |f| looks_at_repair(k, f, at)),
            }
        })
        .collect()
}

/// Why a reason is asked, in words.
fn asked_words(k: &Known, g: &Gates, asked: &[Asked]) -> Vec<String> {
    asked
        .iter()
        .map(|a| match (a, &g.parting) {
            (Asked::PartingTest, Some(t)) => format!(
                "{} is still open: {:.0} minutes",
                ask_words(&k.knowledge, k.case(), &t.test, t.at.as_deref(), t.gear.as_deref()),
                t.minutes
            ),
            _ => format!("less sure than the {:.0} % from which this workshop buys parts", 100.0 * g.certainty),
        })
        .collect()
}

fn causes(k: &Known, g: &Gates) -> Vec<CauseRow> {
    let (kb, case) = (&*k.knowledge, k.case());
    let Some(a) = k.answer() else { return vec![] };
    let same = |r: &Ranked, c: &Gate| r.fault == c.fault && r.at == c.at && r.gear == c.gear && r.with == c.with;
    let dearest = g.causes.iter().map(|c| c.order_now).chain(g.test_first).fold(1.0, f64::max);
    let bar = |words: &'static str, cost: f64| CostBar { words, cost: money(cost), bar: 100.0 * cost / dearest };
    a.ranked
        .iter()
        .filter_map(|r| g.causes.iter().find(|c| same(r, c)).map(|c| (r, c)))
        .map(|(r, c)| CauseRow {
            fault: r.fault.clone(),
            at: r.at.clone(),
            gear: r.gear.clone().unwrap_or_default(),
            words: ranked_words(kb, case, r),
            percent: if r.p < 0.005 { "under 1".into() } else { format!("{:.0}", 100.0 * r.p) },
            bar: 100.0 * r.p,
            because: r.because.iter().take(8).map(|b| (b.evidence.clone(), bits(b.bits))).collect(),
            asked: asked_words(k, g, &c.asked),
            costs: std::iter::once(bar("ordered now", c.order_now)).chain(g.test_first.map(|t| bar("tested first", t))).collect(),
            options: c
                .options
                .iter()
                .map(|o| OptionRow {
                    id: o.id.clone(),
                    words: o.words.clone(),
                    price: money(o.price),
                    hours: format!("{:.1}", o.minutes / 60.0),
                    years: format!("{:.0}", o.years),
                    per_year: money(o.per_year),
                    risk: o.risk.clone(),
                })
                .collect(),
        })
        .collect()
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<DecidePage, Fail> {
    let mut s = m.scope().await?;
    let k = Known::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Decide).await?;
    let (kb, case) = (&*k.knowledge, k.case());
    let sure = kb.weights.gate.certainty;
    let mut page = DecidePage {
        f,
        sentence: String::new(),
        cards: cards(&k, |_| true, 3),
        plan: plan(&k),
        plan_cost: k.answer().map_or(String::new(), |a| money(a.course.cost)),
        causes: vec![],
        overturn: k.symptom.as_deref().map_or(vec![], |s| overturn_words(&k, s, 3)),
        line: (sure * 100.0).round() as u32,
        history: vec![],
        due: vec![],
        is_cured: false,
    };
    let Some(a) = k.answer() else {
        page.sentence = "No symptom yet: begin with the driver's words.".into();
        return Ok(page);
    };
    let named = |r: &Ranked| cause_words(kb, case, &r.fault, &r.at, r.gear.as_deref());
    page.sentence = match a.stands(sure) {
        Stands::Sure(r) => format!("{} is sure enough to act on.", named(r)),
        Stands::Left(1) => "One suspect is left, not sure enough yet.".into(),
        Stands::Left(n) => format!("{n} suspects are left; these tests separate them in the least time."),
        Stands::Leads(r) => {
            format!(
                "{} stands first, but most of it is open: these tests separate it from the others in the least time.",
                named(r)
            )
        }
        Stands::Open => "Nothing stands out yet: the cheapest tests first.".into(),
    };
    if let Some(r) = case.cured_by(&a.id) {
        let what = cause_words(kb, case, &r.fault, r.at.as_deref().unwrap_or("none"), r.gear.as_deref());
        page.sentence = format!("Cured: {what}. Nothing is left to decide; if it comes back, what was known then stands here.");
        page.is_cured = true;
        (page.cards, page.plan, page.overturn) = (vec![], vec![], vec![]);
    }
    page.causes = causes(&k, &gates(case, kb, &a.id, k.analysis.as_ref(), ACTED_ON));
    page.due = k.stored.document["due"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|d| {
            cause_words(kb, case, d["fault"].as_str().unwrap_or_default(), d["at"].as_str().unwrap_or("none"), d["gear"].as_str())
        })
        .collect();
    page.history = case
        .repairs
        .iter()
        .filter_map(|r| {
            let result = r.result.as_deref().filter(|x| *x != "open")?;
            Some((
                cause_words(kb, case, &r.fault, r.at.as_deref().unwrap_or("none"), r.gear.as_deref()),
                result.replace('-', " "),
            ))
        })
        .collect();
    Ok(page)
}

/// A test's outcome, tapped anywhere.
async fn observe(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let f = Fields(f);
    let kb = builtin();
    let test = f.need("test", "the test")?;
    let t = kb.test(test).ok_or_else(|| Problem::new("unknown-test", format!("no test “{test}”")).field("test"))?;
    let answer = t.answer(f.need("outcome", "the outcome")?, f.text("at"), &f.all("also"), f.text("seen-to") == Some("yes"))?;
    let mut s = m.scope().await?;
    let said = format!("{}: {}", t.ask, answer.words);
    s.edit_case_once(id, f.mark()?, None, &said, &m.person.name, |d| {
        let mut o = json!({"test": test, "outcome": answer.outcome});
        if let Some(s) = f.text("symptom") {
            o["symptom"] = s.into();
        }
        if let Some(at) = &answer.at {
            o["at"] = at.clone().into();
        }
        if let Some(g) = f.text("gear") {
            o["gear"] = g.into();
        }
        if let Some(n) = f.text("note") {
            o["note"] = n.into();
        }
        if !answer.also.is_empty() {
            o["also"] = json!(answer.also);
        }
        observed(d, o, t);
        Ok(())
    })
    .await?;
    s.commit().await?;
    let back = f.text("back").filter(|b| ["decide", "lift", "road"].contains(b)).unwrap_or("decide");
    Ok(Redirect::to(&format!("/cases/{id}/{back}?s={}", f.text("symptom").unwrap_or_default())))
}

/// A cause is chosen: a repair is planned for it. Below the workshop's line, or with a cheap parting test open, not
/// without a reason. A part that is due anyway is changed without calling it the cause.
async fn choose(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, Fail> {
    may(&m, Act::Buy)?;
    let f = Fields(f);
    let fault = f.need("fault", "the cause")?;
    let mut s = m.scope().await?;
    let k = Known::read(&mut s, id, f.text("symptom")).await?;
    let unknown = || Problem::new("unknown-fault", format!("no fault “{fault}”")).field("fault");
    let rule = k.knowledge.fault(fault).ok_or_else(unknown)?;
    let (at, gear, part) = (f.text("at"), f.text("gear"), f.text("part"));
    if let Some(p) = part.filter(|p| !k.knowledge.part(rule).is_some_and(|kind| kind.option.iter().any(|o| o.id == **p))) {
        return Err(Problem::new("unknown-part", format!("“{p}” is no way to buy it")).field("part").into());
    }
    let is_due = f.text("due") == Some("yes");
    if let (false, None, Some(symptom)) = (is_due, f.text("reason"), k.symptom.as_deref()) {
        let g = gates(k.case(), &k.knowledge, symptom, k.analysis.as_ref(), usize::MAX);
        let asked = g.asked_of(fault, at, gear, part);
        if !asked.is_empty() {
            let why = asked_words(&k, &g, &asked).join("; ");
            return Err(Problem::new("reason-needed", format!("say why this part is ordered: {why}")).field("reason").into());
        }
    }
    let mut r = json!({"fault": fault, "at": at});
    let more = [("gear", gear), ("symptom", f.text("symptom")), ("reason", f.text("reason")), ("part", part)];
    for (key, value) in more.into_iter().filter_map(|(k, v)| v.map(|v| (k, v))) {
        r[key] = value.into();
    }
    // A complete unit is an original with more around it.
    if part == Some("unit") {
        (r["part"], r["unit"]) = ("original".into(), true.into());
    }
    let (list, said) = if is_due { ("due", "changed as due") } else { ("repairs", "chose") };
    s.edit_case(id, None, &format!("{said}: {}", rule.name), &m.person.name, |d| {
        let due = due_untold(d);
        if !is_due && !due.is_empty() {
            r["with"] = due.into();
        }
        append(d, list, r);
        Ok(())
    })
    .await?;
    s.commit().await?;
    let then = if is_due { "decide" } else { "repair" };
    Ok(Redirect::to(&format!("/cases/{id}/{then}?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/decide", get(show))
        .route("/cases/{id}/observations", post(observe))
        .route("/cases/{id}/repairs", post(choose))
}
