//! Which parts of a long recording costly work looks at.
//!
//! A mesh or a clicking joint that a few thousand turns do not show, more of them do not show either:
//! of a long recording high orders and envelopes are taken from parts spread evenly over it, low
//! orders and single events from all of it.

use crate::signal::Samples;

/// Up to this length (s) all of a recording is looked at; of a longer one about so much.
const ENOUGH: f64 = 240.0;
/// Length of a part, s.
const PART: f64 = 30.0;

/// The parts, by time.
#[derive(Clone, Copy, Debug)]
pub(super) struct Looks {
    start: f64,
    length: f64,
    parts: usize,
    /// One part of so many is looked at.
    every: usize,
}

impl Looks {
    /// Of a recording.
    pub fn of(s: &Samples) -> Self {
        Self::over(s.start.get(), s.duration().get())
    }

    fn over(start: f64, duration: f64) -> Self {
        let parts = ((duration / PART) as usize).max(1);
        Self { start, length: duration / parts as f64, parts, every: ((duration / ENOUGH) as usize).max(1) }
    }

    /// Whether only parts of the recording are looked at.
    pub fn is_long(&self) -> bool {
        self.parts as f64 * self.length > ENOUGH
    }

    /// Whether a moment is looked at.
    pub fn at(&self, t: f64) -> bool {
        self.every == 1 || (((t - self.start) / self.length).max(0.0) as usize).is_multiple_of(self.every)
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
        let short = Looks::over(3.0, 200.0);
        assert!(!short.is_long() && (0..200).all(|i| short.at(3.0 + f64::from(i))));
        let long = Looks::over(3.0, 1800.0);
        let looked = (0..1800).filter(|i| long.at(3.5 + f64::from(*i))).count();
        assert!(long.is_long() && (240..=300).contains(&looked), "{looked}");
        assert!(long.parts().all(|(a, b)| long.at(a + 0.1) && long.at(b - 0.1) && !long.at(b + 0.1)));
        assert!((1300..1800).any(|i| long.at(3.5 + f64::from(i))));
    }
}
