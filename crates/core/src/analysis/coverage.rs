//! Which parts of a long recording costly work looks at.
//!
//! A mesh or a clicking joint that a few thousand turns do not show, more of them do not show either:
//! of a long recording high orders and envelopes are taken from parts spread evenly over it, low
//! orders from all of it. Of a recording over hours only parts are kept even for low orders, so that
//! it needs no more memory than a shorter one. Single events are taken from all of it, however long.

use super::SLOWEST_RATE_HZ;
use crate::error::Problem;
use crate::signal::{Channel, Pyramid, Samples};

/// Up to this length (s) all of a recording is looked at; of a longer one about so much.
const WHOLE_UP_TO_S: f64 = 240.0;
/// Length of a part, s.
const PART_S: f64 = 30.0;
/// Of one or two channels about so much (s) is kept; of more channels less, as much in all.
const KEPT_S: f64 = 7200.0;

/// The parts, by time.
#[derive(Clone, Copy, Debug)]
pub(super) struct Coverage {
    start: f64,
    length: f64,
    parts: usize,
    /// One part of so many is looked at.
    every: usize,
    /// One part of so many is kept, among them those that are looked at.
    keep: usize,
}

impl Coverage {
    /// Of a recording.
    pub fn new(s: &Samples) -> Self {
        Self::over(s.start.get(), s.duration().get(), s.channels.len())
    }

    fn over(start: f64, duration: f64, channels: usize) -> Self {
        let parts = ((duration / PART_S) as usize).max(1);
        let keep = (duration * channels.max(2) as f64 / 2.0 / KEPT_S).ceil().max(1.0) as usize;
        let every = ((duration / WHOLE_UP_TO_S) as usize).max(1);
        Self { start, length: duration / parts as f64, parts, every: (every / keep).max(1) * keep, keep }
    }

    /// Whether only parts of the recording are looked at.
    pub fn is_long(&self) -> bool {
        self.parts as f64 * self.length > WHOLE_UP_TO_S
    }

    fn part(&self, t: f64) -> usize {
        ((t - self.start) / self.length).max(0.0) as usize
    }

    /// Whether a moment is looked at.
    pub fn at(&self, t: f64) -> bool {
        self.every == 1 || self.part(t).is_multiple_of(self.every)
    }

    /// One part of so many is kept: 1 is all of it.
    pub fn keep(&self) -> usize {
        self.keep
    }

    /// Whether a moment is kept.
    pub fn kept(&self, t: f64) -> bool {
        self.keep == 1 || self.part(t).is_multiple_of(self.keep)
    }

    /// Where the next part begins that is kept, for a moment that is not: a little inside it, past all rounding.
    pub fn next_kept(&self, t: f64) -> Option<f64> {
        let first = |part: usize| self.start + (part as f64 + 1e-6) * self.length;
        (!self.kept(t)).then(|| first((self.part(t) / self.keep + 1) * self.keep))
    }

    /// A channel at `enough` samples a second and slower, as far as it is kept.
    pub fn pyramid(&self, c: &Channel, s: &Samples, enough: f64) -> Result<Pyramid, Problem> {
        let rate = s.rate.get();
        if self.keep == 1 {
            return Pyramid::from_data(&c.data, rate, enough, SLOWEST_RATE_HZ);
        }
        // A level may be up to twice as fast as it need be.
        let kept = |sample: usize, slow: bool| slow && self.kept(self.start + sample as f64 / rate);
        Ok(Pyramid::in_parts(&c.data, rate, (2.0 * enough, SLOWEST_RATE_HZ), kept, |_, _| {})?.at_least(enough))
    }

    /// The parts that are looked at: from and to.
    pub fn parts(&self) -> impl Iterator<Item = (f64, f64)> + '_ {
        (0..self.parts).step_by(self.every).map(|i| self.start + i as f64 * self.length).map(|from| (from, from + self.length))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_short_recording_is_looked_at_whole_and_a_long_one_evenly() {
        let short = Coverage::over(3.0, 200.0, 4);
        assert!(!short.is_long() && (0..200).all(|i| short.at(3.0 + f64::from(i))));
        let long = Coverage::over(3.0, 1800.0, 4);
        let looked = (0..1800).filter(|i| long.at(3.5 + f64::from(*i))).count();
        assert!(long.is_long() && (240..=300).contains(&looked), "{looked}");
        assert!(long.parts().all(|(a, b)| long.at(a + 0.1) && long.at(b - 0.1) && !long.at(b + 0.1)));
        assert!((1300..1800).any(|i| long.at(3.5 + f64::from(i))));
        assert!((0..1800).all(|i| long.kept(3.5 + f64::from(i)) && long.next_kept(3.5 + f64::from(i)).is_none()));
    }

    #[test]
    fn of_hours_so_much_is_kept_as_memory_allows_and_all_that_is_looked_at() {
        for (hours, channels, most) in [(8.0, 1, 7300.0), (8.0, 2, 7300.0), (5.0, 4, 3700.0), (8.3, 8, 1900.0)] {
            let coverage = Coverage::over(2.0, 3600.0 * hours, channels);
            let moments = || (0..(3600.0 * hours) as usize).map(|i| 2.5 + i as f64);
            let kept = moments().filter(|t| coverage.kept(*t)).count() as f64;
            assert!(kept <= most && kept > 0.7 * most, "{kept} of {hours} h of {channels}");
            let looked = moments().filter(|t| coverage.at(*t)).count();
            assert!((210..=500).contains(&looked) && moments().all(|t| coverage.kept(t) || !coverage.at(t)), "{looked}");
            for t in moments() {
                match coverage.next_kept(t) {
                    None => assert!(coverage.kept(t)),
                    Some(next) => assert!(next > t && !coverage.kept(next - 0.1) && coverage.kept(next)),
                }
            }
        }
    }
}
