//! The ledger of a case as one page: for the desk, for the owner of the vehicle, for a second opinion.

use crate::App;
use crate::auth::Member;
use crate::drawing_marks::{marks, readings};
use crate::error::PageError;
use crate::ledger::{Ledger, ledger};
use crate::next_view::NextView;
use crate::notes::{self, NoteLine};
use crate::page::LoadedCase;
use crate::safety_findings::SafetyFindings;
use crate::wording::{ask_words, cause_words, subtitle};
use askama::Template;
use askama_web::WebTemplate;
use axum::Router;
use axum::extract::Path;
use axum::routing::get;
use baricord_core::case::{AlsoChanged, Due, Repair, Torque};
use baricord_core::reasoning::wording::repair_words;
use baricord_core::units::{Unit, field_text};
use uuid::Uuid;

/// Everything that the page says.
pub struct Printout {
    pub title: String,
    pub subtitle: String,
    pub band: String,
    pub safety: SafetyFindings,
    /// Runs of the simulated recorder, in words.
    pub simulated: String,
    pub ledgers: Vec<Ledger>,
    /// Tests made: what, what came out, what was noted.
    pub tests: Vec<(String, String, String)>,
    /// Readings: where, what.
    pub readings: Vec<(String, String)>,
    /// Runs: which, how driven, the strongest orders.
    pub runs: Vec<(String, String, String)>,
    /// What is done next.
    pub next: NextView,
    /// Repairs with everything that is kept of them.
    pub repairs: Vec<RepairLine>,
    /// What was replaced as due.
    pub due: Vec<String>,
    /// What others tried before, and hints from outside.
    pub tried: Vec<String>,
    /// Sizes that became others, from what to what.
    pub sizes: Vec<String>,
    pub notes: Vec<NoteLine>,
    /// Second opinions: question, answer, of whom.
    pub opinions: Vec<(String, String, String)>,
}

/// A repair with everything that is kept of it.
pub struct RepairLine {
    pub what: String,
    pub result: String,
    /// What: what will be done, marks, torques with their source, part, reason, note.
    pub more: Vec<(&'static str, String)>,
}

/// A repair with everything that is kept of it, in words.
fn repair_line(k: &LoadedCase, r: &Repair) -> RepairLine {
    let text = |t: &Option<String>| t.as_deref().unwrap_or_default().trim().to_string();
    let torque = |t: &Torque| t.nm.map(|nm| format!("{} {} N·m ({})", t.what, field_text(nm, Unit::NewtonMetre), t.source));
    let torques: Vec<String> = r.torques.iter().filter_map(torque).collect();
    let with: Vec<String> = r.other_changes.iter().map(AlsoChanged::words).collect();
    let part = if r.unit { format!("complete unit, {}", text(&r.part)) } else { text(&r.part) };
    let more = [
        ("work", text(&r.plan)),
        ("index marks", text(&r.marks)),
        ("torques", torques.join("; ")),
        ("part fitted", part),
        ("reason", text(&r.reason)),
        ("changed with it", with.join("; ")),
        ("note", text(&r.note)),
    ];
    RepairLine {
        what: repair_words(&k.knowledge, k.case(), r),
        result: r.result.as_deref().unwrap_or("planned").replace("open", "done, not proved yet").replace('-', " "),
        more: more.into_iter().filter(|m| !m.1.is_empty()).collect(),
    }
}

/// What was replaced as due, in words.
pub fn due_words(k: &LoadedCase) -> Vec<String> {
    let words = |d: &Due| cause_words(&k.knowledge, k.case(), &d.fault, d.at.as_deref().unwrap_or("none"), d.gear.as_deref());
    k.case().replaced_as_due.iter().map(words).collect()
}

/// What others tried before, and hints from outside, in words.
fn tried_words(k: &LoadedCase) -> Vec<String> {
    let attempts = k.case().attempts.iter().map(|a| {
        let changed = a.changed.as_deref().map_or(String::new(), |c| format!(": changed {c}"));
        format!("{}{changed}", a.what)
    });
    let hints = k.case().hints.iter().map(|h| {
        let cause = cause_words(&k.knowledge, k.case(), &h.fault, h.at.as_deref().unwrap_or("none"), None);
        format!("hint: {cause} ({})", h.source)
    });
    attempts.chain(hints).collect()
}

impl Printout {
    /// Of a case.
    pub fn new(k: &LoadedCase) -> Self {
        let (kb, case) = (&*k.knowledge, k.case());
        let m = marks(k);
        let readings = readings(case).into_iter().map(|p| (case.vehicle.place_words(&p.place), p.text)).collect();
        let tests = case
            .observations
            .iter()
            .map(|o| {
                let rule = kb.test(&o.test).and_then(|t| t.outcome(&o.outcome));
                let words = rule.map_or(o.outcome.clone(), |r| r.words.clone());
                (ask_words(kb, case, &o.test, o.at.as_deref(), o.gear.as_deref()), words, o.note.clone().unwrap_or_default())
            })
            .collect();
        let runs = case
            .recordings
            .iter()
            .map(|r| {
                let phase = if r.is_after() { "after the repair" } else { "before the repair" };
                let gear = r.gear.as_deref().map_or(String::new(), |g| format!(", gear {g}"));
                let throttle = r.throttle.as_deref().map_or(String::new(), |t| format!(", {t}"));
                let found = k.analysis.iter().flat_map(|a| &a.recordings).find(|x| x.id == r.id);
                let orders: Vec<String> = found
                    .iter()
                    .flat_map(|x| x.orders.iter().take(3))
                    .map(|o| {
                        let (level, unit) = (o.level().0, o.unit.as_deref().unwrap_or("m/s²"));
                        format!("{:.2} a wheel turn: {level:.2} {unit} at {:.0} km/h", o.order, o.peak_speed_kmh)
                    })
                    .collect();
                let simulated = if r.is_simulated() { ", simulated" } else { "" };
                (r.id.clone(), format!("{phase}{gear}{throttle}{simulated}"), orders.join("; "))
            })
            .collect();
        let repairs = case.repairs.iter().map(|r| repair_line(k, r)).collect();
        let text = |t: &Option<String>| t.clone().unwrap_or_default();
        Self {
            title: if case.title.is_empty() { case.vehicle.name.clone() } else { case.title.clone() },
            subtitle: subtitle(case),
            band: crate::drawing::band(&case.vehicle, &crate::drawing::Marks { href: None, ..m }),
            safety: SafetyFindings::new(k),
            next: NextView::new(&k.knowledge, k.stored.id, &k.assessment.next),
            simulated: crate::wording::simulated_words(case),
            ledgers: case.symptoms.iter().filter_map(|s| ledger(k, &s.id)).collect(),
            tests,
            readings,
            runs,
            repairs,
            due: due_words(k),
            tried: tried_words(k),
            sizes: case.dimension_changes.iter().map(|c| c.words.clone()).collect(),
            notes: notes::lines(k, None),
            opinions: case.opinions.iter().map(|o| (o.question.clone(), text(&o.answer), text(&o.by))).collect(),
        }
    }
}

#[derive(Template, WebTemplate)]
#[template(path = "printout.html")]
struct PrintoutPage {
    theme: String,
    back: String,
    p: Printout,
}

async fn show(m: Member, Path(id): Path<Uuid>) -> Result<PrintoutPage, PageError> {
    let mut s = m.scope().await?;
    let k = LoadedCase::read(&mut s, id, None).await?;
    Ok(PrintoutPage { theme: m.person.theme.clone(), back: format!("/cases/{id}/decide"), p: Printout::new(&k) })
}

/// Routes of the printed ledger.
pub fn routes() -> Router<App> {
    Router::new().route("/cases/{id}/paper", get(show))
}
