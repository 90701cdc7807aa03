//! The seven stations of a case, a module each, with its routes, view model and template.

pub mod cards;
pub mod complaint;
pub mod decide;
pub mod drive;
pub mod feel;
pub mod fields;
pub mod lift;
pub mod line_view;
pub mod listening;
pub mod map_view;
pub mod measure;
pub mod part;
pub mod pinned;
pub mod prove;
pub mod recordings;
pub mod repair;
pub mod road;
pub mod sounds;
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
        .merge(line_view::routes())
        .merge(recordings::routes())
        .merge(drive::routes())
        .merge(lift::routes())
        .merge(pinned::routes())
        .merge(feel::routes())
        .merge(listening::routes())
        .merge(measure::routes())
        .merge(decide::routes())
        .merge(repair::routes())
        .merge(prove::routes())
        .merge(part::routes())
}

/// Routes of the stations that take files.
pub fn uploads() -> Router<App> {
    Router::new().merge(recordings::uploads()).merge(pinned::uploads())
}
