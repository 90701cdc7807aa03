//! What a suspect would sound like on this vehicle at this speed, made from the orders that it makes:
//! for the driver to say "like this one". A sketch by ear, not a measurement.
//!
//! The voice follows the kind of symptom that the fault makes; its pitch and rhythm are the fault's own
//! orders at the wheel's speed. What turns too slowly to be heard as a tone is heard as a rumble that
//! swells with every turn.

use crate::case::Symptom;
use crate::measure::orders::{What, orders};
use crate::reasoning::knowledge::Knowledge;
use crate::reasoning::{Hypothesis, Ranked, hypotheses, predicted};
use crate::units::{Hz, KilometresPerHour, Seconds};
use crate::vehicle::Vehicle;
use std::f64::consts::TAU;

/// Samples a second.
pub const RATE: Hz = Hz(22050.0);
/// How long a sound is.
pub const LENGTH: Seconds = Seconds(4.0);
/// Below this a tone is hardly heard from a small loudspeaker, Hz.
const DEEP_TONE_HZ: f64 = 60.0;
/// How much two tyres of one axle differ, relative: why a wheel's shake swells slowly.
const TYRE_DIFFERENCE: f64 = 0.012;

/// How something sounds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Voice {
    /// A tone with its overtones.
    Hum,
    /// Two nearly equal tones that swell.
    Beat,
    /// Rough noise in a rhythm.
    Growl,
    /// A clear tone with others close beside it.
    Whine,
    /// The same click over and over.
    Clicks,
    /// One knock when the load changes.
    Clunk,
    /// A high note that comes and goes.
    Squeal,
    /// Loose metal.
    Rattle,
}

impl Voice {
    /// As people read it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Hum => "a hum",
            Self::Beat => "a shake that swells and fades",
            Self::Growl => "a growl",
            Self::Whine => "a whine",
            Self::Clicks => "clicks",
            Self::Clunk => "one knock when the load changes",
            Self::Squeal => "a squeal that comes and goes",
            Self::Rattle => "a rattle",
        }
    }

    fn new(kind: &str, fault: &str) -> Option<Self> {
        Some(match kind {
            "vibration" if fault == "wheel-imbalance" => Self::Beat,
            "vibration" | "shudder" => Self::Hum,
            "growl" => Self::Growl,
            "whine" => Self::Whine,
            "click-repeating" => Self::Clicks,
            "knock" => Self::Clicks,
            "clunk" | "click-single" => Self::Clunk,
            "squeal" => Self::Squeal,
            "rattle" | "grind" => Self::Rattle,
            _ => return None,
        })
    }
}

/// A sound made.
#[derive(Clone, Debug, PartialEq)]
pub struct Sound {
    /// How it sounds.
    pub voice: Voice,
    /// How often a second its pitch or rhythm comes; none for a single knock.
    pub rhythm: Option<Hz>,
    /// Its samples at [`RATE`], full scale ±1.
    pub samples: Vec<f32>,
}

impl Sound {
    /// In words: “a hum, 53 times a second”.
    pub fn words(&self) -> String {
        match self.rhythm {
            Some(f) if f.get() < 10.0 => format!("{}, {:.1} times a second", self.voice.words(), f.get()),
            Some(f) => format!("{}, {:.0} times a second", self.voice.words(), f.get()),
            None => self.voice.words().to_string(),
        }
    }
}

/// The same chance on every machine: what is made twice is the same.
struct Chance(u64);
impl Chance {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 11) as f64 / (1u64 << 53) as f64 * 2.0 - 1.0
    }
}

/// Where a run is meant: its speed and its gear.
#[derive(Clone, Copy, Debug)]
pub struct At<'a> {
    /// Road speed.
    pub speed: KilometresPerHour,
    /// The gear; the top one when left out.
    pub gear: Option<&'a str>,
    /// The kind of the symptom: a fault that makes several sounds is heard as that one.
    pub kind: Option<&'a str>,
}

/// The sound of a suspect; none where it makes none that could be heard apart.
pub fn sound(v: &Vehicle, k: &Knowledge, h: &Hypothesis, at: At<'_>) -> Option<Sound> {
    let fault = k.fault(&h.fault)?;
    let kind = at.kind.filter(|k| fault.kinds.contains_key(*k)).or(fault.usual_kinds().first().copied())?;
    let voice = Voice::new(kind, &h.fault)?;
    let wheel = at.speed.to_ms().get() / v.circumference().ok()?.get();
    let gear = at.gear.or(v.gearbox.gears.last().map(|g| g.name.as_str()));
    let per_wheel = v.engine_per_wheel(gear, None).ok().flatten();
    let ladder = orders(v, gear).or_else(|_| orders(v, None)).ok()?;
    let mut lines: Vec<f64> =
        predicted(k, h, &ladder).iter().filter_map(|p| Some(p.line.wheel_order(per_wheel)?.get() * wheel)).collect();
    lines.dedup_by(|a, b| (*a - *b).abs() < 1e-9);
    if lines.is_empty() {
        lines.push(match voice {
            // A pitch that nothing gives would only be made up.
            Voice::Hum | Voice::Beat | Voice::Whine => return None,
            // A bearing whose geometry is not known: as often as one of nine elements meets its outer ring.
            Voice::Growl => {
                let of = |what: What| ladder.iter().find(|l| l.what == what && l.at.starts_with(part_of(&h.at)));
                let turns = of(What::Prop).or_else(|| of(What::EngineFirst)).and_then(|l| l.wheel_order(per_wheel));
                0.4 * 9.0 * turns.map_or(1.0, |o| o.get()) * wheel
            }
            _ => wheel,
        });
    }
    let mut seed = Chance(h.fault.bytes().fold(7u64, |s, b| s.wrapping_mul(31).wrapping_add(u64::from(b))));
    let n = (LENGTH.get() * RATE.get()) as usize;
    let t = |i: usize| i as f64 / RATE.get();
    let samples: Vec<f64> = match voice {
        Voice::Hum => hum(&lines, n, &mut seed),
        Voice::Beat => {
            let (a, b) = (hum(&lines, n, &mut seed), hum(&[lines[0] * (1.0 + TYRE_DIFFERENCE)], n, &mut seed));
            let swell = |i: usize| 0.55 + 0.45 * (TAU * TYRE_DIFFERENCE * 3.0 * lines[0] * t(i)).cos();
            a.iter().zip(&b).enumerate().map(|(i, (a, b))| swell(i) * (a + 0.6 * b)).collect()
        }
        Voice::Growl => {
            let rough = band(n, 180.0, 1100.0, &mut seed);
            rough
                .iter()
                .enumerate()
                .map(|(i, r)| r * (0.35 + 0.65 * (0.5 + 0.5 * (TAU * lines[0] * t(i)).cos()).powi(3)))
                .collect()
        }
        Voice::Whine => {
            let beside = [wheel, -wheel];
            (0..n)
                .map(|i| {
                    let tone = |f: f64, a: f64| a * (TAU * f * t(i)).sin();
                    let main: f64 = lines.iter().take(2).map(|f| tone(*f, 1.0) + tone(2.0 * f, 0.4)).sum();
                    main + beside.iter().map(|b| tone(lines[0] + b, 0.25)).sum::<f64>()
                })
                .collect()
        }
        Voice::Clicks => strokes(lines[0], n, 1700.0, 90.0, &mut seed),
        Voice::Clunk => {
            let mut x = vec![0.0; n];
            for (at, a) in [(0.7, 1.0), (2.6, 0.8)] {
                stroke(&mut x, (at * RATE.get()) as usize, a, 95.0, 14.0);
                stroke(&mut x, (at * RATE.get()) as usize, 0.5 * a, 620.0, 60.0);
            }
            x
        }
        Voice::Squeal => {
            let f = lines[0];
            (0..n)
                .map(|i| {
                    let swell = (0.5 + 0.5 * (TAU * f.min(12.0) * t(i)).cos()).powi(2);
                    swell * ((TAU * 2350.0 * t(i)).sin() + 0.4 * (TAU * 4710.0 * t(i)).sin())
                })
                .collect()
        }
        Voice::Rattle => {
            let mut x = vec![0.0; n];
            let mut at = 0.0;
            while at < LENGTH.get() {
                stroke(&mut x, (at * RATE.get()) as usize, 0.6 + 0.4 * seed.next(), 2600.0 + 500.0 * seed.next(), 160.0);
                at += 0.055 + 0.03 * seed.next();
            }
            x
        }
    };
    let most = samples.iter().fold(1e-9f64, |m, v| m.max(v.abs()));
    // In and out softly: a hard edge is a click that nobody has.
    let edge = |i: usize| (t(i) / 0.05).min((LENGTH.get() - t(i)) / 0.05).clamp(0.0, 1.0);
    let samples = samples.iter().enumerate().map(|(i, v)| (0.7 * edge(i) * v / most) as f32).collect();
    let rhythm = (!matches!(voice, Voice::Clunk | Voice::Rattle | Voice::Squeal)).then_some(Hz(lines[0]));
    Some(Sound { voice, rhythm, samples })
}

/// The part that a place belongs to: `prop.rear` of `prop.rear.sb1`, `diff` of `diff.rear`.
fn part_of(at: &str) -> &str {
    match at.strip_prefix("prop.") {
        Some(rest) => &at[.."prop.".len() + rest.split('.').next().map_or(0, str::len)],
        None => at.split('.').next().unwrap_or(at),
    }
}

/// Sounds that are laid side by side.
const MAX_SOUNDS: usize = 6;
/// Rhythms nearer to each other than this, relative, sound alike.
const ALIKE_RHYTHM_SHARE: f64 = 0.03;
/// Speed where the driver has named none, and between which it is listened to, km/h.
const USUAL_SPEED_KMH: f64 = 80.0;
const SPEEDS: (f64, f64) = (5.0, 200.0);

/// The speed at which a symptom's suspects are listened to: as asked, else where it is worst.
pub fn speed_of(s: Option<&Symptom>, asked: Option<KilometresPerHour>) -> KilometresPerHour {
    let range = s.and_then(|s| s.speed_kmh);
    let worst = range.and_then(|r| r.peak.or(Some(0.5 * (r.from? + r.to?))).or(r.from));
    let asked = asked.map(|v| v.get()).filter(|v| v.is_finite());
    KilometresPerHour(asked.or(worst).unwrap_or(USUAL_SPEED_KMH).clamp(SPEEDS.0, SPEEDS.1))
}

/// The likeliest suspects that sound, one of each fault, no two that sound alike; by their rhythm, so
/// that the order says nothing of how likely they are.
pub fn side_by_side(v: &Vehicle, k: &Knowledge, ranked: &[Ranked], at: At<'_>) -> Vec<(Hypothesis, Sound)> {
    let all = hypotheses(v, k);
    let mut out: Vec<(Hypothesis, Sound)> = vec![];
    for r in ranked {
        let Some(h) = all.iter().find(|h| h.fault == r.fault && h.at == r.at) else { continue };
        if out.iter().any(|o| o.0.fault == h.fault) {
            continue;
        }
        let Some(s) = sound(v, k, h, at) else { continue };
        let alike = |o: &Sound| {
            o.voice == s.voice
                && match (o.rhythm, s.rhythm) {
                    (Some(a), Some(b)) => (a.get() / b.get() - 1.0).abs() < ALIKE_RHYTHM_SHARE,
                    (a, b) => a.is_none() && b.is_none(),
                }
        };
        if !out.iter().any(|o| alike(&o.1)) {
            out.push((h.clone(), s));
        }
        if out.len() == MAX_SOUNDS {
            break;
        }
    }
    let hz = |s: &Sound| s.rhythm.map_or(0.0, |f| f.get());
    out.sort_by(|a, b| hz(&a.1).total_cmp(&hz(&b.1)).then(a.0.fault.cmp(&b.0.fault)));
    out
}

/// A tone with overtones; what is too deep for it is a rumble in its rhythm as well.
fn hum(lines: &[f64], n: usize, seed: &mut Chance) -> Vec<f64> {
    let rumble = band(n, 50.0, 320.0, seed);
    (0..n)
        .map(|i| {
            let t = i as f64 / RATE.get();
            lines
                .iter()
                .take(3)
                .enumerate()
                .map(|(k, f)| {
                    let a = 1.0 / (1.0 + k as f64);
                    let tone: f64 = (1..=4).map(|h| (TAU * f * f64::from(h) * t).sin() / f64::from(h * h)).sum();
                    let deep = if *f < DEEP_TONE_HZ { rumble[i] * (0.5 + 0.5 * (TAU * f * t).cos()).powi(2) } else { 0.0 };
                    a * (tone + 1.4 * deep)
                })
                .sum()
        })
        .collect()
}

/// Noise between two frequencies: two one-pole filters.
fn band(n: usize, low: f64, high: f64, seed: &mut Chance) -> Vec<f64> {
    let pole = |f: f64| 1.0 - (-TAU * f / RATE.get()).exp();
    let (mut fast, mut slow) = (0.0, 0.0);
    let x: Vec<f64> = (0..n)
        .map(|_| {
            fast += pole(high) * (seed.next() - fast);
            slow += pole(low) * (fast - slow);
            fast - slow
        })
        .collect();
    let rms = (x.iter().map(|v| v * v).sum::<f64>() / n.max(1) as f64).sqrt().max(1e-9);
    x.iter().map(|v| v / rms * 0.5).collect()
}

/// A ringing stroke that dies away at `decay` a second.
fn stroke(x: &mut [f64], from: usize, a: f64, hz: f64, decay: f64) {
    for (i, v) in x.iter_mut().skip(from).take((6.0 / decay * RATE.get()) as usize).enumerate() {
        let t = i as f64 / RATE.get();
        *v += a * (-decay * t).exp() * (TAU * hz * t).sin();
    }
}

/// Strokes in a rhythm, none quite like the other.
fn strokes(rhythm: f64, n: usize, hz: f64, decay: f64, seed: &mut Chance) -> Vec<f64> {
    let mut x = vec![0.0; n];
    let mut at = 0.1;
    while at < LENGTH.get() && rhythm > 0.01 {
        stroke(&mut x, (at * RATE.get()) as usize, 0.8 + 0.2 * seed.next(), hz * (1.0 + 0.05 * seed.next()), decay);
        at += 1.0 / rhythm;
    }
    x
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reasoning::hypotheses;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::*;

    fn of(v: &Vehicle, fault: &str, place: &str, kmh: f64, kind: Option<&str>) -> Sound {
        let h = hypotheses(v, builtin()).into_iter().find(|h| h.fault == fault && h.at == place).unwrap();
        sound(v, builtin(), &h, At { speed: KilometresPerHour(kmh), gear: None, kind }).unwrap()
    }
    /// Power of a frequency, by projection.
    fn power(x: &[f32], hz: f64) -> f64 {
        let (mut re, mut im) = (0.0, 0.0);
        for (i, v) in x.iter().enumerate() {
            let p = TAU * hz * i as f64 / RATE.get();
            re += f64::from(*v) * p.cos();
            im += f64::from(*v) * p.sin();
        }
        re.hypot(im) / x.len() as f64
    }

    #[test]
    fn a_shaft_hums_at_its_own_pitch() {
        let v = rear_drive(2);
        let s = of(&v, "prop-imbalance", "prop.rear.s2", 95.0, Some("vibration"));
        let hz = 4.1 * 95.0 / 3.6 / v.circumference().unwrap().get();
        assert_eq!(s.voice, Voice::Hum);
        assert!((s.rhythm.unwrap().get() - hz).abs() < 0.01);
        assert!(power(&s.samples, hz) > 20.0 * power(&s.samples, hz * 1.31));
        assert_eq!(s.words(), format!("a hum, {hz:.0} times a second"));
    }

    #[test]
    fn no_two_that_stand_side_by_side_sound_alike() {
        let v = rear_drive(2);
        let ranked: Vec<Ranked> = hypotheses(&v, builtin())
            .iter()
            .map(|h| Ranked { fault: h.fault.clone(), at: h.at.clone(), gear: None, with: vec![], p: 0.01, because: vec![] })
            .collect();
        let at = At { speed: speed_of(None, None), gear: None, kind: Some("vibration") };
        let all = side_by_side(&v, builtin(), &ranked, at);
        assert_eq!(all.len(), MAX_SOUNDS);
        assert!(all.windows(2).all(|w| w[0].0.fault != w[1].0.fault && w[0].1.words() != w[1].1.words()));
        assert!(side_by_side(&v, builtin(), &[], at).is_empty());
        assert_eq!(speed_of(None, Some(KilometresPerHour(f64::NAN))).get(), USUAL_SPEED_KMH);
        assert_eq!(speed_of(None, Some(KilometresPerHour(900.0))).get(), SPEEDS.1);
    }

    #[test]
    fn an_outer_joint_clicks_six_times_a_wheel_turn() {
        let v = front_drive();
        let s = of(&v, "outer-joint-worn", "half.fl.outer", 20.0, None);
        assert_eq!(s.voice, Voice::Clicks);
        let per_second = 6.0 * 20.0 / 3.6 / v.circumference().unwrap().get();
        assert!((s.rhythm.unwrap().get() - per_second).abs() < 0.01);
        // The strokes themselves are counted: loud after quiet.
        let (mut count, mut quiet) = (0, 1000);
        for v in &s.samples {
            if v.abs() > 0.1 && quiet > 250 {
                count += 1;
            }
            quiet = if v.abs() > 0.1 { 0 } else { quiet + 1 };
        }
        assert!((f64::from(count) - per_second * (LENGTH.get() - 0.1)).abs() <= 2.0, "{count}");
    }

    #[test]
    fn every_suspect_of_every_layout_sounds_like_itself_or_says_nothing() {
        let mut voices = vec![];
        for v in every_layout() {
            for h in hypotheses(&v, builtin()) {
                let Some(s) = sound(&v, builtin(), &h, At { speed: KilometresPerHour(80.0), gear: None, kind: None }) else {
                    continue;
                };
                assert_eq!(s.samples.len(), (LENGTH.get() * RATE.get()) as usize);
                let most = s.samples.iter().fold(0.0f32, |m, x| m.max(x.abs()));
                assert!((0.3..=0.71).contains(&most), "{} {most}", h.fault);
                if !voices.contains(&s.voice) {
                    voices.push(s.voice);
                }
            }
        }
        assert_eq!(voices.len(), 8, "{voices:?}");
    }
}
