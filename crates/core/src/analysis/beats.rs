//! Beats: two nearly equal orders rise and fall together in a slow rhythm. Two tyres and two shafts do
//! that; one part alone does not.
//!
//! The power of a line, turn by turn and beside its own slow mean, is transformed once more: a beat is a
//! line in that. Both orders wander alike with an inexact speed, their beat stays.

use super::Tracked;
use super::order_lines;
use super::report::OrderFound;
use crate::measure::orders::Base;
use crate::signal::PASSBAND_SHARE;
use crate::signal::estimate::{hann, median};
use serde::{Deserialize, Serialize};

/// Turns over which one power is taken.
const TURNS_PER_POWER: usize = 2;
/// Lines of a channel that are looked at.
const MAX_LINES: usize = 3;
/// How far a level must stand over its error, so that its fall would be seen.
const MIN_LEVEL_OVER_SIGMA: f64 = 8.0;
/// A beat is seen so many times at least, and so many powers are needed.
const MIN_BEATS: f64 = 6.0;
const MIN_POWERS: usize = 48;
/// Orders further apart stand side by side without a beat that one would feel.
const MAX_ORDER_GAP: f64 = 0.2;
/// Power over its floor from which it is no chance, and the least depth that is reported.
const MIN_POWER_OVER_FLOOR: f64 = 40.0;
const MIN_DEPTH: f64 = 0.25;
/// A speed that moves by more than this in the same rhythm makes it by itself.
const MAX_SPEED_SWING: f64 = 0.015;

/// A level that rises and falls slowly: two orders lie closer than they can be separated.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Beat {
    /// In which channel.
    pub channel: String,
    /// The stronger order, in wheel turns.
    pub order: f64,
    /// How far the two orders stand apart, in wheel turns.
    pub gap: f64,
    /// Standard error of the gap.
    pub gap_sigma: f64,
    /// How long one rise and fall takes at the speed where the order peaks, s.
    pub period_s: f64,
    /// How deep the power falls: 2ab/(a² + b²) of two amplitudes, 1 where both are alike.
    pub depth: f64,
    /// The other order, where it stands as a line of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub other: Option<f64>,
}

/// The beats of a recording, in the order of its lines.
pub(super) fn find_beats(t: &Tracked, orders: &[OrderFound]) -> Vec<Beat> {
    let mut out: Vec<Beat> = vec![];
    for (i, c) in t.channels.iter().enumerate() {
        let own: Vec<&OrderFound> = orders
            .iter()
            .filter(|o| {
                o.channel == c.name
                    && o.base == Base::Wheel
                    && o.order < PASSBAND_SHARE * 32.0
                    && o.level().0 > MIN_LEVEL_OVER_SIGMA * o.level().1
            })
            .take(MAX_LINES)
            .collect();
        for o in &own {
            let Some((gap, gap_sigma, depth)) = rhythm(t, i, o.order * t.scale.value) else { continue };
            let (gap, gap_sigma) = (gap / t.scale.value, gap_sigma / t.scale.value);
            let same = |b: &Beat| b.channel == c.name && (b.gap - gap).abs() < 2.0 * (gap_sigma + b.gap_sigma);
            if out.iter().any(|b| same(b) && (b.order - o.order).abs() < 1.5 * gap + 0.1) {
                continue;
            }
            let apart = |p: &&&OrderFound| ((p.order - o.order).abs() - gap).abs();
            let other = own.iter().filter(|p| apart(p) < (0.15 * gap).max(0.015) && p.order != o.order);
            out.push(Beat {
                channel: c.name.clone(),
                order: o.order,
                gap,
                gap_sigma,
                period_s: 1.0 / (gap * t.hz(1.0, o.peak_speed_kmh).get()),
                depth,
                other: other.min_by(|a, b| apart(a).total_cmp(&apart(b))).map(|p| p.order),
            });
        }
    }
    out
}

/// Rhythm of a measured order's power: orders apart, its error, its depth.
fn rhythm(t: &Tracked, channel: usize, measured: f64) -> Option<(f64, f64, f64)> {
    let steps = TURNS_PER_POWER * super::angular_resampling::STEPS_PER_TURN;
    let (z, extent) = order_lines::baseband(&t.channels[channel].x, &t.angle, measured);
    let powers: Vec<Option<(f64, f64)>> = z
        .chunks_exact(steps)
        .enumerate()
        .map(|(k, part)| {
            let (from, to) = (k * steps, (k + 1) * steps);
            t.angle.usable(from, to, extent).then(|| (order_lines::mean(part).norm_sqr(), t.angle.mean_kmh(from, to)))
        })
        .collect();
    // The longest stretch without a break.
    let longest = powers.split(Option::is_none).max_by_key(|part| part.len())?;
    let run: Vec<(f64, f64)> = longest.iter().flatten().copied().collect();
    if run.len() < MIN_POWERS {
        return None;
    }
    let around = (run.len() as f64 / MIN_BEATS) as usize;
    let beside = |of: &dyn Fn(&(f64, f64)) -> f64| -> Vec<f64> {
        let mut sums = vec![0.0];
        run.iter().for_each(|p| sums.push(sums[sums.len() - 1] + of(p)));
        (0..run.len())
            .map(|i| {
                let (lo, hi) = (i.saturating_sub(around / 2), (i + around / 2 + 1).min(run.len()));
                let mean = (sums[hi] - sums[lo]) / (hi - lo) as f64;
                (of(&run[i]) / mean.max(1e-30) - 1.0).clamp(-1.0, 3.0)
            })
            .collect()
    };
    let power = amplitudes(&beside(&|p| p.0));
    let speed = amplitudes(&beside(&|p| p.1));
    let length = 2 * (power.len() - 1);
    let gap_of = |bin: f64| bin / length as f64 / TURNS_PER_POWER as f64;
    let bins = |turns: f64| (turns * (TURNS_PER_POWER * length) as f64) as usize;
    let first = (MIN_BEATS * length as f64 / run.len() as f64).ceil() as usize;
    let last = bins(MAX_ORDER_GAP).min(power.len() - 2);
    let peak = (first..last).max_by(|a, b| power[*a].total_cmp(&power[*b]))?;
    // A rhythm's own width: four bins of the run, however finely it was transformed.
    let wide = 4 * length / run.len();
    let mut near: Vec<f64> = (first.max(peak * 5 / 9)..last.min(peak * 9 / 5 + 8 * wide))
        .filter(|b| b.abs_diff(peak) > wide)
        .map(|b| power[b] * power[b])
        .collect();
    if near.len() < 2 * wide {
        return None;
    }
    let floor = median(&mut near, f64::total_cmp)? / std::f64::consts::LN_2;
    let clear = power[peak] * power[peak] / floor.max(1e-12);
    let moves = speed[peak.saturating_sub(wide)..=peak + wide.min(speed.len() - 1 - peak)].iter().copied().fold(0.0, f64::max);
    let depth = power[peak];
    if clear < MIN_POWER_OVER_FLOOR || depth < MIN_DEPTH || moves > MAX_SPEED_SWING {
        return None;
    }
    let (a, b, c) = (power[peak - 1], power[peak], power[peak + 1]);
    let bend = a - 2.0 * b + c;
    let shift = if bend < 0.0 { (0.5 * (a - c) / bend).clamp(-0.5, 0.5) } else { 0.0 };
    let sigma = 0.5 / (run.len() * TURNS_PER_POWER) as f64 / clear.sqrt().min(10.0);
    Some((gap_of(peak as f64 + shift), sigma.max(1e-4), depth.min(1.0)))
}

/// Amplitudes of the cosines in a series, twice as fine as it is long or more.
fn amplitudes(x: &[f64]) -> Vec<f64> {
    let length = 2 * x.len().next_power_of_two();
    let fft = baricord_fft::forward_double(length);
    let (mut input, mut output) = (fft.make_input_vec(), fft.make_output_vec());
    let mut weight = 0.0;
    for (i, (o, v)) in input.iter_mut().zip(x).enumerate() {
        let h = hann(i as f64 + 0.5, x.len() as f64);
        weight += h;
        *o = h * v;
    }
    // Lengths are the plan's own, so the transform cannot fail.
    let _ = fft.process(&mut input, &mut output);
    output.iter().map(|c| 2.0 * c.norm() / weight).collect()
}
