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
    count: i64,
}

impl Lane {
    /// Cases of it that are not shown.
    fn more(&self) -> i64 {
        self.count - self.lines.len() as i64
    }
}

/// Cases of a lane that are shown beside the other lanes, and alone; cases that a search shows.
const SHOWN: i64 = 12;
const SHOWN_ALONE: i64 = 200;
const FOUND: i64 = 60;

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
    /// One lane alone.
    #[serde(default)]
    lane: String,
}

/// What the board says above its lanes.
fn sentence(found: Option<usize>, counts: &[(String, i64)]) -> String {
    let all: i64 = counts.iter().map(|c| c.1).sum();
    let open: i64 = counts.iter().filter(|c| c.0 != Station::Done.id()).map(|c| c.1).sum();
    match (found, all, open) {
        (Some(0), ..) => "No case mentions it.".into(),
        (Some(1), ..) => "One case mentions it.".into(),
        (Some(n), ..) if n as i64 == FOUND => format!("The latest {n} cases that mention it."),
        (Some(n), ..) => format!("{n} cases mention it."),
        (None, 0, _) => "No case yet.".into(),
        (None, _, 0) => "Every case is closed.".into(),
        (None, _, 1) => "One case is open.".into(),
        (None, _, n) => format!("{n} cases are open."),
    }
}

async fn board(State(_): State<App>, m: Member, Query(search): Query<Search>) -> Result<BoardPage, PageError> {
    let mut s = m.scope().await?;
    let words = synonyms::alike(&search.q);
    s.weigh_board_again().await?;
    // What is nearest to being handed back comes first, what is closed last.
    let order: Vec<Station> = Station::PAGES.into_iter().rev().chain([Station::Done]).collect();
    let alone: Vec<Station> = order.iter().copied().filter(|st| st.id() == search.lane).collect();
    let (lines, counts) = if !words.is_empty() {
        (s.search(&words, FOUND).await?, vec![])
    } else {
        let (of, most) = if alone.is_empty() { (&order, SHOWN) } else { (&alone, SHOWN_ALONE) };
        let ids: Vec<&str> = of.iter().map(|st| st.id()).collect();
        (s.lanes(&ids, most).await?, s.lane_counts().await?)
    };
    let workshop = s.workshop_name().await?;
    s.commit().await?;
    let found = (!words.is_empty()).then_some(lines.len());
    let sentence = sentence(found, &counts);
    let lane = |st: &Station| {
        let lines: Vec<BoardLine> = lines.iter().filter(|l| l.waits_for == st.id()).cloned().collect();
        let count = counts.iter().find(|c| c.0 == st.id()).map_or(lines.len() as i64, |c| c.1);
        Lane { id: st.id(), heading: st.facts().waits_for, lines, count }
    };
    let lanes: Vec<Lane> = order.iter().map(lane).filter(|l| !l.lines.is_empty()).collect();
    Ok(BoardPage {
        theme: m.person.theme.clone(),
        person: m.person.name.clone(),
        workshop,
        can_write: m.person.role().may(Act::Edit),
        empty: lanes.is_empty() && words.is_empty() && alone.is_empty(),
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
