//! Orders without a road speed, with a pulse, with a ratio that changes; and single knocks: signals
//! built here sample by sample.

use baricord_core::analysis::{Analysis, RecordingAnalysis, Silent, analyze};
use baricord_core::case::RecordingSpec;
use baricord_core::orders::Base;
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::{Vehicle, sample};
use proptest::prelude::*;
use serde_json::json;
use std::f64::consts::TAU;

const RATE: f64 = 400.0;

struct Noise(u64);
impl Noise {
    fn next(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let part = |s: u32| ((self.0 >> s) & 0x1f_ffff) as f64 / f64::from(0x20_0000) - 0.5;
        2.0 * (part(1) + part(22) + part(43))
    }
}

/// What turns at a moment: wheel turns a second, and engine turns a second.
type Turning<'a> = &'a dyn Fn(f64) -> (f64, f64);

/// Samples of tones (order, amplitude) of the wheel and of the engine, with the turns of the wheel.
fn built(seconds: f64, turning: Turning<'_>, wheel: &[(f64, f64)], engine: &[(f64, f64)], noise: f64) -> (Vec<f32>, Vec<f64>) {
    let (mut n, mut w, mut e) = (Noise(11), 0.0, 0.0);
    let (mut x, mut turns) = (vec![], vec![]);
    for i in 0..(seconds * RATE) as usize {
        let (fw, fe) = turning(i as f64 / RATE);
        w += fw / RATE;
        e += fe / RATE;
        let sum: f64 =
            wheel.iter().map(|(o, a)| a * (TAU * o * w).cos()).chain(engine.iter().map(|(o, a)| a * (TAU * o * e).sin())).sum();
        x.push((sum + noise * n.next()) as f32);
        turns.push(w);
    }
    (x, turns)
}

fn channel(name: &str, quantity: Quantity, data: Vec<f32>) -> Channel {
    let unit = if quantity == Quantity::Pulse { "" } else { "m/s2" };
    Channel { name: name.into(), quantity, unit: unit.into(), data: data.into() }
}

fn samples(channels: Vec<Channel>) -> Samples {
    Samples { rate: Hz(RATE), start: Seconds(0.0), channels, ..Samples::default() }
}

fn spec(more: serde_json::Value) -> RecordingSpec {
    let mut s = json!({"id": "R1", "gear": "5", "throttle": "drive", "channels": [{"column": "az", "quantity": "acceleration"}]});
    for (k, x) in more.as_object().unwrap() {
        s[k] = x.clone();
    }
    serde_json::from_value(s).unwrap()
}

fn one(v: &Vehicle, spec: RecordingSpec, s: Samples) -> RecordingAnalysis {
    let a: Analysis = analyze(v, &[(spec, s)], &Silent).unwrap();
    a.recordings.into_iter().next().unwrap()
}

fn has(r: &RecordingAnalysis, base: Base, order: f64, off: f64) -> bool {
    r.orders.iter().any(|o| o.base == base && (o.order - order).abs() < off)
}

fn sweep(t: f64) -> f64 {
    // Wheel turns a second: 45 to 120 km/h on a tyre of 2.08 m, with a driver's wobble.
    (45.0 + 75.0 * t / 80.0 + 2.5 * (t * 0.4).sin()) / 3.6 / 2.08
}

#[test]
fn a_pulse_on_wheel_or_shaft_turns_time_into_angle_and_tells_the_tyre() {
    let v = sample::rear_drive(2);
    for (per, ratio) in [("wheel", 1.0), ("prop.rear", 4.1)] {
        let (x, turns) = built(80.0, &|t| (sweep(t), 0.0), &[(4.1, 0.3), (1.0, 0.06)], &[], 0.15);
        // High for the first fifth of each turn; one edge is lost, as a dirty sensor loses one.
        let pulse: Vec<f32> = turns
            .iter()
            .map(|w| {
                let at = w * ratio;
                if at.fract() < 0.2 && at.floor() != 300.0 { 5.0 } else { 0.1 }
            })
            .collect();
        let mut s = samples(vec![channel("az", Quantity::Acceleration, x), channel("tacho", Quantity::Pulse, pulse)]);
        // A speed that is read too low by 1.2 per cent beside it.
        let c = v.circumference().unwrap().get();
        s.speed = (0..80).map(|t| (f64::from(t), sweep(f64::from(t)) * c / 1.012)).collect();
        let r = one(
            &v,
            spec(
                json!({"channels": [{"column": "az", "quantity": "acceleration"}, {"column": "tacho", "quantity": "pulse", "per": per}]}),
            ),
            s,
        );
        let f = r.reference.as_ref().unwrap();
        assert_eq!(f.source, "pulse");
        assert!((f.scale - 1.012).abs() < 0.004, "{per}: {f:?}");
        assert!(has(&r, Base::Wheel, 4.1, 0.01) && has(&r, Base::Wheel, 1.0, 0.01), "{per}: {:?}", r.orders);
        assert!(r.orders[0].order_sigma < 0.01);
        assert!(r.warnings.iter().any(|w| w.code == "pulses-missed"), "{:?}", r.warnings);
    }
}

#[test]
fn a_pulse_that_counts_nothing_of_this_vehicle_is_told_and_the_speed_is_used() {
    let v = sample::front_drive();
    let (x, turns) = built(80.0, &|t| (sweep(t), 0.0), &[(3.0, 0.3)], &[], 0.15);
    let pulse = turns.iter().map(|w| if w.fract() < 0.2 { 5.0 } else { 0.0 }).collect();
    let mut s = samples(vec![channel("az", Quantity::Acceleration, x), channel("tacho", Quantity::Pulse, pulse)]);
    let c = v.circumference().unwrap().get();
    s.speed = (0..80).map(|t| (f64::from(t), sweep(f64::from(t)) * c)).collect();
    let channels =
        json!([{"column": "az", "quantity": "acceleration"}, {"column": "tacho", "quantity": "pulse", "per": "prop.rear"}]);
    let r = one(&v, spec(json!({ "channels": channels })), s);
    assert_eq!(r.reference.as_ref().unwrap().source, "speed");
    assert!(r.warnings.iter().any(|w| w.code == "unknown-pulse"));
    assert!(has(&r, Base::Wheel, 3.0, 0.03));
}

#[test]
fn without_any_speed_the_clearest_ridge_is_followed_and_named() {
    let v = sample::rear_drive(2);
    let tones = [(1.0, 0.12), (4.1, 0.35), (8.2, 0.1)];
    let (x, _) = built(80.0, &|t| (sweep(t), 0.0), &tones, &[], 0.2);
    let r = one(&v, spec(json!({})), samples(vec![channel("az", Quantity::Acceleration, x)]));
    assert_eq!(r.reference.as_ref().map(|f| f.source.as_str()), Some("ridge"), "{:?}", r.warnings);
    for (o, _) in tones {
        assert!(
            has(&r, Base::Wheel, o, 0.012 * o + 0.01),
            "{o} among {:?}",
            r.orders.iter().map(|o| o.order).collect::<Vec<_>>()
        );
    }
    assert!(r.warnings.iter().any(|w| w.code == "ridge-reference"));
    let off = r.orders.iter().find(|o| (o.order - 4.1).abs() < 0.1).unwrap();
    assert!(off.order_sigma > 0.02, "a ridge does not tell the tyre's size");
}

#[test]
fn noise_and_a_steady_hum_are_no_ridge() {
    let v = sample::rear_drive(2);
    let refused = |x: Vec<f32>| {
        let r = one(&v, spec(json!({})), samples(vec![channel("az", Quantity::Acceleration, x)]));
        assert!(r.refused && r.orders.is_empty(), "{:?}", r.reference);
        assert!(r.warnings.iter().any(|w| w.code == "no-reference"), "{:?}", r.warnings);
    };
    refused(built(60.0, &|_| (0.0, 0.0), &[], &[], 0.3).0);
    refused(built(60.0, &|_| (10.0, 0.0), &[(5.0, 0.4)], &[], 0.2).0);
}

#[test]
fn while_the_ratio_changes_each_line_is_told_in_the_turns_in_which_it_is_sharp() {
    let v = sample::rear_drive(2);
    // A variable ratio: the engine is held near one speed while the road speed climbs.
    let turning = |t: f64| (sweep(t), 26.0 + 9.0 * t / 80.0 + 2.0 * (t * 0.23).sin());
    let (x, _) = built(80.0, &turning, &[(1.0, 0.1), (4.1, 0.25)], &[(0.5, 0.2), (2.0, 0.3)], 0.2);
    let mut s = samples(vec![channel("az", Quantity::Acceleration, x)]);
    let c = v.circumference().unwrap().get();
    s.speed = (0..80).map(|t| (f64::from(t), sweep(f64::from(t) - 0.5) * c)).collect();
    s.rpm = (0..160).map(|i| (0.5 * f64::from(i), turning(0.5 * f64::from(i) - 0.3).1)).collect();
    let r = one(&v, spec(json!({"gear": "varies"})), s);
    for (base, order) in [(Base::Wheel, 1.0), (Base::Wheel, 4.1), (Base::Engine, 0.5), (Base::Engine, 2.0)] {
        assert!(
            has(&r, base, order, 0.04),
            "{base:?} {order} among {:?}",
            r.orders.iter().map(|o| (o.base, o.order)).collect::<Vec<_>>()
        );
    }
    let strongest: Vec<_> = r.orders.iter().take(4).map(|o| (o.base, (o.order * 10.0).round() / 10.0)).collect();
    assert!(
        strongest.iter().all(|(b, o)| match b {
            Base::Wheel => [1.0, 4.1].contains(o),
            Base::Engine => [0.5, 2.0].contains(o),
        }),
        "{strongest:?}"
    );
    let firing = r.orders.iter().find(|o| o.base == Base::Engine && (o.order - 2.0).abs() < 0.04).unwrap();
    assert!((firing.amplitude_ms2.unwrap() - 0.3).abs() < 0.06, "{firing:?}");
    assert!(firing.sources.iter().any(|s| s.at == "engine"));
}

#[test]
fn a_knock_at_a_load_change_is_an_event_with_its_second() {
    let v = sample::rear_drive(2);
    let (mut x, _) = built(80.0, &|t| (sweep(t), 0.0), &[(4.1, 0.2)], &[], 0.1);
    for at in [22.0, 51.5] {
        for k in 0..24 {
            x[(at * RATE) as usize + k] += (4.0 * (-(k as f64) / 6.0).exp() * (TAU * 70.0 * k as f64 / RATE).sin()) as f32;
        }
    }
    let mut s = samples(vec![channel("az", Quantity::Acceleration, x)]);
    let c = v.circumference().unwrap().get();
    s.speed = (0..80).map(|t| (f64::from(t), sweep(f64::from(t)) * c)).collect();
    let r = one(&v, spec(json!({})), s);
    let at: Vec<f64> = r.events.iter().map(|e| e.at_s).collect();
    assert_eq!(at.len(), 2, "{:?}", r.events);
    assert!((at[0] - 22.0).abs() < 0.1 && (at[1] - 51.5).abs() < 0.1 && r.events[0].strength > 10.0);
}

#[test]
fn a_sound_of_one_microphone_written_twice_is_told_once() {
    let v = sample::rear_drive(2);
    let (x, _) = built(80.0, &|t| (sweep(t), 0.0), &[(4.1, 0.2)], &[], 0.1);
    let mut other = x.clone();
    other[20_000] += 0.01;
    let mut s = samples(vec![
        channel("left", Quantity::Acceleration, x.clone()),
        channel("right", Quantity::Acceleration, x),
        channel("rear", Quantity::Acceleration, other),
    ]);
    let c = v.circumference().unwrap().get();
    s.speed = (0..80).map(|t| (f64::from(t), sweep(f64::from(t)) * c)).collect();
    let r = one(&v, spec(json!({})), s);
    let told: Vec<_> = r.warnings.iter().filter(|w| w.code == "duplicate-channel").collect();
    assert!(told.len() == 1 && told[0].message.contains("left and right"), "{:?}", r.warnings);
    let heard = |name: &str| r.orders.iter().any(|o| o.channel == name);
    assert!(heard("left") && heard("rear") && !heard("right"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]
    #[test]
    fn a_ridge_is_taken_for_the_order_that_it_is(i in 0usize..10, from in 35.0..60.0f64, to in 95.0..125.0f64, seed in 0u32..1000) {
        let v = sample::every_layout().remove(i);
        let ladder = baricord_core::orders::orders(&v, None).unwrap();
        let Some(shaft) = ladder.iter().find(|l| l.what == baricord_core::orders::What::Prop && l.base == Base::Wheel) else { return Ok(()) };
        let o = shaft.order.get();
        let c = v.circumference().unwrap().get();
        let speed = move |t: f64| ((from + (to - from) * t / 70.0 + 2.0 * (t * 0.3 + f64::from(seed)).sin()) / 3.6 / c, 0.0);
        let (x, _) = built(70.0, &speed, &[(1.0, 0.15), (o, 0.3), (2.0 * o, 0.12)], &[], 0.2);
        let r = one(&v, spec(json!({"gear": null})), samples(vec![channel("az", Quantity::Acceleration, x)]));
        prop_assert!(has(&r, Base::Wheel, o, 0.015 * o), "{} {:?} {:?}", o, r.warnings, r.orders.iter().map(|o| o.order).collect::<Vec<_>>());
    }
}
