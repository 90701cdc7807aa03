//! The seven stations of a case, a folder each: its routes, view models and templates. What several stations show stands beside
//! them: [`form`] reads what a form sent, [`test_cards`] shows a test with its answers, [`part`] is the page of a part.

pub mod complaint;
pub mod decide;
pub mod form;
pub mod lift;
pub mod measure;
pub mod part;
pub mod prove;
pub mod repair;
pub mod road;
pub mod test_cards;

use crate::App;
use axum::Router;

/// All stations.
pub fn routes() -> Router<App> {
    Router::new()
        .merge(complaint::routes())
        .merge(complaint::sounds::routes())
        .merge(road::routes())
        .merge(road::map_view::routes())
        .merge(road::order_detail::routes())
        .merge(road::recordings::routes())
        .merge(road::drive::routes())
        .merge(lift::routes())
        .merge(lift::attachments::routes())
        .merge(lift::joint_drag::routes())
        .merge(lift::sound_localisation::routes())
        .merge(measure::routes())
        .merge(decide::routes())
        .merge(repair::routes())
        .merge(prove::routes())
        .merge(part::routes())
}

/// Routes of the stations that take files.
pub fn uploads() -> Router<App> {
    Router::new().merge(road::recordings::uploads()).merge(lift::attachments::uploads())
}
