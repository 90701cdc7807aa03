//! A length, an angle, a tyre or a ratio that was changed on the vehicle: from then on it is another, and what was read before rests on
//! what was.

use super::entry::{Entry, entry};
use super::{Case, Measurement, Observation, RecordingSpec, Repair};
use crate::vehicle::{Corner, Vehicle, answered_place, is_part_of};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// What kind of size was changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DimensionKind {
    /// A section of a shaft: length, tube or wall.
    Length,
    /// The angles of a shaft: height, mount, wedge.
    Angle,
    /// The tyre of a wheel.
    Tyre,
    /// The ratio of a final drive.
    Ratio,
}

/// A size at its place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangedDimension {
    /// What kind.
    pub of: DimensionKind,
    /// Where: `prop.rear.s1`, `prop.rear`, `wheel.fl`, `diff.rear`.
    pub at: String,
}

/// Sizes that were changed at one time.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct DimensionChange {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Which sizes.
    #[serde(default)]
    pub changed: Vec<ChangedDimension>,
    /// From what to what, in words.
    #[serde(default)]
    pub words: String,
    /// The vehicle as it was before; none where it is as it was: angles are not kept in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Vehicle>,
    /// The repair by which it was changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repair: Option<String>,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// By whom.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}
entry!(DimensionChange, 'g');

/// The measurement that reads the angles of a shaft.
const ANGLES: &str = "angles";

impl ChangedDimension {
    /// Whether what was read at a place rests on it. `measured` is the kind of a measurement; none for an answer.
    fn bears(&self, measured: Option<&str>, at: &str) -> bool {
        let shaft = || self.at.split('.').take(2).collect::<Vec<_>>().join(".");
        let angles_of = |shaft: &str| measured == Some(ANGLES) && is_part_of(at, shaft);
        match self.of {
            DimensionKind::Angle => angles_of(&self.at),
            DimensionKind::Length => is_part_of(at, &self.at) || angles_of(&shaft()),
            DimensionKind::Tyre | DimensionKind::Ratio => is_part_of(at, &self.at),
        }
    }
}

fn time(text: Option<&String>) -> Option<Timestamp> {
    text?.parse().ok()
}

/// Whether what happened then came after a reading. What has no time was read before, unless it follows a repair.
fn came_after(then: Option<&String>, read: Option<&String>, is_after: bool) -> bool {
    match (time(read), time(then)) {
        (Some(read), Some(then)) => read < then,
        _ => !is_after,
    }
}

impl DimensionChange {
    /// The wheels of an axle, or all: where a tyre is another.
    pub fn tyres(corners: &[Corner]) -> impl Iterator<Item = ChangedDimension> {
        corners.iter().map(|c| ChangedDimension { of: DimensionKind::Tyre, at: format!("wheel.{}", c.id()) })
    }

    /// Whether something that was read then was read before it.
    fn came_after(&self, read: Option<&String>, is_after: bool) -> bool {
        came_after(self.at_time.as_ref(), read, is_after)
    }
}

/// Why a reading has to be made again.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Stale<'a> {
    /// A size that it rests on was changed.
    Changed(&'a DimensionChange),
    /// The part that was read was replaced, and the fault stayed.
    Replaced(&'a Repair),
}

/// What a repair that did not cure comes to.
const NOT_CURED: &str = "not-cured";

impl Case {
    /// Why a reading has to be made again; none when it stands. A reading of a part that was replaced without a cure was of the old part,
    /// unless it was made after that repair was chosen.
    pub fn stale(&self, m: &Measurement) -> Option<Stale<'_>> {
        if let Some(c) = self.outdated_reading(m) {
            return Some(Stale::Changed(c));
        }
        let at = m.at.as_deref()?;
        let replaced = |r: &&Repair| {
            r.result.as_deref() == Some(NOT_CURED)
                && r.replaces_part()
                && !m.is_after()
                && came_after(r.at_time.as_ref(), m.at_time.as_ref(), m.is_after())
                && r.all_places().any(|p| is_part_of(at, p))
        };
        self.repairs.iter().rev().find(replaced).map(Stale::Replaced)
    }

    /// The change since which a reading has to be made again; none when it stands.
    pub fn outdated_reading(&self, m: &Measurement) -> Option<&DimensionChange> {
        let at = m.at.as_deref()?;
        let bears = |c: &&DimensionChange| {
            c.came_after(m.at_time.as_ref(), m.is_after()) && c.changed.iter().any(|d| d.bears(Some(&m.kind), at))
        };
        self.dimension_changes.iter().rev().find(bears)
    }

    /// The change since which an answer has to be given again; none when it stands.
    pub fn outdated_answer(&self, o: &Observation) -> Option<&DimensionChange> {
        let at = answered_place(o.at.as_deref()?);
        let bears =
            |c: &&DimensionChange| c.came_after(o.at_time.as_ref(), o.is_after()) && c.changed.iter().any(|d| d.bears(None, &at));
        self.dimension_changes.iter().rev().find(bears)
    }

    /// The vehicle as it was when a run was driven.
    pub fn vehicle_at_run(&self, r: &RecordingSpec) -> &Vehicle {
        let then = |c: &&DimensionChange| c.came_after(r.at_time.as_ref(), r.is_after());
        self.dimension_changes.iter().filter(then).find_map(|c| c.before.as_ref()).unwrap_or(&self.vehicle)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::rear_drive;

    fn changed(of: DimensionKind, at: &str) -> Case {
        let mut case = Case::new("c1", "Hum", rear_drive(2));
        case.dimension_changes.push_back(DimensionChange {
            id: "g1".into(),
            changed: vec![ChangedDimension { of, at: at.into() }],
            before: Some(rear_drive(1)),
            at_time: Some("2026-11-30T10:00:00Z".into()),
            ..DimensionChange::default()
        });
        case
    }

    fn reading(kind: &str, at: &str, time: Option<&str>, phase: Option<&str>) -> Measurement {
        Measurement {
            kind: kind.into(),
            at: Some(at.into()),
            at_time: time.map(String::from),
            phase: phase.map(String::from),
            ..Measurement::default()
        }
    }

    #[test]
    fn a_reading_of_a_part_that_was_replaced_without_a_cure_is_of_the_old_part() {
        let mut case = Case::new("c1", "Hum", rear_drive(2));
        let m = reading("runout", "prop.rear.s2.centre", None, None);
        let mut r = Repair { id: "r1".into(), at: Some("prop.rear".into()), part: Some("copy".into()), ..Repair::default() };
        let mut stale = |result: &str| {
            r.result = Some(result.into());
            case.repairs = [r.clone()].into_iter().collect();
            case.stale(&m).is_some()
        };
        assert_eq!((stale("open"), stale("cured"), stale("not-cured")), (false, false, true));
        let after = reading("runout", "prop.rear.s2.centre", None, Some("after"));
        assert_eq!((case.stale(&after), case.stale(&reading("runout", "wheel.fl", None, None))), (None, None));
        // What was read on the new part, before the next cause is found, stands.
        case.repairs[0].at_time = Some("2026-11-30T10:00:00Z".into());
        let at = |time| case.stale(&reading("runout", "prop.rear.s2.centre", Some(time), None)).is_some();
        assert_eq!((at("2026-11-30T09:00:00Z"), at("2026-11-30T11:00:00Z")), (true, false));
    }

    #[test]
    fn what_rests_on_a_changed_size_is_read_again() {
        use DimensionKind::{Angle, Length, Ratio, Tyre};
        let before = Some("2026-11-30T09:00:00Z");
        for (of, at, kind, read_at, rests) in [
            (Length, "prop.rear.s1", "angles", "prop.rear", true),
            (Length, "prop.rear.s1", "runout", "prop.rear.s1.centre", true),
            (Length, "prop.rear.s1", "runout", "prop.rear.s2.centre", false),
            (Length, "prop.rear.s1", "angles", "prop.front", false),
            (Angle, "prop.rear", "angles", "prop.rear", true),
            (Angle, "prop.rear", "runout", "prop.rear.s1.centre", false),
            (Tyre, "wheel.fl", "runout", "wheel.fl", true),
            (Tyre, "wheel.fl", "runout", "wheel.fr", false),
            (Tyre, "wheel.fl", "runout", "hub.fl", false),
            (Ratio, "diff.rear", "runout", "diff.rear.flange", true),
            (Ratio, "diff.rear", "runout", "diff.rearmost", false),
        ] {
            let case = changed(of, at);
            let m = reading(kind, read_at, before, None);
            assert_eq!(case.outdated_reading(&m).is_some(), rests, "{of:?} {at}: {kind} {read_at}");
            assert!(case.outdated_reading(&reading(kind, read_at, Some("2026-11-30T11:00:00Z"), None)).is_none());
        }
    }

    #[test]
    fn what_has_no_time_was_read_before_unless_it_follows_the_repair() {
        let case = changed(DimensionKind::Angle, "prop.rear");
        assert!(case.outdated_reading(&reading("angles", "prop.rear", None, None)).is_some());
        assert!(case.outdated_reading(&reading("angles", "prop.rear", None, Some("after"))).is_none());
        let answer = |at: &str| Observation { at: Some(at.into()), ..Observation::default() };
        assert!(changed(DimensionKind::Ratio, "diff.rear").outdated_answer(&answer("rear")).is_some());
        assert!(changed(DimensionKind::Ratio, "diff.rear").outdated_answer(&answer("front")).is_none());
    }

    #[test]
    fn a_run_keeps_the_vehicle_that_it_was_driven_with() {
        let case = changed(DimensionKind::Tyre, "wheel.fl");
        let run = |time: Option<&str>, phase: Option<&str>| RecordingSpec {
            at_time: time.map(String::from),
            phase: phase.map(String::from),
            ..RecordingSpec::default()
        };
        let sections = |r: &RecordingSpec| case.vehicle_at_run(r).props[0].sections.len();
        assert_eq!(sections(&run(Some("2026-11-30T09:00:00Z"), None)), 1);
        assert_eq!(sections(&run(Some("2026-11-30T11:00:00Z"), None)), 2);
        assert_eq!((sections(&run(None, None)), sections(&run(None, Some("after")))), (1, 2));
    }
}
