#![no_main]
//! A case: a document or a zip, diagnosed where it reads.
use baricord_formats::{CaseSource, answers};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(source) = CaseSource::from_source(&data.to_vec().into()) {
        let _ = answers::diagnose(&source);
    }
});
