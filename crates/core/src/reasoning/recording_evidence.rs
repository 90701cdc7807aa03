//! Recordings as evidence: predicted orders against measured ones.

use super::evidence::Evidence;
use super::hypotheses::predicted;
use super::likelihood::Model;
use crate::analysis::{Analysis, RecordingAnalysis};
use crate::case::Case;
use crate::measure::orders::{Base, OrderLine, orders};

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
            let weight = crate::signal::frequency_weight(crate::units::Hz(o.peak_hz)).max(0.05);
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
pub(super) fn recordings(case: &Case, model: &Model, symptom: &str, a: &Analysis) -> Vec<Evidence> {
    let (k, all) = (model.k, model.all);
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
        let then = case.vehicle_at_run(spec);
        let Ok(ladder) = orders(then, spec.fixed_gear()).or_else(|_| orders(then, None)) else { continue };
        let shares = shares(found, &s.kind, peak);
        if shares.is_empty() {
            continue;
        }
        let of_one = |h: &super::Hypothesis| {
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
        };
        // Two faults at once share what stands in it: the mean of both.
        let mut likelihood: Vec<f64> = vec![];
        for h in all {
            likelihood.push(match h.pair {
                Some([a, b]) => 0.5 * (likelihood[a] + likelihood[b]),
                None => of_one(h),
            });
        }
        let first = shares.iter().max_by(|a, b| a.share.total_cmp(&b.share));
        let words = first.map_or(String::new(), |f| {
            let base = f.base.words();
            format!("{} peaks at {:.2} × {base}", spec.words(), f.order)
        });
        out.push(Evidence { words, test: "speed-sweep".into(), at: None, likelihood });
    }
    out.extend(load_from_recordings(case, model, symptom, a));
    out
}

/// The same line pulling and coasting: an observation that the recordings make by themselves.
fn load_from_recordings(case: &Case, model: &Model, symptom: &str, a: &Analysis) -> Option<Evidence> {
    let t = model.k.test("drive-coast-float")?;
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
        words: format!("{} and {}: {:.2} × wheel, {}", drive.words(), coast.words(), main.order, t.outcomes[i].words),
        test: t.id.clone(),
        at: None,
        likelihood: model.tempered(t, None, None, model.k.weights.exponent.observation).outcome_likelihoods(i, None, model.v),
    })
}
