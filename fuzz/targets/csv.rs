#![no_main]
//! A recording's table, read to its end.
use baricord_formats::read_recording;

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let spec = serde_json::from_value(serde_json::json!({"id": "R1", "file": "r.csv", "time": {"column": "t", "unit": "s"},
        "channels": [{"column": "az", "quantity": "acceleration"}], "speed": {"column": "speed", "unit": "km/h"}}))
    .expect("a spec");
    let _ = read_recording(&spec, &|_| Ok(Some(data.to_vec().into())));
});
