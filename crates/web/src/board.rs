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
use baricord_store::cases::{BoardLane, BoardLine, COUNTED};
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

    fn counted(&self, n: i64) -> String {
        if self.count >= COUNTED { format!("{n}+") } else { n.to_string() }
    }

    /// How many it holds: `500+` where no more were counted.
    fn count_words(&self) -> String {
        self.counted(self.count)
    }

    /// How many of them are not shown.
    fn more_words(&self) -> String {
        self.counted(self.more())
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
fn sentence(found: Option<usize>, lanes: &[BoardLane]) -> String {
    let all: i64 = lanes.iter().map(|l| l.count).sum();
    let open: i64 = lanes.iter().filter(|l| l.id != Station::Done.id()).map(|l| l.count).sum();
    match (found, all, open) {
        (Some(0), ..) => "No case mentions it.".into(),
        (Some(1), ..) => "One case mentions it.".into(),
        (Some(n), ..) if n as i64 == FOUND => format!("The latest {n} cases that mention it."),
        (Some(n), ..) => format!("{n} cases mention it."),
        (None, 0, _) => "No case yet.".into(),
        (None, _, 0) => "Every case is closed.".into(),
        (None, _, 1) => "One case is open.".into(),
        (None, _, n) if lanes.iter().any(|l| l.id != Station::Done.id() && l.count >= COUNTED) => {
            format!("At least {n} cases are open.")
        }
        (None, _, n) => format!("{n} cases are open."),
    }
}

async fn board(State(_): State<App>, m: Member, Query(search): Query<Search>) -> Result<BoardPage, PageError> {
    let mut s = m.scope().await?;
    let words = synonyms::alike(&search.q);
    let (workshop, knowledge) = s.workshop_now().await?;
    // What is nearest to being handed back comes first, what is closed last.
    let order: Vec<Station> = Station::PAGES.into_iter().rev().chain([Station::Done]).collect();
    let is_alone = order.iter().any(|st| st.id() == search.lane);
    let (lanes, found, weighed) = if words.is_empty() {
        let of: Vec<(&str, bool)> = order.iter().map(|st| (st.id(), !is_alone || st.id() == search.lane)).collect();
        let (lanes, weighed) = s.board(&knowledge, &of, if is_alone { SHOWN_ALONE } else { SHOWN }).await?;
        (lanes, None, weighed)
    } else {
        let weighed = s.weigh_board_again(&knowledge).await?;
        let lines = s.search(&words, FOUND).await?;
        let of = |st: &Station| {
            let lines: Vec<BoardLine> = lines.iter().filter(|l| l.waits_for == st.id()).cloned().collect();
            BoardLane { id: st.id().into(), count: lines.len() as i64, lines }
        };
        (order.iter().map(of).collect(), Some(lines.len()), weighed)
    };
    if !weighed.is_empty() {
        s.commit().await?;
    }
    // What was weighed for the board is likely to be looked at next.
    weighed.iter().for_each(|id| m.pages.ahead().want(*id, &m.person));
    let sentence = sentence(found, &lanes);
    let lane = |st: &Station| {
        let BoardLane { count, lines, .. } = lanes.iter().find(|l| l.id == st.id())?.clone();
        Some(Lane { id: st.id(), heading: st.facts().waits_for, lines, count })
    };
    let lanes: Vec<Lane> = order.iter().filter_map(lane).filter(|l| !l.lines.is_empty()).collect();
    Ok(BoardPage {
        theme: m.person.theme.clone(),
        person: m.person.name.clone(),
        workshop,
        can_write: m.person.role().may(Act::Edit),
        empty: lanes.is_empty() && words.is_empty() && !is_alone,
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
    fn what_is_counted_up_to_an_end_says_so() {
        let lane = |count| Lane { id: "lift", heading: "", lines: vec![], count };
        assert_eq!((lane(12).count_words().as_str(), lane(COUNTED).more_words().as_str()), ("12", "500+"));
        let of = |id: &str, count| BoardLane { id: id.into(), count, lines: vec![] };
        assert_eq!(sentence(None, &[of("lift", 3), of("done", COUNTED)]), "3 cases are open.");
        assert_eq!(sentence(None, &[of("lift", COUNTED), of("road", 2)]), "At least 502 cases are open.");
        assert_eq!(sentence(None, &[of("done", 4)]), "Every case is closed.");
    }

    #[test]
    fn times_are_told_in_words() {
        assert_eq!(ago(0), "just now");
        assert_eq!(ago(45), "45 min ago");
        assert_eq!(ago(200), "3 h ago");
        assert_eq!(ago(5000), "3 days ago");
    }
}
