//! What was told, found, tried, driven or repaired, opened.

use super::EntryHead;
use super::answer::Choice;
use crate::auth::Member;
use crate::error::PageError;
use crate::notes::note_of;
use crate::page::{Frame, LoadedCase};
use crate::stations::complaint::earlier_work::{attempt_of, nameable};
use crate::stations::complaint::symptom_form::{SymptomForm, symptom_of};
use crate::stations::form::FormFields;
use askama::Template;
use askama_web::WebTemplate;
use axum::response::{IntoResponse, Response};
use baricord_core::case::intake;
use baricord_core::edit::act::{CaseAct, Corrected, EntryId, EntryKind, NewFinding, RunFacts};
use baricord_core::edit::mend::RUN_THROTTLES;
use baricord_core::error::Problem;
use baricord_core::workflow::Station;

#[derive(Template, WebTemplate)]
#[template(path = "mend/symptom.html")]
struct SymptomPage {
    f: Frame,
    head: EntryHead,
    form: SymptomForm,
    /// The intake's questions that were answered: id, question, answers.
    asked: Vec<(String, String, Vec<Choice>)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "mend/attempt.html")]
struct AttemptPage {
    f: Frame,
    head: EntryHead,
    what: String,
    by: String,
    result: String,
    causes: Vec<Choice>,
    changed: Vec<Choice>,
    trust: Vec<Choice>,
}

#[derive(Template, WebTemplate)]
#[template(path = "mend/finding.html")]
struct FindingPage {
    f: Frame,
    head: EntryHead,
    what: String,
    places: Vec<Choice>,
}

#[derive(Template, WebTemplate)]
#[template(path = "mend/run.html")]
struct RunPage {
    f: Frame,
    head: EntryHead,
    symptoms: Vec<Choice>,
    gears: Vec<Choice>,
    throttles: Vec<Choice>,
    ranges: Vec<Choice>,
    place: String,
    after: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "mend/repair.html")]
struct RepairPage {
    f: Frame,
    head: EntryHead,
    /// It has its verdict.
    judged: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "mend/note.html")]
struct NotePage {
    f: Frame,
    head: EntryHead,
    text: String,
    places: Vec<Choice>,
}

/// What is only taken out: it is said again where it was said.
#[derive(Template, WebTemplate)]
#[template(path = "mend/plain.html")]
struct PlainPage {
    f: Frame,
    head: EntryHead,
    /// The file to look at or to listen to, and whether it is a picture.
    file: Option<(String, bool)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "mend/reading.html")]
struct ReadingPage {
    f: Frame,
    head: EntryHead,
    at: String,
    form: String,
}

fn choices<'a>(of: impl IntoIterator<Item = (&'a str, &'a str)>, now: Option<&str>) -> Vec<Choice> {
    of.into_iter().map(|(id, words)| (id.to_string(), words.to_string(), now == Some(id))).collect()
}

fn symptom_page(f: Frame, k: &LoadedCase, head: EntryHead) -> Result<SymptomPage, PageError> {
    let s = k.case().symptom(&head.id).ok_or(PageError::NotFound)?;
    let asked = intake::answered(s)
        .into_iter()
        .map(|(q, a)| {
            let answers = choices(q.answers.iter().map(|x| (x.id.as_str(), x.words.as_str())), Some(&a.id));
            (q.id.clone(), q.ask.clone(), answers)
        })
        .collect();
    Ok(SymptomPage { form: SymptomForm::of(Some(s), k.case()), asked, f, head })
}

fn attempt_page(f: Frame, k: &LoadedCase, head: EntryHead) -> Result<AttemptPage, PageError> {
    let a = k.case().attempts.iter().find(|a| a.id == head.id).ok_or(PageError::NotFound)?;
    let now = match (&a.fault, &a.at, &a.unit) {
        (Some(fault), Some(at), _) => format!("{fault}@{at}"),
        (_, _, Some(unit)) => format!("unit:{unit}"),
        _ => String::new(),
    };
    let text = |t: &Option<String>| t.clone().unwrap_or_default();
    Ok(AttemptPage {
        what: a.what.clone(),
        by: text(&a.by),
        result: text(&a.result),
        causes: nameable(k).into_iter().map(|(id, words)| (id.clone(), words, id == now)).collect(),
        changed: choices(intake::CHANGED, a.changed.as_deref()),
        trust: choices(intake::TRUST, a.trust.as_deref()),
        f,
        head,
    })
}

fn places(k: &LoadedCase, now: Option<&str>) -> Vec<Choice> {
    k.case().vehicle.places().into_iter().map(|p| (p.id.clone(), p.words, now == Some(&p.id))).collect()
}

fn finding_page(f: Frame, k: &LoadedCase, head: EntryHead) -> Result<FindingPage, PageError> {
    let x = k.case().found.iter().find(|x| x.id == head.id).ok_or(PageError::NotFound)?;
    Ok(FindingPage { what: x.what.clone(), places: places(k, x.at.as_deref()), f, head })
}

fn run_page(f: Frame, k: &LoadedCase, head: EntryHead) -> Result<RunPage, PageError> {
    let case = k.case();
    let r = case.recordings.iter().find(|r| r.id == head.id).ok_or(PageError::NotFound)?;
    let gears = case.vehicle.gearbox.gears.iter().map(|g| g.name.as_str()).chain(["varies"]);
    let ranges = case.vehicle.transfer.iter().flat_map(|t| &t.ranges).map(|x| (x.name.as_str(), x.name.as_str()));
    let symptoms = case.symptoms.iter().map(|s| (s.id.as_str(), s.id.as_str()));
    Ok(RunPage {
        symptoms: choices(symptoms, r.symptom.as_deref()),
        gears: choices(gears.map(|g| (g, g)), r.gear.as_deref()),
        throttles: choices(RUN_THROTTLES.map(|t| (t, t)), r.throttle.as_deref()),
        ranges: choices(ranges, r.range.as_deref()),
        place: r.place.clone().unwrap_or_default(),
        after: r.is_after(),
        f,
        head,
    })
}

/// The page of an entry that is no answer.
pub fn page(m: &Member, k: &LoadedCase, kind: EntryKind, head: EntryHead) -> Result<Response, PageError> {
    let f = Frame::new(m, k, Station::Decide);
    Ok(match kind {
        EntryKind::Symptom => symptom_page(f, k, head)?.into_response(),
        EntryKind::Attempt => attempt_page(f, k, head)?.into_response(),
        EntryKind::Finding => finding_page(f, k, head)?.into_response(),
        EntryKind::Run => run_page(f, k, head)?.into_response(),
        EntryKind::Repair => {
            let r = k.case().repairs.iter().find(|r| r.id == head.id).ok_or(PageError::NotFound)?;
            RepairPage { judged: !r.is_open(), f, head }.into_response()
        }
        EntryKind::Reading => {
            let (at, form) = crate::stations::measure::form_of_reading(k, &head.id)?;
            ReadingPage { f, head, at, form }.into_response()
        }
        EntryKind::Note => {
            let n = k.case().notes.iter().find(|n| n.id == head.id).ok_or(PageError::NotFound)?;
            NotePage { text: n.text.clone(), places: places(k, n.at.as_deref()), f, head }.into_response()
        }
        EntryKind::Hint | EntryKind::Level | EntryKind::BlindAnswer => PlainPage { f, head, file: None }.into_response(),
        EntryKind::Attachment => {
            let a = k.case().pinned.iter().find(|a| a.id == head.id).ok_or(PageError::NotFound)?;
            PlainPage { file: Some((a.file.trim_start_matches("pinned/").to_string(), a.is_picture())), f, head }.into_response()
        }
        EntryKind::Answer => return Err(PageError::NotFound),
    })
}

/// The act that a form of such an entry is.
pub fn act(kind: EntryKind, id: String, f: &FormFields) -> Result<CaseAct, Problem> {
    Ok(match kind {
        EntryKind::Symptom => CaseAct::CorrectSymptom(Box::new(Corrected { id, now: symptom_of(f)? })),
        EntryKind::Attempt => CaseAct::CorrectAttempt(Box::new(Corrected { id, now: attempt_of(f)? })),
        EntryKind::Finding => {
            let now = NewFinding { what: f.need("what", "what was found")?.into(), at: f.owned("at") };
            CaseAct::CorrectFinding(Corrected { id, now })
        }
        EntryKind::Run => CaseAct::CorrectRun(Box::new(RunFacts {
            id,
            symptom: f.owned("of"),
            gear: f.owned("gear"),
            throttle: f.owned("throttle"),
            range: f.owned("range"),
            place: f.owned("place"),
            phase: f.owned("phase"),
        })),
        EntryKind::Repair => CaseAct::ReopenRepair(EntryId { id }),
        EntryKind::Note => CaseAct::CorrectNote(Corrected { id, now: note_of(f)? }),
        EntryKind::Answer
        | EntryKind::Reading
        | EntryKind::Hint
        | EntryKind::Level
        | EntryKind::BlindAnswer
        | EntryKind::Attachment => {
            return Err(Problem::new("bad-value", "this is corrected where it is entered").field("kind"));
        }
    })
}
