#![no_main]
//! The look at a file that has just come in, and its columns described.
use baricord_core::case::CsvWriting;
use baricord_formats::{Look, described, look};

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    if let Ok(Look::Table(t)) = look(data, &CsvWriting::default()) {
        let _ = described(&t, &t.columns);
    }
});
