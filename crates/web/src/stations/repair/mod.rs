//! Repair: the chosen cause, what will be done, the marks, torques with their source, the caution.

use crate::App;
use crate::auth::Member;
use crate::edits::keep;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase, Which};
use crate::rendered_pages::Page;
use crate::stations::form::{FormFields, Posted, parse_number};
use crate::stations::test_cards::CautionView;
use crate::wording::cause_words;
use askama::Template;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::case::{Repair, Torque};
use baricord_core::edit::act::{CaseAct, EntryId, RepairDetails};
use baricord_core::error::Problem;
use baricord_core::reasoning::OpenSymptom;
use baricord_core::reasoning::knowledge::Fault;
use baricord_core::safety::cautions::at_repair;
use baricord_core::workflow::Station;
use uuid::Uuid;

/// A line for a torque.
struct TorqueRow {
    what: String,
    nm: String,
    source: String,
}

/// Lines for torques that are offered at least.
const TORQUE_ROWS: usize = 3;

struct RepairForm {
    id: String,
    cause: String,
    what: String,
    cautions: Vec<CautionView>,
    needs_marks: bool,
    marks: String,
    torques: Vec<TorqueRow>,
    note: String,
    part: String,
    result: String,
    reason: String,
    /// What is looked at for little while it is open.
    looks: Vec<String>,
}

#[derive(Template)]
#[template(path = "repair/repair.html")]
struct RepairPage {
    f: Frame,
    plan: Option<RepairForm>,
    earlier: Vec<(String, String)>,
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    drop(s);
    m.page_slot(&k, "repair", ()).or_make(move || Ok(k.with_open(|open| repair_page(&m, &k, open)))).await
}

fn repair_page(m: &Member, k: &LoadedCase, open_symptom: &OpenSymptom<'_>) -> RepairPage {
    let f = Frame::new(m, k, Station::Repair);
    let (kb, case) = (&*k.knowledge, k.case());
    let words = |r: &Repair| cause_words(kb, case, &r.fault, r.at.as_deref().unwrap_or("none"), r.gear.as_deref());
    let open = case.repairs.iter().rfind(|r| r.is_open());
    let plan = open.map(|r| {
        let rule = kb.fault(&r.fault);
        let row = |t: &Torque| TorqueRow {
            what: t.what.clone(),
            nm: t.nm.map_or(String::new(), |n| n.to_string()),
            source: t.source.clone(),
        };
        let mut torques: Vec<TorqueRow> = r.torques.iter().map(row).collect();
        while torques.len() < TORQUE_ROWS {
            torques.push(TorqueRow { what: String::new(), nm: String::new(), source: String::new() });
        }
        let at = r.at.as_deref().and_then(|a| case.vehicle.place(a));
        let cautions = rule.map_or(vec![], |f| at_repair(case, kb, f, at.as_ref()));
        let text = |t: &Option<String>| t.clone().unwrap_or_default();
        RepairForm {
            id: r.id.clone(),
            cause: words(r),
            what: r.plan.clone().unwrap_or_else(|| rule.map_or(String::new(), |f| f.repair.clone())),
            needs_marks: rule.is_some_and(Fault::needs_marks),
            cautions: cautions.into_iter().map(CautionView::new).collect(),
            marks: text(&r.marks),
            torques,
            note: text(&r.note),
            part: text(&r.part),
            result: text(&r.result),
            reason: text(&r.reason),
            looks: crate::stations::test_cards::looks_at_repair(k, open_symptom, &r.fault, r.at.as_deref()),
        }
    });
    let earlier = case
        .repairs
        .iter()
        .filter(|r| open.is_none_or(|o| o.id != r.id))
        .map(|r| (words(r), r.result.clone().unwrap_or_default().replace('-', " ")))
        .collect();
    RepairPage { plan, earlier, f }
}

/// The torques that were typed, line by line; an empty line is none.
fn torques(f: &FormFields) -> Result<Vec<Torque>, Problem> {
    let column = |name: &'static str| f.0.iter().filter(move |x| x.0 == name).map(|x| x.1.trim());
    let mut out = vec![];
    for ((what, nm), source) in column("torque-what").zip(column("torque-nm")).zip(column("torque-source")) {
        if what.is_empty() && nm.is_empty() {
            continue;
        }
        let bad = || Problem::new("bad-number", format!("torque of {what}: “{nm}” is not a number")).field("torque-nm");
        out.push(Torque { what: what.into(), nm: Some(parse_number(nm).ok_or_else(bad)?), source: source.into() });
    }
    Ok(out)
}

async fn save(Posted { member: m, path: (id, repair), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    let mut s = m.scope().await?;
    let case = s.case(id).await?;
    let said = RepairDetails {
        plan: f.owned("plan"),
        marks: f.owned("marks"),
        note: f.owned("note"),
        part: f.owned("part"),
        torques: torques(&f)?,
        id: repair.clone(),
    };
    let details = Box::new(match case.case().repairs.iter().find(|r| r.id == repair) {
        Some(now) => said.only_new(now),
        None => said,
    });
    let (act, to) = match f.text("done") {
        Some("yes") => (CaseAct::FinishRepair(details), "prove"),
        Some("drop") => (CaseAct::CancelRepair(EntryId { id: repair }), "decide"),
        _ => (CaseAct::PlanRepair(details), "repair"),
    };
    keep(&m, &mut s, id, &f, act).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/{to}")))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/repair", get(show)).route("/cases/{id}/repairs/{repair}", post(save))
}
