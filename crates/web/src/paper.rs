//! The ledger of a case as one page: for the desk, for the owner of the vehicle, for a second opinion.

use crate::App;
use crate::auth::Member;
use crate::beside::Beside;
use crate::fail::Fail;
use crate::page::{Known, Ledger, ask_words, cause_words, ledger, marks, readings, subtitle};
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::Path;
use axum::routing::get;
use uuid::Uuid;

/// Everything that the page says.
pub struct Paper {
    pub title: String,
    pub subtitle: String,
    pub band: String,
    pub beside: Beside,
    /// Runs of the simulated recorder, in words.
    pub simulated: String,
    pub ledgers: Vec<Ledger>,
    /// Tests made: what, what came out, what was noted.
    pub tests: Vec<(String, String, String)>,
    /// Readings: where, what.
    pub readings: Vec<(String, String)>,
    /// Runs: which, how driven, the strongest orders.
    pub runs: Vec<(String, String, String)>,
    /// Repairs: what, how it ended.
    pub repairs: Vec<(String, String)>,
    /// Second opinions: question, answer, of whom.
    pub opinions: Vec<(String, String, String)>,
}

impl Paper {
    /// Of a case.
    pub fn of(k: &Known) -> Self {
        let (kb, case) = (&*k.knowledge, k.case());
        let m = marks(k);
        let readings = readings(case).into_iter().map(|p| (case.vehicle.place_words(&p.place), p.text)).collect();
        let tests = case
            .observations
            .iter()
            .map(|o| {
                let rule = kb.test(&o.test).and_then(|t| t.outcome(&o.outcome));
                let words = rule.map_or(o.outcome.clone(), |r| r.words.clone());
                (ask_words(kb, case, &o.test, o.at.as_deref(), o.gear.as_deref()), words, o.note.clone().unwrap_or_default())
            })
            .collect();
        let runs = case
            .recordings
            .iter()
            .map(|r| {
                let phase = if r.is_after() { "after the repair" } else { "before the repair" };
                let gear = r.gear.as_deref().map_or(String::new(), |g| format!(", gear {g}"));
                let throttle = r.throttle.as_deref().map_or(String::new(), |t| format!(", {t}"));
                let found = k.analysis.iter().flat_map(|a| &a.recordings).find(|x| x.id == r.id);
                let orders: Vec<String> = found
                    .iter()
                    .flat_map(|x| x.orders.iter().take(3))
                    .map(|o| {
                        let (level, unit) = (o.level().0, o.unit.as_deref().unwrap_or("m/s²"));
                        format!("{:.2} a wheel turn: {level:.2} {unit} at {:.0} km/h", o.order, o.peak_speed_kmh)
                    })
                    .collect();
                let simulated = if r.is_simulated() { ", simulated" } else { "" };
                (r.id.clone(), format!("{phase}{gear}{throttle}{simulated}"), orders.join("; "))
            })
            .collect();
        let repairs = case
            .repairs
            .iter()
            .map(|r| {
                let result = r.result.as_deref().unwrap_or("planned").replace('-', " ");
                (cause_words(kb, case, &r.fault, r.at.as_deref().unwrap_or("none"), r.gear.as_deref()), result)
            })
            .collect();
        let text = |o: &serde_json::Value, key: &str| o[key].as_str().unwrap_or_default().to_string();
        let opinions = k.stored.document["opinions"].as_array().into_iter().flatten();
        Self {
            title: if case.title.is_empty() { case.vehicle.name.clone() } else { case.title.clone() },
            subtitle: subtitle(case),
            band: crate::drawing::band(&case.vehicle, &crate::drawing::Marks { href: None, ..m }),
            beside: Beside::of(case, &k.stored.document),
            simulated: crate::page::simulated_words(case),
            ledgers: case.symptoms.iter().filter_map(|s| ledger(k, &s.id)).collect(),
            tests,
            readings,
            runs,
            repairs,
            opinions: opinions.map(|o| (text(o, "question"), text(o, "answer"), text(o, "by"))).collect(),
        }
    }
}

#[derive(Template, WebTemplate)]
#[template(path = "paper.html")]
struct PaperPage {
    theme: String,
    back: String,
    p: Paper,
}

async fn show(m: Member, Path(id): Path<Uuid>) -> Result<PaperPage, Fail> {
    let mut s = m.scope().await?;
    let k = Known::read(&mut s, id, None).await?;
    Ok(PaperPage { theme: m.person.theme.clone(), back: format!("/cases/{id}/decide"), p: Paper::of(&k) })
}

/// Routes of the printed ledger.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/paper", get(show))
}
