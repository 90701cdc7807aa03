//! Measure: an instrument at a measuring point, and the sums of the trade ([`worksheets`]). The picture answers while one types.

mod angle_gauge;
mod dial;
mod instrument_form;
pub(in crate::stations) mod worksheets;

use crate::App;
use crate::auth::Member;
use crate::edits::{keep, keep_now};
use crate::error::PageError;
use crate::mend;
use crate::page::{Frame, LoadedCase};
use crate::pages_ahead::MadePage;
use crate::rendered_pages::Page;
use crate::stations::form::{FormFields, Posted};
use askama::Template;
use axum::extract::{Path, Query};
use axum::response::{Html, Redirect};
use axum::routing::{get, post};
use axum::{Form, Router};
use baricord_core::case::{Case, Measurement};
use baricord_core::edit::act::{CaseAct, Corrected, EntryKind, LaterTest, MeasuredReading};
use baricord_core::measure::instrument::{Agreement, Instrument, MeasuringPoint, Reading, instruments_for, point_at};
use baricord_core::reasoning::place_is;
use baricord_core::workflow::Station;
use baricord_core::workflow::owed::{REASONS, owed};
use instrument_form::{FormContext, InstrumentForm, form_of};
use serde::Deserialize;
use uuid::Uuid;

#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
struct Asked {
    #[serde(default)]
    s: Option<String>,
    /// The instrument.
    #[serde(default)]
    tool: Option<String>,
    #[serde(default)]
    at: Option<String>,
}

/// An instrument in the row above the form.
struct Tab {
    id: &'static str,
    name: &'static str,
    quantity: &'static str,
    here: bool,
}

struct PointOption {
    id: String,
    words: String,
    limit: String,
    here: bool,
}

#[derive(Template)]
#[template(path = "measure/measure.html")]
struct MeasurePage {
    f: Frame,
    tabs: Vec<Tab>,
    tool: &'static str,
    name: &'static str,
    point_words: &'static str,
    how: &'static str,
    hands: String,
    at: String,
    at_words: String,
    points: Vec<PointOption>,
    form: String,
    href: String,
    save: &'static str,
    /// Why what was read here has to be read again; empty when it stands.
    outdated: String,
    /// Readings at this point taken together; empty where it was read once at most.
    repeated: String,
    /// Whether they disagree.
    disagree: bool,
    /// The test that a reading here answers: it can be put off.
    owed_test: String,
    reasons: [(&'static str, &'static str); 5],
    /// What is owed: what, why.
    owed: Vec<(String, String)>,
    /// Sums that are of use: id, name.
    sheets: Vec<(&'static str, &'static str)>,
    /// What was read: kind, place, where it is opened.
    taken: Vec<(String, String, String)>,
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(q): Query<Asked>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    let asked = Asked { s: None, ..q.clone() };
    let mut slot = m.page("measure", q.s.as_deref()).asked(&asked).of(&mut s, id).await?;
    if let Some(page) = slot.held(&mut s).await? {
        return Ok(page);
    }
    let k = slot.load(&mut s).await?;
    drop(s);
    slot.or_make(move || measure_page(&m, &k, &q)).await
}

/// The page before somebody asks for it.
pub fn ahead(m: Member, id: Uuid) -> MadePage {
    Box::pin(show(m, Path(id), Query(Asked::default())))
}

fn measure_page(m: &Member, k: &LoadedCase, q: &Asked) -> Result<MeasurePage, PageError> {
    let f = Frame::new(m, k, Station::Measure);
    let (case, id) = (k.case(), k.stored.id);
    let v = &case.vehicle;
    let offered = instruments_for(v);
    let asked = offered.iter().find(|i| Some(i.id) == q.tool.as_deref());
    let tool = *asked.or(offered.first()).ok_or(PageError::NotFound)?;
    let form = form_of(tool.id).ok_or(PageError::NotFound)?;
    let points = (tool.points)(v);
    let usual = tool.usual_point(v).unwrap_or_default();
    let at = q.at.as_deref().and_then(|a| point_at(tool, v, a)).unwrap_or(usual);
    let is_here = |x: &&Measurement| x.kind == tool.id && case.measurement_place(x).is_ok_and(|place| place == at);
    let last = case.measurements.iter().rev().find(is_here);
    let outdated = mend::outdated_words(last.and_then(|x| case.stale(x)), false);
    let repeated = last.and_then(|x| case.repeated(&case.readings_with(x)).ok().flatten());
    let made_at = |kind: &str| v.place(&at).is_some_and(|p| place_is(v, &p, kind));
    let owed_test = k.knowledge.test_read_with(tool.id, made_at).map_or(String::new(), |t| t.id.clone());
    let earlier = last.and_then(Reading::of);
    let href = format!("/cases/{id}/measure/{}", tool.id);
    let context = FormContext { case, at: &at, earlier, symptom: k.symptom.as_deref(), href: href.clone() };
    let form_html = (form.form)(&context)?;
    let taken = case
        .measurements
        .iter()
        .map(|x| {
            let at = case.measurement_place(x).map_or_else(|e| e.message, |a| v.place_words(&a));
            let again = if case.stale(x).is_some() { ", measure again" } else { "" };
            (
                format!("{}{again}", x.kind),
                at,
                mend::href(id, EntryKind::Reading, &x.id, k.symptom.as_deref().unwrap_or_default()),
            )
        })
        .collect();
    let tab = |i: &&Instrument| Tab { id: i.id, name: i.name, quantity: i.quantity, here: i.id == tool.id };
    let option = |p: MeasuringPoint| PointOption {
        words: v.place_words(&p.id),
        limit: p.limit.map_or(String::new(), |l| format!("{l:.2}")),
        here: p.id == at,
        id: p.id,
    };
    Ok(MeasurePage {
        tabs: offered.iter().map(tab).collect(),
        tool: tool.id,
        name: tool.name,
        point_words: tool.point_words,
        how: tool.how,
        hands: crate::drawing::hands(tool.hands),
        at_words: v.place_words(&at),
        points: points.into_iter().map(option).collect(),
        form: form_html,
        href,
        save: form.save_words,
        outdated,
        disagree: repeated.as_ref().is_some_and(|r| r.agreement == Agreement::Disagree),
        repeated: repeated.map_or(String::new(), |r| r.words()),
        owed_test,
        reasons: REASONS,
        owed: owed(case, &k.knowledge).into_iter().map(|o| (o.what, o.why)).collect(),
        sheets: worksheets::offered(v, None),
        taken,
        at,
        f,
    })
}

fn need_form(id: &str) -> Result<&'static InstrumentForm, PageError> {
    form_of(id).ok_or(PageError::NotFound)
}

async fn preview(
    m: Member,
    Path((id, tool)): Path<(Uuid, String)>,
    Form(f): Form<Vec<(String, String)>>,
) -> Result<Html<String>, PageError> {
    let form = need_form(&tool)?;
    let case = m.scope().await?.case(id).await?;
    let f = FormFields::of(&m, f);
    Ok(Html((form.answer)(&case.case().vehicle, f.text("at").unwrap_or_default(), &f)?))
}

async fn save(Posted { member: m, path: (id, tool), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    let form = need_form(&tool)?;
    let at = f.need("at", "the measuring point")?.to_string();
    let mut s = m.scope().await?;
    let reading = (form.input)(&s.case(id).await?.case().vehicle, &at, &f)?;
    keep(&m, &mut s, id, &f, CaseAct::Measure(Box::new(MeasuredReading { at: at.clone(), reading }))).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/measure?tool={tool}&at={at}&s={}", f.text("symptom").unwrap_or_default())))
}

/// It cannot be read now: it is owed until it is.
async fn put_off(Posted { member: m, path: (id, tool), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    need_form(&tool)?;
    let at = f.need("at", "the measuring point")?.to_string();
    let later = LaterTest {
        test: f.need("test", "the test")?.into(),
        at: Some(at.clone()),
        gear: None,
        why: Some(f.need("why", "the reason")?.into()),
    };
    keep_now(&m, id, &f, CaseAct::AskLater(later)).await?;
    Ok(Redirect::to(&format!("/cases/{id}/measure?tool={tool}&at={at}&s={}", f.text("symptom").unwrap_or_default())))
}

/// The measuring point of a reading, and the form filled with it.
pub fn form_of_reading(k: &LoadedCase, id: &str) -> Result<(String, String), PageError> {
    let case = k.case();
    let x = case.measurements.iter().find(|x| x.id == id).ok_or(PageError::NotFound)?;
    let at = case.measurement_place(x)?;
    let href = format!("/cases/{}/measure/{}", k.stored.id, x.kind);
    let context = FormContext { case, at: &at, earlier: Reading::of(x), symptom: k.symptom.as_deref(), href };
    let form = (need_form(&x.kind)?.form)(&context)?;
    Ok((at, form))
}

/// A reading that stands, as the form corrects it.
pub fn corrected_reading(case: &Case, id: String, f: &FormFields) -> Result<CaseAct, PageError> {
    let x = case.measurements.iter().find(|x| x.id == id).ok_or(PageError::NotFound)?;
    let at = f.need("at", "the measuring point")?.to_string();
    let reading = (need_form(&x.kind)?.input)(&case.vehicle, &at, f)?;
    Ok(CaseAct::CorrectReading(Box::new(Corrected { id, now: MeasuredReading { at, reading } })))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/measure", get(show))
        .route("/cases/{id}/measure/{instrument}", post(save))
        .route("/cases/{id}/measure/{instrument}/answer", post(preview))
        .route("/cases/{id}/measure/{instrument}/owed", post(put_off))
        .merge(worksheets::routes())
}
