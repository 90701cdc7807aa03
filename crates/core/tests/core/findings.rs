//! What stands beside the orders: beats, lines of one gear alone, a converter that slips, phase against a pulse.

use crate::built::{RATE, built, channel, has, one, samples, spec, sweep};
use baricord_core::analysis::{RecordingAnalysis, Silent};
use baricord_core::reasoning::attribution::analyze;
use baricord_core::signal::{Quantity, Samples};
use baricord_core::vehicle::{GearboxKind, Vehicle, sample};
use proptest::prelude::*;
use serde_json::json;
use std::f64::consts::TAU;

fn with_speed(v: &Vehicle, x: Vec<f32>, wheel_hz: &dyn Fn(f64) -> f64) -> Samples {
    let seconds = x.len() as f64 / RATE;
    let c = v.circumference().unwrap().get();
    let mut s = samples(vec![channel("az", Quantity::Acceleration, x)]);
    s.speed = (0..seconds as usize).map(|t| (t as f64, wheel_hz((t as f64 - 0.5).max(0.0)) * c)).collect();
    s
}

fn of(v: &Vehicle, wheel: &[(f64, f64)], noise: f64) -> RecordingAnalysis {
    let (x, _) = built(110.0, &|t| (sweep(t.min(80.0)), 0.0), wheel, &[], noise);
    one(v, spec(json!({})), with_speed(v, x, &|t| sweep(t.min(80.0))))
}

#[test]
fn two_nearly_equal_orders_beat_and_one_alone_does_not() {
    let v = sample::rear_drive(2);
    for gap in [0.011, 0.03, 0.08] {
        let r = of(&v, &[(4.1, 0.3), (4.1 + gap, 0.2), (1.0, 0.1)], 0.15);
        let b = r
            .beats
            .first()
            .unwrap_or_else(|| panic!("{gap}: no beat among {:?}", r.orders.iter().map(|o| o.order).collect::<Vec<_>>()));
        assert!((b.gap - gap).abs() < 0.0015 && (b.order - 4.1).abs() < gap + 0.02, "{gap}: {b:?}");
        // Equal to two thirds: 2·3·2/(9 + 4) of the power.
        assert!((b.depth - 0.92).abs() < 0.15, "{gap}: {b:?}");
        let turns_a_second = sweep(80.0) * r.orders[0].peak_speed_kmh / 120.0;
        assert!((b.period_s * gap * turns_a_second - 1.0).abs() < 0.2, "{b:?}");
        assert_eq!(r.beats.len(), 1, "{:?}", r.beats);
    }
    assert!(of(&v, &[(4.1, 0.3), (1.0, 0.1), (8.2, 0.1)], 0.15).beats.is_empty());
    assert!(of(&v, &[(1.0, 0.02)], 0.3).beats.is_empty());
}

#[test]
fn a_speed_that_swings_makes_no_beat() {
    let v = sample::rear_drive(2);
    let swings = |t: f64| (80.0 + 9.0 * (TAU * t / 9.0).sin()) / 3.6 / 2.08;
    // A level that follows the speed rises and falls with it.
    let (mut x, _) = built(120.0, &|t| (swings(t), 0.0), &[(4.1, 0.3)], &[], 0.1);
    x.iter_mut().enumerate().for_each(|(i, v)| *v *= (swings(i as f64 / RATE) / 10.7).powi(4) as f32);
    let r = one(&v, spec(json!({})), with_speed(&v, x, &swings));
    assert!(r.orders.iter().any(|o| (o.order - 4.1).abs() < 0.05) && r.beats.is_empty(), "{:?}", r.beats);
}

fn in_two_gears(v: &Vehicle, fifth: &[(f64, f64)], fourth: &[(f64, f64)]) -> Vec<RecordingAnalysis> {
    let runs: Vec<_> = [("5", fifth), ("4", fourth)]
        .iter()
        .map(|(gear, tones)| {
            let (x, _) = built(80.0, &|t| (sweep(t), 0.0), tones, &[], 0.15);
            (spec(json!({"id": format!("R{gear}"), "gear": gear})), with_speed(v, x, &sweep))
        })
        .collect();
    analyze(v, &runs, &Silent).unwrap().recordings
}

#[test]
fn what_one_gear_alone_has_is_marked_and_what_both_have_is_not() {
    let v = sample::rear_drive(2);
    let r = in_two_gears(&v, &[(1.0, 0.2), (7.3, 0.25)], &[(1.0, 0.2)]);
    let marked: Vec<_> =
        r[0].orders.iter().filter(|o| o.only_in_gear.is_some()).map(|o| (o.order * 10.0).round() / 10.0).collect();
    assert_eq!(marked, [7.3], "{:?}", r[0].orders.iter().map(|o| (o.order, o.only_in_gear.clone())).collect::<Vec<_>>());
    assert_eq!(r[0].orders.iter().find(|o| (o.order - 7.3).abs() < 0.05).unwrap().only_in_gear.as_deref(), Some("5"));
    assert!(r[1].orders.iter().all(|o| o.only_in_gear.is_none()));
    // An engine order stands at another wheel order in another gear: there, but not where it was.
    let (a, b) = (r[0].engine_per_wheel.unwrap(), r[1].engine_per_wheel.unwrap());
    let r = in_two_gears(&v, &[(1.0, 0.2), (2.0 * a, 0.25)], &[(1.0, 0.2), (2.0 * b, 0.25)]);
    assert!(r.iter().all(|r| r.orders.iter().all(|o| o.only_in_gear.is_none())));
}

#[test]
fn a_converter_that_slips_is_told_by_the_engine_orders_that_agree() {
    let v = sample::rear_drive_independent();
    assert_eq!(v.gearbox.kind, GearboxKind::Automatic);
    let gear = v.gearbox.gears[4].name.clone();
    let engine = v.engine_per_wheel(Some(&gear), None).unwrap().unwrap().get();
    let slipping = |slip: f64| {
        let tones = [(1.0, 0.2), (engine * (1.0 + slip), 0.2), (3.0 * engine * (1.0 + slip), 0.25)];
        let (x, _) = built(80.0, &|t| (sweep(t), 0.0), &tones, &[], 0.12);
        one(&v, spec(json!({"gear": gear})), with_speed(&v, x, &sweep))
    };
    let r = slipping(0.034);
    let s = r.slip.expect("a slip");
    assert!((s.percent - 3.4).abs() < 0.4 && s.orders.len() == 2, "{s:?}");
    assert!(slipping(0.0).slip.is_none());
    // A wheel's order and one that nothing explains do not agree on anything.
    let (x, _) = built(80.0, &|t| (sweep(t), 0.0), &[(1.0, 0.2), (5.37, 0.3)], &[], 0.12);
    assert!(one(&v, spec(json!({"gear": gear})), with_speed(&v, x, &sweep)).slip.is_none());
}

#[test]
fn a_ratio_that_changes_without_an_engine_speed_is_told() {
    let v = sample::rear_drive(2);
    let (x, _) = built(80.0, &|t| (sweep(t), 0.0), &[(4.1, 0.3)], &[], 0.15);
    let r = one(&v, spec(json!({"gear": "varies"})), with_speed(&v, x, &sweep));
    assert!(r.warnings.iter().any(|w| w.code == "no-rpm") && has(&r, baricord_core::measure::orders::Base::Wheel, 4.1, 0.05));
}

/// A drive of a few stretches, each with its own pull, between walking pace and fast.
fn drive(pulls: &[f64]) -> impl Fn(f64) -> f64 {
    let pulls = pulls.to_vec();
    move |t: f64| {
        let each = 80.0 / pulls.len() as f64;
        let kmh = (0..pulls.len()).fold(55.0, |v: f64, i| {
            let share = ((t - i as f64 * each) / each).clamp(0.0, 1.0);
            (v + pulls[i] * share * share * (3.0 - 2.0 * share)).clamp(25.0, 135.0)
        });
        kmh / 3.6 / 2.08
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]
    #[test]
    fn a_known_order_comes_back_by_pulse_and_by_engine_speed_whatever_the_drive(
        layout in 0usize..10,
        pulls in prop::collection::vec(-45.0..60.0f64, 2..7),
        order in 1.2..9.8f64,
        by_rpm in any::<bool>(),
    ) {
        let v = sample::every_layout().remove(layout);
        let Some(gear) = v.gearbox.gears.last().map(|g| g.name.clone()) else { return Ok(()) };
        let Some(e) = v.engine_per_wheel(Some(&gear), None).unwrap().filter(|_| v.engine.is_some() || !by_rpm) else { return Ok(()) };
        let f = drive(&pulls);
        let (x, turns) = built(80.0, &|t| (f(t), 0.0), &[(order, 0.3)], &[], 0.15);
        let mut s = samples(vec![channel("az", Quantity::Acceleration, x)]);
        let mut more = json!({"gear": gear});
        if by_rpm {
            s.rpm = (0..160).map(|i| 0.5 * f64::from(i)).map(|t| (t, e.get() * f(t))).collect();
        } else {
            let pulse = turns.iter().map(|w| if w.fract() < 0.3 { 5.0 } else { 0.0 }).collect();
            s.channels.push(channel("tacho", Quantity::Pulse, pulse));
            more["channels"] = json!([{"column": "az", "quantity": "acceleration"}, {"column": "tacho", "quantity": "pulse", "per": "wheel"}]);
        }
        let r = one(&v, spec(more), s);
        prop_assert_eq!(r.reference.as_ref().map(|x| x.source.as_str()), Some(if by_rpm { "rpm" } else { "pulse" }), "{:?}", r.warnings);
        let wheel: Vec<f64> = r.orders.iter().filter_map(|o| o.wheel_order(r.engine_per_wheel)).collect();
        // A converter may slip: there the scale is fitted to one line alone, and may be off by the error it gives.
        let off = if by_rpm && v.gearbox.kind == GearboxKind::Automatic { 0.03 * order } else { 0.004 * order + 0.01 };
        prop_assert!(wheel.first().is_some_and(|w| (w - order).abs() < off), "{} among {:?}", order, wheel);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(10))]
    #[test]
    fn a_phase_behind_the_pulse_comes_back(behind in 0.0..360.0f64, multiple in 1u32..3, lead in 0.0..1.0f64) {
        let v = sample::rear_drive(2);
        let (x, turns) = built(80.0, &|t| (sweep(t), 0.0), &[(1.0, 0.05)], &[], 0.12);
        let order = f64::from(multiple) * 4.1;
        let x = x.iter().zip(&turns).map(|(x, w)| {
            // The pulse stands where 4.1 turns and its lead are whole.
            let peak = f64::from(multiple) * (4.1 * w + lead) - behind / 360.0;
            x + (0.3 * (TAU * peak).cos()) as f32
        }).collect();
        let pulse = turns.iter().map(|w| if (4.1 * w + lead).fract() < 0.2 { 5.0 } else { 0.0 }).collect();
        let mut s = samples(vec![channel("az", Quantity::Acceleration, x), channel("tacho", Quantity::Pulse, pulse)]);
        let c = v.circumference().unwrap().get();
        s.speed = (0..80).map(|t| (f64::from(t), sweep(f64::from(t)) * c)).collect();
        let channels = json!([{"column": "az", "quantity": "acceleration"}, {"column": "tacho", "quantity": "pulse", "per": "prop.rear"}]);
        let r = one(&v, spec(json!({ "channels": channels })), s);
        let own = r.orders.iter().find(|o| (o.order - order).abs() < 0.02).expect("the order");
        prop_assert!(r.warnings.iter().all(|w| w.code != "saturated"), "a pulse stands at its ends by nature");
        prop_assert!(own.phase.len() > 10, "{:?}", own.phase);
        for p in &own.phase {
            let off = (p.behind_deg - behind + 540.0).rem_euclid(360.0) - 180.0;
            // A sample is 0.0025 s wide, 58° of order 4.1 at the top: edges that fall alike in their samples leave up to a quarter of it.
            prop_assert!(off.abs() < 14.5 * f64::from(multiple), "{} {:?}", behind, p);
        }
        prop_assert!(r.orders.iter().filter(|o| (o.order - 1.0).abs() < 0.02).all(|o| o.phase.is_empty()));
    }
}
