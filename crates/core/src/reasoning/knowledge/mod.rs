//! The knowledge of the trade, read from data files and checked: faults, tests, cautions, weights.

mod entries;
mod house;
mod told;
mod vocabulary;
mod weights;

pub use entries::{Bears, Fault, Felt, Hands, Heat, LineRule, Mark, Marks, OfAll, Only, OutcomeRule, PartKind, PartOption, Test};
pub use house::{House, HouseFault, LIMITS, shipped_limit};
pub use told::Says;
pub use vocabulary::{FELT, HEARD_FROM, HISTORY, KINDS, PLACE_KINDS, kind_bits, kind_of_place_words};
pub use weights::{
    GateWeights, MeasuredWeights, PickWeights, PriorWeights, RecordingWeights, RepairWeights, TimeWeights, Weights,
};

use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::LazyLock;

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
    fn how_the_vehicle_stands_is_told_for_every_test() {
        let words = |id: &str| builtin().test(id).unwrap().posture().join(", ");
        assert_eq!(words("neutral-coast"), "on the road");
        assert_eq!(words("axle-nut-check"), "on the ground, the wheels carrying the vehicle");
        assert_eq!(words("slip-position"), "on the lift, the wheels carrying the vehicle");
        assert_eq!(words("lift-run"), "on the lift, wheels turning under power");
        assert_eq!(words("opened-look"), "on the bench");
        for t in &builtin().tests {
            assert!(!(t.loaded && t.wheels), "{}: what carries the vehicle does not turn under power on a lift", t.id);
        }
    }

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
