//! The numbers behind the weighing.

use serde::Deserialize;
use std::collections::BTreeMap;

/// Prior weights and evidence of the symptom itself.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PriorWeights {
    /// Share of the unknown cause.
    pub unknown: f64,
    /// Factor of a history tag that a fault names.
    pub history: f64,
    /// A kind of symptom that fits.
    pub kind_fits: f64,
    /// One that does not.
    pub kind_else: f64,
    /// One of quite another family.
    pub kind_far: f64,
    /// Families of kinds.
    pub families: Vec<Vec<String>>,
    /// A symptom that peaks outside the speeds of a fault.
    pub speed_else: f64,
    /// Felt where the fault is felt.
    pub felt_there: f64,
    /// The same for a fault that may be felt anywhere.
    pub felt_anywhere: f64,
    /// Heard from the same corner.
    pub same_corner: f64,
    /// Heard from a place that says little.
    pub neutral_place: f64,
    /// Heard from the opposite.
    pub opposite: f64,
    /// Exponent of every observation: marks are not exact, and tests of one case lean on one another.
    pub each: f64,
    /// Exponent of a second test of a group.
    pub group: f64,
}

/// What repairs say.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RepairWeights {
    /// Not cured, with an original part.
    pub not_cured: f64,
    /// Not cured, with a used or copy part.
    pub not_cured_weak_part: f64,
    /// Not cured, with other changes before the same drive.
    pub not_cured_with_others: f64,
    /// Improved.
    pub improved: f64,
    /// Cured: what it leaves of the others.
    pub cured_others: f64,
}

/// What measurements say.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MeasuredWeights {
    /// Share of a base rate that is left when a value is far over its limit.
    pub least: f64,
}

/// What recordings say.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RecordingWeights {
    /// A cause that predicts the whole of the lines.
    pub hit: f64,
    /// A cause that predicts lines that are not there.
    pub miss: f64,
    /// A cause that predicts no lines.
    pub silent: f64,
    /// Share of the evidence below which a line is not there.
    pub absent: f64,
}

/// What it says that a sound was picked.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PickWeights {
    /// How often the right one is picked.
    pub right: f64,
    /// How often each wrong one is.
    pub wrong: f64,
}

/// What getting there costs.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TimeWeights {
    /// What an hour of work costs, in the workshop's money.
    pub rate: f64,
    /// Going up on the lift.
    pub lift_minutes: f64,
    /// Taking off what must come off.
    pub off_minutes: f64,
    /// Taking a propeller shaft off, which the minutes of a test or a repair on it hold.
    pub shaft_minutes: f64,
    /// Taking the driven half shafts off, which the minutes of a test without them hold.
    pub half_shafts_minutes: f64,
    /// So long after a drive the vehicle counts as warm.
    pub warm_minutes: f64,
}

/// When parts may be ordered without a reason.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GateWeights {
    /// From how sure on.
    pub certainty: f64,
    /// A test that settles at least this share of what is open, in at most so many minutes, is asked for first.
    pub parting_share: f64,
    /// The minutes.
    pub parting_minutes: f64,
    /// What handing a vehicle on costs, where nothing that was known cured it: minutes.
    pub hand_on_minutes: f64,
}

/// All weights.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Weights {
    /// Marks as probabilities.
    pub marks: BTreeMap<String, f64>,
    /// Rarity as prior weight.
    pub rarity: BTreeMap<String, f64>,
    /// Priors.
    pub prior: PriorWeights,
    /// Repairs.
    pub repair: RepairWeights,
    /// Recordings.
    pub recording: RecordingWeights,
    /// What measurements say.
    pub measured: MeasuredWeights,
    /// What a picked sound says.
    pub pick: PickWeights,
    /// Time.
    pub time: TimeWeights,
    /// When parts may be ordered.
    pub gate: GateWeights,
}
