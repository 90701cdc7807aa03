//! The order map: how strong every order is at every speed, as one small picture.

use super::angle::Angle;
use super::turned::{Turned, Windows};
use serde::{Deserialize, Serialize};

/// Columns stand this far apart, km/h.
const COLUMN: f64 = 1.0;
/// Range from white to full ink, dB.
const RANGE_DB: f64 = 48.0;

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
pub(super) fn draw(x: &Turned, angle: &Angle, max_order: f64, scale: f64) -> OrderMap {
    let turns = 32;
    let Windows { spectra: spec, speed } = x.windows(angle, turns, max_order * scale, false);
    let (lo, hi) = speed.iter().fold((f64::MAX, f64::MIN), |b, &v| (b.0.min(v), b.1.max(v)));
    if speed.is_empty() {
        return OrderMap::default();
    }
    let from = (lo / COLUMN).floor() * COLUMN;
    let columns = ((hi - from) / COLUMN).floor() as usize + 1;
    let bins = spec.power[0].len();
    let rows = (max_order * turns as f64) as usize;
    let mut sum = vec![0.0f64; columns * bins];
    let mut count = vec![0.0f64; columns];
    for (w, v) in speed.iter().enumerate() {
        // A window reaches over the speeds that it spans: it is shared between the two nearest columns.
        let c = (v - from) / COLUMN - 0.5;
        for (k, share) in [(c.floor(), 1.0 - c.fract().abs()), (c.floor() + 1.0, c.fract().abs())] {
            if k < 0.0 || k as usize >= columns || share <= 0.0 {
                continue;
            }
            let k = k as usize;
            count[k] += share;
            for (b, p) in spec.power[w].iter().enumerate() {
                sum[k * bins + b] += share * f64::from(*p);
            }
        }
    }
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
    let mut sorted = mean.clone();
    let top = (sorted.len() as f64 * 0.999) as usize;
    let top = top.min(sorted.len() - 1);
    let (_, full, _) = sorted.select_nth_unstable_by(top, f64::total_cmp);
    let full = full.max(1e-20);
    let ink = mean
        .iter()
        .map(|p| {
            let db = 10.0 * (p.max(1e-20) / full).log10();
            (255.0 * (1.0 + db / RANGE_DB).clamp(0.0, 1.0)) as u8
        })
        .collect();
    OrderMap { speed_from: from, speed_step: COLUMN, columns, order_step: 1.0 / turns as f64, rows, full: full.sqrt(), ink }
}
