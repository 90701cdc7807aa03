//! A symptom with what is open of it: weighed once, its tests laid out once, for all that is asked of both.

use super::access::{OpenedPlaces, QuickLook, quick_looks_among};
use super::availability::{NotMade, all_tries, open, places_of_test};
use super::hypotheses::Hypothesis;
use super::knowledge::Knowledge;
use super::likelihood::Model;
use super::open_tests::{OpenTest, laid_open};
use super::plan::PlannedCase;
use super::test_selection::{EvaluatedTest, evaluate_tests};
use super::{Weighed, usual_kind, weigh};
use crate::analysis::Analysis;
use crate::case::Case;
use std::cell::OnceCell;

/// A symptom that was weighed, with the tests that are open.
pub struct OpenSymptom<'a> {
    pub(crate) case: &'a Case,
    pub(crate) k: &'a Knowledge,
    pub(crate) w: &'a Weighed,
    pub(super) evaluated: Vec<EvaluatedTest<'a>>,
    pub(crate) symptom: &'a str,
    pub(super) model: &'a Model<'a>,
    planned: OnceCell<PlannedCase<'a>>,
    saves: OnceCell<Vec<f64>>,
    not_made: OnceCell<NotMade<'a>>,
}

/// A test by its name, where it is made, in which gear, and what it takes as the vehicle stands.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TestName<'a> {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: &'a str,
    /// Where.
    pub at: Option<&'a str>,
    /// In which gear.
    pub gear: Option<&'a str>,
    /// Minutes.
    pub minutes: f64,
}

impl OpenSymptom<'_> {
    /// Weighs a symptom and lays its open tests out. Of a symptom that the case does not have nothing is open.
    pub fn with<R>(
        case: &Case,
        k: &Knowledge,
        symptom: &str,
        analysis: Option<&Analysis>,
        then: impl FnOnce(&OpenSymptom<'_>) -> R,
    ) -> R {
        Self::with_weighed(case, k, symptom, &weigh(case, k, symptom, analysis, &mut vec![]), then)
    }

    /// Lays the open tests of a symptom out that was weighed already.
    pub(super) fn with_weighed<R>(
        case: &Case,
        k: &Knowledge,
        symptom: &str,
        w: &Weighed,
        then: impl FnOnce(&OpenSymptom<'_>) -> R,
    ) -> R {
        let kind = case.symptom(symptom).map_or("", |s| usual_kind(&s.kind));
        let model = Model::new(&case.vehicle, k, &w.all, kind);
        let evaluated = evaluate_tests(case, &model, symptom, w);
        then(&OpenSymptom {
            case,
            k,
            w,
            evaluated,
            symptom,
            model: &model,
            planned: OnceCell::new(),
            saves: OnceCell::new(),
            not_made: OnceCell::new(),
        })
    }

    /// The hypotheses, the unknown one last.
    pub fn hypotheses(&self) -> &[Hypothesis] {
        &self.w.all
    }

    /// What is believed of each of them.
    pub fn beliefs(&self) -> &[f64] {
        &self.w.p
    }

    /// What is decided between.
    pub(super) fn planned(&self) -> &PlannedCase<'_> {
        self.planned.get_or_init(|| PlannedCase::new(self.case, self.k, self.w, &self.evaluated))
    }

    /// What each open test may save of what acting at once costs, as a share.
    pub(super) fn saves(&self) -> &[f64] {
        self.saves.get_or_init(|| self.evaluated.iter().map(|l| self.planned().can_save(self.w, l)).collect())
    }

    /// The tests that are open, in the order of the catalogue.
    pub fn names(&self) -> impl Iterator<Item = TestName<'_>> {
        self.evaluated.iter().map(|l| TestName {
            test: &l.one.test.id,
            at: l.one.at.as_ref().map(|p| p.id.as_str()),
            gear: l.one.gear.as_deref(),
            minutes: l.minutes,
        })
    }

    /// Every test that can say something of a place, made or not, open or not: at the place itself, in each gear there, and those whose
    /// outcome can name it. In the order of the catalogue.
    pub fn tests_at(&self, place: &str) -> Vec<(String, Option<String>, Option<String>)> {
        let names_it =
            |t: &super::knowledge::Test| t.names_place && places_of_test(&self.case.vehicle, t).iter().any(|p| p.id == place);
        all_tries(self.model)
            .into_iter()
            .filter(|t| t.at.as_ref().is_some_and(|p| p.id == place) || names_it(t.test))
            .map(|t| (t.test.id.clone(), t.at.map(|p| p.id), t.gear))
            .collect()
    }

    /// All tests that are open, in the order of the catalogue, each with what its outcomes say: also those that are not worth it.
    pub(super) fn open_tests(&self) -> Vec<OpenTest> {
        let mut evaluated = self.evaluated.iter().peekable();
        open(self.case, self.model, self.symptom)
            .iter()
            .map(|t| match evaluated.next_if(|l| l.one.is(t)) {
                Some(l) => OpenTest::new(&l.one, &l.likelihoods, l.minutes),
                None => laid_open(self.case, self.model, t),
            })
            .collect()
    }

    /// An open test with what its outcomes say; none where it is not open.
    pub fn open_test(&self, test: &str, at: Option<&str>, gear: Option<&str>) -> Option<OpenTest> {
        let i = self.names().position(|n| (n.test, n.at, n.gear) == (test, at, gear))?;
        let l = &self.evaluated[i];
        Some(OpenTest::new(&l.one, &l.likelihoods, l.minutes))
    }

    /// A test at one place, also when it was made already or is worth little: a link to a test always opens it. None of a test, place or
    /// gear that this vehicle does not have, and of a symptom that the case does not have.
    pub fn any_test(&self, test: &str, at: Option<&str>, gear: Option<&str>) -> Option<OpenTest> {
        self.case.symptom(self.symptom)?;
        if let Some(t) = self.open_test(test, at, gear) {
            return Some(t);
        }
        let same = |t: &super::availability::TestInstance| {
            t.test.id == test && t.at.as_ref().map(|p| p.id.as_str()) == at && t.gear.as_deref() == gear
        };
        all_tries(self.model).into_iter().find(same).map(|t| laid_open(self.case, self.model, &t))
    }

    /// The looks that are cheap because something is open, those that settle most first; `but` is the test that opens it.
    pub fn quick_looks(&self, opened: &OpenedPlaces, but: Option<&str>) -> Vec<QuickLook> {
        let now: Vec<TestName<'_>> = self.names().collect();
        let not_made = self.not_made.get_or_init(|| NotMade::new(self.case, self.model, self.symptom));
        quick_looks_among(self.case, self.model, self.symptom, &self.w.p, (not_made, &now), opened, but)
    }
}
