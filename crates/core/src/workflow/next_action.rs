//! What is done next on a case: one answer for every page, for paper and for the board. Before a cause is chosen it is the next
//! step of the diagnosis; once a repair is planned it is that repair, then its proof.

use crate::case::fault_at::FaultAt;
use crate::case::{Case, Repair};
use crate::proof::proof_list::proof_list;
use crate::proof::verify::{Verdict, Verification};
use crate::reasoning::knowledge::Knowledge;
use crate::reasoning::wording::{pair_words, repair_words, test_words};
use crate::reasoning::{Diagnosis, NextStep};
use crate::safety::drive_clearance::Proposal;
use crate::workflow::owed::owed_line;
use crate::workflow::{Station, is_proved};
use serde::{Deserialize, Serialize};

/// What kind of thing is done next.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ActionKind {
    /// The driver's words are taken down.
    Describe,
    /// A test is made.
    Test,
    /// A cause is repaired: its repair is planned first.
    Choose,
    /// Nothing that is known fits: it is handed on.
    HandOn,
    /// The planned repair is made.
    Repair,
    /// The same provocation, run or reading is made again after the repair.
    Prove,
    /// Before and after are there: it is judged.
    Judge,
    /// Somebody says first whether it may be driven.
    Clear,
    /// Every symptom is cured.
    HandBack,
}

/// What is done next.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NextAction {
    /// What kind of thing.
    pub kind: ActionKind,
    /// Where.
    pub station: Station,
    /// Of which symptom; none where it is of the whole case.
    pub symptom: Option<String>,
    /// Id of a test of the knowledge: `joint-wiggle`.
    pub test: Option<String>,
    /// The fault that is repaired.
    pub fault: Option<String>,
    /// What is repaired with it.
    pub with: Vec<FaultAt>,
    /// Where on the vehicle.
    pub at: Option<String>,
    /// In which gear.
    pub gear: Option<String>,
    /// Minutes from how the vehicle stands now; none where nobody can say.
    pub minutes: Option<f64>,
    /// What is done, in words.
    pub words: String,
}

impl NextAction {
    fn new(kind: ActionKind, station: Station, words: impl Into<String>) -> Self {
        let words = words.into();
        Self { kind, station, symptom: None, test: None, fault: None, with: vec![], at: None, gear: None, minutes: None, words }
    }

    /// Every place that it is about.
    pub fn places(&self) -> impl Iterator<Item = &str> {
        self.at.as_deref().into_iter().chain(self.with.iter().map(|w| w.at.as_str()))
    }

    /// The test with its place and gear; none where it is none.
    pub fn as_test(&self) -> Option<(&str, Option<&str>, Option<&str>)> {
        self.test.as_deref().map(|t| (t, self.at.as_deref(), self.gear.as_deref()))
    }

    /// In words with minutes: “Rock the wheel: front left hub, 7 min”.
    pub fn words_with_minutes(&self) -> String {
        match self.minutes {
            Some(m) => format!("{}, {m:.0} min", self.words),
            None => self.words.clone(),
        }
    }

    /// In a few words on the board, where a vehicle that is not to be driven, or may not be, must be seen before its case is
    /// opened.
    /// What is owed stands after it.
    pub fn on_the_board(&self, case: &Case, k: &Knowledge, proposal: Option<&Proposal>) -> String {
        let words = match owed_line(case, k) {
            owed if owed.is_empty() => self.words_with_minutes(),
            owed => format!("{}; {owed}", self.words_with_minutes()),
        };
        match proposal {
            _ if case.is_grounded() => format!("{NOT_DRIVEN}; {words}"),
            Some(p) => format!("{PROPOSED} {}; {words}", p.words().to_lowercase()),
            None => words,
        }
    }
}

/// How the board begins of a vehicle that is not to be driven, and of one of which somebody must say whether it is.
const NOT_DRIVEN: &str = "not to be driven";
const PROPOSED: &str = "proposed:";

/// Whether what stands on the board ([`NextAction::on_the_board`]) is a danger that must be seen.
pub fn is_danger(board_words: &str) -> bool {
    board_words.starts_with(NOT_DRIVEN) || board_words.starts_with(PROPOSED)
}

/// At which station a test is made: on the road, under the vehicle, or read with an instrument.
pub fn station_of_test(k: &Knowledge, test: &str) -> Station {
    match k.test(test) {
        Some(t) if t.is_measurement() => Station::Measure,
        Some(t) if t.recorded => Station::Road,
        Some(t) if t.is_of_the_road() && !t.lift => Station::Road,
        _ => Station::Lift,
    }
}

/// The next step of the diagnosis as something to do.
fn of_step(case: &Case, k: &Knowledge, s: &NextStep) -> NextAction {
    let v = &case.vehicle;
    let (at, gear) = (s.at.as_deref(), s.gear.as_deref());
    let (kind, station, words) = match (&s.test, s.replace.as_deref()) {
        (Some(t), _) => (ActionKind::Test, station_of_test(k, t), test_words(k, v, t, at, gear)),
        (None, Some("unknown")) => {
            (ActionKind::HandOn, Station::Decide, "Hand it on: nothing that is known here fits".to_string())
        }
        (None, fault) => {
            let words = pair_words(k, v, fault.unwrap_or_default(), at.unwrap_or("none"), gear, &s.with);
            (ActionKind::Choose, Station::Decide, format!("Repair: {words}"))
        }
    };
    NextAction {
        symptom: Some(s.symptom.clone()),
        test: s.test.clone(),
        fault: s.replace.clone(),
        with: s.with.clone(),
        at: s.at.clone(),
        gear: s.gear.clone(),
        minutes: (kind != ActionKind::HandOn).then_some(s.minutes),
        ..NextAction::new(kind, station, words)
    }
}

/// What is done next on a case: take down the words, a test, a repair, its proof, or handing it back. The one answer for every page,
/// paper and the board.
pub fn next_action(case: &Case, k: &Knowledge, diagnosis: &Diagnosis, proof: Option<&Verification>) -> NextAction {
    // Work without a search needs no complaint.
    let work = case.symptoms.is_empty() && case.repairs.iter().any(|r| r.is_open());
    if case.symptoms.is_empty() && !work {
        if case.repairs.iter().any(|r| r.task.is_some()) {
            return NextAction::new(ActionKind::HandBack, Station::Done, "Hand it back: the work is done");
        }
        return NextAction::new(ActionKind::Describe, Station::Complaint, "Take down what the driver says");
    }
    let open = case.repairs.iter().rev().find(|r| r.is_open());
    if let Some(r) = open {
        return of_repair(case, k, r, proof);
    }
    if case.symptoms.iter().all(|s| case.cured_by(&s.id).is_some()) {
        let how = if is_proved(case, proof) { "cured and proved" } else { "closed by ear, not compared" };
        return NextAction::new(ActionKind::HandBack, Station::Done, format!("Hand it back: {how}"));
    }
    match &diagnosis.step {
        Some(s) => of_step(case, k, s),
        None => NextAction::new(ActionKind::HandOn, Station::Decide, "Hand it on: nothing that is known here fits"),
    }
}

/// What is done next for a repair that is not judged yet.
fn of_repair(case: &Case, k: &Knowledge, r: &Repair, proof: Option<&Verification>) -> NextAction {
    let of = |action: NextAction| NextAction {
        symptom: r.symptom.clone().or_else(|| case.first_symptom().map(String::from)),
        ..action
    };
    if !r.is_done() {
        return NextAction {
            fault: Some(r.fault.clone()),
            with: r.repaired_with(),
            at: r.at.clone(),
            gear: r.gear.clone(),
            ..of(NextAction::new(ActionKind::Repair, Station::Repair, format!("Make the repair: {}", repair_words(k, case, r))))
        };
    }
    if r.task.is_some() && r.fault.is_empty() {
        let words = format!("Drive a short way, look again, and close it: {}", repair_words(k, case, r));
        return of(NextAction::new(ActionKind::Judge, Station::Prove, words));
    }
    let after = case.recordings.iter().any(|x| x.is_after() && case.is_weighed(x));
    // The run after is judged for every symptom that it can be held against.
    let judged = proof.is_some_and(|p| p.symptoms.iter().any(|s| s.verdict != Verdict::NotComparable));
    let symptom = r.symptom.as_deref().or(case.first_symptom()).unwrap_or_default();
    let list = proof_list(case, k, symptom);
    let all_made = !list.is_empty() && list.iter().all(|l| l.after.is_some());
    if after && judged || all_made {
        return of(NextAction::new(ActionKind::Judge, Station::Prove, "Judge the repair: before and after are there"));
    }
    let next = list.iter().find(|l| l.after.is_none());
    if case.is_grounded() && next.is_none_or(|l| l.driven) {
        return of(NextAction::new(ActionKind::Clear, Station::Prove, "Say first whether it may be driven, then drive it again"));
    }
    match next {
        Some(l) => NextAction {
            test: l.test.clone(),
            at: l.at.clone(),
            gear: l.gear.clone(),
            ..of(NextAction::new(ActionKind::Prove, Station::Prove, format!("Prove it: {}", l.again)))
        },
        None => {
            of(NextAction::new(ActionKind::Prove, Station::Prove, "Prove it: drive as when it was felt, and say what is left"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::sample;
    use crate::reasoning::diagnose;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::rear_drive;
    use serde_json::{Value, json};

    fn case(more: Value) -> Case {
        sample::case(rear_drive(1), &[more])
    }
    fn next(c: &Case) -> NextAction {
        next_action(c, builtin(), &diagnose(c, builtin(), None), None)
    }

    #[test]
    fn a_case_goes_from_words_to_tests_to_repair_to_proof_and_is_handed_back() {
        let symptom = json!([{"id": "S1", "kind": "clunk"}]);
        let of = |more: Value| next(&case(more));
        assert_eq!(of(json!({})).kind, ActionKind::Describe);
        let first = of(json!({"symptoms": symptom}));
        let d = diagnose(&case(json!({"symptoms": symptom})), builtin(), None);
        assert_eq!((first.kind, &first.test), (ActionKind::Test, &d.step.unwrap().test));
        let seen = json!([{"symptom": "S1", "test": "load-reversal", "outcome": "clunk"}]);
        let repair = |result: Value| {
            json!({"symptoms": symptom, "observations": seen,
            "repairs": [{"symptom": "S1", "fault": "joint-worn", "at": "prop.rear.j1", "result": result}]})
        };
        let planned = of(repair(Value::Null));
        assert_eq!((planned.kind, planned.station), (ActionKind::Repair, Station::Repair));
        assert!(planned.words.ends_with("joint worn, joint at the gearbox"), "{}", planned.words);
        let done = of(repair(json!("open")));
        assert_eq!((done.kind, done.test.as_deref()), (ActionKind::Prove, Some("load-reversal")));
        assert_eq!(of(repair(json!("not-cured"))).kind, ActionKind::Test);
        assert_eq!(of(repair(json!("cured"))).words, "Hand it back: closed by ear, not compared");
        let two = json!({"symptoms": [{"id": "S1", "kind": "vibration"}, {"id": "S2", "kind": "leak"}],
            "repairs": [{"fault": "joint-worn", "at": "prop.rear.j1", "symptom": "S1", "result": "cured"}]});
        assert_eq!(of(two).symptom.as_deref(), Some("S2"));
    }

    #[test]
    fn a_grounded_vehicle_is_not_driven_for_its_proof() {
        let no = json!([{"drive": "no", "reason": "joint binds", "by": "Maren"}]);
        let seen = json!([{"symptom": "S1", "test": "load-reversal", "outcome": "clunk"}]);
        let c = case(json!({"symptoms": [{"id": "S1", "kind": "clunk"}], "observations": seen, "safety": no,
            "repairs": [{"symptom": "S1", "fault": "joint-worn", "at": "prop.rear.j1", "result": "open"}]}));
        let a = next(&c);
        assert_eq!(a.kind, ActionKind::Clear);
        assert!(a.on_the_board(&c, builtin(), None).starts_with("not to be driven; "));
        assert!(is_danger(&a.on_the_board(&c, builtin(), None)) && !is_danger(&a.words_with_minutes()));
        // And no test sends it onto the road before.
        let open = case(json!({"symptoms": [{"id": "S1", "kind": "clunk"}], "safety": no}));
        assert_ne!(next(&open).station, Station::Road);
    }

    #[test]
    fn what_was_made_again_is_judged() {
        let c = case(json!({"symptoms": [{"id": "S1", "kind": "clunk"}], "observations": [
            {"symptom": "S1", "test": "load-reversal", "outcome": "clunk"},
            {"symptom": "S1", "test": "load-reversal", "outcome": "none", "phase": "after"}],
            "repairs": [{"symptom": "S1", "fault": "joint-worn", "at": "prop.rear.j1", "result": "open"}]}));
        assert_eq!(next(&c).kind, ActionKind::Judge);
    }

    #[test]
    fn every_test_has_one_station_where_it_is_answered() {
        for t in &builtin().tests {
            let s = station_of_test(builtin(), &t.id);
            assert_eq!(s == Station::Road, t.is_of_the_road() && !t.lift, "{}", t.id);
            assert!(matches!(s, Station::Road | Station::Lift | Station::Measure), "{}", t.id);
        }
    }
}
