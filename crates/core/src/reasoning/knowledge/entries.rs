//! A test, its outcomes, and the ways to buy a part, as the data files say them.

use crate::hands::Hands;
use crate::measure::instrument::{Instrument, InstrumentKind, instrument};
use serde::Deserialize;
use std::collections::BTreeMap;

/// A way to buy a part.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartOption {
    /// What stands in the case as the repair's part.
    pub id: String,
    /// Words on screen.
    pub words: String,
    /// Times the price of a new original.
    pub price: f64,
    /// Times the repair's minutes.
    pub hours: f64,
    /// How long it usually lasts.
    pub years: f64,
    /// Share that is wrong from the start or fails within a year.
    pub fails: f64,
    /// The risk, in words.
    pub risk: String,
}

/// A kind of part, and in what qualities it comes.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartKind {
    /// What is bought.
    pub words: String,
    /// The ways to buy it.
    pub option: Vec<PartOption>,
}

/// An outcome of a test.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OutcomeRule {
    /// Public id.
    pub id: String,
    /// Words on screen.
    pub words: String,
    /// How often it comes out for no reason of a cause.
    pub base: f64,
    /// Kinds of places that can have it; none: all at which the test is made.
    #[serde(default)]
    pub at: Vec<String>,
}

/// On which causes a test bears.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Bears {
    /// On all.
    #[default]
    Vehicle,
    /// On those at its place.
    Place,
    /// On those at its corner.
    Corner,
    /// On those at its axle, with shaft and half shafts.
    Axle,
    /// On those of its shaft.
    Shaft,
    /// On those of the whole unit: the shaft, the axle, the corner, the gearbox with its clutch.
    Unit,
}

/// A test as `tests.toml` has it: one entry, every key explained at the head of the file.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Test {
    /// Public id.
    pub id: String,
    /// Heading on screen.
    pub ask: String,
    /// How to do it.
    pub how: String,
    /// What people say who have made it or seen its outcome: by that it is found.
    #[serde(default)]
    pub said: Vec<String>,
    /// Kinds of places where it is made.
    #[serde(default)]
    pub at: Vec<String>,
    /// On which causes it bears.
    #[serde(default)]
    pub bears: Bears,
    /// It asks how this symptom behaves: its answer belongs to this symptom, not to all.
    #[serde(default)]
    pub of_symptom: bool,
    /// Its outcome names the place: one series over all of them.
    #[serde(default)]
    pub names_place: bool,
    /// Of a test that names a place: its base rates are those of each place, not of the whole series.
    #[serde(default)]
    pub base_each: bool,
    /// What it uses up, in the workshop's money.
    #[serde(default)]
    pub materials: f64,
    /// Two of its outcomes can be true at once.
    #[serde(default)]
    pub several: bool,
    /// Kinds of symptom of which it can be asked; none: of all.
    #[serde(default)]
    pub asked_of: Vec<String>,
    /// What the vehicle must have.
    #[serde(default)]
    pub needs: Vec<Need>,
    /// Answers after which it asks nothing new: test, and its outcomes.
    #[serde(default)]
    pub pointless_after: BTreeMap<String, Vec<String>>,
    /// The test that says the same fact: of both only the later one counts.
    #[serde(default)]
    pub same_as: Option<String>,
    /// How long it takes.
    pub minutes: f64,
    /// Needs the lift.
    #[serde(default)]
    pub lift: bool,
    /// The wheels carry the vehicle, at ride height.
    #[serde(default)]
    pub loaded: bool,
    /// Wheels turn under power.
    #[serde(default)]
    pub wheels: bool,
    /// It takes something off, or changes the vehicle, to see what the symptom does: it is not made again to prove a repair.
    #[serde(default)]
    pub isolates: bool,
    /// The engine or motor runs, the vehicle standing.
    #[serde(default)]
    pub running: bool,
    /// Parts must come off first.
    #[serde(default)]
    pub off: bool,
    /// A second person helps all the while: it costs twice its minutes.
    #[serde(default)]
    pub helper: bool,
    /// It is made right after a drive.
    #[serde(default)]
    pub after_drive: bool,
    /// It is made by recording a run.
    #[serde(default)]
    pub recorded: bool,
    /// The place is found by holding levels against each other, place by place.
    #[serde(default)]
    pub levels: bool,
    /// It is answered where it is said, and never proposed.
    #[serde(default)]
    pub not_proposed: bool,
    /// The instrument whose reading answers it: an id of [`crate::measure::instrument::INSTRUMENTS`].
    #[serde(default)]
    pub instrument: Option<String>,
    /// What can come out.
    pub outcomes: Vec<OutcomeRule>,
    /// Cautions that stand at it.
    #[serde(default)]
    pub caution: Vec<String>,
    /// What the hands do: the picture that is shown.
    #[serde(default)]
    pub hands: Option<Hands>,
    /// How warm the vehicle should be: what tells most while it is warm comes before it cools, and what lies beside hot
    /// parts, or is measured cold, waits until it has.
    #[serde(default)]
    pub best: Option<Heat>,
    /// Kinds of places that lie open once it is made: what can be looked at there costs next to nothing then.
    #[serde(default)]
    pub opens: Vec<String>,
}

/// What a vehicle must have so that a test can be made on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Need {
    /// Gears to choose.
    Gears,
    /// A clutch pedal.
    ClutchPedal,
    /// An engine to rev standing.
    Engine,
}

/// How warm a vehicle is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Heat {
    /// Warm from the road.
    Warm,
    /// Stood for long enough.
    Cold,
}

impl Test {
    /// One of its outcomes.
    pub fn outcome(&self, id: &str) -> Option<&OutcomeRule> {
        self.outcomes.iter().find(|o| o.id == id)
    }

    /// Its outcome that says that nothing is there: the one with the highest base rate.
    pub fn innocent(&self) -> &OutcomeRule {
        // A test has outcomes: the check of the data files sees to it.
        self.outcomes.iter().max_by(|a, b| a.base.total_cmp(&b.base)).unwrap_or(&self.outcomes[0])
    }

    /// How the vehicle stands for it, in words.
    pub fn posture(&self) -> Vec<&'static str> {
        let on = match () {
            () if self.lift => "on the lift",
            () if self.off => "on the bench",
            () if self.is_of_the_road() => "on the road",
            () => "on the ground",
        };
        let more = [
            (self.loaded, "the wheels carrying the vehicle"),
            (self.wheels, "wheels turning under power"),
            (self.off && self.lift, "something off first"),
        ];
        [on].into_iter().chain(more.into_iter().filter(|m| m.0).map(|m| m.1)).collect()
    }

    /// The instrument whose reading answers it.
    pub fn instrument(&self) -> Option<&'static Instrument> {
        self.instrument.as_deref().and_then(instrument)
    }

    /// Whether its answer is a reading that is kept as a measurement, of this kind.
    pub fn is_read_as(&self, kind: &str) -> bool {
        self.is_measurement() && self.instrument.as_deref() == Some(kind)
    }

    /// Whether its answer is a reading that is kept as a measurement and held against a limit.
    pub fn is_measurement(&self) -> bool {
        self.instrument().is_some_and(|i| i.kind == InstrumentKind::Measurement)
    }

    /// Whether it is made on the road.
    pub fn is_of_the_road(&self) -> bool {
        self.caution.iter().any(|c| c == "road")
    }

    /// Whether the wheels turn under power: on the road, or in the air.
    pub fn turns_wheels(&self) -> bool {
        self.wheels || self.is_of_the_road()
    }
}
