//! Order work beside the bare transforms of the same samples. Times are reported, never asserted.

use baricord_core::analysis::{Silent, known_map};
use baricord_core::case::RecordingSpec;
use baricord_core::reasoning::attribution::analyze;
use baricord_core::signal::{Channel, Samples};
use baricord_core::units::Seconds;
use baricord_core::vehicle::{Vehicle, sample};
use baricord_simulator::{RunPlan, run};
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

/// The floor: Hann 4096, hop 2048, f32, one thread.
fn bare_transforms(channels: &[Vec<f32>]) -> f32 {
    let (n, hop) = (4096, 2048);
    let fft = baricord_fft::forward(n);
    let (mut i, mut o, mut scratch) = (fft.make_input_vec(), fft.make_output_vec(), fft.make_scratch_vec());
    let hann: Vec<f32> = (0..n).map(|k| 0.5 - 0.5 * (std::f32::consts::TAU * k as f32 / n as f32).cos()).collect();
    let mut sum = 0.0;
    for part in channels.iter().flat_map(|c| c.windows(n).step_by(hop)) {
        for ((x, v), h) in i.iter_mut().zip(part).zip(&hann) {
            *x = v * h;
        }
        fft.process_with_scratch(&mut i, &mut o, &mut scratch).expect("lengths fit");
        sum += o[5].norm_sqr();
    }
    sum
}

fn measure(v: &Vehicle, (minutes, channels, rate_hz): (f64, usize, f64), sound: bool, faults: &[&str]) {
    let plan = RunPlan {
        gear: Some("5".into()),
        from_kmh: 40.0,
        to_kmh: 120.0,
        seconds: 60.0 * minutes,
        rate_hz,
        seed: 3,
        sound,
        ..RunPlan::default()
    };
    let told = faults.join(" and ");
    let faults: Vec<_> = faults.iter().map(|f| f.parse().expect("a fault")).collect();
    let (mut s, truth) = run(v, &faults, &plan).expect("a run");
    let first = s.channels.remove(0);
    // Each a little louder than the one before: what is the same twice would be reported once.
    let plain = first.data.to_vec().expect("samples");
    s.channels = (0..channels)
        .map(|i| {
            let louder: Vec<f32> = plain.iter().map(|v| v * (1.0 + 0.1 * i as f32)).collect();
            Channel { name: format!("a{i}"), data: louder.into(), ..first.clone() }
        })
        .collect();
    drop(plain);
    let data: Vec<Vec<f32>> = s.channels.iter().map(|c| c.data.to_vec().expect("samples")).collect();
    let floor = best(5, || {
        std::hint::black_box(bare_transforms(&data));
    });
    drop(data);
    let one: Vec<Samples> = s.channels.iter().map(|c| Samples { channels: vec![c.clone()], ..s.clone() }).collect();
    let map = best(3, || {
        for s in &one {
            std::hint::black_box(known_map(v, s, Seconds(truth.lag_s), truth.scale, 10.0).expect("a map"));
        }
    });
    let spec: RecordingSpec =
        serde_json::from_value(serde_json::json!({"id": "R1", "gear": "5", "throttle": "drive"})).expect("a spec");
    let runs = [(spec, s)];
    let whole = best(2, || drop(std::hint::black_box(analyze(v, &runs, &Silent).expect("an analysis"))));
    let ratio = |a: Duration| a.as_secs_f64() / floor.as_secs_f64();
    println!("{minutes} min x {channels} channels x {rate_hz} Hz, {told}, one thread: bare FFTs {floor:.1?}");
    println!("  order map, lag and scale known: {:.1} x ({map:.1?})", ratio(map));
    println!("  whole analysis with lag, scale, envelopes: {:.1} x ({whole:.1?})", ratio(whole));
}

fn main() {
    rayon::ThreadPoolBuilder::new().num_threads(1).build().expect("a pool").install(|| {
        let (van, small) = (sample::rear_drive(2), sample::front_drive());
        let shakes = ["prop-imbalance@prop.rear.s2:0.6"];
        measure(&van, (10.0, 1, 2048.0), false, &shakes);
        measure(&van, (30.0, 4, 4096.0), false, &shakes);
        // With something that rings in every channel, so that envelopes are turned too.
        measure(&small, (30.0, 4, 4096.0), true, &["wheel-bearing-worn@hub.fl:0.9"]);
    });
}
