//! Complaint: the vehicle as it is described, and what is wrong with it.

mod dimensions;
pub mod earlier_work;
mod said;
pub mod sounds;
pub mod symptom_form;
mod vehicle;
pub mod vehicle_form;

use self::earlier_work::{attempt_words, hint_words, nameable};
use self::vehicle::describe;
use crate::App;
use crate::auth::Member;
use crate::edits::{keep, keep_now};
use crate::error::PageError;
use crate::mend;
use crate::notes::{self, NoteLine};
use crate::page::{Frame, LoadedCase, Which};
use crate::pages_ahead::MadePage;
use crate::rendered_pages::Page;
use crate::stations::form::Posted;
use crate::vehicles::{self, HistoryLine};
use crate::wording::kind_words;
use askama::Template;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::Redirect;
use axum::routing::{get, post};
use baricord_core::case::intake;
use baricord_core::edit::act::{CaseAct, EntryKind, IntakeAnswer};
use baricord_core::reasoning::knowledge::KINDS;
use baricord_core::synonyms;
use baricord_core::vehicle_history::{self, Change};
use baricord_core::workflow::Station;
use baricord_store::Scope;
use baricord_store::vehicles::VehicleGlance;
use symptom_form::{SymptomForm, heard_words, symptom_of};
use uuid::Uuid;
use vehicle_form::{Kind, VehicleForm};

struct SymptomLine {
    id: String,
    /// Where it is opened.
    href: String,
    kind: String,
    words: String,
    facts: String,
    /// What was answered: question, answer.
    answers: Vec<(String, String)>,
    /// The next question.
    ask: Option<&'static intake::Question>,
    /// What words of it are called here: said, name, and where it may mean something else.
    meant: Vec<synonyms::Meant>,
    /// How to hear it again, where it could not be heard.
    plan: Vec<String>,
    /// What the driver said, sentence by sentence, and what each can become.
    sentences: Vec<said::Sentence>,
}

/// What is known of the vehicle from before this case.
struct VehicleHistory {
    path: String,
    lines: Vec<HistoryLine>,
    /// Changes that bear on a cause and are not counted in this case: kind, in words.
    uncounted: Vec<(String, String)>,
}

/// Lines of a history shown on a case.
const LIFE_SHOWN: u16 = 5;

async fn vehicle_history_of(s: &mut Scope, k: &LoadedCase, v: &VehicleGlance) -> Result<Option<VehicleHistory>, PageError> {
    let cases = s.glanced_cases(&v.others).await?;
    let v = &v.vehicle;
    let mut lines = vehicles::lines(&cases, &v.changes);
    lines.truncate(LIFE_SHOWN.into());
    let change_words = |c: &Change| {
        let ago =
            vehicle_history::since(c.distance_km, k.case().distance_km).map(|d| format!(", {} km ago", vehicles::grouped(d)));
        format!("{} on {}{}", kind_words(&c.kind), c.on, ago.unwrap_or_default())
    };
    let uncounted =
        vehicle_history::uncounted(&v.changes, k.case()).into_iter().map(|c| (c.kind.clone(), change_words(c))).collect();
    Ok((!lines.is_empty()).then(|| VehicleHistory { path: format!("/vehicles/{}", v.id), lines, uncounted }))
}

#[derive(Template)]
#[template(path = "complaint/complaint.html")]
struct ComplaintPage {
    f: Frame,
    v: VehicleForm,
    symptoms: Vec<SymptomLine>,
    form: SymptomForm,
    first: bool,
    trust: [(&'static str, &'static str); 3],
    /// What the vehicle had run, as it was typed.
    distance: String,
    vehicle_history: Option<VehicleHistory>,
    /// What was tried, and where that is opened.
    attempts: Vec<(String, String)>,
    changed: [(&'static str, &'static str); 4],
    /// What can be named as a cause or as a complete unit: value and words.
    causes: Vec<(String, String)>,
    notes: Vec<NoteLine>,
    /// Hints from outside: id and words.
    hints: Vec<(String, String)>,
}

async fn show(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<Page, PageError> {
    let mut s = m.scope().await?;
    // Each of its cases fills a line at least.
    let slot = m.page("complaint", w.s.as_deref()).with_vehicle(LIFE_SHOWN).of(&mut s, id).await?;
    let vehicle = slot.now().vehicle.clone();
    let mut slot = slot.beside(&vehicle);
    if let Some(page) = slot.held(&mut s).await? {
        return Ok(page);
    }
    let k = slot.load(&mut s).await?;
    let history = match &vehicle {
        Some(v) => vehicle_history_of(&mut s, &k, v).await?,
        None => None,
    };
    drop(s);
    slot.or_make(move || Ok(complaint_page(&m, &k, history))).await
}

/// The page before somebody asks for it.
pub fn ahead(m: Member, id: Uuid) -> MadePage {
    Box::pin(show(m, Path(id), Query(Which::default())))
}

fn complaint_page(m: &Member, k: &LoadedCase, vehicle_history: Option<VehicleHistory>) -> ComplaintPage {
    let f = Frame::new(m, k, Station::Complaint);
    let case = k.case();
    let symptoms = case
        .symptoms
        .iter()
        .map(|s| {
            let mut facts = vec![];
            if let Some(r) = s.speed_kmh {
                let n = |x: Option<f64>| x.map_or("…".into(), |x| format!("{x:.0}"));
                facts.push(format!("{} to {} km/h, worst at {} km/h", n(r.from), n(r.to), n(r.peak)));
            }
            facts.extend(s.since.iter().map(|x| format!("since {x}")));
            if !s.felt.is_empty() {
                facts.push(format!("felt at {}", s.felt.join(", ").replace('-', " ")));
            }
            if let Some(h) = s.heard_from.as_deref().filter(|h| *h != "unknown") {
                facts.push(format!("from {}", heard_words(h)));
            }
            SymptomLine {
                href: mend::href(k.stored.id, EntryKind::Symptom, &s.id, &s.id),
                id: s.id.clone(),
                kind: kind_words(&s.kind),
                words: s.words.clone(),
                facts: facts.join(" · "),
                answers: intake::answered(s).into_iter().map(|(q, a)| (q.ask.clone(), a.words.clone())).collect(),
                ask: intake::next_question(s),
                // What kind of noise it is was chosen already.
                meant: synonyms::meant(&s.words).into_iter().filter(|w| !KINDS.contains(&w.name.as_str())).collect(),
                sentences: said::sentences(k, s),
                plan: if intake::is_unheard(s) && !k.case().is_grounded() { intake::plan_to_hear(s) } else { vec![] },
            }
        })
        .collect();
    let causes = nameable(k);
    let hints = case.hints.iter().map(|h| hint_words(k, h)).collect();
    let opened = |kind, entry: &str, s: Option<&str>| mend::href(k.stored.id, kind, entry, s.unwrap_or_default());
    let attempts =
        case.attempts.iter().map(|a| (attempt_words(a), opened(EntryKind::Attempt, &a.id, k.symptom.as_deref()))).collect();
    ComplaintPage {
        trust: intake::TRUST,
        attempts,
        changed: intake::CHANGED,
        causes,
        notes: notes::lines(k, None),
        hints,
        distance: case.distance_km.map_or(String::new(), |km| km.get().to_string()),
        vehicle_history,
        v: vehicle_form::form(&case.vehicle),
        symptoms,
        form: SymptomForm::of(None, case),
        first: case.symptoms.is_empty(),
        f,
    }
}

async fn add_symptom(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let symptom = symptom_of(&f)?;
    let mut s = m.scope().await?;
    // The vehicle's form comes with it: what was changed there is kept too.
    describe(&m, &mut s, id, &f).await?;
    let told = keep(&m, &mut s, id, &f, CaseAct::AddSymptom(Box::new(symptom))).await?;
    s.commit().await?;
    Ok(Redirect::to(&format!("/cases/{id}/road?s={}", told.and_then(|a| a.entry).unwrap_or_default())))
}

/// One more answer about a symptom; an answer given again replaces the one before.
async fn answer(Posted { member: m, path: (id, symptom), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    let (question, answer) = (f.need("question", "the question")?.into(), f.need("answer", "the answer")?.into());
    keep_now(&m, id, &f, CaseAct::AnswerIntake(IntakeAnswer { symptom: symptom.clone(), question, answer })).await?;
    Ok(Redirect::to(&format!("/cases/{id}/complaint?s={symptom}#ask-{symptom}")))
}

/// Routes of the station.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/complaint", get(show))
        .route("/cases/{id}/symptoms", post(add_symptom))
        .route("/cases/{id}/symptoms/{symptom}/answer", post(answer))
        .merge(vehicle::routes())
        .merge(dimensions::routes())
        .merge(sounds::routes())
        .merge(earlier_work::routes())
}
