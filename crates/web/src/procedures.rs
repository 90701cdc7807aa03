//! How things are taken apart and put together, entry by entry, and how this workshop does it itself, with the school it follows and why.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::knowledge::change_overrides;
use crate::stations::form::FormFields;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::Query;
use axum::response::Redirect;
use axum::routing::get;
use axum::{Form, Router};
use baricord_core::error::Problem;
use baricord_core::permission::Act;
use baricord_core::repair::own_procedures::{OwnProcedure, ShippedEntry, shipped_entries};
use serde::Deserialize;

/// An entry that is opened.
struct OpenEntry {
    key: String,
    words: String,
    text: String,
    school: String,
    why: String,
    is_own: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "procedures.html")]
struct ProceduresPage {
    theme: String,
    person: String,
    can_write: bool,
    /// Key, words, whether the workshop has its own.
    units: Vec<(String, String, bool)>,
    works: Vec<(String, String, bool)>,
    open: Option<OpenEntry>,
}

#[derive(Debug, Deserialize)]
struct Which {
    #[serde(default)]
    e: Option<String>,
}

fn entry(key: &str) -> Result<&'static ShippedEntry, PageError> {
    shipped_entries().iter().find(|e| e.key == key).ok_or(PageError::NotFound)
}

async fn show(m: Member, Query(w): Query<Which>) -> Result<ProceduresPage, PageError> {
    let k = m.scope().await?.knowledge().await?;
    let own = &k.overrides().procedures;
    let open = match &w.e {
        Some(key) => {
            let e = entry(key)?;
            let mine = own.get(key).cloned();
            let is_own = mine.is_some();
            let mine = mine.unwrap_or_else(|| OwnProcedure { text: e.text.clone(), ..OwnProcedure::default() });
            Some(OpenEntry {
                key: key.clone(),
                words: e.words.clone(),
                text: mine.text,
                school: mine.school,
                why: mine.why,
                is_own,
            })
        }
        None => None,
    };
    let list = |kind: &str| {
        let of = shipped_entries().iter().filter(|e| e.key.starts_with(kind));
        of.map(|e| (e.key.clone(), e.words.clone(), own.contains_key(&e.key))).collect()
    };
    Ok(ProceduresPage {
        theme: m.person.theme.clone(),
        person: m.person.name.clone(),
        can_write: m.person.role().may(Act::ChangeKnowledge),
        units: list("unit."),
        works: list("procedure."),
        open,
    })
}

/// Writes a workshop's own entry, or takes it out.
async fn save(m: Member, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    let f = FormFields::metric(f);
    let key = f.need("entry", "the entry")?.to_string();
    entry(&key)?;
    let to = format!("/knowledge/procedures?e={key}");
    change_overrides(&m, |h| {
        if f.text("back") == Some("yes") {
            h.procedures.remove(&key);
            return Ok(());
        }
        let text = f.text("text").ok_or_else(|| Problem::new("missing", "what is done is missing").field("text"))?;
        let own = OwnProcedure {
            text: text.replace("\r\n", "\n"),
            school: f.need("school", "whose school it follows")?.into(),
            why: f.need("why", "why it is done so here")?.into(),
        };
        h.procedures.insert(key.clone(), own);
        Ok(())
    })
    .await?;
    Ok(Redirect::to(&to))
}

/// Routes of the procedures.
pub fn routes() -> Router<App> {
    Router::new().route("/knowledge/procedures", get(show).post(save))
}
