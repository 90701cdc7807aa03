//! The board: the workshop's cases by what each waits for; and the opening of a case.

use crate::App;
use crate::auth::{Member, may_write};
use crate::drawing::picture;
use crate::error::PageError;
use crate::next_view::NextView;
use crate::page::LoadedCase;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, Query, State};
use axum::response::Redirect;
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::case::Case;
use baricord_core::permission::Act;
use baricord_core::synonyms;
use baricord_core::vehicle::{Vehicle, sample};
use baricord_core::workflow::Station;
use baricord_store::cases::BoardLine;
use serde::Deserialize;
use uuid::Uuid;

struct Lane {
    id: &'static str,
    heading: &'static str,
    lines: Vec<BoardLine>,
}

#[derive(Template, WebTemplate)]
#[template(path = "board.html")]
struct BoardPage {
    theme: String,
    person: String,
    workshop: String,
    can_write: bool,
    lanes: Vec<Lane>,
    sentence: String,
    empty: bool,
    search: String,
    /// What else was searched for, and why.
    also: String,
}

/// How long ago, in words.
pub fn ago(minutes: i64) -> String {
    match minutes {
        ..=1 => "just now".into(),
        2..=90 => format!("{minutes} min ago"),
        91..=2880 => format!("{} h ago", minutes / 60),
        _ => format!("{} days ago", minutes / 1440),
    }
}

#[derive(Deserialize)]
struct Search {
    #[serde(default)]
    q: String,
}

async fn board(State(_): State<App>, m: Member, Query(search): Query<Search>) -> Result<BoardPage, PageError> {
    let mut s = m.scope().await?;
    s.weigh_board_again().await?;
    s.commit().await?;
    let mut s = m.scope().await?;
    let words = synonyms::alike(&search.q);
    let lines = s.board(&words, 500).await?;
    let workshop = s.workshop_name().await?;
    let open = lines.iter().filter(|l| l.waits_for != "done").count();
    // What is nearest to being handed back comes first, what is closed last.
    let order = Station::PAGES.into_iter().rev().chain([Station::Done]);
    let lanes: Vec<Lane> = order
        .map(|st| Lane {
            id: st.id(),
            heading: st.facts().waits_for,
            lines: lines.iter().filter(|l| l.waits_for == st.id()).cloned().collect(),
        })
        .filter(|l| !l.lines.is_empty())
        .collect();
    let sentence = match (lines.len(), open) {
        (0, _) if !words.is_empty() => "No case speaks of it.".to_string(),
        (1, _) if !words.is_empty() => "One case speaks of it.".to_string(),
        (n, _) if !words.is_empty() => format!("{n} cases speak of it."),
        (0, _) => "No case yet.".to_string(),
        (_, 0) => "Every case is closed.".to_string(),
        (_, 1) => "One case is open.".to_string(),
        (_, n) => format!("{n} cases are open."),
    };
    Ok(BoardPage {
        theme: m.person.theme.clone(),
        person: m.person.name.clone(),
        workshop,
        can_write: m.person.role().may(Act::Edit),
        empty: lines.is_empty() && words.is_empty(),
        also: words.iter().filter(|w| **w != search.q.trim().to_lowercase()).cloned().collect::<Vec<_>>().join(", "),
        search: search.q,
        lanes,
        sentence,
    })
}

struct Layout {
    id: usize,
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

const LAYOUT_WORDS: &[&str] = &[
    "rear drive, shaft in one piece",
    "rear drive, shaft in two",
    "rear drive, shaft in three",
    "rear drive, independent rear axle",
    "front drive",
    "all-wheel drive, coupling before the rear axle",
    "four-wheel drive with transfer case",
    "gearbox at the rear axle",
    "electric drive unit",
    "front drive, continuously variable",
];

fn layouts() -> Vec<Vehicle> {
    sample::every_layout()
}

async fn new_case(m: Member) -> Result<NewCase, PageError> {
    may_write(&m)?;
    let layouts = layouts()
        .iter()
        .zip(LAYOUT_WORDS)
        .enumerate()
        .map(|(id, (v, words))| Layout { id, words, picture: picture(v) })
        .collect();
    Ok(NewCase { theme: m.person.theme.clone(), person: m.person.name.clone(), layouts })
}

#[derive(Deserialize)]
struct Opening {
    layout: usize,
    #[serde(default)]
    title: String,
}

async fn open_case(m: Member, Form(f): Form<Opening>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let mut v = layouts()
        .into_iter()
        .nth(f.layout)
        .ok_or_else(|| baricord_core::error::Problem::new("unknown-layout", "choose one of the pictures").field("layout"))?;
    v.name = String::new();
    let vehicle = serde_json::to_value(&v).map_err(|e| PageError::Broken(e.to_string()))?;
    let title = if f.title.trim().is_empty() { "New case".to_string() } else { f.title.trim().to_string() };
    let mut s = m.scope().await?;
    let mut document = Case::new_document(&Uuid::now_v7().simple().to_string(), &title, vehicle);
    document["opened"] = crate::vehicles::today().into();
    if s.is_demo().await? {
        document["demo"] = true.into();
    }
    let id = s.add_case(document, "opened the case", &m.person.name).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

async fn undo(m: Member, Path(id): Path<Uuid>) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    s.undo(id, &m.person.name).await?;
    s.request_analysis(id).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}")))
}

async fn case_home(m: Member, Path(id): Path<Uuid>) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, None).await?;
    Ok(Redirect::to(&NextView::of(&k.knowledge, id, &k.next).href))
}

/// The board and the opening of cases.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/", get(board))
        .route("/cases/new", get(new_case))
        .route("/cases", post(open_case))
        .route("/cases/{id}", get(case_home))
        .route("/cases/{id}/undo", post(undo))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_layout_has_its_words() {
        assert_eq!(layouts().len(), LAYOUT_WORDS.len());
    }

    #[test]
    fn times_are_told_in_words() {
        assert_eq!(ago(0), "just now");
        assert_eq!(ago(45), "45 min ago");
        assert_eq!(ago(200), "3 h ago");
        assert_eq!(ago(5000), "3 days ago");
    }
}
