//! The speed reference: from a few late and rounded readings to a smooth speed and its integral.
//!
//! The readings are laid on a grid of 0.1 s and smoothed by penalised least squares (Whittaker,
//! second differences): minimise Σ (v − z)² + λ Σ (Δ²z)². Distance is the exact integral of the
//! piecewise cubic through the grid, so that angle and speed never disagree.

/// Grid of the smooth speed, s.
const GRID_STEP_S: f64 = 0.1;

/// A smooth reference with its integral.
#[derive(Clone, Debug)]
pub struct SpeedTrack {
    start: f64,
    value: Vec<f64>,
    sum: Vec<f64>,
}

/// Readings that were really made: a value held over rows is one sample at its first row, and while
/// it stays the same the sampler is taken to have read it again at its own pace.
pub fn true_samples(rows: &[(f64, f64)]) -> Vec<(f64, f64)> {
    let mut changes: Vec<(f64, f64)> = vec![];
    for &(t, v) in rows {
        if changes.last().is_none_or(|l| l.1 != v) {
            changes.push((t, v));
        }
    }
    if changes.len() < 3 || rows.len() < 3 {
        return rows.to_vec();
    }
    let mut steps: Vec<f64> = changes.windows(2).map(|w| w[1].0 - w[0].0).filter(|d| *d > 0.0).collect();
    steps.sort_by(f64::total_cmp);
    let mut row_steps: Vec<f64> = rows.windows(2).map(|w| w[1].0 - w[0].0).filter(|d| *d > 0.0).collect();
    row_steps.sort_by(f64::total_cmp);
    let row = row_steps[row_steps.len() / 2];
    let pace = steps[steps.len() / 5].max(row);
    if pace < 1.5 * row {
        return rows.to_vec();
    }
    let end = rows[rows.len() - 1].0;
    let mut out = vec![];
    for (i, &(t, v)) in changes.iter().enumerate() {
        let next = changes.get(i + 1).map_or(end, |c| c.0);
        let mut at = t;
        while at < next - 0.5 * pace || at == t {
            out.push((at, v));
            at += pace;
        }
    }
    out
}

impl SpeedTrack {
    /// Fits a smooth track through readings (time in s, value in any unit). λ of the penalty is
    /// given as the time (s) below which movement is taken for noise. None when there are fewer
    /// than three readings.
    pub fn fit(readings: &[(f64, f64)], smooth_s: f64) -> Option<Self> {
        let first = readings.first()?.0;
        let last = readings.last()?.0;
        if readings.len() < 3 || first.is_nan() || last.is_nan() || last <= first {
            return None;
        }
        let start = first - 3.0;
        let n = ((last + 3.0 - start) / GRID_STEP_S).ceil() as usize + 1;
        let (mut w, mut y) = (vec![0.0; n], vec![0.0; n]);
        for &(t, v) in readings {
            let x = (t - start) / GRID_STEP_S;
            let i = (x.floor() as usize).min(n - 2);
            let f = x - i as f64;
            for (k, share) in [(i, 1.0 - f), (i + 1, f)] {
                w[k] += share;
                y[k] += share * v;
            }
        }
        // A Whittaker smoother with weights per second `density` halves at a period of about
        // 2π·(λ/density)^¼ grid steps.
        let density = readings.len() as f64 / n as f64;
        let lambda = density * (smooth_s / GRID_STEP_S / std::f64::consts::TAU).powi(4);
        let value = whittaker(&w, &y, lambda);
        let mut track = Self { start, value, sum: vec![] };
        track.integrate();
        Some(track)
    }

    fn integrate(&mut self) {
        let n = self.value.len();
        self.sum = vec![0.0; n];
        for i in 1..n {
            let v = |k: isize| self.value[(i as isize + k).clamp(0, n as isize - 1) as usize];
            // Integral over one cell of the Catmull-Rom cubic.
            let cell = (13.0 * (v(-1) + v(0)) - v(-2) - v(1)) / 24.0;
            self.sum[i] = self.sum[i - 1] + GRID_STEP_S * cell;
        }
    }

    fn cell(&self, t: f64) -> (usize, f64) {
        let x = ((t - self.start) / GRID_STEP_S).clamp(0.0, (self.value.len() - 1) as f64);
        let i = (x as usize).min(self.value.len() - 2);
        (i, x - i as f64)
    }

    /// The smooth value at a time.
    pub fn at(&self, t: f64) -> f64 {
        let (i, f) = self.cell(t);
        self.value[i] + f * (self.value[i + 1] - self.value[i])
    }

    /// The integral up to a time.
    pub fn integral(&self, t: f64) -> f64 {
        let (i, f) = self.cell(t);
        // Hermite in the cell: meets both sums with the right slopes, then goes on straight.
        let (s0, s1) = (self.sum[i], self.sum[i + 1]);
        let (m0, m1) = (self.value[i] * GRID_STEP_S, self.value[i + 1] * GRID_STEP_S);
        let (f2, f3) = (f * f, f * f * f);
        let inside = (2.0 * f3 - 3.0 * f2 + 1.0) * s0 + (f3 - 2.0 * f2 + f) * m0 + (3.0 * f2 - 2.0 * f3) * s1 + (f3 - f2) * m1;
        let beyond = t - (self.start + GRID_STEP_S * (i as f64 + f));
        inside + beyond * self.at(t)
    }

    /// Smallest and largest smooth value between two times.
    pub fn range(&self, from: f64, to: f64) -> (f64, f64) {
        let (a, b) = (self.cell(from).0, self.cell(to).0);
        let part = &self.value[a..=b];
        (part.iter().copied().fold(f64::MAX, f64::min), part.iter().copied().fold(f64::MIN, f64::max))
    }
}

/// Solves (W + λ D'D) z = y with second differences D: a symmetric band of five, by LDLᵀ.
fn whittaker(w: &[f64], y: &[f64], lambda: f64) -> Vec<f64> {
    let n = w.len();
    let (mut d0, mut d1, mut d2) = (w.to_vec(), vec![0.0; n], vec![0.0; n]);
    for i in 0..n - 2 {
        for (k, c) in [(i, 1.0), (i + 1, 4.0), (i + 2, 1.0)] {
            d0[k] += lambda * c;
        }
        d1[i] -= 2.0 * lambda;
        d1[i + 1] -= 2.0 * lambda;
        d2[i] += lambda;
    }
    // A whisper of ridge keeps the ends defined when no reading stands near them.
    d0.iter_mut().for_each(|d| *d += 1e-9 * lambda.max(1e-3));
    let (mut d, mut l1, mut l2) = (vec![0.0; n], vec![0.0; n], vec![0.0; n]);
    for i in 0..n {
        let mut x = d0[i];
        if i >= 1 {
            x -= l1[i - 1] * l1[i - 1] * d[i - 1];
        }
        if i >= 2 {
            x -= l2[i - 2] * l2[i - 2] * d[i - 2];
        }
        d[i] = x;
        let mut e = d1[i];
        if i >= 1 {
            e -= l1[i - 1] * l2[i - 1] * d[i - 1];
        }
        l1[i] = e / x;
        l2[i] = d2[i] / x;
    }
    let mut z = y.to_vec();
    for i in 0..n {
        if i >= 1 {
            z[i] -= l1[i - 1] * z[i - 1];
        }
        if i >= 2 {
            z[i] -= l2[i - 2] * z[i - 2];
        }
    }
    for i in 0..n {
        z[i] /= d[i];
    }
    for i in (0..n).rev() {
        if i + 1 < n {
            z[i] -= l1[i] * z[i + 1];
        }
        if i + 2 < n {
            z[i] -= l2[i] * z[i + 2];
        }
    }
    z
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_ramp_passes_unchanged_and_integrates_exactly() {
        let r: Vec<_> = (0..60).map(|i| (i as f64, 10.0 + 0.3 * i as f64)).collect();
        let s = SpeedTrack::fit(&r, 3.0).unwrap();
        assert!((s.at(30.25) - 19.075).abs() < 1e-3);
        let want = 10.0 * 20.0 + 0.15 * (40.0f64.powi(2) - 20.0f64.powi(2));
        assert!((s.integral(40.0) - s.integral(20.0) - want).abs() < 1e-2);
    }

    #[test]
    fn rounding_is_smoothed_below_its_step() {
        let truth = |t: f64| 20.0 + 6.0 * (0.08 * t).sin();
        let r: Vec<_> = (0..600).map(|i| i as f64 / 5.0).map(|t| (t, (truth(t) * 3.6).round() / 3.6)).collect();
        let s = SpeedTrack::fit(&r, 4.0).unwrap();
        let rms = (100..1000).map(|i| i as f64 / 10.0).map(|t| (s.at(t) - truth(t)).powi(2)).sum::<f64>() / 900.0;
        assert!(rms.sqrt() < 0.04, "{}", rms.sqrt());
    }

    #[test]
    fn held_values_become_single_readings_at_the_samplers_pace() {
        let rows: Vec<_> = (0..1000).map(|i| (i as f64 / 100.0, (i / 100) as f64)).collect();
        let s = true_samples(&rows);
        assert_eq!(s.len(), 10);
        assert_eq!(s[3], (3.0, 3.0));
        let mut rows: Vec<_> = (0..1000).map(|i| (i as f64 / 100.0, (i / 50) as f64)).collect();
        rows.extend((1000..1300).map(|i| (i as f64 / 100.0, 19.0)));
        assert_eq!(true_samples(&rows).len(), 26);
    }

    #[test]
    fn too_little_is_no_track() {
        assert!(SpeedTrack::fit(&[(0.0, 1.0), (1.0, 1.0)], 2.0).is_none());
        assert!(SpeedTrack::fit(&[], 2.0).is_none());
    }
}
