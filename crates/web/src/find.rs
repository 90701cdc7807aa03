//! One search field over everything that can be entered into a case, and over what stands in it.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::mend;
use crate::page::{Frame, LoadedCase};
use crate::stations::everywhere;
use crate::wording::segment;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::routing::get;
use baricord_core::workflow::Station;
use baricord_core::workflow::case_search::{Found, Hit, LONGEST_SEARCH, search};
use serde::Deserialize;
use uuid::Uuid;

/// Hits that are shown.
const SHOWN: usize = 12;

#[derive(Deserialize)]
struct Asked {
    #[serde(default)]
    s: Option<String>,
    #[serde(default)]
    q: String,
}

struct HitLine {
    words: String,
    more: String,
    href: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "find.html")]
struct FindPage {
    f: Frame,
    q: String,
    hits: Vec<HitLine>,
}

fn line(id: Uuid, symptom: &str, h: Hit) -> HitLine {
    let href = match &h.found {
        Found::Test { test, at: None } => everywhere::href(id, test, symptom),
        Found::Test { test, at: Some(at) } => format!("{}#at-{at}", everywhere::href(id, test, symptom)),
        Found::Place { at } | Found::Cause { at, .. } => {
            format!("/cases/{id}/part/{}?s={symptom}", segment(at).replace("%2E", "."))
        }
        Found::Reading { instrument } => format!("/cases/{id}/measure?tool={instrument}&s={symptom}"),
        Found::Entry { kind, id: entry } => mend::href(id, *kind, entry, symptom),
    };
    HitLine { words: h.words, more: h.more, href }
}

async fn find(m: Member, Path(id): Path<Uuid>, Query(a): Query<Asked>) -> Result<FindPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, a.s.as_deref()).await?;
    drop(s);
    let q: String = a.q.trim().chars().take(LONGEST_SEARCH).collect();
    let page = move || {
        let symptom = k.symptom.clone().unwrap_or_default();
        let hits = search(k.case(), &k.knowledge, &q, SHOWN).into_iter().map(|h| line(id, &symptom, h)).collect();
        FindPage { f: Frame::new(&m, &k, Station::Decide), q, hits }
    };
    crate::rendered_pages::beside(page).await
}

/// Routes of the search.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/find", get(find))
}
