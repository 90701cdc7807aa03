//! Single events: a knock at one moment, as a load change makes it, apart from what repeats.

use crate::signal::estimate::median;
use serde::{Deserialize, Serialize};

/// A single knock.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Event {
    /// In which channel.
    pub channel: String,
    /// When, s.
    pub at_s: f64,
    /// dB over the floor around it.
    pub strength: f64,
}

/// Frames in which events are looked for, s.
pub(super) const FRAME_S: f64 = 0.02;
/// How far around an event its floor is taken, in frames on either side.
const FLOOR_FRAMES: usize = 100;
/// dB over the floor, and over the loudest beside it, that make an event.
const OVER_FLOOR_DB: f64 = 10.0;
const OVER_OTHERS_DB: f64 = 6.0;
/// Frames within which one knock rings.
const RINGING_FRAMES: usize = 12;
/// More than so many a minute are no single events.
const MAX_EVENTS_PER_MINUTE: f64 = 12.0;

/// Events in the bands of a channel whose first sample stands at `start`; the louder band of each.
pub(super) fn find_events(channel: &str, bands: &[(f64, Vec<f32>)], start: f64) -> Vec<Event> {
    let mut out: Vec<Event> = vec![];
    for (rate, data) in bands {
        for (at, strength) in of_band(data, *rate) {
            let at_s = start + at;
            match out.iter_mut().find(|e| (e.at_s - at_s).abs() < 0.3) {
                Some(e) if e.strength >= strength => {}
                Some(e) => (e.at_s, e.strength) = (at_s, strength),
                None => out.push(Event { channel: channel.to_string(), at_s, strength }),
            }
        }
    }
    let minutes = bands.iter().map(|(r, d)| d.len() as f64 / r / 60.0).fold(0.0, f64::max);
    // What comes all the time is a rhythm or a rattle, and shown as that.
    if out.len() as f64 > (MAX_EVENTS_PER_MINUTE * minutes).max(3.0) {
        return vec![];
    }
    out.sort_by(|a, b| a.at_s.total_cmp(&b.at_s));
    out
}

/// Rough floors of a band, one for each block of so many frames.
fn rough_floors(power: &[f32]) -> Vec<f32> {
    power.chunks(FLOOR_FRAMES).filter_map(|c| median(&mut c.to_vec(), f32::total_cmp)).collect()
}

fn of_band(power: &[f32], rate: f64) -> Vec<(f64, f64)> {
    let mut out = vec![];
    let rough = rough_floors(power);
    // Most frames are nowhere near an event: 3 dB below what one needs, they are not looked at closer.
    let least = 0.5 * 10f32.powf(OVER_FLOOR_DB as f32 / 10.0);
    let is_quiet = |i: usize| {
        let block = i / FLOOR_FRAMES;
        let floors = &rough[block.saturating_sub(2)..(block + 3).min(rough.len())];
        power[i] < least * floors.iter().copied().fold(f32::MAX, f32::min)
    };
    let mut i = 0;
    while i < power.len() {
        if is_quiet(i) {
            i += 1;
            continue;
        }
        let is_peak = power[i] > 0.0
            && (i.saturating_sub(RINGING_FRAMES)..(i + RINGING_FRAMES + 1).min(power.len())).all(|k| power[k] <= power[i]);
        if !is_peak {
            i += 1;
            continue;
        }
        // At an end the other side is looked at further.
        let lo = i.saturating_sub(FLOOR_FRAMES).min(power.len().saturating_sub(2 * FLOOR_FRAMES + 1));
        let hi = (lo + 2 * FLOOR_FRAMES + 1).min(power.len());
        let mut others: Vec<f32> = (lo..hi).filter(|k| k.abs_diff(i) > RINGING_FRAMES).map(|k| power[k]).collect();
        if others.len() < FLOOR_FRAMES / 2 {
            i += 1;
            continue;
        }
        // One more knock beside it may be the other half of a load change; a third makes a rhythm.
        let mut loudest: Vec<f32> = others.chunks(RINGING_FRAMES).map(|c| c.iter().copied().fold(0.0, f32::max)).collect();
        loudest.sort_by(|a, b| b.total_cmp(a));
        let loud = loudest.get(2).copied().unwrap_or(0.0);
        others.sort_by(f32::total_cmp);
        let db = |p: f32| 10.0 * f64::from(power[i] / p.max(1e-30)).log10();
        let floor = others[others.len() / 2];
        if db(floor) >= OVER_FLOOR_DB && db(loud) >= OVER_OTHERS_DB {
            out.push(((i as f64 + 0.5) / rate, db(floor)));
        }
        i += RINGING_FRAMES / 2;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn noise(n: usize) -> Vec<f32> {
        let mut seed = 3u64;
        (0..n)
            .map(|_| {
                seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                0.5 + (seed >> 40) as f32 / (1u32 << 24) as f32
            })
            .collect()
    }

    #[test]
    fn a_knock_is_an_event_and_what_repeats_is_none() {
        let mut x = noise(3000);
        for (k, v) in x.iter_mut().enumerate().skip(1500).take(6) {
            *v += 60.0 * (-(k as f32 - 1500.0) / 2.0).exp();
        }
        let e = find_events("mic", &[(50.0, x)], 2.0);
        assert_eq!(e.len(), 1);
        assert!((e[0].at_s - 32.0).abs() < 0.1 && e[0].strength > 15.0, "{e:?}");
        let mut x = noise(3000);
        x.iter_mut().step_by(40).for_each(|v| *v += 60.0);
        assert!(find_events("mic", &[(50.0, x)], 0.0).is_empty());
        assert!(find_events("mic", &[(50.0, noise(3000))], 0.0).is_empty());
    }
}
