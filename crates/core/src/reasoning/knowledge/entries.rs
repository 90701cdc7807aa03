//! The entries of the data files: what is said of a fault, a test, an outcome, a way to buy.

use crate::orders::What;
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
    /// ++, +, -, --.
    Sign(String),
    /// As a probability.
    Probability(f64),
}

/// A fault.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Fault {
    /// Public id.
    pub id: String,
    /// What a mechanic calls it.
    pub name: String,
    /// Kinds of places where it can be.
    pub at: Vec<String>,
    /// common, usual, rare.
    pub rarity: String,
    /// Kinds of symptom that fit.
    pub kinds: Vec<String>,
    /// Speeds (km/h) between which it is at its worst.
    #[serde(default)]
    pub speeds: Option<[f64; 2]>,
    /// Orders it makes.
    #[serde(default)]
    pub lines: Vec<LineRule>,
    /// Tags that raise it.
    #[serde(default)]
    pub history: Vec<String>,
    /// What tests say of it.
    #[serde(default)]
    pub tests: BTreeMap<String, Marks>,
    /// What holds at some kinds of its places only.
    #[serde(default)]
    pub only: Vec<Only>,
    /// Where it is felt.
    #[serde(default)]
    pub felt: Felt,
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

/// What outcomes of a test say.
pub type Marks = BTreeMap<String, Mark>;

/// What holds of a fault at some kinds of its places only.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Only {
    /// Which kinds.
    pub at: Vec<String>,
    /// Kinds of symptom that fit there, in place of the others.
    #[serde(default)]
    pub kinds: Vec<String>,
    /// What tests say of it there, in place of what they say elsewhere.
    #[serde(default)]
    pub tests: BTreeMap<String, Marks>,
}

/// Where a fault is felt, by the end of the vehicle at which it is; nothing where it may be felt anywhere.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Felt {
    /// In front.
    #[serde(default)]
    pub front: Vec<String>,
    /// At the rear.
    #[serde(default)]
    pub rear: Vec<String>,
}

impl OfAll {
    /// Whether it says something of a fault.
    pub fn is_of(&self, f: &Fault) -> bool {
        self.of_work.is_empty() || f.history.iter().any(|h| self.of_work.contains(h))
    }
}

impl Fault {
    fn there(&self, kind: &str) -> impl Iterator<Item = &Only> {
        self.only.iter().filter(move |o| o.at.iter().any(|k| k == kind))
    }

    /// Kinds of symptom that fit it at a kind of place.
    pub fn kinds_at(&self, kind: &str) -> &[String] {
        self.there(kind).map(|o| &o.kinds).find(|k| !k.is_empty()).unwrap_or(&self.kinds)
    }

    /// What a test says of it at a kind of place.
    pub fn marks(&self, test: &str, kind: &str) -> Option<&Marks> {
        self.there(kind).find_map(|o| o.tests.get(test)).or(self.tests.get(test))
    }

    /// All that tests say of it, with the kinds of places where that holds; none where it holds everywhere.
    pub fn all_marks(&self) -> impl Iterator<Item = (&[String], &String, &Marks)> {
        let there = self.only.iter().flat_map(|o| o.tests.iter().map(|(t, m)| (o.at.as_slice(), t, m)));
        self.tests.iter().map(|(t, m)| (&[][..], t, m)).chain(there)
    }
}

/// What a test says of every fault at some kinds of places that says nothing of the test itself.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OfAll {
    /// Which kinds of places.
    pub at: Vec<String>,
    /// Anywhere, and not only where the test bears.
    #[serde(default)]
    pub anywhere: bool,
    /// Only of what such work can cause: faults that one of these tags raises. None: of every fault.
    #[serde(default)]
    pub of_work: Vec<String>,
    /// What its outcomes say.
    pub marks: Marks,
    /// The kinds as bits.
    #[serde(skip)]
    pub bits: u64,
}

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

/// A test.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Test {
    /// Public id.
    pub id: String,
    /// Heading on screen.
    pub ask: String,
    /// How to do it.
    pub how: String,
    /// Kinds of places where it is made.
    #[serde(default)]
    pub at: Vec<String>,
    /// On which causes it bears.
    #[serde(default)]
    pub bears: Bears,
    /// How often the place that it names is the right one.
    #[serde(default)]
    pub locates: Option<f64>,
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
    /// Parts must come off first.
    #[serde(default)]
    pub off: bool,
    /// Tests that lean on the same fact.
    #[serde(default)]
    pub group: Option<String>,
    /// What can come out.
    pub outcomes: Vec<OutcomeRule>,
    /// Cautions that stand at it.
    #[serde(default)]
    pub caution: Vec<String>,
    /// What the hands do: the picture that is shown.
    #[serde(default)]
    pub hands: Option<Hands>,
    /// What it says of every fault at some kinds of places.
    #[serde(default)]
    pub says: Vec<OfAll>,
    /// How warm the vehicle should be: what tells most while it is warm comes before it cools, and what lies beside hot
    /// parts, or is measured cold, waits until it has.
    #[serde(default)]
    pub best: Option<Heat>,
    /// Kinds of places that lie open once it is made: what can be looked at there costs next to nothing then.
    #[serde(default)]
    pub opens: Vec<String>,
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

/// What the hands do at a test.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Hands {
    /// Rock a wheel, above and below.
    Rock,
    /// Spin a wheel, the other hand on the hub or spring.
    Spin,
    /// Twist both sides of a joint against each other.
    Twist,
    /// Swing a joint through both planes.
    Swing,
    /// Lift a shaft or a yoke up and down.
    Lift,
    /// A bar against it.
    Bar,
    /// Squeeze every fold.
    Squeeze,
    /// A listening rod on the housing.
    Listen,
    /// A dial against it, turned by hand.
    Dial,
    /// Turn to and fro and watch.
    Watch,
    /// A wrench on a plug or a nut.
    Wrench,
    /// A lamp and the eyes, hands away.
    Look,
    /// No hands: bends to both sides, and which wheels they load.
    Bend,
}

impl Test {
    /// One of its outcomes.
    pub fn outcome(&self, id: &str) -> Option<&OutcomeRule> {
        self.outcomes.iter().find(|o| o.id == id)
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

    /// Whether it is made on the road.
    pub fn is_of_the_road(&self) -> bool {
        self.caution.iter().any(|c| c == "road")
    }
}
