//! What all pages of a case share: heading, stations, the drawing, the ledger.

use crate::auth::Member;
use crate::drawing;
use crate::drawing_marks::marks;
use crate::error::PageError;
use crate::ledger::{Ledger, ledger};
use crate::next_view::NextView;
use crate::safety_findings::SafetyFindings;
use baricord_core::analysis::Analysis;
use baricord_core::case::Case;
use baricord_core::measure::orders::Base;
use baricord_core::permission::Act;
use baricord_core::proof::verify::Verification;
use baricord_core::reasoning::knowledge::Knowledge;
use baricord_core::reasoning::{Diagnosis, SymptomAnswer, diagnose, wording};
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
        let mut stored = scope.case(id).await?;
        let found = scope.analysis(id).await?;
        let task = scope.analysis_task(id).await?;
        let (analysis, proof) = match found {
            Some((a, v)) => (Some(a), Some(v)),
            None => (None, None),
        };
        let overrides = scope.overrides().await?;
        let knowledge = overrides.knowledge()?;
        // Where the vehicle names no limit, the workshop's holds; its document stays as it is.
        stored.case.vehicle.limits = stored.case.vehicle.limits.or(&overrides.limits);
        let diagnosis = diagnose(&stored.case, &knowledge, analysis.as_ref());
        let next = next_action(&stored.case, &knowledge, &diagnosis, proof.as_ref());
        let named = |s: &str| stored.case.symptom(s).is_some();
        let symptom = symptom
            .filter(|s| named(s))
            .or(next.symptom.as_deref().filter(|s| named(s)))
            .map(String::from)
            .or_else(|| stored.case.symptoms.first().map(|s| s.id.clone()));
        Ok(Self { stored, analysis, proof, diagnosis, task, knowledge, symptom, next })
    }
    /// The case.
    pub fn case(&self) -> &Case {
        &self.stored.case
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
    pub beside: SafetyFindings,
    pub symptom: String,
    pub can_write: bool,
    /// May order parts, show the case outside.
    pub can_buy: bool,
    pub can_share: bool,
    /// Runs of the simulated recorder, in words; empty where there are none.
    pub simulated: String,
    /// What is done next, the same on every page.
    pub next: NextView,
    pub last: String,
}

/// A fault in words, with its place.
pub fn cause_words(k: &Knowledge, case: &Case, fault: &str, at: &str, gear: Option<&str>) -> String {
    wording::cause_words(k, &case.vehicle, fault, at, gear)
}

/// A test in words, with its place.
pub fn ask_words(k: &Knowledge, case: &Case, test: &str, at: Option<&str>, gear: Option<&str>) -> String {
    wording::test_words(k, &case.vehicle, test, at, gear)
}

/// A kind of symptom in words.
pub fn kind_words(kind: &str) -> String {
    kind.replace('-', " ")
}

/// Money in the workshop's currency, without cents.
pub fn money(k: &Knowledge, x: f64) -> String {
    format!("{x:.0}\u{a0}{}", k.weights.time.currency)
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
        let last = scope.steps(k.stored.id, 1).await?.into_iter().next().map_or(String::new(), |s| s.what);
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
            beside: SafetyFindings::of(k),
            symptom: k.symptom.clone().unwrap_or_default(),
            can_write: m.person.role().may(Act::Edit),
            can_buy: m.person.role().may(Act::Buy),
            can_share: m.person.role().may(Act::Share),
            simulated: simulated_words(case),
            next: NextView::of(&k.knowledge, k.stored.id, &k.next),
            last,
        })
    }
}

/// Which runs no vehicle has driven, and whether they count here.
pub fn simulated_words(case: &Case) -> String {
    let runs: Vec<&str> = case.recordings.iter().filter(|r| r.is_simulated()).map(|r| r.id.as_str()).collect();
    match (runs.as_slice(), case.demo) {
        ([], _) => String::new(),
        (runs, true) => format!("Demo case. Simulated recorder, no vehicle drove: {}", runs.join(", ")),
        (runs, false) => format!("Simulated recorder, no vehicle drove and nothing is concluded from it: {}", runs.join(", ")),
    }
}

/// A vehicle in one line.
pub fn subtitle(case: &Case) -> String {
    let v = &case.vehicle;
    let mut parts = vec![v.name.clone()];
    let kind = match v.gearbox.kind {
        baricord_core::vehicle::GearboxKind::Manual => format!("{}-speed manual", v.gearbox.gears.len()),
        baricord_core::vehicle::GearboxKind::Automatic => format!("{}-speed automatic", v.gearbox.gears.len()),
        baricord_core::vehicle::GearboxKind::Cvt => "continuously variable".into(),
        baricord_core::vehicle::GearboxKind::SingleSpeed => "electric, single speed".into(),
    };
    parts.push(kind);
    if let Some(a) = v.main_axle().and_then(|e| v.axle(e)) {
        match (a.ring_teeth, a.pinion_teeth, a.ratio) {
            (Some(r), Some(p), _) => parts.push(format!("{r}:{p}")),
            (_, _, Some(r)) => parts.push(format!("{r:.2}")),
            _ => {}
        }
    }
    if let Some(t) = &v.tyre.size {
        parts.push(t.clone());
    } else if let Ok(f) = v.tyre.figures() {
        parts.push(format!("rolls {:.3} m", f.rolling_circumference_m.get()));
    }
    parts.join(" · ")
}

/// Name of an order's rung: what the drawing and the map share.
pub fn rung(base: Base, order: f64) -> String {
    format!("{}{:.2}", if base == Base::Engine { "e" } else { "w" }, order)
}

/// A name as one part of an address, whatever stands in it.
pub fn segment(name: &str) -> String {
    percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC).to_string()
}
