//! A case as the open file carries it: vehicle, symptoms, what was observed, recorded, measured and
//! repaired, in the order of time.
//!
//! The file itself is kept whole as JSON, so that what the program does not know is written back;
//! these types are the reading of it that the rules work on.

mod attempts;
pub mod clearance;
pub mod dimension_change;
pub mod document;
pub mod entry;
pub mod fault_at;
mod heard;
pub mod intake;
mod notes;
mod observation;
pub mod patch;
mod recording_spec;
mod repair;
#[cfg(test)]
pub(crate) mod sample;
mod state;
mod symptom;
pub mod vocabulary;

pub use self::attempts::{Attempt, Hint};
use self::clearance::{Stated, statements};
use self::dimension_change::DimensionChange;
use self::entry::{Entry, entry, readable};
pub use self::heard::{Compared, Heard, LevelUnit};
pub use self::notes::{Attachment, Note, Opinion, SafetyFinding};
pub use self::observation::{AskedLater, BalancePulls, BlindAnswer, DRIVER, NOT_POSSIBLE, Observation, Question, TestCondition};
pub use self::recording_spec::{ChannelSpec, Column, CsvWriting, RecordingSpec, ReferenceSpec, SIMULATED_RECORDER, Simulated};
pub use self::repair::{AlsoChanged, Due, KitNote, NamedChange, Repair, StepDone, Torque};
pub use self::state::State;
pub use self::symptom::{SpeedRange, Symptom};
use crate::error::{Problem, read_json};
use crate::units::Kilometres;
use crate::vehicle::Vehicle;
use imbl::Vector;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::borrow::Cow;

/// The word that opens every case file.
pub const FORMAT: &str = "baricord-case";
/// The version that this program reads and writes.
pub const VERSION: u64 = 1;

/// Numbers read on the vehicle.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Measurement {
    /// Id of the entry; `m1` for the first of a file that names none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Which calculation they belong to.
    pub kind: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// Of one symptom; of all when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// The calculation's input, in the shape that its kind has.
    #[serde(default)]
    pub input: Value,
    /// Who read it: driver or mechanic, the default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// before or after a repair; before when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phase: Option<String>,
    /// The repair that it follows; all open ones when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repair: Option<String>,
    /// How it was read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub condition: Option<TestCondition>,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// Who read it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}
entry!(Measurement, 'm');

impl Measurement {
    /// Whether it was read after a repair.
    pub fn is_after(&self) -> bool {
        self.phase.as_deref() == Some("after")
    }
}

/// Refuses text that cannot be kept: a NUL, in a value or a key, at any depth.
pub(crate) fn check_text(doc: &Value) -> Result<(), Problem> {
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

/// No id stands twice in a list.
fn unique<'a>(list: &str, ids: impl Iterator<Item = &'a str>) -> Result<(), Problem> {
    let mut seen = std::collections::HashSet::new();
    match ids.enumerate().find(|(_, id)| !seen.insert(*id)) {
        Some((i, id)) => Err(Problem::new("duplicate", format!("{list} {id} is there twice")).field(format!("{list}[{i}].id"))),
        None => Ok(()),
    }
}

/// A text; what is none says nothing.
fn text_only<'de, D: serde::Deserializer<'de>>(d: D) -> Result<Option<String>, D::Error> {
    Ok(Value::deserialize(d)?.as_str().map(String::from))
}

/// A case file as the rules read it: typed, unknown keys left out. [`document::CaseDocument`] keeps those.
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
    /// When it must be handed back, RFC 3339. Files that were written before this was a time hold a list of parts here.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "text_only")]
    pub due: Option<String>,
    /// What others tried before.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub attempts: Vector<Attempt>,
    /// Parts that were changed because they were due.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub replaced_as_due: Vector<Due>,
    /// What was said from outside of what it may be.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub hints: Vector<Hint>,
    /// What is wrong.
    #[serde(default)]
    pub symptoms: Vector<Symptom>,
    /// What was observed.
    #[serde(default)]
    pub observations: Vector<Observation>,
    /// What was recorded.
    #[serde(default)]
    pub recordings: Vector<RecordingSpec>,
    /// Answers given blind, decided upon or not.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub votes: Vector<BlindAnswer>,
    /// What was asked and could not be answered yet.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub asked_later: Vector<AskedLater>,
    /// Levels heard at places.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub listened: Vector<Heard>,
    /// Sounds compared blind.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub compared: Vector<Compared>,
    /// Pictures and spoken notes.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub pinned: Vector<Attachment>,
    /// Statements on driving; the last one counts ([`Case::clearance`]).
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "statements")]
    pub safety: Vector<Stated>,
    /// What was found on the way.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub found: Vector<SafetyFinding>,
    /// Notes: worth remembering, of no weight.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub notes: Vector<Note>,
    /// What has another size since a day: the vehicle as it is now has it.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub dimension_changes: Vector<DimensionChange>,
    /// Second opinions.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub opinions: Vector<Opinion>,
    /// What was measured.
    #[serde(default)]
    pub measurements: Vector<Measurement>,
    /// What was repaired.
    #[serde(default)]
    pub repairs: Vector<Repair>,
    /// What of a repair's kit is awaited or borrowed.
    #[serde(default, skip_serializing_if = "Vector::is_empty", deserialize_with = "readable")]
    pub kit_notes: Vector<KitNote>,
    /// How the vehicle stands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<State>,
    /// A made-up case: only here do runs of the simulated recorder count.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub demo: bool,
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
        // What older files have under `due`: see `document`.
        if doc["due"].is_array() && case.replaced_as_due.is_empty() {
            case.replaced_as_due = readable(doc["due"].clone()).unwrap_or_default();
        }
        entry::give_ids(&mut case.observations);
        entry::give_ids(&mut case.measurements);
        entry::give_ids(&mut case.repairs);
        case.tidy();
        case.check()?;
        Ok(case)
    }

    /// Refuses what is not the name of the case, so that not another one is deleted.
    pub fn need_title(&self, typed: &str) -> Result<(), Problem> {
        let named = typed.trim() == self.title.trim();
        let wrong =
            || Problem::new("other-title", format!("type the name of the case as it stands: {}", self.title)).field("title");
        named.then_some(()).ok_or_else(wrong)
    }

    /// What says nothing is not there.
    pub(crate) fn tidy(&mut self) {
        if self.state.as_ref().is_some_and(|s| *s == State::default()) {
            self.state = None;
        }
    }

    /// What a case must hold to: lists of a bounded length, a vehicle that can be, no id twice.
    pub(crate) fn check(&self) -> Result<(), Problem> {
        let case = self;
        case.check_bounds()?;
        case.vehicle.check().map_err(|p| p.under("vehicle"))?;
        unique("symptoms", case.symptoms.iter().map(|s| s.id.as_str()))?;
        unique("recordings", case.recordings.iter().map(|s| s.id.as_str()))?;
        unique("observations", case.observations.iter().map(|s| s.id.as_str()))?;
        unique("measurements", case.measurements.iter().map(|s| s.id.as_str()))?;
        unique("repairs", case.repairs.iter().map(|s| s.id.as_str()))
    }

    /// A new case of a vehicle.
    pub fn new(id: &str, title: &str, vehicle: Vehicle) -> Self {
        Self {
            id: id.into(),
            title: title.into(),
            vehicle,
            opened: None,
            distance_km: None,
            history: vec![],
            history_denied: vec![],
            due: None,
            attempts: Vector::new(),
            replaced_as_due: Vector::new(),
            kit_notes: Vector::new(),
            hints: Vector::new(),
            symptoms: Vector::new(),
            observations: Vector::new(),
            recordings: Vector::new(),
            votes: Vector::new(),
            asked_later: Vector::new(),
            listened: Vector::new(),
            compared: Vector::new(),
            notes: Vector::new(),
            dimension_changes: Vector::new(),
            pinned: Vector::new(),
            safety: Vector::new(),
            found: Vector::new(),
            opinions: Vector::new(),
            measurements: Vector::new(),
            repairs: Vector::new(),
            state: None,
            demo: false,
        }
    }

    /// Whether what is recorded now is the run after: a repair is done and not judged yet.
    pub fn is_after_repair(&self) -> bool {
        self.repairs.last().is_some_and(Repair::waits_for_proof)
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

    /// What people say of it, for a search: words of the driver, kinds of symptom, what was tried, found and repaired.
    pub fn search_phrases(&self) -> Vec<Cow<'_, str>> {
        let plain = |id: &str| Cow::from(id.replace('-', " "));
        let symptoms = self.symptoms.iter().flat_map(|s| [Cow::from(&s.words), plain(&s.kind)]);
        let attempts = self.attempts.iter().map(|a| Cow::from(&a.what));
        let found = self.found.iter().map(|f| Cow::from(&f.what));
        let repairs = self.repairs.iter().map(|r| plain(&r.fault));
        let notes = self.observations.iter().filter_map(|o| o.note.as_ref().map(Cow::from));
        symptoms.chain(attempts).chain(found).chain(repairs).chain(notes).collect()
    }

    /// The symptom that is meant where none is named.
    pub fn first_symptom(&self) -> Option<&str> {
        self.symptoms.front().map(|s| s.id.as_str())
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
        let m = Measurement { kind: "angles".into(), ..Measurement::default() };
        let case = |v| Case { vehicle: v, ..Case::from_json(&doc()).unwrap() };
        assert_eq!(case(rear_drive(1)).measurement_place(&m).unwrap(), "prop.rear");
        assert!(case(four_wheel_drive()).measurement_place(&m).is_err());
        assert!(case(front_drive()).measurement_place(&m).is_err());
    }
}
