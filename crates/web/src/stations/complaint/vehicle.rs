//! The vehicle of a case as its form is typed: the drawing and the figures at once, and kept.

use super::vehicle_form;
use crate::App;
use crate::auth::Member;
use crate::drawing;
use crate::edits::new_edit;
use crate::error::PageError;
use crate::stations::form::{FormFields, Posted};
use askama::Template;
use axum::extract::Path;
use axum::http::HeaderValue;
use axum::response::Redirect;
use axum::response::{Html, IntoResponse, Response};
use axum::routing::post;
use axum::{Form, Router};
use baricord_core::case::Case;
use baricord_core::edit::CaseEdit;
use baricord_core::edit::act::CaseAct;
use baricord_core::edit::vehicle::VehicleDescription;
use baricord_core::error::Problem;
use baricord_store::{Scope, StoreError};
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
    let mut v = m.scope().await?.case(id).await?.case().vehicle.clone();
    let written = vehicle_form::read(&v, &FormFields::of(&m, f)).and_then(|said| said.write(&mut v)).map(|()| v);
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

/// What a form says of the vehicle that the case does not say yet.
pub(super) fn described(case: &Case, f: &FormFields) -> Result<VehicleDescription, Problem> {
    let said = vehicle_form::read(&case.vehicle, f)?;
    Ok(said.only_new(&case.title, case.distance_km.map(|km| km.get()), &case.vehicle))
}

/// Keeps what a form says of the vehicle, where it says something new.
pub(super) async fn describe(m: &Member, s: &mut Scope, id: Uuid, f: &FormFields) -> Result<(), PageError> {
    let said = described(s.case(id).await?.case(), f)?;
    if said.is_empty() {
        return Ok(());
    }
    let edit = CaseEdit { as_typed: f.as_typed(), ..new_edit(CaseAct::DescribeVehicle(Box::new(said))) };
    s.edit_case(id, &m.author(), edit, f.version()).await.map_err(|e| match e {
        StoreError::Problem(p) => vehicle_form::at_field(p).into(),
        e => PageError::from(e),
    })?;
    Ok(())
}

async fn save_vehicle(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    describe(&m, &mut s, id, &f).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// Routes of the vehicle.
pub(super) fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/vehicle", post(save_vehicle)).route("/cases/{id}/vehicle/preview", post(preview))
}
