//! The knowledge of the trade, read from data files and checked: faults, tests, cautions, weights.

mod house;
mod told;
mod vocabulary;
mod weights;

pub use house::{House, HouseFault, LIMITS, shipped_limit};
pub use told::Says;
pub use vocabulary::{FELT, HEARD_FROM, HISTORY, KINDS, PLACE_KINDS, kind_bits, kind_of_place_words};
pub use weights::{
    GateWeights, MeasuredWeights, PickWeights, PriorWeights, RecordingWeights, RepairWeights, TimeWeights, Weights,
};

use crate::orders::What;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::LazyLock;

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

    /// Whether it is made on the road.
    pub fn is_of_the_road(&self) -> bool {
        self.caution.iter().any(|c| c == "road")
    }
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Caution {
    words: String,
}

/// Everything the program knows of the trade.
#[derive(Clone, Debug)]
pub struct Knowledge {
    /// The faults.
    pub faults: Vec<Fault>,
    /// The tests.
    pub tests: Vec<Test>,
    /// The weights.
    pub weights: Weights,
    cautions: BTreeMap<String, Caution>,
    parts: BTreeMap<String, PartKind>,
}

/// The test in which the driver picks the sound that is like it; its outcome is the fault's id.
pub const SOUND_PICK: &str = "sound-pick";

impl Knowledge {
    /// Reads the data files and checks that they fit together.
    pub fn read(faults: &str, tests: &str, cautions: &str, weights: &str, parts: &str) -> Result<Self, String> {
        #[derive(Deserialize)]
        #[serde(deny_unknown_fields)]
        struct Faults {
            fault: Vec<Fault>,
        }
        #[derive(Deserialize)]
        #[serde(deny_unknown_fields)]
        struct Tests {
            test: Vec<Test>,
        }
        let mut k = Self {
            faults: toml::from_str::<Faults>(faults).map_err(|e| format!("faults: {e}"))?.fault,
            tests: toml::from_str::<Tests>(tests).map_err(|e| format!("tests: {e}"))?.test,
            cautions: toml::from_str(cautions).map_err(|e| format!("cautions: {e}"))?,
            parts: toml::from_str(parts).map_err(|e| format!("options: {e}"))?,
            weights: toml::from_str(weights).map_err(|e| format!("weights: {e}"))?,
        };
        k.check()?;
        for s in k.tests.iter_mut().flat_map(|t| &mut t.says) {
            s.bits = kind_bits(|kind| s.at.iter().any(|a| a == kind));
        }
        Ok(k)
    }

    fn check(&self) -> Result<(), String> {
        for (i, t) in self.tests.iter().enumerate() {
            let sum: f64 = t.outcomes.iter().map(|o| o.base).sum();
            if (sum - 1.0).abs() > 1e-6 {
                return Err(format!("test {}: base rates sum to {sum}", t.id));
            }
            if self.tests[..i].iter().any(|o| o.id == t.id) {
                return Err(format!("test {} is there twice", t.id));
            }
            self.check_places(&t.id, &t.at)?;
            self.check_places(&t.id, &t.opens)?;
            for s in &t.says {
                self.check_places(&t.id, &s.at)?;
                self.check_marks("what it says of all", t, &s.marks)?;
                if let Some(h) = s.of_work.iter().find(|h| !HISTORY.contains(&h.as_str())) {
                    return Err(format!("test {}: history “{h}” is not known", t.id));
                }
            }
            self.check_cautions(&t.id, &t.caution)?;
        }
        for (i, f) in self.faults.iter().enumerate() {
            if self.faults[..i].iter().any(|o| o.id == f.id) {
                return Err(format!("fault {} is there twice", f.id));
            }
            if !self.weights.rarity.contains_key(&f.rarity) {
                return Err(format!("fault {}: rarity “{}” is not known", f.id, f.rarity));
            }
            self.check_places(&f.id, &f.at)?;
            self.check_cautions(&f.id, &f.caution)?;
            if f.minutes <= 0.0 || f.price < 0.0 {
                return Err(format!("fault {}: minutes must be above 0 and the price not below", f.id));
            }
            if self.parts.get(&f.part).is_none_or(|p| p.option.is_empty()) {
                return Err(format!("fault {}: kind of part “{}” is not known", f.id, f.part));
            }
            for k in f.kinds.iter().chain(f.only.iter().flat_map(|o| &o.kinds)) {
                if !KINDS.contains(&k.as_str()) {
                    return Err(format!("fault {}: kind “{k}” is not known", f.id));
                }
            }
            if let Some(w) = f.felt.front.iter().chain(&f.felt.rear).find(|w| !FELT.contains(&w.as_str())) {
                return Err(format!("fault {}: nobody feels it at “{w}”", f.id));
            }
            for h in &f.history {
                if !HISTORY.contains(&h.as_str()) {
                    return Err(format!("fault {}: history “{h}” is not known", f.id));
                }
            }
            if f.lines.iter().any(|l| !(0.0..=1.0).contains(&l.needed) || l.times <= 0.0) {
                return Err(format!("fault {}: a line's times must be above 0 and needed from 0 to 1", f.id));
            }
            for o in &f.only {
                if let Some(a) = o.at.iter().find(|a| !f.at.contains(a)) {
                    return Err(format!("fault {}: it is never at “{a}”", f.id));
                }
            }
            for (_, test, marks) in f.all_marks() {
                let t = self.test(test).ok_or_else(|| format!("fault {}: test “{test}” is not known", f.id))?;
                self.check_marks(&format!("fault {}", f.id), t, marks)?;
            }
        }
        Ok(())
    }

    fn check_marks(&self, of: &str, t: &Test, marks: &Marks) -> Result<(), String> {
        let mut sum = 0.0;
        for (outcome, mark) in marks {
            if !outcome.starts_with('@') && t.outcome(outcome).is_none() {
                return Err(format!("{of}: {} has no outcome “{outcome}”", t.id));
            }
            sum += self.probability(mark).ok_or_else(|| format!("{of}: {} {outcome}: bad mark", t.id))?;
        }
        if sum > 1.0 + 1e-9 { Err(format!("{of}: {}: outcomes sum to {sum}", t.id)) } else { Ok(()) }
    }

    fn check_places(&self, of: &str, at: &[String]) -> Result<(), String> {
        match at.iter().find(|a| !PLACE_KINDS.contains(&a.as_str())) {
            Some(a) => Err(format!("{of}: kind of place “{a}” is not known")),
            None => Ok(()),
        }
    }

    fn check_cautions(&self, of: &str, ids: &[String]) -> Result<(), String> {
        match ids.iter().find(|c| !self.cautions.contains_key(*c)) {
            Some(c) => Err(format!("{of}: caution “{c}” is not known")),
            None => Ok(()),
        }
    }

    /// A mark as a probability.
    pub fn probability(&self, mark: &Mark) -> Option<f64> {
        match mark {
            Mark::Sign(s) => self.weights.marks.get(s).copied(),
            Mark::Probability(p) => (0.0..=1.0).contains(p).then_some(*p),
        }
    }

    /// A test by id.
    pub fn test(&self, id: &str) -> Option<&Test> {
        self.tests.iter().find(|t| t.id == id)
    }

    /// A fault by id.
    pub fn fault(&self, id: &str) -> Option<&Fault> {
        self.faults.iter().find(|f| f.id == id)
    }

    /// The ways to buy what a fault needs; what the fault's words call it.
    pub fn part(&self, fault: &Fault) -> Option<&PartKind> {
        self.parts.get(&fault.part)
    }

    /// A caution's words.
    pub fn caution(&self, id: &str) -> Option<&str> {
        self.cautions.get(id).map(|c| c.words.as_str())
    }
}

static BUILTIN: LazyLock<Knowledge> = LazyLock::new(|| {
    let read = Knowledge::read(
        include_str!("../../../knowledge/faults.toml"),
        include_str!("../../../knowledge/tests.toml"),
        include_str!("../../../knowledge/cautions.toml"),
        include_str!("../../../knowledge/weights.toml"),
        include_str!("../../../knowledge/options.toml"),
    );
    match read {
        Ok(k) => k,
        // The files are compiled in and a test reads them: this cannot be met by a user.
        Err(e) => unreachable!("the knowledge that ships does not fit together: {e}"),
    }
});

/// The knowledge that ships with the program.
pub fn builtin() -> &'static Knowledge {
    &BUILTIN
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_ships_fits_together() {
        let k = builtin();
        assert!(k.faults.len() >= 55, "{}", k.faults.len());
        assert!(k.tests.len() >= 45, "{}", k.tests.len());
    }

    #[test]
    fn the_entry_that_the_guide_shows_is_one_entry_and_enough() {
        let guide = include_str!("../../../../../CONTRIBUTING.md");
        let entry = guide.split("```toml").nth(1).and_then(|rest| rest.split("```").next()).unwrap();
        let faults = format!("{}\n{entry}", include_str!("../../../knowledge/faults.toml"));
        let k = Knowledge::read(
            &faults,
            include_str!("../../../knowledge/tests.toml"),
            include_str!("../../../knowledge/cautions.toml"),
            include_str!("../../../knowledge/weights.toml"),
            include_str!("../../../knowledge/options.toml"),
        )
        .unwrap();
        let v = crate::vehicle::sample::rear_drive(2);
        assert!(crate::reasoning::hypotheses(&v, &k).iter().any(|h| h.fault == "damper-cracked" && h.at == "prop.rear.s2"));
    }

    #[test]
    fn files_that_do_not_fit_are_refused_with_the_entry() {
        let read = |faults: &str| {
            Knowledge::read(
                faults,
                include_str!("../../../knowledge/tests.toml"),
                include_str!("../../../knowledge/cautions.toml"),
                include_str!("../../../knowledge/weights.toml"),
                include_str!("../../../knowledge/options.toml"),
            )
            .unwrap_err()
        };
        let entry = |rest: &str| {
            format!(
                "[[fault]]\nid='x'\nname='x'\nat=['hub']\nrarity='usual'\nkinds=['growl']\nrepair=''\nminutes=1\nprice=1\npart='seal'\n{rest}"
            )
        };
        assert!(read(&entry("[fault.tests]\nturn={sideways='+'}")).contains("no outcome"));
        assert!(read(&entry("[fault.tests]\nkick={a='+'}")).contains("kick"));
        assert!(read(&entry("[fault.tests]\nturn={left='++',right='++'}")).contains("sum"));
        assert!(read(&entry("colour='red'")).contains("colour"));
        assert!(read(&entry("").replace("growl", "hum")).contains("hum"));
        assert!(read(&entry("").replace("'hub'", "'moon'")).contains("moon"));
    }
}
