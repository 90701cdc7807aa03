//! Repair: the chosen cause, what will be done, the marks, torques with their source, the caution.

mod kit_view;
mod plan_view;

use self::plan_view::PlanView;
use crate::App;
use crate::auth::Member;
use crate::edits::{keep, keep_now};
use crate::error::PageError;
use crate::mend;
use crate::page::{Frame, LoadedCase};
use crate::pages_ahead::MadePage;
use crate::rendered_pages::Page;
use crate::stations::form::{FormFields, Posted};
use crate::stations::test_cards::CautionView;
use crate::wording::segment;
use askama::Template;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::case::fault_at::FaultAt;
use baricord_core::case::vocabulary::TASKS;
use baricord_core::case::{Repair, Torque};
use baricord_core::edit::act::{
    CaseAct, Deadline, EntryId, EntryKind, NewKitNote, PlannedWork, RepairDetails, RepairSpecification, RepairSteps,
};
use baricord_core::error::Problem;
use baricord_core::reasoning::OpenSymptom;
use baricord_core::reasoning::knowledge::Fault;
use baricord_core::reasoning::wording::{repair_state_words, repair_words};
use baricord_core::repair::purchasing::ChosenRepair;
use baricord_core::safety::cautions::at_repair;
use baricord_core::typed_input::across_flats_mm;
use baricord_core::units::Unit;
use baricord_core::workflow::Station;
use jiff::SignedDuration;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use serde::Deserialize;
use uuid::Uuid;

/// A line for a torque.
#[derive(Default)]
struct TorqueRow {
    what: String,
    nm: String,
    source: String,
    /// Width across flats, mm: as it was typed, and as it is usual.
    drive: String,
    usual: String,
}

/// Minutes that a clock on earth is behind or before UTC at the most.
const MOST_BEHIND_MIN: f64 = 24.0 * 60.0;

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
    /// Every step of all that is open.
    steps: Option<PlanView>,
    has_steps_left: bool,
    plan: Option<RepairForm>,
    /// All that are open: id, words, whether it is the one shown. Where one is open, none.
    open: Vec<(String, String, bool)>,
    tasks: [(&'static str, &'static str); 4],
    /// Those before: words, result, where each is opened.
    earlier: Vec<(String, String, String)>,
}

/// Which repair of which symptom.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct WhichRepair {
    #[serde(default)]
    pub s: Option<String>,
    #[serde(default)]
    pub r: Option<String>,
    /// Whether all is put back unrepaired.
    #[serde(default)]
    pub back: Option<String>,
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<WhichRepair>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    let mut slot = m.page("repair", w.s.as_deref()).asked(&(w.r.clone(), w.back.clone())).of(&mut s, id).await?;
    if let Some(page) = slot.held(&mut s).await? {
        return Ok(page);
    }
    let k = slot.load(&mut s).await?;
    drop(s);
    slot.or_make(move || Ok(k.with_open(|open| repair_page(&m, &k, open, &w)))).await
}

/// The page before somebody asks for it.
pub fn ahead(m: Member, id: Uuid) -> MadePage {
    Box::pin(show(m, Path(id), Query(WhichRepair::default())))
}

fn repair_page(m: &Member, k: &LoadedCase, open_symptom: &OpenSymptom<'_>, w: &WhichRepair) -> RepairPage {
    let wanted = w.r.as_deref();
    let steps = PlanView::new(k, w.back.as_deref() == Some("yes"));
    let mut f = Frame::new(m, k, Station::Repair);
    if let Some(t) = &steps {
        f.take_apart(k, &t.teardown);
    }
    let (kb, case) = (&*k.knowledge, k.case());
    let words = |r: &Repair| repair_words(kb, case, r);
    let all_open: Vec<&Repair> = case.repairs.iter().filter(|r| r.is_open()).collect();
    let open = all_open.iter().find(|r| Some(r.id.as_str()) == wanted).or(all_open.last()).copied();
    let plan = open.map(|r| {
        let rule = kb.fault(&r.fault);
        let row = |t: &Torque| TorqueRow {
            what: t.what.clone(),
            nm: t.nm.map_or(String::new(), |n| n.to_string()),
            source: t.source.clone(),
            drive: t.drive_mm.map_or(String::new(), |mm| mm.to_string()),
            usual: String::new(),
        };
        let mut torques: Vec<TorqueRow> = r.torques.iter().map(row).collect();
        // A line for each fastener of which something is not looked up.
        for what in steps.iter().flat_map(|t| t.kit.figures.iter().chain(&t.kit.unsized_fasteners)) {
            if !torques.iter().any(|t| t.what == *what) {
                torques.push(TorqueRow { what: what.clone(), ..TorqueRow::default() });
            }
        }
        for row in &mut torques {
            row.usual = steps.iter().find_map(|t| t.kit.drives.get(&row.what).cloned()).unwrap_or_default();
        }
        torques.resize_with(torques.len().max(TORQUE_ROWS), TorqueRow::default);
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
        .filter(|r| !r.is_open())
        .map(|r| {
            let opened = mend::href(k.stored.id, EntryKind::Repair, &r.id, k.symptom.as_deref().unwrap_or_default());
            (words(r), repair_state_words(r), opened)
        })
        .collect();
    let tabs = all_open.iter().filter(|_| all_open.len() > 1);
    let is_shown = |r: &Repair| open.is_some_and(|o| o.id == r.id);
    let open = tabs.map(|r| (r.id.clone(), format!("{} ({})", words(r), repair_state_words(r)), is_shown(r))).collect();
    let has_steps_left = steps.as_ref().is_some_and(|t| t.next.is_some());
    RepairPage { steps, has_steps_left, plan, open, tasks: TASKS, earlier, f }
}

/// The torques that were typed, line by line; an empty line is none.
fn torques(f: &FormFields) -> Result<Vec<Torque>, Problem> {
    let column = |name: &'static str| f.fields.iter().filter(move |x| x.0 == name).map(|x| x.1.trim());
    let mut out = vec![];
    // A form of before has no sizes.
    let sizes = column("torque-drive").chain(std::iter::repeat(""));
    for (((what, nm), source), drive) in column("torque-what").zip(column("torque-nm")).zip(column("torque-source")).zip(sizes) {
        // A fastener is named for every figure that is missing: with none it says nothing.
        if nm.is_empty() && drive.is_empty() && (what.is_empty() || source.is_empty()) {
            continue;
        }
        let said = |kind: &str, p: Problem| Problem { message: format!("{kind} of {what}: {}", p.message), ..p };
        let drive_mm = match drive {
            "" => None,
            typed => Some(across_flats_mm(typed, "torque-drive").map_err(|p| said("size", p))?),
        };
        let nm = match (nm, drive_mm) {
            ("", Some(_)) => None,
            _ => Some(f.typed("torque-nm", nm, Unit::NewtonMetre).map_err(|p| said("torque", p))?),
        };
        out.push(Torque { what: what.into(), nm, source: source.into(), drive_mm });
    }
    Ok(out)
}

async fn save(Posted { member: m, path: (id, repair), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    let repair_id = repair.clone();
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
    let again = if to == "repair" { format!("?r={}", segment(&repair_id)) } else { String::new() };
    Ok(Redirect::to(&format!("/cases/{id}/{to}{again}")))
}

/// A repair is planned at a part, or a part was changed because it was due.
async fn plan_at(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let named = f.need("fault", "what is repaired")?;
    let unread = || Problem::new("unknown-fault", format!("“{named}” is no fault at a place")).field("fault");
    let cause = FaultAt::parse(named).ok_or_else(unread)?;
    let with = f.all("also-at").into_iter().map(|at| FaultAt::new(&cause.fault, at)).collect();
    let chosen = Box::new(ChosenRepair {
        fault: cause.fault,
        at: Some(cause.at),
        with,
        symptom: f.owned("symptom"),
        reason: f.owned("reason"),
        ..ChosenRepair::default()
    });
    let is_due = f.text("as") == Some("due");
    let act = if is_due { CaseAct::ReplaceAsDue(chosen) } else { CaseAct::ChooseRepair(chosen) };
    keep_now(&m, id, &f, act).await?;
    let to = if is_due { "decide" } else { "repair" };
    Ok(Redirect::to(&format!("/cases/{id}/{to}?s={}", f.text("symptom").unwrap_or_default())))
}

/// The case of a page, and the symptom that it shows.
#[derive(Debug, Deserialize)]
struct OfSymptom {
    #[serde(default)]
    s: Option<String>,
}

/// A repair and a step, as a button of the list sends them.
fn repair_and_step(value: &str) -> Result<(String, String), Problem> {
    let unread = || Problem::new("unknown-step", "this is no step of a repair").field("steps");
    value.split_once(' ').map(|(r, s)| (r.to_string(), s.to_string())).ok_or_else(unread)
}

/// A step is done, or not done after all.
async fn tick(Query(q): Query<OfSymptom>, Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let put_back = f.text("back") == Some("yes");
    let act = match (f.text("done"), f.text("open")) {
        (Some(done), _) => {
            let (repair, step) = repair_and_step(done)?;
            CaseAct::FinishSteps(RepairSteps { id: repair, steps: vec![step], put_back, without: f.owned("without") })
        }
        (None, open) => {
            let (repair, step) = repair_and_step(open.unwrap_or_default())?;
            CaseAct::ReopenSteps(RepairSteps { id: repair, steps: vec![step], put_back, without: None })
        }
    };
    keep_now(&m, id, &f, act).await?;
    let back = if put_back { "&back=yes" } else { "" };
    Ok(Redirect::to(&format!("/cases/{id}/repair?s={}{back}", segment(&q.s.unwrap_or_default()))))
}

/// How a repair is done: which way in, which gear, which boot.
async fn specify(Posted { member: m, path: (id, repair), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    let how = RepairSpecification {
        id: repair,
        way: f.came("way").then(|| f.text("way").unwrap_or_default().to_string()),
        gear: f.owned("gear"),
        boot: f.owned("boot"),
    };
    keep_now(&m, id, &f, CaseAct::SpecifyRepair(how)).await?;
    Ok(Redirect::to(&format!("/cases/{id}/repair")))
}

/// Something of the kit is awaited, borrowed, here, or went back.
async fn note_kit(Query(q): Query<OfSymptom>, Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let note = NewKitNote {
        what: f.need("what", "what it is")?.into(),
        state: f.need("state", "where it is")?.into(),
        from: f.owned("from"),
        when: f.owned("when"),
    };
    keep_now(&m, id, &f, CaseAct::NoteKit(note)).await?;
    Ok(Redirect::to(&format!("/cases/{id}/repair?s={}#ready", segment(&q.s.unwrap_or_default()))))
}

/// When the vehicle must be handed back, in the reader's own time: minutes between it and UTC come with it.
async fn set_deadline(
    Query(q): Query<OfSymptom>,
    Posted { member: m, path: id, form: f }: Posted,
) -> Result<Redirect, PageError> {
    let due = match f.text("due") {
        None => None,
        Some(typed) => {
            let unread = || Problem::new("bad-time", format!("“{typed}” is no day and time")).field("due");
            let local: DateTime = typed.parse().map_err(|_| unread())?;
            let utc = TimeZone::UTC.to_timestamp(local).map_err(|_| unread())?;
            let behind = f.number("behind-utc")?.unwrap_or(0.0).clamp(-MOST_BEHIND_MIN, MOST_BEHIND_MIN);
            let due = utc.checked_add(SignedDuration::from_mins(behind as i64)).map_err(|_| unread())?;
            Some(due.to_string())
        }
    };
    keep_now(&m, id, &f, CaseAct::SetDeadline(Deadline { due })).await?;
    Ok(Redirect::to(&format!("/cases/{id}/repair?s={}", segment(&q.s.unwrap_or_default()))))
}

/// Work without a search is planned at a part.
async fn plan_task(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let work = PlannedWork {
        task: f.need("task", "what is done")?.into(),
        at: f.owned("at"),
        what: f.owned("what"),
        places: f.all("also-at"),
        part: f.owned("part"),
        reason: f.owned("reason"),
    };
    let done = keep_now(&m, id, &f, CaseAct::PlanWork(Box::new(work))).await?;
    let made = done.and_then(|d| d.entry).unwrap_or_default();
    Ok(Redirect::to(&format!("/cases/{id}/repair?s={}&r={}", f.text("symptom").unwrap_or_default(), segment(&made))))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/work", post(plan_at))
        .route("/cases/{id}/tasks", post(plan_task))
        .route("/cases/{id}/repair", get(show))
        .route("/cases/{id}/repairs/{repair}", post(save))
        .route("/cases/{id}/repairs/{repair}/how", post(specify))
        .route("/cases/{id}/steps", post(tick))
        .route("/cases/{id}/kit", post(note_kit))
        .route("/cases/{id}/deadline", post(set_deadline))
}
