//! What a case file says of a recording: how it was driven, how its file is written, what its columns hold.

use super::entry::{Entry, entry};
use serde::{Deserialize, Serialize};

/// A column of a recording.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Column {
    /// Its heading.
    pub column: String,
    /// Unit of its samples: `m/s2`, `fs`, `1/min` …
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
}

/// A channel of a recording.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ChannelSpec {
    /// Its heading, or only its name in a WAV file.
    pub column: String,
    /// acceleration, sound, velocity or pulse.
    pub quantity: String,
    /// Unit of its samples: `m/s2`, `fs`, `1/min` …
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// What a pulse counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub per: Option<String>,
}

/// The speed or rpm of a recording: a column of its own file or of another.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct ReferenceSpec {
    /// Another file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Its heading.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<String>,
    /// Unit of its readings: `km/h`, `1/min` …
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// The time column of the other file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<Column>,
}

/// What is known of a recording, its samples apart.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct RecordingSpec {
    /// Its id in the case.
    pub id: String,
    /// Of one symptom; of all when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub symptom: Option<String>,
    /// before or after the repair.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phase: Option<String>,
    /// Where its samples are.
    #[serde(default)]
    pub file: String,
    /// In which gear; `varies`; or unknown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<String>,
    /// drive, coast, float, neutral, varies.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throttle: Option<String>,
    /// In which range.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range: Option<String>,
    /// Where the sensor was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// What recorded it, where that is known: [`SIMULATED_RECORDER`] stands in for a real one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recorder: Option<String>,
    /// The axles that were driven; left out: all that are not engaged by hand.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub engaged: Vec<String>,
    /// When it came in, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
    /// What the simulator put into it, where it made it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub simulated: Option<Simulated>,
    /// How its table is written, where that was said and is not to be guessed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub csv: Option<CsvWriting>,
    /// The time column; none in a WAV file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<Column>,
    /// Channels of the file, in its order.
    #[serde(default)]
    pub channels: Vec<ChannelSpec>,
    /// The road speed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed: Option<ReferenceSpec>,
    /// The engine speed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rpm: Option<ReferenceSpec>,
}

/// What the simulator put into a recording: faults as they were asked for, and what an analysis should find.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Simulated {
    /// As `fault@place:severity`.
    #[serde(default)]
    pub faults: Vec<String>,
    /// Of the random source.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
    /// True wheel frequency over the described one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scale: Option<f64>,
    /// How late the speed comes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_s: Option<f64>,
}

entry!(RecordingSpec, 'R');

/// How a table is written.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct CsvWriting {
    /// Between cells: `,`, `;` or a tab.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub separator: Option<char>,
    /// In numbers: `.` or `,`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decimal: Option<char>,
}

/// The recorder of a run that no vehicle has driven.
pub const SIMULATED_RECORDER: &str = "stand-in";

impl RecordingSpec {
    /// A table of one acceleration and the road speed, taken at the seat rail.
    pub fn of_acceleration() -> Self {
        let text = |t: &str| Some(t.to_string());
        let channel = ChannelSpec { column: "az".into(), quantity: "acceleration".into(), unit: text("m/s2"), per: None };
        Self {
            place: text("seat-rail"),
            time: Some(Column { column: "t".into(), unit: text("s") }),
            channels: vec![channel],
            speed: Some(ReferenceSpec { column: text("speed"), unit: text("km/h"), ..ReferenceSpec::default() }),
            ..Self::default()
        }
    }
    /// Whether the simulated recorder made it.
    pub fn is_simulated(&self) -> bool {
        self.recorder.as_deref() == Some(SIMULATED_RECORDER)
    }
    /// The run as it is named in a sentence: no simulated one passes for a real one.
    pub fn words(&self) -> String {
        if self.is_simulated() { format!("simulated run {}", self.id) } else { format!("run {}", self.id) }
    }
    /// Whether it was made after the repair.
    pub fn is_after(&self) -> bool {
        self.phase.as_deref() == Some("after")
    }
    /// The gear, when it is one and known.
    pub fn fixed_gear(&self) -> Option<&str> {
        self.gear.as_deref().filter(|g| *g != "varies")
    }
}
