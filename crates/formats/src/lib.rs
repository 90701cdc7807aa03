//! Case files and recordings, in and out.
//!
//! [`CaseSource`] opens a folder, a zip of it or a lone `case.json`; [`read_recording`] turns a
//! recording's file into uniform samples and says everything that it had to do to them;
//! [`write_zip`] writes a case back, byte for byte what came in; [`answers`] are what is said of a whole case.

pub mod answers;
mod case_file;
mod clock;
mod csv_guard;
mod csv_in;
mod gpx;
mod mapping;
mod numbers;
mod recording;
mod source;
mod spool;
mod wav;
mod zip_bounds;

pub use case_file::{CaseSource, MAX_DOCUMENT_BYTES, MAX_FILE_BYTES, document_text, stream_zip, write_case, write_zip};
pub use csv_in::CsvShape;
pub use mapping::{ColumnRole, Look, Role, TableLook, described, look, speed_described};
pub use recording::{read_all, read_recording, write_csv};
pub use source::{FileSource, Watch};
pub use spool::DataBuilder;
pub use wav::{WavProbe, write_wav};
