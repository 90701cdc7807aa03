//! Sizes that work on the vehicle has changed: from then on it has others, and what was read before is made again.

use super::vehicle::described;
use super::vehicle_form::{Group, Kind, at_field, sizes};
use crate::App;
use crate::auth::Member;
use crate::edits::keep;
use crate::error::PageError;
use crate::mend::{self, EntryLine};
use crate::page::{Frame, LoadedCase};
use crate::stations::form::{FormFields, Posted};
use crate::stations::repair::WhichRepair;
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::get;
use baricord_core::case::Case;
use baricord_core::edit::act::{CaseAct, NewDimensions};
use baricord_core::edit::vehicle::VehicleDescription;
use baricord_core::reasoning::wording::repair_words;
use baricord_core::vehicle::Prop;
use baricord_core::workflow::Station;
use uuid::Uuid;

#[derive(Template, WebTemplate)]
#[template(path = "complaint/dimensions.html")]
struct DimensionsPage {
    f: Frame,
    groups: Vec<Group>,
    /// Shafts whose angles can be others: id, words.
    shafts: Vec<(String, String)>,
    /// Repairs by which it may have been changed: id, words, whether it is the one.
    repairs: Vec<(String, String, bool)>,
    /// What was changed before: words, who.
    changes: Vec<(String, String)>,
    /// What has to be made again.
    again: Vec<EntryLine>,
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<WhichRepair>) -> Result<DimensionsPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let case = k.case();
    let v = &case.vehicle;
    let shaft = |p: &Prop| {
        let id = format!("prop.{}", p.end.id());
        (id.clone(), v.place_words(&id))
    };
    Ok(DimensionsPage {
        f: Frame::new(&m, &k, Station::Repair),
        groups: sizes(v),
        shafts: v.props.iter().map(shaft).collect(),
        repairs: case
            .repairs
            .iter()
            .map(|r| (r.id.clone(), repair_words(&k.knowledge, case, r), w.r.as_deref() == Some(&r.id)))
            .collect(),
        changes: case
            .dimension_changes
            .iter()
            .rev()
            .map(|c| (c.words.clone(), mend::who_words(c.by.as_deref(), c.at_time.as_deref())))
            .collect(),
        again: mend::outdated_lines(&k),
    })
}

/// The sizes that a form says otherwise than the vehicle has them, and nothing else of it.
fn new_sizes(case: &Case, f: &FormFields) -> Result<VehicleDescription, PageError> {
    let said = described(case, f)?;
    Ok(VehicleDescription { tyre: said.tyre, axles: said.axles, sections: said.sections, ..VehicleDescription::default() })
}

async fn save(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let said =
        NewDimensions { vehicle: new_sizes(s.case(id).await?.case(), &f)?, angles: f.all("angles"), repair: f.owned("repair") };
    keep(&m, &mut s, id, &f, CaseAct::ChangeDimensions(Box::new(said))).await.map_err(|e| match e {
        PageError::Problem(p) => at_field(p).into(),
        e => e,
    })?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/dimensions?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of changed sizes.
pub(super) fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/dimensions", get(show).post(save))
}
