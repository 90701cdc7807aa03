//! A fault as the data file says it: how often, what a driver calls it, how it behaves, what tests show of it.

use super::entries::Heat;
use crate::measure::orders::What;
use serde::Deserialize;
use std::collections::BTreeMap;

/// A line that a fault makes: which rung of the ladder, how many times.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LineRule {
    /// Which rung.
    pub what: What,
    /// How many times it.
    pub times: f64,
    /// Grows as the square of speed.
    #[serde(default)]
    pub grows: bool,
    /// Pulses rather than a tone.
    #[serde(default)]
    pub pulse: bool,
    /// How much its absence from a recording speaks against the fault: 0 it may be missing, 1 it never is.
    #[serde(default)]
    pub needed: f64,
}

/// What a test's outcome says of a fault: a mark, or a probability.
#[derive(Clone, Debug, Deserialize)]
#[serde(untagged)]
pub enum Mark {
    /// ++, +, !, -, --.
    Sign(String),
    /// As a probability.
    Probability(f64),
}

/// What outcomes of a test say; `a|b` is either of them.
pub type Marks = BTreeMap<String, Mark>;

/// What a fault turns with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TurnsWith {
    /// The wheels.
    Wheel,
    /// A propeller shaft, or what turns with one.
    Shaft,
    /// The engine.
    Engine,
    /// One gear of the gearbox.
    Gear,
    /// Nothing.
    Nothing,
}

/// What a fault shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Shows {
    /// A steady vibration or sound: lines at orders.
    Line,
    /// Gear whine, its teeth in mesh.
    Mesh,
    /// Pulses, so many a turn.
    Pulse,
    /// One knock at each change of load.
    Event,
    /// One at each bump.
    Bump,
    /// Noise when steering.
    Steer,
    /// Hopping in tight turns.
    Tight,
    /// It changes with the brake.
    Brake,
    /// A leak.
    Leak,
    /// One gear shifts badly.
    Shift,
    /// Several gears shift badly.
    ShiftAll,
    /// The vehicle does not pull.
    NoDrive,
}

/// The torque that a fault needs to show.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Load {
    /// Any.
    #[default]
    Any,
    /// Pulling.
    Drive,
    /// Coasting.
    Coast,
    /// Either, but torque.
    DriveCoast,
    /// Weaker without torque.
    Part,
    /// While braking.
    Braking,
    /// While pulling away.
    PullingAway,
}

/// The turn in which a fault shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Turning {
    /// Any, or none.
    None,
    /// The one that loads its side.
    Loaded,
    /// A slow and tight one.
    Tight,
}

/// The speeds at which a fault shows: a key of the weights' table of speeds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SpeedShape {
    /// Any.
    #[default]
    Any,
    /// Slow.
    Low,
    /// Fast.
    High,
    /// Pulling away.
    PullingAway,
    /// While a converter locks.
    Converter,
}

/// How a fault behaves: what the general tests say of it follows from this.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Behaviour {
    /// What it turns with.
    pub turns: TurnsWith,
    /// What it shows.
    pub shows: Vec<Shows>,
    /// The torque it needs.
    #[serde(default)]
    pub load: Load,
    /// The turn it needs.
    #[serde(default)]
    pub turning: Option<Turning>,
    /// The speeds at which it shows.
    #[serde(default)]
    pub speed: SpeedShape,
    /// Whether it needs the vehicle cold or warm.
    #[serde(default)]
    pub heat: Option<Heat>,
    /// How likely it is heard without load.
    pub unloaded: f64,
}

/// One outcome of a general test that does not follow from the behaviour.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Exception {
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: String,
    /// Id of an outcome of that test.
    pub outcome: String,
    /// How likely it is.
    pub p: f64,
    /// The reason that a maintainer reads.
    pub why: String,
    /// Only of symptoms of these kinds; of all where it is empty.
    #[serde(default)]
    pub of_kinds: Vec<String>,
}

/// When a fault is a danger.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DangerRule {
    /// no, or limited.
    pub drive: crate::case::clearance::Clearance,
    /// How far at the most, km.
    #[serde(default)]
    pub km: Option<f64>,
    /// How fast at the most, km/h.
    #[serde(default)]
    pub kmh: Option<f64>,
    /// A wheel or a shaft can come off: a small probability is enough.
    #[serde(default)]
    pub part_can_come_off: bool,
    /// Below 0.75 of the bending speed of its section.
    #[serde(default)]
    pub critical: bool,
    /// Only once one of these tests came out so.
    #[serde(default)]
    pub when: BTreeMap<String, Vec<String>>,
    /// Not at all, once one of these tests came out so.
    #[serde(default)]
    pub never: BTreeMap<String, Vec<String>>,
    /// Seen to be so once one of these tests came out so, as it is by `when` and `never`: proposed then whatever the symptom's
    /// cause is.
    #[serde(default)]
    pub seen: BTreeMap<String, Vec<String>>,
}

/// A fault as `faults.toml` has it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Fault {
    /// Public id.
    pub id: String,
    /// What a mechanic calls it.
    pub name: String,
    /// Kinds of places where it can be.
    pub at: Vec<String>,
    /// How often, relative to the other faults, on a vehicle with its usual count of such places.
    pub rate: f64,
    /// That usual count: the prior of one place is rate / places.
    pub places: f64,
    /// Times that at some of its kinds of places, or at an end (`front`, `rear`).
    #[serde(default)]
    pub rate_factor: BTreeMap<String, f64>,
    /// What a driver calls it: shares of the kinds of symptom that fit.
    pub kinds: BTreeMap<String, f64>,
    /// How it behaves.
    pub behaviour: Behaviour,
    /// Where it is heard and felt, where its place does not say.
    #[serde(default)]
    pub zone: Option<String>,
    /// Tags that raise it, and how many times.
    #[serde(default)]
    pub history: BTreeMap<String, f64>,
    /// Work makes it: work denied lowers it.
    #[serde(default)]
    pub made_by_work: bool,
    /// The unit it is bought as, where its place does not say.
    #[serde(default)]
    pub bought_as: Option<String>,
    /// Orders it makes.
    #[serde(default)]
    pub lines: Vec<LineRule>,
    /// What specific tests show.
    #[serde(default)]
    pub tests: BTreeMap<String, Marks>,
    /// Outcomes of general tests that do not follow from its behaviour.
    #[serde(default)]
    pub exception: Vec<Exception>,
    /// What holds at some kinds of its places only.
    #[serde(default)]
    pub only: Vec<Only>,
    /// When it is a danger.
    #[serde(default)]
    pub danger: Option<DangerRule>,
    /// What is done about it.
    pub repair: String,
    /// How long that usually takes.
    pub minutes: f64,
    /// What its parts cost as new originals, in the workshop's money.
    pub price: f64,
    /// The repair takes nothing off that other looks or repairs could share.
    #[serde(default)]
    pub in_place: bool,
    /// What is bought: a kind of part.
    pub part: String,
    /// What must stand there.
    #[serde(default)]
    pub caution: Vec<String>,
}

/// What holds of a fault at some kinds of its places only, in place of the rest.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Only {
    /// Which kinds of places.
    pub at: Vec<String>,
    /// What a driver calls it there.
    #[serde(default)]
    pub kinds: BTreeMap<String, f64>,
    /// What it shows there.
    #[serde(default)]
    pub shows: Vec<Shows>,
    /// What it turns with there.
    #[serde(default)]
    pub turns: Option<TurnsWith>,
    /// The turn it needs there.
    #[serde(default)]
    pub turning: Option<Turning>,
}

impl Fault {
    /// Whether flanges are marked before its repair parts them.
    pub fn needs_marks(&self) -> bool {
        self.caution.iter().any(|c| c == "marks")
    }
    /// Its exceptions for a test, of a symptom of this kind.
    pub fn exceptions_for<'a>(&'a self, test: &'a str, symptom: &'a str) -> impl Iterator<Item = &'a Exception> {
        let applies = move |e: &&Exception| e.test == test && (e.of_kinds.is_empty() || e.of_kinds.iter().any(|k| k == symptom));
        self.exception.iter().filter(applies)
    }

    fn there<'a>(&'a self, kind: &'a str) -> impl Iterator<Item = &'a Only> {
        self.only.iter().filter(move |o| o.at.iter().any(|k| k == kind))
    }

    /// What a driver calls it at a kind of place: kinds of symptom and their shares.
    pub fn kinds_at<'a>(&'a self, kind: &'a str) -> &'a BTreeMap<String, f64> {
        self.there(kind).map(|o| &o.kinds).find(|k| !k.is_empty()).unwrap_or(&self.kinds)
    }

    /// How it behaves at a kind of place.
    pub fn behaviour_at(&self, kind: &str) -> Behaviour {
        let mut b = self.behaviour.clone();
        for o in self.there(kind) {
            if !o.shows.is_empty() {
                b.shows = o.shows.clone();
            }
            b.turns = o.turns.unwrap_or(b.turns);
            b.turning = o.turning.or(b.turning);
        }
        b.turning = b.turning.filter(|t| *t != Turning::None);
        b
    }

    /// The kinds of symptom that a driver calls it most, the usual one first.
    pub fn usual_kinds(&self) -> Vec<&str> {
        let mut all: Vec<(&str, f64)> = self.kinds.iter().map(|(k, p)| (k.as_str(), *p)).collect();
        all.sort_by(|a, b| b.1.total_cmp(&a.1));
        all.into_iter().map(|k| k.0).collect()
    }

    /// Whether it shows as a leak and nothing else: found while a noise is traced it is a finding, no cause of the noise.
    pub fn is_leak_only(&self) -> bool {
        self.behaviour.shows == [Shows::Leak]
    }
}
