//! A case as the open file carries it: vehicle, symptoms, what was observed, recorded, measured and
//! repaired, in the order of time.
//!
//! The file itself is kept whole as JSON, so that what the program does not know is written back;
//! these types are the reading of it that the rules work on.

pub mod attempts;
pub mod clearance;
pub mod entries;
pub mod fault_at;
pub mod intake;
mod recording_spec;
#[cfg(test)]
pub(crate) mod sample;
pub mod vocabulary;

use crate::case::attempts::readable;
pub use crate::case::attempts::{Attempt, Due, Hint};
use crate::case::fault_at::FaultAt;
pub use crate::case::recording_spec::{ChannelSpec, Column, CsvWriting, RecordingSpec, ReferenceSpec, SIMULATED_RECORDER};
use crate::error::{Problem, read_json};
use crate::units::Kilometres;
use crate::vehicle::{Place, Vehicle};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeMap;

/// The word that opens every case file.
pub const FORMAT: &str = "baricord-case";
/// The version that this program reads and writes.
pub const VERSION: u64 = 1;

/// Speeds at which a symptom is there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SpeedRange {
    /// Lower end, km/h.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<f64>,
    /// Strongest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak: Option<f64>,
    /// To.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<f64>,
}

/// One symptom, traced on its own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Symptom {
    /// Its id in the case.
    pub id: String,
    /// What it is.
    pub kind: String,
    /// Where it is felt.
    #[serde(default)]
    pub felt: Vec<String>,
    /// Where it is heard from.
    #[serde(default)]
    pub heard_from: Option<String>,
    /// At which speeds.
    #[serde(default)]
    pub speed_kmh: Option<SpeedRange>,
    /// The driver's words.
    #[serde(default)]
    pub words: String,
    /// Under which condition it was heard: answers to the intake's questions. A list of answers is joined by commas.
    #[serde(default, deserialize_with = "answers")]
    pub condition: BTreeMap<String, String>,
    /// It comes and goes by itself: one silence is weak.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub intermittent: bool,
}

impl Symptom {
    /// Whether one silence is weak: it comes and goes, or it did not come when it was listened for.
    pub fn is_intermittent(&self) -> bool {
        self.intermittent || self.condition.get("heard").is_some_and(|h| h == "no")
    }
}

/// Answers as texts: a list joined by commas, a truth value or number in words; what is an object says nothing.
fn answers<'de, D: serde::Deserializer<'de>>(d: D) -> Result<BTreeMap<String, String>, D::Error> {
    fn text(v: &Value) -> Option<String> {
        match v {
            Value::String(s) => Some(s.clone()),
            Value::Bool(b) => Some(b.to_string()),
            Value::Number(n) => Some(n.to_string()),
            Value::Array(all) => Some(all.iter().filter_map(text).collect::<Vec<_>>().join(",")),
            Value::Null | Value::Object(_) => None,
        }
    }
    let given: BTreeMap<String, Value> = BTreeMap::deserialize(d)?;
    Ok(given.iter().filter_map(|(k, v)| Some((k.clone(), text(v)?))).collect())
}

/// A test made, and its outcome.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Observation {
    /// Of one symptom; of all when left out.
    #[serde(default)]
    pub symptom: Option<String>,
    /// Which test.
    pub test: String,
    /// Where.
    #[serde(default)]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default)]
    pub gear: Option<String>,
    /// What came out.
    #[serde(default)]
    pub outcome: String,
    /// What else is true at once, of a test that allows it: “always, worse pulling”, “play and metal”.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// What was noted with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// Who says so: `driver` weighs less than `mechanic`, the default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// before or after a repair; before when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phase: Option<String>,
}

/// The outcome of a test that could not be made.
pub const NOT_POSSIBLE: &str = "not-possible";
/// The source of what the driver says.
pub const DRIVER: &str = "driver";

impl Observation {
    /// A mechanic's answer before any repair.
    pub fn new(test: &str, outcome: &str) -> Self {
        Self {
            symptom: None,
            test: test.into(),
            at: None,
            gear: None,
            outcome: outcome.into(),
            also: vec![],
            note: None,
            source: None,
            phase: None,
        }
    }
    /// Whether it was made after a repair: it says nothing about the cause before it.
    pub fn is_after(&self) -> bool {
        self.phase.as_deref() == Some("after")
    }
    /// The gear it names: in its own key, or as the place `gearbox.3`.
    pub fn named_gear(&self) -> Option<&str> {
        self.gear.as_deref().or_else(|| self.at.as_deref().and_then(|a| a.strip_prefix("gearbox.")))
    }
}

impl Case {
    /// Whether what is recorded now is the run after: a repair is done and not judged yet.
    pub fn is_after_repair(&self) -> bool {
        self.repairs.last().is_some_and(|r| r.result.as_deref() == Some("open"))
    }
}

/// Numbers read on the vehicle.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Measurement {
    /// Which calculation they belong to.
    pub kind: String,
    /// Where.
    #[serde(default)]
    pub at: Option<String>,
    /// Of one symptom; of all when left out.
    #[serde(default)]
    pub symptom: Option<String>,
    /// The calculation's input.
    #[serde(default)]
    pub input: Value,
    /// before or after a repair; before when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phase: Option<String>,
}

impl Measurement {
    /// Whether it was read after a repair.
    pub fn is_after(&self) -> bool {
        self.phase.as_deref() == Some("after")
    }
}

/// A repair, planned or done.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Repair {
    /// Of one symptom; of all when left out.
    #[serde(default)]
    pub symptom: Option<String>,
    /// The cause it is meant to cure; empty for work without a search (`task`).
    #[serde(default)]
    pub fault: String,
    /// Where.
    #[serde(default)]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default)]
    pub gear: Option<String>,
    /// cured, improved, not-cured, open.
    #[serde(default)]
    pub result: Option<String>,
    /// original, rebuilt, copy, used.
    #[serde(default)]
    pub part: Option<String>,
    /// Other changes before the same drive.
    #[serde(default, rename = "with")]
    pub other_changes: Vec<Value>,
    /// Several places changed at once.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub places: Vec<String>,
}

impl Repair {
    /// Every place it was made at.
    pub fn all_places(&self) -> impl Iterator<Item = &str> {
        self.at.as_deref().into_iter().chain(self.places.iter().map(String::as_str))
    }

    /// The other faults that were changed before the same drive, where they are named with their place.
    pub fn changed_with(&self) -> impl Iterator<Item = FaultAt> {
        self.other_changes.iter().filter_map(|w| match w {
            Value::String(s) => FaultAt::parse(s),
            w => Some(FaultAt::new(w["fault"].as_str()?, w["at"].as_str()?)),
        })
    }

    /// What is repaired with it as the same cause: its other places, and the other faults.
    pub fn repaired_with(&self) -> Vec<FaultAt> {
        let more = self.all_places().filter(|at| Some(*at) != self.at.as_deref());
        more.map(|at| FaultAt::new(&self.fault, at)).chain(self.changed_with()).collect()
    }

    /// Whether a fault at a place was repaired with it.
    pub fn mends(&self, fault: &str, at: &str) -> bool {
        self.fault == fault && self.all_places().any(|p| p == at) || self.changed_with().any(|w| w.fault == fault && w.at == at)
    }

    /// Whether it is not judged yet: planned, or made and not proved.
    pub fn is_open(&self) -> bool {
        matches!(self.result.as_deref(), None | Some("open"))
    }

    /// Whether it was made.
    pub fn is_done(&self) -> bool {
        self.result.is_some()
    }
}

/// How the vehicle stands now.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct State {
    /// ground or lift.
    #[serde(default)]
    pub on: Option<String>,
    /// Places that are off.
    #[serde(default)]
    pub off: Vec<String>,
    /// Until when it counts as warm from the road, as 2026-11-26T21:22:00Z.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub warm_until: Option<String>,
}

impl State {
    /// Whether it is up on the lift.
    pub fn is_up(&self) -> bool {
        self.on.as_deref() == Some("lift")
    }

    /// Whether a part is off, on its own or with the shaft that it belongs to.
    pub fn is_off(&self, p: &Place) -> bool {
        let named = |id: &str| self.off.iter().any(|o| o == id);
        named(&p.id) || p.whole().is_some_and(|w| named(&w))
    }
}

/// Refuses text that cannot be kept: a NUL, in a value or a key, at any depth.
fn check_text(doc: &Value) -> Result<(), Problem> {
    let bad = || Problem::new("nul", "a text holds the character NUL, which is no text");
    match doc {
        Value::String(s) if s.contains('\0') => Err(bad()),
        Value::Array(all) => all.iter().enumerate().try_for_each(|(i, v)| check_text(v).map_err(|p| p.under(&format!("[{i}]")))),
        Value::Object(map) => map.iter().try_for_each(|(key, v)| {
            if key.contains('\0') {
                return Err(bad());
            }
            check_text(v).map_err(|p| p.under(key))
        }),
        _ => Ok(()),
    }
}

/// A case file as the rules read it: typed, unknown keys left out.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Case {
    /// Id of the case file; it stays over exports.
    #[serde(default)]
    pub id: String,
    /// What people call the case.
    #[serde(default)]
    pub title: String,
    /// As it was when the case was described.
    pub vehicle: Vehicle,
    /// The day on which it was opened, as 2026-11-26.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub opened: Option<String>,
    /// What the vehicle had run when the case was opened.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub distance_km: Option<Kilometres>,
    /// What was done to it before.
    #[serde(default)]
    pub history: Vec<String>,
    /// Work that was asked about and denied: history tags.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub history_denied: Vec<String>,
    /// What others tried before.
    #[serde(default, skip_serializing_if = "Vec::is_empty", deserialize_with = "readable")]
    pub attempts: Vec<Attempt>,
    /// What was changed because it was due.
    #[serde(default, skip_serializing_if = "Vec::is_empty", deserialize_with = "readable")]
    pub due: Vec<Due>,
    /// What was said from outside of what it may be.
    #[serde(default, skip_serializing_if = "Vec::is_empty", deserialize_with = "readable")]
    pub hints: Vec<Hint>,
    /// What is wrong.
    #[serde(default)]
    pub symptoms: Vec<Symptom>,
    /// What was observed.
    #[serde(default)]
    pub observations: Vec<Observation>,
    /// What was recorded.
    #[serde(default)]
    pub recordings: Vec<RecordingSpec>,
    /// What was measured.
    #[serde(default)]
    pub measurements: Vec<Measurement>,
    /// What was repaired.
    #[serde(default)]
    pub repairs: Vec<Repair>,
    /// How the vehicle stands.
    #[serde(default)]
    pub state: Option<State>,
    /// A made-up case: only here do runs of the simulated recorder count.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub demo: bool,
    /// It was said that it is not to be driven: no drive is proposed.
    #[serde(skip)]
    pub grounded: bool,
}

impl Case {
    /// Reads a case document: its format, its version, its fields. Unknown keys are no error; what cannot be read names its field.
    ///
    /// ```
    /// use baricord_core::{case::Case, vehicle::sample::front_drive};
    /// let document = Case::new_document("c1", "Hum", serde_json::json!(front_drive()));
    /// assert_eq!(Case::from_json(&document).unwrap().title, "Hum");
    /// assert_eq!(Case::from_json(&serde_json::json!({})).unwrap_err().code, "not-a-case");
    /// ```
    pub fn from_json(doc: &Value) -> Result<Self, Problem> {
        if !doc.is_object() {
            return Err(Problem::new("not-a-case", "a case file is one JSON object"));
        }
        check_text(doc)?;
        match doc.get("format").and_then(Value::as_str) {
            Some(FORMAT) => {}
            Some(other) => {
                return Err(Problem::new("not-a-case", format!("format is “{other}”, not “{FORMAT}”")).field("format"));
            }
            None => return Err(Problem::new("not-a-case", format!("format must be “{FORMAT}”")).field("format")),
        }
        match doc.get("version").and_then(Value::as_u64) {
            Some(VERSION) => {}
            _ => {
                let got = doc.get("version").map_or("nothing".to_string(), Value::to_string);
                return Err(Problem::new(
                    "unknown-version",
                    format!("this program reads case files of version {VERSION}, this one says {got}"),
                )
                .field("version"));
            }
        }
        let mut case: Case = read_json(doc)?;
        case.check_bounds()?;
        case.grounded = clearance::stated_clearance(doc).is_some_and(|s| s.drive == clearance::Clearance::No);
        case.vehicle.check().map_err(|p| p.under("vehicle"))?;
        let mut seen = std::collections::HashSet::new();
        let mut unique =
            |what: &str, ids: Vec<&str>| match ids.iter().enumerate().find(|(_, id)| !seen.insert(format!("{what} {id}"))) {
                Some((i, id)) => {
                    Err(Problem::new("duplicate", format!("{what} {id} is there twice")).field(format!("{what}[{i}].id")))
                }
                None => Ok(()),
            };
        unique("symptoms", case.symptoms.iter().map(|s| s.id.as_str()).collect())?;
        unique("recordings", case.recordings.iter().map(|s| s.id.as_str()).collect())?;
        Ok(case)
    }

    /// Whether a recording counts: runs of the simulated recorder do in demo cases only.
    pub fn is_weighed(&self, recording: &RecordingSpec) -> bool {
        self.demo || !recording.is_simulated()
    }

    /// Lists have an end: what is longer is no case.
    fn check_bounds(&self) -> Result<(), Problem> {
        let lists = [
            ("history", self.history.len(), 1_000),
            ("symptoms", self.symptoms.len(), 100),
            ("observations", self.observations.len(), 20_000),
            ("recordings", self.recordings.len(), 1_000),
            ("measurements", self.measurements.len(), 5_000),
            ("repairs", self.repairs.len(), 1_000),
            ("attempts", self.attempts.len(), 1_000),
            ("hints", self.hints.len(), 1_000),
        ];
        match lists.into_iter().find(|(_, n, most)| n > most) {
            None => Ok(()),
            Some((list, n, most)) => {
                Err(Problem::new("too-many", format!("{list} holds {n} entries; up to {most} are read")).field(list))
            }
        }
    }

    /// An empty case for a vehicle.
    pub fn new_document(id: &str, title: &str, vehicle: Value) -> Value {
        serde_json::json!({
            "format": FORMAT, "version": VERSION, "id": id, "title": title, "vehicle": vehicle,
            "history": [], "symptoms": [], "observations": [], "recordings": [], "measurements": [], "repairs": [],
        })
    }

    /// A symptom by its id.
    pub fn symptom(&self, id: &str) -> Option<&Symptom> {
        self.symptoms.iter().find(|s| s.id == id)
    }

    /// The repair that cured a symptom, where it was the last one made for it.
    pub fn cured_by(&self, symptom: &str) -> Option<&Repair> {
        let last = self.repairs.iter().rev().find(|r| Self::concerns(r.symptom.as_deref(), symptom));
        last.filter(|r| r.result.as_deref() == Some("cured"))
    }

    /// Whether something said of `of` bears on this symptom.
    pub fn concerns(of: Option<&str>, symptom: &str) -> bool {
        of.is_none_or(|s| s == symptom)
    }

    /// The shaft that a measurement without a place belongs to.
    pub fn measurement_place(&self, m: &Measurement) -> Result<String, Problem> {
        match (&m.at, &self.vehicle.props[..]) {
            (Some(at), _) => Ok(at.clone()),
            (None, [only]) => Ok(format!("prop.{}", only.end.id())),
            (None, _) => Err(Problem::new(
                "missing",
                format!("where was the {} read? This vehicle has not just one shaft, so `at` is needed", m.kind),
            )
            .field("measurements.at")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::vehicle::sample::*;

    fn doc() -> Value {
        Case::new_document("c1", "Shake", serde_json::to_value(rear_drive(2)).unwrap())
    }

    #[test]
    fn a_new_document_reads_back() {
        let c = Case::from_json(&doc()).unwrap();
        assert_eq!((c.title.as_str(), c.vehicle), ("Shake", rear_drive(2)));
    }

    #[test]
    fn unknown_versions_and_formats_are_refused_clearly() {
        let mut d = doc();
        d["version"] = 2.into();
        let p = Case::from_json(&d).unwrap_err();
        assert_eq!((p.code.as_str(), p.field.as_deref()), ("unknown-version", Some("version")));
        d["format"] = "other".into();
        assert_eq!(Case::from_json(&d).unwrap_err().code, "not-a-case");
        assert_eq!(Case::from_json(&Value::Null).unwrap_err().code, "not-a-case");
    }

    #[test]
    fn a_bad_value_names_its_path() {
        let mut d = doc();
        d["symptoms"] = serde_json::json!([{"id": "S1"}]);
        let p = Case::from_json(&d).unwrap_err();
        assert_eq!(p.field.as_deref(), Some("symptoms[0]"));
        d["symptoms"] = serde_json::json!([{"id": "S1", "kind": "clunk"}, {"id": "S1", "kind": "leak"}]);
        assert_eq!(Case::from_json(&d).unwrap_err().field.as_deref(), Some("symptoms[1].id"));
    }

    #[test]
    fn text_with_a_nul_is_refused_by_its_path() {
        for (put, path) in
            [("/title", "title"), ("/vehicle/name", "vehicle.name"), ("/history", "history[1]"), ("/extra", "extra.deep")]
        {
            let mut d = doc();
            d["extra"] = serde_json::json!({"deep": "fine"});
            match put {
                "/history" => d["history"] = serde_json::json!(["lowered", "a\u{0}b"]),
                "/extra" => d["extra"]["deep"] = "\u{0}".into(),
                _ => *d.pointer_mut(put).unwrap() = "a\u{0}".into(),
            }
            let p = Case::from_json(&d).unwrap_err();
            assert_eq!((p.code.as_str(), p.field.as_deref()), ("nul", Some(path)));
        }
        let mut d = doc();
        d["x"] = serde_json::json!({"a\u{0}": 1});
        assert_eq!(Case::from_json(&d).unwrap_err().code, "nul");
    }

    #[test]
    fn long_lists_are_refused_and_many_ids_are_compared_quickly() {
        let mut d = doc();
        d["history"] = vec!["lowered"; 1_001].into();
        assert_eq!(Case::from_json(&d).unwrap_err().field.as_deref(), Some("history"));
        let mut d = doc();
        let ids = |n: usize| -> Value { (0..n).map(|i| serde_json::json!({"id": format!("R{i}"), "file": "x"})).collect() };
        d["recordings"] = ids(1_000);
        assert_eq!(Case::from_json(&d).unwrap().recordings.len(), 1_000);
        d["recordings"] = ids(1_001);
        assert_eq!(Case::from_json(&d).unwrap_err().code, "too-many");
        d["recordings"] = serde_json::json!([{"id": "S1"}, {"id": "R2"}]);
        d["symptoms"] = serde_json::json!([{"id": "S1", "kind": "clunk"}]);
        assert!(Case::from_json(&d).is_ok(), "the same id in two lists is none twice");
    }

    #[test]
    fn a_simulated_run_counts_in_a_demo_case_only() {
        let mut d = doc();
        d["recordings"] = serde_json::json!([{"id": "R1", "file": "x", "recorder": "stand-in"}, {"id": "R2", "file": "y"}]);
        let weighed = |d: &Value| {
            let c = Case::from_json(d).unwrap();
            c.recordings.iter().filter(|r| c.is_weighed(r)).map(|r| r.id.clone()).collect::<Vec<_>>()
        };
        assert_eq!(weighed(&d), ["R2"]);
        d["demo"] = true.into();
        assert_eq!(weighed(&d), ["R1", "R2"]);
    }

    #[test]
    fn the_last_repair_of_a_symptom_says_whether_it_is_cured() {
        let mut d = doc();
        d["symptoms"] = serde_json::json!([{"id": "S1", "kind": "vibration"}, {"id": "S2", "kind": "clunk"}]);
        let mut cured = |repairs: Value, s: &str| {
            d["repairs"] = repairs;
            Case::from_json(&d).unwrap().cured_by(s).map(|r| r.fault.clone())
        };
        let one = serde_json::json!([{"symptom": "S1", "fault": "joint-worn", "result": "not-cured"}, {"symptom": "S1", "fault": "slip-dry", "result": "cured"}]);
        assert_eq!(cured(one.clone(), "S1").as_deref(), Some("slip-dry"));
        assert_eq!(cured(one, "S2"), None);
        let back = serde_json::json!([{"fault": "slip-dry", "result": "cured"}, {"symptom": "S1", "fault": "joint-worn", "result": "open"}]);
        assert_eq!((cured(back.clone(), "S1"), cured(back, "S2").as_deref()), (None, Some("slip-dry")));
    }

    #[test]
    fn a_measurement_without_a_place_belongs_to_the_only_shaft() {
        let m = Measurement { kind: "angles".into(), at: None, symptom: None, input: Value::Null, phase: None };
        let case = |v| Case { vehicle: v, ..Case::from_json(&doc()).unwrap() };
        assert_eq!(case(rear_drive(1)).measurement_place(&m).unwrap(), "prop.rear");
        assert!(case(four_wheel_drive()).measurement_place(&m).is_err());
        assert!(case(front_drive()).measurement_place(&m).is_err());
    }
}
