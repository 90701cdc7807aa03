//! How the vehicle stands, said by hand: up or down, warm or cooled, what is off.

use super::back;
use crate::App;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::stations::form::Posted;
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::edit::act::{CaseAct, On, PartsOff, Standing, Warmth};
use baricord_core::error::Problem;

/// What is off now: what a test needs that is off already costs nothing more.
async fn taken_off(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    keep_now(&m, id, &f, CaseAct::SetPartsOff(PartsOff { off: f.all("off") })).await?;
    Ok(back(id, &f))
}

/// Up on the lift, or down on its wheels.
async fn stand(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let on = match f.text("on") {
        Some("ground") => On::Ground,
        Some("lift") => On::Lift,
        _ => return Err(Problem::new("missing", "on the ground or on the lift?").field("on").into()),
    };
    keep_now(&m, id, &f, CaseAct::Stand(Standing { on })).await?;
    Ok(back(id, &f))
}

/// Warm from the road, or cooled.
async fn warm(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let answer = f.text("warm").filter(|w| ["yes", "no"].contains(w));
    let warm = answer.ok_or_else(|| Problem::new("missing", "warm, or cooled?").field("warm"))? == "yes";
    keep_now(&m, id, &f, CaseAct::SetWarm(Warmth { warm })).await?;
    Ok(back(id, &f))
}

/// Routes of the vehicle's state.
pub(super) fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/lift/stand", post(stand))
        .route("/cases/{id}/lift/warm", post(warm))
        .route("/cases/{id}/lift/off", post(taken_off))
}
