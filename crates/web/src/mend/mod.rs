//! What stands in a case is opened where it is shown, and corrected or taken out by itself, with what that moves.

mod answer;
mod told;

use crate::App;
use crate::auth::Member;
use crate::edits::keep;
use crate::error::PageError;
use crate::page::{Frame, LoadedCase, Which};
use crate::stations::complaint::earlier_work::hint_words;
use crate::stations::form::{FormFields, Posted};
use crate::wording::{kind_words, segment};
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::{Path, Query};
use axum::response::{IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use baricord_core::case::Case;
use baricord_core::case::dimension_change::Stale;
use baricord_core::edit::EditContext;
use baricord_core::edit::act::{CaseAct, EntryKind, RemovedEntry};
use baricord_core::reasoning::effect_of;
use baricord_core::reasoning::wording::{outcome_words, repair_state_words, repair_words, test_words};
use baricord_core::workflow::Station;
use uuid::Uuid;

/// Where an entry is opened.
pub fn href(case: Uuid, kind: EntryKind, id: &str, symptom: &str) -> String {
    format!("/cases/{case}/entries/{}/{}?s={symptom}", kind.id(), segment(id))
}

/// An entry in a list of the case.
pub struct EntryLine {
    pub what: String,
    pub more: String,
    pub href: String,
}

/// A kind of entry with what stands of it.
pub struct EntryGroup {
    pub title: &'static str,
    pub lines: Vec<EntryLine>,
}

#[derive(Template, WebTemplate)]
#[template(path = "mend/entries.html")]
struct EntriesPage {
    f: Frame,
    groups: Vec<EntryGroup>,
}

/// Who said it, and when.
pub(crate) fn who_words(by: Option<&str>, at_time: Option<&str>) -> String {
    let when = at_time.map(|t| t.get(..16).unwrap_or(t).replace('T', " "));
    [by.map(String::from), when].into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// What stands in a case of one kind: id, what, more.
fn lines_of(k: &LoadedCase, kind: EntryKind) -> Vec<(String, String, String)> {
    let (kb, case) = (&*k.knowledge, k.case());
    let v = &case.vehicle;
    match kind {
        EntryKind::Symptom => {
            case.symptoms.iter().map(|s| (s.id.clone(), format!("{} {}", s.id, kind_words(&s.kind)), s.words.clone())).collect()
        }
        EntryKind::Answer => case
            .observations
            .iter()
            .map(|o| {
                let asked = test_words(kb, v, &o.test, o.at.as_deref(), o.gear.as_deref());
                let came = outcome_words(kb, v, &o.test, &o.outcome, None);
                let after = if o.is_after() { "after the repair, " } else { "" };
                let who = who_words(o.by.as_deref(), o.at_time.as_deref());
                let again = outdated_words(case.outdated_answer(o).map(Stale::Changed), true);
                (o.id.clone(), format!("{asked}: {came}"), format!("{after}{who}{again}"))
            })
            .collect(),
        EntryKind::Reading => case
            .measurements
            .iter()
            .map(|m| {
                let at = case.measurement_place(m).map_or_else(|e| e.message, |a| v.place_words(&a));
                let who = who_words(m.by.as_deref(), m.at_time.as_deref());
                let again = outdated_words(case.stale(m), true);
                (m.id.clone(), format!("{}: {at}", kind_words(&m.kind)), format!("{who}{again}"))
            })
            .collect(),
        EntryKind::Attempt => {
            case.attempts.iter().map(|a| (a.id.clone(), a.what.clone(), a.result.clone().unwrap_or_default())).collect()
        }
        EntryKind::Finding => case
            .found
            .iter()
            .map(|f| {
                let at = f.at.as_deref().map_or(String::new(), |a| format!(", {}", v.place_words(a)));
                let settled = if f.settled { "put right" } else { "open" };
                (f.id.clone(), format!("{}{at}", f.what), settled.to_string())
            })
            .collect(),
        EntryKind::Repair => {
            case.repairs.iter().map(|r| (r.id.clone(), repair_words(kb, case, r), repair_state_words(r))).collect()
        }
        EntryKind::Run => case
            .recordings
            .iter()
            .map(|r| {
                let gear = r.gear.as_deref().map_or("gear not known".into(), |g| format!("gear {g}"));
                (r.id.clone(), r.words(), gear)
            })
            .collect(),
        EntryKind::Note => {
            case.notes.iter().map(|n| (n.id.clone(), n.text.clone(), who_words(Some(&n.by), n.at_time.as_deref()))).collect()
        }
        EntryKind::Hint => case
            .hints
            .iter()
            .map(|h| {
                let (id, words) = hint_words(k, h);
                (id, words, String::new())
            })
            .collect(),
        EntryKind::Level => case
            .listened
            .iter()
            .map(|l| {
                let what = format!("{}: {} {}", v.place_words(&l.at), l.level, l.unit.words());
                (l.id.clone(), what, who_words(Some(&l.by), l.at_time.as_deref()))
            })
            .collect(),
        EntryKind::BlindAnswer => case
            .votes
            .iter()
            .map(|b| {
                let q = &b.question;
                let asked = test_words(kb, v, &q.test, q.at.as_deref(), q.gear.as_deref());
                // What it says is not shown before both have answered.
                (b.id.clone(), asked, b.by.clone())
            })
            .collect(),
        EntryKind::Attachment => case
            .pinned
            .iter()
            .map(|a| {
                let at = a.at.as_deref().map_or(String::new(), |p| format!(", {}", v.place_words(p)));
                let what = if a.is_picture() { "picture" } else { "spoken note" };
                (a.id.clone(), format!("{what}{at}"), who_words(Some(&a.by), a.at_time.as_deref()))
            })
            .collect(),
    }
}

/// Since which change an entry has to be made again; empty when it stands.
pub fn outdated_words(stale: Option<Stale<'_>>, goes_on: bool) -> String {
    let begin = if goes_on { "; measure or check again" } else { "Measure or check again" };
    match stale {
        None => String::new(),
        Some(Stale::Changed(c)) => format!("{begin}, changed since: {}", c.words),
        Some(Stale::Replaced(_)) => format!("{begin}: the part was replaced since"),
    }
}

fn title_of(kind: EntryKind) -> &'static str {
    match kind {
        EntryKind::Symptom => "Symptoms",
        EntryKind::Answer => "Tests and their answers",
        EntryKind::Reading => "Readings",
        EntryKind::Attempt => "Tried before",
        EntryKind::Finding => "Found on the way",
        EntryKind::Repair => "Repairs",
        EntryKind::Run => "Runs",
        EntryKind::Note => "Notes",
        EntryKind::Hint => "Hints from outside",
        EntryKind::Level => "Levels heard",
        EntryKind::BlindAnswer => "Answers given blind",
        EntryKind::Attachment => "Pictures and spoken notes",
    }
}

/// Everything that was entered, to be opened.
async fn list(m: Member, Path(id): Path<Uuid>, Query(w): Query<Which>) -> Result<EntriesPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    let symptom = k.symptom.clone().unwrap_or_default();
    let line = |kind| move |(entry, what, more): (String, String, String)| (kind, entry, what, more);
    let groups = EntryKind::ALL
        .into_iter()
        .map(|kind| EntryGroup {
            title: title_of(kind),
            lines: lines_of(&k, kind)
                .into_iter()
                .map(line(kind))
                .map(|(kind, entry, what, more)| EntryLine { href: href(id, kind, &entry, &symptom), what, more })
                .collect(),
        })
        .filter(|g| !g.lines.is_empty())
        .collect();
    Ok(EntriesPage { f: Frame::new(&m, &k, Station::Decide), groups })
}

/// What taking an entry out would do.
pub struct Removal {
    /// Why it cannot be; empty where it can.
    pub refused: String,
    /// What it would move, in words; empty where nothing moves.
    pub moves: String,
}

/// What stands beside the form of an entry.
pub struct EntryHead {
    pub kind: &'static str,
    pub id: String,
    pub title: String,
    pub who: String,
    /// Why it has to be made again; empty when it stands.
    pub outdated: String,
    /// What else was answered to the same question: what, who, where it is opened.
    pub others: Vec<EntryLine>,
    pub removal: Removal,
}

/// The case after an edit that is not made.
fn without(k: &LoadedCase, kind: EntryKind, id: &str) -> Result<Case, String> {
    let act = CaseAct::RemoveEntry(RemovedEntry { entry: kind, id: id.into() });
    let edit = crate::edits::new_edit(act);
    let context = EditContext { knowledge: &k.knowledge, analysis: k.analysis.as_ref(), past: &[] };
    context.applied(k.case(), &edit).map(|(_, case)| case).map_err(|p| p.message)
}

fn removal(k: &LoadedCase, kind: EntryKind, id: &str) -> Removal {
    match without(k, kind, id) {
        Err(refused) => Removal { refused, moves: String::new() },
        Ok(case) => {
            let of = |s: &str| effect_of(k.case(), &case, &k.knowledge, s, k.analysis.as_ref(), String::new()).moved_words();
            let moves = k.symptom.as_deref().filter(|s| case.symptom(s).is_some()).and_then(of);
            Removal { refused: String::new(), moves: moves.unwrap_or_default() }
        }
    }
}

fn outdated(k: &LoadedCase, kind: EntryKind, id: &str) -> String {
    let case = k.case();
    let change = match kind {
        EntryKind::Reading => case.measurements.iter().find(|m| m.id == id).and_then(|m| case.stale(m)),
        EntryKind::Answer => {
            case.observations.iter().find(|o| o.id == id).and_then(|o| case.outdated_answer(o)).map(Stale::Changed)
        }
        _ => None,
    };
    outdated_words(change, false)
}

/// What rests on a size that is another now.
pub fn outdated_lines(k: &LoadedCase) -> Vec<EntryLine> {
    let symptom = k.symptom.as_deref().unwrap_or_default();
    let of = |kind| lines_of(k, kind).into_iter().map(move |line| (kind, line));
    of(EntryKind::Reading)
        .chain(of(EntryKind::Answer))
        .filter(|(kind, (id, ..))| !outdated(k, *kind, id).is_empty())
        .map(|(kind, (id, what, more))| EntryLine { href: href(k.stored.id, kind, &id, symptom), what, more })
        .collect()
}

/// An entry, opened.
async fn open(
    m: Member,
    Path((id, kind, entry)): Path<(Uuid, EntryKind, String)>,
    Query(w): Query<Which>,
) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, w.s.as_deref()).await?;
    drop(s);
    let page = move || {
        let line = lines_of(&k, kind).into_iter().find(|l| l.0 == entry).ok_or(PageError::NotFound)?;
        let head = EntryHead {
            kind: kind.id(),
            title: line.1,
            who: line.2,
            outdated: outdated(&k, kind, &entry),
            others: vec![],
            removal: removal(&k, kind, &entry),
            id: entry,
        };
        match kind {
            EntryKind::Answer => answer::page(&m, &k, head).map(IntoResponse::into_response),
            _ => told::page(&m, &k, kind, head),
        }
    };
    crate::rendered_pages::beside(page).await?
}

/// Where one goes on after an entry was mended: where it was opened.
fn after(id: Uuid, f: &FormFields) -> Redirect {
    let station = f.text("back").filter(|b| Station::PAGES.iter().any(|s| s.id() == *b)).unwrap_or("entries");
    Redirect::to(&format!("/cases/{id}/{station}?s={}", f.text("symptom").unwrap_or_default()))
}

/// An entry is corrected.
async fn correct(
    Posted { member: m, path: (id, kind, entry), form: f }: Posted<(Uuid, EntryKind, String)>,
) -> Result<Redirect, PageError> {
    let act = match kind {
        EntryKind::Answer => answer::act(entry, &f)?,
        EntryKind::Reading => {
            let case = m.scope().await?.case(id).await?;
            crate::stations::measure::corrected_reading(case.case(), entry, &f)?
        }
        _ => told::act(kind, entry, &f)?,
    };
    mended(&m, id, kind, &f, act).await?;
    Ok(after(id, &f))
}

/// Keeps what was mended; what is said of a run is worked out anew.
async fn mended(m: &Member, id: Uuid, kind: EntryKind, f: &FormFields, act: CaseAct) -> Result<(), PageError> {
    let mut s = m.scope().await?;
    keep(m, &mut s, id, f, act).await?;
    if kind == EntryKind::Run {
        s.request_analysis(id).await?;
    }
    s.commit().await?;
    Ok(())
}

/// An entry is taken out by itself.
async fn remove(
    Posted { member: m, path: (id, kind, entry), form: f }: Posted<(Uuid, EntryKind, String)>,
) -> Result<Redirect, PageError> {
    mended(&m, id, kind, &f, CaseAct::RemoveEntry(RemovedEntry { entry: kind, id: entry })).await?;
    Ok(after(id, &f))
}

/// Routes of mending.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/entries", get(list))
        .route("/cases/{id}/entries/{kind}/{entry}", get(open).post(correct))
        .route("/cases/{id}/entries/{kind}/{entry}/remove", post(remove))
}
