//! What was done to a case, edit by edit, and taken back.

use crate::App;
use crate::auth::Member;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::page::{Frame, Which};
use crate::pages_ahead::MadePage;
use crate::rendered_pages::Page;
use crate::stations::form::Posted;
use askama::Template;
use axum::Router;
use axum::extract::{Path, Query};
use axum::http::{HeaderMap, Uri, header};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::edit::act::{CaseAct, TakenBack};
use baricord_core::error::Problem;
use baricord_core::permission::Act;
use baricord_core::workflow::Station;
use baricord_store::events::{CaseEvent, LastEvent};
use uuid::Uuid;

/// Events that the page shows.
const SHOWN: i64 = 2_000;

/// What is taken back next.
pub struct UndoView {
    pub event: Uuid,
    pub what: String,
    pub person: String,
    /// It was the one who looks.
    pub own: bool,
}

impl UndoView {
    /// Of the latest that stands.
    pub fn new(m: &Member, e: &LastEvent) -> Self {
        Self { own: e.person == m.person.name, event: e.id, what: e.what.clone(), person: e.person.clone() }
    }
}

/// An event as the page shows it.
struct EventRow {
    id: Uuid,
    /// Day and minute.
    when: String,
    person: String,
    own: bool,
    what: String,
    /// Amounts as they were typed, where that was in another unit.
    typed: String,
    taken_back: bool,
    can_be_taken_back: bool,
}

#[derive(Template)]
#[template(path = "history.html")]
struct HistoryPage {
    f: Frame,
    rows: Vec<EventRow>,
    /// Some of it was done before edits were kept one by one.
    has_border: bool,
    more: bool,
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    // Each event leads to another version of the case.
    let mut slot = m.page("history", w.s.as_deref()).by_name().of(&mut s, id).await?;
    if let Some(page) = slot.held(&mut s).await? {
        return Ok(page);
    }
    let k = slot.load(&mut s).await?;
    let station = k.assessment.next.station;
    let f = Frame::new(&m, &k, if station == Station::Done { Station::Prove } else { station });
    let events = s.events(id, 0, SHOWN + 1).await?;
    let more = events.len() as i64 > SHOWN;
    // The opening of a case is none of them.
    let has_border = events.iter().any(|e| e.changes.is_none() && e.sequence > 1);
    let can_write = m.person.role().may(Act::Edit);
    let row = |e: CaseEvent| EventRow {
        id: e.id,
        when: e.at_time.get(..16).unwrap_or(&e.at_time).replace('T', " "),
        own: e.person == m.person.name,
        taken_back: e.taken_back,
        can_be_taken_back: can_write && e.can_be_taken_back(),
        person: e.person,
        typed: e.edit.map_or(String::new(), |x| x.0.as_typed.into_values().collect::<Vec<_>>().join(", ")),
        what: e.what,
    };
    slot.render(&HistoryPage { f, rows: events.into_iter().take(SHOWN as usize).map(row).collect(), has_border, more })
}

/// The page before somebody asks for it.
pub fn ahead(m: Member, id: Uuid) -> MadePage {
    Box::pin(show(m, Path(id), Query(Which::default())))
}

/// The page of this case that a request came from; the case itself where it does not say.
fn page_before(headers: &HeaderMap, id: Uuid) -> String {
    let home = format!("/cases/{id}");
    let from = headers.get(header::REFERER).and_then(|v| v.to_str().ok()).and_then(|v| v.parse::<Uri>().ok());
    let path = from.as_ref().and_then(Uri::path_and_query).map(|p| p.as_str());
    path.filter(|p| p.strip_prefix(&home).is_some_and(|rest| rest.starts_with('/'))).map_or(home, String::from)
}

/// Something is taken back; it stays on the page.
async fn take_back(headers: HeaderMap, Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let event = f.need("event", "what is taken back")?;
    let event = event.parse().map_err(|_| Problem::new("bad-id", "this is no edit").field("event"))?;
    let of_another = f.text("of_another") == Some("yes");
    keep_now(&m, id, &f, CaseAct::TakeBack(TakenBack { event, of_another })).await?;
    Ok(Redirect::to(&page_before(&headers, id)))
}

/// Routes of the history.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/history", get(show)).route("/cases/{id}/undo", post(take_back))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_goes_back_to_a_page_of_the_same_case_and_nowhere_else() {
        let id = Uuid::from_u128(7);
        let from = |referer: &str| {
            let mut h = HeaderMap::new();
            h.insert(header::REFERER, referer.parse().unwrap());
            page_before(&h, id)
        };
        let home = format!("/cases/{id}");
        assert_eq!(from(&format!("http://here{home}/lift?s=S1")), format!("{home}/lift?s=S1"));
        assert_eq!(page_before(&HeaderMap::new(), id), home);
        for elsewhere in ["http://here/cases/other/lift", "http://here/", &format!("http://here{home}x/lift")] {
            assert_eq!(from(elsewhere), home, "{elsewhere}");
        }
    }
}
