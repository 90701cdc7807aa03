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
    CaseEdit { id, at_time: "2026-11-29T08:00:00Z".parse().unwrap(), by: by.into(), act }
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
fn any_act(n: u8, repairs: &[String]) -> Value {
    let repair = repairs.last().cloned().unwrap_or_default();
    let joint = format!("prop.rear.j{}", 1 + n % 3);
    match n % 17 {
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
        _ => json!({"cancel-repair": {"id": repair}}),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 64, ..ProptestConfig::default() })]

    #[test]
    fn what_is_taken_back_last_first_leaves_the_case_as_it_was(numbers in prop::collection::vec(any::<u8>(), 0..25)) {
        let (mut j, mut states, mut repairs) = (Job::new(), vec![], vec![]);
        for n in numbers {
            let (before, e) = (j.document.case().clone(), edit(j.past.len() as u64, "Maren", &any_act(n, &repairs)));
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
            let e = edit(j.past.len() as u64, "Maren", &any_act(n, &repairs));
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
