//! Ratios of things run side by side in one process; absolute times are told, never asserted.
//!
//! Order map of 10 min × 1 channel × 2048 Hz against the bare transforms of the same samples (Hann
//! 4096, hop 2048, f32, one thread); the page of a case against a trivial page with one query.

#[path = "../tests/support/mod.rs"]
mod support;

use baricord_core::analysis::{Silent, analyze, known_map};
use baricord_core::case::RecordingSpec;
use baricord_core::units::Seconds;
use baricord_core::vehicle::sample::rear_drive;
use baricord_simulator::{RunPlan, run};
use std::time::{Duration, Instant};
use support::Ground;

/// The fastest of a few: what the machine can do when nothing disturbs it.
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

fn bare_transforms(data: &[f32]) -> f32 {
    let (n, hop) = (4096, 2048);
    let fft = realfft::RealFftPlanner::<f32>::new().plan_fft_forward(n);
    let (mut i, mut o, mut scratch) = (fft.make_input_vec(), fft.make_output_vec(), fft.make_scratch_vec());
    let hann: Vec<f32> = (0..n).map(|k| 0.5 - 0.5 * (std::f32::consts::TAU * k as f32 / n as f32).cos()).collect();
    let mut sum = 0.0;
    for part in data.windows(n).step_by(hop) {
        for ((x, v), h) in i.iter_mut().zip(part).zip(&hann) {
            *x = v * h;
        }
        fft.process_with_scratch(&mut i, &mut o, &mut scratch).expect("lengths fit");
        sum += o[5].norm_sqr();
    }
    sum
}

fn main() {
    let v = rear_drive(2);
    let plan = RunPlan {
        gear: Some("5".into()),
        from_kmh: 40.0,
        to_kmh: 120.0,
        seconds: 600.0,
        rate_hz: 2048.0,
        seed: 3,
        ..RunPlan::default()
    };
    let (s, truth) = run(&v, &["prop-imbalance@prop.rear.s2:0.6".parse().expect("a fault")], &plan).expect("a run");
    let data = s.channels[0].data.to_vec().expect("samples");
    let one = |f: &mut (dyn FnMut() + Send)| {
        rayon::ThreadPoolBuilder::new().num_threads(1).build().expect("a pool").install(f);
    };
    let (mut floor, mut map, mut whole) = (Duration::MAX, Duration::MAX, Duration::MAX);
    one(&mut || {
        floor = best(7, || {
            std::hint::black_box(bare_transforms(&data));
        })
    });
    one(&mut || {
        map = best(5, || drop(std::hint::black_box(known_map(&v, &s, Seconds(truth.lag_s), truth.scale, 10.0).expect("a map"))));
    });
    let spec: RecordingSpec =
        serde_json::from_value(serde_json::json!({"id": "R1", "gear": "5", "throttle": "drive"})).expect("a spec");
    let runs = [(spec, s)];
    one(&mut || whole = best(1, || drop(std::hint::black_box(analyze(&v, &runs, &Silent).expect("an analysis")))));
    let ratio = |a: Duration, b: Duration| a.as_secs_f64() / b.as_secs_f64();
    println!(
        "order map, 10 min x 1 channel x 2048 Hz, one thread: {:.1} x its bare FFTs ({map:.1?} against {floor:.1?})",
        ratio(map, floor)
    );
    println!("whole analysis with lag, scale, envelopes, one thread: {:.1} x its bare FFTs ({whole:.1?})", ratio(whole, floor));
    if std::env::var("BARICORD_TEST_DATABASE").is_err() {
        println!("pages: no database here; run ./scripts/bench");
        return;
    }
    tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime").block_on(pages());
}

async fn pages() {
    let g = Ground::new().await;
    let id = g.full_case().await;
    let c = g.client(Some("a@harrowmere.example")).await;
    let time = async |path: &str| {
        let mut least = Duration::MAX;
        for _ in 0..40 {
            let t = Instant::now();
            let r = g.get(&c, path).await;
            assert!(r.status().is_success(), "{path}: {}", r.status());
            r.bytes().await.expect("a body");
            least = least.min(t.elapsed());
        }
        least
    };
    let trivial = time("/readyz").await;
    println!("trivial page with one query: {trivial:.1?}");
    for page in ["/", "/cases/{id}/complaint", "/cases/{id}/road", "/cases/{id}/decide", "/cases/{id}/prove"] {
        let t = time(&page.replace("{id}", &id.to_string())).await;
        println!("{page}: {:.1} x the trivial page ({t:.1?})", t.as_secs_f64() / trivial.as_secs_f64());
    }
}
