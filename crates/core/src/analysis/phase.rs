//! How far an order stands behind a pulse, at each speed. Through a resonance it turns by half a turn;
//! what it is below tells where the heavy side is.

use super::angle_domain::AngleSamples;
use super::angular_resampling::{Angle, STEPS_PER_TURN};
use super::order_lines::{self, SPEED_BIN_KMH};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::f64::consts::TAU;

/// Multiples of the pulse that are reported.
const MAX_PULSE_MULTIPLE: u32 = 3;
/// Turns in a window.
const WINDOW_TURNS: usize = 8;
/// Below this share of one sense the phase is not reported.
const MIN_COHERENCE: f64 = 0.5;

/// The phase of an order in one bin of speed.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct PhaseBin {
    /// Middle of the bin.
    pub speed_kmh: f64,
    /// How far the peak stands behind the pulse, in degrees of the order.
    pub behind_deg: f64,
    /// Its standard error.
    pub sigma_deg: f64,
}

/// How far a phase turns over its speeds, in degrees, the nearest way from bin to bin: half a turn is a
/// resonance passed.
pub fn turned_by(phase: &[PhaseBin]) -> f64 {
    phase.windows(2).map(|p| (p[1].behind_deg - p[0].behind_deg + 540.0).rem_euclid(360.0) - 180.0).sum()
}

/// A phase that turns by so much (degrees) passes a resonance.
pub const RESONANCE_PHASE_DEG: f64 = 110.0;

/// A pulse that counts turns.
#[derive(Clone, Debug)]
pub(super) struct Pulse {
    /// Pulses a wheel turn.
    pub per_wheel: f64,
    /// Moments of its rising edges, s.
    pub edges: Vec<f64>,
}

impl Pulse {
    /// The phase of a measured order; empty where it is no multiple of the pulse.
    pub fn phases(&self, x: &AngleSamples, angle: &Angle, measured: f64) -> Vec<PhaseBin> {
        let nearest = (measured / self.per_wheel).round();
        let order = nearest * self.per_wheel;
        if !(1.0..=f64::from(MAX_PULSE_MULTIPLE)).contains(&nearest) || (order - measured).abs() > 0.01f64.max(0.004 * order) {
            return vec![];
        }
        let steps = STEPS_PER_TURN * WINDOW_TURNS;
        let (z, extent) = order_lines::baseband(x, angle, order);
        // Where the edges stand, in angle steps.
        let at: Vec<f64> = self.edges.iter().filter_map(|t| angle.step_at(*t)).collect();
        let mut bins: BTreeMap<i64, Vec<Complex64>> = BTreeMap::new();
        for (k, part) in z.chunks_exact(steps).enumerate() {
            let (from, to) = (k * steps, (k + 1) * steps);
            let edges = &at[at.partition_point(|s| *s < from as f64)..at.partition_point(|s| *s < to as f64)];
            if !angle.usable(from, to, extent) || edges.is_empty() {
                continue;
            }
            // The angle is the mean of many edges' and wanders beside each: here it is brought back.
            let wanders: Complex64 = edges
                .iter()
                .map(|s| Complex64::from_polar(1.0, TAU * nearest * self.per_wheel * s / STEPS_PER_TURN as f64))
                .sum();
            let bin = (angle.mean_kmh(from, to) / SPEED_BIN_KMH).floor() as i64;
            bins.entry(bin).or_default().push(order_lines::mean(part) * wanders / wanders.norm().max(1e-9));
        }
        bins.into_iter()
            .filter_map(|(bin, all)| {
                let (sum, length) = (all.iter().sum::<Complex64>(), all.iter().map(|z| z.norm()).sum::<f64>());
                let alike = sum.norm() / length.max(1e-30);
                // Spread of the directions, over the root of their number.
                let sigma = (-2.0 * alike.ln()).max(0.0).sqrt() / (all.len() as f64).sqrt();
                let behind = (-sum.arg()).to_degrees().rem_euclid(360.0);
                (all.len() > 1 && alike > MIN_COHERENCE).then(|| PhaseBin {
                    speed_kmh: (bin as f64 + 0.5) * SPEED_BIN_KMH,
                    behind_deg: behind % 360.0,
                    sigma_deg: sigma.to_degrees().max(1.0),
                })
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_phase_is_followed_over_the_top() {
        let bins = |degs: &[f64]| -> Vec<PhaseBin> {
            degs.iter().map(|d| PhaseBin { speed_kmh: 50.0, behind_deg: *d, sigma_deg: 2.0 }).collect()
        };
        assert_eq!(turned_by(&bins(&[350.0, 20.0, 90.0, 160.0])), 170.0);
        assert_eq!(turned_by(&bins(&[10.0, 350.0, 5.0])), -5.0);
        assert_eq!(turned_by(&[]), 0.0);
    }
}
