//! What could cause a line that was measured: every fault at every place whose predicted line stands near enough.

use super::hypotheses::{Hypothesis, hypotheses, predicted};
use super::knowledge::{Knowledge, builtin};
use crate::analysis::{self, Analysis, DrivenVehicle, LineCauses, MeasuredLine, Outcome, Progress, Source};
use crate::case::RecordingSpec;
use crate::error::Problem;
use crate::measure::orders::orders;
use crate::signal::Samples;
use crate::units::Order;
use crate::vehicle::Vehicle;

/// The causes that a vehicle can have, for naming lines.
struct KnownCauses<'a> {
    driven: DrivenVehicle<'a>,
    knowledge: &'a Knowledge,
    /// By state of the vehicle.
    all: Vec<(&'a Vehicle, Vec<Hypothesis>)>,
}

impl<'a> KnownCauses<'a> {
    fn new(driven: DrivenVehicle<'a>, tracked: &[Outcome], knowledge: &'a Knowledge) -> Self {
        let mut all: Vec<(&Vehicle, Vec<Hypothesis>)> = vec![];
        for t in tracked.iter().flatten() {
            let v = driven.at_run(&t.spec);
            if !all.iter().any(|a| std::ptr::eq(a.0, v)) {
                all.push((v, hypotheses(v, knowledge)));
            }
        }
        Self { driven, knowledge, all }
    }
}

impl LineCauses for KnownCauses<'_> {
    fn causes_of(&self, line: &MeasuredLine) -> Vec<Source> {
        let vehicle = self.driven.at_run(line.run);
        let ladder = orders(vehicle, line.gear).unwrap_or_default();
        let mut out: Vec<Source> = vec![];
        for h in self.all.iter().filter(|a| std::ptr::eq(a.0, vehicle)).flat_map(|a| &a.1) {
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
pub fn analyze<'c>(
    driven: impl Into<DrivenVehicle<'c>>,
    recordings: &[(RecordingSpec, Samples)],
    progress: &dyn Progress,
) -> Result<Analysis, Problem> {
    let driven = driven.into();
    read_tracked(driven, &analysis::track(driven, recordings, progress)?, progress)
}

/// The same from recordings that are tracked already.
pub fn read_tracked<'c>(
    driven: impl Into<DrivenVehicle<'c>>,
    tracked: &[Outcome],
    progress: &dyn Progress,
) -> Result<Analysis, Problem> {
    let driven = driven.into();
    analysis::read(driven, tracked, &KnownCauses::new(driven, tracked, builtin()), progress)
}
