//! The knowledge of the trade, read from data files and checked: faults, tests, cautions, weights.

mod bearing_book;
mod caution;
mod entries;
mod explain;
mod fault;
mod kinds;
mod marks;
mod overrides;
mod weights;
mod zones;

pub use crate::case::vocabulary::{FELT, HEARD_FROM, HISTORY, KINDS, PLACE_KINDS, ZONES, kind_of_place_words, kinds_meant};
pub use bearing_book::{BookBearing, book_number};
pub use caution::{Caution, Situation};
pub use entries::{Bears, Heat, Need, OutcomeRule, PartKind, PartOption, Test};
pub use explain::Explanation;
pub use fault::{
    Behaviour, DangerRule, Exception, Fault, LineRule, Load, Mark, Marks, Only, Shows, SpeedShape, Turning, TurnsWith,
};
pub use marks::{distribution, fill, mark_probability, outcomes_at};
pub use overrides::{FaultOverride, LIMITS, WorkshopOverrides, shipped_limit};
pub use weights::*;
pub use zones::Zone;

use crate::repair::procedures::{Procedures, shipped_procedures};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::{Arc, LazyLock};

/// Everything the program knows of the trade.
#[derive(Clone, Debug)]
pub struct Knowledge {
    /// `faults.toml`, in its order.
    pub faults: Vec<Fault>,
    /// `tests.toml`, in its order.
    pub tests: Vec<Test>,
    /// `weights.toml`: every number of the weighing.
    pub weights: Weights,
    /// How things are taken apart and put together.
    pub procedures: Arc<Procedures>,
    cautions: BTreeMap<String, Caution>,
    parts: BTreeMap<String, PartKind>,
    zones: BTreeMap<String, Zone>,
    kinds: kinds::KindTable,
}

/// The data files.
#[derive(Clone, Copy, Debug)]
pub struct Files<'a> {
    /// `faults.toml`, in its order.
    pub faults: &'a str,
    /// `tests.toml`, in its order.
    pub tests: &'a str,
    /// `cautions.toml`.
    pub cautions: &'a str,
    /// `weights.toml`: every number of the weighing.
    pub weights: &'a str,
    /// Ways to buy parts.
    pub options: &'a str,
    /// Where things are heard and felt.
    pub zones: &'a str,
}

/// The files that ship with the program.
pub const SHIPPED: Files = Files {
    faults: include_str!("../../../knowledge/faults.toml"),
    tests: include_str!("../../../knowledge/tests.toml"),
    cautions: include_str!("../../../knowledge/cautions.toml"),
    weights: include_str!("../../../knowledge/weights.toml"),
    options: include_str!("../../../knowledge/options.toml"),
    zones: include_str!("../../../knowledge/zones.toml"),
};

/// The test in which the driver picks the sound that is like it; its outcome is the fault's id.
pub const SOUND_PICK: &str = "sound-pick";

impl Knowledge {
    /// Reads the data files and checks that they fit together. An error names the entry.
    pub fn read(files: Files) -> Result<Self, String> {
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
        let weights: Weights = toml::from_str(files.weights).map_err(|e| format!("weights: {e}"))?;
        let faults = toml::from_str::<Faults>(files.faults).map_err(|e| format!("faults: {e}"))?.fault;
        let k = Self {
            kinds: kinds::KindTable::new(&faults, &weights.kinds),
            faults,
            tests: toml::from_str::<Tests>(files.tests).map_err(|e| format!("tests: {e}"))?.test,
            cautions: toml::from_str(files.cautions).map_err(|e| format!("cautions: {e}"))?,
            parts: toml::from_str(files.options).map_err(|e| format!("options: {e}"))?,
            zones: toml::from_str(files.zones).map_err(|e| format!("zones: {e}"))?,
            procedures: shipped_procedures().clone(),
            weights,
        };
        k.check()?;
        Ok(k)
    }

    fn check(&self) -> Result<(), String> {
        for (i, t) in self.tests.iter().enumerate() {
            let sum: f64 = t.outcomes.iter().map(|o| o.base).sum();
            if (sum - 1.0).abs() > 1e-6 {
                return Err(format!("test {}: base rates sum to {sum}", t.id));
            }
            if let Some(o) = t.outcomes.iter().find(|o| o.base <= 0.0) {
                return Err(format!("test {}: outcome {} has no base rate", t.id, o.id));
            }
            if self.tests[..i].iter().any(|o| o.id == t.id) {
                return Err(format!("test {} is there twice", t.id));
            }
            self.check_places(&t.id, &t.at)?;
            self.check_places(&t.id, &t.opens)?;
            t.outcomes.iter().try_for_each(|o| self.check_places(&t.id, &o.at))?;
            if let Some(k) = t.asked_of.iter().find(|k| !KINDS.contains(&k.as_str())) {
                return Err(format!("test {}: kind “{k}” is not known", t.id));
            }
            for (test, outcomes) in &t.pointless_after {
                let other = self.test(test).ok_or_else(|| format!("test {}: test “{test}” is not known", t.id))?;
                if let Some(o) = outcomes.iter().find(|o| other.outcome(o).is_none()) {
                    return Err(format!("test {}: {test} has no outcome “{o}”", t.id));
                }
            }
            if t.same_as.as_ref().is_some_and(|s| self.test(s).is_none()) {
                return Err(format!("test {}: what it is the same as is not known", t.id));
            }
            if t.instrument.is_some() && t.instrument().is_none() {
                return Err(format!("test {}: its instrument is not known", t.id));
            }
            self.check_cautions(&t.id, &t.caution)?;
        }
        for (i, f) in self.faults.iter().enumerate() {
            if self.faults[..i].iter().any(|o| o.id == f.id) {
                return Err(format!("fault {} is there twice", f.id));
            }
            self.check_fault(f).map_err(|e| format!("fault {}: {e}", f.id))?;
        }
        Ok(())
    }

    fn check_fault(&self, f: &Fault) -> Result<(), String> {
        if !(f.rate > 0.0 && f.places > 0.0) {
            return Err("rate and places must be above 0".into());
        }
        self.check_places(&f.id, &f.at)?;
        self.check_cautions(&f.id, &f.caution)?;
        if f.minutes <= 0.0 || f.price < 0.0 {
            return Err("minutes must be above 0 and the price not below".into());
        }
        if self.parts.get(&f.part).is_none_or(|p| p.option.is_empty()) {
            return Err(format!("kind of part “{}” is not known", f.part));
        }
        if f.zone.as_ref().is_some_and(|z| !self.zones.contains_key(z)) {
            return Err("its zone is not known".into());
        }
        for kinds in std::iter::once(&f.kinds).chain(f.only.iter().map(|o| &o.kinds).filter(|k| !k.is_empty())) {
            if let Some(k) = kinds.keys().find(|k| !KINDS.contains(&k.as_str())) {
                return Err(format!("kind “{k}” is not known"));
            }
            let sum: f64 = kinds.values().sum();
            if (sum - 1.0).abs() > 0.02 {
                return Err(format!("its kinds sum to {sum}"));
            }
        }
        if f.behaviour.shows.is_empty() || !(0.0..=1.0).contains(&f.behaviour.unloaded) {
            return Err("its behaviour shows nothing, or is heard unloaded with no probability".into());
        }
        if let Some(h) = f.history.keys().find(|h| !HISTORY.contains(&h.as_str())) {
            return Err(format!("history “{h}” is not known"));
        }
        if f.lines.iter().any(|l| !(0.0..=1.0).contains(&l.needed) || l.times <= 0.0) {
            return Err("a line's times must be above 0 and needed from 0 to 1".into());
        }
        let of_its_places = |a: &String| f.at.contains(a) || matches!(a.as_str(), "front" | "rear");
        if let Some(a) = f.only.iter().flat_map(|o| &o.at).chain(f.rate_factor.keys()).find(|a| !of_its_places(a)) {
            return Err(format!("it is never at “{a}”"));
        }
        for e in &f.exception {
            let t = self.test(&e.test).ok_or_else(|| format!("test “{}” is not known", e.test))?;
            if t.outcome(&e.outcome).is_none() || !(0.0..=1.0).contains(&e.p) || e.why.trim().is_empty() {
                return Err(format!("{}: an exception needs an outcome, a probability and a reason", e.test));
            }
            if let Some(kind) = e.of_kinds.iter().find(|kind| !KINDS.contains(&kind.as_str())) {
                return Err(format!("{}: “{kind}” is no kind of symptom", e.test));
            }
        }
        for (test, marks) in &f.tests {
            let t = self.test(test).ok_or_else(|| format!("test “{test}” is not known"))?;
            marks::check(t, marks, &self.weights.marks)?;
        }
        Ok(())
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

    /// P(the driver says this kind | fault at a kind of place). The kinds sum to 1; nothing for what it cannot cause.
    pub fn kind_probability(&self, fault: &str, place_kind: &str, kind: &str) -> f64 {
        self.kinds.probability(fault, place_kind, kind)
    }

    /// A zone by its key.
    pub fn zone(&self, key: &str) -> Option<&Zone> {
        self.zones.get(key)
    }

    /// A test by id.
    pub fn test(&self, id: &str) -> Option<&Test> {
        self.tests.iter().find(|t| t.id == id)
    }

    /// The test that is answered by levels at several places.
    pub fn levels_test(&self) -> Option<&Test> {
        self.tests.iter().find(|t| t.levels)
    }

    /// The test that a reading of an instrument answers at a place: the one that is made at places of its kind, else the first.
    pub fn test_read_with(&self, instrument: &str, made_at: impl Fn(&str) -> bool) -> Option<&Test> {
        let mut all = self.tests.iter().filter(|t| t.instrument.as_deref() == Some(instrument));
        let first = all.clone().next();
        all.find(|t| t.at.iter().any(|kind| made_at(kind))).or(first)
    }

    /// A fault by id.
    pub fn fault(&self, id: &str) -> Option<&Fault> {
        self.faults.iter().find(|f| f.id == id)
    }

    /// The ways to buy what a fault needs; what the fault's words call it.
    pub fn part(&self, fault: &Fault) -> Option<&PartKind> {
        self.parts.get(&fault.part)
    }

    /// The caution with this id.
    pub fn caution(&self, id: &str) -> Option<&Caution> {
        self.cautions.get(id)
    }

    /// All cautions with their ids.
    pub fn cautions(&self) -> impl Iterator<Item = (&str, &Caution)> {
        self.cautions.iter().map(|(id, c)| (id.as_str(), c))
    }
}

static BUILTIN: LazyLock<Knowledge> = LazyLock::new(|| {
    let read = Knowledge::read(SHIPPED);
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

/// All data files that ship, one after the other.
fn shipped_text() -> &'static str {
    static TEXT: LazyLock<String> = LazyLock::new(|| {
        let s = &SHIPPED;
        let procedures = crate::repair::procedures::SHIPPED.map(|f| f.1).concat();
        [s.faults, s.tests, s.cautions, s.options, s.zones, s.weights, &procedures].concat()
    });
    &TEXT
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
        assert!(k.faults.len() >= 79, "{}", k.faults.len());
        assert!(k.tests.len() >= 63, "{}", k.tests.len());
    }

    #[test]
    fn the_entry_that_the_guide_shows_is_one_entry_and_enough() {
        let guide = include_str!("../../../../../CONTRIBUTING.md");
        let entry = guide.split("```toml").nth(1).and_then(|rest| rest.split("```").next()).unwrap();
        let faults = format!("{}\n{entry}", SHIPPED.faults);
        let k = Knowledge::read(Files { faults: &faults, ..SHIPPED }).unwrap();
        let v = crate::vehicle::sample::rear_drive(2);
        assert!(crate::reasoning::hypotheses(&v, &k).iter().any(|h| h.fault == "damper-cracked" && h.at == "prop.rear.s2"));
    }

    #[test]
    fn files_that_do_not_fit_are_refused_with_the_entry() {
        let read = |faults: &str| Knowledge::read(Files { faults, ..SHIPPED }).unwrap_err();
        let entry = |rest: &str| {
            format!(
                "[[fault]]\nid='x'\nname='x'\nat=['hub']\nrate=3\nplaces=4\nkinds={{growl=1.0}}\nbehaviour={{turns='wheel',shows=['line'],unloaded=0.5}}\nrepair=''\nminutes=1\nprice=1\npart='seal'\n{rest}"
            )
        };
        assert!(read(&entry("[fault.tests]\nspin-by-hand={sideways='+'}")).contains("no outcome"));
        assert!(read(&entry("[fault.tests]\nkick={a='+'}")).contains("kick"));
        assert!(read(&entry("[fault.tests]\nspin-by-hand={rough=0.9,drags=0.5}")).contains("sum"));
        assert!(
            read(
                &entry("[fault.tests]\nspin-by-hand={smooth='++'}")
                    .replace("spin-by-hand", "axle-nut-check")
                    .replace("smooth", "tight")
            )
            .contains("speak")
        );
        assert!(read(&entry("[fault.tests]\nspin-by-hand={rough='+',drags='+'}")).contains("one plus"));
        assert!(read(&entry("colour='red'")).contains("colour"));
        assert!(read(&entry("").replace("growl", "hum")).contains("hum"));
        assert!(read(&entry("").replace("'hub'", "'moon'")).contains("moon"));
        assert!(read(&entry("[[fault.exception]]\ntest='turn'\noutcome='left'\np=0.5\nwhy=''")).contains("reason"));
    }
}
