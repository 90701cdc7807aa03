//! Which tests can be made on this vehicle as it stands now, and were not made yet.

use super::danger;
use super::evidence::{bears_on, place_of};
use super::knowledge::{Knowledge, Need, Test};
use super::likelihood::{Likelihoods, Model, is_within};
use super::place_kinds::is_kind;
use crate::case::{Case, Measurement, NOT_POSSIBLE, Observation, Symptom};
use crate::measure::instrument::Agreement;
use crate::vehicle::{GearboxKind, Place, Vehicle};

/// A symptom that ends at this speed, km/h, shows in no run through the speeds: engine and gear could not hold it.
const SLOWEST_RUN_KMH: f64 = 40.0;

/// Whether a vehicle has what a test needs.
pub fn has(v: &Vehicle, need: Need) -> bool {
    match need {
        Need::Gears => matches!(v.gearbox.kind, GearboxKind::Manual | GearboxKind::Automatic) && v.gearbox.gears.len() > 1,
        Need::ClutchPedal => v.gearbox.kind == GearboxKind::Manual,
        Need::Engine => !v.is_electric(),
    }
}

/// Whether a test can be made on this vehicle as it stands, of a symptom of this kind; `seen`: something was seen that forbids
/// driving.
fn can_be_made(case: &Case, k: &Knowledge, t: &Test, at: Option<&Place>, symptom: &Symptom, seen: bool) -> bool {
    let (v, kind, speeds) = (&case.vehicle, super::usual_kind(&symptom.kind), symptom.speed_kmh);
    let off = |p: &Place| case.state.as_ref().is_some_and(|s| s.is_off(p));
    let something_off = case.state.as_ref().is_some_and(|s| !s.off.is_empty());
    // Of a kind that is not known everything can be asked.
    let asked = t.asked_of.is_empty() || !super::knowledge::KINDS.contains(&kind) || t.asked_of.iter().any(|k| k == kind);
    // It is not driven while parts are off, must not be, or cannot be; what was seen to be a danger is not turned
    // under power either.
    let driven = t.is_of_the_road() && (case.is_grounded() || something_off || kind == "no-drive");
    let turned = t.turns_wheels() && seen;
    // A run through the speeds needs speeds, and so does the same speed in two gears.
    let slow = (t.recorded || t.id == "other-gear-same-speed")
        && speeds.and_then(|s| s.to.or(s.peak)).is_some_and(|to| to <= SLOWEST_RUN_KMH);
    // What is seen on the bench lies there; a new lamp is no test of a cause.
    let on_the_bench = t.off && !t.lift && !at.is_some_and(off);
    // What has come off is not felt on the vehicle.
    let gone = !t.off && t.lift && at.is_some_and(off) && !lies_open(t);
    // Traces of work that is known are no news.
    let known = t.id == "earlier-work-look" && at.is_some_and(|p| work_is_known(case, k, p));
    asked
        && !known
        && !driven
        && !turned
        && !slow
        && !on_the_bench
        && !gone
        && !t.not_proposed
        && t.needs.iter().all(|n| has(v, *n))
}

/// Whether the history says that work was done at a place.
fn work_is_known(case: &Case, k: &Knowledge, p: &Place) -> bool {
    let there = |kinds: &Vec<String>| kinds.iter().any(|kind| is_kind(&case.vehicle, p, kind));
    case.history.iter().any(|tag| k.weights.history.work_at.get(tag).is_some_and(there))
}

/// Tests that are made on a part that is off as well.
fn lies_open(t: &Test) -> bool {
    !t.opens.is_empty()
        || matches!(
            t.id.as_str(),
            "joint-wiggle"
                | "flex-look"
                | "yoke-look"
                | "boot-look"
                | "runout-survey"
                | "support-bearing-look"
                | "earlier-work-look"
                | "half-shaft-runout"
        )
}

/// What was answered of a symptom: the observations that bear on it, and those of them that count.
struct Answered<'a> {
    case: &'a Case,
    k: &'a Knowledge,
    symptom: &'a Symptom,
    said: Vec<(&'a Observation, Option<Result<Place, String>>)>,
    counted: Vec<Observation>,
}

impl<'a> Answered<'a> {
    fn new(case: &'a Case, k: &'a Knowledge, symptom: &'a Symptom) -> Self {
        let bearing = case.observations.iter().filter(|o| bears_on(case, k, o, &symptom.id));
        let said = bearing.map(|o| (o, place_of(&case.vehicle, o))).collect();
        let counted = super::evidence::that_count(case, k, symptom, &mut vec![]);
        Self { case, k, symptom, said, counted }
    }

    fn is_done(&self, t: &Test, at: Option<&Place>, gear: Option<&str>) -> bool {
        let (case, k) = (self.case, self.k);
        let fact = |t: &'a Test| t.same_as.as_deref().unwrap_or(&t.id);
        let own = t.same_as.as_deref().unwrap_or(&t.id);
        let same_place = |place: &Option<Result<Place, String>>| match (place, at) {
            (Some(Ok(p)), Some(at)) => t.names_place || is_within(&p.id, &at.id),
            _ => true,
        };
        let same_gear = |o: &Observation| gear.is_none_or(|g| o.named_gear().is_none_or(|x| x == g));
        let observed = self.said.iter().any(|(o, place)| {
            let same = o.test == t.id || k.test(&o.test).is_some_and(|other| fact(other) == own);
            same && (o.outcome == NOT_POSSIBLE && o.at.is_none() || same_place(place) && same_gear(o))
        });
        // Counted besides what was said: the driver's answers.
        let answered = || self.counted.iter().any(|o| o.test == t.id && o.source.as_deref() == Some(crate::case::DRIVER));
        let pointless =
            || self.counted.iter().any(|o| t.pointless_after.get(&o.test).is_some_and(|outcomes| outcomes.contains(&o.outcome)));
        let of = |s: Option<&str>| Case::concerns(s, &self.symptom.id);
        let there = |m: &Measurement| m.at.as_deref().is_none_or(|m| at.is_some_and(|a| m.starts_with(a.id.as_str())));
        // Readings that disagree ask for one more.
        let is_read = |m: &Measurement| {
            case.stale(m).is_none()
                && !matches!(case.repeated(&case.readings_with(m)), Ok(Some(r)) if r.agreement == Agreement::Disagree)
        };
        let measured = || {
            let read = |m: &&Measurement| t.is_read_as(&m.kind) && of(m.symptom.as_deref()) && !m.is_after() && there(m);
            case.measurements.iter().filter(read).any(is_read)
        };
        let recorded = || case.recordings.iter().any(|r| of(r.symptom.as_deref()) && !r.is_after() && case.is_weighed(r));
        observed || answered() || pointless() || t.recorded && recorded() || measured()
    }
}

/// A test at a place where it can be made.
#[derive(Clone)]
pub(crate) struct TestInstance<'a> {
    pub test: &'a Test,
    pub at: Option<Place>,
    pub gear: Option<String>,
}

impl TestInstance<'_> {
    /// Whether it is the same test, there, in that gear.
    pub fn is(&self, other: &TestInstance<'_>) -> bool {
        let place = |p: &Option<Place>| p.as_ref().map(|p| p.id.clone());
        self.test.id == other.test.id && self.gear == other.gear && place(&self.at) == place(&other.at)
    }

    /// How likely each outcome is under each cause, tempered as it will be weighed; those of a cause sum to 1.
    pub fn likelihoods(&self, model: &Model) -> Likelihoods {
        model.tempered(self.test, self.at.as_ref(), self.gear.as_deref(), model.k.weights.exponent.observation)
    }
}

/// The tests that were not made yet.
pub(crate) struct NotMade<'a> {
    tests: Vec<TestInstance<'a>>,
    /// Something was seen that forbids driving.
    seen: bool,
}

impl<'a> NotMade<'a> {
    pub fn new(case: &Case, model: &Model<'a>, symptom: &str) -> Self {
        let Some(s) = case.symptom(symptom) else { return Self { tests: vec![], seen: false } };
        let answered = Answered::new(case, model.k, s);
        let mut tests = all_tries(model);
        tests.retain(|t| !answered.is_done(t.test, t.at.as_ref(), t.gear.as_deref()));
        Self { tests, seen: danger::is_seen(case, model.k, model.all) }
    }

    /// Those that can be made as the vehicle stands; `case` may stand otherwise than the one of which they are.
    pub fn open(&self, case: &Case, k: &Knowledge, symptom: &str) -> impl Iterator<Item = &TestInstance<'a>> {
        let s = case.symptom(symptom);
        self.tests.iter().filter(move |t| s.is_some_and(|s| can_be_made(case, k, t.test, t.at.as_ref(), s, self.seen)))
    }
}

/// The tests that can be made as the vehicle stands and were not.
pub(crate) fn open<'a>(case: &Case, model: &Model<'a>, symptom: &str) -> Vec<TestInstance<'a>> {
    NotMade::new(case, model, symptom).open(case, model.k, symptom).cloned().collect()
}

/// Every test at every place and gear that this vehicle has.
pub(crate) fn all_tries<'a>(model: &Model<'a>) -> Vec<TestInstance<'a>> {
    model.k.tests.iter().flat_map(|test| tries_of(model.v, test, model.places_of(test))).collect()
}

/// A test at every place and gear, of the places where it is made on a vehicle.
fn tries_of<'a>(v: &Vehicle, test: &'a Test, places: Vec<Place>) -> Vec<TestInstance<'a>> {
    if test.at.is_empty() || test.names_place && !places.is_empty() {
        return vec![TestInstance { test, at: None, gear: None }];
    }
    let in_gears = test.at.iter().any(|a| a == "gear");
    let gears = || v.gearbox.gears.iter().map(|g| Some(g.name.clone())).collect();
    let at_place = |at: Place| {
        let gears: Vec<Option<String>> = if in_gears { gears() } else { vec![None] };
        gears.into_iter().map(move |gear| TestInstance { test, at: Some(at.clone()), gear })
    };
    places.into_iter().flat_map(at_place).collect()
}

/// Where a test is made on a vehicle, or which places its outcome can name; none of a test of the whole vehicle.
pub fn places_of_test(v: &Vehicle, test: &Test) -> Vec<Place> {
    v.places().into_iter().filter(|p| test.at.iter().any(|kind| is_kind(v, p, kind))).collect()
}

/// Everywhere that a test can be made on a vehicle: place and gear, both none of a test of the whole vehicle and of one whose outcome
/// names its place.
pub fn tries_on(v: &Vehicle, test: &Test) -> Vec<(Option<Place>, Option<String>)> {
    tries_of(v, test, places_of_test(v, test)).into_iter().map(|t| (t.at, t.gear)).collect()
}
