//! How strongly people feel a vibration of a frequency: the weighting Wk of ISO 2631-1, seat and
//! floor, vertical. Band limits (second-order Butterworth, 0.4 Hz high-pass, 100 Hz low-pass) ×
//! acceleration–velocity transition × upward step.

use crate::units::{Hz, Ms2};
use num_complex::Complex64;
use std::f64::consts::{FRAC_1_SQRT_2, TAU};

/// Where half of people begin to feel a weighted vibration, peak.
pub const FELT_MS2: f64 = 0.015;

/// |Wk| at a frequency.
pub fn frequency_weight(f: Hz) -> f64 {
    if f.get() <= 0.0 {
        return 0.0;
    }
    let s = Complex64::new(0.0, TAU * f.get());
    let w = |hz: f64| TAU * hz;
    let quad = |w0: f64, q: f64| s / (q * w0) + s * s / (w0 * w0) + 1.0;
    let high = (s * s / (w(0.4) * w(0.4))) / quad(w(0.4), FRAC_1_SQRT_2);
    let low = quad(w(100.0), FRAC_1_SQRT_2).inv();
    let transition = (s / w(12.5) + 1.0) / quad(w(12.5), 0.63);
    let step = quad(w(2.37), 0.91) / quad(w(3.35), 0.91) * (w(2.37) / w(3.35)).powi(2);
    (high * low * transition * step).norm()
}

/// From which unweighted level on a vibration of this frequency is felt.
pub fn felt_level(f: Hz) -> Ms2 {
    Ms2(FELT_MS2 / frequency_weight(f).max(1e-6))
}

/// A level over the level where it begins to be felt.
pub fn felt(level: Ms2, f: Hz) -> f64 {
    level.get() * frequency_weight(f) / FELT_MS2
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn worked_weights() {
        for (f, want) in [(1.0, 0.482), (5.0, 1.039), (10.0, 0.988), (20.0, 0.636), (40.0, 0.314), (50.0, 0.246), (80.0, 0.132)] {
            assert!((frequency_weight(Hz(f)) - want).abs() < 5e-4, "{f} Hz: {} not {want}", frequency_weight(Hz(f)));
        }
    }

    #[test]
    fn the_felt_line_rises_with_frequency_above_ten_hertz() {
        assert!(felt_level(Hz(40.0)) > felt_level(Hz(20.0)));
        assert!((felt(felt_level(Hz(33.0)), Hz(33.0)) - 1.0).abs() < 1e-12);
    }
}
