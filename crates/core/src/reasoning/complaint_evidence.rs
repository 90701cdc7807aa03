//! The complaint as evidence: what the driver calls it, where it is heard and felt, at which speeds, cold or warm.
//! Each is a distribution: what a driver says of a fault sums to 1 over all that could be said.

use super::evidence::Evidence;
use super::hypotheses::Hypothesis;
use super::knowledge::{FELT, Fault, Heat, Knowledge, SpeedShape, ZONES, Zone, kinds_meant};
use crate::case::{Case, SpeedRange, Symptom};
use crate::vehicle::{Corner, End, PlaceKind, Vehicle};

/// The test of evidence that is the complaint itself.
pub(super) const SYMPTOM: &str = "symptom";

/// P(it is there cold, there warm) of what needs the one, and of what does not care.
const NEEDED_HEAT_PROBABILITY: f64 = 0.55;
const OTHER_HEAT_PROBABILITY: f64 = 0.03;
const ANY_HEAT_PROBABILITY: f64 = 0.12;

/// The zone of a place: where a fault there is heard and felt.
fn zone_key(v: &Vehicle, f: &Fault, h: &Hypothesis) -> &'static str {
    use PlaceKind as K;
    let Some(p) = &h.place else { return "flat" };
    match p.kind {
        _ if f.zone.as_deref() == Some("flat") => "flat",
        K::Hub | K::Wheel | K::Strut => "corner",
        K::Brake => "brake",
        K::Half | K::HalfInner | K::HalfOuter | K::HalfBearing => "half",
        K::Diff if p.end.is_some_and(|e| v.final_drive_in_gearbox(e)) => "transaxle",
        K::Diff => "final-drive",
        K::Prop | K::Section | K::Joint | K::Support | K::Slip if p.end == Some(End::Front) => "front-shaft",
        K::Prop | K::Section | K::Joint | K::Support | K::Slip => "shaft",
        K::Gearbox if v.gearbox.transaxle => "transaxle",
        K::Gearbox => "gearbox",
        K::Transfer if v.transfer.is_none() => "transaxle",
        K::Transfer => "transfer",
        K::Coupler => "coupler",
        K::Engine => "engine",
        K::Clutch => "clutch",
        K::Exhaust => "exhaust",
        K::Body => "flat",
        K::Mount => match p.id.as_str() {
            "mount.engine" => "engine",
            "mount.diff" => "final-drive",
            _ if v.gearbox.transaxle => "transaxle",
            _ => "gearbox",
        },
    }
}

/// The end of the vehicle at which a hypothesis is heard.
fn end_of(v: &Vehicle, h: &Hypothesis) -> Option<End> {
    let p = h.place.as_ref()?;
    p.end.or(match p.kind {
        PlaceKind::Engine | PlaceKind::Clutch => Some(v.engine_end()),
        PlaceKind::Gearbox | PlaceKind::Transfer => v.transaxle_end(),
        PlaceKind::Mount if p.id == "mount.engine" => Some(v.engine_end()),
        PlaceKind::Mount if p.id == "mount.diff" => v.axles.iter().find(|a| a.driven).map(|a| a.end),
        PlaceKind::Mount => v.transaxle_end(),
        _ => None,
    })
}

/// P(heard from each of [`ZONES`]). Sums to 1.
fn heard(z: &Zone, corner: Option<Corner>, end: Option<End>, floor: f64) -> Vec<f64> {
    let of = |zone: &str| -> Option<f64> {
        let named = |key: &str| z.heard.get(key).copied();
        let c = Corner::parse(zone);
        match (c, corner) {
            (Some(c), Some(own)) if c == own => return named("own"),
            (Some(c), Some(own)) if c.end() == own.end() => return named("opposite"),
            _ => {}
        }
        let of_end = [End::Front, End::Rear].into_iter().find(|e| e.id() == zone);
        let by_end = match (of_end, end) {
            (Some(a), Some(b)) if a == b => named("end"),
            (Some(_), Some(_)) => named("other-end"),
            _ => None,
        };
        by_end.or_else(|| named(zone))
    };
    let given: Vec<Option<f64>> = ZONES.iter().map(|z| of(z)).collect();
    let said: f64 = given.iter().flatten().sum();
    let left = given.iter().filter(|g| g.is_none()).count().max(1) as f64;
    let rest = ((1.0 - said).max(0.0) / left).max(floor);
    let mut p: Vec<f64> = given.iter().map(|g| g.unwrap_or(rest).max(floor)).collect();
    let sum: f64 = p.iter().sum();
    p.iter_mut().for_each(|x| *x /= sum);
    p
}

fn of_symptom(words: String, likelihood: Vec<f64>) -> Evidence {
    Evidence { words, test: SYMPTOM.into(), at: None, likelihood }
}

/// The symptom itself: its kind, where it is heard and felt, at which speed, cold or warm.
pub(super) fn symptom(case: &Case, k: &Knowledge, all: &[Hypothesis], prior: &[f64], id: &str) -> Vec<Evidence> {
    let Some(s) = case.symptom(id) else { return vec![] };
    let v = &case.vehicle;
    let mut out = vec![kind(k, all, prior, s)];
    out.extend(felt(v, k, all, s));
    out.extend(heard_from(v, k, all, s));
    out.extend(s.speed_kmh.into_iter().flat_map(|r| speed(k, all, r)));
    out.extend(temperature(k, all, s));
    out
}

/// The likelihoods of single faults, completed for pairs (the mean of both) and the unknown cause.
fn for_all(all: &[Hypothesis], unknown: f64, single: impl Fn(&Hypothesis) -> f64) -> Vec<f64> {
    let mut l: Vec<f64> = vec![0.0; all.len()];
    for (i, h) in all.iter().enumerate() {
        l[i] = match h.pair {
            Some([a, b]) => 0.5 * (l[a] + l[b]),
            None if h.is_unknown() => unknown,
            None => single(h),
        };
    }
    l
}

fn kind(k: &Knowledge, all: &[Hypothesis], prior: &[f64], s: &Symptom) -> Evidence {
    let meant = kinds_meant(&s.kind);
    // A leak found while something else is traced is a finding of its own: it never competes as a cause.
    let single = |h: &Hypothesis| match k.fault(&h.fault) {
        Some(f) if f.is_leak_only() && s.kind != "leak" => 0.0,
        _ if meant.is_empty() => 1.0,
        _ => meant.iter().map(|kind| k.kind_probability(&h.fault, &h.kind, kind)).sum(),
    };
    let mut l = for_all(all, 0.0, single);
    // The unknown keeps its share of all once the kind is counted: what is called so is called so by chance.
    let (sum, weight) = l.iter().zip(prior).filter(|(l, _)| **l > 0.0).fold((0.0, 0.0), |a, (l, p)| (a.0 + l * p, a.1 + p));
    let known: f64 = prior.iter().zip(all).filter(|(_, h)| !h.is_unknown()).map(|(p, _)| p).sum();
    if let Some(last) = l.last_mut() {
        *last = if weight > 0.0 { sum / known.max(1e-12) } else { 1.0 };
    }
    of_symptom(format!("it is a {}", s.kind.replace('-', " ")), l)
}

fn zone_of<'a>(v: &Vehicle, k: &'a Knowledge, h: &Hypothesis) -> Option<&'a Zone> {
    k.zone(zone_key(v, k.fault(&h.fault)?, h))
}

/// P(felt there): of a hypothesis, or of what is nowhere.
pub(super) fn felt_at(v: &Vehicle, k: &Knowledge, h: Option<&Hypothesis>, place: &str) -> f64 {
    let of = |h: &Hypothesis| {
        let z = zone_of(v, k, h)?;
        let list = if end_of(v, h) == Some(End::Rear) { &z.rear } else { &z.front };
        list.get(place).copied()
    };
    let anywhere = || k.zone("anywhere").and_then(|z| z.felt.get(place).copied());
    h.and_then(of).or_else(anywhere).unwrap_or(0.3)
}

/// P(heard from each of [`ZONES`]) of a hypothesis; none where its place says nothing of it.
pub(super) fn heard_of(v: &Vehicle, k: &Knowledge, h: &Hypothesis) -> Option<Vec<f64>> {
    let z = zone_of(v, k, h).filter(|z| !z.heard.is_empty())?;
    let corner = h.place.as_ref().and_then(|p| p.corner);
    Some(heard(z, corner, end_of(v, h), k.weights.zones.floor))
}

fn felt(v: &Vehicle, k: &Knowledge, all: &[Hypothesis], s: &Symptom) -> Option<Evidence> {
    if s.felt.is_empty() {
        return None;
    }
    let w = &k.weights.exponent;
    let at = |h: Option<&Hypothesis>, place: &str| felt_at(v, k, h, place);
    let fits = |h: Option<&Hypothesis>| -> f64 {
        let of = |place: &&str| match s.felt.iter().any(|f| f == place) {
            true => at(h, place),
            false => (1.0 - at(h, place)).powf(w.not_felt),
        };
        FELT.iter().map(of).product::<f64>()
    };
    let words: Vec<String> = s.felt.iter().map(|f| f.replace('-', " ")).collect();
    Some(of_symptom(format!("felt in the {}", words.join(", ")), for_all(all, fits(None), |h| fits(Some(h)))))
}

fn heard_from(v: &Vehicle, k: &Knowledge, all: &[Hypothesis], s: &Symptom) -> Option<Evidence> {
    let from = s.heard_from.as_deref()?;
    let zone = ZONES.iter().position(|z| *z == from)?;
    let w = &k.weights;
    let exponent = if matches!(s.kind.as_str(), "vibration" | "shudder") { w.exponent.heard_vibration } else { 1.0 };
    let flat = 1.0 / ZONES.len() as f64;
    let fits = |h: &Hypothesis| heard_of(v, k, h).map_or(flat, |p| p[zone]).powf(exponent);
    let place = Corner::parse(from).map_or(from, |c| c.words());
    Some(of_symptom(format!("heard from the {place}"), for_all(all, flat.powf(exponent), fits)))
}

fn speed(k: &Knowledge, all: &[Hypothesis], r: SpeedRange) -> Vec<Evidence> {
    let w = &k.weights;
    let shape = |h: &Hypothesis| h.behaviour.as_ref().map_or(SpeedShape::Any, |b| b.speed);
    let of_class = |class: usize| {
        let p = |s: SpeedShape| w.speed.of_shape(s)[class].powf(w.exponent.speed);
        for_all(all, p(SpeedShape::Any), |h| p(shape(h)))
    };
    let worst = r.peak.or(match (r.from, r.to) {
        (Some(a), Some(b)) => Some(0.5 * (a + b)),
        (a, b) => a.or(b),
    });
    let mut out = vec![];
    if let Some(v) = worst {
        out.push(of_symptom(format!("it is worst at {v:.0} km/h"), of_class(w.speed.class(v))));
    }
    // What is there from walking pace on is not what comes with speed.
    let slow = r.from.filter(|a| *a < 0.6 * w.speed.slow_to && worst.is_some_and(|v| w.speed.class(v) > 0));
    if let Some(a) = slow {
        out.push(of_symptom(format!("it is there from {a:.0} km/h on"), of_class(0)));
    }
    // And what begins fast is not what is there slowly.
    let fast = r.from.filter(|a| w.speed.class(*a) == 2 && worst.is_none_or(|v| w.speed.class(v) < 2));
    if let Some(a) = fast {
        out.push(of_symptom(format!("it begins at {a:.0} km/h"), of_class(2)));
    }
    out
}

fn temperature(k: &Knowledge, all: &[Hypothesis], s: &Symptom) -> Option<Evidence> {
    let (said, words) = match s.condition.get("temperature")?.as_str() {
        "cold" => (Heat::Cold, "it comes cold"),
        "warm" => (Heat::Warm, "it comes once it is warm"),
        _ => return None,
    };
    let fits = |heat: Option<Heat>| -> f64 {
        let p: f64 = match heat {
            Some(h) if h == said => NEEDED_HEAT_PROBABILITY,
            Some(_) => OTHER_HEAT_PROBABILITY,
            None => ANY_HEAT_PROBABILITY,
        };
        p.powf(k.weights.exponent.driver)
    };
    Some(of_symptom(words.into(), for_all(all, fits(None), |h| fits(h.behaviour.as_ref().and_then(|b| b.heat)))))
}

#[cfg(test)]
mod tests {
    use super::super::hypotheses;
    use super::super::knowledge::builtin;
    use super::*;
    use crate::vehicle::sample::*;

    #[test]
    fn where_a_fault_is_heard_sums_to_one_on_every_layout() {
        let k = builtin();
        for v in every_layout() {
            for h in hypotheses(&v, k).iter().filter(|h| !h.is_unknown()) {
                let Some(z) = zone_of(&v, k, h).filter(|z| !z.heard.is_empty()) else { continue };
                let p = heard(z, h.place.as_ref().and_then(|p| p.corner), end_of(&v, h), k.weights.zones.floor);
                assert!((p.iter().sum::<f64>() - 1.0).abs() < 1e-9 && p.iter().all(|x| *x > 0.025), "{}@{} {p:?}", h.fault, h.at);
            }
        }
    }

    #[test]
    fn a_corner_is_heard_at_its_corner_and_its_end() {
        let z = builtin().zone("corner").unwrap();
        let p = heard(z, Some(Corner::Fl), Some(End::Front), 0.03);
        let at = |zone: &str| p[ZONES.iter().position(|z| *z == zone).unwrap()];
        assert!(at("fl") > at("front") && at("front") > 5.0 * at("fr") && at("fr") > at("rear"));
    }

    #[test]
    fn a_roar_from_walking_pace_on_is_no_wheel_balance() {
        let k = builtin();
        let v = rear_drive(1);
        let all = hypotheses(&v, k);
        let e = speed(k, &all, SpeedRange { from: Some(5.0), peak: Some(95.0), to: None });
        let l = |fault: &str| {
            let i = all.iter().position(|h| h.fault == fault).unwrap();
            e.iter().map(|e| e.likelihood[i]).product::<f64>()
        };
        assert_eq!(e.len(), 2);
        assert!(l("wheel-bearing-worn") > 1.5 * l("wheel-imbalance"));
    }
}
