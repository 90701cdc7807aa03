//! The coach on the road: what of the planned runs has been driven slowly enough, what is still
//! missing, and when it is enough.
//!
//! A stretch of speed is done when as many wheel turns as the tracker's window holds were driven in
//! it: faster, and a line is smeared over more than its width. A pair of suspects is separated as soon
//! as a run that tells them apart is done where the symptom is felt.

use crate::case::Case;
use crate::drive::run_plan::{PlannedRun, USUAL_SPEEDS_KMH};
use crate::units::{KilometresPerHour, Metres, Seconds};
use serde::{Deserialize, Serialize};

/// Width of a stretch, km/h.
const STRETCH_WIDTH_KMH: f64 = 5.0;
/// Wheel turns that a stretch needs.
const STRETCH_WHEEL_TURNS: f64 = 24.0;
/// How far around the speed at which it is felt most a run must be done, km/h.
const AROUND_PEAK_KMH: f64 = 7.5;
/// Where no such speed is known, the share of a run that must be done.
const COMPLETE_SHARE: f64 = 0.8;

/// A run that is asked for, or that was driven.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Leg {
    /// The gear; none on a single speed.
    pub gear: Option<String>,
    /// Lower end, km/h.
    pub from: KilometresPerHour,
    /// To.
    pub to: KilometresPerHour,
    /// drive, coast, float, neutral.
    pub throttle: String,
}

impl Leg {
    /// In the words in which it is said aloud.
    pub fn words(&self) -> String {
        let gear = self.gear.as_deref().map_or(String::new(), |g| format!("{}, ", gear_words(g)));
        format!("{gear}{}, {:.0} to {:.0} km/h", throttle_words(&self.throttle), self.from.get(), self.to.get())
    }
}

impl Leg {
    /// The least time in which it can be driven slowly enough on a tyre of this circumference: the turns
    /// that a stretch needs take TURNS·C/v, summed over all of its stretches.
    pub fn least_time(&self, circumference: Metres) -> Seconds {
        let (a, b) = (self.from.get().min(self.to.get()), self.from.get().max(self.to.get()));
        Seconds(STRETCH_WHEEL_TURNS * circumference.get() * 3.6 / STRETCH_WIDTH_KMH * (b.max(1.0) / a.max(1.0)).ln())
    }
}

/// “4th”, “2nd”, “D”.
pub fn gear_words(name: &str) -> String {
    match name {
        "1" => "1st".into(),
        "2" => "2nd".into(),
        "3" => "3rd".into(),
        n if n.parse::<u32>().is_ok() => format!("{n}th"),
        n => n.to_string(),
    }
}

/// What the right foot does.
pub fn throttle_words(throttle: &str) -> &'static str {
    match throttle {
        "coast" => "off the throttle",
        "float" => "just holding the speed",
        "neutral" => "out of gear",
        _ => "light throttle",
    }
}

/// What was driven of a leg: time (s) and speed.
#[derive(Clone, Debug, PartialEq)]
pub struct Driven {
    /// As what it was driven.
    pub leg: Leg,
    /// Readings of the road speed: s, km/h.
    pub speed: Vec<(f64, f64)>,
}

/// How far a stretch of speed is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Done {
    /// Not driven yet.
    Missing,
    /// Driven through, but too fast.
    TooFast,
    /// As many wheel turns as the tracker needs.
    Enough,
}

/// A stretch of speed of a run.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Stretch {
    /// Where it begins.
    pub from: KilometresPerHour,
    /// How far it is.
    pub done: Done,
    /// Of the turns that it needs, 0 to 1.
    pub share: f64,
}

/// A planned run with what is done of it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Strip {
    /// The run.
    pub leg: Leg,
    /// Ranges of 5 km/h, slowest first.
    pub stretches: Vec<Stretch>,
}

/// What the coach says.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Advice {
    /// Every planned run.
    pub strips: Vec<Strip>,
    /// What to drive next; none when it is enough.
    pub ask: Option<Leg>,
    /// That in one sentence, to be read from the corner of an eye.
    pub say: String,
    /// Every pair that the road can part is parted.
    pub separated: bool,
}

/// Knows the plan, and watches.
#[derive(Clone, Debug)]
pub struct Coach {
    legs: Vec<Leg>,
    /// For each pair of suspects the runs that part it.
    pairs: Vec<Vec<usize>>,
    circumference_m: f64,
    peak: Option<f64>,
}

impl Coach {
    /// The coach for a symptom and the runs that are planned for it; where none is, for one run through its speeds. None where the
    /// case has no such symptom or the tyre no circumference.
    pub fn new(case: &Case, symptom: &str, runs: &[PlannedRun]) -> Option<Self> {
        let heard = case.symptom(symptom)?;
        let speeds = heard.speed_kmh.unwrap_or_default();
        // Driven under the load in which it was heard.
        let throttle =
            heard.condition.get("load").map(String::as_str).filter(|l| matches!(*l, "coast" | "float")).unwrap_or("drive");
        let circumference_m = case.vehicle.circumference().ok()?.get();
        let leg = |gear: Option<String>, from: KilometresPerHour, to: KilometresPerHour| Leg {
            gear,
            from,
            to,
            throttle: throttle.into(),
        };
        let (legs, pairs) = if runs.is_empty() {
            let from = speeds.from.unwrap_or(USUAL_SPEEDS_KMH.0);
            let to = speeds.to.unwrap_or(USUAL_SPEEDS_KMH.1).max(from + 20.0);
            let gear = case.vehicle.gearbox.gears.last().map(|g| g.name.clone());
            (vec![leg(gear, KilometresPerHour(from), KilometresPerHour(to))], vec![vec![0]])
        } else {
            (runs.iter().map(|r| leg(r.gear.clone(), r.from, r.to)).collect(), pairs_of(runs))
        };
        Some(Self { legs, pairs, circumference_m, peak: speeds.peak })
    }

    /// The planned runs.
    pub fn legs(&self) -> &[Leg] {
        &self.legs
    }

    /// What is still missing after what was driven.
    pub fn advise(&self, driven: &[Driven]) -> Advice {
        let strips: Vec<Strip> = self.legs.iter().map(|l| self.strip(l, driven)).collect();
        let complete: Vec<bool> = strips.iter().map(|s| self.is_complete(s)).collect();
        let open = |r: usize| self.pairs.iter().any(|p| p.contains(&r) && !p.iter().any(|&r| complete[r]));
        let next = (0..self.legs.len()).find(|&r| open(r));
        let (ask, say) = match next {
            None => (None, "Enough: what the road can separate is separated. Drive back.".to_string()),
            Some(r) => {
                let (leg, again) = self.remainder(&strips[r]);
                let say = if again {
                    format!("{} again: too fast through it", leg.words().trim_end_matches(" km/h"))
                } else {
                    let seconds = leg.least_time(Metres(self.circumference_m)).get();
                    format!("{}, slowly through: {seconds:.0} s or more", leg.words())
                };
                (Some(leg), say)
            }
        };
        Advice { separated: ask.is_none(), strips, ask, say }
    }

    fn strip(&self, leg: &Leg, driven: &[Driven]) -> Strip {
        let (lo, hi) = (leg.from.get().min(leg.to.get()), leg.from.get().max(leg.to.get()));
        let n = ((hi - lo) / STRETCH_WIDTH_KMH).round().max(1.0) as usize;
        let mut turns = vec![0.0; n];
        let alike = |d: &&Driven| d.leg.gear == leg.gear && d.leg.throttle == leg.throttle;
        for d in driven.iter().filter(alike) {
            for w in d.speed.windows(2) {
                let (dt, v) = (w[1].0 - w[0].0, 0.5 * (w[0].1 + w[1].1));
                // A receiver that was silent for seconds has said nothing of the speed in between.
                if !(0.0..3.0).contains(&dt) || v < lo || v >= hi {
                    continue;
                }
                turns[(((v - lo) / STRETCH_WIDTH_KMH) as usize).min(n - 1)] += v / 3.6 / self.circumference_m * dt;
            }
        }
        let stretches = turns
            .iter()
            .enumerate()
            .map(|(i, t)| {
                let from = lo + STRETCH_WIDTH_KMH * i as f64;
                let passed = driven.iter().filter(alike).any(|d| passes(&d.speed, from, from + STRETCH_WIDTH_KMH));
                let done = match () {
                    () if *t >= STRETCH_WHEEL_TURNS => Done::Enough,
                    () if passed => Done::TooFast,
                    () => Done::Missing,
                };
                Stretch { from: KilometresPerHour(from), done, share: (t / STRETCH_WHEEL_TURNS).min(1.0) }
            })
            .collect();
        Strip { leg: leg.clone(), stretches }
    }

    /// The stretches of a run that count: around where it is felt most, or all of them.
    fn counts(&self, s: &Stretch) -> bool {
        let middle = s.from.get() + 0.5 * STRETCH_WIDTH_KMH;
        self.peak.is_none_or(|p| (middle - p).abs() <= AROUND_PEAK_KMH)
    }

    fn is_complete(&self, strip: &Strip) -> bool {
        let counted: Vec<&Stretch> = strip.stretches.iter().filter(|s| self.counts(s)).collect();
        let of = if counted.is_empty() { strip.stretches.iter().collect() } else { counted };
        let done = of.iter().filter(|s| s.done == Done::Enough).count() as f64;
        let need = if self.peak.is_some() { 1.0 } else { COMPLETE_SHARE };
        done >= need * of.len() as f64
    }

    /// What is left of a run, and whether it was driven already.
    fn remainder(&self, strip: &Strip) -> (Leg, bool) {
        let all = &strip.stretches;
        let untouched = all.iter().all(|s| s.done == Done::Missing);
        let left = |s: &&Stretch| s.done != Done::Enough && (untouched || self.counts(s) || self.peak.is_none());
        let from = all.iter().find(left).or(all.first()).map_or(strip.leg.from.get(), |s| s.from.get());
        let to = all.iter().rev().find(left).or(all.last()).map_or(strip.leg.to.get(), |s| s.from.get() + STRETCH_WIDTH_KMH);
        let again = all.iter().filter(left).any(|s| s.done == Done::TooFast);
        (Leg { from: KilometresPerHour(from), to: KilometresPerHour(to), ..strip.leg.clone() }, again)
    }
}

/// Whether a drive came in at one side of a stretch and went out at the other.
fn passes(speed: &[(f64, f64)], from: f64, to: f64) -> bool {
    let below = speed.iter().position(|r| r.1 < from + 0.5);
    let above = speed.iter().position(|r| r.1 > to - 0.5);
    matches!((below, above), (Some(_), Some(_)))
}

fn pairs_of(runs: &[PlannedRun]) -> Vec<Vec<usize>> {
    let mut keys: Vec<String> = vec![];
    let mut out: Vec<Vec<usize>> = vec![];
    for (r, run) in runs.iter().enumerate() {
        for (a, b) in &run.separates {
            let key = format!("{:?} {} {:?} {}", a.what, a.at, b.what, b.at);
            let i = keys.iter().position(|k| *k == key).unwrap_or_else(|| {
                keys.push(key);
                out.push(vec![]);
                out.len() - 1
            });
            if !out[i].contains(&r) {
                out[i].push(r);
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::rear_drive;
    use proptest::prelude::*;
    use serde_json::json;

    fn coach(peak: Option<f64>) -> Coach {
        let mut doc = Case::new_document("t", "t", json!(rear_drive(2)));
        doc["symptoms"] = json!([{"id": "S1", "kind": "vibration", "speed_kmh": {"from": 70, "peak": peak, "to": 110}}]);
        let case = Case::from_json(&doc).unwrap();
        let answer = crate::reasoning::diagnose(&case, crate::reasoning::knowledge::builtin(), None);
        crate::reasoning::road_plan::coach_for_symptom(&case, "S1", &answer.symptoms[0].ranked).unwrap()
    }
    /// A leg driven at so many km/h a second.
    fn drive(leg: &Leg, pace: f64) -> Driven {
        let (a, b) = (leg.from.get() - 3.0, leg.to.get() + 3.0);
        let n = ((b - a) / pace * 5.0) as usize;
        Driven { leg: leg.clone(), speed: (0..=n).map(|i| (0.2 * i as f64, a + pace * 0.2 * i as f64)).collect() }
    }

    #[test]
    fn a_run_driven_slowly_is_enough_and_one_too_fast_is_asked_for_again() {
        let c = coach(None);
        let first = c.advise(&[]);
        let leg = first.ask.clone().unwrap();
        assert!(first.say.starts_with("5th, light throttle, 70 to 110 km/h, slowly through"), "{}", first.say);
        assert!(first.strips[0].stretches.iter().all(|s| s.done == Done::Missing));
        let hasty = drive(&leg, 6.0);
        let again = c.advise(std::slice::from_ref(&hasty));
        assert_eq!(again.say, "5th, light throttle, 70 to 110 again: too fast through it");
        assert!(again.strips[0].stretches.iter().all(|s| s.done == Done::TooFast && s.share > 0.1));
        let slow = drive(&leg, 0.8);
        let mut driven = vec![hasty, slow];
        for _ in 0..4 {
            let Some(leg) = c.advise(&driven).ask else { break };
            driven.push(drive(&leg, 0.8));
        }
        let end = c.advise(&driven);
        assert!(end.separated && end.ask.is_none() && end.say.starts_with("Enough"), "{}", end.say);
    }

    #[test]
    fn where_it_is_felt_most_is_what_counts() {
        let c = coach(Some(95.0));
        let leg = c.legs()[0].clone();
        let part = Leg { from: KilometresPerHour(85.0), to: KilometresPerHour(105.0), ..leg.clone() };
        let around: Vec<Driven> = c.legs().iter().map(|l| drive(&Leg { gear: l.gear.clone(), ..part.clone() }, 0.7)).collect();
        assert!(c.advise(&around).separated);
        // Another gear, or another load, does not count for it.
        let coasting = Leg { throttle: "coast".into(), ..part };
        assert!(!c.advise(&[drive(&coasting, 0.7)]).separated);
        // Only the stretch that was rushed is asked for again.
        let mut rushed = drive(&leg, 0.7);
        rushed.speed.retain(|r| !(90.5..99.5).contains(&r.1));
        for w in 1..rushed.speed.len() {
            let gap = rushed.speed[w].0 - rushed.speed[w - 1].0;
            if gap > 1.0 {
                let late = gap - 0.5;
                rushed.speed[w..].iter_mut().for_each(|r| r.0 -= late);
            }
        }
        let again = c.advise(&[rushed]);
        assert!(again.say.contains("90 to 100 again: too fast through it"), "{}", again.say);
    }

    #[test]
    fn gears_are_said_as_people_say_them() {
        assert_eq!(["1", "2", "3", "4", "D"].map(gear_words), ["1st", "2nd", "3rd", "4th", "D"]);
        assert_eq!(throttle_words("coast"), "off the throttle");
    }

    proptest! {
        #[test]
        fn what_takes_the_time_that_is_said_is_enough(pace in 0.2..3.0f64) {
            let c = coach(None);
            let leg = c.legs()[0].clone();
            let a = c.advise(&[drive(&leg, pace)]);
            // At the pace that fits the slowest stretch all are done; five times as fast none is.
            let slowest = STRETCH_WIDTH_KMH * leg.from.get() / 3.6 / 2.08 / STRETCH_WHEEL_TURNS;
            let enough = a.strips[0].stretches.iter().filter(|s| s.done == Done::Enough).count();
            if pace < 0.9 * slowest { prop_assert_eq!(enough, a.strips[0].stretches.len()); }
            if pace > 2.5 * slowest { prop_assert_eq!(enough, 0); }
            prop_assert!(a.strips[0].stretches.iter().all(|s| (0.0..=1.0).contains(&s.share)));
        }
    }
}
