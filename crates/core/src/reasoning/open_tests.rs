//! Tests that can be made, each with what its outcomes say: all that are open.

use super::knowledge::Knowledge;
use super::likelihood::{Likelihoods, Model};
use super::{availability, hypotheses, preparation, usual_kind};
use crate::case::Case;

/// A test that can be made as the vehicle stands, with what its outcomes say.
#[derive(Clone, Debug)]
pub struct OpenTest {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Where.
    pub at: Option<String>,
    /// In which gear.
    pub gear: Option<String>,
    /// Minutes, with what must be done before it.
    pub minutes: f64,
    /// What can come out.
    pub outcomes: Vec<String>,
    /// The place that each names, of a test that names one.
    pub places: Vec<Option<String>>,
    /// A row for each outcome: how likely it is under each hypothesis, as it will be weighed.
    pub rows: Vec<Vec<f64>>,
}

/// The tests of a symptom that were not made yet, in the order of the catalogue.
pub fn open_tests(case: &Case, k: &Knowledge, symptom: &str) -> Vec<OpenTest> {
    let all = hypotheses(&case.vehicle, k);
    let kind = case.symptom(symptom).map_or("", |s| usual_kind(&s.kind));
    let model = Model::new(&case.vehicle, k, &all, kind);
    availability::open(case, &model, symptom).iter().map(|t| laid_open(case, &model, t)).collect()
}

impl OpenTest {
    pub(super) fn new(t: &availability::TestInstance, l: &Likelihoods, minutes: f64) -> Self {
        Self {
            test: t.test.id.clone(),
            at: t.at.as_ref().map(|p| p.id.clone()),
            gear: t.gear.clone(),
            minutes,
            outcomes: l.cells.iter().map(|c| t.test.outcomes[c.outcome].id.clone()).collect(),
            places: l.cells.iter().map(|c| c.place.as_ref().map(|p| p.id.clone())).collect(),
            rows: l.rows.clone(),
        }
    }
}

/// A test with what its outcomes say.
pub(super) fn laid_open(case: &Case, model: &Model, t: &availability::TestInstance) -> OpenTest {
    OpenTest::new(t, &t.likelihoods(model), preparation::minutes(case, model.k, t.test, t.at.as_ref()))
}

/// How often each outcome of a test comes out under each hypothesis, as the knowledge has it: the rows before they are tempered.
/// None of a test that the knowledge does not have.
pub fn behaviour_in(case: &Case, k: &Knowledge, symptom: &str, t: &OpenTest) -> Option<Vec<Vec<f64>>> {
    let all = hypotheses(&case.vehicle, k);
    let kind = case.symptom(symptom).map_or("", |s| usual_kind(&s.kind));
    let at = t.at.as_deref().and_then(|at| case.vehicle.place(at));
    let model = Model::new(&case.vehicle, k, &all, kind);
    Some(model.likelihoods(k.test(&t.test)?, at.as_ref(), t.gear.as_deref()).rows)
}
