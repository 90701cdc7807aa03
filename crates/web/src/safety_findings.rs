//! Beside the search for the cause: may it be driven, and what was found on the way. Both stand on every page of a case.

use crate::App;
use crate::auth::{Member, may_write};
use crate::error::PageError;
use crate::page::LoadedCase;
use crate::stations::form::{FormFields, Posted};
use axum::extract::Path;
use axum::response::Redirect;
use axum::routing::post;
use axum::{Form, Router};
use baricord_core::case::Case;
use baricord_core::case::clearance::{Clearance, ClearanceStatement, stated_clearance};
use baricord_core::case::entries::append;
use baricord_core::case::fault_at::FaultAt;
use baricord_core::error::Problem;
use baricord_core::safety::cautions::is_not_towed_on_its_wheels;
use baricord_core::safety::drive_clearance::{SafetyFinding, proposed_clearance, safety_findings};
use baricord_core::workflow::Station;
use serde_json::json;
use uuid::Uuid;

/// What stands on every page of a case.
#[derive(Default)]
pub struct SafetyFindings {
    /// Not to be driven, or only so far: in words, why, who says so.
    pub warning: Option<(String, String, String)>,
    /// The last statement, in words, whatever it says.
    pub said: String,
    /// What was found on the way: which, what, where in words.
    pub found: Vec<(usize, String, String)>,
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
        let (case, document) = (k.case(), &k.stored.document);
        let said = stated_clearance(document);
        let number = |x: Option<f64>| x.map_or(String::new(), |x| format!("{x:.0}"));
        let proposal = proposed_clearance(document, case, &k.diagnosis).map(|p| ProposalView {
            words: p.words(),
            why: p.why.clone(),
            drive: if p.drive == Clearance::No { "no" } else { "limited" },
            km: number(p.km),
            kmh: number(p.kmh),
        });
        let not_driven =
            said.as_ref().is_some_and(|s| s.drive == Clearance::No) || proposal.as_ref().is_some_and(|p| p.drive == "no");
        let all = safety_findings(document);
        Self {
            warning: said.as_ref().filter(|s| s.drive != Clearance::Yes).map(|s| (s.words(), s.reason.clone(), s.by.clone())),
            said: said.map_or(String::new(), |s| format!("{}: {} ({})", s.words(), s.reason, s.by)),
            found: all
                .iter()
                .filter(|(_, f)| !f.settled)
                .map(|(i, f)| (*i, f.what.clone(), f.at.as_deref().map_or(String::new(), |a| case.vehicle.place_words(a))))
                .collect(),
            settled: all.iter().filter(|(_, f)| f.settled).map(|(_, f)| f.what.clone()).collect(),
            places: case.vehicle.places().into_iter().map(|p| (p.id, p.words)).collect(),
            towing: match k.knowledge.caution("towing") {
                Some(c) if not_driven && is_not_towed_on_its_wheels(&case.vehicle) => c.words.clone(),
                _ => String::new(),
            },
            observations: case.observations.len(),
            asked: k
                .diagnosis
                .symptoms
                .iter()
                .filter_map(|s| s.danger.as_ref())
                .flat_map(|d| &d.faults)
                .map(|f| format!("{}@{}", f.fault, f.at))
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
    said.split_whitespace()
        .filter_map(|one| one.split_once('@'))
        .map(|(fault, at)| FaultAt { fault: fault.into(), at: at.into() })
        .collect()
}

/// A statement on driving.
async fn say(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let drive = Clearance::named(f.need("drive", "whether it may be driven")?);
    let drive = drive.ok_or_else(|| Problem::new("bad-value", "not at all, limited, or safe?").field("drive"))?;
    let limit = |field: &str| if drive == Clearance::Limited { f.float(field) } else { Ok(None) };
    let s = ClearanceStatement {
        drive,
        reason: f.sentence("reason", "the reason", LONGEST)?.into(),
        km: limit("km")?,
        kmh: limit("kmh")?,
        by: m.person.name.clone(),
        answers: suspects(f.text("answers").unwrap_or_default()),
        // Those of the page that was read: what came since was not seen.
        observations: f.text("observations").and_then(|n| n.parse().ok()).unwrap_or(0),
    };
    s.check()?;
    let mut scope = m.scope().await?;
    scope
        .edit_case(id, None, &format!("{}: {}", s.words(), s.reason), &m.person.name, |d| {
            append(d, "safety", json!(s));
            Ok(())
        })
        .await?;
    scope.commit().await?;
    Ok(back(id, &f))
}

/// Something found on the way.
async fn find(Posted { member: m, path: id, form: f }: Posted) -> Result<Redirect, PageError> {
    let one = SafetyFinding {
        what: f.sentence("what", "what was found", LONGEST)?.into(),
        at: f.text("at").map(String::from),
        by: m.person.name.clone(),
        settled: false,
    };
    let mut s = m.scope().await?;
    s.edit_case(id, None, &format!("found on the way: {}", one.what), &m.person.name, |d| {
        if let Some(at) = &one.at
            && Case::from_json(d)?.vehicle.place(at).is_none()
        {
            return Err(Problem::new("unknown-place", format!("this vehicle has no place “{at}”")).field("at"));
        }
        append(d, "found", json!(one));
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &f))
}

/// Something found has been put right.
async fn settle(
    m: Member,
    Path((id, i)): Path<(Uuid, usize)>,
    Form(f): Form<Vec<(String, String)>>,
) -> Result<Redirect, PageError> {
    may_write(&m)?;
    let mut s = m.scope().await?;
    s.edit_case(id, None, "found on the way: put right", &m.person.name, |d| {
        match d["found"].get_mut(i).filter(|one| one.is_object()) {
            Some(one) => one["settled"] = true.into(),
            None => return Err(Problem::new("missing", "this is not there any more")),
        }
        Ok(())
    })
    .await?;
    s.commit().await?;
    Ok(back(id, &FormFields(f)))
}

/// Routes of what stands beside.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/safety", post(say))
        .route("/cases/{id}/found", post(find))
        .route("/cases/{id}/found/{i}/settled", post(settle))
}
