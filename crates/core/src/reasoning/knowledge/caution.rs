//! Cautions as the data file says them: the words, and where they stand besides the tests and faults that name them.

use serde::Deserialize;

/// A caution that stands at a step, with the situations in which it does.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Caution {
    /// In a word or two, where there is little room.
    pub head: String,
    /// The caution.
    pub words: String,
    /// Where there is little room its head stands, and the words one press away.
    #[serde(default)]
    pub brief: bool,
    /// Where it stands besides.
    #[serde(default)]
    pub when: Vec<Situation>,
}

/// A situation in which a caution stands, whatever is done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Situation {
    /// The vehicle is on the ground, and this needs the lift.
    GoingUp,
    /// Wheels turn under power in the air.
    Turning,
    /// Wheels turn under power in the air, on a vehicle with more than one driven axle.
    AllWheel,
    /// A combustion engine runs, the vehicle standing.
    EngineRunning,
    /// Hands on an electric vehicle.
    Electric,
    /// A shaft, a half shaft or a final drive is off, or comes off for this.
    PartsOff,
}
