//! How the vehicle stands, said by hand: up or down, warm or cooled, what is off.

use super::back;
use crate::App;
use crate::error::PageError;
use crate::stations::form::Posted;
use crate::thermal_state::warm_until;
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::error::Problem;
use baricord_core::lift::vehicle_state::removable_parts;
use baricord_core::reasoning::knowledge::builtin;
use serde_json::{Value, json};

/// What is off now: what a test needs that is off already costs nothing more.
async fn taken_off(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let off = f.all("off");
    let mut s = m.scope().await?;
    let may: Vec<String> = removable_parts(&s.case(id).await?.case, builtin()).into_iter().map(|p| p.0.id).collect();
    if let Some(odd) = off.iter().find(|o| !may.contains(o)) {
        return Err(Problem::new("unknown-place", format!("“{odd}” does not come off this vehicle")).field("off").into());
    }
    let words = if off.is_empty() { "nothing".to_string() } else { off.join(", ") };
    s.edit_case(id, None, &format!("off now: {words}"), &m.person.name, |d| {
        // What else stands there came with the case and stays.
        let kept = d["state"]["off"].as_array().cloned().unwrap_or_default();
        let kept = kept.into_iter().filter(|x| x.as_str().is_none_or(|x| !may.iter().any(|m| m == x)));
        let now: Vec<Value> = kept.chain(off.iter().map(|o| json!(o))).collect();
        d["state"]["off"] = now.into();
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Up on the lift, or down on its wheels.
async fn stand(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let on = f.text("on").filter(|o| ["ground", "lift"].contains(o));
    let on = on.ok_or_else(|| Problem::new("missing", "on the ground or on the lift?").field("on"))?;
    let mut s = m.scope().await?;
    s.edit_case(id, None, if on == "lift" { "on the lift" } else { "on the ground" }, &m.person.name, |d| {
        d["state"]["on"] = on.into();
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Warm from the road, or cooled.
async fn warm(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let answer = f.text("warm").filter(|w| ["yes", "no"].contains(w));
    let is_warm = answer.ok_or_else(|| Problem::new("missing", "warm, or cooled?").field("warm"))? == "yes";
    let until = warm_until(builtin());
    let mut s = m.scope().await?;
    s.edit_case(id, None, if is_warm { "warm from the road" } else { "has cooled" }, &m.person.name, |d| {
        d["state"]["warm_until"] = if is_warm { until.into() } else { Value::Null };
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Routes of the vehicle's state.
pub(super) fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/lift/stand", post(stand))
        .route("/cases/{id}/lift/warm", post(warm))
        .route("/cases/{id}/lift/off", post(taken_off))
}
