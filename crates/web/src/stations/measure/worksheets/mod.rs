//! Work it out: the sums of the trade, one sheet each, with its picture; [`SHEETS`] is the registry. What a sheet says can be kept: as
//! the answer to the test that it amounts to, else as a note at its part.

mod angle_plan;
mod axle_play;
mod balance;
mod bearing;
mod fields;
mod final_drive;
mod holding;
mod pictures;
mod shaft;
mod tightening;
mod turned;
mod wheels;

pub(in crate::stations) use angle_plan::plan_rows;

use super::instrument_form::{finding_line, rendered};
use crate::App;
use crate::auth::Member;
use crate::edits::keep;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase};
use crate::rendered_pages::beside;
use crate::stations::form::{FormFields, Posted};
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, Query};
use axum::response::{Html, Redirect};
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::case::Case;
use baricord_core::edit::act::{CaseAct, NewNote, TestResult};
use baricord_core::error::{Finding, Problem};
use baricord_core::reasoning::knowledge::WorkshopOverrides;
use baricord_core::vehicle::{Place, Vehicle};
use baricord_core::workflow::Station;
use fields::Group;
use serde::Deserialize;
use uuid::Uuid;

/// What a sheet is filled and answered for.
struct SheetContext<'a> {
    case: &'a Case,
    /// What the workshop knows and wants.
    house: &'a WorkshopOverrides,
    /// The part that it is about.
    at: &'a str,
    /// The scale of the last run, with its sigma, where one was found.
    scale: Option<(f64, f64)>,
}

impl SheetContext<'_> {
    fn vehicle(&self) -> &Vehicle {
        &self.case.vehicle
    }
}

/// What a sheet says.
#[derive(Default)]
struct SheetAnswer {
    /// An SVG.
    picture: String,
    /// What counts: words, value with its unit.
    figures: Vec<(String, String)>,
    pairs: Vec<(String, String)>,
    headings: Vec<&'static str>,
    rows: Vec<Vec<String>>,
    /// What more there is to say, behind the table: a heading and pairs.
    beside: Option<(&'static str, Vec<(String, String)>)>,
    findings: Vec<Finding>,
    /// What it says in one line, to be kept.
    words: String,
    /// The test and its outcome that it amounts to.
    outcome: Option<(&'static str, String)>,
}

/// One sum.
struct Sheet {
    /// In addresses.
    id: &'static str,
    /// What it is called.
    name: &'static str,
    /// What it works out, in one to two sentences.
    how: &'static str,
    /// What can hurt, said at this sheet; empty where nothing can.
    caution: &'static str,
    /// Whether its answer is wide and comes first.
    is_answer_first: bool,
    /// Whether it is of the whole vehicle: then no place is chosen.
    is_of_vehicle: bool,
    /// Where on a vehicle it is of use; the first such place is meant where nobody says.
    is_at: fn(&Vehicle, &Place) -> bool,
    groups: fn(&SheetContext) -> Vec<Group>,
    answer: fn(&SheetContext, &FormFields) -> Result<SheetAnswer, Problem>,
}

/// Every sheet, in the order in which they are offered.
const SHEETS: &[&Sheet] = &[
    &angle_plan::SHEET,
    &turned::INDEX,
    &turned::BOW,
    &balance::ONE_PLANE,
    &balance::TWO_PLANES,
    &axle_play::SHEET,
    &shaft::LENGTH,
    &shaft::BENDING_SPEED,
    &final_drive::BACKLASH,
    &final_drive::PRELOAD,
    &final_drive::PATTERN,
    &final_drive::CLUTCH_PACK,
    &final_drive::RING_CLEARANCE,
    &bearing::SHEET,
    &tightening::SHEET,
    &wheels::SHEET,
    &holding::SHEET,
];

/// The places of a vehicle where a sheet is of use.
fn places(sheet: &Sheet, v: &Vehicle) -> Vec<Place> {
    v.places().into_iter().filter(|p| (sheet.is_at)(v, p)).collect()
}

/// The sheets that are of use on a vehicle, or at one of its parts: id, name.
pub fn offered(v: &Vehicle, at: Option<&Place>) -> Vec<(&'static str, &'static str)> {
    let of_use = |s: &&&Sheet| match at {
        Some(p) => (s.is_at)(v, p),
        None => !places(s, v).is_empty(),
    };
    SHEETS.iter().filter(of_use).map(|s| (s.id, s.name)).collect()
}

fn need_sheet(id: &str) -> Result<&'static Sheet, PageError> {
    SHEETS.iter().find(|s| s.id == id).copied().ok_or(PageError::NotFound)
}

#[derive(Clone, Debug, Default, Deserialize)]
struct Asked {
    #[serde(default)]
    s: Option<String>,
    #[serde(default)]
    at: Option<String>,
}

/// An answer as the page shows it.
#[derive(Template, Default)]
#[template(path = "measure/worksheets/answer.html")]
struct AnswerView {
    a: SheetAnswer,
    findings: Vec<(String, &'static str)>,
    problem: String,
    /// What the button keeps; empty where nothing is kept.
    keep: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "measure/worksheets/sheet.html")]
struct SheetPage {
    f: Frame,
    id: &'static str,
    name: &'static str,
    how: &'static str,
    caution: &'static str,
    is_answer_first: bool,
    at: String,
    at_words: String,
    /// Id, words, whether it is meant.
    points: Vec<(String, String, bool)>,
    sheets: Vec<(&'static str, &'static str, bool)>,
    groups: Vec<Group>,
    answer: String,
}

fn view(answer: Result<SheetAnswer, Problem>, is_blank: bool) -> Result<String, Problem> {
    rendered(&match answer {
        Ok(a) => AnswerView {
            keep: match &a.outcome {
                _ if a.words.is_empty() => String::new(),
                Some((_, outcome)) => format!("Save as answer: {}", outcome.replace('-', " ")),
                None => "Keep as a note".into(),
            },
            findings: a.findings.iter().map(finding_line).collect(),
            problem: String::new(),
            a,
        },
        // Nothing was typed yet: nothing is wrong.
        Err(_) if is_blank => AnswerView::default(),
        Err(p) => AnswerView { problem: p.message, ..AnswerView::default() },
    })
}

/// The last run of the case that told a scale.
fn scale_of(k: &LoadedCase) -> Option<(f64, f64)> {
    let runs = k.analysis.as_ref()?.recordings.iter().rev();
    runs.filter_map(|r| r.reference.as_ref()).next().map(|r| (r.scale, r.scale_sigma))
}

fn point(sheet: &Sheet, v: &Vehicle, asked: Option<&str>) -> Result<(Vec<Place>, String), PageError> {
    let all = places(sheet, v);
    let meant = asked.and_then(|a| all.iter().find(|p| p.id == a)).or(all.first()).ok_or(PageError::NotFound)?;
    let at = meant.id.clone();
    Ok((all, at))
}

async fn show(m: Member, Path((id, sheet)): Path<(Uuid, String)>, Query(q): Query<Asked>) -> Result<SheetPage, PageError> {
    let sheet = need_sheet(&sheet)?;
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, q.s.as_deref()).await?;
    drop(s);
    let (all, at) = point(sheet, &k.case().vehicle, q.at.as_deref())?;
    let (case, place) = (k.clone(), at.clone());
    let (groups, answer) = beside(move || {
        let c = SheetContext { case: case.case(), house: case.knowledge.overrides(), at: &place, scale: scale_of(&case) };
        let groups = (sheet.groups)(&c);
        let filled = groups.iter().flat_map(|g| &g.fields).map(|f| (f.name.clone(), f.value.clone())).collect();
        let answer = (sheet.answer)(&c, &FormFields::metric(filled));
        (groups, answer)
    })
    .await?;
    let v = &k.case().vehicle;
    let answer = view(answer, true)?;
    Ok(SheetPage {
        f: Frame::new(&m, &k, Station::Measure),
        id: sheet.id,
        name: sheet.name,
        how: sheet.how,
        caution: sheet.caution,
        is_answer_first: sheet.is_answer_first,
        at_words: if sheet.is_of_vehicle { v.name.clone() } else { v.place_words(&at) },
        points: all.into_iter().filter(|_| !sheet.is_of_vehicle).map(|p| (p.id.clone(), p.words, p.id == at)).collect(),
        sheets: offered(v, None).into_iter().map(|(id, name)| (id, name, id == sheet.id)).collect(),
        groups,
        answer,
        at,
    })
}

/// A sheet worked out: the case, the place that is meant, the fields, what it says.
struct WorkedOut {
    k: LoadedCase,
    at: String,
    f: FormFields,
    answer: Result<SheetAnswer, Problem>,
}

/// Works a sheet out beside the requests: a planner may try a million settings.
async fn work_out(m: &Member, id: Uuid, sheet: &'static Sheet, f: FormFields) -> Result<WorkedOut, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, f.text("symptom")).await?;
    drop(s);
    let (_, at) = point(sheet, &k.case().vehicle, f.text("at"))?;
    beside(move || {
        let c = SheetContext { case: k.case(), house: k.knowledge.overrides(), at: &at, scale: scale_of(&k) };
        let answer = (sheet.answer)(&c, &f);
        WorkedOut { k, at, f, answer }
    })
    .await
}

/// What is typed so far, worked out; nothing is kept.
async fn answer(
    m: Member,
    Path((id, sheet)): Path<(Uuid, String)>,
    Form(f): Form<Vec<(String, String)>>,
) -> Result<Html<String>, PageError> {
    let f = FormFields::of(&m, f);
    Ok(Html(view(work_out(&m, id, need_sheet(&sheet)?, f).await?.answer, false)?))
}

/// What it says is kept: an answer where it amounts to one, else a note.
async fn keep_it(Posted { member: m, path: (id, sheet), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    let sheet = need_sheet(&sheet)?;
    let WorkedOut { k, at, f, answer } = work_out(&m, id, sheet, f).await?;
    let a = answer?;
    let act = match a.outcome {
        Some((test, outcome)) => CaseAct::AnswerTest(Box::new(TestResult {
            symptom: k.symptom.clone(),
            test: test.into(),
            at: Some(at.clone()),
            gear: f.owned("gear"),
            outcome,
            note: Some(a.words),
            ..TestResult::default()
        })),
        None => CaseAct::AddNote(NewNote { text: format!("{}: {}", sheet.name, a.words), at: Some(at.clone()) }),
    };
    let mut s = m.scope().await?;
    keep(&m, &mut s, id, &f, act).await?;
    s.commit().await?;
    let place = crate::wording::segment(&at);
    Ok(Redirect::to(&format!("/cases/{id}/part/{place}?s={}", f.text("symptom").unwrap_or_default())))
}

/// Routes of the sheets.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/work-out/{sheet}", get(show).post(keep_it))
        .route("/cases/{id}/work-out/{sheet}/answer", post(answer))
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::reasoning::knowledge::builtin;
    use baricord_core::vehicle::layout::layouts;

    /// Each sheet opens at each of its places on every layout; a sheet that is filled by the vehicle answers.
    #[test]
    fn every_sheet_opens_on_every_layout_and_names_what_is_missing() {
        for layout in layouts() {
            let case = Case::new("c1", "Hum", layout.vehicle);
            assert!(offered(&case.vehicle, None).len() > 5, "{}", layout.id);
            for sheet in SHEETS {
                for p in places(sheet, &case.vehicle) {
                    let c = SheetContext { case: &case, house: &WorkshopOverrides::default(), at: &p.id, scale: None };
                    let groups = (sheet.groups)(&c);
                    let names: Vec<&String> = groups.iter().flat_map(|g| &g.fields).map(|f| &f.name).collect();
                    let once: std::collections::BTreeSet<&String> = names.iter().copied().collect();
                    assert_eq!(once.len(), names.len(), "{} {names:?}", sheet.id);
                    let filled = groups.iter().flat_map(|g| &g.fields).map(|f| (f.name.clone(), f.value.clone())).collect();
                    if let Err(e) = (sheet.answer)(&c, &FormFields::metric(filled)) {
                        assert!(!e.message.is_empty(), "{}", sheet.id);
                    }
                }
            }
        }
    }

    #[test]
    fn what_is_kept_as_an_answer_is_an_outcome_of_its_test() {
        for (test, outcomes) in [
            ("contact-pattern", vec!["good", "deep"]),
            ("ring-clearance", vec!["below", "within"]),
            ("backlash", vec!["over", "within"]),
        ] {
            let t = builtin().test(test).unwrap();
            assert!(outcomes.iter().all(|o| t.outcome(o).is_some()), "{test}");
        }
    }
}
