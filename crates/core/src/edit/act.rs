//! What can happen to a case: every act of the trade, with what it says.

pub use super::entry_kind::{EntryKind, RemovedEntry};
pub use super::repair_act::{Deadline, NewKitNote, RepairDetails, RepairSpecification, RepairSteps};
use super::vehicle::VehicleDescription;
use crate::case::clearance::Clearance;
use crate::case::fault_at::FaultAt;
use crate::case::{BalancePulls, Question, RecordingSpec, SpeedRange, TestCondition};
use crate::lift::sound_localisation::Level;
use crate::measure::instrument::Reading;
use crate::repair::purchasing::ChosenRepair;
use crate::vehicle::Vehicle;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Everything that can happen to a case.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CaseAct {
    /// The vehicle, the title or the distance are described; what is left out stays.
    DescribeVehicle(Box<VehicleDescription>),
    /// The vehicle was chosen wrongly: it is of another layout. Its name, its tyres and its limits stay.
    ChooseLayout(ChosenLayout),
    /// The case is of another vehicle, which is described so.
    MoveToVehicle(Box<Vehicle>),
    /// A symptom is told.
    AddSymptom(Box<NewSymptom>),
    /// One of the intake's questions is answered; an answer given again takes the place of the one before.
    AnswerIntake(IntakeAnswer),
    /// The driver picks the sound that is most like it.
    PickSound(PickedSound),
    /// A change in the vehicle's history matters for this case.
    CountHistory(HistoryTag),
    /// Somebody tried something before.
    RecordAttempt(NewAttempt),
    /// Somebody says from outside what it may be.
    AddHint(NewHint),
    /// Such a hint counts no more.
    RemoveHint(EntryId),
    /// A test was made.
    AnswerTest(Box<TestResult>),
    /// A joint was swung with a spring balance.
    SwingJoint(SwungJoint),
    /// A test cannot be answered now: it is asked again at the end.
    AskLater(LaterTest),
    /// One of two people answers without knowing of the other.
    AnswerBlind(BlindResult),
    /// Two have felt it otherwise: one of them stands, or both feel again.
    DecideBlind(BlindDecision),
    /// A picture or a spoken note is kept; its file comes with it.
    Attach(NewAttachment),
    /// It stands on its wheels or is up.
    Stand(Standing),
    /// What is off now, of what can come off.
    SetPartsOff(PartsOff),
    /// Warm from the road, or cooled.
    SetWarm(Warmth),
    /// It is back from a drive.
    Drove(Nothing),
    /// Levels were heard at places.
    Listen(Levels),
    /// Of two sounds one was louder, their places not known to who listened.
    CompareSounds(ComparedSounds),
    /// An instrument was read.
    Measure(Box<MeasuredReading>),
    /// A recording comes in; its file and samples come with it.
    AddRecording(Box<RecordingSpec>),
    /// A cause is chosen: its repair is planned.
    ChooseRepair(Box<ChosenRepair>),
    /// A part is changed because it is due, which names no cause.
    ReplaceAsDue(Box<ChosenRepair>),
    /// Work is planned that needs no search: a part is changed because it is due, refitted, greased, its oil changed.
    PlanWork(Box<PlannedWork>),
    /// What will be done in a repair is written down.
    PlanRepair(Box<RepairDetails>),
    /// How a repair is done: the way in, which gear, which boot.
    SpecifyRepair(RepairSpecification),
    /// Something of the kit is awaited, borrowed, or simply here.
    NoteKit(NewKitNote),
    /// When the vehicle must be handed back.
    SetDeadline(Deadline),
    /// Steps of the repair plan are done.
    FinishSteps(RepairSteps),
    /// Steps that were ticked are not done after all.
    ReopenSteps(RepairSteps),
    /// A repair is done and waits for its proof.
    FinishRepair(Box<RepairDetails>),
    /// A repair will not be made.
    CancelRepair(EntryId),
    /// The verdict on a repair.
    JudgeRepair(Judgement),
    /// Whether the vehicle may be driven.
    StateClearance(StatedClearance),
    /// Something found on the way.
    ReportFinding(NewFinding),
    /// It has been put right.
    SettleFinding(EntryId),
    /// Somebody outside is asked; the link is made with it.
    AskOpinion(AskedOpinion),
    /// The answer comes in by its link.
    AnswerOpinion(OpinionAnswer),
    /// A history tag does not count for this case any more.
    DiscountHistory(HistoryTag),
    /// What a test came out with is corrected.
    CorrectAnswer(Box<Corrected<TestResult>>),
    /// A symptom is told otherwise; what the intake asked of it stays.
    CorrectSymptom(Box<Corrected<NewSymptom>>),
    /// An instrument was read otherwise.
    CorrectReading(Box<Corrected<MeasuredReading>>),
    /// What somebody tried before is told otherwise.
    CorrectAttempt(Box<Corrected<NewAttempt>>),
    /// What was found on the way is told otherwise.
    CorrectFinding(Corrected<NewFinding>),
    /// How a run was driven is told otherwise.
    CorrectRun(Box<RunFacts>),
    /// The verdict on a repair is taken back.
    ReopenRepair(EntryId),
    /// Something worth remembering, of no weight.
    AddNote(NewNote),
    /// A note is worded otherwise.
    CorrectNote(Corrected<NewNote>),
    /// A length, an angle, a tyre or a ratio is another from now on.
    ChangeDimensions(Box<NewDimensions>),
    /// Something that stands in the case is taken out by itself.
    RemoveEntry(RemovedEntry),
    /// Something that was done is taken back.
    TakeBack(TakenBack),
}

/// What stands in the case, and what it should have been.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Corrected<T> {
    /// Id of the entry.
    pub id: String,
    /// All of it as it is now.
    pub now: T,
}

/// How a run was driven: what is left out is not known.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct RunFacts {
    /// Id of the run.
    pub id: String,
    /// For which symptom.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// In which gear, or `varies`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// drive, coast, float, neutral or varies.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub throttle: Option<String>,
    /// In which range of the transfer box.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub range: Option<String>,
    /// Where the sensor was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// before or after a repair.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub phase: Option<String>,
}

/// Something worth remembering.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewNote {
    /// In words.
    pub text: String,
    /// Where, if at a place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// Sizes that are others from now on.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct NewDimensions {
    /// The new ones: sections, tyres, ratios or teeth of axles; nothing else.
    pub vehicle: VehicleDescription,
    /// Shafts whose angles are others: height, mount or wedge was changed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub angles: Vec<String>,
    /// The repair by which they were changed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repair: Option<String>,
}

/// A layout.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChosenLayout {
    /// Its public name: `rwd-solid`.
    pub layout: String,
}

/// Which entry.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct EntryId {
    /// Its id.
    pub id: String,
}

/// Nothing more is said.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Nothing {}

/// A symptom as it is told.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct NewSymptom {
    /// What it is: a kind of symptom.
    pub kind: String,
    /// Where it is felt.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub felt: Vec<String>,
    /// Where it is heard from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub heard_from: Option<String>,
    /// At which speeds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub speed_kmh: Option<SpeedRange>,
    /// The driver's words.
    pub words: String,
    /// Since when, in the driver's words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// It comes and goes.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub intermittent: bool,
    /// When it comes: ids of what the intake asks first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub when: Vec<String>,
    /// Work that was done before: history tags.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub history: Vec<String>,
    /// Asked, and no other work was done.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_other_work: bool,
}

/// An answer of the intake.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct IntakeAnswer {
    /// Of which symptom.
    pub symptom: String,
    /// The question's id.
    pub question: String,
    /// The answer's id.
    pub answer: String,
}

/// The sound that a driver picks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PickedSound {
    /// Of which symptom.
    pub symptom: String,
    /// The fault that sounds so.
    pub fault: String,
}

/// A change in the vehicle's history.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HistoryTag {
    /// A history tag.
    pub tag: String,
}

/// What somebody tried.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct NewAttempt {
    /// In words.
    pub what: String,
    /// The fault it was meant to cure, with its place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cause: Option<FaultAt>,
    /// The unit that was changed whole.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// What it changed: nothing, better, gone or other.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub changed: Option<String>,
    /// What came of it, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub result: Option<String>,
    /// How far it is trusted: seen, bill or told; told when left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trust: Option<String>,
    /// Who tried it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}

/// What somebody says from outside.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewHint {
    /// What it may be.
    pub cause: FaultAt,
    /// Who says so.
    pub source: String,
    /// told or seen.
    pub trust: String,
}

/// What a test came out with.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct TestResult {
    /// Of one symptom; of all when left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// Id of the test.
    pub test: String,
    /// Where.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// Its outcome, as `outcome@place` where the test names a place; or `not-possible`.
    pub outcome: String,
    /// What else is true at once.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// A note.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// driver or mechanic, the default.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// before, the default, or after a repair.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub phase: Option<String>,
    /// The repair that it follows.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repair: Option<String>,
    /// How it was made.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub condition: Option<TestCondition>,
    /// What had been seen to before wheels turned.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub seen_to: Vec<String>,
}

/// A joint swung with a spring balance.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SwungJoint {
    /// Of one symptom; of all when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// Which joint.
    pub at: String,
    /// What the balance pulled.
    pub pulls: BalancePulls,
}

/// A test that is asked again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LaterTest {
    /// Id of the test.
    pub test: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// In which gear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// Why it is put off: too-cold, too-hot, too-wet, not-level, part-awaited; then it is owed until it is made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// One of two blind answers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BlindResult {
    /// To what.
    pub question: Question,
    /// What was felt.
    pub outcome: String,
    /// A note.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// What had been seen to before wheels turned.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub seen_to: Vec<String>,
}

/// Which of two blind answers stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BlindDecision {
    /// On what.
    pub question: Question,
    /// Whose answer stands; none: it is felt again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stands: Option<String>,
}

/// A picture or a spoken note.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewAttachment {
    /// Where it stands in the case: `pinned/…`.
    pub file: String,
    /// Whether it is a picture; else it is heard.
    pub picture: bool,
    /// At which test it was taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub test: Option<String>,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// How it stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum On {
    /// On its wheels.
    Ground,
    /// Up.
    Lift,
}

/// On the ground or on the lift.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Standing {
    /// Which.
    pub on: On,
}

/// What is off.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartsOff {
    /// Places; what is not named is on.
    pub off: Vec<String>,
}

/// Whether it is warm from the road.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Warmth {
    /// Whether.
    pub warm: bool,
}

/// Levels at places, of one speed and load.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Levels {
    /// One for each place.
    pub levels: Vec<Level>,
    /// What had been seen to before wheels turned.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub seen_to: Vec<String>,
}

/// Two sounds that were compared, by their files.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ComparedSounds {
    /// The louder or rougher.
    pub louder: String,
    /// The other.
    pub quieter: String,
}

/// What an instrument read.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MeasuredReading {
    /// At which measuring point.
    pub at: String,
    /// What was read.
    pub reading: Reading,
}

/// Work without a search.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct PlannedWork {
    /// replace, refit, grease or oil.
    pub task: String,
    /// Where; none for a part that is no place of the vehicle.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The part in words, where it is no place of the vehicle.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub what: Option<String>,
    /// Where else, in the same go.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub places: Vec<String>,
    /// original, rebuilt, copy, used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// Why.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

/// A verdict.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Judgement {
    /// Id of the repair.
    pub id: String,
    /// cured, improved or not-cured.
    pub result: String,
}

/// A statement on driving.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StatedClearance {
    /// Whether.
    pub drive: Clearance,
    /// Why.
    pub reason: String,
    /// How far at the most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub km: Option<f64>,
    /// How fast at the most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kmh: Option<f64>,
    /// What had been proposed when it was said.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<FaultAt>,
    /// How many observations were seen by who said it.
    #[serde(default)]
    pub observations: usize,
}

/// Something found on the way.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewFinding {
    /// What.
    pub what: String,
    /// Where.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// A question to somebody outside.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AskedOpinion {
    /// What is asked.
    pub question: String,
}

/// The answer of somebody outside.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OpinionAnswer {
    /// What was asked.
    pub question: String,
    /// The answer.
    pub answer: String,
}

/// What is taken back.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TakenBack {
    /// Id of the edit.
    pub event: Uuid,
    /// It was asked whether what another person did is taken back.
    #[serde(default)]
    pub of_another: bool,
}
