//! While it is open: what lies open when something has come off, and the looks that cost next to nothing then.

use super::availability::NotMade;
use super::information::information_gain;
use super::knowledge::{Fault, Test};
use super::likelihood::Model;
use super::open_symptom::TestName;
use super::place_kinds::is_kind;
use super::preparation::minutes;
use crate::case::Case;
use crate::vehicle::{Place, PlaceKind, Vehicle};
use serde::Serialize;

/// A look takes no longer, minutes.
const CHEAP_LOOK_MINUTES: f64 = 6.0;
/// What it answers on average must be more, bits.
const MIN_INFORMATION_BITS: f64 = 0.001;
/// Looks that are offered, and places of each.
const MAX_OFFERED: usize = 3;

/// What has come off, and where looks are offered besides.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OpenedPlaces {
    off: Vec<Place>,
    nearby: Vec<Place>,
}

impl OpenedPlaces {
    /// By a test: the places of the kinds that it opens, of its own shaft where it is made on one.
    pub fn by_test(v: &Vehicle, t: &Test, at: Option<&Place>) -> Self {
        let own = |p: &Place| at.is_none_or(|a| !a.is_of_shaft() || p.end == a.end);
        let here = |p: &Place| own(p) && t.opens.iter().any(|kind| is_kind(v, p, kind));
        let mut off: Vec<Place> = v.places().into_iter().filter(here).collect();
        // What is looked at taken off is off.
        off.extend(at.filter(|_| t.off).cloned());
        Self { off, nearby: vec![] }
    }

    /// By the repair of a fault at a place.
    pub fn by_repair(v: &Vehicle, f: &Fault, at: &Place) -> Self {
        use PlaceKind::*;
        let of = |wanted: &dyn Fn(&Place) -> bool| v.places().into_iter().filter(|p| wanted(p)).collect::<Vec<_>>();
        let in_half = |p: &Place| matches!(p.kind, Half | HalfInner | HalfOuter);
        match at.kind {
            _ if f.in_place => Self::default(),
            _ if at.is_of_shaft() => {
                Self { off: of(&|p| p.is_of_shaft() && p.end == at.end), nearby: of(&|p| p.kind == Diff && p.end == at.end) }
            }
            Half | HalfInner | HalfOuter => Self {
                off: of(&|p| in_half(p) && p.corner == at.corner),
                nearby: of(&|p| p.kind == Hub && p.corner == at.corner),
            },
            Hub => Self { off: vec![at.clone()], nearby: of(&|p| in_half(p) && p.corner == at.corner) },
            Diff => Self { off: vec![at.clone()], nearby: of(&|p| p.kind == HalfInner && p.end == at.end) },
            Gearbox | Clutch | Transfer => Self {
                off: of(&|p| p.kind == at.kind || matches!(p.kind, Gearbox | Clutch) && at.kind != Transfer),
                nearby: of(&|p| p.kind == Slip || p.id == "mount.gearbox"),
            },
            Coupler => Self { off: vec![at.clone()], nearby: vec![] },
            Engine | Mount | Strut | Wheel | Prop | Section | Joint | Support | Slip | HalfBearing | Brake | Exhaust | Body => {
                Self::default()
            }
        }
    }

    /// Whether nothing has come off.
    pub fn is_empty(&self) -> bool {
        self.off.is_empty()
    }

    fn holds(&self, p: &Place) -> bool {
        self.off.iter().chain(&self.nearby).any(|o| o.id == p.id)
    }
}

/// A look while it is open.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct QuickLook {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Where, the place that answers most first.
    pub at: Vec<String>,
    /// Minutes at each place.
    pub minutes: f64,
}

/// The looks that are cheap because something is open: see [`super::OpenSymptom::quick_looks`]. `p` is what is believed of the hypotheses, `now` what
/// is open as it stands, of what was `not_made`.
pub(super) fn quick_looks_among(
    case: &Case,
    model: &Model<'_>,
    symptom: &str,
    p: &[f64],
    (not_made, now): (&NotMade<'_>, &[TestName<'_>]),
    opened: &OpenedPlaces,
    but: Option<&str>,
) -> Vec<QuickLook> {
    if opened.is_empty() {
        return vec![];
    }
    let mut then = case.clone();
    let state = then.state.get_or_insert_default();
    state.on = Some("lift".into());
    state.off.extend(opened.off.iter().map(|p| p.id.clone()));
    let mut looks: Vec<(f64, String, String, f64)> = not_made
        .open(&then, model.k, symptom)
        .filter_map(|t| {
            let at = t.at.as_ref().filter(|p| opened.holds(p))?;
            let cost = minutes(&then, model.k, t.test, Some(at));
            // Only what is cheaper for it, or can be made at all.
            let before = now.iter().find(|n| n.test == t.test.id && n.at == Some(at.id.as_str()));
            let worth = cost <= CHEAP_LOOK_MINUTES
                && !t.test.wheels
                && but != Some(t.test.id.as_str())
                && before.is_none_or(|b| b.minutes > cost);
            let bits = if worth { information_gain(p, &t.likelihoods(model).rows) } else { 0.0 };
            (bits >= MIN_INFORMATION_BITS).then(|| (bits, t.test.id.clone(), at.id.clone(), cost))
        })
        .collect();
    looks.sort_by(|a, b| b.0.total_cmp(&a.0));
    let mut out: Vec<QuickLook> = vec![];
    for (_, test, at, minutes) in looks {
        match out.iter().position(|l| l.test == test) {
            Some(i) if out[i].at.len() < MAX_OFFERED => out[i].at.push(at),
            None if out.len() < MAX_OFFERED => out.push(QuickLook { test, at: vec![at], minutes }),
            _ => {}
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::super::knowledge::builtin;
    use super::*;
    use crate::case::sample::case_standing as case;
    use crate::reasoning::{OpenSymptom, open_tests};
    use crate::vehicle::sample::*;
    fn fault(id: &str) -> &'static Fault {
        builtin().fault(id).unwrap()
    }
    fn looks(c: &Case, opened: &OpenedPlaces, but: Option<&str>) -> Vec<QuickLook> {
        OpenSymptom::with(c, builtin(), "S1", None, |open| open.quick_looks(opened, but))
    }

    #[test]
    fn a_shaft_that_is_off_is_looked_at_for_little() {
        let c = case(rear_drive(2), "vibration", "lift");
        let swing = builtin().test("joint-swing").unwrap();
        let opened = OpenedPlaces::by_test(&c.vehicle, swing, c.vehicle.place("prop.rear.j2").as_ref());
        let offered = looks(&c, &opened, Some("joint-swing"));
        assert!(offered.iter().any(|l| l.test == "opened-look"), "{offered:?}");
        for l in &offered {
            assert!(l.minutes <= CHEAP_LOOK_MINUTES && l.test != "joint-swing" && l.at.len() <= MAX_OFFERED);
            assert!(l.at.iter().all(|a| a.starts_with("prop.rear")), "{l:?}");
        }
        // What is looked at taken off could not be proposed before.
        assert!(open_tests(&c, builtin(), "S1").iter().all(|t| t.test != "opened-look"));
    }

    #[test]
    fn a_half_shaft_leaves_its_own_corner_open_and_no_other() {
        let c = case(front_drive(), "click-repeating", "ground");
        let opened = OpenedPlaces::by_repair(&c.vehicle, fault("outer-joint-worn"), &c.vehicle.place("half.fl.outer").unwrap());
        let offered = looks(&c, &opened, None);
        assert!(!offered.is_empty());
        assert!(offered.iter().flat_map(|l| &l.at).all(|a| a.contains("fl")), "{offered:?}");
    }

    #[test]
    fn what_opens_nothing_offers_nothing() {
        let c = case(rear_drive(2), "vibration", "lift");
        for (id, at) in [("wheel-imbalance", "wheel.fl"), ("joint-angle", "prop.rear"), ("pinion-seal-leaking", "diff.rear")] {
            let opened = OpenedPlaces::by_repair(&c.vehicle, fault(id), &c.vehicle.place(at).unwrap());
            assert_eq!(looks(&c, &opened, None), [], "{id}");
        }
        let coast = OpenedPlaces::by_test(&c.vehicle, builtin().test("neutral-coast").unwrap(), None);
        assert_eq!((coast.clone(), looks(&c, &coast, None)), (OpenedPlaces::default(), vec![]));
    }

    #[test]
    fn every_repair_of_every_layout_offers_only_what_lies_open() {
        for v in every_layout() {
            let c = case(v.clone(), "growl", "ground");
            for h in crate::reasoning::hypotheses(&v, builtin()).iter().filter(|h| !h.is_unknown()) {
                let opened = OpenedPlaces::by_repair(&v, fault(&h.fault), h.place.as_ref().unwrap());
                for l in looks(&c, &opened, None) {
                    assert!(l.at.iter().all(|a| opened.holds(&v.place(a).unwrap())), "{} {}: {l:?}", v.name, h.at);
                }
            }
        }
    }
}
