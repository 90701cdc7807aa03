//! Levels heard at places, and sounds of two places compared blind.

use super::entry::{Entry, entry};
use serde::{Deserialize, Serialize};

/// The unit of a level.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum LevelUnit {
    /// A meter's decibels.
    #[default]
    #[serde(rename = "dB")]
    Decibel,
    /// By ear, nothing 0 to loudest 10.
    #[serde(rename = "of 10")]
    OfTen,
}

impl LevelUnit {
    /// As it is written.
    pub fn words(self) -> &'static str {
        match self {
            LevelUnit::Decibel => "dB",
            LevelUnit::OfTen => "of 10",
        }
    }

    /// By its word.
    pub fn named(word: &str) -> Option<Self> {
        [LevelUnit::Decibel, LevelUnit::OfTen].into_iter().find(|u| u.words() == word)
    }

    /// Its lowest and highest value.
    pub fn range(self) -> (f64, f64) {
        match self {
            LevelUnit::Decibel => (0.0, 140.0),
            LevelUnit::OfTen => (0.0, 10.0),
        }
    }
}

/// A level heard at a place.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Heard {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Where.
    pub at: String,
    /// How loud.
    pub level: f64,
    /// In what.
    pub unit: LevelUnit,
    /// Who listened.
    #[serde(default)]
    pub by: String,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
}
entry!(Heard, 'l');

/// Two places compared blind.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Compared {
    /// Id of the entry.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub id: String,
    /// Which was louder or rougher.
    pub louder: String,
    /// Which was not.
    pub quieter: String,
    /// Who listened.
    #[serde(default)]
    pub by: String,
    /// When, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_time: Option<String>,
}
entry!(Compared, 'c');
