//! What all pages of a case share: heading, stations, the drawing, the ledger.

use crate::auth::Member;
use crate::drawing;
use crate::drawing_marks::marks;
use crate::error::PageError;
use crate::history::UndoView;
use crate::ledger::{Ledger, ledger};
use crate::next_view::NextView;
use crate::rendered_pages::beside;
use crate::safety_findings::SafetyFindings;
use crate::wording::{simulated_words, subtitle};
use baricord_core::permission::Act;
use baricord_core::reasoning::{OpenSymptom, SymptomAnswer};
use baricord_core::repair::teardown::Teardown;
use baricord_core::workflow::Station;
use baricord_store::Scope;
use baricord_store::analysis_tasks::AnalysisTask;
use baricord_store::assessments::AssessedCase;
use baricord_store::case_now::CaseNow;
use baricord_store::events::LastEvent;
use serde::Deserialize;
use std::ops::Deref;
use std::sync::Arc;
use uuid::Uuid;

/// Which symptom a page is about.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
pub struct Which {
    /// Its id; the first when left out.
    #[serde(default)]
    pub s: Option<String>,
}

/// Everything that is known of a case: the case with what it comes to, the symptom that the page is about, and what is under way.
#[derive(Clone)]
pub struct LoadedCase {
    assessed: Arc<AssessedCase>,
    pub task: Option<AnalysisTask>,
    /// The latest thing that was done to it and stands.
    pub last: Option<LastEvent>,
    /// The symptom that the page is about.
    pub symptom: Option<String>,
}

impl Deref for LoadedCase {
    type Target = AssessedCase;
    fn deref(&self) -> &AssessedCase {
        &self.assessed
    }
}

impl LoadedCase {
    /// Reads a case with what it comes to.
    pub async fn read(scope: &mut Scope, id: Uuid, symptom: Option<&str>) -> Result<Self, PageError> {
        let now = scope.case_now(id).await?;
        Self::of(scope, &now, symptom).await
    }

    /// Reads a case in the state that was read before.
    pub async fn of(scope: &mut Scope, now: &CaseNow, symptom: Option<&str>) -> Result<Self, PageError> {
        let assessed = scope.assessed_now(now).await?;
        let asked = symptom.filter(|s| assessed.case().symptom(s).is_some());
        let symptom = asked.or_else(|| assessed.about()).map(String::from);
        Ok(Self { assessed, task: now.task.clone(), last: now.last.clone(), symptom })
    }

    /// Works with the page's symptom and what is open of it, beside the threads that serve: see [`Self::with_open`].
    pub async fn with_open_beside<R: Send + 'static>(
        &self,
        then: impl FnOnce(&Self, &OpenSymptom<'_>) -> R + Send + 'static,
    ) -> Result<R, PageError> {
        let k = self.clone();
        beside(move || k.with_open(|open| then(&k, open))).await
    }

    /// Works with the page's symptom and what is open of it, weighed once.
    pub fn with_open<R>(&self, then: impl FnOnce(&OpenSymptom<'_>) -> R) -> R {
        OpenSymptom::with(self.case(), &self.knowledge, self.symptom.as_deref().unwrap_or_default(), self.analysis.as_ref(), then)
    }

    /// The answer for the page's symptom.
    pub fn answer(&self) -> Option<&SymptomAnswer> {
        let id = self.symptom.as_deref()?;
        self.assessment.diagnosis.symptoms.iter().find(|s| s.id == id)
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
    /// Draws the driveline as it is taken apart, in place of what is suspect.
    pub fn take_apart(&mut self, k: &LoadedCase, t: &Teardown) {
        let drawing::Marks { href, mut pins, .. } = marks(k);
        pins.retain(|p| p.wanted);
        let marks = drawing::Marks { href, pins, apart: Some(t.clone()), ..drawing::Marks::default() };
        self.band = drawing::band(&k.case().vehicle, &marks);
    }

    /// Builds the frame around a page.
    pub fn new(m: &Member, k: &LoadedCase, station: Station) -> Self {
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
        Self {
            id: k.stored.id,
            theme: m.person.theme.clone(),
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
            next: NextView::new(&k.knowledge, k.stored.id, &k.assessment.next),
            undo: k.last.as_ref().map(|e| UndoView::new(m, e)),
        }
    }
}
