#![no_main]
//! A sound, with the beginning that makes it one.
use baricord_formats::read_recording;

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let spec = serde_json::from_value(serde_json::json!({"id": "R1", "file": "r.wav", "time": null,
        "channels": [{"column": "mic", "quantity": "sound", "unit": "fs"}]}))
    .expect("a spec");
    let bytes = [b"RIFF", data].concat();
    let _ = read_recording(&spec, &|_| Ok(Some(bytes.clone().into())));
});
