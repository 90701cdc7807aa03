//! What all pages of a case share: heading, stations, the drawing, the ledger.

use crate::auth::Member;
use crate::drawing;
use crate::drawing_marks::marks;
use crate::error::PageError;
use crate::history::{UndoView, next_to_take_back};
use crate::ledger::{Ledger, ledger};
use crate::next_view::NextView;
use crate::safety_findings::SafetyFindings;
use crate::wording::{simulated_words, subtitle};
use baricord_core::analysis::Analysis;
use baricord_core::case::Case;
use baricord_core::permission::Act;
use baricord_core::proof::verify::Verification;
use baricord_core::reasoning::knowledge::Knowledge;
use baricord_core::reasoning::{Diagnosis, SymptomAnswer, diagnose};
use baricord_core::workflow::Station;
use baricord_core::workflow::next_action::{NextAction, next_action};
use baricord_store::Scope;
use baricord_store::analysis_tasks::AnalysisTask;
use baricord_store::cases::StoredCase;
use serde::Deserialize;
use std::borrow::Cow;
use uuid::Uuid;

/// Which symptom a page is about.
#[derive(Clone, Debug, Default, Deserialize)]
pub struct Which {
    /// Its id; the first when left out.
    #[serde(default)]
    pub s: Option<String>,
}

/// Everything that is known of a case.
pub struct LoadedCase {
    pub stored: StoredCase,
    /// The case with the workshop's limits where its vehicle names none.
    case: Case,
    pub analysis: Option<Analysis>,
    pub proof: Option<Verification>,
    pub diagnosis: Diagnosis,
    pub task: Option<AnalysisTask>,
    /// The knowledge as the workshop has it.
    pub knowledge: Cow<'static, Knowledge>,
    /// The symptom that the page is about.
    pub symptom: Option<String>,
    /// What is done next on the case.
    pub next: NextAction,
}

impl LoadedCase {
    /// Reads a case and weighs it.
    pub async fn read(scope: &mut Scope, id: Uuid, symptom: Option<&str>) -> Result<Self, PageError> {
        let stored = scope.case(id).await?;
        let found = scope.analysis(id).await?;
        let task = scope.analysis_task(id).await?;
        let (analysis, proof) = match found {
            Some((a, v)) => (Some(a), Some(v)),
            None => (None, None),
        };
        let overrides = scope.overrides().await?;
        let knowledge = overrides.knowledge()?;
        // Where the vehicle names no limit, the workshop's holds; its document stays as it is.
        let mut case = stored.case().clone();
        case.vehicle.limits = case.vehicle.limits.or(&overrides.limits);
        let diagnosis = diagnose(&case, &knowledge, analysis.as_ref());
        let next = next_action(&case, &knowledge, &diagnosis, proof.as_ref());
        let named = |s: &str| case.symptom(s).is_some();
        let symptom = symptom
            .filter(|s| named(s))
            .or(next.symptom.as_deref().filter(|s| named(s)))
            .map(String::from)
            .or_else(|| case.symptoms.first().map(|s| s.id.clone()));
        Ok(Self { stored, case, analysis, proof, diagnosis, task, knowledge, symptom, next })
    }
    /// The case as the rules read it.
    pub fn case(&self) -> &Case {
        &self.case
    }
    /// The answer for the page's symptom.
    pub fn answer(&self) -> Option<&SymptomAnswer> {
        let id = self.symptom.as_deref()?;
        self.diagnosis.symptoms.iter().find(|s| s.id == id)
    }
}

/// A station on the dimension line.
pub struct StationMark {
    pub id: &'static str,
    pub words: &'static str,
    pub done: bool,
    pub here: bool,
    /// Where it stands on the line, in the line's own units.
    pub x: f64,
}

/// The frame of a case page.
pub struct Frame {
    pub id: Uuid,
    pub theme: String,
    pub person: String,
    pub title: String,
    pub subtitle: String,
    pub version: i32,
    pub stations: Vec<StationMark>,
    pub station: &'static str,
    pub band: String,
    pub ledger: Ledger,
    pub safety: SafetyFindings,
    pub symptom: String,
    pub can_write: bool,
    /// May order parts, show the case outside.
    pub can_buy: bool,
    pub can_share: bool,
    /// Runs of the simulated recorder, in words; empty where there are none.
    pub simulated: String,
    /// What is done next, the same on every page.
    pub next: NextView,
    /// What is taken back next.
    pub undo: Option<UndoView>,
}

impl Frame {
    /// Builds the frame around a page.
    pub async fn new(m: &Member, scope: &mut Scope, k: &LoadedCase, station: Station) -> Result<Self, PageError> {
        let case = k.case();
        let stations = Station::PAGES
            .iter()
            .enumerate()
            .map(|(i, s)| StationMark {
                id: s.id(),
                words: s.facts().words,
                done: s.is_done(case),
                here: *s == station,
                x: 8.0 + 92.0 * i as f64,
            })
            .collect();
        let undo = next_to_take_back(m, scope, k.stored.id).await?;
        Ok(Self {
            id: k.stored.id,
            theme: m.person.theme.clone(),
            person: m.person.name.clone(),
            title: if case.title.is_empty() { case.vehicle.name.clone() } else { case.title.clone() },
            subtitle: subtitle(case),
            version: k.stored.version,
            stations,
            station: station.id(),
            band: drawing::band(&case.vehicle, &marks(k)),
            ledger: k.symptom.as_deref().and_then(|s| ledger(k, s)).unwrap_or_default(),
            safety: SafetyFindings::new(k),
            symptom: k.symptom.clone().unwrap_or_default(),
            can_write: m.person.role().may(Act::Edit),
            can_buy: m.person.role().may(Act::Buy),
            can_share: m.person.role().may(Act::Share),
            simulated: simulated_words(case),
            next: NextView::new(&k.knowledge, k.stored.id, &k.next),
            undo,
        })
    }
}
