//! The road test: which runs to drive, what the coach says while they are driven, the recorder that reads them.

pub mod coach;
pub mod recorder;
pub mod run_plan;
