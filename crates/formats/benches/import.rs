//! A recording read in beside the csv crate reading and parsing every cell of the same file.

use baricord_core::case::RecordingSpec;
use baricord_formats::{FileSource, read_recording};
use std::fmt::Write;
use std::time::{Duration, Instant};

fn best(times: usize, mut f: impl FnMut()) -> Duration {
    (0..times)
        .map(|_| {
            let t = Instant::now();
            f();
            t.elapsed()
        })
        .min()
        .unwrap_or_default()
}

fn main() {
    let rows = 1_000_000;
    let mut text = String::from("t,ax,ay,az,speed\n");
    for i in 0..rows {
        let x = f64::from(i) * 0.07;
        let speed = if i % 400 == 0 { format!("{:.1}", 40.0 + f64::from(i) / 20_000.0) } else { String::new() };
        let _ = writeln!(text, "{:.4},{:.4},{:.4},{:.4},{speed}", f64::from(i) / 2048.0, x.sin(), x.cos(), (2.0 * x).sin());
    }
    let dir = std::env::temp_dir().join("baricord-import-bench.csv");
    std::fs::write(&dir, &text).expect("a file");
    let floor = best(3, || {
        let mut r = csv::ReaderBuilder::new().from_path(&dir).expect("a file");
        let (mut record, mut sum) = (csv::ByteRecord::new(), 0.0);
        while r.read_byte_record(&mut record).expect("a row") {
            for cell in &record {
                sum += std::str::from_utf8(cell).ok().and_then(|c| c.parse::<f64>().ok()).unwrap_or(0.0);
            }
        }
        std::hint::black_box(sum);
    });
    let spec: RecordingSpec =
        serde_json::from_value(serde_json::json!({"id": "R1", "file": "r.csv", "time": {"column": "t", "unit": "s"},
        "channels": [{"column": "ax", "quantity": "acceleration"}, {"column": "ay", "quantity": "acceleration"},
                     {"column": "az", "quantity": "acceleration"}], "speed": {"column": "speed", "unit": "km/h"}}))
        .expect("a spec");
    let own = best(3, || {
        let s = read_recording(&spec, &|_| Ok(Some(FileSource::from(dir.clone()))));
        assert!(!s.refused && s.len() > 900_000, "{:?}", s.warnings);
        std::hint::black_box(s);
    });
    let _ = std::fs::remove_file(&dir);
    println!("{rows} rows x 5 columns, {:.0} MB", text.len() as f64 / 1e6);
    println!("  csv crate, every cell parsed: {floor:.1?}");
    println!("  recording read in: {:.2} x ({own:.1?})", own.as_secs_f64() / floor.as_secs_f64());
}
