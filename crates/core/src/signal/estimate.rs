//! Small estimates that every reader of samples uses: the Hann window, where a peak stands between its bins, a quantile.

use std::cmp::Ordering;
use std::f64::consts::TAU;

/// The Hann window at a position, 0 to 1; positions and length in the same unit. Sample `i` of `n` stands at `i` where the window
/// is periodic (transforms), at `i + 0.5` where it is symmetric (projections).
pub fn hann(position: f64, length: f64) -> f64 {
    0.5 - 0.5 * (TAU * position / length).cos()
}

/// Where the parabola through three equally spaced values peaks, in steps from the middle one, −0.5 to 0.5; 0 where they do not
/// bend downwards.
pub fn parabolic_shift([left, middle, right]: [f64; 3]) -> f64 {
    let bend = left - 2.0 * middle + right;
    if bend < 0.0 { (0.5 * (left - right) / bend).clamp(-0.5, 0.5) } else { 0.0 }
}

/// The value below which a share of the values lies (0.5: the upper median), without interpolation; the order of the values is
/// lost. None where there is no value.
pub fn quantile<T: Copy>(values: &mut [T], share: f64, compare: impl Fn(&T, &T) -> Ordering) -> Option<T> {
    let last = values.len().checked_sub(1)?;
    let index = ((values.len() as f64 * share) as usize).min(last);
    Some(*values.select_nth_unstable_by(index, compare).1)
}

/// The upper median ([`quantile`] at 0.5).
pub fn median<T: Copy>(values: &mut [T], compare: impl Fn(&T, &T) -> Ordering) -> Option<T> {
    quantile(values, 0.5, compare)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_window_is_nothing_at_its_ends_and_one_in_its_middle() {
        assert_eq!((hann(0.0, 8.0), hann(4.0, 8.0)), (0.0, 1.0));
        let sum: f64 = (0..8).map(|i| hann(f64::from(i), 8.0)).sum();
        assert!((sum - 4.0).abs() < 1e-12);
    }

    #[test]
    fn quantiles_of_a_few_values() {
        let of = |share| quantile(&mut [5.0, 1.0, 3.0, 2.0, 4.0], share, f64::total_cmp);
        assert_eq!((of(0.0), of(0.5), of(1.0)), (Some(1.0), Some(3.0), Some(5.0)));
        assert_eq!(median::<f64>(&mut [], f64::total_cmp), None);
        assert_eq!(median(&mut [1, 2, 3, 4], i32::cmp), Some(3));
    }

    proptest! {
        #[test]
        fn the_peak_of_a_parabola_is_found(at in -0.5..0.5f64, height in 0.1..9.0f64, bend in 0.01..5.0f64) {
            let f = |x: f64| height - bend * (x - at).powi(2);
            prop_assert!((parabolic_shift([f(-1.0), f(0.0), f(1.0)]) - at).abs() < 1e-9);
        }
    }
}
