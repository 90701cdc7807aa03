//! Proof: the run after held against the run before, order by order.
//!
//! Runs are paired by symptom, gear, throttle, range, place and channel. The speed range is
//! comparable when the run after covers the peak bin and 60 % of the bins before. Change =
//! 20·log10(after/before), with its 95 % interval.

use crate::analysis::{Analysis, LevelBin, OrderFound, Outcome, Tracked, peak_of, tolerance_of};
use crate::case::Case;
use crate::error::Warning;
use crate::measure::orders::Base;
use crate::signal::{Quantity, felt};
use crate::units::Ms2;
use serde::{Deserialize, Serialize};

/// Growth that counts as worse, dB.
pub const WORSE_DB: f64 = 3.0;
/// Drop that counts as cured, dB.
pub const CURED_DB: f64 = -10.0;
/// Drop that counts as improved, dB.
pub const IMPROVED_DB: f64 = -3.0;
/// How well a level repeats on the same road by itself, dB (one standard error).
const REPEATS_DB: f64 = 0.6;

/// What the comparison says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Down by ten decibels or no longer felt.
    Cured,
    /// Clearly down.
    Improved,
    /// Neither.
    Unchanged,
    /// Clearly up, or something new is felt.
    Worse,
    /// Not the same road, gear, load, place or speed.
    NotComparable,
}

impl Verdict {
    /// As people read it.
    pub fn words(self) -> &'static str {
        match self {
            Verdict::Cured => "cured",
            Verdict::Improved => "improved, not gone",
            Verdict::Unchanged => "unchanged",
            Verdict::Worse => "worse",
            Verdict::NotComparable => "not comparable",
        }
    }
}

/// One order, before and after.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct OrderChange {
    /// In which channel.
    pub channel: String,
    /// What it is counted against.
    pub base: Base,
    /// Turns for one wheel turn.
    pub order: f64,
    /// Level before, in its peak bin.
    pub before_ms2: Option<f64>,
    /// Level after, in the same bin.
    pub after_ms2: Option<f64>,
    /// Where it peaked before.
    pub peak_speed_kmh: f64,
    /// Level after over before, dB; none where one of them is missing.
    pub change_db: Option<f64>,
    /// 95 % interval of the change, dB.
    pub interval_db: Option<[f64; 2]>,
    /// Whether the two runs can be compared.
    pub comparable: bool,
    /// Why not.
    pub reasons: Vec<String>,
    /// What it says.
    pub verdict: Verdict,
    /// Weighted level before over where it is felt.
    pub felt_before: Option<f64>,
    /// Level against speed before the repair.
    pub levels_before: Vec<LevelBin>,
    /// Level against speed after the repair.
    pub levels_after: Vec<LevelBin>,
}

/// One symptom, before and after.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct SymptomVerdict {
    /// Id of a symptom of the case; none where it concerns all.
    pub id: String,
    /// What it says.
    pub verdict: Verdict,
    /// Whether the runs can be compared.
    pub comparable: bool,
    /// Why not.
    pub reasons: Vec<String>,
    /// Order by order.
    pub orders: Vec<OrderChange>,
    /// Orders that were not there before and can be felt.
    pub new_orders: Vec<OrderFound>,
}

/// A case's proof.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Verification {
    /// One entry a symptom with a run before.
    pub symptoms: Vec<SymptomVerdict>,
    /// What could not be done.
    pub warnings: Vec<Warning>,
}

/// Why two runs cannot be compared; empty when they can.
fn differences(b: &Tracked, a: &Tracked) -> Vec<String> {
    let mut out = vec![];
    let (x, y) = (&b.spec, &a.spec);
    if x.gear != y.gear {
        out.push("gear".into());
    }
    if x.throttle != y.throttle {
        out.push("throttle".into());
    }
    if x.range != y.range {
        out.push("range".into());
    }
    if x.place != y.place {
        out.push("place".into());
    }
    out
}

/// Level of the bins that both runs have, near the peak before: root mean square, and its relative error.
fn common(before: &[LevelBin], after: &[LevelBin], peak: f64) -> Option<([f64; 2], [f64; 2])> {
    let (mut b, mut a, mut sb, mut sa) = (0.0, 0.0, 0.0, 0.0);
    for x in before.iter().filter(|l| (l.speed_kmh - peak).abs() < 7.6) {
        if let Some(y) = after.iter().find(|l| (l.speed_kmh - x.speed_kmh).abs() < 0.1) {
            b += x.amplitude.powi(2);
            a += y.amplitude.powi(2);
            sb += (x.amplitude.max(x.sigma) * x.sigma).powi(2);
            sa += (y.amplitude.max(y.sigma) * y.sigma).powi(2);
        }
    }
    if b <= 0.0 {
        return None;
    }
    // Error of a root of a sum of squares.
    let (lb, la) = (b.sqrt(), a.sqrt());
    Some(([lb, sb.sqrt() / lb], [la, if la > 0.0 { sa.sqrt() / la } else { sa.sqrt().sqrt() }]))
}

fn compare(b: &Tracked, cb: usize, a: &Tracked, ca: usize, o: &OrderFound, reasons: &[String]) -> OrderChange {
    let wheel = o.wheel_order(b.engine_per_wheel).unwrap_or(o.order);
    let before = b.levels(cb, &[wheel]).remove(0);
    let after = a.levels(ca, &[wheel]).remove(0);
    let mut reasons = reasons.to_vec();
    let peak = o.peak_speed_kmh;
    let has = |l: &[LevelBin], v: f64| l.iter().any(|x| (x.speed_kmh - v).abs() < 0.1);
    let covered = before.iter().filter(|l| has(&after, l.speed_kmh)).count();
    if !has(&after, peak) || (covered as f64) < 0.6 * before.len() as f64 {
        reasons.push("speed-range".into());
    }
    let at = |l: &[LevelBin]| l.iter().find(|x| (x.speed_kmh - peak).abs() < 0.1).copied();
    let (pb, pa) = (at(&before), at(&after));
    let mut out = OrderChange {
        channel: o.channel.clone(),
        base: o.base,
        order: o.order,
        before_ms2: pb.map(|l| l.amplitude),
        after_ms2: pa.map(|l| l.amplitude),
        peak_speed_kmh: peak,
        change_db: None,
        interval_db: None,
        comparable: reasons.is_empty(),
        reasons,
        verdict: Verdict::NotComparable,
        felt_before: o.felt,
        levels_before: before,
        levels_after: after,
    };
    if !out.comparable {
        return out;
    }
    let Some(([lb, eb], [la, ea])) = common(&out.levels_before, &out.levels_after, peak) else { return out };
    let lowest = (ea * 0.5).max(1e-9);
    let change = 20.0 * (la.max(lowest) / lb).log10();
    // Errors of both levels in dB, and how well a level repeats by itself.
    let db = |level: f64, error: f64| 8.686 * (error / level.max(error).max(1e-12)).min(1.0);
    let sigma = (db(lb, eb).powi(2) + db(la.max(lowest), ea).powi(2) + 2.0 * REPEATS_DB.powi(2)).sqrt();
    let interval = [change - 1.96 * sigma, change + 1.96 * sigma];
    out.change_db = Some(change);
    out.interval_db = Some(interval);
    let felt_after = match b.channels[cb].quantity {
        Quantity::Acceleration => {
            peak_of(&out.levels_after).is_some_and(|l| felt(Ms2(l.amplitude), a.hz(wheel, l.speed_kmh)) >= 1.0)
        }
        _ => true,
    };
    out.verdict = if interval[0] > WORSE_DB {
        Verdict::Worse
    } else if interval[1] < CURED_DB || !felt_after {
        Verdict::Cured
    } else if interval[1] < IMPROVED_DB {
        Verdict::Improved
    } else {
        Verdict::Unchanged
    };
    out
}

/// Orders of the run after that the run before did not have, and that can be felt.
fn new_orders(b: &Tracked, a: &Tracked, fa: &[OrderFound]) -> Vec<OrderFound> {
    let mut out = vec![];
    for o in fa {
        let (Some(wheel), Some(ca)) = (o.wheel_order(a.engine_per_wheel), a.channels.iter().position(|c| c.name == o.channel))
        else {
            continue;
        };
        let Some(cb) = b.channels.iter().position(|c| c.name == o.channel && c.quantity == a.channels[ca].quantity) else {
            continue;
        };
        if !o.felt.is_some_and(|f| f >= 1.0) {
            continue;
        }
        let before = b.levels(cb, &[wheel]).remove(0);
        let Some(([lb, eb], [la, ea])) = common_at(&before, &o.levels, o.peak_speed_kmh) else { continue };
        let was = lb.max(2.0 * eb);
        // New: clearly above what stood there before, errors and repeatability apart.
        if la - 2.0 * ea > 2.0 * was {
            out.push(o.clone());
        }
    }
    out
}

/// As `common`, around a peak of the run after; a bin without a level before counts as its error.
fn common_at(before: &[LevelBin], after: &[LevelBin], peak: f64) -> Option<([f64; 2], [f64; 2])> {
    let y = after.iter().find(|l| (l.speed_kmh - peak).abs() < 0.1)?;
    let x = before.iter().find(|l| (l.speed_kmh - peak).abs() < 0.1)?;
    Some(([x.amplitude, x.sigma], [y.amplitude, y.sigma]))
}

/// Holds the runs after a repair against those before, order by order, each symptom with its verdict; where runs cannot be
/// compared it says why. `analysis` is what the tracked recordings say.
pub fn verify(case: &Case, tracked: &[Outcome], analysis: &Analysis) -> Verification {
    let mut out = Verification::default();
    let good: Vec<&Tracked> = tracked.iter().filter_map(|t| t.as_ref().ok()).filter(|t| case.is_weighed(&t.spec)).collect();
    for s in &case.symptoms {
        let of = |t: &&&Tracked| Case::concerns(t.spec.symptom.as_deref(), &s.id);
        let before: Vec<&&Tracked> = good.iter().filter(of).filter(|t| !t.spec.is_after()).collect();
        let after: Vec<&&Tracked> = good.iter().filter(of).filter(|t| t.spec.is_after()).collect();
        if before.is_empty() {
            if !after.is_empty() {
                out.warnings.push(
                    Warning::new("no-before", format!("symptom {}: there is no run before to hold this against", s.id)).at(&s.id),
                );
            }
            continue;
        }
        out.symptoms.push(symptom(&s.id, &before, &after, analysis));
    }
    out
}

fn symptom(id: &str, before: &[&&Tracked], after: &[&&Tracked], analysis: &Analysis) -> SymptomVerdict {
    let mut v = SymptomVerdict {
        id: id.into(),
        verdict: Verdict::NotComparable,
        comparable: false,
        reasons: vec![],
        orders: vec![],
        new_orders: vec![],
    };
    if after.is_empty() {
        v.reasons.push("no-after".into());
        return v;
    }
    for b in before {
        // The run after with fewest differences; the latest of equals.
        let Some(a) = after.iter().rev().min_by_key(|a| differences(b, a).len()) else { continue };
        let mut reasons = differences(b, a);
        let Some(found) = analysis.recording(&b.spec.id) else { continue };
        for o in found.orders.iter().take(12) {
            let Some(cb) = b.channels.iter().position(|c| c.name == o.channel) else { continue };
            let ca = a.channels.iter().position(|c| c.name == o.channel && c.quantity == b.channels[cb].quantity);
            let Some(ca) = ca else {
                if !reasons.contains(&"sensor".to_string()) {
                    reasons.push("sensor".into());
                }
                continue;
            };
            v.orders.push(compare(b, cb, a, ca, o, &reasons));
        }
        for r in reasons {
            if !v.reasons.contains(&r) {
                v.reasons.push(r);
            }
        }
        if v.reasons.is_empty()
            && let Some(fa) = analysis.recording(&a.spec.id)
        {
            for o in new_orders(b, a, &fa.orders) {
                if !v
                    .new_orders
                    .iter()
                    .any(|n| n.channel == o.channel && (n.order - o.order).abs() < tolerance_of(o.order, o.order_sigma))
                {
                    v.new_orders.push(o);
                }
            }
        }
    }
    let main = v.orders.iter().max_by(|x, y| {
        let level = |o: &OrderChange| o.felt_before.or(o.before_ms2).unwrap_or(0.0);
        level(x).total_cmp(&level(y))
    });
    v.verdict = match main {
        Some(m) if v.orders.iter().any(|o| o.verdict == Verdict::Worse && matters(o)) || !v.new_orders.is_empty() => {
            if m.comparable { Verdict::Worse } else { Verdict::NotComparable }
        }
        Some(m) => m.verdict,
        None => Verdict::NotComparable,
    };
    if let Some(m) = main {
        v.comparable = m.comparable;
        for r in &m.reasons {
            if !v.reasons.contains(r) {
                v.reasons.push(r.clone());
            }
        }
    }
    v
}

/// An order grown worse counts when what it has grown to can be felt.
fn matters(o: &OrderChange) -> bool {
    match (o.felt_before, o.before_ms2, o.after_ms2) {
        (Some(f), Some(b), Some(a)) if b > 0.0 => f * a / b >= 1.0,
        _ => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bins(k: f64) -> Vec<LevelBin> {
        (10..24)
            .map(|i| {
                let v = 5.0 * f64::from(i) + 2.5;
                LevelBin { speed_kmh: v, amplitude: k * (1.0 - ((v - 97.5) / 60.0).powi(2)), sigma: 0.01 }
            })
            .collect()
    }

    #[test]
    fn the_change_of_a_level_is_told_in_decibels() {
        let ([b, eb], [a, _]) = common(&bins(1.0), &bins(0.4), 97.5).unwrap();
        assert!((20.0 * (a / b).log10() + 7.959).abs() < 1e-3);
        assert!(eb < 0.02);
    }

    #[test]
    fn bins_that_only_one_run_has_do_not_count() {
        assert!(common(&bins(1.0), &bins(0.4)[..4], 97.5).is_none());
        assert!(common(&[], &bins(1.0), 97.5).is_none());
    }

    #[test]
    fn verdicts_are_written_as_the_interface_says() {
        assert_eq!(serde_json::to_string(&Verdict::NotComparable).unwrap(), "\"not-comparable\"");
    }
}
