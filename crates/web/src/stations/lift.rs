//! Lift: what can be looked at, felt and listened to under the vehicle, in the order of what it settles.

use super::decide::{TestCard, cards};
use crate::App;
use crate::auth::Member;
use crate::fail::Fail;
use crate::page::{Frame, Known, Which};
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::routing::get;
use baricord_core::progress::Station;
use uuid::Uuid;

#[derive(Template, WebTemplate)]
#[template(path = "lift.html")]
struct LiftPage {
    f: Frame,
    cards: Vec<TestCard>,
    done: Vec<(String, String)>,
    up: bool,
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<LiftPage, Fail> {
    let mut s = m.scope().await?;
    let k = Known::read(&mut s, id, w.s.as_deref()).await?;
    let f = Frame::new(&m, &mut s, &k, Station::Lift).await?;
    let kb = &*k.knowledge;
    let case = k.case();
    let done = case
        .observations
        .iter()
        .filter_map(|o| {
            let t = kb.test(&o.test).filter(|t| t.lift)?;
            let words = t.outcome(&o.outcome).map_or(o.outcome.clone(), |x| x.words.clone());
            Some((crate::page::ask_words(kb, case, &o.test, o.at.as_deref(), o.gear.as_deref()), words))
        })
        .collect();
    let up = case.state.as_ref().and_then(|s| s.on.as_deref()) == Some("lift");
    Ok(LiftPage { cards: cards(&k, |t| t.lift, 6), done, up, f })
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/lift", get(show))
}
