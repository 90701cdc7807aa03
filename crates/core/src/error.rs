//! What is wrong with an input, said so that the reader can do something about it.

use serde::{Deserialize, Serialize};

/// An input that cannot be used: which field or line, and what to do.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, thiserror::Error)]
#[error("{message}")]
pub struct Problem {
    /// A short stable word for programs.
    pub code: String,
    /// Path of the field, as `vehicle.tyre.size`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// Line of the file, counted from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u64>,
    /// The sentence for people.
    pub message: String,
}

impl Problem {
    /// A problem of the whole input.
    pub fn new(code: &str, message: impl Into<String>) -> Self {
        Self { code: code.into(), field: None, line: None, message: message.into() }
    }

    /// Names the field.
    #[must_use]
    pub fn field(mut self, field: impl Into<String>) -> Self {
        self.field = Some(field.into());
        self
    }

    /// Names the line.
    #[must_use]
    pub fn line(mut self, line: u64) -> Self {
        self.line = Some(line);
        self
    }

    /// Puts a path in front of the field, for a value read inside a larger one.
    #[must_use]
    pub fn under(mut self, path: &str) -> Self {
        self.field = Some(match self.field.take() {
            Some(f) if f.starts_with('[') => format!("{path}{f}"),
            Some(f) => format!("{path}.{f}"),
            None => path.to_string(),
        });
        self
    }

    /// The error object of every outside face.
    pub fn to_json(&self) -> serde_json::Value {
        serde_json::json!({ "error": self })
    }
}

/// Reads a typed value out of JSON and names the field when it does not fit.
///
/// ```
/// # use baricord_core::error::read_json;
/// let bad = serde_json::json!({"deg": "north", "mm": 1.0});
/// #[derive(serde::Deserialize, Debug)] struct Reading { deg: f64, mm: f64 }
/// let p = read_json::<Reading>(&bad).unwrap_err();
/// assert_eq!(p.field.as_deref(), Some("deg"));
/// ```
pub fn read_json<T: serde::de::DeserializeOwned>(value: &serde_json::Value) -> Result<T, Problem> {
    // Keeping the path costs more than the reading: it is kept where something is wrong.
    T::deserialize(value).or_else(|_| serde_path_to_error::deserialize(value)).map_err(|e| {
        let path = e.path().to_string();
        let p = Problem::new("bad-value", e.inner().to_string());
        if path == "." { p } else { p.field(path) }
    })
}

/// A number that must be finite and above zero.
pub(crate) fn positive(x: f64, field: &str) -> Result<f64, Problem> {
    if x.is_finite() && x > 0.0 {
        Ok(x)
    } else {
        Err(Problem::new("out-of-range", format!("{field} must be a number above zero, got {x}")).field(field))
    }
}

/// A finite number.
pub(crate) fn finite(x: f64, field: &str) -> Result<f64, Problem> {
    if x.is_finite() { Ok(x) } else { Err(Problem::new("out-of-range", format!("{field} must be a finite number")).field(field)) }
}

/// How weighty a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    /// Worth knowing.
    Info,
    /// Near or beyond good practice.
    Warn,
    /// A limit is broken.
    Over,
}

/// Something that a calculation noticed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Finding {
    /// A short stable word for programs.
    pub code: String,
    /// How weighty.
    pub level: Level,
    /// The sentence for people.
    pub message: String,
    /// Where, when it has a place of its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

impl Finding {
    /// A finding of the whole.
    pub fn new(code: &str, level: Level, message: impl Into<String>) -> Self {
        Self { code: code.into(), level, message: message.into(), at: None }
    }

    /// A finding at a place.
    #[must_use]
    pub fn at(mut self, at: impl Into<String>) -> Self {
        self.at = Some(at.into());
        self
    }
}

/// A warning of an answer: nothing is silently repaired.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Warning {
    /// A short stable word for programs.
    pub code: String,
    /// Second of the recording.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_s: Option<f64>,
    /// Line of the file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u64>,
    /// Place or entry that it concerns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The sentence for people.
    pub message: String,
}

impl Warning {
    /// A warning of the whole.
    pub fn new(code: &str, message: impl Into<String>) -> Self {
        Self { code: code.into(), at_s: None, line: None, at: None, message: message.into() }
    }
    /// Names the second.
    #[must_use]
    pub fn second(mut self, s: f64) -> Self {
        self.at_s = Some(s);
        self
    }
    /// Names the line.
    #[must_use]
    pub fn line(mut self, line: u64) -> Self {
        self.line = Some(line);
        self
    }
    /// Names the place.
    #[must_use]
    pub fn at(mut self, at: impl Into<String>) -> Self {
        self.at = Some(at.into());
        self
    }
}
