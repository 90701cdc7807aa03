//! Vehicles: the history of each over all its cases; what was changed in between; the next case on it.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::stations::form::Posted;
use crate::wording::kind_words;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::Path;
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::case::Case;
use baricord_core::case::document::CaseDocument;
use baricord_core::error::Problem;
use baricord_core::permission::Act;
use baricord_core::reasoning::knowledge::HISTORY;
use baricord_core::units::Kilometres;
use baricord_core::vehicle_history::{self, Change, HistoryKind, Visit};
use baricord_store::vehicles::{CaseOfVehicle, VehicleLine};
use uuid::Uuid;

#[derive(Template, WebTemplate)]
#[template(path = "vehicles.html")]
struct VehiclesPage {
    theme: String,
    person: String,
    vehicles: Vec<VehicleLine>,
}

async fn list(m: Member) -> Result<VehiclesPage, PageError> {
    let vehicles = m.scope().await?.vehicles(500).await?;
    Ok(VehiclesPage { theme: m.person.theme.clone(), person: m.person.name.clone(), vehicles })
}

/// A line of a vehicle's history as a page shows it.
pub struct HistoryLine {
    class: &'static str,
    /// The day.
    pub on: String,
    /// What it had run, grouped in thousands.
    pub distance: Option<String>,
    /// What happened.
    pub words: String,
    /// Further words.
    pub more: String,
    visit: Option<String>,
}

/// The day, as 2026-11-26.
pub fn today() -> String {
    time::OffsetDateTime::now_utc().date().to_string()
}

/// Kilometres, grouped in thousands.
pub fn grouped(km: Kilometres) -> String {
    let digits = format!("{:.0}", km.get());
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push('\u{202f}');
        }
        out.push(c);
    }
    out
}

/// The cases of a vehicle, as the rules of its history read them.
pub fn visits(cases: &[CaseOfVehicle]) -> Vec<Visit<'_>> {
    cases
        .iter()
        .map(|c| Visit { id: c.stored.id.to_string(), on: c.opened.clone(), case: c.stored.case(), closed: c.closed })
        .collect()
}

/// The lines of a history, latest first.
pub fn lines(cases: &[CaseOfVehicle], changes: &[Change]) -> Vec<HistoryLine> {
    vehicle_history::entries(&visits(cases), changes)
        .into_iter()
        .map(|e| HistoryLine {
            class: match e.what {
                HistoryKind::Visit => "is-visit",
                HistoryKind::Change => "is-change",
                HistoryKind::Part => "is-part",
            },
            on: e.on,
            distance: e.distance_km.map(grouped),
            words: e.words,
            more: e.more,
            visit: e.visit,
        })
        .collect()
}

#[derive(Template, WebTemplate)]
#[template(path = "vehicle_history.html")]
struct LifePage {
    theme: String,
    person: String,
    can_write: bool,
    has_case: bool,
    name: String,
    path: String,
    sentence: String,
    entries: Vec<HistoryLine>,
    today: String,
    kinds: Vec<(&'static str, String)>,
    origins: [&'static str; 4],
}

async fn show(m: Member, Path(id): Path<Uuid>) -> Result<LifePage, PageError> {
    let mut s = m.scope().await?;
    let v = s.vehicle(id).await?;
    let cases = s.cases_of_vehicle(id).await?;
    let open = cases.iter().filter(|c| !c.closed).count();
    let count = |n: usize, one: &str| format!("{n} {one}{}", if n == 1 { "" } else { "s" });
    let mut sentence = format!("{}, {} open", count(cases.len(), "case"), open);
    if let Some(km) = cases.iter().rev().find_map(|c| c.stored.case().distance_km) {
        sentence += &format!("; {} km at the last", grouped(km));
    }
    Ok(LifePage {
        theme: m.person.theme.clone(),
        person: m.person.name.clone(),
        can_write: m.person.role().may(Act::Edit),
        has_case: !cases.is_empty(),
        path: format!("/vehicles/{id}"),
        sentence: sentence + ".",
        entries: lines(&cases, &v.changes),
        name: v.name,
        today: today(),
        kinds: HISTORY.iter().chain(&vehicle_history::OTHER_KINDS).map(|k| (*k, kind_words(k))).collect(),
        origins: vehicle_history::ORIGINS,
    })
}

async fn note(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let change = Change {
        on: f.need("on", "the day")?.to_string(),
        distance_km: f.odometer("distance_km")?.map(Kilometres),
        kind: f.need("kind", "the kind of change")?.to_string(),
        words: f.text("words").unwrap_or_default().to_string(),
        origin: f.text("origin").map(String::from),
    };
    let mut s = m.scope().await?;
    s.note_change(id, change).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/vehicles/{id}")))
}

/// The next case of a vehicle: it begins as the last one described it.
async fn open_case(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let name = s.vehicle(id).await?.name;
    let cases = s.cases_of_vehicle(id).await?;
    let last = cases.last().ok_or_else(|| Problem::new("no-case", "no case describes this vehicle yet"))?;
    let title = f.text("title").map_or_else(|| name.clone(), |t| format!("{name}: {t}"));
    let next = Case {
        opened: Some(today()),
        distance_km: f.odometer("distance_km")?.map(Kilometres),
        ..Case::new(&Uuid::now_v7().simple().to_string(), &title, last.stored.case().vehicle.clone())
    };
    let case = s.add_case(CaseDocument::new(next), "opened the case", &m.person.name).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{case}/complaint")))
}

/// The pages of vehicles.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/vehicles", get(list))
        .route("/vehicles/{id}", get(show))
        .route("/vehicles/{id}/changes", post(note))
        .route("/vehicles/{id}/cases", post(open_case))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_distance_is_grouped() {
        assert_eq!(grouped(Kilometres(84_200.4)), "84\u{202f}200");
        assert_eq!(grouped(Kilometres(950.0)), "950");
        assert_eq!(grouped(Kilometres(1_084_200.0)), "1\u{202f}084\u{202f}200");
    }
}
