//! Beside the search for the cause: may it be driven, and what was found on the way. Both stand on every page of a case.

use crate::App;
use crate::edits::keep_now;
use crate::error::PageError;
use crate::page::LoadedCase;
use crate::stations::form::{FormFields, Posted};
use axum::Router;
use axum::response::Redirect;
use axum::routing::post;
use baricord_core::case::clearance::Clearance;
use baricord_core::case::fault_at::FaultAt;
use baricord_core::edit::act::{CaseAct, EntryId, NewFinding, StatedClearance};
use baricord_core::error::Problem;
use baricord_core::safety::cautions::is_not_towed_on_its_wheels;
use baricord_core::units::Unit;
use baricord_core::workflow::Station;
use uuid::Uuid;

/// What stands on every page of a case.
#[derive(Default)]
pub struct SafetyFindings {
    /// Not to be driven, or only so far: in words, why, who says so.
    pub warning: Option<(String, String, String)>,
    /// The last statement, in words, whatever it says.
    pub said: String,
    /// What was found on the way: which, what, where in words.
    pub found: Vec<(String, String, String)>,
    /// What was found and has been put right.
    pub settled: Vec<String>,
    /// Places to choose from.
    pub places: Vec<(String, String)>,
    /// What the evidence proposes to say on driving, and nobody has said.
    pub proposal: Option<ProposalView>,
    /// What the evidence asks about now, as the form sends it: a statement answers it.
    pub asked: String,
    /// How many observations that rests on.
    pub observations: usize,
    /// A vehicle that is not to be driven: how it is moved, where that is not on its wheels.
    pub towing: String,
}

/// A statement on driving that is proposed.
pub struct ProposalView {
    pub words: String,
    pub why: String,
    /// The choice that it sets: no or limited, with its limits.
    pub drive: &'static str,
    pub km: String,
    pub kmh: String,
}

impl SafetyFindings {
    /// Of a case.
    pub fn new(k: &LoadedCase) -> Self {
        let case = k.case();
        let said = case.clearance();
        let number = |x: Option<f64>| x.map_or(String::new(), |x| format!("{x:.0}"));
        let proposal = k.assessment.proposal.as_ref().map(|p| ProposalView {
            words: p.words(),
            why: p.why.clone(),
            drive: if p.drive == Clearance::No { "no" } else { "limited" },
            km: number(p.km),
            kmh: number(p.kmh),
        });
        let not_driven =
            said.as_ref().is_some_and(|s| s.drive == Clearance::No) || proposal.as_ref().is_some_and(|p| p.drive == "no");
        Self {
            warning: said.as_ref().filter(|s| s.drive != Clearance::Yes).map(|s| (s.words(), s.reason.clone(), s.by.clone())),
            said: said.map_or(String::new(), |s| format!("{}: {} ({})", s.words(), s.reason, s.by)),
            found: case
                .found
                .iter()
                .filter(|f| !f.settled)
                .map(|f| (f.id.clone(), f.what.clone(), f.at.as_deref().map_or(String::new(), |a| case.vehicle.place_words(a))))
                .collect(),
            settled: case.found.iter().filter(|f| f.settled).map(|f| f.what.clone()).collect(),
            places: case.vehicle.places().into_iter().map(|p| (p.id, p.words)).collect(),
            towing: match k.knowledge.caution("towing") {
                Some(c) if not_driven && is_not_towed_on_its_wheels(&case.vehicle) => c.words.clone(),
                _ => String::new(),
            },
            observations: case.observations.len(),
            asked: k
                .assessment
                .diagnosis
                .symptoms
                .iter()
                .filter_map(|s| s.danger.as_ref())
                .flat_map(|d| &d.faults)
                .map(FaultAt::id)
                .collect::<Vec<_>>()
                .join(" "),
            proposal,
        }
    }
}

fn back(id: Uuid, f: &FormFields) -> Redirect {
    let station = f.text("back").filter(|b| Station::PAGES.iter().any(|s| s.id() == *b)).unwrap_or("decide");
    Redirect::to(&format!("/cases/{id}/{station}?s={}", f.text("symptom").unwrap_or_default()))
}

/// Longest sentence that is taken.
const LONGEST: usize = 400;

/// What a proposal was about, as the form sends it: `fault@place` after `fault@place`.
fn suspects(said: &str) -> Vec<FaultAt> {
    said.split_whitespace().filter_map(FaultAt::parse).collect()
}

/// A statement on driving.
async fn say(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let drive = Clearance::named(f.need("drive", "whether it may be driven")?);
    let drive = drive.ok_or_else(|| Problem::new("bad-value", "not at all, limited, or safe?").field("drive"))?;
    let limit = |field: &str, unit| if drive == Clearance::Limited { f.amount(field, unit) } else { Ok(None) };
    let said = StatedClearance {
        drive,
        reason: f.sentence("reason", "the reason", LONGEST)?.into(),
        km: limit("km", Unit::Kilometre)?,
        kmh: limit("kmh", Unit::KilometrePerHour)?,
        answers: suspects(f.text("answers").unwrap_or_default()),
        // Those of the page that was read: what came since was not seen.
        observations: f.text("observations").and_then(|n| n.parse().ok()).unwrap_or(0),
    };
    keep_now(&m, id, &f, CaseAct::StateClearance(said)).await?;
    Ok(back(id, &f))
}

/// Something found on the way.
async fn find(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let finding = NewFinding { what: f.sentence("what", "what was found", LONGEST)?.into(), at: f.owned("at") };
    keep_now(&m, id, &f, CaseAct::ReportFinding(finding)).await?;
    Ok(back(id, &f))
}

/// Something found has been put right.
async fn settle(Posted { member: m, path: (id, finding), form: f }: Posted<(Uuid, String)>) -> Result<Redirect, PageError> {
    keep_now(&m, id, &f, CaseAct::SettleFinding(EntryId { id: finding })).await?;
    Ok(back(id, &f))
}

/// Routes of what stands beside.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/safety", post(say))
        .route("/cases/{id}/found", post(find))
        .route("/cases/{id}/found/{finding}/settled", post(settle))
}
