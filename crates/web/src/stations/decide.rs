//! Decide: the next tests with what each outcome would do, answered with one tap; and the choice of a cause.

use super::fields::{Fields, append};
use crate::App;
use crate::auth::Member;
use crate::fail::{Fail, may_write};
use crate::page::{Frame, Known, Which, ask_words, bits, cause_words};
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::problem::Problem;
use baricord_core::progress::Station;
use baricord_core::reasoning::knowledge::{Test, builtin};
use serde_json::json;
use uuid::Uuid;

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
    /// Places to choose from, where the outcome names one.
    pub stations: Vec<(String, String)>,
    /// A page where numbers are read instead.
    pub read_at: String,
}

pub struct CauseRow {
    pub fault: String,
    pub at: String,
    pub gear: String,
    pub words: String,
    pub percent: u32,
    pub bar: f64,
    pub because: Vec<(String, String)>,
}

/// Cards for the proposed tests of a case.
pub fn cards(k: &Known, wanted: impl Fn(&Test) -> bool, most: usize) -> Vec<TestCard> {
    let (kb, case) = (builtin(), k.case());
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
                    let rule = t.outcome(&o.outcome)?;
                    let falls = first
                        .filter(|f| f.p - o.first_then > 0.04)
                        .map(|f| format!("the first falls from {:.0} to {:.0} %", f.p * 100.0, o.first_then * 100.0));
                    let rises = (o.gain > 0.05).then(|| {
                        format!("{} rises to {:.0} %", cause_words(kb, case, &o.rises, &o.rises_at, None), o.rises_to * 100.0)
                    });
                    let then = match (rises, falls) {
                        (Some(r), Some(f)) => format!("{r}; {f}"),
                        (Some(r), None) => r,
                        (None, Some(f)) => f,
                        (None, None) => "changes little".into(),
                    };
                    Some(OutcomeButton { id: o.outcome.clone(), words: rule.words.clone(), then })
                })
                .collect();
            let stations = if t.locates.is_some() {
                case.vehicle
                    .places()
                    .into_iter()
                    .filter(|p| t.at.iter().any(|kind| place_matches(&case.vehicle, p, kind)))
                    .map(|p| (p.id, p.words))
                    .collect()
            } else {
                vec![]
            };
            let read_at = match t.id.as_str() {
                "runout-survey" => {
                    format!("/cases/{}/measure?tool=runout&at={}.centre", k.stored.id, n.at.clone().unwrap_or_default())
                }
                "half-shaft-runout" => {
                    format!("/cases/{}/measure?tool=runout&at={}", k.stored.id, n.at.clone().unwrap_or_default())
                }
                "angle-survey" => format!("/cases/{}/measure?tool=angles&at={}", k.stored.id, n.at.clone().unwrap_or_default()),
                "speed-sweep" => format!("/cases/{}/road", k.stored.id),
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
                settles: format!("{:.2} of {:.1} bits", n.bits, a.open_bits),
                cautions: t.caution.iter().filter_map(|c| kb.caution(c)).map(String::from).collect(),
                outcomes,
                stations,
                read_at,
            }
        })
        .collect()
}

fn place_matches(v: &baricord_core::vehicle::Vehicle, p: &baricord_core::vehicle::Place, kind: &str) -> bool {
    baricord_core::reasoning::place_is(v, p, kind)
}

#[derive(Template, WebTemplate)]
#[template(path = "decide.html")]
struct DecidePage {
    f: Frame,
    sentence: String,
    cards: Vec<TestCard>,
    causes: Vec<CauseRow>,
    line: u32,
    history: Vec<(String, String)>,
}

/// Below this a cause is not sure enough to buy parts for.
const SURE: f64 = 0.8;

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<DecidePage, Fail> {
    let mut s = m.scope().await?;
    let k = Known::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Decide).await?;
    let kb = builtin();
    let case = k.case();
    let mut page = DecidePage {
        f,
        sentence: String::new(),
        cards: cards(&k, |_| true, 3),
        causes: vec![],
        line: (SURE * 100.0) as u32,
        history: vec![],
    };
    let Some(a) = k.answer() else {
        page.sentence = "No symptom yet: begin with the driver's words.".into();
        return Ok(page);
    };
    let left = a.ranked.iter().filter(|r| r.fault != "unknown" && r.p >= 0.08).count();
    let first = a.ranked.iter().find(|r| r.fault != "unknown");
    page.sentence = match (left, first) {
        (_, Some(r)) if r.p >= SURE => {
            format!("{} is sure enough to act on.", cause_words(kb, case, &r.fault, &r.at, r.gear.as_deref()))
        }
        (0, _) => "Nothing stands out yet: the cheapest tests first.".into(),
        (1, _) => "One suspect is left, not sure enough yet.".into(),
        (n, _) => format!("{n} suspects are left; these tests part them for the least time."),
    };
    page.causes = a
        .ranked
        .iter()
        .filter(|r| r.fault != "unknown")
        .take(12)
        .filter(|r| r.p >= 0.004)
        .map(|r| CauseRow {
            fault: r.fault.clone(),
            at: r.at.clone(),
            gear: r.gear.clone().unwrap_or_default(),
            words: cause_words(kb, case, &r.fault, &r.at, r.gear.as_deref()),
            percent: (100.0 * r.p).round() as u32,
            bar: 100.0 * r.p,
            because: r.because.iter().take(8).map(|b| (b.evidence.clone(), bits(b.bits))).collect(),
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
    let outcome = f.need("outcome", "the outcome")?;
    let rule = t
        .outcome(outcome)
        .ok_or_else(|| Problem::new("unknown-outcome", format!("{test} has no outcome “{outcome}”")).field("outcome"))?;
    let mut s = m.scope().await?;
    let at = f.text("at").map(String::from);
    let said = format!("{}: {}", t.ask, rule.words);
    s.edit_case(id, None, &said, &m.person.name, |d| {
        let mut o = json!({"test": test, "outcome": outcome});
        if let Some(s) = f.text("symptom") {
            o["symptom"] = s.into();
        }
        if let Some(at) = &at {
            o["at"] = at.clone().into();
        }
        if let Some(g) = f.text("gear") {
            o["gear"] = g.into();
        }
        append(d, "observations", o);
        if t.lift {
            d["state"]["on"] = "lift".into();
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    let back = f.text("back").filter(|b| ["decide", "lift", "road"].contains(b)).unwrap_or("decide");
    Ok(Redirect::to(&format!("/cases/{id}/{back}?s={}", f.text("symptom").unwrap_or_default())))
}

/// A cause is chosen: a repair is planned for it.
async fn choose(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let f = Fields(f);
    let kb = builtin();
    let fault = f.need("fault", "the cause")?;
    let rule = kb.fault(fault).ok_or_else(|| Problem::new("unknown-fault", format!("no fault “{fault}”")).field("fault"))?;
    let mut s = m.scope().await?;
    s.edit_case(id, None, &format!("chose: {}", rule.name), &m.person.name, |d| {
        let mut r = json!({"fault": fault, "at": f.text("at")});
        if let Some(g) = f.text("gear") {
            r["gear"] = g.into();
        }
        if let Some(x) = f.text("symptom") {
            r["symptom"] = x.into();
        }
        if let Some(x) = f.text("reason") {
            r["reason"] = x.into();
        }
        append(d, "repairs", r);
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/repair?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/decide", get(show))
        .route("/cases/{id}/observations", post(observe))
        .route("/cases/{id}/repairs", post(choose))
}
