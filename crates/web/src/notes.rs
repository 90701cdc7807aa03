//! Notes of a case: worth remembering, of no weight.

use crate::App;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::mend;
use crate::page::LoadedCase;
use crate::stations::form::{FormFields, Posted};
use crate::wording::segment;
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::edit::act::{CaseAct, EntryKind, NewNote};
use baricord_core::error::Problem;

/// A note as pages show it.
pub struct NoteLine {
    pub text: String,
    pub who: String,
    /// Where it is opened.
    pub href: String,
}

/// The notes of a place; of the whole case without one.
pub fn lines(k: &LoadedCase, at: Option<&str>) -> Vec<NoteLine> {
    let v = &k.case().vehicle;
    let here = k.case().notes.iter().filter(|n| at.is_none() || n.at.as_deref() == at);
    here.map(|n| {
        let place = n.at.as_deref().filter(|_| at.is_none()).map(|a| v.place_words(a));
        let who = mend::who_words(Some(&n.by), n.at_time.as_deref());
        NoteLine {
            text: n.text.clone(),
            who: place.map_or(who.clone(), |p| format!("{p}, {who}")),
            href: mend::href(k.stored.id, EntryKind::Note, &n.id, k.symptom.as_deref().unwrap_or_default()),
        }
    })
    .collect()
}

/// What a form says of a note.
pub fn note_of(f: &FormFields) -> Result<NewNote, Problem> {
    Ok(NewNote { text: f.need("text", "the note")?.into(), at: f.owned("at") })
}

/// A note is kept; one goes on where it was written.
async fn add(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let note = note_of(&f)?;
    let page = match note.at.as_deref().filter(|_| f.text("back") == Some("part")) {
        Some(at) => format!("part/{}", segment(at)),
        None => "complaint".into(),
    };
    keep_now(&m, id, &f, CaseAct::AddNote(note)).await?;
    Ok(Redirect::to(&format!("/cases/{id}/{page}?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of notes.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/notes", post(add))
}
