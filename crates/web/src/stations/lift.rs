//! Lift: a walk under the vehicle in the order of least effort, one question at a time; what was looked at so far.

use super::decide::{OutcomeButton, falls_and_rises};
use super::fields::{Fields, append};
use crate::App;
use crate::auth::Member;
use crate::fail::{Fail, may_write};
use crate::page::{Frame, Known, ask_words};
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::lift_walk::{AskedLater, Stop, walk};
use baricord_core::problem::Problem;
use baricord_core::progress::Station;
use serde_json::json;
use uuid::Uuid;

/// The question that is asked now.
struct Asked {
    test: String,
    at: String,
    gear: String,
    ask: String,
    how: String,
    minutes: String,
    settles: String,
    reach: &'static str,
    cautions: Vec<String>,
    /// Wheels turn under power: what must be seen to first.
    acknowledge: bool,
    again: bool,
    outcomes: Vec<OutcomeButton>,
    stations: Vec<(String, String)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "lift.html")]
struct LiftPage {
    f: Frame,
    asked: Option<Asked>,
    number: usize,
    count: usize,
    /// What comes after: words, how it is reached, where to ask it at once.
    to_come: Vec<(String, String, String)>,
    done: Vec<(String, String, String)>,
    up: bool,
}

/// Which stop is asked: the first where it is left out.
#[derive(serde::Deserialize)]
struct WhichStop {
    s: Option<String>,
    test: Option<String>,
    at: Option<String>,
    gear: Option<String>,
}

fn later(document: &serde_json::Value) -> Vec<AskedLater> {
    serde_json::from_value(document["asked_later"].clone()).unwrap_or_default()
}

fn asked(k: &Known, s: &Stop) -> Option<Asked> {
    let (kb, case) = (&*k.knowledge, k.case());
    let rule = kb.test(&s.test.test)?;
    let a = k.answer()?;
    let p = baricord_core::reasoning::beliefs(case, kb, &a.id, k.analysis.as_ref());
    let outcomes = rule
        .outcomes
        .iter()
        .zip(&s.test.rows)
        .map(|(o, row)| OutcomeButton { id: o.id.clone(), words: o.words.clone(), then: falls_and_rises(k, &p, row) })
        .collect();
    let stations = if rule.locates.is_some() {
        let here = |p: &baricord_core::vehicle::Place| {
            rule.at.iter().any(|kind| baricord_core::reasoning::place_is(&case.vehicle, p, kind))
        };
        case.vehicle.places().into_iter().filter(here).map(|p| (p.id, p.words)).collect()
    } else {
        vec![]
    };
    Some(Asked {
        test: rule.id.clone(),
        at: s.test.at.clone().unwrap_or_default(),
        gear: s.test.gear.clone().unwrap_or_default(),
        ask: ask_words(kb, case, &rule.id, s.test.at.as_deref(), s.test.gear.as_deref()),
        how: rule.how.clone(),
        minutes: format!("{:.0}", s.test.minutes),
        settles: format!("{:.2} of {:.1} bits", s.bits, a.open_bits),
        reach: s.reach.words(),
        cautions: rule.caution.iter().filter_map(|c| kb.caution(c)).map(String::from).collect(),
        acknowledge: rule.wheels,
        again: s.again,
        outcomes,
        stations,
    })
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<WhichStop>) -> Result<LiftPage, Fail> {
    let mut s = m.scope().await?;
    let k = Known::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Lift).await?;
    let (kb, case) = (&*k.knowledge, k.case());
    let done: Vec<_> = case
        .observations
        .iter()
        .filter_map(|o| {
            let t = kb.test(&o.test).filter(|t| t.lift || o.at.is_some())?;
            let words = t.outcome(&o.outcome).map_or(o.outcome.clone(), |x| x.words.clone());
            let note = o.note.clone().unwrap_or_default();
            Some((ask_words(kb, case, &o.test, o.at.as_deref(), o.gear.as_deref()), words, note))
        })
        .collect();
    let up = case.state.as_ref().and_then(|s| s.on.as_deref()) == Some("lift");
    let symptom = k.symptom.as_deref().unwrap_or_default();
    let stops =
        if symptom.is_empty() { vec![] } else { walk(case, kb, symptom, &later(&k.stored.document), k.analysis.as_ref()) };
    let wanted = |s: &Stop| Some(&s.test.test) == w.test.as_ref() && s.test.at == w.at && s.test.gear == w.gear;
    let now = stops.iter().position(wanted).unwrap_or(0);
    let to_come = stops
        .iter()
        .enumerate()
        .filter(|(i, _)| *i != now)
        .map(|(_, s)| {
            let named = |key: &str, v: &Option<String>| v.as_ref().map_or(String::new(), |v| format!("&{key}={v}"));
            let words = ask_words(kb, case, &s.test.test, s.test.at.as_deref(), s.test.gear.as_deref());
            let at = format!("?s={symptom}&test={}{}{}", s.test.test, named("at", &s.test.at), named("gear", &s.test.gear));
            let how = if s.again { "asked again".to_string() } else { format!("{:.0} min, {}", s.test.minutes, s.reach.words()) };
            (words, how, at)
        })
        .collect();
    Ok(LiftPage {
        asked: stops.get(now).and_then(|s| asked(&k, s)),
        number: done.len() + 1,
        count: done.len() + stops.len(),
        to_come,
        done,
        up,
        f,
    })
}

/// It could not be told: nothing is weighed, and it is asked again at the end.
async fn cannot_tell(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let f = Fields(f);
    let mut s = m.scope().await?;
    let k = Known::read(&mut s, id, f.text("symptom")).await?;
    let test = f.need("test", "the test")?;
    let rule = k.knowledge.test(test).ok_or_else(|| Problem::new("unknown-test", format!("no test “{test}”")).field("test"))?;
    let one = AskedLater { test: test.into(), at: f.text("at").map(String::from), gear: f.text("gear").map(String::from) };
    s.edit_case(id, None, &format!("{}: can't tell", rule.ask), &m.person.name, |d| {
        if !later(d).contains(&one) {
            append(d, "asked_later", json!(one));
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/lift?s={}", f.text("symptom").unwrap_or_default())))
}

/// Up on the lift, or down on its wheels.
async fn stand(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, Fail> {
    may_write(&m)?;
    let f = Fields(f);
    let on = f.text("on").filter(|o| ["ground", "lift"].contains(o));
    let on = on.ok_or_else(|| Problem::new("missing", "on the ground or on the lift?").field("on"))?;
    let mut s = m.scope().await?;
    s.edit_case(id, None, if on == "lift" { "up on the lift" } else { "down on its wheels" }, &m.person.name, |d| {
        d["state"]["on"] = on.into();
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/lift?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/lift", get(show))
        .route("/cases/{id}/lift/later", post(cannot_tell))
        .route("/cases/{id}/lift/stand", post(stand))
}
