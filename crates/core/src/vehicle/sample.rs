//! One made-up vehicle of every layout: starting points for a new case, and for tests.

use super::*;
use crate::units::{Degrees, Millimetres};

fn gears(ratios: &[f64]) -> Vec<Gear> {
    ratios.iter().enumerate().map(|(i, &r)| Gear { name: (i + 1).to_string(), ratio: r, teeth: None }).collect()
}

fn axle(end: End, kind: AxleKind, teeth: Option<(u32, u32)>) -> Axle {
    Axle {
        end,
        driven: teeth.is_some(),
        kind,
        pinion_teeth: teeth.map(|t| t.0),
        ring_teeth: teeth.map(|t| t.1),
        ratio: None,
        floating: None,
        limited_slip: None,
        tyre: None,
        free_hubs: false,
    }
}

fn tube(length: f64, od: f64) -> Section {
    Section {
        length_mm: Millimetres(length),
        od_mm: Millimetres(od),
        wall_mm: Millimetres(1.65),
        material: Material::Named("steel".into()),
        phase_deg: None,
    }
}

fn shaft(end: End, slip: Slip, lengths: &[f64]) -> Prop {
    Prop {
        end,
        slip: Some(slip),
        sections: lengths.iter().map(|&l| tube(l, if l > 1000.0 { 76.2 } else { 63.5 })).collect(),
        joints: vec![Joint::Plain(JointKind::Cross); lengths.len() + 1],
    }
}

fn halves(corners: &[Corner]) -> Vec<HalfShaft> {
    corners
        .iter()
        .map(|&corner| HalfShaft {
            corner,
            inner: Some(JointKind::Tripod),
            outer: Some(JointKind::Ball),
            balls: Some(6),
            intermediate: None,
        })
        .collect()
}

fn bearing(at: &str, n: u32, d: f64, pitch: f64, a: f64) -> Bearing {
    Bearing {
        at: at.into(),
        number: None,
        elements: n,
        element_mm: Millimetres(d),
        pitch_mm: Millimetres(pitch),
        contact_deg: Degrees(a),
    }
}

fn base(name: &str, size: &str) -> Vehicle {
    Vehicle {
        name: name.into(),
        tyre: Tyre::of_size(size),
        engine: Some(Engine { cylinders: 4, strokes: 4 }),
        motor: None,
        gearbox: Gearbox {
            kind: GearboxKind::Manual,
            transaxle: false,
            end: None,
            transverse: None,
            gears: gears(&[3.91, 2.29, 1.43, 1.0, 0.84]),
        },
        transfer: None,
        coupler: None,
        axles: vec![],
        props: vec![],
        half_shafts: vec![],
        bearings: vec![],
        limits: Limits::default(),
    }
}

/// Engine in front, solid rear axle driven by a shaft of one, two or three sections.
pub fn rear_drive(sections: usize) -> Vehicle {
    let mut v = base("Whimbrel LWB", "215/70R15");
    v.axles = vec![axle(End::Rear, AxleKind::Solid, Some((10, 41))), axle(End::Front, AxleKind::Independent, None)];
    let lengths: &[f64] = match sections {
        1 => &[1430.0],
        2 => &[640.0, 1180.0],
        _ => &[820.0, 820.0, 1130.0],
    };
    v.props = vec![shaft(End::Rear, Slip::Gearbox, lengths)];
    v.bearings = (1..lengths.len()).map(|k| bearing(&format!("prop.rear.sb{k}"), 9, 7.94, 38.5, 0.0)).collect();
    v
}

/// Engine in front, independent rear axle with half shafts.
pub fn rear_drive_independent() -> Vehicle {
    let mut v = base("Merlin Saloon", "225/50R17");
    v.engine = Some(Engine { cylinders: 6, strokes: 4 });
    v.gearbox = Gearbox {
        kind: GearboxKind::Automatic,
        transaxle: false,
        end: None,
        transverse: None,
        gears: gears(&[4.03, 2.41, 1.57, 1.12, 0.87, 0.66]),
    };
    v.axles = vec![axle(End::Rear, AxleKind::Independent, Some((13, 41))), axle(End::Front, AxleKind::Independent, None)];
    v.props = vec![shaft(End::Rear, Slip::Axle, &[640.0, 780.0])];
    v.props[0].joints[0] = Joint::Detailed { kind: JointKind::Flex, arms: Some(3), balls: None };
    v.half_shafts = halves(&End::Rear.corners());
    v
}

/// Front drive transaxle.
pub fn front_drive() -> Vehicle {
    let mut v = base("Wagtail", "185/60R14");
    v.gearbox.transaxle = true;
    v.gearbox.gears = gears(&[3.55, 1.95, 1.28, 0.95, 0.76]);
    v.axles = vec![axle(End::Front, AxleKind::Independent, Some((18, 73))), axle(End::Rear, AxleKind::Independent, None)];
    v.half_shafts = halves(&End::Front.corners());
    v.bearings = End::Front.corners().iter().map(|c| bearing(&format!("hub.{}", c.id()), 13, 11.9, 62.0, 36.0)).collect();
    v
}

/// Transaxle in front, a shaft and a coupling unit to the rear axle.
pub fn all_wheel_drive() -> Vehicle {
    let mut v = base("Lapwing", "225/65R17");
    v.gearbox = Gearbox {
        kind: GearboxKind::Automatic,
        transaxle: true,
        end: None,
        transverse: None,
        gears: gears(&[4.15, 2.37, 1.56, 1.16, 0.86, 0.69]),
    };
    v.coupler = Some(Coupler { before: End::Rear });
    v.axles =
        vec![axle(End::Front, AxleKind::Independent, Some((16, 55))), axle(End::Rear, AxleKind::Independent, Some((15, 38)))];
    v.props = vec![shaft(End::Rear, Slip::Gearbox, &[890.0, 760.0])];
    v.half_shafts = halves(&[Corner::Fl, Corner::Fr, Corner::Rl, Corner::Rr]);
    v.bearings = [Corner::Fl, Corner::Fr, Corner::Rl, Corner::Rr]
        .iter()
        .map(|c| bearing(&format!("hub.{}", c.id()), 13, 11.9, 62.0, 36.0))
        .collect();
    v
}

/// Transfer case, solid axles, shafts to both ends.
pub fn four_wheel_drive() -> Vehicle {
    let mut v = base("Curlew 4x4", "235/85R16");
    v.engine = Some(Engine { cylinders: 6, strokes: 4 });
    v.gearbox.gears = gears(&[4.31, 2.33, 1.44, 1.0, 0.79]);
    v.transfer = Some(Transfer {
        ranges: vec![Range { name: "high".into(), ratio: 1.0 }, Range { name: "low".into(), ratio: 2.62 }],
        front_drive: FrontDrive::PartTime,
    });
    v.axles = vec![axle(End::Rear, AxleKind::Solid, Some((11, 41))), axle(End::Front, AxleKind::Solid, Some((11, 41)))];
    v.props = vec![shaft(End::Rear, Slip::Transfer, &[1080.0]), shaft(End::Front, Slip::Transfer, &[720.0])];
    v.props[1].joints[0] = Joint::Plain(JointKind::DoubleCross);
    v
}

/// Engine in front, gearbox and final drive in one at the rear, the shaft between them.
pub fn rear_transaxle() -> Vehicle {
    let mut v = base("Kestrel Coupe", "225/50R17");
    v.gearbox.transaxle = true;
    v.gearbox.end = Some(End::Rear);
    v.axles = vec![axle(End::Rear, AxleKind::Independent, Some((11, 41))), axle(End::Front, AxleKind::Independent, None)];
    v.props = vec![shaft(End::Rear, Slip::Shaft, &[1500.0])];
    v.half_shafts = halves(&End::Rear.corners());
    v
}

/// Electric drive unit with a fixed reduction at the front axle.
pub fn electric() -> Vehicle {
    let mut v = base("Petrel E", "205/60R16");
    v.engine = None;
    v.gearbox = Gearbox { kind: GearboxKind::SingleSpeed, transaxle: true, end: None, transverse: None, gears: gears(&[2.64]) };
    v.axles = vec![axle(End::Front, AxleKind::Independent, Some((19, 68))), axle(End::Rear, AxleKind::Independent, None)];
    v.half_shafts = halves(&End::Front.corners());
    v
}

/// Front drive with a continuously variable gearbox.
pub fn variable() -> Vehicle {
    let mut v = front_drive();
    v.name = "Dipper CVT".into();
    v.gearbox.kind = GearboxKind::Cvt;
    v.gearbox.gears.clear();
    v
}

/// One vehicle of every layout.
pub fn every_layout() -> Vec<Vehicle> {
    vec![
        rear_drive(1),
        rear_drive(2),
        rear_drive(3),
        rear_drive_independent(),
        front_drive(),
        all_wheel_drive(),
        four_wheel_drive(),
        rear_transaxle(),
        electric(),
        variable(),
    ]
}
