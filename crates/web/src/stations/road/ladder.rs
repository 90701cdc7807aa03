//! The ladder beside a map and in a list: which lines this vehicle can have, and which of them were found.

use crate::charts::Rung;
use crate::error::PageError;
use crate::wording::rung;
use baricord_core::analysis::{Analysis, OrderFound, RecordingAnalysis};
use baricord_core::case::Case;
use baricord_core::measure::orders::{Family, OrderLine, What, orders};
use baricord_core::vehicle::Vehicle;

/// The lines beside a run's map, none of them pressed.
pub fn rungs_of(case: &Case, a: &Analysis, run: &str) -> Result<Vec<Rung>, PageError> {
    let spec = case.recordings.iter().find(|r| r.id == run).ok_or(PageError::NotFound)?;
    let found = a.recording(run).ok_or(PageError::NotFound)?;
    let ladder = orders(&case.vehicle, spec.fixed_gear()).or_else(|_| orders(&case.vehicle, None))?;
    let mut rungs = ladder_view(&case.vehicle, found, &ladder, usize::MAX, "");
    rungs.iter_mut().for_each(|r| r.href = None);
    Ok(rungs)
}

/// The rung that a found order stands on, if it stands on one.
pub fn rung_of<'a>(o: &OrderFound, ladder: &'a [OrderLine], epw: Option<f64>) -> Option<(&'a OrderLine, f64)> {
    let wheel = o.wheel_order(epw)?;
    ladder
        .iter()
        .filter_map(|l| l.wheel_order(epw.map(baricord_core::units::Order)).map(|w| (l, w.get())))
        .filter(|(l, _)| l.what != What::HalfShaft)
        .filter(|(_, w)| (w - wheel).abs() < (3.0 * o.order_sigma).max(0.006 * w).max(0.02))
        .min_by(|a, b| (a.1 - wheel).abs().total_cmp(&(b.1 - wheel).abs()))
}

/// Rungs of the ladder: what this vehicle can have, and what was found beside it.
pub fn ladder_view(v: &Vehicle, r: &RecordingAnalysis, ladder: &[OrderLine], line: usize, base: &str) -> Vec<Rung> {
    let epw = r.engine_per_wheel;
    let mut out: Vec<Rung> = vec![];
    let found: Vec<Option<f64>> = r.orders.iter().take(12).map(|o| rung_of(o, ladder, epw).map(|x| x.1)).collect();
    for l in ladder {
        let Some(w) = l.wheel_order(epw.map(baricord_core::units::Order)) else { continue };
        if l.what == What::HalfShaft
            || matches!(l.what.family(), Family::Bearing | Family::Half)
                && !found.iter().flatten().any(|f| (f - w.get()).abs() < 1e-6)
        {
            continue;
        }
        if out.iter().any(|x| (x.order - w.get()).abs() < 0.004 * w.get()) {
            continue;
        }
        let which = found.iter().position(|f| f.is_some_and(|f| (f - w.get()).abs() < 1e-6));
        let many = v.props.len() > 1 && l.what.family() == Family::Shaft;
        let words = if many { format!("{}, {}", l.what.words(), v.place_words(&l.at)) } else { l.what.words().to_string() };
        out.push(Rung {
            key: rung(l.base, l.order.get()),
            words,
            order: w.get(),
            family: l.what.family(),
            chosen: which == Some(line),
            found: which.is_some(),
            href: which.map(|i| format!("{base}&line={i}")),
        });
    }
    for (i, o) in r.orders.iter().take(12).enumerate().filter(|(i, _)| found[*i].is_none()) {
        if let Some(w) = o.wheel_order(epw) {
            let name = match w {
                w if (w - 2.0).abs() < 0.03 => "wheel, twice a turn".to_string(),
                w if (w - 3.0).abs() < 0.03 => "wheel, three times a turn".to_string(),
                _ => "measured, no part".to_string(),
            };
            out.push(Rung {
                key: rung(o.base, o.order),
                words: name,
                order: w,
                family: Family::Wheel,
                chosen: i == line,
                found: true,
                href: Some(format!("{base}&line={i}")),
            });
        }
    }
    out
}
