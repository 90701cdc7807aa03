//! The order map: how strong every order is at every speed, as one small picture.

use super::angle_domain::AngleSamples;
use super::angular_resampling::Angle;
use crate::signal::estimate::{median, quantile};
use serde::{Deserialize, Serialize};

/// Columns stand this far apart, km/h.
const COLUMN_WIDTH_KMH: f64 = 1.0;
/// Range from white to full ink, dB.
const RANGE_DB: f64 = 48.0;
/// Power of full ink over the middle of all cells, at least.
const FULL_INK_OVER_NOISE: f64 = 600.0;

/// A picture of ink: row 0 is the lowest order.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct OrderMap {
    /// Speed at the left edge, km/h.
    pub speed_from: f64,
    /// Width of a column, km/h.
    pub speed_step: f64,
    /// Number of columns.
    pub columns: usize,
    /// Height of a row, in orders.
    pub order_step: f64,
    /// Number of rows.
    pub rows: usize,
    /// Level of full ink, in the channel's unit, peak.
    pub full: f64,
    /// Ink of each cell, row by row; 255 is full.
    #[serde(skip)]
    pub ink: Vec<u8>,
}

/// Draws the map of one channel up to an order; `scale` corrects the orders.
pub(super) fn draw(x: &AngleSamples, angle: &Angle, max_order: f64, scale: f64) -> OrderMap {
    let turns = 32;
    let windows = x.windows(angle, turns, max_order * scale, false);
    if windows.len() == 0 {
        return OrderMap::default();
    }
    let (lo, hi) = (0..windows.len()).map(|w| windows.speed(w)).fold((f64::MAX, f64::MIN), |b, v| (b.0.min(v), b.1.max(v)));
    let from = (lo / COLUMN_WIDTH_KMH).floor() * COLUMN_WIDTH_KMH;
    let columns = ((hi - from) / COLUMN_WIDTH_KMH).floor() as usize + 1;
    let bins = windows.spectra.bins;
    let rows = (max_order * turns as f64) as usize;
    let mut sum = vec![0.0f64; columns * bins];
    let mut count = vec![0.0f64; columns];
    windows.each(|v, power, _| {
        // A window reaches over the speeds that it spans: it is shared between the two nearest columns.
        let c = (v - from) / COLUMN_WIDTH_KMH - 0.5;
        for (k, share) in [(c.floor(), 1.0 - c.fract().abs()), (c.floor() + 1.0, c.fract().abs())] {
            if k < 0.0 || k as usize >= columns || share <= 0.0 {
                continue;
            }
            let k = k as usize;
            count[k] += share;
            for (b, p) in power.iter().enumerate() {
                sum[k * bins + b] += share * f64::from(*p);
            }
        }
    });
    // Columns that no window met take their nearest neighbour's.
    let filled: Vec<usize> = (0..columns).filter(|&c| count[c] > 0.05).collect();
    let source = |c: usize| filled.iter().copied().min_by_key(|f| f.abs_diff(c)).unwrap_or(0);
    let mut mean = vec![0.0; columns * rows];
    for c in 0..columns {
        let s = source(c);
        for r in 0..rows {
            let at = ((r as f64 + 0.5) * scale) as usize;
            mean[r * columns + c] = sum[s * bins + at.min(bins - 1)] / count[s].max(1e-9);
        }
    }
    let full = quantile(&mut mean.clone(), 0.999, f64::total_cmp).unwrap_or_default();
    let noise = median(&mut mean.clone(), f64::total_cmp).unwrap_or_default();
    // A road alone is no line: its noise stays faint, however quiet the vehicle is.
    let full = full.max(FULL_INK_OVER_NOISE * noise).max(1e-20);
    let ink = mean
        .iter()
        .map(|p| {
            let db = 10.0 * (p.max(1e-20) / full).log10();
            (255.0 * (1.0 + db / RANGE_DB).clamp(0.0, 1.0)) as u8
        })
        .collect();
    OrderMap {
        speed_from: from,
        speed_step: COLUMN_WIDTH_KMH,
        columns,
        order_step: 1.0 / turns as f64,
        rows,
        full: full.sqrt(),
        ink,
    }
}

impl OrderMap {
    /// Level of a cell in dB under full ink.
    fn db(&self, row: usize, column: usize) -> f64 {
        RANGE_DB * (f64::from(self.ink.get(row * self.columns + column).copied().unwrap_or(0)) / 255.0 - 1.0)
    }

    /// Amplitude of a cell, in the channel's unit, peak.
    pub fn amplitude(&self, row: usize, column: usize) -> f64 {
        self.full * 10f64.powf(self.db(row, column) / 20.0)
    }

    /// Speed at the right edge, km/h.
    pub fn speed_to(&self) -> f64 {
        self.speed_from + self.speed_step * self.columns as f64
    }

    /// Order at the upper edge.
    pub fn top(&self) -> f64 {
        self.order_step * self.rows as f64
    }

    /// What this map has more of than another, where both were driven: full ink is 24 dB more.
    pub fn less(&self, other: &OrderMap) -> OrderMap {
        const FULL_DB: f64 = 24.0;
        // What stands near the noise of the picture is no difference.
        const FAINT_DB: f64 = -0.75 * RANGE_DB;
        let level = |m: &OrderMap, db: f64| 20.0 * m.full.max(1e-12).log10() + db;
        let mut out = OrderMap { ink: vec![0; self.ink.len()], ..self.clone() };
        let rows = self.rows.min(other.rows);
        for c in 0..self.columns {
            let kmh = self.speed_from + self.speed_step * (c as f64 + 0.5);
            let oc = (kmh - other.speed_from) / other.speed_step;
            if oc < 0.0 || oc as usize >= other.columns {
                continue;
            }
            for r in 0..rows {
                let own = self.db(r, c);
                if own > FAINT_DB {
                    let more = level(self, own) - level(other, other.db(r, oc as usize));
                    out.ink[r * self.columns + c] = (255.0 * (more / FULL_DB).clamp(0.0, 1.0)) as u8;
                }
            }
        }
        out
    }

    /// The same over frequency: rows of Hz in place of orders, where a wheel turns `hz_per_kmh` times a
    /// second at 1 km/h. `order_step` is then the height of a row in Hz.
    pub fn by_frequency(&self, hz_per_kmh: f64) -> OrderMap {
        let top = self.top() * hz_per_kmh * self.speed_to();
        let step = top / self.rows.max(1) as f64;
        let mut out = OrderMap { ink: vec![0; self.ink.len()], order_step: step, ..self.clone() };
        for c in 0..self.columns {
            let wheel = hz_per_kmh * (self.speed_from + self.speed_step * (c as f64 + 0.5));
            for r in 0..self.rows {
                // A row of Hz covers several rows of orders where the wheel turns slowly: the darkest counts.
                let at = |r: usize| ((r as f64 * step / wheel / self.order_step) as usize).min(self.rows);
                let (from, to) = (at(r), (at(r + 1)).max(at(r) + 1).min(self.rows));
                out.ink[r * self.columns + c] = (from..to).map(|row| self.ink[row * self.columns + c]).max().unwrap_or(0);
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// One dark line at an order over all speeds.
    fn line(order: f64, ink: u8, full: f64) -> OrderMap {
        let mut m = OrderMap {
            speed_from: 40.0,
            speed_step: 1.0,
            columns: 60,
            order_step: 1.0 / 32.0,
            rows: 256,
            full,
            ink: vec![60; 60 * 256],
        };
        let r = (order * 32.0) as usize;
        (0..60).for_each(|c| m.ink[r * 60 + c] = ink);
        m
    }

    #[test]
    fn amplitudes_come_back_from_ink() {
        let m = line(4.0, 255, 0.8);
        assert!((m.amplitude(128, 5) - 0.8).abs() < 1e-9);
        assert!(m.amplitude(20, 5) < 0.02);
        assert_eq!((m.top(), m.speed_to()), (8.0, 100.0));
    }

    #[test]
    fn what_one_has_more_of_is_left_and_nothing_else() {
        let (a, b) = (line(4.0, 255, 0.8), line(4.0, 130, 0.8));
        let more = a.less(&b);
        assert!(more.ink[128 * 60 + 7] > 200 && more.ink[20 * 60 + 7] == 0);
        assert!(b.less(&a).ink.iter().all(|i| *i == 0));
        // The same picture twice as loud is 6 dB more everywhere that it can be seen.
        let loud = OrderMap { full: 1.6, ..a.clone() };
        assert!((i32::from(loud.less(&a).ink[128 * 60 + 7]) - 64).abs() <= 2);
    }

    #[test]
    fn an_order_leans_over_frequency() {
        let m = line(4.0, 255, 1.0);
        let f = m.by_frequency(0.125);
        let row = |c: usize| (0..f.rows).max_by_key(|r| f.ink[r * 60 + c]).unwrap() as f64 * f.order_step;
        for c in [0, 30, 59] {
            let hz = 4.0 * 0.125 * (40.5 + c as f64);
            assert!((row(c) - hz).abs() < 0.7, "{} {hz}", row(c));
        }
    }
}
