#![no_main]
//! A track beside a plain recording.
use baricord_formats::read_recording;
use std::fmt::Write;

libfuzzer_sys::fuzz_target!(|data: &[u8]| {
    let mut table = String::from("t,az\n");
    for i in 0..32 {
        let _ = writeln!(table, "{:.2},{}", f64::from(i) / 100.0, i % 5);
    }
    let spec = serde_json::from_value(serde_json::json!({"id": "R1", "file": "r.csv", "time": {"column": "t", "unit": "s"},
        "channels": [{"column": "az", "quantity": "acceleration"}], "speed": {"file": "s.gpx"}}))
    .expect("a spec");
    let track = [b"<".as_slice(), data].concat();
    let _ = read_recording(&spec, &|n| Ok(Some(if n == "s.gpx" { track.clone() } else { table.clone().into_bytes() }.into())));
});
