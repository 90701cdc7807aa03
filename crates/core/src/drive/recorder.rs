//! Instruments, as the pages see them: a simulated stand-in ships, a real one takes its place without
//! a page changing.

use crate::drive::coach::Leg;
use crate::error::Problem;
use crate::signal::Quantity;
use crate::units::{Hz, Seconds};
use serde::{Deserialize, Serialize};

/// A channel of a road recorder.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RecorderChannel {
    /// As people call it.
    pub name: String,
    /// What it measures.
    pub quantity: Quantity,
    /// Its unit: `m/s2`, `g`, `Pa`, `fs`, `mm/s`.
    pub unit: String,
}

/// What a road recorder has measured since it was last read.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Reading {
    /// New samples, a row for each channel, all of one length.
    pub samples: Vec<Vec<f32>>,
    /// New readings of the road speed: time since the leg began (s) and m/s.
    pub speed: Vec<(f64, f64)>,
}

/// A recorder in a vehicle on the road.
pub trait RoadRecorder: Send {
    /// Samples a second of every channel.
    fn rate(&self) -> Hz;
    /// What it records, in a fixed order.
    fn channels(&self) -> &[RecorderChannel];
    /// Begins a leg: what the coach asks the driver for. An instrument that cannot speak ignores it.
    fn begin(&mut self, leg: &Leg) -> Result<(), Problem>;
    /// What was measured in the next seconds of the leg; none once the leg has ended.
    fn read(&mut self, span: Seconds) -> Result<Option<Reading>, Problem>;
}
