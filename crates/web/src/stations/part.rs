//! A part of the drawing, opened: what is known of it, and what could be looked at there.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::ledger::because_words;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::test_cards::{TestCard, card};
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::routing::get;
use baricord_core::measure::instrument::instruments_for;
use baricord_core::measure::orders::orders;
use baricord_core::reasoning::OpenSymptom;
use baricord_core::reasoning::wording::percent_words;
use baricord_core::workflow::Station;
use uuid::Uuid;

struct FaultLine {
    name: String,
    percent: String,
    because: Vec<(String, String)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "part.html")]
struct PartPage {
    f: Frame,
    words: String,
    faults: Vec<FaultLine>,
    orders: Vec<(String, String)>,
    seen: Vec<(String, String)>,
    cards: Vec<TestCard>,
    /// Instruments that are read at this part: id, measuring point, what it reads.
    read_here: Vec<(&'static str, String, &'static str)>,
}

/// What can be made at a place, in the order in which it is proposed.
fn cards_at(k: &LoadedCase, open: &OpenSymptom<'_>, place: &str) -> Vec<TestCard> {
    let proposed = k.answer().into_iter().flat_map(|a| &a.next);
    let ranks: Vec<_> = proposed.map(|n| (n.test.as_str(), n.at.as_deref(), n.gear.as_deref())).collect();
    let mut names: Vec<_> = open.names().filter(|n| n.at == Some(place)).map(|n| (n.test, n.at, n.gear)).collect();
    names.sort_by_key(|n| ranks.iter().position(|r| r == n).unwrap_or(usize::MAX));
    let tests = names.into_iter().filter_map(|(test, at, gear)| open.open_test(test, at, gear));
    tests.enumerate().filter_map(|(i, t)| card(k, open, &t, i + 1)).collect()
}

async fn show(m: Member, Path((id, place)): Path<(Uuid, String)>, Query(w): Query<Which>) -> Result<PartPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let kb = &*k.knowledge;
    let p = k.case().vehicle.place(&place).filter(|p| p.id == place).ok_or(PageError::NotFound)?;
    let f = Frame::new(&m, &k, Station::Decide);
    let case = k.case();
    let faults = k
        .answer()
        .map(|a| {
            a.ranked
                .iter()
                .filter(|r| r.at == p.id)
                .map(|r| FaultLine {
                    name: match (&r.gear, kb.fault(&r.fault)) {
                        (Some(g), Some(f)) => format!("{}, gear {g}", f.name),
                        (None, Some(f)) => f.name.clone(),
                        _ => r.fault.clone(),
                    },
                    percent: percent_words(r.p),
                    because: because_words(r, 4),
                })
                .collect()
        })
        .unwrap_or_default();
    let turns = orders(&case.vehicle, None)
        .unwrap_or_default()
        .iter()
        .filter(|l| l.at == p.id || p.is_of_shaft() && p.end.is_some_and(|e| l.at == format!("prop.{}", e.id())))
        .map(|l| {
            let base = l.base.words();
            (l.what.words().to_string(), format!("{:.2} × {base}", l.order.get()))
        })
        .collect();
    let seen = case
        .observations
        .iter()
        .filter(|o| o.at.as_deref().is_some_and(|a| a == p.id || a.starts_with(&format!("{}.", p.id))))
        .map(|o| {
            let t = kb.test(&o.test);
            (
                t.map_or(o.test.clone(), |t| t.ask.clone()),
                t.and_then(|t| t.outcome(&o.outcome)).map_or(o.outcome.clone(), |x| x.words.clone()),
            )
        })
        .collect();
    // Everything that can be made here, what answers most for its minutes first.
    let at = p.id.clone();
    let here = k.with_open_beside(move |k, open| cards_at(k, open, &at)).await?;
    let read_here =
        instruments_for(&case.vehicle).into_iter().filter_map(|i| Some((i.id, (i.point_of)(&p)?, i.quantity))).collect();
    Ok(PartPage { words: p.words, faults, orders: turns, seen, cards: here, read_here, f })
}

/// Routes of a part.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/part/{place}", get(show))
}
