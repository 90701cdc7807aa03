//! Evidence: what was observed, measured, recorded or repaired, as a likelihood for every hypothesis.

use super::hypotheses::{Hypothesis, predicted};
use super::knowledge::{Bears, Knowledge, OfAll, OutcomeRule, SOUND_PICK, Test};
use crate::analysis::{Analysis, RecordingAnalysis};
use crate::case::{Case, Measurement, Observation};
use crate::orders::{Base, OrderLine, orders};
use crate::problem::Warning;
use crate::vehicle::{Corner, Place, PlaceKind, Vehicle};

/// One piece of evidence: in words, and how likely it is under each hypothesis.
pub struct Evidence {
    /// In the mechanic's words.
    pub words: String,
    /// The test it came from.
    pub test: String,
    /// Where.
    pub at: Option<String>,
    /// One likelihood a hypothesis, in their order.
    pub likelihood: Vec<f64>,
    /// Tests that lean on the same fact.
    pub group: Option<String>,
}

/// Probability of each outcome of a test under a fault, where the fault says something of it, or the test of all at its
/// place. `@loaded` and `@unloaded` are resolved by the side of the place.
fn spoken(k: &Knowledge, t: &Test, h: &Hypothesis, bears: bool) -> Option<Vec<f64>> {
    let f = k.fault(&h.fault)?;
    // What the test says of all stands back where the fault has its own.
    let of_all = |s: &&OfAll| (bears || s.anywhere) && s.bits & h.kinds != 0 && s.is_of(f);
    let own = if bears { f.marks(&t.id, &h.kind) } else { None };
    let marks = own.or_else(|| t.says.iter().find(of_all).map(|s| &s.marks))?;
    let left = h.place.as_ref().and_then(|p| p.corner).map(Corner::is_left);
    let mut given: Vec<Option<f64>> = vec![None; t.outcomes.len()];
    for (name, mark) in marks {
        let outcome = match (name.as_str(), left) {
            ("@loaded", Some(true)) | ("@unloaded", Some(false)) => "right",
            ("@loaded", Some(false)) | ("@unloaded", Some(true)) => "left",
            ("@loaded" | "@unloaded", None) => continue,
            (n, _) => n,
        };
        if let Some(i) = t.outcomes.iter().position(|o| o.id == outcome) {
            given[i] = k.probability(mark);
        }
    }
    let said: f64 = given.iter().flatten().sum();
    let rest: f64 = t.outcomes.iter().zip(&given).filter(|(_, g)| g.is_none()).map(|(o, _)| o.base).sum();
    Some(
        t.outcomes
            .iter()
            .zip(&given)
            .map(|(o, g)| g.unwrap_or_else(|| if rest > 0.0 { (1.0 - said).max(0.0) * o.base / rest } else { 0.0 }).max(0.002))
            .collect(),
    )
}

/// Whether a test made at a place says something of a hypothesis' place.
fn concerns(bears: Bears, v: &Vehicle, at: Option<&Place>, h: &Hypothesis) -> bool {
    let Some(at) = at else { return true };
    let Some(p) = &h.place else { return false };
    match bears {
        Bears::Vehicle => true,
        Bears::Place => {
            at.id == p.id
                || at.kind == PlaceKind::Gearbox && p.kind == PlaceKind::Gearbox
                || at.kind == PlaceKind::HalfInner && p.kind == PlaceKind::HalfInner && at.corner == p.corner
        }
        Bears::Unit => match at.kind {
            _ if at.is_of_shaft() => p.is_of_shaft() && p.end == at.end,
            PlaceKind::Diff => p.end == at.end && !p.is_of_shaft(),
            PlaceKind::Gearbox => matches!(p.kind, PlaceKind::Gearbox | PlaceKind::Clutch) || p.id == "mount.gearbox",
            _ => at.kind == p.kind || at.corner.is_some() && at.corner == p.corner,
        },
        Bears::Corner => at.corner.is_some() && at.corner == p.corner,
        Bears::Axle => at.end.is_some() && p.end == at.end && p.is_of_axle_drive() || p.kind == PlaceKind::Transfer,
        Bears::Shaft => {
            let one_section = p.end.and_then(|e| v.prop(e)).is_some_and(|q| q.sections.len() == 1);
            let same = at.end == p.end && (p.is_of_shaft() || p.kind == PlaceKind::Diff);
            // Turned at a section's flange: the whole shaft turns with it when it is one piece.
            same && (one_section || at.kind != PlaceKind::Section || p.kind != PlaceKind::Section || at.id == p.id)
        }
    }
}

/// Whether the loudest station, or the wheel it went with, is this hypothesis' own.
fn is_located(at: &Place, h: &Hypothesis) -> bool {
    h.place.as_ref().is_some_and(|p| {
        at.id == p.id
            || at.same_assembly(p) && !(at.kind == PlaceKind::Wheel || p.kind == PlaceKind::Wheel)
            || at.kind == PlaceKind::Gearbox && p.kind == PlaceKind::Clutch
            || at.kind == PlaceKind::Diff && p.kind == PlaceKind::HalfInner && at.end == p.end
    })
}

/// Likelihoods of each outcome of a test at a place, for all hypotheses. Stations: how many places the test could have
/// named.
pub(super) fn likelihoods(
    v: &Vehicle,
    k: &Knowledge,
    all: &[Hypothesis],
    t: &Test,
    at: Option<&Place>,
    gear: Option<&str>,
) -> Vec<Vec<f64>> {
    let of_gear = |h: &Hypothesis| h.gear.is_none() || gear.is_none() || h.gear.as_deref() == gear;
    let said: Vec<Option<Vec<f64>>> =
        all.iter().map(|h| of_gear(h).then(|| spoken(k, t, h, concerns(t.bears, v, at, h))).flatten()).collect();
    let stations = if t.locates.is_some() && at.is_some() { stations(v, t).len().max(2) as f64 } else { 2.0 };
    let outcome = |(i, o): (usize, &OutcomeRule)| {
        // An outcome that says "nothing" names no place.
        let named = at.zip(t.locates).filter(|_| !matches!(o.id.as_str(), "not-heard" | "same" | "none"));
        let of = |(h, said): (&Hypothesis, &Option<Vec<f64>>)| {
            let p = said.as_ref().map(|s| s[i]);
            let Some((a, hit)) = named else { return p.unwrap_or(o.base) };
            match (p, is_located(a, h)) {
                (None, false) => o.base / stations,
                (p, true) => p.unwrap_or(o.base) * hit,
                (Some(p), false) => p * (1.0 - hit) / (stations - 1.0),
            }
        };
        all.iter().zip(&said).map(of).collect()
    };
    t.outcomes.iter().enumerate().map(outcome).collect()
}

/// Likelihoods of one of them.
pub(super) fn outcome_likelihood(
    v: &Vehicle,
    k: &Knowledge,
    all: &[Hypothesis],
    t: &Test,
    outcome: usize,
    at: Option<&Place>,
    gear: Option<&str>,
) -> Vec<f64> {
    likelihoods(v, k, all, t, at, gear).swap_remove(outcome)
}

/// The places where a test can be made on this vehicle.
pub(super) fn stations(v: &Vehicle, t: &Test) -> Vec<Place> {
    v.places()
        .into_iter()
        .filter(|p| {
            t.at.iter().any(|kind| {
                let hub = kind == "hub" && p.kind == PlaceKind::Hub;
                hub || super::hypotheses::is_kind(v, p, kind)
            })
        })
        .collect()
}

/// Observations of a symptom: the latest of a test at a place counts.
pub(super) fn observations(
    case: &Case,
    k: &Knowledge,
    all: &[Hypothesis],
    symptom: &str,
    warnings: &mut Vec<Warning>,
) -> Vec<Evidence> {
    let v = &case.vehicle;
    let key = |o: &Observation| (o.test.clone(), o.at.clone(), o.gear.clone());
    let of_this: Vec<&Observation> = case.observations.iter().filter(|o| Case::concerns(o.symptom.as_deref(), symptom)).collect();
    let mut out = vec![];
    for (i, o) in of_this.iter().enumerate() {
        if let Some(later) = of_this[i + 1..].iter().find(|l| key(l) == key(o)) {
            if later.outcome != o.outcome {
                warnings.push(
                    Warning::new("contradiction", contradiction_words(v, k, o, later)).at(o.at.clone().unwrap_or_default()),
                );
            }
            continue;
        }
        if o.test == SOUND_PICK {
            match picked(k, all, &o.outcome) {
                Some(e) => out.push(e),
                None => warnings
                    .push(Warning::new("unknown-outcome", format!("{SOUND_PICK} names no fault “{}”: not weighed", o.outcome))),
            }
            continue;
        }
        let Some(t) = k.test(&o.test) else {
            warnings.push(Warning::new("unknown-test", format!("test “{}” is not understood and not weighed", o.test)));
            continue;
        };
        let Some(outcome) = t.outcomes.iter().position(|x| x.id == o.outcome) else {
            warnings.push(Warning::new("unknown-outcome", format!("{} has no outcome “{}”: not weighed", o.test, o.outcome)));
            continue;
        };
        let at = match o.at.as_deref() {
            None => None,
            Some(id) => match v.place(id) {
                Some(p) => Some(p),
                None => {
                    warnings.push(
                        Warning::new("unknown-place", format!("this vehicle has no place “{id}”: {} is not weighed", o.test))
                            .at(id),
                    );
                    continue;
                }
            },
        };
        let gear = o.gear.clone().or_else(|| o.at.as_deref().and_then(|a| a.strip_prefix("gearbox.")).map(String::from));
        out.push(Evidence {
            words: words(v, t, outcome, o.at.as_deref()),
            test: t.id.clone(),
            at: o.at.clone(),
            likelihood: outcome_likelihood(v, k, all, t, outcome, at.as_ref(), gear.as_deref())
                .into_iter()
                .map(|l| l.powf(k.weights.prior.each))
                .collect(),
            group: t.group.clone(),
        });
    }
    out
}

/// The driver picked the sound of a fault: weak evidence for it wherever it is.
fn picked(k: &Knowledge, all: &[Hypothesis], fault: &str) -> Option<Evidence> {
    let w = &k.weights.pick;
    let name = &k.fault(fault)?.name;
    Some(Evidence {
        words: format!("The driver says it sounds like: {name} (a memory, weak)"),
        test: SOUND_PICK.into(),
        at: None,
        likelihood: all.iter().map(|h| if h.fault == fault { w.right } else { w.wrong }).collect(),
        group: None,
    })
}

fn words(v: &Vehicle, t: &Test, outcome: usize, at: Option<&str>) -> String {
    let o = &t.outcomes[outcome].words;
    match at.map(|a| v.place_words(a)) {
        // "Look at the support bearing: firm" says where by itself.
        Some(place) if !t.ask.contains(&place) => format!("{}: {o} at {place}", t.ask),
        _ => format!("{}: {o}", t.ask),
    }
}

/// A test that was made twice and came out otherwise, in words.
fn contradiction_words(v: &Vehicle, k: &Knowledge, first: &Observation, later: &Observation) -> String {
    let t = k.test(&first.test);
    let came = |o: &Observation| t.and_then(|t| t.outcome(&o.outcome)).map_or(o.outcome.clone(), |x| x.words.clone());
    let ask = t.map_or(first.test.as_str(), |t| t.ask.as_str());
    let place = first.at.as_deref().map(|a| v.place_words(a)).filter(|p| !ask.contains(p.as_str()));
    let at = place.map_or(String::new(), |p| format!(", {p}"));
    format!("{ask}{at}: “{}”, later “{}”; the later counts", came(first), came(later))
}

/// Measurements, through how far they are from their limit with the instrument's uncertainty.
pub(super) fn measurements(
    case: &Case,
    k: &Knowledge,
    all: &[Hypothesis],
    symptom: &str,
    warnings: &mut Vec<Warning>,
) -> Vec<Evidence> {
    let mut out = vec![];
    let of_this: Vec<&Measurement> = case.measurements.iter().filter(|m| Case::concerns(m.symptom.as_deref(), symptom)).collect();
    for (i, m) in of_this.iter().enumerate() {
        if of_this[i + 1..].iter().any(|l| l.kind == m.kind && l.at == m.at) {
            continue;
        }
        match measured(case, k, all, m) {
            Ok(Some(e)) => out.push(e),
            Ok(None) => {}
            Err(p) => warnings.push(Warning::new(&p.code, format!("{} measurement not weighed: {}", m.kind, p.message))),
        }
    }
    out
}

/// How surely a value is over a limit, for an instrument's standard error.
fn surely_over(value: f64, limit: f64, sigma: f64) -> f64 {
    let z = (value - limit) / sigma.max(1e-9);
    // The normal distribution function, by the logistic that follows it within a hundredth.
    (1.0 / (1.0 + (-1.702 * z).exp())).clamp(0.01, 0.99)
}

fn measured(
    case: &Case,
    k: &Knowledge,
    all: &[Hypothesis],
    m: &Measurement,
) -> Result<Option<Evidence>, crate::problem::Problem> {
    let v = &case.vehicle;
    let (test, over, gross, value_words, at) = match m.kind.as_str() {
        "angles" => {
            let at = case.measurement_place(m)?;
            let mut input: crate::angles::AnglesInput = crate::problem::read_json(&m.input)?;
            if input.limits == Default::default() {
                input.limits = v.limits.clone();
            }
            let a = crate::angles::angles(&input)?;
            let limit = input.limits.torsional_rads2.unwrap_or(crate::angles::TORSIONAL_RADS2);
            let section = input.limits.section_rads2.unwrap_or(crate::angles::SECTION_RADS2);
            // 0.15° on joints of a few degrees moves these accelerations by about a tenth.
            let torsional = surely_over(a.torsional_rads2.get(), limit, 0.12 * limit + 0.05 * a.torsional_rads2.get());
            let sections = a
                .sections_rads2
                .iter()
                .map(|s| surely_over(s.get(), section, 0.12 * section + 0.05 * s.get()))
                .fold(0.0, f64::max);
            let p: f64 = torsional.max(sections);
            let words = format!("angles: pinion shaken by {:.0} of {limit:.0} rad/s²", a.torsional_rads2.get());
            let worst = a.sections_rads2.iter().map(|s| s.get() / section).fold(a.torsional_rads2.get() / limit, f64::max);
            ("angle-survey", p, worst, words, at)
        }
        "runout" => {
            let at = case.measurement_place(m)?;
            let mut input: crate::runout::RunoutInput = crate::problem::read_json(&m.input)?;
            let limit = input.limit_mm.or_else(|| crate::runout::limit_at(&v.limits, &at).map(|l| l.get()));
            let Some(limit) = limit else { return Ok(None) };
            input.limit_mm = None;
            let r = crate::runout::runout(&input)?;
            let test = if at.starts_with("half.") { "half-shaft-runout" } else { "runout-survey" };
            let p = surely_over(r.raw_tir_mm.get(), limit, 0.03);
            let words = format!("runout {:.2} of {limit:.2} mm at {}", r.raw_tir_mm.get(), v.place_words(&at));
            (test, p, r.raw_tir_mm.get() / limit, words, at)
        }
        _ => return Ok(None),
    };
    let Some(t) = k.test(test) else { return Ok(None) };
    let place = v.place(&at);
    let index = |id: &str| t.outcomes.iter().position(|o| o.id == id);
    let (Some(o), Some(w)) = (index("over"), index("within")) else { return Ok(None) };
    let likely = |i| outcome_likelihood(v, k, all, t, i, place.as_ref(), None);
    // A little over the limit is common on sound vehicles; a lot over is not: the less so, the further.
    let base = t.outcomes[o].base;
    let rarer = (1.0 / gross.max(1.0)).max(k.weights.measured.least);
    let of_over = |a: f64| if (a - base).abs() < 1e-12 { a * rarer } else { a };
    let likelihood = likely(o).iter().zip(likely(w)).map(|(a, b)| over * of_over(*a) + (1.0 - over) * b).collect();
    Ok(Some(Evidence { words: value_words, test: test.into(), at: Some(at), likelihood, group: None }))
}

/// Repairs with a result.
pub(super) fn repairs(case: &Case, k: &Knowledge, all: &[Hypothesis], symptom: &str) -> Vec<Evidence> {
    let w = &k.weights.repair;
    let mut out = vec![];
    for r in case.repairs.iter().filter(|r| Case::concerns(r.symptom.as_deref(), symptom)) {
        let repaired = |h: &Hypothesis| {
            h.fault == r.fault
                && r.at.as_deref().is_none_or(|a| a == h.at)
                && r.gear.as_deref().is_none_or(|g| h.gear.as_deref() == Some(g))
        };
        // A part swapped at its place cures whatever that part had.
        let related = |h: &Hypothesis| {
            let same_place = r.at.as_deref().is_some_and(|a| a == h.at);
            same_place
                && k.fault(&h.fault).is_some_and(|f| {
                    f.at.iter().any(|a| matches!(a.as_str(), "cross-joint" | "support" | "half-inner" | "half-outer"))
                })
        };
        let weak = matches!(r.part.as_deref(), Some("used" | "copy"));
        let others = !r.other_changes.is_empty();
        let (left, right) = match r.result.as_deref() {
            Some("not-cured") => {
                let left = if weak { w.not_cured_weak_part } else { w.not_cured };
                (if others { left.max(w.not_cured_with_others) } else { left }, 1.0)
            }
            Some("improved") => (w.improved, 1.0),
            Some("cured") if others => continue,
            Some("cured") => (1.0, w.cured_others),
            _ => continue,
        };
        let what = k.fault(&r.fault).map_or(r.fault.clone(), |f| f.name.clone());
        let place = r.at.as_deref().map(|a| format!(" at {}", case.vehicle.place_words(a))).unwrap_or_default();
        out.push(Evidence {
            words: format!("{what}{place} repaired: {}", r.result.as_deref().unwrap_or("").replace('-', " ")),
            test: "repair".into(),
            at: r.at.clone(),
            likelihood: all
                .iter()
                .map(|h| {
                    if repaired(h) {
                        left
                    } else if related(h) {
                        left.max(0.3).min(right)
                    } else {
                        right
                    }
                })
                .collect(),
            group: None,
        });
    }
    out
}

/// One line or rhythm of a recording, with its share of all.
struct Share {
    wheel_order: f64,
    base: Base,
    order: f64,
    tol: f64,
    share: f64,
    growth: Option<f64>,
}

/// What of a recording bears on a kind of symptom: rhythms for growls and clicks, lines for the rest.
fn shares(r: &RecordingAnalysis, kind: &str, peak: Option<f64>) -> Vec<Share> {
    let rhythmic = matches!(kind, "growl" | "click-repeating" | "knock" | "grind" | "rattle");
    let mut out: Vec<Share> = vec![];
    if rhythmic && !r.pulses.is_empty() {
        for p in &r.pulses {
            out.push(Share {
                wheel_order: p.per_wheel_turn,
                base: Base::Wheel,
                order: p.per_wheel_turn,
                tol: (0.015 * p.per_wheel_turn).max(0.04),
                share: 10f64.powf(p.strength / 10.0) - 1.0,
                growth: None,
            });
        }
    } else {
        for o in &r.orders {
            let Some(w) = o.wheel_order(r.engine_per_wheel) else { continue };
            // People feel low frequencies more, but what rings in the floor is heard as well.
            let weight = crate::signal::wk(crate::units::Hz(o.peak_hz)).max(0.05);
            let heard = if o.amplitude_ms2.is_some() { weight.powf(0.25) } else { 1.0 };
            let away = peak.map_or(0.0, |p| (o.peak_speed_kmh - p).abs());
            let inside = 0.4 + 0.6 * (-(away / 18.0).powi(2)).exp();
            out.push(Share {
                wheel_order: w,
                base: o.base,
                order: o.order,
                tol: crate::analysis::tolerance_of(w, o.order_sigma * w / o.order.max(1e-9)),
                share: (o.level().0 * heard * inside).powi(2),
                growth: o.growth,
            });
        }
    }
    let sum: f64 = out.iter().map(|s| s.share).sum();
    out.iter_mut().for_each(|s| s.share /= sum.max(1e-30));
    out
}

/// Recordings through physics: how much of what stands in them a hypothesis predicts.
pub(super) fn recordings(case: &Case, k: &Knowledge, all: &[Hypothesis], symptom: &str, a: &Analysis) -> Vec<Evidence> {
    let v = &case.vehicle;
    let w = &k.weights.recording;
    let Some(s) = case.symptom(symptom) else { return vec![] };
    let peak = s.speed_kmh.and_then(|r| r.peak);
    let specs: Vec<_> = case
        .recordings
        .iter()
        .filter(|r| Case::concerns(r.symptom.as_deref(), symptom) && !r.is_after() && case.is_weighed(r))
        .filter_map(|r| a.recording(&r.id).map(|f| (r, f)))
        .filter(|(_, f)| !(f.refused || f.orders.is_empty() && f.pulses.is_empty()))
        .collect();
    let mut out = vec![];
    let mut gears: Vec<Option<String>> = vec![];
    let loudest = |f: &RecordingAnalysis| f.orders.iter().map(|o| o.level().0).fold(0.0, f64::max);
    let top = specs.iter().map(|(_, f)| loudest(f)).fold(0.0, f64::max);
    for (spec, found) in &specs {
        // A second run in the same gear says the same again; a quiet run says little of the line.
        let repeat = gears.contains(&spec.gear);
        if repeat || (specs.len() > 1 && loudest(found) < 0.4 * top && found.pulses.is_empty()) {
            continue;
        }
        gears.push(spec.gear.clone());
        let Ok(ladder) = orders(v, spec.fixed_gear()).or_else(|_| orders(v, None)) else { continue };
        let shares = shares(found, &s.kind, peak);
        if shares.is_empty() {
            continue;
        }
        let likelihood = all
            .iter()
            .map(|h| {
                let lines = predicted(k, h, &ladder);
                if lines.is_empty() {
                    return w.silent;
                }
                let grows = k.fault(&h.fault).is_some_and(|f| f.lines.iter().any(|l| l.grows));
                let is_at = |x: &Share, l: &OrderLine| match (x.base, l.base) {
                    (Base::Engine, Base::Engine) => (l.order.get() - x.order).abs() <= x.tol,
                    (Base::Engine, Base::Wheel) => false,
                    _ => l
                        .wheel_order(found.engine_per_wheel.map(crate::units::Order))
                        .is_some_and(|o| (o.get() - x.wheel_order).abs() <= x.tol),
                };
                let share_at = |l: &OrderLine| shares.iter().filter(|x| is_at(x, l)).map(|x| x.share).sum::<f64>();
                // A line that belongs to the fault and is not there speaks against it.
                let whole: f64 =
                    lines.iter().filter(|p| p.needed > 0.0 && share_at(&p.line) < w.absent).map(|p| 1.0 - p.needed).product();
                let met: f64 = shares
                    .iter()
                    .filter_map(|x| {
                        let shape = match (grows, x.growth) {
                            (true, Some(g)) if !(0.5..=7.0).contains(&g) => 0.6,
                            _ => 1.0,
                        };
                        lines.iter().any(|p| is_at(x, &p.line)).then_some(x.share * shape * whole)
                    })
                    .sum();
                w.miss + (w.hit - w.miss) * met.min(1.0)
            })
            .collect();
        let first = shares.iter().max_by(|a, b| a.share.total_cmp(&b.share));
        let words = first.map_or(String::new(), |f| {
            let base = if f.base == Base::Engine { "an engine turn" } else { "a wheel turn" };
            format!("{} peaks at {:.2} times {base}", spec.words(), f.order)
        });
        out.push(Evidence { words, test: "speed-sweep".into(), at: None, likelihood, group: None });
    }
    out.extend(load_from_recordings(case, k, all, symptom, a));
    out
}

/// The same line pulling and coasting: an observation that the recordings make by themselves.
fn load_from_recordings(case: &Case, k: &Knowledge, all: &[Hypothesis], symptom: &str, a: &Analysis) -> Option<Evidence> {
    let t = k.test("drive-coast-float")?;
    let asked = case.observations.iter().any(|o| o.test == t.id && Case::concerns(o.symptom.as_deref(), symptom));
    if asked {
        return None;
    }
    let run = |throttle: &str| {
        case.recordings
            .iter()
            .filter(|r| Case::concerns(r.symptom.as_deref(), symptom) && !r.is_after() && case.is_weighed(r))
            .find(|r| r.throttle.as_deref() == Some(throttle))
            .and_then(|r| a.recording(&r.id).map(|f| (r, f)))
            .filter(|(_, f)| !f.refused)
    };
    let ((drive, d), (coast, c)) = (run("drive")?, run("coast")?);
    if drive.gear != coast.gear {
        return None;
    }
    let main = d.orders.iter().chain(&c.orders).max_by(|x, y| x.level().0.total_cmp(&y.level().0))?;
    let level = |r: &RecordingAnalysis| {
        r.orders
            .iter()
            .filter(|o| {
                o.channel == main.channel
                    && (o.order - main.order).abs() <= crate::analysis::tolerance_of(main.order, main.order_sigma)
            })
            .map(|o| o.level().0)
            .fold(0.0, f64::max)
    };
    let (ld, lc) = (level(d), level(c));
    let outcome = match () {
        () if ld > 2.5 * lc => "drive",
        () if lc > 2.5 * ld => "coast",
        () => "all",
    };
    let i = t.outcomes.iter().position(|o| o.id == outcome)?;
    Some(Evidence {
        words: format!("{} and {}: {:.2} times a wheel turn, {}", drive.words(), coast.words(), main.order, t.outcomes[i].words),
        test: t.id.clone(),
        at: None,
        likelihood: outcome_likelihood(&case.vehicle, k, all, t, i, None, None),
        group: None,
    })
}
