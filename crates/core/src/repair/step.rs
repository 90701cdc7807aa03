//! A step of a repair plan: what it is, where, how the vehicle stands, what it undoes.

use serde::{Deserialize, Serialize};

/// What a step is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// How parts stood to each other, scratched or painted.
    Mark,
    /// A measurement, before it is opened or the same again after.
    Read,
    /// A picture.
    Photo,
    /// A unit or a shaft is carried.
    Support,
    /// What holds the vehicle, or a spring.
    Secure,
    /// Leads, hoses, linkages.
    Disconnect,
    /// Bolts, nuts, clips out.
    Unfasten,
    /// Oil out, its fill plug first.
    Drain,
    /// Two faces drawn apart.
    Part,
    /// Off the vehicle.
    Remove,
    /// Looked at while it is open.
    Inspect,
    /// Cleaned.
    Clean,
    /// Pressed out.
    PressOut,
    /// Pressed in.
    PressIn,
    /// The new part beside the old one.
    CheckPart,
    /// Put in its place.
    Fit,
    /// Whether it sits.
    SeatCheck,
    /// Every thread begun by hand.
    StartByHand,
    /// Tightened by value or angle.
    Torque,
    /// Pin, tab, stake, clamp.
    Lock,
    /// Sealant.
    Seal,
    /// Greased.
    Grease,
    /// Oil in.
    Fill,
    /// Oil to its level.
    Level,
    /// Soak, cure, settle, cool.
    Wait,
    /// Put back as it was.
    Restore,
    /// Run while it stands.
    StandRun,
    /// Both ways at walking speed.
    Creep,
    /// A short loop near by.
    ShortDrive,
    /// The look after the short drive.
    LookAgain,
    /// The proof run.
    Proof,
    /// Due after some distance.
    FollowUp,
    /// In the knowledge only: started by hand, then torque.
    Fasten,
}

/// How the vehicle stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum On {
    /// On its wheels.
    #[default]
    Ground,
    /// Up.
    Lift,
}

/// What is asked of the vehicle for a step.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct StepState {
    /// Ground or lift.
    pub on: On,
    /// The wheels at the step's place: stand, hang, off.
    pub wheels: &'static str,
    /// neutral, gear, park.
    pub gearbox: String,
    /// on, off.
    pub brake: String,
    /// Whether a second person is needed.
    pub helper: bool,
    /// Whether the engine or motor runs.
    pub running: bool,
}

/// What holds something at a step.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Fastener {
    /// What a mechanic calls it.
    pub what: String,
    /// How many.
    pub count: u32,
    /// Width across flats, mm; none where it is not usual: it is asked once.
    pub drive_mm: Option<f64>,
    /// Whether it is used once only.
    pub renew: bool,
    /// Torque from the case's figures; none where nobody looked it up.
    pub torque_nm: Option<f64>,
}

/// A consumable.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Consumable {
    /// What.
    pub what: String,
    /// How much.
    pub amount: f64,
    /// l, kg.
    pub unit: String,
}

/// A time that passes with no hands.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Wait {
    /// Minutes until what follows may begin.
    pub minutes: f64,
    /// soak, cure, settle, cool.
    pub kind: String,
}

/// A step of a plan.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Step {
    /// Made of what is done and where: the same in every plan that holds it.
    pub id: String,
    /// What it is.
    pub role: Role,
    /// Its place.
    pub at: String,
    /// In words.
    pub what: String,
    /// Hands-on minutes: low, likely, high.
    pub minutes: [f64; 3],
    /// Ids of the steps that must be done before.
    pub needs: Vec<String>,
    /// Ids of the repairs that it serves.
    #[serde(rename = "for")]
    pub serves: Vec<String>,
    /// What is asked of the vehicle.
    pub state: StepState,
    /// What is undone or done up.
    pub fasteners: Vec<Fastener>,
    /// Ids of the cautions that stand at it.
    pub caution: Vec<String>,
    /// What is measured.
    pub reads: Vec<String>,
    /// Openings that it leaves.
    pub opens: Vec<String>,
    /// Tools beside sockets.
    pub tools: Vec<String>,
    /// Tools that not everybody has.
    pub special_tools: Vec<String>,
    /// What is used up.
    pub consumables: Vec<Consumable>,
    /// What is bought for the repair.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub new_parts: Vec<String>,
    /// What is used once only, beside fasteners.
    pub single_use: Vec<String>,
    /// The time that passes after it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub wait: Option<Wait>,
    /// Whether it is done beside the vehicle.
    pub bench: bool,
    /// Whether the job can rest overnight after it.
    pub can_rest: bool,
    /// What it puts back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub restores: Option<String>,
}

impl Step {
    /// Whether it is the look at parts, tools and figures before the first bolt.
    pub fn is_ready_check(&self) -> bool {
        self.id.strip_prefix(super::drive_steps::READY).is_some_and(|rest| rest.starts_with('@'))
    }
}
