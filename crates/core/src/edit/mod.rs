//! A case is changed by edits. A [`CaseEdit`] is one act of the trade by one person at one time; [`apply`] is the only way by which a
//! case changes, and holds every rule by which an act is refused.
//!
//! | module | what it holds |
//! |---|---|
//! | [`act`] | every act, with what it says |
//! | `answers`, `lift`, `complaint`, `repairs`, `beside` | the rules, by the part of the job |
//! | [`vehicle`], `dimensions` | a vehicle described in part; sizes that are others from a day on |
//! | [`entry_kind`], [`mend`] | what stands in the case is corrected, or taken out by itself |
//! | [`take_back`] | what was done is taken back |
//! | `words` | words that may enter a case |

pub mod act;
mod answers;
mod beside;
mod complaint;
mod dimensions;
pub mod entry_kind;
mod lift;
pub mod mend;
mod ready;
pub mod repair_act;
mod repair_steps;
mod repairs;
pub mod take_back;
pub mod vehicle;
mod words;

use crate::analysis::Analysis;
use crate::case::patch::Path;
use crate::case::{Case, check_text};
use crate::error::Problem;
use crate::permission::Act;
use crate::reasoning::knowledge::{Knowledge, builtin};
use act::{CaseAct, EntryKind};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use take_back::PastEdit;
use uuid::Uuid;

/// One change of a case.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CaseEdit {
    /// Id of the edit, a UUID of version 7; made by whoever may have been offline. The entry that it makes has the same.
    pub id: Uuid,
    /// When it was done, RFC 3339.
    pub at_time: Timestamp,
    /// Who did it; said by the session, never by who sends it.
    #[serde(default)]
    pub by: String,
    /// What was done.
    #[serde(rename = "do")]
    pub act: CaseAct,
    /// Amounts as they were typed, with their unit, by the field of the form: `{"torque-nm": "41 lb·ft"}`. The act has them in metric units.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub as_typed: BTreeMap<String, String>,
}

/// What an edit did.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Applied {
    /// In words, for the history.
    pub words: String,
    /// Id of the entry that it made.
    pub entry: Option<String>,
}

impl Applied {
    fn words(words: impl Into<String>) -> Self {
        Self { words: words.into(), entry: None }
    }
    fn made(words: impl Into<String>, entry: impl Into<String>) -> Self {
        Self { words: words.into(), entry: Some(entry.into()) }
    }
}

/// What an edit is judged by.
#[derive(Clone, Copy, Debug)]
pub struct EditContext<'a> {
    /// The knowledge as the workshop has it.
    pub knowledge: &'a Knowledge,
    /// What the recordings say.
    pub analysis: Option<&'a Analysis>,
    /// What was done before, oldest first, at least from what is taken back.
    pub past: &'a [PastEdit],
}

impl Default for EditContext<'_> {
    fn default() -> Self {
        Self { knowledge: builtin(), analysis: None, past: &[] }
    }
}

/// Applies an edit by the knowledge that ships. See [`EditContext::apply`].
pub fn apply(case: &mut Case, edit: &CaseEdit) -> Result<Applied, Problem> {
    EditContext::default().apply(case, edit)
}

impl CaseEdit {
    /// An edit by whoever the session says.
    pub fn new(id: Uuid, at_time: Timestamp, act: CaseAct) -> Self {
        Self { id, at_time, by: String::new(), act, as_typed: BTreeMap::new() }
    }

    /// Its id as entries have it.
    pub fn entry_id(&self) -> String {
        self.id.to_string()
    }

    /// As entries carry it.
    fn time(&self) -> Option<String> {
        Some(self.at_time.to_string())
    }

    /// Who did it, as entries carry it.
    fn person(&self) -> Option<String> {
        Some(self.by.clone()).filter(|by| !by.is_empty())
    }

    /// What somebody must be allowed to do in the workshop.
    pub fn needs(&self, case: &Case) -> Act {
        match &self.act {
            CaseAct::ChooseRepair(_) | CaseAct::ReplaceAsDue(_) => Act::Buy,
            CaseAct::PlanWork(w) if w.task == "replace" => Act::Buy,
            // Another part than was chosen is another purchase.
            CaseAct::PlanRepair(d) | CaseAct::FinishRepair(d) => {
                let has = case.repairs.iter().find(|r| r.id == d.id).and_then(|r| r.part.as_deref());
                if d.part.is_some() && d.part.as_deref() != has { Act::Buy } else { Act::Edit }
            }
            CaseAct::AskOpinion(_) => Act::Share,
            _ => Act::Edit,
        }
    }

    /// Whether it comes with something that is kept elsewhere: a file, samples, a link. It cannot be sent alone.
    pub fn comes_with_more(&self) -> bool {
        matches!(
            self.act,
            CaseAct::Attach(_)
                | CaseAct::AddRecording(_)
                | CaseAct::AskOpinion(_)
                | CaseAct::AnswerOpinion(_)
                | CaseAct::Drove(_)
        )
    }

    /// The parts of an entry that it changes, which somebody may have changed meanwhile; none where it adds.
    pub fn changes_parts(&self) -> Vec<Path> {
        let path = |parts: &[&str]| parts.iter().map(|p| (*p).to_string()).collect::<Path>();
        let repair = |d: &act::RepairDetails| {
            let said = [
                ("plan", d.plan.is_some()),
                ("marks", d.marks.is_some()),
                ("note", d.note.is_some()),
                ("part", d.part.is_some()),
                ("torques", !d.torques.is_empty()),
            ];
            said.iter().filter(|s| s.1).map(|s| path(&["repairs", &d.id, s.0])).collect::<Vec<_>>()
        };
        let entry = |kind: EntryKind, id: &str| vec![path(&[kind.list(), id])];
        match &self.act {
            CaseAct::DescribeVehicle(d) => d.changes_parts(),
            CaseAct::ChooseLayout(_) | CaseAct::MoveToVehicle(_) => vec![path(&["vehicle"])],
            CaseAct::AnswerIntake(a) => vec![path(&["symptoms", &a.symptom, "condition", &a.question])],
            CaseAct::RemoveHint(e) => vec![path(&["hints", &e.id])],
            CaseAct::SettleFinding(e) => vec![path(&["found", &e.id])],
            CaseAct::CancelRepair(e) => vec![path(&["repairs", &e.id])],
            CaseAct::PlanRepair(d) => repair(d),
            CaseAct::SpecifyRepair(d) => {
                let said = [("way", d.way.is_some()), ("gear", d.gear.is_some()), ("boot", d.boot.is_some())];
                said.iter().filter(|s| s.1).map(|s| path(&["repairs", &d.id, s.0])).collect()
            }
            CaseAct::SetDeadline(_) => vec![path(&["due"])],
            CaseAct::FinishRepair(d) => [repair(d), vec![path(&["repairs", &d.id, "result"])]].concat(),
            CaseAct::JudgeRepair(j) => vec![path(&["repairs", &j.id, "result"])],
            CaseAct::ReopenRepair(e) => vec![path(&["repairs", &e.id, "result"])],
            CaseAct::CorrectAnswer(c) => entry(EntryKind::Answer, &c.id),
            CaseAct::CorrectSymptom(c) => entry(EntryKind::Symptom, &c.id),
            CaseAct::CorrectReading(c) => entry(EntryKind::Reading, &c.id),
            CaseAct::CorrectAttempt(c) => entry(EntryKind::Attempt, &c.id),
            CaseAct::CorrectFinding(c) => entry(EntryKind::Finding, &c.id),
            CaseAct::CorrectRun(f) => entry(EntryKind::Run, &f.id),
            CaseAct::CorrectNote(c) => entry(EntryKind::Note, &c.id),
            CaseAct::ChangeDimensions(d) => d.vehicle.changes_parts(),
            CaseAct::RemoveEntry(r) => entry(r.entry, &r.id),
            _ => vec![],
        }
    }
}

impl EditContext<'_> {
    /// Applies an edit to a case. When it is refused the case is as it was.
    ///
    /// # Errors
    /// `bad-id` at `id`: no UUID of version 7; `already` at `id`: an entry has this id; and those of the act, each with its field.
    ///
    /// ```
    /// use baricord_core::{case::Case, edit::{CaseEdit, apply}, vehicle::sample::rear_drive};
    /// let mut case = Case::new("c1", "Hum", rear_drive(1));
    /// let edit: CaseEdit = serde_json::from_value(serde_json::json!({
    ///     "id": "0192f0c1-2a3b-7c4d-8e5f-001122334455", "at_time": "2026-11-29T08:00:00Z", "by": "Maren",
    ///     "do": {"report-finding": {"what": "brake hose cracked", "at": "brake.rl"}}})).unwrap();
    /// assert_eq!(apply(&mut case, &edit).unwrap().words, "found on the way: brake hose cracked");
    /// assert_eq!(case.found[0].by, "Maren");
    /// ```
    pub fn apply(&self, case: &mut Case, edit: &CaseEdit) -> Result<Applied, Problem> {
        let (applied, next) = self.applied(case, edit)?;
        next.check()?;
        *case = next;
        Ok(applied)
    }

    /// What an edit does to a case, and the case after it, which is checked where it is put in the place of the other
    /// ([`Self::apply`], [`crate::case::document::CaseDocument::replace`]). Errors: those of the act.
    pub fn applied(&self, case: &Case, edit: &CaseEdit) -> Result<(Applied, Case), Problem> {
        if edit.id.get_version_num() != 7 {
            return Err(Problem::new("bad-id", "the id of an edit is a UUID of version 7").field("id"));
        }
        check_text(&serde_json::to_value(edit).unwrap_or_default())?;
        let mut next = case.clone();
        let applied = self.act(&mut next, edit)?;
        next.tidy();
        Ok((applied, next))
    }

    fn act(&self, case: &mut Case, e: &CaseEdit) -> Result<Applied, Problem> {
        match &e.act {
            CaseAct::DescribeVehicle(d) => complaint::describe_vehicle(case, d),
            CaseAct::ChooseLayout(l) => complaint::choose_layout(case, l),
            CaseAct::MoveToVehicle(v) => complaint::move_to_vehicle(case, v),
            CaseAct::AddSymptom(s) => complaint::add_symptom(self, case, e, s),
            CaseAct::AnswerIntake(a) => complaint::answer_intake(case, a),
            CaseAct::PickSound(p) => complaint::pick_sound(self, case, e, p),
            CaseAct::CountHistory(h) => complaint::count_history(case, h),
            CaseAct::RecordAttempt(a) => complaint::record_attempt(self, case, e, a),
            CaseAct::AddHint(h) => complaint::add_hint(self, case, e, h),
            CaseAct::RemoveHint(id) => complaint::remove_hint(case, id),
            CaseAct::AnswerTest(t) => answers::answer_test(self, case, e, t),
            CaseAct::SwingJoint(s) => answers::swing_joint(self, case, e, s),
            CaseAct::AskLater(l) => answers::ask_later(self, case, e, l),
            CaseAct::AnswerBlind(b) => answers::answer_blind(self, case, e, b),
            CaseAct::DecideBlind(b) => answers::decide_blind(self, case, e, b),
            CaseAct::Measure(m) => answers::measure(case, e, m),
            CaseAct::Attach(a) => lift::attach(case, e, a),
            CaseAct::Stand(s) => lift::stand(case, *s),
            CaseAct::SetPartsOff(p) => lift::set_parts_off(self, case, p),
            CaseAct::SetWarm(w) => lift::set_warm(self, case, e, *w),
            CaseAct::Drove(_) => lift::drove(self, case, e),
            CaseAct::Listen(l) => lift::listen(self, case, e, l),
            CaseAct::CompareSounds(c) => lift::compare_sounds(self, case, e, c),
            CaseAct::AddRecording(r) => lift::add_recording(case, e, r),
            CaseAct::ChooseRepair(c) => repairs::choose(self, case, e, c),
            CaseAct::ReplaceAsDue(c) => repairs::replace_as_due(self, case, e, c),
            CaseAct::PlanWork(w) => repairs::plan_work(self, case, e, w),
            CaseAct::PlanRepair(d) => repairs::plan(self, case, d),
            CaseAct::SpecifyRepair(d) => repair_steps::specify(self, case, d),
            CaseAct::NoteKit(n) => ready::note_kit(self, case, e, n),
            CaseAct::SetDeadline(d) => ready::set_deadline(case, d),
            CaseAct::FinishSteps(d) => repair_steps::finish(self, case, e, d),
            CaseAct::ReopenSteps(d) => repair_steps::reopen(self, case, d),
            CaseAct::FinishRepair(d) => repairs::finish(self, case, d),
            CaseAct::CancelRepair(id) => repairs::cancel(self, case, id),
            CaseAct::JudgeRepair(j) => repairs::judge(case, j),
            CaseAct::StateClearance(s) => beside::state_clearance(case, e, s),
            CaseAct::ReportFinding(f) => beside::report_finding(case, e, f),
            CaseAct::SettleFinding(id) => beside::settle_finding(case, id),
            CaseAct::AskOpinion(o) => beside::ask_opinion(case, e, o),
            CaseAct::AnswerOpinion(o) => beside::answer_opinion(case, e, o),
            CaseAct::DiscountHistory(h) => complaint::discount_history(case, h),
            CaseAct::CorrectAnswer(c) => mend::correct_answer(self, case, c),
            CaseAct::CorrectSymptom(c) => mend::correct_symptom(case, c),
            CaseAct::CorrectReading(c) => mend::correct_reading(case, c),
            CaseAct::CorrectAttempt(c) => mend::correct_attempt(self, case, c),
            CaseAct::CorrectFinding(c) => mend::correct_finding(case, c),
            CaseAct::CorrectRun(f) => mend::correct_run(case, f),
            CaseAct::ReopenRepair(id) => mend::reopen_repair(self, case, &id.id),
            CaseAct::AddNote(n) => beside::add_note(case, e, n),
            CaseAct::CorrectNote(c) => mend::correct_note(case, c),
            CaseAct::ChangeDimensions(d) => dimensions::change(case, e, d),
            CaseAct::RemoveEntry(r) => mend::remove_entry(self, case, r),
            CaseAct::TakeBack(t) => take_back::take_back(self.past, case, e, t),
        }
    }
}
