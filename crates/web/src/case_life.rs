//! A case as a whole: put away and brought back, deleted by an owner, moved to the vehicle that it is really of.

use crate::App;
use crate::auth::{Member, may};
use crate::edits::keep;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::form::Posted;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::edit::act::{CaseAct, ChosenLayout};
use baricord_core::error::Problem;
use baricord_core::permission::Act;
use baricord_core::vehicle::layout::layouts;
use baricord_core::workflow::Station;
use baricord_store::cases::BoardLine;
use uuid::Uuid;

/// Vehicles that are offered, cases that the archive shows.
const SHOWN: i64 = 500;

#[derive(Template, WebTemplate)]
#[template(path = "case_life.html")]
struct LifePage {
    f: Frame,
    archived: bool,
    may_delete: bool,
    layouts: Vec<(&'static str, &'static str)>,
    /// Other vehicles of the workshop: id and name.
    vehicles: Vec<(Uuid, String)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "archive.html")]
struct ArchivePage {
    theme: String,
    person: String,
    lines: Vec<BoardLine>,
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<LifePage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let name = k.case().vehicle.name.to_lowercase();
    let vehicles = s.vehicles(SHOWN).await?.into_iter().filter(|v| v.name.to_lowercase() != name && v.cases > 0);
    let vehicles = vehicles.map(|v| (v.id, v.name)).collect();
    let archived = s.is_archived(id).await?;
    Ok(LifePage {
        f: Frame::new(&m, &k, Station::Complaint),
        archived,
        may_delete: m.person.role().may(Act::Delete),
        layouts: layouts().iter().map(|l| (l.id, l.words)).collect(),
        vehicles,
    })
}

async fn archive(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let archived = f.need("archived", "whether it is put away")? == "yes";
    let mut s = m.scope().await?;
    s.archive_case(id, archived).await?;
    s.commit().await?;
    Ok(Redirect::to(&if archived { "/".into() } else { format!("/cases/{id}") }))
}

/// Deletes a case for good; its name is typed, so that it is not the wrong one.
async fn delete(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    may(&m, Act::Delete)?;
    let mut s = m.scope().await?;
    s.case(id).await?.case().need_title(f.text("title").unwrap_or_default())?;
    s.delete_case(id).await?;
    s.commit().await?;
    Ok(Redirect::to("/"))
}

async fn layout(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let layout = f.need("layout", "which driveline it is")?.to_string();
    let mut s = m.scope().await?;
    keep(&m, &mut s, id, &f, CaseAct::ChooseLayout(ChosenLayout { layout })).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

/// The case is of another vehicle of the workshop: as its latest case describes it.
async fn move_to(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let unread = || Problem::new("missing", "which vehicle is it?").field("vehicle");
    let vehicle: Uuid = f.need("vehicle", "the vehicle")?.parse().map_err(|_| unread())?;
    let mut s = m.scope().await?;
    let latest = s.cases_of_vehicle(vehicle).await?.into_iter().rev().find(|c| c.stored.id != id).ok_or_else(unread)?;
    let described = latest.stored.case().vehicle.clone();
    keep(&m, &mut s, id, &f, CaseAct::MoveToVehicle(Box::new(described))).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint")))
}

async fn archive_page(m: Member) -> Result<ArchivePage, PageError> {
    let lines = m.scope().await?.archived_cases(SHOWN).await?;
    Ok(ArchivePage { theme: m.person.theme.clone(), person: m.person.name.clone(), lines })
}

/// Routes of a case as a whole.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/archive", get(archive_page))
        .route("/cases/{id}/life", get(show))
        .route("/cases/{id}/archive", post(archive))
        .route("/cases/{id}/delete", post(delete))
        .route("/cases/{id}/layout", post(layout))
        .route("/cases/{id}/move", post(move_to))
}
