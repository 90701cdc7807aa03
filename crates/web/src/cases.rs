//! A case is opened, and gone to where it stands.

use crate::App;
use crate::auth::{Member, may_write};
use crate::drawing::picture;
use crate::error::PageError;
use crate::next_view::NextView;
use crate::page::LoadedCase;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::Path;
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::error::Problem;
use baricord_core::vehicle::layout::{layouts, of_layout};
use serde::Deserialize;
use uuid::Uuid;

struct Layout {
    id: &'static str,
    words: &'static str,
    picture: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "new_case.html")]
struct NewCase {
    theme: String,
    person: String,
    layouts: Vec<Layout>,
}

async fn new_case(m: Member) -> Result<NewCase, PageError> {
    may_write(&m)?;
    let layouts = layouts().into_iter().map(|l| Layout { id: l.id, words: l.words, picture: picture(&l.vehicle) }).collect();
    Ok(NewCase { theme: m.person.theme.clone(), person: m.person.name.clone(), layouts })
}

#[derive(Deserialize)]
struct Opening {
    layout: String,
    #[serde(default)]
    title: String,
}

async fn open_case(m: Member, Form(f): Form<Opening>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let unknown = || Problem::new("unknown-layout", "choose one of the pictures").field("layout");
    let mut v = of_layout(&f.layout).ok_or_else(unknown)?;
    v.name = String::new();
    let title = if f.title.trim().is_empty() { "New case".to_string() } else { f.title.trim().to_string() };
    let mut s = m.scope().await?;
    let case = Case {
        opened: Some(crate::vehicles::today()),
        demo: s.is_demo().await?,
        ..Case::new(&Uuid::now_v7().simple().to_string(), &title, v)
    };
    let id = s.add_case(CaseDocument::new(case), "opened the case", &m.person.name).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

async fn case_home(m: Member, Path(id): Path<Uuid>) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, None).await?;
    Ok(Redirect::to(&NextView::new(&k.knowledge, id, &k.assessment.next).href))
}

/// Routes of a case as a whole.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/new", get(new_case)).route("/cases", post(open_case)).route("/cases/{id}", get(case_home))
}
