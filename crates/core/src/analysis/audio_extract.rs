//! A stretch of a recording for the ear: all of it, one order alone, or everything but that order.
//!
//! The order is turned back to standing by its own angle (x·exp(−j·2π·o·θ)), averaged over a few of its
//! turns, and turned forward again: what is left is that order with its level as it changes.

use super::ReferenceFound;
use crate::error::Problem;
use crate::signal::{Pyramid, Resampler, Samples, SpeedTrack, true_samples};
use crate::units::{Hz, KilometresPerHour, Seconds};
use crate::vehicle::Vehicle;
use num_complex::Complex64;
use std::f64::consts::TAU;

/// What of a stretch is wanted.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Part {
    /// All of it.
    All,
    /// One order (in wheel turns) alone.
    Only(f64),
    /// Everything but one order.
    Without(f64),
}

/// A stretch ready to be played.
#[derive(Clone, Debug, PartialEq)]
pub struct Heard {
    /// Samples a second.
    pub rate: Hz,
    /// Where it begins in the recording, and how long it is.
    pub from: Seconds,
    /// Samples, the loudest at 0.8.
    pub samples: Vec<f32>,
}

/// Samples a second that every player takes.
const PLAYED_RATE_HZ: f64 = 8000.0;
/// The longest stretch, s.
const LONGEST_STRETCH_S: f64 = 120.0;
/// Turns of the order that are averaged, and the least time, s.
const AVERAGED_TURNS: f64 = 12.0;
const AVERAGED_MIN_S: f64 = 0.3;

/// The stretch of so many seconds in which the speed is nearest to one.
pub fn stretch_at(s: &Samples, kmh: KilometresPerHour, length: Seconds) -> (Seconds, Seconds) {
    let (start, end) = (s.start.get(), s.start.get() + s.duration().get());
    let nearest = s.speed.iter().min_by(|a, b| (a.1 * 3.6 - kmh.get()).abs().total_cmp(&(b.1 * 3.6 - kmh.get()).abs()));
    let from = (nearest.map_or(start, |r| r.0) - 0.5 * length.get()).min(end - length.get()).max(start);
    (Seconds(from), Seconds((from + length.get()).min(end)))
}

/// Takes a stretch out of a channel, with the reference as the analysis found it.
pub fn listen(
    v: &Vehicle,
    s: &Samples,
    channel: &str,
    found: Option<&ReferenceFound>,
    (from, to): (Seconds, Seconds),
    part: Part,
) -> Result<Heard, Problem> {
    let c = s
        .channels
        .iter()
        .find(|c| c.name == channel)
        .ok_or_else(|| Problem::new("unknown-channel", format!("the recording has no channel {channel}")).field("channel"))?;
    let rate = s.rate.get();
    let (start, end) = (s.start.get(), s.start.get() + s.duration().get());
    let (from, to) = (from.get().max(start), to.get().min(end));
    if to - from < 0.2 || to - from > LONGEST_STRETCH_S || rate <= 0.0 {
        let message = format!("a stretch of 0.2 to {LONGEST_STRETCH_S:.0} s between {start:.1} and {end:.1} s can be played");
        return Err(Problem::new("out-of-range", message).field("from"));
    }
    let (a, n) = (((from - start) * rate) as usize, ((to - from) * rate) as usize);
    let mut x = vec![0.0f32; n];
    c.data.read(a, &mut x)?;
    let mean = x.iter().sum::<f32>() / n.max(1) as f32;
    x.iter_mut().for_each(|v| *v -= mean);
    if let Part::Only(order) | Part::Without(order) = part {
        let tone = tone(v, s, found, order, from, &x)?;
        match part {
            Part::Only(_) => x = tone,
            _ => x.iter_mut().zip(&tone).for_each(|(v, t)| *v -= t),
        }
    }
    let (played, samples) = if rate >= PLAYED_RATE_HZ {
        (rate, x)
    } else {
        let p = Pyramid::new(x, rate, rate);
        let stretch = Resampler::shared().stretch(&p, PLAYED_RATE_HZ);
        let times: Vec<f64> = (0..((to - from) * PLAYED_RATE_HZ) as usize).map(|i| i as f64 / PLAYED_RATE_HZ).collect();
        (PLAYED_RATE_HZ, stretch.at_all(&times))
    };
    let most = samples.iter().fold(1e-12f32, |m, v| m.max(v.abs()));
    Ok(Heard { rate: Hz(played), from: Seconds(from), samples: samples.iter().map(|v| 0.8 * v / most).collect() })
}

fn tone(v: &Vehicle, s: &Samples, found: Option<&ReferenceFound>, order: f64, from: f64, x: &[f32]) -> Result<Vec<f32>, Problem> {
    let no = |why: &str| Problem::new("no-reference", format!("one order cannot be taken out: {why}")).field("part");
    let found = found.filter(|f| f.source == "speed").ok_or_else(|| no("this run has no road speed"))?;
    if !(0.05..=200.0).contains(&order) {
        return Err(Problem::new("out-of-range", "an order lies between 0.05 and 200").field("order"));
    }
    let track = SpeedTrack::fit(&true_samples(&s.speed), 6.0).ok_or_else(|| no("there are too few speed readings"))?;
    let (c, rate, lag) = (v.circumference()?.get(), s.rate.get(), found.lag_s.unwrap_or(0.0));
    let turns = |t: f64| found.scale * order * track.integral(t + lag) / c;
    let at = |i: usize| from + i as f64 / rate;
    let phases: Vec<Complex64> = (0..x.len()).map(|i| Complex64::from_polar(1.0, TAU * turns(at(i)).fract())).collect();
    let back: Vec<Complex64> = x.iter().zip(&phases).map(|(v, p)| f64::from(*v) * p.conj()).collect();
    let hz = (turns(at(x.len())) - turns(from)) / (x.len() as f64 / rate);
    let half = (0.5 * rate * (AVERAGED_TURNS / hz.max(0.1)).max(AVERAGED_MIN_S)) as usize;
    // Twice averaged: a triangle, whose sides die away.
    let smooth = averaged(&averaged(&back, half / 2), half / 2);
    Ok(smooth.iter().zip(&phases).map(|(z, p)| (2.0 * (z * p).re) as f32).collect())
}

/// The mean over so many samples on either side.
fn averaged(x: &[Complex64], half: usize) -> Vec<Complex64> {
    let mut sum = vec![Complex64::default()];
    x.iter().for_each(|v| sum.push(sum[sum.len() - 1] + v));
    (0..x.len())
        .map(|i| {
            let (a, b) = (i.saturating_sub(half), (i + half + 1).min(x.len()));
            (sum[b] - sum[a]) / (b - a) as f64
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::signal::{Channel, Quantity};
    use crate::vehicle::sample::rear_drive;

    /// Orders 1 and 4.1 at a climbing speed, and what each is alone.
    fn built() -> (Samples, Vec<f32>, Vec<f32>) {
        let (rate, c) = (400.0, rear_drive(2).circumference().unwrap().get());
        let speed = |t: f64| 15.0 + 0.25 * t;
        let (mut turns, mut one, mut four) = (0.0, vec![], vec![]);
        for i in 0..(60.0 * rate) as usize {
            turns += speed(i as f64 / rate) / c / rate;
            one.push((0.5 * (TAU * turns).cos()) as f32);
            four.push((0.3 * (TAU * 4.1 * turns).sin()) as f32);
        }
        let data: Vec<f32> = one.iter().zip(&four).map(|(a, b)| a + b).collect();
        let channel = Channel { name: "az".into(), quantity: Quantity::Acceleration, unit: "m/s2".into(), data: data.into() };
        let s = Samples {
            rate: Hz(rate),
            channels: vec![channel],
            speed: (0..60).map(|t| (f64::from(t), speed(f64::from(t)))).collect(),
            ..Samples::default()
        };
        (s, one, four)
    }
    fn found() -> ReferenceFound {
        ReferenceFound { source: "speed".into(), scale: 1.0, scale_sigma: 0.001, lag_s: None, lag_sigma_s: None }
    }
    fn rms(x: &[f32]) -> f64 {
        (x.iter().map(|v| f64::from(*v).powi(2)).sum::<f64>() / x.len() as f64).sqrt()
    }

    #[test]
    fn one_order_alone_and_everything_but_it() {
        let (s, one, four) = built();
        let span = (Seconds(20.0), Seconds(30.0));
        let t = tone(&rear_drive(2), &s, Some(&found()), 4.1, 20.0, &{
            let mut x = vec![0.0; 4000];
            s.channels[0].data.read(8000, &mut x).unwrap();
            x
        })
        .unwrap();
        // Inside, where the average has both its sides, it is that order and nothing else.
        let off: Vec<f32> = t[400..3600].iter().zip(&four[8400..11600]).map(|(a, b)| a - b).collect();
        assert!(rms(&off) < 0.08 * rms(&four), "{}", rms(&off));
        let rest = listen(&rear_drive(2), &s, "az", Some(&found()), span, Part::Without(4.1)).unwrap();
        let all = listen(&rear_drive(2), &s, "az", Some(&found()), span, Part::All).unwrap();
        assert_eq!((rest.rate, rest.samples.len()), (Hz(8000.0), 80_000));
        assert!((rms(&all.samples) / rms(&rest.samples) - 1.0).abs() < 0.5 && rms(&one) > 0.3);
    }

    #[test]
    fn the_stretch_is_where_the_speed_is_and_nonsense_is_named() {
        let (s, ..) = built();
        let (a, b) = stretch_at(&s, KilometresPerHour(90.0), Seconds(8.0));
        assert!((a.get() - 36.0).abs() < 1.5 && (b.get() - a.get() - 8.0).abs() < 1e-9, "{a:?}");
        let ask = |ch: &str, span: (f64, f64), part, f: Option<&ReferenceFound>| {
            listen(&rear_drive(2), &s, ch, f, (Seconds(span.0), Seconds(span.1)), part).unwrap_err().code
        };
        let f = found();
        assert_eq!(ask("ax", (1.0, 5.0), Part::All, Some(&f)), "unknown-channel");
        assert_eq!(ask("az", (70.0, 80.0), Part::All, Some(&f)), "out-of-range");
        assert_eq!(ask("az", (1.0, 5.0), Part::Only(f64::NAN), Some(&f)), "out-of-range");
        assert_eq!(ask("az", (1.0, 5.0), Part::Only(4.1), None), "no-reference");
    }
}
