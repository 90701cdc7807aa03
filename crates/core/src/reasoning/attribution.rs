//! What could cause a line that was measured: every fault at every place whose predicted line stands near enough.

use super::hypotheses::{Hypothesis, hypotheses, predicted};
use super::knowledge::{Knowledge, builtin};
use crate::analysis::{self, Analysis, LineCauses, MeasuredLine, Outcome, Progress, Source};
use crate::case::RecordingSpec;
use crate::error::Problem;
use crate::measure::orders::orders;
use crate::signal::Samples;
use crate::units::Order;
use crate::vehicle::Vehicle;

/// The causes that a vehicle can have, for naming lines.
struct KnownCauses<'a> {
    vehicle: &'a Vehicle,
    knowledge: &'a Knowledge,
    all: Vec<Hypothesis>,
}

impl<'a> KnownCauses<'a> {
    fn new(vehicle: &'a Vehicle, knowledge: &'a Knowledge) -> Self {
        Self { vehicle, knowledge, all: hypotheses(vehicle, knowledge) }
    }
}

impl LineCauses for KnownCauses<'_> {
    fn causes_of(&self, line: &MeasuredLine) -> Vec<Source> {
        let ladder = orders(self.vehicle, line.gear).unwrap_or_default();
        let mut out: Vec<Source> = vec![];
        for h in &self.all {
            let hit = predicted(self.knowledge, h, &ladder)
                .iter()
                .filter_map(|p| p.line.wheel_order(line.engine_per_wheel.map(Order)))
                .any(|o| (o.get() - line.wheel_order).abs() <= line.tolerance);
            let s = Source { fault: h.fault.clone(), at: h.at.clone() };
            if hit && !out.contains(&s) {
                out.push(s);
            }
        }
        out
    }
}

/// What the recordings of a vehicle say, each line with what could cause it. A recording that could not be read is in the answer
/// with its warnings; the whole fails only when `progress` stops it or the vehicle's tyre has no circumference.
pub fn analyze(v: &Vehicle, recordings: &[(RecordingSpec, Samples)], progress: &dyn Progress) -> Result<Analysis, Problem> {
    read_tracked(v, &analysis::track(v, recordings, progress)?, progress)
}

/// The same from recordings that are tracked already.
pub fn read_tracked(v: &Vehicle, tracked: &[Outcome], progress: &dyn Progress) -> Result<Analysis, Problem> {
    analysis::read(v, tracked, &KnownCauses::new(v, builtin()), progress)
}
