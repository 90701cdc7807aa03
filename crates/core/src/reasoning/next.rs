//! The next best test: the expected drop in uncertainty per minute, in the state the vehicle is in.

use super::evidence::{likelihoods, stations};
use super::knowledge::{Knowledge, Test};
use super::{Hypothesis, Weighed};
use crate::case::Case;
use crate::road_coach::Leg;
use crate::vehicle::{Place, PlaceKind};
use serde::Serialize;

/// The test that is a recording: it is driven by the plan of runs.
pub const RECORDED: &str = "speed-sweep";

/// Share of what is open that a test must settle to be worth the walk.
const WORTHWHILE: f64 = 0.06;

/// What one outcome would do.
#[derive(Clone, Debug, Serialize)]
pub struct OutcomePreview {
    /// The outcome.
    pub outcome: String,
    /// How likely it is to come out.
    pub p: f64,
    /// The cause that would then stand first.
    pub fault: String,
    /// Where.
    pub at: String,
    /// How sure that would be.
    pub p_then: f64,
    /// How the cause that stands first now would stand.
    pub first_then: f64,
    /// The cause that gains most.
    pub rises: String,
    /// Where.
    pub rises_at: String,
    /// How sure it would be.
    pub rises_to: f64,
    /// How much it gains.
    pub gain: f64,
}

/// A proposed test.
#[derive(Clone, Debug, Serialize)]
pub struct NextTest {
    /// The test.
    pub test: String,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// What it takes, from how the vehicle stands now.
    pub minutes: f64,
    /// What it settles on average.
    pub bits: f64,
    /// What it settles for each minute.
    pub bits_per_minute: f64,
    /// The runs to drive, where it is recorded: gears and speeds that part the suspects.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub runs: Vec<Leg>,
    /// What each outcome would do.
    pub outcomes: Vec<OutcomePreview>,
}

/// Uncertainty, in bits.
pub fn entropy(p: &[f64]) -> f64 {
    p.iter().filter(|x| **x > 0.0).map(|x| -x * x.log2()).sum()
}

/// What a test with these rows of likelihoods settles on average, bits.
pub fn settles(p: &[f64], rows: &[Vec<f64>]) -> f64 {
    let left = |row: &Vec<f64>| {
        let joint: Vec<f64> = p.iter().zip(row).map(|(p, l)| p * l).collect();
        let chance: f64 = joint.iter().sum();
        chance * entropy(&joint.iter().map(|j| j / chance.max(1e-300)).collect::<Vec<_>>())
    };
    (entropy(p) - rows.iter().map(left).sum::<f64>()).max(0.0)
}

/// What an outcome moves.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Moved {
    /// How likely it is to come out.
    pub chance: f64,
    /// The hypothesis that then stands first, and how sure.
    pub first: (usize, f64),
    /// The one that stands first now, and how it would stand then.
    pub now: (usize, f64),
    /// The one that gains most, and how sure it would be.
    pub rises: (usize, f64),
    /// How much it gains.
    pub gain: f64,
}

/// What an outcome with this row of likelihoods moves in what is believed.
pub fn moved(p: &[f64], row: &[f64]) -> Moved {
    let joint: Vec<f64> = p.iter().zip(row).map(|(p, l)| p * l).collect();
    let chance: f64 = joint.iter().sum();
    let then = |i: usize| joint[i] / chance.max(1e-300);
    let largest = |of: &dyn Fn(usize) -> f64| (0..p.len()).max_by(|&a, &b| of(a).total_cmp(&of(b))).unwrap_or(0);
    let gain = |i: usize| then(i) - p[i];
    let (first, now, rises) = (largest(&|i| joint[i]), largest(&|i| p[i]), largest(&gain));
    Moved { chance, first: (first, then(first)), now: (now, then(now)), rises: (rises, then(rises)), gain: gain(rises) }
}

/// What must be done once before a test or a repair, beyond what stands already.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Before {
    /// Going up on the lift.
    Up,
    /// Taking something off.
    Off(String),
    /// Putting back what is off, before a drive.
    Back,
}

/// What must be done before something, with its minutes.
pub(crate) type Preparations = Vec<(Before, f64)>;

/// Going up, unless it is up.
pub(crate) fn going_up(case: &Case, k: &Knowledge) -> Option<(Before, f64)> {
    let up = case.state.as_ref().is_some_and(|s| s.is_up());
    (!up).then_some((Before::Up, k.weights.time.lift_minutes))
}

/// The shaft that a place belongs to coming off, unless it is off. Whatever is done to the shaft then shares it.
pub(crate) fn shaft_off(case: &Case, k: &Knowledge, at: &Place) -> Option<(Before, f64)> {
    let off = case.state.as_ref().is_some_and(|s| s.is_off(at));
    let shaft = at.whole().filter(|_| at.is_of_shaft() && !off)?;
    Some((Before::Off(shaft), k.weights.time.shaft_minutes))
}

/// Whether a driven half shaft is still in.
fn half_shafts_are_in(case: &Case) -> bool {
    let v = &case.vehicle;
    let driven = |p: &Place| p.kind == PlaceKind::Half && v.axles.iter().any(|a| a.driven && Some(a.end) == p.end);
    v.places().iter().filter(|p| driven(p)).any(|p| !case.state.as_ref().is_some_and(|s| s.is_off(p)))
}

/// Of a test that opens something at least this share of its minutes is its own, whatever a workshop says it takes.
const OWN: f64 = 0.2;

/// Of the minutes of a test, those for what it takes off: the shaft, or the half shafts.
fn teardown_minutes(k: &Knowledge, t: &Test, at: Option<&Place>) -> f64 {
    let time = &k.weights.time;
    let usual = match at {
        _ if t.opens.is_empty() => 0.0,
        Some(p) if p.is_of_shaft() => time.shaft_minutes,
        _ => time.half_shafts_minutes,
    };
    usual.min((1.0 - OWN) * t.minutes)
}

/// What a test takes off as a part of it, unless it is off.
fn teardown(case: &Case, k: &Knowledge, t: &Test, at: Option<&Place>) -> Option<(Before, f64)> {
    let minutes = teardown_minutes(k, t, at);
    let what = match at.filter(|p| p.is_of_shaft()) {
        _ if t.opens.is_empty() => None,
        Some(p) => shaft_off(case, k, p).map(|b| b.0),
        None => half_shafts_are_in(case).then(|| Before::Off("half-shafts".into())),
    };
    what.map(|b| (b, minutes))
}

pub(crate) fn before(case: &Case, k: &Knowledge, t: &Test, at: Option<&Place>) -> Preparations {
    let is_off = |p: &Place| case.state.as_ref().is_some_and(|s| s.is_off(p));
    let mut out = vec![];
    out.extend(going_up(case, k).filter(|_| t.lift));
    out.extend(teardown(case, k, t, at));
    if t.off && !at.is_some_and(is_off) {
        let what = at.map_or(t.id.clone(), |p| p.whole().unwrap_or(p.id.clone()));
        out.push((Before::Off(what), k.weights.time.off_minutes));
    }
    let something_off = case.state.as_ref().is_some_and(|s| !s.off.is_empty());
    if something_off && t.is_of_the_road() {
        out.push((Before::Back, k.weights.time.off_minutes));
    }
    out
}

/// Minutes of a test alone: what it takes off is a preparation that others share.
pub(crate) fn own_minutes(k: &Knowledge, t: &Test, at: Option<&Place>) -> f64 {
    t.minutes - teardown_minutes(k, t, at)
}

/// Minutes of a test as the vehicle stands.
pub(crate) fn minutes(case: &Case, k: &Knowledge, t: &Test, at: Option<&Place>) -> f64 {
    own_minutes(k, t, at) + before(case, k, t, at).iter().map(|b| b.1).sum::<f64>()
}

/// A test is worth proposing only where it can be made: what looks at an opened part needs it off, and while the vehicle
/// is not to be driven nothing is tried on the road.
fn possible(case: &Case, t: &Test, at: Option<&Place>) -> bool {
    if case.grounded && t.is_of_the_road() {
        return false;
    }
    if !matches!(t.id.as_str(), "opened-look" | "bench-listen" | "lamps") {
        return true;
    }
    t.id != "lamps" && at.is_some_and(|p| case.state.as_ref().is_some_and(|s| s.is_off(p)))
}

fn is_done(case: &Case, symptom: &str, t: &Test, at: Option<&str>) -> bool {
    let of = |s: Option<&str>| Case::concerns(s, symptom);
    let observed = case
        .observations
        .iter()
        .any(|o| o.test == t.id && of(o.symptom.as_deref()) && (t.locates.is_some() || o.at.as_deref() == at || at.is_none()));
    let place = |m: &crate::case::Measurement| m.at.as_deref().is_none_or(|m| at.is_some_and(|a| m.starts_with(a)));
    let measured = |kind: &str| case.measurements.iter().any(|m| m.kind == kind && of(m.symptom.as_deref()) && place(m));
    observed
        || match t.id.as_str() {
            RECORDED => case.recordings.iter().any(|r| of(r.symptom.as_deref()) && !r.is_after() && case.is_weighed(r)),
            "angle-survey" => measured("angles"),
            "runout-survey" | "half-shaft-runout" => measured("runout"),
            _ => false,
        }
}

/// A test at a place where it can be made.
#[derive(Clone)]
pub(crate) struct Try<'a> {
    pub test: &'a Test,
    pub at: Option<Place>,
    pub gear: Option<String>,
}

impl Try<'_> {
    /// How likely each outcome is under each cause; those of a cause sum to 1.
    pub fn rows(&self, case: &Case, k: &Knowledge, all: &[Hypothesis]) -> Vec<Vec<f64>> {
        let mut rows = likelihoods(&case.vehicle, k, all, self.test, self.at.as_ref(), self.gear.as_deref());
        for h in 0..all.len() {
            let sum: f64 = rows.iter().map(|l| l[h]).sum();
            rows.iter_mut().for_each(|l| l[h] /= sum);
        }
        rows
    }
}

/// The tests that can be made as the vehicle stands and were not.
pub(crate) fn open<'a>(case: &Case, k: &'a Knowledge, symptom: &str) -> Vec<Try<'a>> {
    let mut all = tries(case, k);
    all.retain(|t| {
        let at = t.at.as_ref();
        !is_done(case, symptom, t.test, at.map(|p| p.id.as_str())) && possible(case, t.test, at)
    });
    all
}

/// A test that is open, with what its outcomes say.
pub(crate) struct Laid<'a> {
    pub one: Try<'a>,
    /// A row for each outcome.
    pub rows: Vec<Vec<f64>>,
    /// What it settles on average.
    pub bits: f64,
}

/// The tests that are open, laid out once for list and plan.
pub(crate) fn laid_out<'a>(case: &Case, k: &'a Knowledge, symptom: &str, w: &Weighed) -> Vec<Laid<'a>> {
    let lay = |one: Try<'a>| {
        let rows = one.rows(case, k, &w.all);
        Laid { bits: settles(&w.p, &rows), one, rows }
    };
    open(case, k, symptom).into_iter().map(lay).collect()
}

fn tries<'a>(case: &Case, k: &'a Knowledge) -> Vec<Try<'a>> {
    let v = &case.vehicle;
    let mut out = vec![];
    for test in &k.tests {
        if test.at.is_empty() {
            if test.id != "clutch-pedal" || v.place("clutch").is_some() {
                out.push(Try { test, at: None, gear: None });
            }
        } else if test.at.iter().any(|a| a == "gear") {
            let at = v.place("gearbox");
            out.extend(v.gearbox.gears.iter().map(|g| Try { test, at: at.clone(), gear: Some(g.name.clone()) }));
        } else if test.locates.is_some() {
            out.push(Try { test, at: None, gear: None });
        } else {
            out.extend(stations(v, test).into_iter().map(|p| Try { test, at: Some(p), gear: None }));
        }
    }
    out
}

/// The tests that settle most for their time, best first.
pub(crate) fn next_tests(case: &Case, k: &Knowledge, w: &Weighed, laid: &[Laid], most: usize) -> Vec<NextTest> {
    let mut out: Vec<NextTest> = vec![];
    for l in laid.iter().filter(|l| l.bits >= 0.005) {
        let at = l.one.at.as_ref();
        let minutes = minutes(case, k, l.one.test, at);
        out.push(NextTest {
            test: l.one.test.id.clone(),
            at: at.map(|p| p.id.clone()),
            gear: l.one.gear.clone(),
            minutes,
            bits: l.bits,
            bits_per_minute: l.bits / minutes,
            runs: vec![],
            outcomes: vec![],
        });
    }
    // What settles next to nothing is no next step, however cheap: it comes after all that does.
    let floor = WORTHWHILE * entropy(&w.p);
    out.sort_by(|a, b| (b.bits >= floor).cmp(&(a.bits >= floor)).then(b.bits_per_minute.total_cmp(&a.bits_per_minute)));
    // One proposal a test: the best place stands for it.
    let mut seen: Vec<String> = vec![];
    out.retain(|n| {
        let new = seen.iter().filter(|s| **s == n.test).count() < 2;
        seen.push(n.test.clone());
        new
    });
    out.truncate(most);
    for n in &mut out {
        let named =
            |l: &&Laid| l.one.test.id == n.test && l.one.at.as_ref().map(|p| &p.id) == n.at.as_ref() && l.one.gear == n.gear;
        n.outcomes = laid.iter().find(named).map_or(vec![], |l| preview(w, l.one.test, &l.rows));
    }
    out
}

/// What each outcome of a test would do.
fn preview(w: &Weighed, t: &Test, rows: &[Vec<f64>]) -> Vec<OutcomePreview> {
    let told = |o: &super::knowledge::OutcomeRule, row: &Vec<f64>| {
        let m = moved(&w.p, row);
        let (first, up) = (&w.all[m.first.0], &w.all[m.rises.0]);
        (m.chance > 0.0).then(|| OutcomePreview {
            outcome: o.id.clone(),
            p: m.chance,
            fault: first.fault.clone(),
            at: first.at.clone(),
            p_then: m.first.1,
            first_then: m.now.1,
            rises: up.fault.clone(),
            rises_at: up.at.clone(),
            rises_to: m.rises.1,
            gain: m.gain,
        })
    };
    t.outcomes.iter().zip(rows).filter_map(|(o, row)| told(o, row)).collect()
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::super::{diagnose, knowledge};
    use super::*;
    use crate::vehicle::sample::*;
    use serde_json::{Value, json};

    fn case(v: crate::vehicle::Vehicle, kind: &str, more: serde_json::Value) -> Case {
        let mut doc = Case::new_document("t", "t", json!(v));
        doc["symptoms"] = json!([{"id": "S1", "kind": kind}]);
        for (k, x) in more.as_object().unwrap() {
            doc[k] = x.clone();
        }
        Case::from_json(&doc).unwrap()
    }

    #[test]
    fn cheap_road_tests_come_before_the_lift_when_nothing_is_known() {
        let d = diagnose(&case(all_wheel_drive(), "vibration", json!({})), builtin(), None);
        let ids: Vec<_> = d.symptoms[0].next.iter().take(3).map(|n| n.test.as_str()).collect();
        assert!(ids.iter().any(|t| ["neutral-coast", "other-gear-same-speed", "speed-sweep"].contains(t)), "{ids:?}");
    }

    #[test]
    fn on_the_lift_looking_costs_less() {
        let minutes = |on: &str| {
            let c = case(rear_drive(2), "vibration", json!({"state": {"on": on, "off": []}}));
            let t = builtin().test("support-bearing-look").unwrap();
            super::minutes(&c, builtin(), t, None)
        };
        assert_eq!((minutes("ground"), minutes("lift")), (12.0, 6.0));
    }

    #[test]
    fn a_shaft_that_is_off_is_not_taken_off_again() {
        let minutes = |off: Value, test: &str| {
            let c = case(rear_drive(2), "vibration", json!({"state": {"on": "lift", "off": off}}));
            super::minutes(&c, builtin(), builtin().test(test).unwrap(), c.vehicle.place("prop.rear.j2").as_ref())
        };
        assert_eq!((minutes(json!([]), "joint-swing"), minutes(json!(["prop.rear"]), "joint-swing")), (35.0, 10.0));
        // A joint that lies on the bench brought its shaft with it.
        assert_eq!((minutes(json!([]), "opened-look"), minutes(json!(["prop.rear"]), "opened-look")), (11.0, 5.0));
        // What is off goes back before a drive.
        let coast = |off: Value| {
            let c = case(rear_drive(2), "vibration", json!({"state": {"on": "lift", "off": off}}));
            super::minutes(&c, builtin(), builtin().test("neutral-coast").unwrap(), None)
        };
        assert_eq!((coast(json!([])), coast(json!(["prop.rear"]))), (3.0, 9.0));
    }

    #[test]
    fn a_workshop_that_is_quicker_than_a_teardown_still_has_minutes_of_its_own() {
        let mut house = knowledge::House::default();
        house.tests.insert("joint-swing".into(), 12.0);
        house.tests.insert("diff-out-run".into(), 20.0);
        let k = house.over(builtin()).unwrap();
        for v in [rear_drive(2), four_wheel_drive()] {
            for (off, whole) in [(json!([]), true), (json!(["prop.rear", "half.rl", "half.rr", "half.fl", "half.fr"]), false)] {
                let c = case(v.clone(), "vibration", json!({"state": {"on": "lift", "off": off}}));
                for (test, at) in [("joint-swing", "prop.rear.j1"), ("diff-out-run", "diff.rear")] {
                    let t = k.test(test).unwrap();
                    let m = super::minutes(&c, &k, t, c.vehicle.place(at).as_ref());
                    let wanted = if whole { t.minutes } else { OWN * t.minutes };
                    assert!((m - wanted).abs() < 1e-9, "{test} {m} {wanted}");
                }
            }
        }
    }

    #[test]
    fn while_it_is_not_to_be_driven_no_drive_is_proposed_nor_planned() {
        for v in every_layout() {
            for kind in ["vibration", "growl", "click-repeating"] {
                let drives = |safety: Value| {
                    let d = diagnose(&case(v.clone(), kind, json!({"safety": safety})), builtin(), None);
                    let s = &d.symptoms[0];
                    let planned = s.course.steps.iter().filter_map(|x| x.test.clone());
                    let all = s.next.iter().map(|n| n.test.clone()).chain(planned);
                    all.filter(|t| builtin().test(t).unwrap().is_of_the_road()).count()
                };
                let told = |drive: &str| json!([{"drive": drive, "reason": "joint binds", "by": "Maren"}]);
                assert!(drives(json!([])) > 0 && drives(told("yes")) > 0, "{} {kind}", v.name);
                assert_eq!(drives(told("no")), 0, "{} {kind}", v.name);
            }
        }
    }

    #[test]
    fn a_recording_is_proposed_with_its_gears_and_speeds() {
        let d = diagnose(&case(rear_drive(2), "vibration", json!({})), builtin(), None);
        let n = d.symptoms[0].next.iter().find(|n| n.test == RECORDED).unwrap();
        assert!(!n.runs.is_empty() && n.runs.iter().all(|r| r.to.get() > r.from.get() && r.gear.is_some()), "{:?}", n.runs);
        assert!(d.symptoms[0].next.iter().all(|n| n.test == RECORDED || n.runs.is_empty()));
    }

    #[test]
    fn every_test_settles_at_most_what_is_open_and_outcomes_sum_to_one() {
        for v in every_layout() {
            for kind in ["vibration", "growl", "clunk"] {
                let d = diagnose(&case(v.clone(), kind, json!({})), builtin(), None);
                let s = &d.symptoms[0];
                assert!(s.next.len() >= 3, "{} {kind}", v.name);
                for n in &s.next {
                    assert!(n.bits <= s.open_bits + 1e-9);
                    let sum: f64 = n.outcomes.iter().map(|o| o.p).sum();
                    assert!((sum - 1.0).abs() < 1e-6, "{} {sum}", n.test);
                }
            }
        }
    }

    #[test]
    fn what_was_done_is_not_proposed_again() {
        let c = case(rear_drive(1), "vibration", json!({"observations": [{"test": "neutral-coast", "outcome": "persists"}]}));
        let d = diagnose(&c, knowledge::builtin(), None);
        assert!(d.symptoms[0].next.iter().all(|n| n.test != "neutral-coast"));
    }

    #[test]
    fn uncertainty_is_zero_when_sure_and_largest_when_even() {
        assert_eq!(entropy(&[1.0, 0.0]), 0.0);
        assert!((entropy(&[0.25; 4]) - 2.0).abs() < 1e-12);
    }
}
