//! What must be done before a test or a repair, and what it costs from how the vehicle stands now.

use super::knowledge::{Knowledge, Test};
use crate::case::Case;
use crate::vehicle::{Place, PlaceKind};

/// What must be done once before a test or a repair, beyond what stands already.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Before {
    /// Going up on the lift.
    Up,
    /// Taking something off.
    Off(String),
    /// A drive, for what is felt while it is warm from the road.
    Driven,
}

/// What must be done before something, with its minutes.
pub(crate) type Preparations = Vec<(Before, f64)>;

/// Going up, unless it is up.
pub(crate) fn going_up(case: &Case, k: &Knowledge) -> Option<(Before, f64)> {
    let up = case.state.as_ref().is_some_and(|s| s.is_up());
    (!up).then_some((Before::Up, k.weights.time.lift_minutes))
}

/// The propeller or half shaft that a place belongs to coming off, unless it is off. Whatever is done to it then shares that.
pub(crate) fn shaft_off(case: &Case, k: &Knowledge, at: &Place) -> Option<(Before, f64)> {
    let off = case.state.as_ref().is_some_and(|s| s.is_off(at));
    let shaft = at.whole().filter(|_| comes_off_whole(at) && !off)?;
    Some((Before::Off(shaft), k.weights.time.shaft_minutes))
}

/// Whether a place comes off with its propeller or half shaft.
pub(crate) fn comes_off_whole(at: &Place) -> bool {
    at.is_of_shaft() || is_of_half(at)
}

/// Whether a driven half shaft is still in.
fn half_shafts_are_in(case: &Case) -> bool {
    let v = &case.vehicle;
    let driven = |p: &Place| p.kind == PlaceKind::Half && v.axles.iter().any(|a| a.driven && Some(a.end) == p.end);
    v.places().iter().filter(|p| driven(p)).any(|p| !case.state.as_ref().is_some_and(|s| s.is_off(p)))
}

/// Whether a place comes off with its half shaft.
fn is_of_half(p: &Place) -> bool {
    matches!(p.kind, PlaceKind::Half | PlaceKind::HalfInner | PlaceKind::HalfOuter)
}

/// Each test costs this besides its minutes: getting ready, asking, writing down.
pub(crate) const OVERHEAD_MINUTES: f64 = 2.0;

/// Of a test that opens something at least this share of its minutes is its own, whatever a workshop says it takes.
pub(crate) const OWN_MINUTES_SHARE: f64 = 0.2;

/// Of the minutes of a test, those for what it takes off: the shaft, or the half shafts.
fn teardown_minutes(k: &Knowledge, t: &Test, at: Option<&Place>) -> f64 {
    let time = &k.weights.time;
    let usual = match at {
        _ if t.opens.is_empty() => 0.0,
        Some(p) if comes_off_whole(p) => time.shaft_minutes,
        _ => time.half_shafts_minutes,
    };
    usual.min((1.0 - OWN_MINUTES_SHARE) * t.minutes)
}

/// What a test takes off as a part of it, unless it is off.
fn teardown(case: &Case, k: &Knowledge, t: &Test, at: Option<&Place>) -> Option<(Before, f64)> {
    let minutes = teardown_minutes(k, t, at);
    let what = match at {
        _ if t.opens.is_empty() => None,
        Some(p) if comes_off_whole(p) => shaft_off(case, k, p).map(|b| b.0),
        Some(_) => half_shafts_are_in(case).then(|| Before::Off("half-shafts".into())),
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
    let warm = case.state.as_ref().is_some_and(|s| s.warm_until.is_some());
    if t.after_drive && !warm {
        out.push((Before::Driven, k.weights.time.drive_minutes));
    }
    out
}

/// Minutes that the search pays for a test: its own, or a share of them where the history asks for it anyway.
pub(crate) fn charged_minutes(case: &Case, k: &Knowledge, t: &Test, minutes: f64) -> f64 {
    let due = k.weights.history.asking_for(&case.history, &t.id).next().is_some();
    minutes * if due { k.weights.history.due_share } else { 1.0 }
}

/// Minutes of a test alone: what it takes off is a preparation that others share.
pub(crate) fn own_minutes(k: &Knowledge, t: &Test, at: Option<&Place>) -> f64 {
    t.minutes - teardown_minutes(k, t, at)
}

/// Minutes of a test as the vehicle stands.
pub(crate) fn minutes(case: &Case, k: &Knowledge, t: &Test, at: Option<&Place>) -> f64 {
    own_minutes(k, t, at) + before(case, k, t, at).iter().map(|b| b.1).sum::<f64>()
}
