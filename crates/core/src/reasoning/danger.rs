//! Danger is a property of a fault: when its suspects hold enough, a statement on driving is proposed. A person says it.

use super::Weighed;
use super::hypotheses::Hypothesis;
use super::knowledge::{DangerRule, Knowledge};
use super::likelihood::is_within;
use crate::case::clearance::Clearance;
use crate::case::fault_at::FaultAt;
use crate::case::{Case, Observation};
use crate::measure::critical_speed::{CriticalSpeedInput, critical_speed};
use crate::vehicle::{Place, PlaceKind};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};

/// Probability at least of what was seen.
const SEEN_MIN_PROBABILITY: f64 = 0.95;

/// A statement on driving that is proposed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Danger {
    /// no, or limited.
    pub drive: Clearance,
    /// How far at the most, km.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub km: Option<f64>,
    /// How fast at the most, km/h.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kmh: Option<f64>,
    /// Why, in words.
    pub why: String,
    /// Probability that one of its suspects is there.
    pub p: f64,
    /// The suspects, the likeliest first.
    pub faults: Vec<FaultAt>,
}

/// What came out of each test at each place when it was last made.
struct LatestAnswers<'a> {
    case: &'a Case,
    /// With the place, of an answer that names one.
    all: Vec<(&'a Observation, Option<Option<Place>>)>,
}

impl<'a> LatestAnswers<'a> {
    fn new(case: &'a Case) -> Self {
        let mut latest: HashMap<(&str, Option<&str>), &Observation> = HashMap::new();
        for o in &case.observations {
            latest.insert((&o.test, o.at.as_deref()), o);
        }
        let place = |o: &Observation| o.at.as_deref().map(|at| case.vehicle.place(at));
        Self { case, all: latest.into_values().map(|o| (o, place(o))).collect() }
    }

    /// Whether one of these tests came out so at the place of a hypothesis. A repair of the fault outdates what was found before it,
    /// not what is found after it.
    fn came_out(&self, tests: &BTreeMap<String, Vec<String>>, h: &Hypothesis) -> bool {
        let Some(p) = &h.place else { return false };
        let there = |id: Option<&str>, at: Option<&Place>| {
            let corner = at.and_then(|a| a.corner);
            let of_shaft = p.is_of_shaft() && at.is_some_and(|a| a.is_of_shaft() && a.end == p.end && p.kind == PlaceKind::Prop);
            id.is_some_and(|id| is_within(id, &p.id)) || corner.is_some() && corner == p.corner || of_shaft
        };
        let says = |o: &Observation| {
            let said = |outcomes: &Vec<String>| outcomes.contains(&o.outcome) || o.also.iter().any(|a| outcomes.contains(a));
            tests.get(&o.test).is_some_and(said)
        };
        let mut saying = self.all.iter().filter(|(o, _)| says(o)).peekable();
        if saying.peek().is_none() {
            return false;
        }
        let repaired = self.case.repairs.iter().any(|r| {
            let done = r.result.as_deref().is_some_and(|result| result != "open");
            done && r.mends(&h.fault, &h.at)
        });
        saying.any(|(o, place)| {
            let here = place.as_ref().is_none_or(|at| there(o.at.as_deref(), at.as_ref()));
            (o.is_after() || !repaired) && here
        })
    }

    /// What a suspect asks for now; none where its sign was not seen.
    fn clearance_for(&self, rule: &DangerRule, h: &Hypothesis) -> Option<Clearance> {
        match () {
            () if !rule.never.is_empty() && self.came_out(&rule.never, h) => Some(Clearance::No),
            () if rule.when.is_empty() || self.came_out(&rule.when, h) => Some(rule.drive),
            () => None,
        }
    }

    /// What a fault asks for because its own sign was seen, whatever the cause of a symptom is.
    fn seen(&self, rule: &DangerRule, h: &Hypothesis) -> Option<Clearance> {
        match () {
            () if self.came_out(&rule.never, h) => Some(Clearance::No),
            () if self.came_out(&rule.when, h) || self.came_out(&rule.seen, h) => Some(rule.drive),
            () => None,
        }
    }
}

/// Whether something was seen that forbids driving.
pub(super) fn is_seen(case: &Case, k: &Knowledge, all: &[Hypothesis]) -> bool {
    let rule = |h: &Hypothesis| k.fault(&h.fault).and_then(|f| f.danger.as_ref()).filter(|_| !h.is_pair());
    let latest = LatestAnswers::new(case);
    all.iter().any(|h| rule(h).is_some_and(|r| latest.seen(r, h) == Some(Clearance::No)))
}

/// The road speed at which a section reaches its share of the bending speed, km/h.
fn critical_kmh(case: &Case, h: &Hypothesis) -> Option<f64> {
    let (v, p) = (&case.vehicle, h.place.as_ref()?);
    let prop = p.end.and_then(|e| v.prop(e))?;
    let section = prop.sections.get(p.number?.checked_sub(1)?)?.clone();
    let c = critical_speed(&CriticalSpeedInput { section, max_rpm: None, limits: v.limits.clone() }).ok()?;
    Some(c.limit_rpm.get() / 60.0 / v.final_ratio(prop.end)? * v.circumference().ok()?.get() * 3.6)
}

/// Which hypotheses forbid driving, if they are the cause: a pair does when a member of it does.
pub(super) fn forbids_driving(case: &Case, k: &Knowledge, all: &[Hypothesis]) -> Vec<bool> {
    let latest = LatestAnswers::new(case);
    let alone = |h: &Hypothesis| {
        let rule = k.fault(&h.fault).and_then(|f| f.danger.as_ref());
        rule.is_some_and(|r| latest.clearance_for(r, h) == Some(Clearance::No))
    };
    all.iter().map(|h| h.pair.map_or_else(|| alone(h), |members| members.iter().any(|m| alone(&all[*m])))).collect()
}

/// The statement on driving that a symptom's suspects propose; none where they hold too little.
pub(super) fn danger(case: &Case, k: &Knowledge, w: &Weighed) -> Option<Danger> {
    let rule = |i: usize| k.fault(&w.all[i].fault).and_then(|f| f.danger.as_ref()).filter(|_| !w.all[i].is_pair());
    let latest = LatestAnswers::new(case);
    let suspects = |drive: Clearance| -> Vec<usize> {
        (0..w.all.len()).filter(|&i| rule(i).is_some_and(|r| latest.clearance_for(r, &w.all[i]) == Some(drive))).collect()
    };
    // A pair counts once when a member of it is named.
    let together = |of: &[usize]| -> f64 {
        (0..w.all.len())
            .filter(|i| w.all[*i].pair.map_or(of.contains(i), |m| m.iter().any(|j| of.contains(j))))
            .map(|i| w.p[i])
            .sum()
    };
    for drive in [Clearance::No, Clearance::Limited] {
        let mut all = suspects(drive);
        let comes_off: Vec<usize> = all.iter().copied().filter(|&i| rule(i).is_some_and(|r| r.part_can_come_off)).collect();
        let was_seen: Vec<usize> =
            (0..w.all.len()).filter(|&i| rule(i).is_some_and(|r| latest.seen(r, &w.all[i]) == Some(drive))).collect();
        let p = if was_seen.is_empty() { together(&all) } else { f64::max(together(&all), SEEN_MIN_PROBABILITY) };
        let proposed =
            !was_seen.is_empty() || p >= k.weights.danger.suspects || together(&comes_off) >= k.weights.danger.can_come_off;
        if !proposed {
            continue;
        }
        all.retain(|i| w.p[*i] >= 0.01 && !was_seen.contains(i));
        all.sort_by(|&a, &b| w.p[b].total_cmp(&w.p[a]));
        // What was seen comes first.
        all.splice(0..0, was_seen.iter().copied());
        let first = all.first().map(|&i| &w.all[i])?;
        let least = |of: &dyn Fn(usize) -> Option<f64>| all.iter().filter_map(|&i| of(i)).reduce(f64::min);
        let (km, kmh) = match drive {
            Clearance::No => (None, None),
            _ => (
                least(&|i| rule(i)?.km),
                least(&|i| rule(i).and_then(|r| if r.critical { critical_kmh(case, &w.all[i]) } else { r.kmh })),
            ),
        };
        let name = k.fault(&first.fault).map_or(first.fault.as_str(), |f| f.name.as_str());
        let how_sure = if was_seen.is_empty() { format!("{:.0} %", 100.0 * p) } else { "seen".into() };
        let why = format!("{name}, {}: {how_sure}", case.vehicle.place_words(&first.at));
        let faults = all.iter().map(|&i| FaultAt::new(&w.all[i].fault, &w.all[i].at)).collect();
        return Some(Danger { drive, km, kmh: kmh.map(f64::floor), why, p, faults });
    }
    None
}
