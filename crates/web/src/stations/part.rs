//! A part of the drawing, opened: what is known of it, and what could be looked at there.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::ledger::because_words;
use crate::mend;
use crate::notes::{self, NoteLine};
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::complaint::earlier_work::nameable;
use crate::stations::measure::worksheets::offered;
use crate::stations::test_cards::{TestCard, card};
use crate::wording::kind_words;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::routing::get;
use baricord_core::case::intake::CHANGED;
use baricord_core::case::vocabulary::TASKS;
use baricord_core::edit::act::EntryKind;
use baricord_core::measure::instrument::instruments_for;
use baricord_core::measure::orders::orders;
use baricord_core::reasoning::OpenSymptom;
use baricord_core::reasoning::wording::percent_words;
use baricord_core::vehicle::is_part_of;
use baricord_core::workflow::Station;
use uuid::Uuid;

/// Tests that stand open; the others are one press away.
const PROPOSED: usize = 2;

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
    /// What was seen here: question, answer, where that is opened.
    seen: Vec<(String, String, String)>,
    /// What is proposed here.
    cards: Vec<TestCard>,
    /// Everything else that can be answered here.
    more: Vec<TestCard>,
    place: String,
    /// Other places of the same kind.
    alike: Vec<(String, String)>,
    tasks: [(&'static str, &'static str); 4],
    changed: [(&'static str, &'static str); 4],
    /// Faults that can be here: value, words.
    causes: Vec<(String, String)>,
    notes: Vec<NoteLine>,
    /// Instruments that are read at this part: id, measuring point, what it reads.
    read_here: Vec<(&'static str, String, &'static str)>,
    /// Sums that are of use here: id, name.
    sheets: Vec<(&'static str, &'static str)>,
}

/// Everything that can be asked, seen or felt at a place, whatever it is worth: what is proposed first in that order, then what is open,
/// then what was answered.
fn cards_at(k: &LoadedCase, open: &OpenSymptom<'_>, place: &str) -> Vec<TestCard> {
    let proposed = k.answer().into_iter().flat_map(|a| &a.next);
    let ranks: Vec<_> = proposed.map(|n| (n.test.as_str(), n.at.as_deref(), n.gear.as_deref())).collect();
    let mut all = open.tests_at(place);
    let is_open = |t: &str, at: Option<&str>, g: Option<&str>| open.names().any(|n| (n.test, n.at, n.gear) == (t, at, g));
    all.sort_by_key(|(test, at, gear)| {
        let name = (test.as_str(), at.as_deref(), gear.as_deref());
        (ranks.iter().position(|r| *r == name).unwrap_or(usize::MAX), !is_open(name.0, name.1, name.2))
    });
    let tests = all.into_iter().filter_map(|(test, at, gear)| open.any_test(&test, at.as_deref(), gear.as_deref()));
    tests.enumerate().filter_map(|(i, t)| Some(card(k, open, &t, i + 1)?.at_place(place))).collect()
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
        .filter(|o| o.at.as_deref().is_some_and(|a| is_part_of(a, &p.id)))
        .map(|o| {
            let t = kb.test(&o.test);
            let opened = mend::href(id, EntryKind::Answer, &o.id, k.symptom.as_deref().unwrap_or_default());
            let after = if o.is_after() { ", after the repair" } else { "" };
            let again = if case.outdated_answer(o).is_some() { ", check again" } else { "" };
            (
                format!("{}{after}{again}", t.map_or(o.test.as_str(), |t| t.ask.as_str())),
                t.and_then(|t| t.outcome(&o.outcome)).map_or(kind_words(&o.outcome), |x| x.words.clone()),
                opened,
            )
        })
        .collect();
    // Everything that can be made here, what answers most for its minutes first.
    let at = p.id.clone();
    let mut cards = k.with_open_beside(move |k, open| cards_at(k, open, &at)).await?;
    let more = cards.split_off(cards.len().min(PROPOSED));
    let causes = nameable(&k).into_iter().filter(|(value, _)| value.ends_with(&format!("@{}", p.id))).collect();
    let read_here =
        instruments_for(&case.vehicle).into_iter().filter_map(|i| Some((i.id, (i.point_of)(&p)?, i.quantity))).collect();
    let alike = k.case().vehicle.places().into_iter().filter(|x| x.kind == p.kind && x.id != p.id);
    let alike = alike.map(|x| (x.id, x.words)).collect();
    Ok(PartPage {
        sheets: offered(&k.case().vehicle, Some(&p)),
        alike,
        tasks: TASKS,
        changed: CHANGED,
        notes: notes::lines(&k, Some(&p.id)),
        words: p.words,
        place: p.id,
        faults,
        orders: turns,
        seen,
        cards,
        more,
        causes,
        read_here,
        f,
    })
}

/// Routes of a part.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/part/{place}", get(show))
}
