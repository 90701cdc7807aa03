//! What a workshop has changed of the knowledge that ships: minutes, how common a fault is, prices, the certainty
//! at which it buys parts. Everything else stays as it ships, and every change can be seen and taken back.

use super::bearing_book::{BookBearing, book_number};
use super::{Knowledge, builtin, shipped_text};
use crate::error::Problem;
use crate::measure::angle_targets::School;
use crate::repair::own_procedures::{OwnProcedure, left_out, with_own};
use crate::vehicle::{Limits, Vehicle};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::{Arc, LazyLock};

/// The same number for the same texts, run after run of one program.
fn hash(of: &[&str]) -> u64 {
    let mut h = DefaultHasher::new();
    of.hash(&mut h);
    h.finish()
}

/// A workshop's changes to one fault.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FaultOverride {
    /// How often it is here, in the relative numbers of the data file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<f64>,
    /// How often as it was said before there were numbers: common, usual or rare. Read, and no longer written.
    #[serde(default, skip_serializing)]
    pub rarity: Option<String>,
    /// How long its repair takes here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub minutes: Option<f64>,
    /// What its parts cost here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub price: Option<f64>,
}

/// A workshop's changes.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WorkshopOverrides {
    /// Minutes of tests.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub tests: BTreeMap<String, f64>,
    /// What the workshop changed of a fault, by its id.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub faults: BTreeMap<String, FaultOverride>,
    /// What an hour costs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<f64>,
    /// Its own limits, for vehicles that name none.
    #[serde(default, skip_serializing_if = "is_nothing")]
    pub limits: Limits,
    /// From how sure on parts are bought without a reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certainty: Option<f64>,
    /// What its money is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub currency: Option<String>,
    /// What joint angles aim at here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub angle_school: Option<School>,
    /// Geometry of bearings by the number that stands on them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub bearings: BTreeMap<String, BookBearing>,
    /// How things are taken apart and put together here, by the entry that it stands before.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub procedures: BTreeMap<String, OwnProcedure>,
}

/// Letters that the name of a currency has at most.
const MAX_CURRENCY_CHARS: usize = 4;

fn is_nothing(l: &Limits) -> bool {
    *l == Limits::default()
}

/// Limits that a workshop may set: key, words, unit, from, to. Those of runout go by kind of measuring point.
pub const LIMITS: &[(&str, &str, &str, f64, f64)] = &[
    ("torsional_rads2", "highest torsional acceleration at the axle", "rad/s²", 10.0, 5000.0),
    ("section_rads2", "highest acceleration of a section", "rad/s²", 10.0, 5000.0),
    ("min_deg", "a joint's smallest working angle", "°", 0.0, 5.0),
    ("max_deg", "a joint's largest working angle", "°", 1.0, 45.0),
    ("equal_deg", "largest difference of first and last joint", "°", 0.05, 5.0),
    ("critical_ratio", "highest shaft speed, of its bending speed", "", 0.3, 0.95),
    ("shaft-end", "runout of a shaft near its ends", "mm", 0.01, 5.0),
    ("shaft-centre", "runout of a shaft at its middle", "mm", 0.01, 5.0),
    ("flange-face", "runout of a flange's face", "mm", 0.005, 2.0),
    ("flange-radial", "runout of a flange, radial", "mm", 0.005, 2.0),
    ("rim", "runout of a rim", "mm", 0.05, 5.0),
    ("tyre", "runout of a tyre", "mm", 0.05, 8.0),
];

/// What a limit is where nobody sets it; none where it does not hold then.
pub fn shipped_limit(key: &str) -> Option<f64> {
    let place = match key {
        "torsional_rads2" => return Some(crate::measure::angles::TORSIONAL_RADS2),
        "section_rads2" => return Some(crate::measure::angles::SECTION_RADS2),
        "critical_ratio" => return Some(crate::measure::critical_speed::CRITICAL_RATIO),
        "shaft-end" => "prop.rear.s1.front",
        "shaft-centre" => "prop.rear.s1.centre",
        "flange-face" => "hub.rl",
        "flange-radial" => "diff.rear.flange",
        "rim" => "wheel.rl",
        "tyre" => "wheel.rl.tyre",
        _ => return None,
    };
    crate::measure::runout::limit_at(&Limits::default(), place).map(|l| l.get())
}

fn within(x: f64, (from, to): (f64, f64), field: &str) -> Result<f64, Problem> {
    if (from..=to).contains(&x) {
        return Ok(x);
    }
    Err(Problem::new("out-of-range", format!("it must be from {from} to {to}")).field(field))
}

/// A limit that stands by itself; none where it is one of the runouts.
fn by_itself<'a>(l: &'a mut Limits, key: &str) -> Option<&'a mut Option<f64>> {
    Some(match key {
        "torsional_rads2" => &mut l.torsional_rads2,
        "section_rads2" => &mut l.section_rads2,
        "min_deg" => &mut l.min_deg,
        "max_deg" => &mut l.max_deg,
        "equal_deg" => &mut l.equal_deg,
        "critical_ratio" => &mut l.critical_ratio,
        _ => return None,
    })
}

impl WorkshopOverrides {
    /// The limit that the workshop set for a key; none where it set none.
    pub fn limit(&self, key: &str) -> Option<f64> {
        match by_itself(&mut self.limits.clone(), key) {
            Some(own) => *own,
            None => self.limits.runout_mm.get(key).copied(),
        }
    }

    /// Sets one of its limits, or takes it back.
    pub fn set_limit(&mut self, key: &str, x: Option<f64>) -> Result<(), Problem> {
        let known = LIMITS.iter().find(|l| l.0 == key);
        let (_, _, _, from, to) =
            known.ok_or_else(|| Problem::new("unknown-limit", format!("no limit “{key}”")).field("limit"))?;
        let x = x.map(|x| within(x, (*from, *to), key)).transpose()?;
        self.limits.runout_mm.remove(key);
        match (by_itself(&mut self.limits, key), x) {
            (Some(own), x) => *own = x,
            (None, Some(x)) => drop(self.limits.runout_mm.insert(key.into(), x)),
            (None, None) => {}
        }
        Ok(())
    }

    /// The knowledge as this workshop has it; what ships where it has changed nothing, and where its own procedures do not read
    /// ([`left_out`]).
    ///
    /// # Errors
    /// As [`WorkshopOverrides::over`] of all else.
    pub fn knowledge(&self) -> Result<Cow<'static, Knowledge>, Problem> {
        if *self == Self::default() {
            return Ok(Cow::Borrowed(builtin()));
        }
        let mut read = Cow::Borrowed(self);
        for key in left_out(&self.procedures).keys() {
            read.to_mut().procedures.remove(key);
        }
        read.over(builtin()).map(Cow::Owned)
    }

    /// Whether these changes may be kept in place of earlier ones: all of it reads, but for procedures that did not read before and are
    /// as they were.
    ///
    /// # Errors
    /// As [`WorkshopOverrides::over`].
    pub fn may_replace(&self, earlier: &Self) -> Result<(), Problem> {
        let was_left_out = left_out(&earlier.procedures);
        let is_as_it_was = |key: &str| was_left_out.contains_key(key) && earlier.procedures.get(key) == self.procedures.get(key);
        match left_out(&self.procedures).into_iter().find(|(key, _)| !is_as_it_was(key)) {
            Some((_, why)) => Err(why),
            None => self.knowledge().map(|_| ()),
        }
    }

    /// The version of the knowledge with this workshop's changes: another one weighs a case otherwise.
    pub fn version(&self) -> String {
        let own = serde_json::to_string(self).unwrap_or_default();
        // The data files are long, and the same all the while.
        static SHIPPED: LazyLock<String> = LazyLock::new(|| hash(&[shipped_text()]).to_string());
        format!("{}-{:016x}", env!("CARGO_PKG_VERSION"), hash(&[&SHIPPED, &own]))
    }

    /// The knowledge as this workshop has it. What names no test or fault (any more) is refused by name.
    pub fn over(&self, shipped: &Knowledge) -> Result<Knowledge, Problem> {
        let mut k = shipped.clone();
        for (id, minutes) in &self.tests {
            let t = k.tests.iter_mut().find(|t| t.id == *id);
            let t = t.ok_or_else(|| Problem::new("unknown-test", format!("no test “{id}”")).field("test"))?;
            t.minutes = within(*minutes, (0.5, 600.0), "minutes")?;
        }
        for (id, change) in &self.faults {
            let f = k.faults.iter_mut().find(|f| f.id == *id);
            let f = f.ok_or_else(|| Problem::new("unknown-fault", format!("no fault “{id}”")).field("fault"))?;
            match (change.rate, change.rarity.as_deref()) {
                (Some(r), _) => f.rate = within(r, (0.01, 10_000.0), "rate")?,
                (None, Some("common")) => f.rate *= 3.0,
                (None, Some("rare")) => f.rate /= 3.0,
                (None, _) => {}
            }
            if let Some(m) = change.minutes {
                f.minutes = within(m, (1.0, 6000.0), "minutes")?;
            }
            if let Some(p) = change.price {
                f.price = within(p, (0.0, 1e6), "price")?;
            }
        }
        if let Some(r) = self.rate {
            k.weights.time.rate = within(r, (0.0, 1e4), "rate")?;
        }
        if let Some(c) = self.certainty {
            k.weights.gate.certainty = within(c, (0.5, 0.99), "certainty")?;
        }
        if let Some(c) = &self.currency {
            let named = !c.trim().is_empty() && c.chars().count() <= MAX_CURRENCY_CHARS && !c.chars().any(|x| x.is_ascii_digit());
            if !named {
                let message = format!("a currency is one to {MAX_CURRENCY_CHARS} letters or a sign");
                return Err(Problem::new("bad-value", message).field("currency"));
            }
            k.weights.time.currency = c.trim().into();
        }
        if !self.procedures.is_empty() {
            k.procedures = Arc::new(with_own(&self.procedures)?);
        }
        for (number, b) in &self.bearings {
            b.check().map_err(|p| p.under(&format!("bearings.{number}")))?;
        }
        Ok(k)
    }

    /// Gives a vehicle what the workshop knows and it does not say itself: limits, and the geometry of its numbered bearings.
    pub fn complete(&self, v: &mut Vehicle) {
        v.limits = v.limits.or(&self.limits);
        for b in v.bearings.iter_mut().filter(|b| !b.has_geometry()) {
            let known = b.number.as_deref().and_then(|n| self.bearings.get(&book_number(n)));
            if let Some(k) = known {
                (b.elements, b.element_mm, b.pitch_mm, b.contact_deg) = (k.elements, k.element_mm, k.pitch_mm, k.contact_deg);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::builtin;
    use super::*;

    #[test]
    fn a_workshop_changes_what_it_names_and_nothing_else() {
        let mut h = WorkshopOverrides { rate: Some(80.0), certainty: Some(0.9), ..WorkshopOverrides::default() };
        h.tests.insert("wheel-rock".into(), 7.0);
        h.faults.insert("joint-worn".into(), FaultOverride { rate: Some(33.0), price: Some(70.0), ..FaultOverride::default() });
        let k = h.over(builtin()).unwrap();
        assert_eq!((k.test("wheel-rock").unwrap().minutes, k.weights.time.rate, k.weights.gate.certainty), (7.0, 80.0, 0.9));
        let (now, was) = (k.fault("joint-worn").unwrap(), builtin().fault("joint-worn").unwrap());
        assert_eq!((now.rate, now.price, now.minutes), (33.0, 70.0, was.minutes));
        assert_eq!(k.fault("prop-bent").unwrap().price, builtin().fault("prop-bent").unwrap().price);
        let back: WorkshopOverrides = serde_json::from_value(serde_json::to_value(&h).unwrap()).unwrap();
        assert_eq!(back, h);
    }

    #[test]
    fn what_cannot_be_is_refused_by_field() {
        let field = |h: WorkshopOverrides| h.over(builtin()).unwrap_err().field.unwrap();
        assert_eq!(field(WorkshopOverrides { tests: [("kick".into(), 3.0)].into(), ..WorkshopOverrides::default() }), "test");
        assert_eq!(
            field(WorkshopOverrides { tests: [("wheel-rock".into(), -3.0)].into(), ..WorkshopOverrides::default() }),
            "minutes"
        );
        assert_eq!(field(WorkshopOverrides { certainty: Some(0.2), ..WorkshopOverrides::default() }), "certainty");
        let f = FaultOverride { rate: Some(0.0), ..FaultOverride::default() };
        assert_eq!(
            field(WorkshopOverrides { faults: [("joint-worn".into(), f)].into(), ..WorkshopOverrides::default() }),
            "rate"
        );
    }

    #[test]
    fn how_common_a_fault_is_as_it_was_said_before_is_still_read() {
        let h: WorkshopOverrides =
            serde_json::from_value(serde_json::json!({"faults": {"joint-worn": {"rarity": "rare"}}})).unwrap();
        let (now, was) = (h.over(builtin()).unwrap(), builtin().fault("joint-worn").unwrap().rate);
        assert!((now.fault("joint-worn").unwrap().rate - was / 3.0).abs() < 1e-9);
    }
}
