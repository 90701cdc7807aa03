//! The vehicle of a case as its form is typed: the drawing and the figures at once, and kept.

use super::vehicle_form;
use crate::App;
use crate::auth::Member;
use crate::drawing;
use crate::error::PageError;
use crate::stations::form::{FormFields, Posted};
use askama::Template;
use axum::extract::Path;
use axum::http::HeaderValue;
use axum::response::Redirect;
use axum::response::{Html, IntoResponse, Response};
use axum::routing::post;
use axum::{Form, Router};
use baricord_core::error::Problem;
use baricord_core::vehicle::Vehicle;
use serde_json::Value;
use uuid::Uuid;

#[derive(Template)]
#[template(path = "complaint/vehicle_preview.html")]
struct Preview {
    band: String,
    facts: Vec<(String, String)>,
    what: String,
    wrong: bool,
}

/// The drawing and the figures of what is being typed; nothing is kept.
async fn preview(m: Member, Path(id): Path<Uuid>, Form(f): Form<Vec<(String, String)>>) -> Result<Response, PageError> {
    let mut document = m.scope().await?.case(id).await?.document;
    let written =
        vehicle_form::write(&mut document["vehicle"], &FormFields(f)).and_then(|()| Vehicle::from_json(&document["vehicle"]));
    let (page, draw) = match written {
        Ok(v) => {
            let band = drawing::band(&v, &drawing::Marks::default());
            (Preview { band, facts: vehicle_form::facts(&v), what: "Preview, not saved yet.".into(), wrong: false }, true)
        }
        // Half a number is no error to be shouted: the drawing stays, and a line says what does not fit.
        Err(p) => (Preview { band: String::new(), facts: vec![], what: p.message, wrong: true }, false),
    };
    let mut response = Html(page.render().map_err(|e| PageError::Broken(e.to_string()))?).into_response();
    if !draw {
        response.headers_mut().insert("hx-reswap", HeaderValue::from_static("none"));
    }
    Ok(response)
}

/// Writes what the vehicle's form holds into a case's document.
pub(super) fn write_vehicle(d: &mut Value, f: &FormFields) -> Result<(), Problem> {
    if let Some(t) = f.text("title") {
        d["title"] = t.into();
    }
    if let Some(km) = f.odometer("distance_km")? {
        d["distance_km"] = km.into();
    }
    vehicle_form::write(&mut d["vehicle"], f)
}

async fn save_vehicle(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    s.edit_case(id, f.version(), "described the vehicle", &m.person.name, |d| write_vehicle(d, &f)).await?;
    if s.analysis(id).await?.is_some() {
        s.request_analysis(id).await?;
    }
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// Routes of the vehicle.
pub(super) fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/vehicle", post(save_vehicle)).route("/cases/{id}/vehicle/preview", post(preview))
}
