//! Priors: how often, raised by what was done to the vehicle, by its geometry and by hints from outside.

use super::hypotheses::Hypothesis;
use super::knowledge::{Fault, Knowledge, Mark, Marks, Test};
use super::likelihood::is_within;
use crate::case::{Case, SpeedRange};
use crate::measure::critical_speed::{CriticalSpeedInput, critical_speed};
use crate::vehicle::{Place, PlaceKind};

/// How many times traces of work raise what it can cause.
const TRACES_FACTOR: f64 = 4.0;

/// The largest factor of the tags that a fault names; a tag counts no more once the look it stands for was made there.
fn history(case: &Case, k: &Knowledge, f: &Fault, p: &Place) -> f64 {
    let w = &k.weights.history;
    let made_at = |test: &str, outcome: Option<&str>| {
        case.observations.iter().any(|o| {
            let same =
                o.test == test && !o.is_after() && case.outdated_answer(o).is_none() && outcome.is_none_or(|x| o.outcome == x);
            same && is_of_unit(case, o.at.as_deref(), p)
        })
    };
    let is_measured =
        |t: &Test| case.measurements.iter().any(|m| t.is_read_as(&m.kind) && !m.is_after() && case.stale(m).is_none());
    // The look that a fault's history stands for: its own sign, seen nearly always when it is there.
    let own_sign = |test: &String| made_at(test, None) || k.test(test).is_some_and(is_measured);
    let nearly_always = |marks: &Marks| marks.values().any(|m| matches!(m, Mark::Sign(s) if s == "++"));
    let seen = f.tests.iter().any(|(test, marks)| nearly_always(marks) && own_sign(test));
    let counts = |tag: &str| !seen && w.looks.get(tag).is_none_or(|test| !made_at(test, None));
    let mut raised = f.history.iter().filter(|(t, _)| case.history.contains(t) && counts(t)).map(|(_, x)| *x).fold(0.0, f64::max);
    // Traces of the work that a tag says of are the same news again.
    if raised > 0.0 && made_at("earlier-work-look", Some("traces")) {
        raised = f64::max(raised / TRACES_FACTOR, 1.0);
    }
    let denied = f.made_by_work && f.history.keys().any(|t| case.history_denied.contains(t));
    match raised > 0.0 {
        true => raised,
        false if denied => k.weights.prior.work_denied,
        false => 1.0,
    }
}

/// Whether a look was made at the unit that a place belongs to.
fn is_of_unit(case: &Case, at: Option<&str>, p: &Place) -> bool {
    let Some(at) = at.and_then(|a| case.vehicle.place(a)) else { return false };
    let shaft = at.is_of_shaft() && p.is_of_shaft() && at.end == p.end;
    let gearbox = at.kind == PlaceKind::Gearbox && matches!(p.kind, PlaceKind::Clutch | PlaceKind::Mount);
    let axle = at.kind == PlaceKind::Diff && p.end == at.end && !p.is_of_shaft();
    shaft || gearbox || axle || is_within(&at.id, &p.id) || at.corner.is_some() && at.corner == p.corner
}

/// How a section stands to its bending speed: highest speed over it.
fn critical_share(case: &Case, k: &Knowledge, p: &Place, speed: Option<SpeedRange>) -> Option<f64> {
    let v = &case.vehicle;
    let prop = p.end.and_then(|e| v.prop(e))?;
    let section = prop.sections.get(p.number?.checked_sub(1)?)?;
    let ratio = v.final_ratio(prop.end)?;
    let circumference = v.tyre.figures().ok()?.rolling_circumference_m;
    let usual = k.weights.prior.usual_max_kmh.max(speed.and_then(|s| s.to.or(s.peak)).unwrap_or(0.0));
    let kmh = v.limits.max_kmh.unwrap_or(usual);
    let rpm = kmh / 3.6 / circumference.get() * ratio * 60.0;
    let c = critical_speed(&CriticalSpeedInput { section: section.clone(), max_rpm: None, limits: v.limits.clone() }).ok()?;
    Some(rpm / c.rpm.get())
}

fn geometry(case: &Case, k: &Knowledge, h: &Hypothesis, speed: Option<SpeedRange>) -> f64 {
    if h.fault != "prop-near-critical" {
        return 1.0;
    }
    let w = &k.weights.prior;
    let allowed = case.vehicle.limits.critical_ratio.unwrap_or(crate::measure::critical_speed::CRITICAL_RATIO);
    match h.place.as_ref().and_then(|p| critical_share(case, k, p, speed)) {
        Some(share) if share > allowed => w.near_critical,
        Some(share) if share < w.far_ratio => w.far_from_critical,
        _ => 1.0,
    }
}

fn hints(case: &Case, k: &Knowledge, h: &Hypothesis) -> f64 {
    let w = &k.weights.prior;
    let of = |hint: &&crate::case::Hint| hint.fault == h.fault && hint.at.as_deref().is_none_or(|a| a == h.at);
    case.hints.iter().filter(of).map(|x| if x.trust.as_deref() == Some("seen") { w.hint_seen } else { w.hint_told }).product()
}

/// The prior of each hypothesis of a symptom. Sums to 1; the unknown keeps its share, a pair its part of the less likely
/// member after all that raises it.
pub(super) fn prior(case: &Case, k: &Knowledge, all: &[Hypothesis], symptom: &str) -> Vec<f64> {
    let speed = case.symptom(symptom).and_then(|s| s.speed_kmh);
    let mut p: Vec<f64> = vec![];
    for h in all {
        p.push(match (h.pair, k.fault(&h.fault), &h.place) {
            (Some([a, b]), ..) => k.weights.prior.pair * f64::min(p[a], p[b]),
            (None, Some(f), Some(place)) => {
                h.weight * history(case, k, f, place) * geometry(case, k, h, speed) * hints(case, k, h)
            }
            _ => 0.0,
        });
    }
    let sum: f64 = p.iter().sum();
    let unknown = k.weights.prior.unknown;
    if let Some(last) = p.last_mut() {
        *last = sum * unknown / (1.0 - unknown);
    }
    super::normalise(&mut p);
    p
}
