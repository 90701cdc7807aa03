//! The stations of a case, a folder each: routes, view models and templates. [`page_of`] is the registry. What several stations
//! show stands beside them: [`form`] reads what a form sent, [`test_cards`] shows a test with its answers, [`observations`] keeps
//! an answer, [`part`] is the page of a part, [`everywhere`] a test at all its places.

pub mod complaint;
pub mod decide;
pub mod everywhere;
pub mod form;
pub mod lift;
pub mod measure;
pub mod observations;
pub mod part;
pub mod prove;
pub mod repair;
pub mod road;
pub mod test_cards;

use crate::App;
use crate::auth::Member;
use crate::pages_ahead::MadePage;
use axum::Router;
use baricord_core::workflow::Station;
use uuid::Uuid;

/// The pages of a station.
struct StationPage {
    /// Pages and forms of ordinary size.
    routes: fn() -> Router<App>,
    /// What takes files; none where nothing does.
    uploads: Option<fn() -> Router<App>>,
    /// The page as it is asked for nothing else, before somebody asks.
    ahead: fn(Member, Uuid) -> MadePage,
}

/// The registry: every station with its pages; none of the one that has no page of its own.
fn page_of(station: Station) -> Option<StationPage> {
    let page = |routes, ahead| Some(StationPage { routes, uploads: None, ahead });
    match station {
        Station::Complaint => page(complaint::routes, complaint::ahead),
        Station::Road => Some(StationPage { uploads: Some(road::recordings::uploads), routes: road::routes, ahead: road::ahead }),
        Station::Lift => {
            Some(StationPage { uploads: Some(lift::attachments::uploads), routes: lift::routes, ahead: lift::ahead })
        }
        Station::Measure => page(measure::routes, measure::ahead),
        Station::Decide => page(decide::routes, decide::ahead),
        Station::Repair => page(repair::routes, repair::ahead),
        Station::Prove => page(prove::routes, prove::ahead),
        Station::Done => None,
    }
}

fn pages() -> impl Iterator<Item = StationPage> {
    Station::PAGES.into_iter().filter_map(page_of)
}

/// All stations, and what they share.
pub fn routes() -> Router<App> {
    let shared = Router::new().merge(part::routes()).merge(everywhere::routes()).merge(observations::routes());
    pages().fold(shared, |all, p| all.merge((p.routes)()))
}

/// How each station's page is made before somebody asks for it.
pub fn ahead() -> impl Iterator<Item = fn(Member, Uuid) -> MadePage> {
    pages().map(|p| p.ahead)
}

/// Routes of the stations that take files.
pub fn uploads() -> Router<App> {
    pages().filter_map(|p| p.uploads).fold(Router::new(), |all, uploads| all.merge(uploads()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_station_of_the_line_has_a_page() {
        assert!(Station::PAGES.into_iter().all(|s| page_of(s).is_some()));
        assert!(page_of(Station::Done).is_none());
    }
}
