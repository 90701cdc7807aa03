//! Signals: from samples in time to spectra in orders.
//!
//! `speed` turns a late, rounded speed into a smooth one and its integral; `resample` takes samples
//! at equal angles; `spectrum` windows and transforms them; `envelope` finds the rhythm of pulses;
//! `wk` says how strongly people feel a frequency.

mod envelope;
mod resample;
mod spectrum;
mod speed;
mod wk;

pub use envelope::{Envelope, envelope};
pub use resample::{Resampler, decimate};
pub use spectrum::{OrderSpectra, spectra};
pub use speed::{SpeedTrack, true_samples};
pub use wk::{FELT_MS2, felt, felt_line, wk};

use crate::problem::Warning;
use crate::units::{Hz, Seconds};
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// What a channel measures.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Quantity {
    /// m/s².
    Acceleration,
    /// Pa, or of full scale.
    Sound,
    /// mm/s.
    Velocity,
    /// A rising edge each turn.
    Pulse,
}

impl Quantity {
    /// From the word in a case file.
    pub fn parse(s: &str) -> Option<Self> {
        Some(match s {
            "acceleration" => Self::Acceleration,
            "sound" => Self::Sound,
            "velocity" => Self::Velocity,
            "pulse" => Self::Pulse,
            _ => return None,
        })
    }
}

/// One channel, in SI units.
#[derive(Clone, Debug)]
pub struct Channel {
    /// Its name in the recording.
    pub name: String,
    /// What it measures.
    pub quantity: Quantity,
    /// Its unit after conversion: `m/s2`, `Pa`, `fs`, `mm/s`.
    pub unit: String,
    /// Its samples on the uniform clock.
    pub data: Vec<f32>,
}

/// A recording read in: uniform samples with their reference, and what had to be said about it.
#[derive(Clone, Debug, Default)]
pub struct Samples {
    /// Sampling rate.
    pub rate: Hz,
    /// Time of the first sample.
    pub start: Seconds,
    /// The channels, all of one length.
    pub channels: Vec<Channel>,
    /// Stretches that hold nothing: bridged, and left out of every window.
    pub gaps: Vec<Range<usize>>,
    /// Road speed: time (s) and speed (m/s).
    pub speed: Vec<(f64, f64)>,
    /// Engine speed: time (s) and turns a second.
    pub rpm: Vec<(f64, f64)>,
    /// What was found while reading.
    pub warnings: Vec<Warning>,
    /// Nothing can be done with it.
    pub refused: bool,
}

impl Samples {
    /// Number of samples of a channel.
    pub fn len(&self) -> usize {
        self.channels.first().map_or(0, |c| c.data.len())
    }
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
    /// How long it is.
    pub fn duration(&self) -> Seconds {
        Seconds(if self.rate.get() > 0.0 { self.len() as f64 / self.rate.get() } else { 0.0 })
    }
}
