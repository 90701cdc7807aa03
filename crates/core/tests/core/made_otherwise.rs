//! Ten recordings made otherwise than by sums of tones: masses on springs moved in time, kinematics of a
//! joint, teeth, hits, gas pressure. Each is driven by a driver with a foot, on a hill, and its speed comes
//! from a receiver that smooths, rounds and sends once a second.

use crate::built::{Noise, spec};
use baricord_core::analysis::{RecordingAnalysis, Silent};
use baricord_core::measure::orders::Base;
use baricord_core::reasoning::attribution::analyze;
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::{Vehicle, sample};
use serde_json::json;
use std::f64::consts::{PI, TAU};

/// Where a drive is at one sample.
#[derive(Clone, Copy)]
struct Now {
    t: f64,
    /// Wheel turns since the start, and a second.
    turns: f64,
    hz: f64,
    dt: f64,
}

/// A drive: how fast in truth at each sample, and what the receiver says.
struct Drive {
    rate: f64,
    circumference: f64,
    speed: Vec<f64>,
    told: Vec<(f64, f64)>,
}

/// A foot that closes on a wish, a hill, a receiver of first order.
fn drive(v: &Vehicle, seconds: f64, rate: f64, from: f64, to: f64, seed: u64) -> Drive {
    // The tyre is worn: half a per cent smaller than its size says.
    let circumference = v.circumference().unwrap().get() * 0.995;
    let (mut noise, mut now, mut seen) = (Noise(seed), from / 3.6, from / 3.6);
    let (mut speed, mut told, mut push) = (vec![], vec![], 0.0);
    for i in 0..(seconds * rate) as usize {
        let t = i as f64 / rate;
        // Up, a while held, and down again.
        let share = (1.6 * (t / seconds)).min(1.0) - (2.6 * (t / seconds - 0.75)).max(0.0);
        let wish = (from + (to - from) * share.clamp(0.0, 1.0)) / 3.6;
        if i % (rate as usize) == 0 {
            push = 0.15 * noise.next();
        }
        now += (0.55 * (wish - now) + push + 0.08 * (t / 7.0).sin()) / rate;
        seen += (now - seen) / (0.7 * rate);
        speed.push(now);
        if i % (rate as usize) == (0.31 * rate) as usize {
            told.push((t, (seen * 36.0).round() / 36.0));
        }
    }
    Drive { rate, circumference, speed, told }
}

impl Drive {
    /// A channel from a force: each sample is the force as a body passes it on, with a road under it.
    fn channel(&self, name: &str, quantity: Quantity, road: f64, mut force: impl FnMut(Now) -> f64) -> Channel {
        let mut noise = Noise(77);
        let (mut turns, mut rumble) = (0.0, 0.0);
        let data: Vec<f32> = self
            .speed
            .iter()
            .enumerate()
            .map(|(i, v)| {
                let hz = v / self.circumference;
                let dt = 1.0 / self.rate;
                let x = force(Now { t: i as f64 * dt, turns, hz, dt });
                turns += hz * dt;
                // A road is louder below than above.
                rumble += 0.2 * (road * noise.next() - rumble);
                (x + rumble + 0.3 * road * noise.next()) as f32
            })
            .collect();
        Channel {
            name: name.into(),
            quantity,
            unit: if quantity == Quantity::Sound { "fs" } else { "m/s2" }.into(),
            data: data.into(),
        }
    }

    fn samples(&self, c: Channel) -> Samples {
        Samples { rate: Hz(self.rate), start: Seconds(0.0), channels: vec![c], speed: self.told.clone(), ..Samples::default() }
    }
}

/// A mass on a spring with a damper, moved step by step; answers its acceleration.
struct Mass {
    hz: f64,
    damping: f64,
    x: f64,
    v: f64,
}

impl Mass {
    fn new(hz: f64, damping: f64) -> Self {
        Self { hz, damping, x: 0.0, v: 0.0 }
    }
    fn moved(&mut self, force: f64, dt: f64) -> f64 {
        let w = TAU * self.hz;
        let a = force - w * w * self.x - 2.0 * self.damping * w * self.v;
        self.v += a * dt;
        self.x += self.v * dt;
        a
    }
}

fn read(v: &Vehicle, gear: &str, s: Samples) -> RecordingAnalysis {
    let named = spec(json!({"gear": gear, "channels": [{"column": s.channels[0].name, "quantity": "acceleration"}]}));
    analyze(v, &[(named, s)], &Silent).unwrap().recordings.remove(0)
}

/// The order that was found near the one that should be there, among the first so many.
fn found(r: &RecordingAnalysis, order: f64, first: usize) -> f64 {
    let all: Vec<f64> = r.orders.iter().map(|o| o.order).collect();
    let own = r.orders.iter().take(first).find(|o| (o.order - order).abs() < 0.012 * order);
    let own = own.unwrap_or_else(|| panic!("{order} among {all:?}, {:?}", r.warnings));
    assert!((own.order - order).abs() < 3.5 * own.order_sigma, "{order} told as {} ± {}", own.order, own.order_sigma);
    own.order
}

fn has_source(r: &RecordingAnalysis, order: f64, fault: &str) -> bool {
    r.orders.iter().filter(|o| (o.order - order).abs() < 0.012 * order).any(|o| o.sources.iter().any(|s| s.fault == fault))
}

fn has_rhythm(r: &RecordingAnalysis, per_turn: f64, first: usize) -> bool {
    r.pulses.iter().take(first).any(|p| (p.per_wheel_turn / per_turn - 1.0).abs() < 0.015)
}

#[test]
fn one_an_unbalanced_shaft_shakes_a_body_on_springs() {
    let v = sample::rear_drive(2);
    let d = drive(&v, 90.0, 800.0, 40.0, 120.0, 1);
    let mut body = Mass::new(46.0, 0.1);
    let c = d.channel("az", Quantity::Acceleration, 0.25, |n| {
        // Mass times radius times the speed squared, in the vertical alone.
        let w = TAU * 4.1 * n.hz;
        2.2e-6 * w * w * body.moved(700.0 * (TAU * 4.1 * n.turns).sin(), n.dt) / 3.0
    });
    let r = read(&v, "5", d.samples(c));
    found(&r, 4.1, 1);
    assert!(has_source(&r, 4.1, "prop-imbalance"));
    // The body's own frequency is where it peaks: 46 Hz is 84 km/h, rising with the square above it.
    assert!((r.orders[0].peak_hz - 46.0).abs() < 5.0 || r.orders[0].growth.is_some_and(|g| g > 1.0), "{:?}", r.orders[0]);
}

#[test]
fn two_a_cross_joint_at_an_angle_turns_unevenly() {
    let v = sample::rear_drive(1);
    let d = drive(&v, 90.0, 800.0, 45.0, 115.0, 2);
    let bent = 7f64.to_radians();
    let c = d.channel("az", Quantity::Acceleration, 0.2, |n| {
        // Output speed over input speed of the joint, exactly: its swing is the torque that the pinion feels.
        let a = TAU * 4.1 * n.turns;
        let ratio = bent.cos() / (1.0 - bent.sin().powi(2) * a.cos().powi(2));
        18.0 * (ratio - 1.0)
    });
    let r = read(&v, "5", d.samples(c));
    found(&r, 8.2, 1);
    assert!(has_source(&r, 8.2, "joint-angle") || has_source(&r, 8.2, "joint-worn"), "{:?}", r.orders[0].sources);
}

#[test]
fn three_six_balls_hit_in_their_grooves() {
    let v = sample::front_drive();
    let d = drive(&v, 70.0, 4096.0, 20.0, 45.0, 3);
    let (mut ring, mut noise, mut next) = (Mass::new(760.0, 0.04), Noise(5), 0.0);
    let c = d.channel("mic", Quantity::Sound, 0.02, |n| {
        let mut hit = 0.0;
        if 6.0 * n.turns >= next {
            // No ball comes quite when it should, none hits quite as hard.
            next += 1.0 + 0.03 * noise.next();
            hit = 4.0e4 * (1.0 + 0.3 * noise.next());
        }
        1e-5 * ring.moved(hit, n.dt)
    });
    let r = read(&v, "3", d.samples(c));
    assert!(has_rhythm(&r, 6.0, 2), "{:?}", r.pulses);
    assert!(r.pulses[0].sources.iter().any(|s| s.fault == "outer-joint-worn"));
}

#[test]
fn four_a_pitted_outer_ring_is_hit_by_balls_that_slide_a_little() {
    let v = sample::front_drive();
    let b = v.bearings.iter().find(|b| b.at == "hub.fl").unwrap();
    let share = b.element_mm / b.pitch_mm * b.contact_deg.get().to_radians().cos();
    let per_turn = f64::from(b.elements) / 2.0 * (1.0 - share);
    let d = drive(&v, 70.0, 4096.0, 50.0, 110.0, 4);
    let (mut ring, mut noise, mut next) = (Mass::new(1150.0, 0.05), Noise(8), 0.0);
    let c = d.channel("mic", Quantity::Sound, 0.02, |n| {
        let mut hit = 0.0;
        if per_turn * n.turns >= next {
            next += 1.0 + 0.008 * noise.next();
            hit = 3.0e4 * (1.0 + 0.4 * noise.next()) * (1.0 + 0.5 * (TAU * n.turns).cos());
        }
        1e-5 * ring.moved(hit, n.dt)
    });
    let r = read(&v, "4", d.samples(c));
    assert!(has_rhythm(&r, per_turn, 3), "{per_turn} among {:?}", r.pulses);
}

#[test]
fn five_a_flat_spot_on_a_tyre() {
    let v = sample::front_drive();
    let d = drive(&v, 80.0, 600.0, 35.0, 100.0, 5);
    let mut axle = Mass::new(13.0, 0.15);
    let c = d.channel("az", Quantity::Acceleration, 0.25, |n| {
        // The axle falls into the spot for a tenth of a turn.
        let at = n.turns.fract();
        let fall = if at < 0.1 { (PI * at / 0.1).sin() } else { 0.0 };
        0.15 * axle.moved(30.0 * fall, n.dt)
    });
    let r = read(&v, "4", d.samples(c));
    for order in [1.0, 2.0, 3.0] {
        found(&r, order, 24);
    }
    assert!(
        r.orders.iter().take(3).all(|o| (o.order - o.order.round()).abs() < 0.03),
        "{:?}",
        r.orders.iter().map(|o| o.order).collect::<Vec<_>>()
    );
}

#[test]
fn six_forty_one_teeth_that_whine_under_a_bent_ring() {
    let v = sample::rear_drive(2);
    let d = drive(&v, 80.0, 4096.0, 45.0, 100.0, 6);
    let c = d.channel("mic", Quantity::Sound, 0.05, |n| {
        // A tooth's error is a triangle; the ring runs out, so that the mesh is louder once a turn.
        let at = (41.0 * n.turns).fract();
        let tooth = 4.0 * (at - 0.5).abs() - 1.0;
        0.05 * tooth * (1.0 + 0.35 * (TAU * n.turns).sin())
    });
    let r = read(&v, "5", d.samples(c));
    found(&r, 41.0, 2);
    assert!(r.orders[0].sources.iter().any(|s| s.at == "diff.rear"), "{:?}", r.orders[0].sources);
    assert!([40.0, 42.0].iter().any(|side| r.orders.iter().any(|o| (o.order - side).abs() < 0.3)), "sidebands");
}

#[test]
fn seven_gas_pressure_of_four_cylinders_in_two_gears() {
    let v = sample::rear_drive(2);
    let runs: Vec<_> = [("4", 21), ("5", 22)]
        .iter()
        .map(|(gear, seed)| {
            let d = drive(&v, 80.0, 800.0, 40.0, 110.0, *seed);
            let e = v.engine_per_wheel(Some(gear), None).unwrap().unwrap().get();
            let (mut mount, mut noise, mut last, mut strength) = (Mass::new(24.0, 0.2), Noise(3), -1.0, 1.0);
            let c = d.channel("az", Quantity::Acceleration, 0.2, |n| {
                // A cylinder fires twice an engine turn, no two alike, and pushes for a third of its stroke.
                let stroke = 2.0 * e * n.turns;
                if stroke.floor() != last {
                    last = stroke.floor();
                    strength = 1.0 + 0.15 * noise.next();
                }
                let at = stroke.fract();
                let push = if at < 0.35 { (PI * at / 0.35).sin().powi(2) } else { 0.0 };
                0.02 * mount.moved(60.0 * strength * push, n.dt)
            });
            (spec(json!({"id": format!("R{gear}"), "gear": gear})), d.samples(c))
        })
        .collect();
    let a = analyze(&v, &runs, &Silent).unwrap();
    for r in &a.recordings {
        let firing = r.orders.iter().find(|o| o.base == Base::Engine && (o.order - 2.0).abs() < 0.03);
        assert!(
            firing.is_some_and(|o| o.sources.iter().all(|s| s.at != "prop.rear.s1")),
            "{:?}",
            r.orders.iter().map(|o| (o.base, o.order)).collect::<Vec<_>>()
        );
    }
}

#[test]
fn eight_two_tyres_of_unlike_wear_beat() {
    let v = sample::rear_drive(1);
    let d = drive(&v, 150.0, 400.0, 80.0, 98.0, 8);
    let mut axle = Mass::new(14.0, 0.3);
    let c = d.channel("az", Quantity::Acceleration, 0.1, |n| {
        // One turns by a hundredth more than the other.
        let (a, b) = (TAU * n.turns, TAU * 1.011 * n.turns);
        0.3 * axle.moved(1.5 * a.sin() + 1.2 * b.sin(), n.dt)
    });
    let r = read(&v, "5", d.samples(c));
    let b = r.beats.first().unwrap_or_else(|| panic!("no beat: {:?}", r.orders.iter().map(|o| o.order).collect::<Vec<_>>()));
    assert!((b.gap - 0.011).abs() < 0.002 && (b.order - 1.0).abs() < 0.03, "{b:?}");
}

#[test]
fn nine_a_tripod_whose_rollers_stick_under_torque() {
    let v = sample::front_drive();
    let d = drive(&v, 80.0, 600.0, 20.0, 80.0, 9);
    let mut body = Mass::new(19.0, 0.25);
    let c = d.channel("ay", Quantity::Acceleration, 0.2, |n| {
        // Friction changes its sign with the way that a roller slides: three times a turn, square, not round.
        let slides = (TAU * 3.0 * n.turns).sin();
        0.04 * body.moved(14.0 * slides.signum() * slides.abs().powf(0.3), n.dt)
    });
    let r = read(&v, "2", d.samples(c));
    found(&r, 3.0, 1);
    assert!(has_source(&r, 3.0, "inner-joint-worn"));
}

#[test]
fn ten_lash_that_is_taken_up_twice_and_a_road_that_only_rumbles() {
    let v = sample::rear_drive(2);
    let d = drive(&v, 80.0, 1200.0, 30.0, 60.0, 10);
    let mut shell = Mass::new(180.0, 0.06);
    let at = [24.3, 61.8];
    let c = d.channel("az", Quantity::Acceleration, 0.3, |n| {
        let hit = at.iter().any(|a| (n.t - a).abs() < 0.5 * n.dt);
        0.02 * shell.moved(if hit { 4.0e5 } else { 0.0 }, n.dt)
    });
    let r = read(&v, "3", d.samples(c));
    let told: Vec<f64> = r.events.iter().map(|e| e.at_s).collect();
    assert!(told.len() == 2 && told.iter().zip(at).all(|(t, a)| (t - a).abs() < 0.1), "{:?}", r.events);
    assert!(r.orders.is_empty() && r.beats.is_empty(), "{:?}", r.orders.iter().map(|o| o.order).collect::<Vec<_>>());
}
