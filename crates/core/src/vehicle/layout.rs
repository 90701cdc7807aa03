//! Layouts that a vehicle can be chosen from: one made-up vehicle of each.

use super::{FrontDrive, GearboxKind, Motor, Vehicle, sample};

/// A layout.
#[derive(Clone, Debug)]
pub struct Layout {
    /// Its public name: `rwd-solid`.
    pub id: &'static str,
    /// As people say it.
    pub words: &'static str,
    /// A vehicle of it.
    pub vehicle: Vehicle,
}

/// Every layout, in the order in which they are offered.
pub fn layouts() -> Vec<Layout> {
    let of = |id, words, vehicle| Layout { id, words, vehicle };
    let mut automatic = sample::front_drive();
    automatic.gearbox.kind = GearboxKind::Automatic;
    let mut plug_in = automatic.clone();
    plug_in.motor = Some(Motor::default());
    let mut full_time = sample::four_wheel_drive();
    if let Some(t) = &mut full_time.transfer {
        t.front_drive = FrontDrive::FullTime;
    }
    let mut free_hubs = sample::four_wheel_drive();
    free_hubs.axles.iter_mut().filter(|a| a.end == super::End::Front).for_each(|a| a.free_hubs = true);
    vec![
        of("rwd-solid", "rear drive, shaft in one piece", sample::rear_drive(1)),
        of("rwd-solid-two", "rear drive, shaft in two", sample::rear_drive(2)),
        of("rwd-solid-three", "rear drive, shaft in three", sample::rear_drive(3)),
        of("rwd-independent", "rear drive, independent rear axle", sample::rear_drive_independent()),
        of("fwd-manual", "front drive, manual", sample::front_drive()),
        of("fwd-automatic", "front drive, automatic", automatic),
        of("fwd-cvt", "front drive, continuously variable", sample::variable()),
        of("fwd-plug-in", "front drive, plug-in hybrid", plug_in),
        of("rear-transaxle", "gearbox at the rear axle", sample::rear_transaxle()),
        of("awd-coupler", "all-wheel drive, coupling before the rear axle", sample::all_wheel_drive()),
        of("4x4-part-time", "four-wheel drive engaged by hand", sample::four_wheel_drive()),
        of("4x4-free-hubs", "four-wheel drive by hand, free-running hubs", free_hubs),
        of("4x4-full-time", "four-wheel drive, always", full_time),
        of("electric", "electric drive unit", sample::electric()),
    ]
}

/// A vehicle of a layout.
pub fn of_layout(id: &str) -> Option<Vehicle> {
    layouts().into_iter().find(|l| l.id == id).map(|l| l.vehicle)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_layout_is_one_of_its_own_and_can_be() {
        let all = layouts();
        assert_eq!(all.iter().map(|l| l.id).collect::<BTreeSet<_>>().len(), all.len());
        assert_eq!(all.iter().map(|l| l.words).collect::<BTreeSet<_>>().len(), all.len());
        all.iter().for_each(|l| l.vehicle.check().unwrap());
        assert!(of_layout("rwd-solid").is_some() && of_layout("sidecar").is_none());
    }
}
