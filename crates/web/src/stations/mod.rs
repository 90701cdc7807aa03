//! The seven stations of a case, a module each, with its routes, view model and template.

pub mod attachments;
pub mod complaint;
pub mod decide;
pub mod drive;
pub mod form;
pub mod joint_drag;
pub mod lift;
pub mod map_view;
pub mod measure;
pub mod order_detail;
pub mod part;
pub mod prove;
pub mod recordings;
pub mod repair;
pub mod road;
pub mod sound_localisation;
pub mod sounds;
pub mod test_cards;
mod vehicle_form;

use crate::App;
use axum::Router;

/// All stations.
pub fn routes() -> Router<App> {
    Router::new()
        .merge(complaint::routes())
        .merge(sounds::routes())
        .merge(road::routes())
        .merge(map_view::routes())
        .merge(order_detail::routes())
        .merge(recordings::routes())
        .merge(drive::routes())
        .merge(lift::routes())
        .merge(attachments::routes())
        .merge(joint_drag::routes())
        .merge(sound_localisation::routes())
        .merge(measure::routes())
        .merge(decide::routes())
        .merge(repair::routes())
        .merge(prove::routes())
        .merge(part::routes())
}

/// Routes of the stations that take files.
pub fn uploads() -> Router<App> {
    Router::new().merge(recordings::uploads()).merge(attachments::uploads())
}
