//! The numbers behind the weighing.

use super::fault::SpeedShape;
use serde::Deserialize;
use std::collections::BTreeMap;

/// What a mark means as a probability.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MarkWeights {
    /// ++
    pub nearly_always: f64,
    /// +
    pub usually: f64,
    /// ! at least.
    pub telling: f64,
    /// ! at least so many times the base rate.
    pub telling_times: f64,
    /// - as a share of the base rate.
    pub seldom: f64,
    /// -- as a share of the base rate.
    pub practically_never: f64,
    /// All outcomes of a test together that nature forbids.
    pub forbidden: f64,
}

/// How priors are made: share of the unknown cause, of pairs, of what work explains.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PriorWeights {
    /// Share of the unknown cause.
    pub unknown: f64,
    /// A pair, times the prior of its less likely member.
    pub pair: f64,
    /// What work makes, where that work was denied.
    pub work_denied: f64,
    /// A hint that somebody gave.
    pub hint_told: f64,
    /// A hint by one who has seen it.
    pub hint_seen: f64,
    /// A section over its share of the bending speed.
    pub near_critical: f64,
    /// One far below it.
    pub far_from_critical: f64,
    /// Far below: this share of the bending speed.
    pub far_ratio: f64,
    /// The speed a vehicle reaches where nobody says, km/h.
    pub usual_max_kmh: f64,
}

/// Tags of history.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HistoryWeights {
    /// Those that say of work.
    pub work: Vec<String>,
    /// Where each says that work was done, by kinds of places.
    pub work_at: BTreeMap<String, Vec<String>>,
    /// Share of a look's minutes that the search pays, where a tag asks for the look anyway.
    pub due_share: f64,
    /// The look after which a tag counts no more.
    pub looks: BTreeMap<String, String>,
}

impl HistoryWeights {
    /// The tags of a history that ask for a look.
    pub fn asking_for<'a>(&'a self, history: &'a [String], test: &'a str) -> impl Iterator<Item = &'a String> {
        history.iter().filter(move |tag| self.looks.get(*tag).is_some_and(|look| look == test))
    }

    /// The tags of work that were not done, where a driver says that no other work was: neither ticked now nor known before.
    pub fn denied<'a>(&'a self, ticked: &'a [String], known: &'a [String]) -> impl Iterator<Item = &'a str> {
        self.work.iter().filter(|w| !ticked.contains(w) && !known.contains(w)).map(String::as_str)
    }
}

/// What the driver calls a fault.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KindWeights {
    /// Share of the kinds that fit.
    pub own: f64,
    /// Share of their neighbours.
    pub neighbour: f64,
    /// Share of all others.
    pub rest: f64,
    /// Kinds of which a fault that cannot cause them has nothing.
    pub only_own: Vec<String>,
    /// Kinds that are taken for one another, each beside the next.
    pub chains: Vec<Vec<String>>,
}

/// Exponents of likelihoods.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ExponentWeights {
    /// How far the log-odds of an outcome are known: one standard deviation.
    pub log_odds_sigma: f64,
    /// Every observation.
    pub observation: f64,
    /// What the driver says.
    pub driver: f64,
    /// Where a vibration or a shudder is heard.
    pub heard_vibration: f64,
    /// Where it is not felt.
    pub not_felt: f64,
    /// At which speed.
    pub speed: f64,
    /// One silence of what comes and goes.
    pub intermittent: f64,
}

/// P(slow, middle, fast) by the speeds at which a fault shows.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SpeedWeights {
    /// Slow ends here, km/h.
    #[serde(rename = "slow_to")]
    pub slow_to: f64,
    /// Fast begins here, km/h.
    #[serde(rename = "fast_from")]
    pub fast_from: f64,
    any: [f64; 3],
    low: [f64; 3],
    high: [f64; 3],
    pulling_away: [f64; 3],
    converter: [f64; 3],
}

impl SpeedWeights {
    /// P(slow, middle, fast).
    pub fn of_shape(&self, s: SpeedShape) -> [f64; 3] {
        match s {
            SpeedShape::Any => self.any,
            SpeedShape::Low => self.low,
            SpeedShape::High => self.high,
            SpeedShape::PullingAway => self.pulling_away,
            SpeedShape::Converter => self.converter,
        }
    }
    /// 0 slow, 1 middle, 2 fast.
    pub fn class(&self, kmh: f64) -> usize {
        usize::from(kmh >= self.slow_to) + usize::from(kmh > self.fast_from)
    }
}

/// The place that a test names, relative to the cause.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LocatedWeights {
    /// At the place of the cause itself.
    pub own: f64,
    /// A neighbouring unit.
    pub neighbour: f64,
    /// Another one.
    pub elsewhere: f64,
}

/// Where things are heard.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ZoneWeights {
    /// No zone is below this.
    pub floor: f64,
}

/// When a statement on driving is proposed.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DangerWeights {
    /// From this probability of its suspects on.
    pub suspects: f64,
    /// The same where a wheel or a shaft can come off.
    pub can_come_off: f64,
    /// What a driven test costs more when a suspect that forbids driving is the cause, minutes.
    pub driven_minutes: f64,
}

/// What repairs and attempts say.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RepairWeights {
    /// Not cured, with an original part.
    pub not_cured: f64,
    /// Not cured, with a used or copy part.
    pub not_cured_weak_part: f64,
    /// Not cured: another fault of a part that the repair renewed.
    pub not_cured_same_part: f64,
    /// Factor on a cause whose repair made it better and did not cure it.
    pub improved: f64,
    /// Cured: what it leaves of the others.
    pub cured_others: f64,
    /// An attempt that changed nothing, to the power of its trust.
    pub attempt_nothing: f64,
    /// Exponents by trust.
    pub trust: BTreeMap<String, f64>,
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
    /// What the workshop's money is called.
    pub currency: String,
    /// Going up on the lift.
    pub lift_minutes: f64,
    /// Taking off what must come off.
    pub off_minutes: f64,
    /// Taking a propeller shaft off, which the minutes of a test or a repair on it hold.
    pub shaft_minutes: f64,
    /// Taking the driven half shafts off, which the minutes of a test without them hold.
    pub half_shafts_minutes: f64,
    /// A drive, where one is needed only to warm the vehicle.
    pub drive_minutes: f64,
    /// So long after a drive the vehicle counts as warm.
    pub warm_minutes: f64,
}

/// When parts may be ordered without a reason.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GateWeights {
    /// From how sure on.
    pub certainty: f64,
    /// A test that answers at least this share of what is open, in at most so many minutes, is asked for first.
    pub parting_share: f64,
    /// Such a test takes at most so many minutes.
    pub parting_minutes: f64,
    /// What handing a vehicle on costs, where nothing that was known cured it: minutes.
    pub hand_on_minutes: f64,
    /// What a part that cures nothing costs besides, in the workshop's money.
    pub vain_part: f64,
    /// The same of a repair that buys nothing.
    pub vain_adjustment: f64,
}

/// `weights.toml`.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Weights {
    /// What the marks `++` to `--` mean as probabilities.
    pub marks: MarkWeights,
    /// How priors are made: share of the unknown cause, of pairs, of what work explains.
    pub prior: PriorWeights,
    /// Tags of history.
    pub history: HistoryWeights,
    /// What the driver calls it.
    pub kinds: KindWeights,
    /// By which power a kind of evidence counts: 1 is in full.
    pub exponent: ExponentWeights,
    /// Speeds.
    pub speed: SpeedWeights,
    /// The place that a test names.
    pub located: LocatedWeights,
    /// Where it is heard.
    pub zones: ZoneWeights,
    /// Repairs and attempts.
    pub repair: RepairWeights,
    /// Recordings.
    pub recording: RecordingWeights,
    /// What measurements say.
    pub measured: MeasuredWeights,
    /// What a picked sound says.
    pub pick: PickWeights,
    /// Minutes, the rate of an hour, the currency.
    pub time: TimeWeights,
    /// When parts may be ordered.
    pub gate: GateWeights,
    /// When a statement on driving is proposed.
    pub danger: DangerWeights,
}

#[cfg(test)]
mod tests {
    #[test]
    fn work_is_denied_but_for_what_was_ticked_or_known() {
        let h = &crate::reasoning::knowledge::builtin().weights.history;
        let (ticked, known) = (["axle-work".to_string()], ["tyres-changed".to_string()]);
        let denied: Vec<&str> = h.denied(&ticked, &known).collect();
        assert_eq!(denied.len(), h.work.len() - 2);
        assert!(!denied.contains(&"axle-work") && !denied.contains(&"tyres-changed") && denied.contains(&"shaft-changed"));
    }
}
