//! The board: the workshop's cases by what each waits for; and the opening of a case.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Query, State};
use axum::routing::get;
use baricord_core::permission::Act;
use baricord_core::synonyms;
use baricord_core::workflow::Station;
use baricord_store::cases::BoardLine;
use serde::Deserialize;

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
        (0, _) if !words.is_empty() => "No case mentions it.".to_string(),
        (1, _) if !words.is_empty() => "One case mentions it.".to_string(),
        (n, _) if !words.is_empty() => format!("{n} cases mention it."),
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

/// The board.
pub fn routes() -> Router<App> {
    Router::new().route("/", get(board))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_told_in_words() {
        assert_eq!(ago(0), "just now");
        assert_eq!(ago(45), "45 min ago");
        assert_eq!(ago(200), "3 h ago");
        assert_eq!(ago(5000), "3 days ago");
    }
}
