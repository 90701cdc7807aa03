//! Which of these is it? What each suspect would sound like on this vehicle at this speed, side by
//! side and without its name, for the driver to pick from.

use crate::App;
use crate::auth::Member;
use crate::charts;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase};
use crate::stations::form::{FormFields, Posted};
use crate::wording::cause_words;
use crate::work_limits::{Audio, Turn};
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::http::header;
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::get;
use baricord_core::edit::act::{CaseAct, PickedSound};
use baricord_core::lift::sound::{At, RATE, side_by_side, sound, speed_of};
use baricord_core::reasoning::hypotheses;
use baricord_core::reasoning::knowledge::{SOUND_PICK, builtin};
use baricord_core::units::{KilometresPerHour, Unit};
use baricord_core::workflow::Station;
use baricord_formats::write_wav;
use serde::Deserialize;
use uuid::Uuid;

struct SoundCard {
    letter: char,
    fault: String,
    words: String,
    name: String,
    url: String,
    picture: String,
    picked: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "complaint/sounds.html")]
struct SoundsPage {
    f: Frame,
    kmh: String,
    words: String,
    cards: Vec<SoundCard>,
    picked: bool,
}

fn speed(k: &LoadedCase, asked: Option<f64>) -> KilometresPerHour {
    speed_of(k.symptom.as_deref().and_then(|s| k.case().symptom(s)), asked.map(KilometresPerHour))
}

fn kind(k: &LoadedCase) -> Option<String> {
    Some(k.case().symptom(k.symptom.as_deref()?)?.kind.clone())
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(q): Query<Vec<(String, String)>>) -> Result<SoundsPage, PageError> {
    let a = FormFields::of(&m, q);
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, a.text("s")).await?;
    let f = Frame::new(&m, &k, Station::Complaint);
    let (kmh, kind) = (speed(&k, a.amount("kmh", Unit::KilometrePerHour)?), kind(&k));
    let symptom = k.symptom.as_deref().and_then(|s| k.case().symptom(s));
    let pick = k
        .case()
        .observations
        .iter()
        .rev()
        .find(|o| o.test == SOUND_PICK && o.symptom.as_deref() == k.symptom.as_deref())
        .map(|o| o.outcome.clone());
    let ranked = k.answer().map(|a| a.ranked.as_slice()).unwrap_or_default();
    let at = At { speed: kmh, gear: None, kind: kind.as_deref() };
    let cards = side_by_side(&k.case().vehicle, builtin(), ranked, at)
        .into_iter()
        .zip('A'..)
        .map(|((h, s), letter)| SoundCard {
            letter,
            words: s.words(),
            name: cause_words(builtin(), k.case(), &h.fault, &h.at, None),
            url: format!("/cases/{id}/sound?s={}&kmh={}&fault={}&at={}", f.symptom, kmh.get(), h.fault, h.at),
            picture: charts::wave(&s.samples[(0.6 * RATE.get()) as usize..], RATE.get(), 0.6),
            picked: pick.as_deref() == Some(h.fault.as_str()),
            fault: h.fault,
        })
        .collect();
    Ok(SoundsPage {
        kmh: format!("{:.0}", kmh.get()),
        words: symptom.map(|s| s.words.clone()).unwrap_or_default(),
        cards,
        picked: pick.is_some(),
        f,
    })
}

#[derive(Clone, Debug, Deserialize)]
struct Wanted {
    #[serde(default)]
    s: Option<String>,
    kmh: f64,
    fault: String,
    at: String,
}

/// One sound.
async fn wav(m: Member, turn: Turn<Audio>, Path(id): Path<Uuid>, Query(w): Query<Wanted>) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let v = &k.case().vehicle;
    let h = hypotheses(v, builtin()).into_iter().find(|h| h.fault == w.fault && h.at == w.at).ok_or(PageError::NotFound)?;
    let (kind, speed, v) = (kind(&k), speed(&k, Some(w.kmh)), v.clone());
    let made = tokio::task::spawn_blocking(move || {
        let _turn = turn;
        let made = sound(&v, builtin(), &h, At { speed, gear: None, kind: kind.as_deref() })?;
        Some(write_wav(&made.samples, RATE.get() as u32))
    });
    let bytes = made.await.map_err(|e| PageError::Broken(e.to_string()))?.ok_or(PageError::NotFound)??;
    Ok(([(header::CONTENT_TYPE, "audio/wav"), (header::CACHE_CONTROL, "private, max-age=600")], bytes).into_response())
}

/// The driver has picked.
async fn pick(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let symptom = f.need("symptom", "the symptom")?.to_string();
    let fault = f.need("outcome", "the sound")?.to_string();
    keep_now(&m, id, &f, CaseAct::PickSound(PickedSound { symptom: symptom.clone(), fault })).await?;
    Ok(Redirect::to(&format!("/cases/{id}/sounds?s={symptom}")))
}

/// Routes of the sounds.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/sounds", get(show).post(pick)).route("/cases/{id}/sound", get(wav))
}
