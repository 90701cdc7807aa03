//! Orders without a road speed, with a pulse, with a ratio that changes; and single knocks: signals
//! built here sample by sample.

use crate::built::{RATE, built, channel, has, one, samples, spec, sweep};
use baricord_core::measure::orders::Base;
use baricord_core::signal::Quantity;
use baricord_core::vehicle::sample;
use proptest::prelude::*;
use serde_json::json;
use std::f64::consts::TAU;

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
        let ladder = baricord_core::measure::orders::orders(&v, None).unwrap();
        let Some(shaft) = ladder.iter().find(|l| l.what == baricord_core::measure::orders::What::Prop && l.base == Base::Wheel) else { return Ok(()) };
        let o = shaft.order.get();
        let c = v.circumference().unwrap().get();
        let speed = move |t: f64| ((from + (to - from) * t / 70.0 + 2.0 * (t * 0.3 + f64::from(seed)).sin()) / 3.6 / c, 0.0);
        let (x, _) = built(70.0, &speed, &[(1.0, 0.15), (o, 0.3), (2.0 * o, 0.12)], &[], 0.2);
        let r = one(&v, spec(json!({"gear": null})), samples(vec![channel("az", Quantity::Acceleration, x)]));
        prop_assert!(has(&r, Base::Wheel, o, 0.015 * o), "{} {:?} {:?}", o, r.warnings, r.orders.iter().map(|o| o.order).collect::<Vec<_>>());
    }
}
