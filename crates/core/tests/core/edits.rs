//! Edits: every act does what it says and names what it refuses; what is taken back is as if it had never been done.

use baricord_core::case::Case;
use baricord_core::case::document::{CaseDocument, unknown_keys, written};
use baricord_core::case::patch::{Change, changes};
use baricord_core::edit::act::{CaseAct, TakenBack};
use baricord_core::edit::take_back::PastEdit;
use baricord_core::edit::{Applied, CaseEdit, EditContext, apply};
use baricord_core::error::Problem;
use baricord_core::reasoning::diagnose;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::unknown_words::unknown_words;
use baricord_core::vehicle::sample::rear_drive;
use proptest::prelude::*;
use serde_json::{Value, json};
use uuid::Uuid;

fn start() -> Case {
    let mut d = Case::new_document("c1", "Shake", json!(rear_drive(2)));
    d["symptoms"] = json!([{"id": "S1", "kind": "vibration"}]);
    Case::from_json(&d).unwrap()
}

/// The n-th edit of a test.
fn edit(n: u64, by: &str, act: &Value) -> CaseEdit {
    let id = Uuid::from_u128(0x0192_f0c1_2a3b_7000_8000_0000_0000_0000 + u128::from(n));
    let act: CaseAct = serde_json::from_value(act.clone()).unwrap_or_else(|e| panic!("{act}: {e}"));
    CaseEdit { by: by.into(), ..CaseEdit::new(id, "2026-11-29T08:00:00Z".parse().unwrap(), act) }
}

/// The parts in which two cases differ.
fn differ(a: &Case, b: &Case) -> Vec<String> {
    let parts =
        changes(&written(a), &written(b)).into_iter().map(|c| format!("{} {:?} {:?}", c.path.join("/"), c.before, c.after));
    let order = (a != b).then(|| "their order".to_string());
    parts.chain(order).collect()
}

/// A case with everything that was done to it.
struct Job {
    document: CaseDocument,
    past: Vec<PastEdit>,
}

impl Job {
    fn new() -> Self {
        Self { document: CaseDocument::new(start()), past: vec![] }
    }

    fn edit(&mut self, e: &CaseEdit) -> Result<Applied, Problem> {
        let context = EditContext { past: &self.past, ..EditContext::default() };
        let (applied, changes): (Applied, Vec<Change>) = self.document.replace(|case| context.applied(case, e))?;
        let takes_back = match &e.act {
            CaseAct::TakeBack(t) => Some(t.event),
            _ => None,
        };
        let sequence = self.past.len() as i64 + 1;
        self.past.push(PastEdit {
            id: e.id,
            sequence,
            by: e.by.clone(),
            words: applied.words.clone(),
            changes: Some(changes),
            takes_back,
        });
        // What stands in the document is what the case says.
        let read = Case::from_json(self.document.json()).unwrap();
        assert_eq!(differ(&read, self.document.case()), Vec::<String>::new());
        Ok(applied)
    }

    fn does(&mut self, act: &Value) -> Applied {
        let n = self.past.len() as u64;
        self.edit(&edit(n, "Maren", act)).unwrap_or_else(|p| panic!("{act}: {p:?}"))
    }

    fn refuses(&mut self, act: &Value) -> (String, String) {
        let before = self.document.text();
        let n = self.past.len() as u64;
        let p = self.edit(&edit(n, "Maren", act)).expect_err(&act.to_string());
        assert_eq!(self.document.text(), before, "a refusal changes nothing");
        (p.code, p.field.unwrap_or_default())
    }
}

fn wiggle(at: &str, outcome: &str) -> Value {
    json!({"answer-test": {"test": "joint-wiggle", "at": at, "outcome": outcome, "symptom": "S1"}})
}

#[test]
fn a_job_from_the_first_word_to_the_verdict() {
    let mut j = Job::new();
    j.does(&json!({"describe-vehicle": {"title": "Mail van 4: buzz", "distance_km": 141_300, "axles": [{"end": "rear", "ratio": 4.3}]}}));
    assert_eq!(
        j.does(&json!({"add-symptom": {"kind": "clunk", "felt": ["floor"], "words": "thud", "no_other_work": true}}))
            .entry
            .as_deref(),
        Some("S2")
    );
    j.does(&json!({"answer-intake": {"symptom": "S2", "question": "heard", "answer": "yes"}}));
    j.does(&json!({"pick-sound": {"symptom": "S1", "fault": "joint-worn"}}));
    j.does(&json!({"count-history": {"tag": "lowered"}}));
    j.does(&json!({"record-attempt": {"what": "new tyres", "trust": "bill", "changed": "nothing"}}));
    let hint = j
        .does(&json!({"add-hint": {"cause": {"fault": "prop-bent", "at": "prop.rear.s1"}, "source": "Jon", "trust": "told"}}))
        .entry
        .unwrap();
    j.does(&json!({"remove-hint": {"id": hint}}));
    j.does(&wiggle("prop.rear.j1", "none"));
    j.does(
        &json!({"swing-joint": {"at": "prop.rear.j2", "pulls": {"arm_mm": 100, "first_n": [4, 4, 4], "second_n": [4, 12, 4]}}}),
    );
    j.does(&json!({"ask-later": {"test": "joint-wiggle", "at": "prop.rear.j3"}}));
    let question = json!({"symptom": "S1", "test": "joint-wiggle", "at": "prop.rear.j3"});
    j.does(&json!({"answer-blind": {"question": question, "outcome": "play"}}));
    j.does(&json!({"decide-blind": {"question": question, "stands": "Maren"}}));
    j.does(&json!({"stand": {"on": "ground"}}));
    j.does(&json!({"set-parts-off": {"off": ["prop.rear"]}}));
    j.does(&json!({"set-warm": {"warm": true}}));
    j.does(&json!({"drove": {}}));
    j.does(&json!({"measure": {"at": "prop.rear.s2.centre", "reading": {"kind": "runout", "input": {"mm": [0.1, 0.3, 0.4, 0.3, 0.1, 0.0]}}}}));
    j.does(&json!({"attach": {"file": "pinned/001-a.jpg", "picture": true, "test": "joint-wiggle"}}));
    j.does(&json!({"add-recording": {"id": "R1", "file": "recordings/r1.csv", "gear": "5"}}));
    let repair = j
        .does(&json!({"choose-repair": {"fault": "joint-worn", "at": "prop.rear.j2", "symptom": "S1", "reason": "it binds"}}))
        .entry
        .unwrap();
    j.does(&json!({"replace-as-due": {"fault": "joint-worn", "at": "prop.rear.j1", "part": "original"}}));
    let details = json!({"id": repair, "marks": "two dots", "torques": [{"what": "flange", "nm": 70, "source": "manual"}]});
    j.does(&json!({"plan-repair": details}));
    j.does(&json!({"finish-repair": {"id": repair}}));
    j.does(&wiggle("prop.rear.j2", "none"));
    j.does(&json!({"judge-repair": {"id": repair, "result": "cured"}}));
    j.does(&json!({"state-clearance": {"drive": "yes", "reason": "joint renewed", "km": 7}}));
    let found = j.does(&json!({"report-finding": {"what": "hose chafed", "at": "hub.rl"}})).entry.unwrap();
    j.does(&json!({"settle-finding": {"id": found}}));
    j.does(&json!({"ask-opinion": {"question": "Balance it?"}}));
    j.does(&json!({"answer-opinion": {"question": "Balance it?", "answer": "yes"}}));
    let c = j.document.case();
    assert_eq!((c.title.as_str(), c.symptoms.len(), c.observations.len(), c.hints.len()), ("Mail van 4: buzz", 2, 5, 0));
    assert_eq!((c.history.as_slice(), c.votes[0].settled), (&["lowered".to_string(), "earlier-work".into()][..], true));
    let state = c.state.clone().unwrap();
    assert_eq!(
        (state.on.as_deref(), state.off.len(), state.warm_until.as_deref()),
        (Some("lift"), 1, Some("2026-11-29T08:45:00Z"))
    );
    let swung = c.observations.iter().find(|o| o.balance.is_some()).unwrap();
    assert_eq!((swung.outcome.as_str(), swung.by.as_deref()), ("stiff-spot", Some("Maren")));
    let r = &c.repairs[0];
    assert_eq!((r.result.as_deref(), r.torques[0].nm, r.other_changes.len()), (Some("cured"), Some(70.0), 0));
    assert_eq!((c.clearance().unwrap().km, c.found[0].settled, c.opinions[0].answer.as_deref()), (None, true, Some("yes")));
    assert_eq!(unknown_keys(j.document.json()), Vec::<String>::new());
    assert_eq!(unknown_words(c, builtin()), []);
    // Every act that is kept reads back as it was.
    for p in &j.past {
        let again: PastEdit = serde_json::from_value(json!(p)).unwrap();
        assert_eq!((again.id, again.changes.map(|c| c.len())), (p.id, p.changes.as_ref().map(Vec::len)));
    }
}

#[test]
fn what_does_not_fit_is_named_by_its_field() {
    let mut j = Job::new();
    let hose = j.does(&json!({"report-finding": {"what": "hose"}})).entry.unwrap();
    let planned = j.does(&json!({"choose-repair": {"fault": "joint-worn", "at": "prop.rear.j2", "reason": "x"}})).entry.unwrap();
    let long = "x".repeat(3_000);
    for (act, code, field) in [
        (json!({"add-symptom": {"kind": "hum"}}), "unknown-kind", "kind"),
        (json!({"add-symptom": {"kind": "growl", "felt": ["elbow"]}}), "unknown-felt", "felt"),
        (json!({"add-symptom": {"kind": "growl", "heard_from": "above"}}), "unknown-heard-from", "heard_from"),
        (json!({"add-symptom": {"kind": "growl", "history": ["painted"]}}), "unknown-history", "history"),
        (json!({"add-symptom": {"kind": "growl", "speed_kmh": {"peak": -3}}}), "out-of-range", "peak"),
        (json!({"add-symptom": {"kind": "growl", "words": long}}), "too-long", "words"),
        (json!({"count-history": {"tag": "painted"}}), "unknown-history", "history"),
        (json!({"answer-intake": {"symptom": "S9", "question": "heard", "answer": "yes"}}), "no-symptom", "symptom"),
        (json!({"answer-intake": {"symptom": "S1", "question": "smelt", "answer": "yes"}}), "unknown-answer", "question"),
        (json!({"record-attempt": {"what": " "}}), "missing", "what"),
        (json!({"record-attempt": {"what": "tyres", "trust": "dreamt"}}), "unknown-answer", "trust"),
        (json!({"record-attempt": {"what": "tyres", "unit": "roof"}}), "unknown-fault", "cause"),
        (
            json!({"add-hint": {"cause": {"fault": "joint-worn", "at": "hub.fl"}, "source": "Jon", "trust": "told"}}),
            "unknown-fault",
            "cause",
        ),
        (json!({"remove-hint": {"id": "h1"}}), "missing", "id"),
        (wiggle("prop.front.j1", "play"), "unknown-place", "at"),
        (wiggle("prop.rear.j1", "purple"), "unknown-outcome", "outcome"),
        (json!({"answer-test": {"test": "kick-tyre", "outcome": "thud"}}), "unknown-test", "test"),
        (json!({"answer-test": {"test": "turn", "outcome": "left", "gear": "9"}}), "unknown-gear", "gear"),
        (json!({"answer-test": {"test": "lift-run", "outcome": "heard@diff.rear"}}), "caution", "seen-to"),
        (json!({"answer-test": {"test": "turn", "outcome": "left", "repair": "r7"}}), "missing", "repair"),
        (json!({"answer-test": {"test": "turn", "outcome": "left", "condition": {"turn": "round"}}}), "unknown-answer", "turn"),
        (json!({"set-parts-off": {"off": ["engine"]}}), "unknown-place", "off"),
        (json!({"listen": {"levels": []}}), "missing", "level"),
        (
            json!({"measure": {"at": "brake.fl", "reading": {"kind": "angles", "input": {"elements": [], "joints": [], "rpm": 1}}}}),
            "unknown-place",
            "at",
        ),
        (json!({"attach": {"file": "../case.json", "picture": true}}), "bad-value", "file"),
        (json!({"attach": {"file": "pinned/../x", "picture": true}}), "bad-value", "file"),
        (json!({"choose-repair": {"fault": "joint-worn", "at": "prop.rear.j3"}}), "reason-needed", "reason"),
        (json!({"choose-repair": {"fault": "rust", "reason": "x"}}), "unknown-fault", "fault"),
        (json!({"plan-repair": {"id": "r9"}}), "missing", "id"),
        (json!({"plan-repair": {"id": planned, "part": "stolen"}}), "unknown-part", "part"),
        (
            json!({"plan-repair": {"id": planned, "torques": [{"what": "flange", "nm": 70, "source": ""}]}}),
            "missing",
            "torque-source",
        ),
        (json!({"finish-repair": {"id": planned}}), "marks", "marks"),
        (json!({"judge-repair": {"id": planned, "result": "cured"}}), "missing", "id"),
        (json!({"judge-repair": {"id": planned, "result": "maybe"}}), "unknown-result", "result"),
        (json!({"state-clearance": {"drive": "limited", "reason": "worn"}}), "missing", "km"),
        (json!({"state-clearance": {"drive": "no", "reason": ""}}), "missing", "reason"),
        (json!({"report-finding": {"what": "hose", "at": "moon"}}), "unknown-place", "at"),
        (json!({"settle-finding": {"id": format!("{hose}x")}}), "missing", "id"),
        (json!({"describe-vehicle": {"gear_ratios": []}}), "missing", "vehicle.gearbox.gears"),
        (json!({"describe-vehicle": {"distance_km": -1}}), "out-of-range", "distance_km"),
        (json!({"describe-vehicle": {"title": "a\u{0}b"}}), "nul", "do.describe-vehicle.title"),
    ] {
        assert_eq!(j.refuses(&act), (code.to_string(), field.to_string()), "{act}");
    }
    let mut case = start();
    let other = CaseEdit { id: Uuid::from_u128(5), ..edit(0, "Maren", &wiggle("prop.rear.j1", "none")) };
    assert_eq!(apply(&mut case, &other).unwrap_err().code, "bad-id");
    assert_eq!(case, start());
    // No act carries what it does not know.
    assert!(serde_json::from_value::<CaseAct>(json!({"stand": {"on": "lift", "colour": "red"}})).is_err());
    assert!(serde_json::from_value::<CaseAct>(json!({"set": {"path": "title", "value": 1}})).is_err());
}

#[test]
fn what_stands_is_corrected_in_its_place_and_taken_out_by_itself() {
    let mut j = Job::new();
    j.does(&json!({"add-symptom": {"kind": "clunk", "words": "thud"}}));
    j.does(&json!({"answer-intake": {"symptom": "S2", "question": "heard", "answer": "yes"}}));
    let mut made = |act: Value| j.does(&act).entry.unwrap();
    let first = made(wiggle("prop.rear.j1", "play"));
    let swung = made(
        json!({"swing-joint": {"at": "prop.rear.j2", "pulls": {"arm_mm": 100, "first_n": [4, 4, 4], "second_n": [4, 12, 4]}}}),
    );
    let later = made(wiggle("prop.rear.j3", "none"));
    let read = made(
        json!({"measure": {"at": "prop.rear.s2.centre", "reading": {"kind": "runout", "input": {"mm": [0.1, 0.3, 0.4, 0.3, 0.1, 0.0]}}}}),
    );
    let tried = made(json!({"record-attempt": {"what": "tyres", "trust": "bill"}}));
    let hose = made(json!({"report-finding": {"what": "hose chafed", "at": "hub.rl"}}));
    let run = made(json!({"add-recording": {"id": "R1", "file": "recordings/r1.csv", "gear": "5"}}));
    let repair =
        made(json!({"choose-repair": {"fault": "joint-worn", "at": "prop.rear.j2", "symptom": "S1", "reason": "it binds"}}));

    // The answer from long ago: only it changes, at its place in time.
    j.does(&json!({"correct-answer": {"id": first, "now": {"test": "joint-wiggle", "at": "prop.rear.j2", "outcome": "none", "symptom": "S1", "note": "the other joint"}}}));
    let o = &j.document.case().observations[0];
    assert_eq!((o.id.as_str(), o.at.as_deref(), o.outcome.as_str()), (first.as_str(), Some("prop.rear.j2"), "none"));
    assert_eq!((o.by.as_deref(), o.at_time.is_some(), o.note.as_deref()), (Some("Maren"), true, Some("the other joint")));
    // A feel in place of the balance: the pulls go with what they said.
    j.does(&json!({"correct-answer": {"id": swung, "now": {"test": "joint-swing", "at": "prop.rear.j2", "outcome": "smooth", "symptom": "S1"}}}));
    assert_eq!(j.document.case().observations[1].balance, None);
    j.does(&json!({"correct-symptom": {"id": "S2", "now": {"kind": "knock", "words": "thud", "speed_kmh": {"peak": 20}}}}));
    let s = j.document.case().symptom("S2").unwrap();
    assert_eq!((s.kind.as_str(), s.condition.get("heard").map(String::as_str)), ("knock", Some("yes")));
    j.does(&json!({"correct-reading": {"id": read, "now": {"at": "prop.rear.s1.centre", "reading": {"kind": "runout", "input": {"mm": [0.1, 0.2, 0.1, 0.0]}}}}}));
    assert_eq!(j.document.case().measurements[0].at.as_deref(), Some("prop.rear.s1.centre"));
    j.does(&json!({"correct-attempt": {"id": tried, "now": {"what": "tyres", "trust": "seen", "changed": "nothing"}}}));
    j.does(&json!({"correct-finding": {"id": hose, "now": {"what": "hose cracked", "at": "hub.rr"}}}));
    j.does(&json!({"correct-run": {"id": run, "gear": "4", "throttle": "coast", "symptom": "S1"}}));
    let c = j.document.case();
    assert_eq!((c.attempts[0].trust.as_deref(), c.found[0].what.as_str()), (Some("seen"), "hose cracked"));
    assert_eq!((c.recordings[0].gear.as_deref(), c.recordings[0].file.as_str()), (Some("4"), "recordings/r1.csv"));
    // A verdict too early.
    j.does(&json!({"finish-repair": {"id": repair, "marks": "two dots"}}));
    j.does(&json!({"judge-repair": {"id": repair, "result": "cured"}}));
    j.does(&json!({"reopen-repair": {"id": repair}}));
    assert!(j.document.case().repairs[0].waits_for_proof());

    for (act, code, field) in [
        (json!({"correct-answer": {"id": "o9", "now": {"test": "joint-wiggle", "outcome": "none"}}}), "missing", "id"),
        (json!({"correct-answer": {"id": later, "now": {"test": "turn", "outcome": "left"}}}), "other-test", "test"),
        (
            json!({"correct-answer": {"id": later, "now": {"test": "joint-wiggle", "at": "moon", "outcome": "none"}}}),
            "unknown-place",
            "at",
        ),
        (json!({"correct-symptom": {"id": "S2", "now": {"kind": "hum"}}}), "unknown-kind", "kind"),
        (json!({"correct-run": {"id": run, "gear": "9"}}), "unknown-gear", "gear"),
        (json!({"correct-run": {"id": run, "range": "crawler"}}), "unknown-answer", "range"),
        (json!({"correct-finding": {"id": hose, "now": {"what": " "}}}), "missing", "what"),
        (json!({"reopen-repair": {"id": repair}}), "judged", "id"),
        (json!({"discount-history": {"tag": "lowered"}}), "missing", "tag"),
        // What belongs to it goes first.
        (json!({"remove-entry": {"entry": "symptom", "id": "S1"}}), "needed", "id"),
    ] {
        assert_eq!(j.refuses(&act), (code.to_string(), field.to_string()), "{act}");
    }

    for (kind, id) in
        [("answer", &later), ("reading", &read), ("attempt", &tried), ("finding", &hose), ("run", &run), ("repair", &repair)]
    {
        j.does(&json!({"remove-entry": {"entry": kind, "id": id}}));
        assert_eq!(j.refuses(&json!({"remove-entry": {"entry": kind, "id": id}})), ("missing".into(), "id".into()));
    }
    j.does(&json!({"discount-history": {"tag": "earlier-work"}}));
    j.does(&json!({"remove-entry": {"entry": "symptom", "id": "S2"}}));
    let c = j.document.case();
    assert_eq!((c.symptoms.len(), c.observations.len(), c.history.len()), (1, 2, 0));
    assert_eq!((c.measurements.len(), c.attempts.len(), c.found.len(), c.recordings.len(), c.repairs.len()), (0, 0, 0, 0, 0));
}

#[test]
fn when_it_comes_is_an_answer_of_the_intake_or_what_a_test_would_have_shown() {
    let mut j = Job::new();
    j.does(&json!({"add-symptom": {"kind": "clunk", "words": "thud", "when": ["pulling", "bend-left", "bend-right", "selecting", "braking", "axle-engaged"]}}));
    let c = j.document.case();
    let s = c.symptom("S2").unwrap();
    assert_eq!((s.condition["load"].as_str(), s.condition["turn"].as_str()), ("drive", "both"));
    let shown: Vec<(&str, &str, Option<&str>)> =
        c.observations.iter().map(|o| (o.test.as_str(), o.outcome.as_str(), o.source.as_deref())).collect();
    // This vehicle has no axle that is engaged.
    assert!(shown.contains(&("engage", "clunk", Some("driver"))) && !shown.iter().any(|o| o.0 == "axle-engage"), "{shown:?}");
    assert_eq!(c.state, None, "what is told moves no vehicle");
    assert_eq!(
        j.refuses(&json!({"add-symptom": {"kind": "clunk", "when": ["dreaming"]}})),
        ("unknown-answer".into(), "when".into())
    );
}

#[test]
fn a_vehicle_chosen_wrongly_is_of_another_layout_and_what_is_seldom_fitted_is_said() {
    let mut j = Job::new();
    j.does(&wiggle("prop.rear.j3", "play"));
    j.does(&json!({"describe-vehicle": {"name": "Mail van 4", "tyre": {"size": "33x12.50R15LT"}}}));
    j.does(&json!({"choose-layout": {"layout": "4x4-free-hubs"}}));
    let v = &j.document.case().vehicle;
    assert_eq!((v.name.as_str(), v.tyre.size.as_deref()), ("Mail van 4", Some("33x12.50R15LT")));
    assert!(v.transfer.is_some() && v.axles.iter().any(|a| a.free_hubs));
    assert_eq!(j.document.case().observations.len(), 1, "what was seen stays");
    j.does(&json!({"describe-vehicle": {"front_drive": "full-time", "motor": true, "bearings": [{"at": "hub.fl", "number": "BX 6206"}],
        "axles": [{"end": "rear", "limited_slip": "yes", "floating": "full", "tyre": {"size": "235/65R16"}}, {"end": "front", "free_hubs": false}]}}));
    let v = j.document.case().vehicle.clone();
    let rear = v.axles.iter().find(|a| a.end == baricord_core::vehicle::End::Rear).unwrap();
    assert_eq!((rear.limited_slip, rear.tyre.as_ref().and_then(|t| t.size.as_deref())), (Some(true), Some("235/65R16")));
    assert_eq!(
        (v.motor.is_some(), v.bearings.iter().find(|b| b.at == "hub.fl").and_then(|b| b.number.as_deref())),
        (true, Some("BX 6206"))
    );
    j.does(&json!({"describe-vehicle": {"axles": [{"end": "rear", "limited_slip": "unknown", "tyre": {}}]}}));
    let rear = j.document.case().vehicle.axles.iter().find(|a| a.end == baricord_core::vehicle::End::Rear).unwrap().clone();
    assert_eq!((rear.limited_slip, rear.tyre), (None, None));
    j.does(&json!({"choose-layout": {"layout": "fwd-manual"}}));
    j.does(&json!({"describe-vehicle": {"half_shafts": [{"corner": "fr", "intermediate": true, "bearing": true}]}}));
    assert!(j.document.case().vehicle.place("half.fr.bearing").is_some());
    assert_eq!(unknown_keys(j.document.json()), Vec::<String>::new());
    assert_eq!(j.refuses(&json!({"choose-layout": {"layout": "sidecar"}})), ("unknown-layout".into(), "layout".into()));
    assert_eq!(
        j.refuses(&json!({"describe-vehicle": {"half_shafts": [{"corner": "rl", "intermediate": true}]}})),
        ("unknown-place".into(), "at".into())
    );
}

#[test]
fn several_repairs_over_several_places_stay_open_until_each_is_judged_and_work_needs_no_complaint() {
    let mut j = Job::new();
    let chosen = json!({"choose-repair": {"fault": "joint-worn", "at": "prop.rear.j1", "with": [{"fault": "joint-worn", "at": "prop.rear.j2"}], "symptom": "S1", "reason": "both click"}});
    let joints = j.does(&chosen).entry.unwrap();
    let hubs = j
        .does(&json!({"plan-work": {"task": "replace", "at": "hub.fl", "places": ["hub.fr", "hub.fl"], "reason": "due"}}))
        .entry
        .unwrap();
    let c = j.document.case();
    assert_eq!((c.repairs.len(), c.repairs[0].places.as_slice()), (2, &["prop.rear.j2".to_string()][..]));
    assert_eq!((c.repairs[1].places.as_slice(), c.repairs[1].task.as_deref()), (&["hub.fr".to_string()][..], Some("replace")));
    let words = baricord_core::reasoning::wording::repair_words(builtin(), c, &c.repairs[1]);
    assert_eq!(words, "replace: front left hub and front right hub");
    let p = |c: &Case| diagnose(c, builtin(), None).symptoms[0].ranked.iter().map(|r| r.p).collect::<Vec<_>>();
    let before = p(c);
    j.does(&json!({"finish-repair": {"id": hubs}}));
    j.does(&json!({"judge-repair": {"id": hubs, "result": "cured"}}));
    assert_eq!(p(j.document.case()), before, "work without a search says nothing of a cause");
    assert!(j.document.case().repairs[0].is_open());
    j.does(&json!({"finish-repair": {"id": joints, "marks": "two dots"}}));
    j.does(&json!({"judge-repair": {"id": joints, "result": "cured"}}));
    for (act, code, field) in [
        (json!({"plan-work": {"task": "polish", "at": "hub.fl"}}), "unknown-task", "task"),
        (json!({"plan-work": {"task": "grease", "at": "moon"}}), "unknown-place", "at"),
        (json!({"plan-work": {"task": "replace", "at": "hub.fl", "part": "stolen"}}), "unknown-part", "part"),
        (json!({"plan-work": {"task": "replace", "what": " "}}), "missing", "what"),
    ] {
        assert_eq!(j.refuses(&act), (code.to_string(), field.to_string()), "{act}");
    }
    // A part that is no place of the vehicle, by its name.
    let judged = p(j.document.case());
    let shocks =
        j.does(&json!({"plan-work": {"task": "replace", "what": "rear shock absorbers", "reason": "leaking"}})).entry.unwrap();
    assert_eq!(p(j.document.case()), judged);
    let c = j.document.case();
    let words = baricord_core::reasoning::wording::repair_words(builtin(), c, c.repairs.iter().find(|r| r.id == shocks).unwrap());
    assert_eq!(words, "replace: rear shock absorbers");
    // Without a complaint: planned, done, handed back.
    let mut d = Case::new_document("c2", "Service", json!(rear_drive(1)));
    d["symptoms"] = json!([]);
    let mut j = Job { document: CaseDocument::new(Case::from_json(&d).unwrap()), past: vec![] };
    let next = |j: &Job| {
        let c = j.document.case();
        baricord_core::workflow::next_action::next_action(c, builtin(), &diagnose(c, builtin(), None), None).words
    };
    assert!(next(&j).starts_with("Take down"));
    let slip = j.does(&json!({"plan-work": {"task": "grease", "at": "prop.rear.slip"}})).entry.unwrap();
    assert!(next(&j).starts_with("Make the repair: grease: "), "{}", next(&j));
    j.does(&json!({"finish-repair": {"id": slip}}));
    assert!(next(&j).starts_with("Drive a short way"), "{}", next(&j));
    j.does(&json!({"judge-repair": {"id": slip, "result": "cured"}}));
    assert_eq!(next(&j), "Hand it back: the work is done");
}

/// A job as a mechanic tells it: what was found first, readings, what others tried, the driver's words last. It ends with the same answer
/// as in the program's order, whichever way it is told.
#[test]
fn a_changed_size_is_the_vehicles_from_then_on_and_what_rests_on_it_is_made_again() {
    let mut j = Job::new();
    let readings: Vec<Value> = (0..8).map(|i| json!({"deg": 45 * i, "mm": 0.05})).collect();
    for at in ["prop.rear.s1.centre", "prop.rear.s2.centre"] {
        j.does(&json!({"measure": {"at": at, "reading": {"kind": "runout", "input": {"readings": readings}}}}));
    }
    let was = j.document.case().vehicle.clone();
    let length = was.props[0].sections[0].length_mm.get();
    let done = j.does(&json!({"change-dimensions": {
        "vehicle": {"sections": [{"at": "prop.rear.s1", "length_mm": length - 15.0}], "tyre": {"size": "225/70R15"}},
        "angles": ["prop.rear"]}}));
    assert!(done.words.contains(&format!("length: {length} mm to {} mm", length - 15.0)), "{}", done.words);
    assert!(done.words.contains("to 225/70R15") && done.words.contains("angles of the"), "{}", done.words);
    let case = j.document.case();
    assert_eq!(case.vehicle.props[0].sections[0].length_mm.get(), length - 15.0);
    assert_eq!(case.dimension_changes[0].before.as_ref(), Some(&was));
    // Both were read at the same minute as the change: only what came before it is old.
    assert!(case.measurements.iter().all(|m| case.outdated_reading(m).is_none()));
    let mut earlier = case.clone();
    for m in &mut earlier.measurements {
        m.at_time = Some("2026-11-28T08:00:00Z".into());
    }
    let old: Vec<bool> = earlier.measurements.iter().map(|m| earlier.outdated_reading(m).is_some()).collect();
    assert_eq!(old, [true, false]);
    let tyre_answer = |at: &str| {
        let o = baricord_core::case::Observation {
            at: Some(at.into()),
            at_time: Some("2026-11-28T08:00:00Z".into()),
            ..Default::default()
        };
        earlier.outdated_answer(&o).is_some()
    };
    assert!(tyre_answer("wheel.fl") && tyre_answer("wheel.rr") && !tyre_answer("hub.fl"));
    assert_eq!(
        j.refuses(&json!({"change-dimensions": {"vehicle": {"tyre": {"size": "225/70R15"}}}})),
        ("nothing-changed".into(), "changed".into())
    );
    assert_eq!(j.refuses(&json!({"change-dimensions": {"vehicle": {"name": "x"}}})), ("no-size".into(), "vehicle".into()));
    assert_eq!(j.refuses(&json!({"change-dimensions": {"angles": ["prop.front"]}})), ("unknown-place".into(), "angles".into()));
    assert_eq!(
        j.refuses(&json!({"change-dimensions": {"angles": ["prop.rear"], "repair": "r9"}})),
        ("missing".into(), "repair".into())
    );
    // The driveline was chosen wrongly: no run was driven with what it was taken for.
    j.does(&json!({"choose-layout": {"layout": "rwd-solid"}}));
    assert_eq!(j.document.case().dimension_changes[0].before, None);
    let event = j.past.last().unwrap().id;
    j.does(&json!({"take-back": {"event": event}}));
    assert_eq!(j.document.case().dimension_changes[0].before.as_ref(), Some(&was));
    // Angles are not kept in the vehicle: it is as it was.
    j.does(&json!({"change-dimensions": {"angles": ["prop.rear"]}}));
    assert_eq!(j.document.case().dimension_changes[1].before, None);
    // An undo gives the vehicle its sizes back.
    let event = j.past[2].id;
    j.does(&json!({"take-back": {"event": event}}));
    assert_eq!((&j.document.case().vehicle, j.document.case().dimension_changes.len()), (&was, 1));
}

#[test]
fn a_note_is_kept_worded_otherwise_and_taken_out_and_moves_nothing() {
    let mut j = Job::new();
    let answer = |j: &Job| json!(diagnose(j.document.case(), builtin(), None));
    let before = answer(&j);
    let id = j.does(&json!({"add-note": {"text": " owner needs it on Friday ", "at": "hub.rl"}})).entry.unwrap();
    assert_eq!(
        (j.document.case().notes[0].text.as_str(), j.document.case().notes[0].by.as_str()),
        ("owner needs it on Friday", "Maren")
    );
    assert_eq!(answer(&j), before);
    j.does(&json!({"correct-note": {"id": id, "now": {"text": "on Saturday"}}}));
    assert_eq!((j.document.case().notes[0].text.as_str(), &j.document.case().notes[0].at), ("on Saturday", &None));
    assert_eq!(j.refuses(&json!({"add-note": {"text": " "}})), ("missing".into(), "text".into()));
    assert_eq!(j.refuses(&json!({"add-note": {"text": "x", "at": "moon"}})), ("unknown-place".into(), "at".into()));
    j.does(&json!({"remove-entry": {"entry": "note", "id": id}}));
    assert!(j.document.case().notes.is_empty());
}

#[test]
fn a_job_told_in_any_order_ends_with_the_same_answer() {
    let told = [
        json!({"add-symptom": {"kind": "vibration", "felt": ["seat"], "heard_from": "centre", "speed_kmh": {"from": 70, "peak": 95, "to": 110}, "words": "buzz"}}),
        json!({"answer-test": {"test": "neutral-coast", "outcome": "persists"}}),
        json!({"answer-test": {"test": "other-gear-same-speed", "outcome": "same"}}),
        wiggle("prop.rear.j1", "none"),
        wiggle("prop.rear.j2", "play"),
        json!({"answer-test": {"test": "support-bearing-look", "at": "prop.rear.sb1", "outcome": "firm"}}),
        json!({"measure": {"at": "prop.rear.s2.centre", "reading": {"kind": "runout", "input": {"mm": [0.1, 0.2, 0.1, 0.0]}}}}),
        json!({"record-attempt": {"what": "new tyres", "trust": "bill", "changed": "nothing", "cause": {"fault": "wheel-imbalance", "at": "wheel.rl"}}}),
        json!({"count-history": {"tag": "lowered"}}),
        json!({"report-finding": {"what": "hose chafed"}}),
    ];
    // What names no symptom is of all; the words may come last.
    let plain = |act: &Value| {
        let mut act = act.clone();
        if let Some(t) = act.get_mut("answer-test").and_then(Value::as_object_mut) {
            t.remove("symptom");
        }
        act
    };
    let ranked = |order: &[usize]| {
        let mut d = Case::new_document("c1", "Shake", json!(rear_drive(2)));
        d["symptoms"] = json!([]);
        let mut j = Job { document: CaseDocument::new(Case::from_json(&d).unwrap()), past: vec![] };
        order.iter().for_each(|i| drop(j.does(&plain(&told[*i]))));
        let d = diagnose(j.document.case(), builtin(), None);
        let mut all: Vec<(String, f64)> = d.symptoms[0].ranked.iter().map(|r| (format!("{}@{}", r.fault, r.at), r.p)).collect();
        all.sort_by(|a, b| a.0.cmp(&b.0));
        (all, d.step.map(|s| format!("{s:?}")))
    };
    let usual: Vec<usize> = (0..told.len()).collect();
    let (p, step) = ranked(&usual);
    let findings_first: Vec<usize> = usual.iter().copied().skip(1).chain([0]).collect();
    let backwards: Vec<usize> = usual.iter().rev().copied().collect();
    let mixed = vec![6, 4, 8, 0, 9, 2, 5, 7, 1, 3];
    for order in [findings_first, backwards, mixed] {
        let (q, other) = ranked(&order);
        assert_eq!(p.len(), q.len());
        for (a, b) in p.iter().zip(&q) {
            assert!(a.0 == b.0 && (a.1 - b.1).abs() < 1e-9, "{order:?}: {a:?} {b:?}");
        }
        assert_eq!(step, other, "{order:?}");
    }
}

/// What an import holds that is no word of the trade is kept, told, and moves nothing.
#[test]
fn unknown_words_of_an_import_are_told_and_do_not_weigh() {
    let with = |symptom: Value, history: Value| {
        let mut d = Case::new_document("c", "t", json!(rear_drive(2)));
        d["symptoms"] = json!([symptom]);
        d["history"] = history;
        d
    };
    let odd = with(
        json!({"id": "S1", "kind": "vibration", "felt": ["seat", "elbow"], "heard_from": "above"}),
        json!(["lowered", "painted"]),
    );
    let plain = with(json!({"id": "S1", "kind": "vibration", "felt": ["seat"]}), json!(["lowered"]));
    let (odd, plain) = (
        CaseDocument::read(odd.clone())
            .map(|d| (serde_json::from_str::<serde_json::Value>(&d.text()).unwrap() == odd, d))
            .unwrap(),
        Case::from_json(&plain).unwrap(),
    );
    assert!(odd.0, "kept as it was");
    let answer = diagnose(odd.1.case(), builtin(), None);
    let told: Vec<&str> = answer.warnings.iter().map(|w| w.code.as_str()).collect();
    assert_eq!(told, ["unknown-felt", "unknown-heard-from", "unknown-history"]);
    let p = |d: &baricord_core::reasoning::Diagnosis| {
        d.symptoms[0].ranked.iter().map(|r| (r.fault.clone(), r.at.clone(), r.p)).collect::<Vec<_>>()
    };
    assert_eq!(p(&answer), p(&diagnose(&plain, builtin(), None)));
}

/// Acts that may come in any order: the number chooses.
fn any_act(n: u8, repairs: &[String], case: &Case) -> Value {
    let repair = repairs.last().cloned().unwrap_or_default();
    let answer = case.observations.get(usize::from(n) % case.observations.len().max(1)).cloned().unwrap_or_default();
    let found = case.found.front().map(|f| f.id.clone()).unwrap_or_default();
    let joint = format!("prop.rear.j{}", 1 + n % 3);
    match n % 25 {
        0 => wiggle(&joint, "none"),
        1 => wiggle(&joint, "play"),
        2 => json!({"answer-test": {"test": "turn", "outcome": "left", "symptom": "S1"}}),
        3 => json!({"report-finding": {"what": format!("thing {n}")}}),
        4 => json!({"stand": {"on": "ground"}}),
        5 => json!({"stand": {"on": "lift"}}),
        6 => json!({"set-warm": {"warm": n < 100}}),
        7 => json!({"set-parts-off": {"off": if n < 100 { vec!["prop.rear"] } else { vec![] }}}),
        8 => json!({"record-attempt": {"what": format!("part {n}"), "trust": "told"}}),
        9 => json!({"count-history": {"tag": if n < 100 { "lowered" } else { "towing" }}}),
        10 => json!({"state-clearance": {"drive": "no", "reason": "worn"}}),
        11 => json!({"answer-intake": {"symptom": "S1", "question": "heard", "answer": if n < 100 { "yes" } else { "no" }}}),
        12 => json!({"describe-vehicle": {"title": format!("case {n}")}}),
        13 => json!({"choose-repair": {"fault": "joint-worn", "at": joint, "reason": "x", "symptom": "S1"}}),
        14 => json!({"plan-repair": {"id": repair, "marks": format!("{n} dots")}}),
        15 => json!({"finish-repair": {"id": repair}}),
        16 => json!({"correct-answer": {"id": answer.id, "now": {"test": answer.test, "at": joint, "outcome": "play"}}}),
        17 => json!({"remove-entry": {"entry": "answer", "id": answer.id}}),
        18 => json!({"remove-entry": {"entry": "repair", "id": repair}}),
        19 => json!({"correct-finding": {"id": found, "now": {"what": format!("other {n}")}}}),
        20 => json!({"correct-symptom": {"id": "S1", "now": {"kind": "shudder", "words": format!("{n}")}}}),
        21 => json!({"add-note": {"text": format!("note {n}")}}),
        22 => json!({"change-dimensions": {"vehicle": {"sections": [{"at": "prop.rear.s1", "length_mm": 700 + u32::from(n)}]}}}),
        23 => json!({"change-dimensions": {"angles": ["prop.rear"]}}),
        _ => json!({"cancel-repair": {"id": repair}}),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

    #[test]
    fn what_is_taken_back_last_first_leaves_the_case_as_it_was(numbers in prop::collection::vec(any::<u8>(), 0..25)) {
        let (mut j, mut states, mut repairs) = (Job::new(), vec![], vec![]);
        for n in numbers {
            let (before, e) = (j.document.case().clone(), edit(j.past.len() as u64, "Maren", &any_act(n, &repairs, j.document.case())));
            if j.edit(&e).is_ok() {
                states.push((e.id, before));
                if matches!(e.act, CaseAct::ChooseRepair(_)) {
                    repairs.push(e.entry_id());
                }
            }
        }
        // Each earlier state can be told from what was changed since.
        for (n, (_, before)) in states.iter().enumerate() {
            let made = j.past[n..].iter().rev().filter_map(|p| p.changes.as_deref());
            prop_assert_eq!(differ(&j.document.before(made).unwrap(), before), Vec::<String>::new());
        }
        for (event, before) in states.into_iter().rev() {
            let back = CaseAct::TakeBack(TakenBack { event, of_another: false });
            let e = CaseEdit { act: back, ..edit(1_000 + j.past.len() as u64, "Maren", &json!({"drove": {}})) };
            j.edit(&e).unwrap();
            prop_assert_eq!(differ(j.document.case(), &before), Vec::<String>::new());
        }
    }

    /// One of many is taken back: either something needs it, or nothing else has changed but the state that goes along.
    #[test]
    fn what_is_taken_back_from_the_middle_touches_nothing_else(numbers in prop::collection::vec(any::<u8>(), 1..25), which in any::<prop::sample::Index>()) {
        let (mut j, mut repairs) = (Job::new(), vec![]);
        for n in numbers {
            let e = edit(j.past.len() as u64, "Maren", &any_act(n, &repairs, j.document.case()));
            if j.edit(&e).is_ok() && matches!(e.act, CaseAct::ChooseRepair(_)) {
                repairs.push(e.entry_id());
            }
        }
        prop_assume!(!j.past.is_empty());
        let one = j.past[which.index(j.past.len())].clone();
        let before = j.document.json().clone();
        let back = CaseAct::TakeBack(TakenBack { event: one.id, of_another: false });
        let e = CaseEdit { act: back, ..edit(1_000, "Maren", &json!({"drove": {}})) };
        match j.edit(&e) {
            Err(p) => prop_assert_eq!(p.code, "needed"),
            Ok(_) => {
                let own: Vec<String> = one.changes.iter().flatten().map(|c| c.path.join("/")).collect();
                let undone: Vec<String> = j.past.last().unwrap().changes.iter().flatten().map(|c| c.path.join("/")).collect();
                prop_assert!(undone.iter().all(|u| own.contains(u)), "{:?} {:?}", own, undone);
                prop_assert!(own.is_empty() || before != *j.document.json() || own.iter().all(|o| o.starts_with("state") || o == "history/earlier-work"));
            }
        }
    }
}
