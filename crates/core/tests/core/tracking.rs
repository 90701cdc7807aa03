//! Order work on signals built here, sample by sample, from what they are meant to hold: none of the
//! simulator's physics.

use crate::built::Noise;
use baricord_core::analysis::{Analysis, Silent, track};
use baricord_core::case::{Case, RecordingSpec};
use baricord_core::measure::orders::Base;
use baricord_core::proof::verify::{Verdict, Verification, verify};
use baricord_core::reasoning::attribution::{analyze, read_tracked};
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::{Vehicle, sample};
use proptest::prelude::*;
use serde_json::json;
use std::f64::consts::TAU;

/// A tone: wheel order, and its amplitude as a function of speed (km/h).
type Tone = (f64, Box<dyn Fn(f64) -> f64>);

fn steady(order: f64, a: f64) -> Tone {
    (order, Box::new(move |_| a))
}

struct Run {
    seconds: f64,
    rate: f64,
    speed: Box<dyn Fn(f64) -> f64>,
    lag: f64,
    scale: f64,
    noise: f64,
    seed: u64,
    every: f64,
    rounding: f64,
}

impl Default for Run {
    fn default() -> Self {
        Self {
            seconds: 75.0,
            rate: 400.0,
            speed: Box::new(|t| 45.0 + 75.0 * (t / 75.0) + 3.0 * (t * 0.35).sin()),
            lag: 0.6,
            scale: 1.008,
            noise: 0.12,
            seed: 9,
            every: 1.0,
            rounding: 0.1,
        }
    }
}

fn build(v: &Vehicle, run: &Run, tones: &[Tone]) -> Samples {
    let circumference = v.circumference().unwrap().get();
    let mut noise = Noise(run.seed);
    let n = (run.seconds * run.rate) as usize;
    let mut turns = 0.0;
    let mut data = Vec::with_capacity(n);
    for i in 0..n {
        let kmh = (run.speed)(i as f64 / run.rate);
        turns += run.scale * kmh / 3.6 / circumference / run.rate;
        let sum: f64 = tones.iter().enumerate().map(|(k, (o, a))| a(kmh) * (TAU * o * turns + k as f64).cos()).sum();
        data.push((sum + run.noise * noise.next()) as f32);
    }
    let speed = (0..(run.seconds / run.every) as usize)
        .map(|i| {
            let t = 0.2 + i as f64 * run.every;
            (t, ((run.speed)(t - run.lag) / run.rounding).round() * run.rounding / 3.6)
        })
        .collect();
    Samples {
        rate: Hz(run.rate),
        start: Seconds(0.0),
        channels: vec![Channel { name: "az".into(), quantity: Quantity::Acceleration, unit: "m/s2".into(), data: data.into() }],
        speed,
        ..Samples::default()
    }
}

/// Changes the samples of the first channel.
fn change(s: &mut Samples, how: impl FnOnce(&mut Vec<f32>)) {
    let mut data = s.channels[0].data.to_vec().unwrap();
    how(&mut data);
    s.channels[0].data = data.into();
}

fn spec(id: &str, more: serde_json::Value) -> RecordingSpec {
    let mut s = json!({"id": id, "gear": "5", "throttle": "drive", "place": "seat-rail", "phase": "before"});
    for (k, x) in more.as_object().unwrap() {
        s[k] = x.clone();
    }
    serde_json::from_value(s).unwrap()
}

fn one(v: &Vehicle, s: Samples) -> Analysis {
    analyze(v, &[(spec("R1", json!({})), s)], &Silent).unwrap()
}

fn codes(a: &Analysis) -> Vec<&str> {
    a.recordings[0].warnings.iter().map(|w| w.code.as_str()).collect()
}

#[test]
fn orders_levels_lag_and_scale_come_back() {
    let v = sample::rear_drive(2);
    let run = Run::default();
    let a = one(&v, build(&v, &run, &[steady(1.0, 0.05), steady(4.1, 0.4), steady(6.888, 0.08)]));
    let r = &a.recordings[0];
    let f = r.reference.as_ref().unwrap();
    assert!((f.scale - run.scale).abs() < 0.003, "{f:?}");
    assert!((f.lag_s.unwrap() - run.lag).abs() < 0.25, "{f:?}");
    let o = &r.orders[0];
    assert!((o.order - 4.1).abs() < 0.012 && o.order_sigma < 0.03, "{o:?}");
    let (level, sigma) = o.level();
    assert!((level - 0.4).abs() < 0.05 && sigma < 0.03, "{level} {sigma}");
    assert!(r.orders.iter().any(|o| (o.order - 1.0).abs() < 0.01));
    assert!(o.sources.iter().any(|s| s.fault == "prop-imbalance" && s.at == "prop.rear.s2"));
}

#[test]
fn of_a_recording_over_hours_parts_are_kept_and_tell_the_same() {
    let v = sample::rear_drive(2);
    let tones = [steady(1.0, 0.05), steady(4.1, 0.4), steady(6.888, 0.08)];
    let swing = |t: f64| 70.0 + 25.0 * (t * 0.13).sin();
    let run = |hours: f64, rate| Run { seconds: 3600.0 * hours, rate, speed: Box::new(swing), every: 2.0, ..Run::default() };
    let (short, long) = (one(&v, build(&v, &run(0.1, 200.0), &tones)), one(&v, build(&v, &run(5.0, 200.0), &tones)));
    assert!(!codes(&short).contains(&"looked-in-parts"));
    assert!(codes(&long).contains(&"looked-in-parts"), "{:?}", codes(&long));
    for (a, order) in [(&short, 1.0), (&short, 4.1), (&short, 6.888), (&long, 1.0), (&long, 4.1), (&long, 6.888)] {
        let found = a.recordings[0].orders.iter().find(|o| (o.order - order).abs() < 0.012);
        let (level, _) = found.unwrap_or_else(|| panic!("{order}: {:?}", a.recordings[0].orders)).level();
        let told = tones.iter().find(|t| t.0 == order).unwrap().1(0.0);
        assert!((level / told - 1.0).abs() < 0.2, "{order}: {level} for {told}");
    }
}

#[test]
fn growth_and_peak_follow_the_tone() {
    let v = sample::rear_drive(1);
    let square: Tone = (4.1, Box::new(|kmh: f64| 0.4 * (kmh / 100.0).powi(2)));
    let a = one(&v, build(&v, &Run::default(), &[square]));
    let o = &a.recordings[0].orders[0];
    assert!((o.growth.unwrap() - 2.0).abs() < 0.35, "{:?}", o.growth);
    assert!(o.peak_speed_kmh > 110.0);
    let bump: Tone = (4.1, Box::new(|kmh: f64| 0.5 * (-((kmh - 82.0) / 8.0).powi(2)).exp()));
    let a = one(&v, build(&v, &Run::default(), &[bump]));
    assert!((a.recordings[0].orders[0].peak_speed_kmh - 82.5).abs() < 5.1);
}

#[test]
fn a_wheel_third_and_a_shaft_beside_it_are_told_apart() {
    let mut v = sample::rear_drive(1);
    v.axles[0].pinion_teeth = Some(13);
    v.axles[0].ring_teeth = Some(40);
    let a = one(
        &v,
        build(&v, &Run { seconds: 110.0, ..Run::default() }, &[steady(1.0, 0.1), steady(3.0, 0.15), steady(3.0769, 0.3)]),
    );
    let found: Vec<f64> = a.recordings[0].orders.iter().map(|o| o.order).collect();
    assert!(found.iter().any(|o| (o - 3.0769).abs() < 0.02), "{found:?}");
}

#[test]
fn two_orders_at_one_frequency_name_a_resonance() {
    let v = sample::rear_drive(2);
    let c = v.circumference().unwrap().get();
    let ring = move |order: f64| -> Tone {
        (
            order,
            Box::new(move |kmh: f64| {
                let f = order * kmh / 3.6 / c;
                0.04 + 0.5 * (-((f - 60.0) / 5.0).powi(2)).exp()
            }),
        )
    };
    let a = one(&v, build(&v, &Run { scale: 1.0, ..Run::default() }, &[ring(4.1), ring(6.888)]));
    let r = &a.recordings[0].resonances;
    assert!(r.iter().any(|r| (r.hz - 60.0).abs() < 4.0), "{r:?}");
}

#[test]
fn noise_alone_holds_no_order() {
    let v = sample::rear_drive(2);
    for seed in 1..5 {
        let a = one(&v, build(&v, &Run { seed, ..Run::default() }, &[]));
        assert!(a.recordings[0].orders.len() <= 1, "{:?}", a.recordings[0].orders);
    }
}

#[test]
fn without_a_reference_nothing_is_claimed() {
    let v = sample::rear_drive(2);
    let good = || build(&v, &Run::default(), &[steady(4.1, 0.4)]);
    let nothing = || build(&v, &Run::default(), &[]);
    let a = one(&v, Samples { speed: vec![], ..nothing() });
    assert!(a.recordings[0].refused && codes(&a).contains(&"no-reference"));
    let zeros: Vec<_> = good().speed.iter().map(|r| (r.0, 0.0)).collect();
    let a = one(&v, Samples { speed: zeros.clone(), ..nothing() });
    assert!(a.recordings[0].refused);
    // One ridge alone is followed, but which order it is nobody can tell: its error says so.
    let a = one(&v, Samples { speed: zeros, ..good() });
    assert_eq!(a.recordings[0].reference.as_ref().unwrap().source, "ridge");
    assert!(codes(&a).contains(&"scale-uncertain"), "{:?}", codes(&a));
    let o = &a.recordings[0].orders[0];
    assert!((o.order - 4.1).abs() < 2.0 * o.order_sigma && o.order_sigma > 0.1, "{} ± {}", o.order, o.order_sigma);
    // Engine speed in a known gear is as good.
    let epw = v.engine_per_wheel(Some("5"), None).unwrap().unwrap().get();
    let c = v.circumference().unwrap().get();
    let rpm = good().speed.iter().map(|r| (r.0, Run::default().scale * r.1 / c * epw)).collect();
    let a = one(&v, Samples { speed: vec![], rpm, ..good() });
    assert_eq!(a.recordings[0].reference.as_ref().unwrap().source, "rpm");
    assert!((a.recordings[0].orders[0].order - 4.1).abs() < 0.02);
}

#[test]
fn dead_and_saturated_channels_and_a_constant_speed_are_told() {
    let v = sample::rear_drive(2);
    let mut s = build(&v, &Run::default(), &[steady(4.1, 0.4)]);
    change(&mut s, |d| d.iter_mut().for_each(|x| *x = x.clamp(-0.3, 0.3)));
    assert!(codes(&one(&v, s)).contains(&"saturated"));
    let mut s = build(&v, &Run::default(), &[steady(4.1, 0.4)]);
    change(&mut s, |d| d.fill(0.5));
    assert!(codes(&one(&v, s)).contains(&"dead-channel"));
    let a = one(&v, build(&v, &Run { speed: Box::new(|_| 90.0), ..Run::default() }, &[steady(4.1, 0.4)]));
    assert!(a.recordings[0].reference.as_ref().unwrap().lag_s.is_none());
    assert!(a.recordings[0].reference.as_ref().unwrap().delay_words().is_some() && !codes(&a).contains(&"lag-unknown"));
}

#[test]
fn a_gap_is_left_out_and_the_line_still_found() {
    let v = sample::rear_drive(2);
    let mut s = build(&v, &Run::default(), &[steady(4.1, 0.3)]);
    change(&mut s, |d| d[8000..11000].fill(0.0));
    s.gaps.push(8000..11000);
    let o = &one(&v, s).recordings[0].orders[0];
    assert!((o.order - 4.1).abs() < 0.02);
}

#[test]
fn an_unknown_gear_is_told_and_the_work_goes_on() {
    let v = sample::rear_drive(2);
    let s = build(&v, &Run::default(), &[steady(4.1, 0.4)]);
    let a = analyze(&v, &[(spec("R1", json!({"gear": "9"})), s)], &Silent).unwrap();
    assert!(codes(&a).contains(&"unknown-gear"));
    assert!((a.recordings[0].orders[0].order - 4.1).abs() < 0.02);
}

#[test]
fn the_map_has_ink_where_the_tone_is() {
    let v = sample::rear_drive(2);
    let runs = [(spec("R1", json!({})), build(&v, &Run::default(), &[steady(4.1, 0.4)]))];
    let tracked = track(&v, &runs, &Silent).unwrap();
    let t = tracked[0].as_ref().ok().unwrap();
    let map = t.map(0, 9.0);
    assert_eq!(map.ink.len(), map.rows * map.columns);
    let mean = |order: f64| {
        let row = (order / map.order_step) as usize;
        map.ink[row * map.columns..(row + 1) * map.columns].iter().map(|i| f64::from(*i)).sum::<f64>() / map.columns as f64
    };
    assert!(mean(4.1) > 1.5 * mean(5.3), "{} {}", mean(4.1), mean(5.3));
}

#[test]
fn a_cancelled_analysis_says_so() {
    struct Stop;
    impl baricord_core::analysis::Progress for Stop {
        fn step(&self, _: f64, _: &str) -> bool {
            false
        }
    }
    let v = sample::rear_drive(2);
    let runs = [(spec("R1", json!({})), build(&v, &Run { seconds: 20.0, ..Run::default() }, &[]))];
    assert_eq!(analyze(&v, &runs, &Stop).unwrap_err().code, "cancelled");
}

fn prove(before: &[Tone], after: &[Tone], run: Run, more: serde_json::Value) -> Verification {
    let v = sample::rear_drive(2);
    let mut doc = Case::new_document("t", "t", json!(v));
    doc["symptoms"] = json!([{"id": "S1", "kind": "vibration"}]);
    let mut change = json!({"phase": "after"});
    for (k, x) in more.as_object().unwrap() {
        change[k] = x.clone();
    }
    let runs = [
        (spec("R1", json!({})), build(&v, &Run { seed: 3, ..Run::default() }, before)),
        (spec("R2", change), build(&v, &Run { seed: 4, ..run }, after)),
    ];
    let case = Case::from_json(&doc).unwrap();
    let tracked = track(&v, &runs, &Silent).unwrap();
    let found = read_tracked(&v, &tracked, &Silent).unwrap();
    verify(&case, &tracked, &found)
}

#[test]
fn verdicts_follow_the_change() {
    let at = |a: f64| [steady(1.0, 0.05), steady(4.1, a)];
    for (after, want) in [(0.02, Verdict::Cured), (0.4, Verdict::Improved), (0.98, Verdict::Unchanged), (2.2, Verdict::Worse)] {
        let p = prove(&at(1.0), &at(after), Run::default(), json!({}));
        let s = &p.symptoms[0];
        assert_eq!(
            s.verdict,
            want,
            "{after}: {:?}",
            s.orders.iter().map(|o| (o.order, o.change_db, o.interval_db, o.verdict)).collect::<Vec<_>>()
        );
        assert!(s.comparable && s.reasons.is_empty());
        let o = s.orders.iter().find(|o| (o.order - 4.1).abs() < 0.02).unwrap();
        let [lo, hi] = o.interval_db.unwrap();
        let truth = 20.0 * after.log10();
        if after > 0.1 {
            assert!(lo < truth && truth < hi, "{truth} outside {lo} to {hi}");
        }
    }
}

#[test]
fn a_new_order_that_is_felt_makes_it_worse() {
    let p = prove(&[steady(4.1, 1.0)], &[steady(4.1, 0.1), steady(1.0, 0.5)], Run::default(), json!({}));
    let s = &p.symptoms[0];
    assert_eq!(s.verdict, Verdict::Worse);
    assert!(s.new_orders.iter().any(|o| (o.order - 1.0).abs() < 0.02));
}

#[test]
fn runs_that_differ_are_not_compared_and_it_is_said_why() {
    let tones = || [steady(4.1, 1.0)];
    for (more, reason) in [
        (json!({"gear": "4"}), "gear"),
        (json!({"throttle": "coast"}), "throttle"),
        (json!({"range": "low"}), "range"),
        (json!({"place": "floor"}), "place"),
    ] {
        let p = prove(&tones(), &tones(), Run::default(), more);
        assert_eq!(p.symptoms[0].verdict, Verdict::NotComparable);
        assert!(p.symptoms[0].reasons.contains(&reason.to_string()), "{reason}: {:?}", p.symptoms[0].reasons);
    }
    let slow = Run { speed: Box::new(|t| 30.0 + 0.3 * t), ..Run::default() };
    let p = prove(&[(4.1, Box::new(|kmh: f64| kmh / 100.0))], &tones(), slow, json!({}));
    assert!(p.symptoms[0].reasons.contains(&"speed-range".to_string()), "{:?}", p.symptoms[0].reasons);
}

#[test]
fn without_a_run_after_there_is_no_verdict() {
    let p = prove(&[steady(4.1, 1.0)], &[steady(4.1, 1.0)], Run::default(), json!({"phase": "before"}));
    assert_eq!((p.symptoms[0].verdict, p.symptoms[0].reasons.clone()), (Verdict::NotComparable, vec!["no-after".to_string()]));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// A tone built at a shaft's order comes back at it, for any layout with a shaft and any drive.
    #[test]
    fn a_known_order_comes_back(layout in 0usize..5, lag in 0.2..1.2f64, scale in 0.985..1.015f64, slope in 0.6..1.1f64, wobble in 0.5..4.0f64, seed in 1u64..1000) {
        let v = [sample::rear_drive(1), sample::rear_drive(2), sample::rear_drive(3), sample::rear_drive_independent(), sample::four_wheel_drive()][layout].clone();
        let i = v.final_ratio(v.props[0].end).unwrap();
        let run = Run { lag, scale, seed, speed: Box::new(move |t| 40.0 + slope * t + wobble * (0.3 * t).sin()), ..Run::default() };
        let a = one(&v, build(&v, &run, &[steady(1.0, 0.08), steady(i, 0.35)]));
        let o = &a.recordings[0].orders;
        prop_assert!(o.iter().take(2).any(|o| o.base == Base::Wheel && (o.order - i).abs() < 0.008 * i), "{i} not in {:?}", o.iter().map(|o| o.order).collect::<Vec<_>>());
    }
}
