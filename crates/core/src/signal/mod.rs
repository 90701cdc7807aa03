//! Signals: from samples in time to spectra in orders.
//!
//! `speed` turns a late, rounded speed into a smooth one and its integral; `resample` takes samples
//! at equal angles; `spectrum` windows and transforms them; `envelope` finds the rhythm of pulses, `octave` where they ring;
//! `frequency_weight` says how strongly people feel a frequency.

mod envelope;
pub mod estimate;
mod frequency_weighting;
mod octave;
mod resample;
pub(crate) mod simd;
mod spectrum;
mod speed;

pub use envelope::{Envelope, envelopes};
pub use frequency_weighting::{FELT_MS2, felt, felt_level, frequency_weight};
pub use octave::{Octave, OctaveMaker};
pub use resample::{PASSBAND_SHARE, Pyramid, Resampler};
pub use spectrum::{OrderWindows, add_ratio};
pub use speed::{SpeedTrack, true_samples};

use crate::error::{Problem, Warning};
use crate::units::{Hz, Seconds};
use serde::{Deserialize, Serialize};
use std::ops::Range;
use std::sync::Arc;

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

/// Samples that are read a stretch at a time, wherever their keeper has them.
pub trait Series: std::fmt::Debug + Send + Sync {
    /// How many there are.
    fn len(&self) -> usize;
    /// Whether there are none.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }
    /// Fills `out` with the samples from `from` on; what lies beyond the last is zero.
    fn read(&self, from: usize, out: &mut [f32]) -> Result<(), Problem>;
    /// All of them, where they stand in memory anyway.
    fn at_hand(&self) -> Option<&[f32]> {
        None
    }
}

impl Series for Vec<f32> {
    fn len(&self) -> usize {
        Vec::len(self)
    }
    fn read(&self, from: usize, out: &mut [f32]) -> Result<(), Problem> {
        let n = out.len().min(Vec::len(self).saturating_sub(from));
        out[..n].copy_from_slice(&self[from.min(Vec::len(self))..][..n]);
        out[n..].fill(0.0);
        Ok(())
    }
    fn at_hand(&self) -> Option<&[f32]> {
        Some(self)
    }
}

/// The samples of a channel, shared.
#[derive(Clone, Debug)]
pub struct Data(Arc<dyn Series>);

/// Samples read at once where all are gone through.
const BLOCK_SAMPLES: usize = 1 << 16;

impl Data {
    /// From any keeper.
    pub fn new(series: impl Series + 'static) -> Self {
        Self(Arc::new(series))
    }
    /// How many samples there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
    /// Fills `out` from `from` on; what lies beyond the last is zero.
    pub fn read(&self, from: usize, out: &mut [f32]) -> Result<(), Problem> {
        self.0.read(from, out)
    }
    /// All samples, a block at a time.
    pub fn blocks(&self, mut work: impl FnMut(usize, &[f32])) -> Result<(), Problem> {
        if let Some(all) = self.0.at_hand() {
            all.chunks(BLOCK_SAMPLES).enumerate().for_each(|(i, block)| work(i * BLOCK_SAMPLES, block));
            return Ok(());
        }
        let mut block = vec![0.0; BLOCK_SAMPLES.min(self.len())];
        let mut from = 0;
        while from < self.len() {
            let n = block.len().min(self.len() - from);
            self.read(from, &mut block[..n])?;
            work(from, &block[..n]);
            from += n;
        }
        Ok(())
    }
    /// The first samples alone.
    pub fn first(&self, n: usize) -> Self {
        Self::new(Beginning(self.clone(), n.min(self.len())))
    }
    /// All samples in memory.
    pub fn to_vec(&self) -> Result<Vec<f32>, Problem> {
        let mut out = vec![0.0; self.len()];
        self.read(0, &mut out)?;
        Ok(out)
    }
}

/// The first samples of another series.
#[derive(Debug)]
struct Beginning(Data, usize);

impl Series for Beginning {
    fn len(&self) -> usize {
        self.1
    }
    fn read(&self, from: usize, out: &mut [f32]) -> Result<(), Problem> {
        let n = out.len().min(self.1.saturating_sub(from));
        self.0.read(from, &mut out[..n])?;
        out[n..].fill(0.0);
        Ok(())
    }
}

impl From<Vec<f32>> for Data {
    fn from(v: Vec<f32>) -> Self {
        Self::new(v)
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
    pub data: Data,
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
