//! How fast everything turns. Wheel f_w = v/C; half shaft f_w; propeller shaft f_p = f_w·i_d;
//! gearbox output f_p·i_t; engine = gearbox output·i_g when the clutch or converter is locked. On a
//! transaxle the engine turns through the ratio of the axle it is built with, and a shaft between
//! engine and transaxle turns with the engine.

use super::{End, GearboxKind, Prop, Vehicle};
use crate::error::Problem;
use crate::units::{Hz, KilometresPerHour, Metres, Order};

/// What a part turns with, and how many times.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Turns {
    /// Times a wheel turn.
    Wheel(f64),
    /// Times an engine turn.
    Engine(f64),
}

impl Vehicle {
    /// Distance of one wheel turn.
    pub fn circumference(&self) -> Result<Metres, Problem> {
        Ok(self.tyre.figures().map_err(|p| p.under("tyre"))?.rolling_circumference_m)
    }

    /// Wheel turns a second at a road speed.
    pub fn wheel_hz(&self, v: KilometresPerHour) -> Result<Hz, Problem> {
        Ok(Hz(v.to_ms().get() / self.circumference()?.get()))
    }

    /// The axle through which the engine turns: the transaxle's own; else the rear one when a shaft
    /// leads there; else whichever is driven.
    pub fn main_axle(&self) -> Option<End> {
        if let Some(e) = self.transaxle_end() {
            return Some(e);
        }
        let driven = |e: End| self.axle(e).is_some_and(|a| a.driven);
        [End::Rear, End::Front]
            .into_iter()
            .find(|&e| driven(e) && self.prop(e).is_some())
            .or_else(|| [End::Rear, End::Front].into_iter().find(|&e| driven(e)))
    }

    /// Final drive ratio of an axle.
    pub fn final_ratio(&self, end: End) -> Option<f64> {
        self.axle(end)?.final_ratio()
    }

    /// Transfer ratio of a range: 1 where there is none, the first where none is named.
    pub fn range_ratio(&self, range: Option<&str>) -> Result<f64, Problem> {
        let Some(t) = &self.transfer else { return Ok(1.0) };
        match range {
            None => Ok(t.ranges.first().map_or(1.0, |r| r.ratio)),
            Some(name) => t.ranges.iter().find(|r| r.name == name).map(|r| r.ratio).ok_or_else(|| {
                let have: Vec<_> = t.ranges.iter().map(|r| r.name.as_str()).collect();
                Problem::new("unknown-range", format!("no range “{name}”; this vehicle has {}", have.join(", "))).field("range")
            }),
        }
    }

    /// Gear ratio by name; none where the gear does not say. A single speed needs no name.
    pub fn gear_ratio(&self, gear: Option<&str>) -> Result<Option<f64>, Problem> {
        match gear {
            None | Some("varies") if self.gearbox.kind == GearboxKind::SingleSpeed => {
                Ok(Some(self.gearbox.gears.first().map_or(1.0, |g| g.ratio)))
            }
            None | Some("varies") => Ok(None),
            Some(name) => self.gear(name).map(|g| Some(g.ratio)).ok_or_else(|| {
                let have: Vec<_> = self.gearbox.gears.iter().map(|g| g.name.as_str()).collect();
                Problem::new("unknown-gear", format!("no gear “{name}”; this vehicle has {}", have.join(", "))).field("gear")
            }),
        }
    }

    /// Engine (or motor) turns for one wheel turn in a gear; none where the gear does not say.
    pub fn engine_per_wheel(&self, gear: Option<&str>, range: Option<&str>) -> Result<Option<Order>, Problem> {
        let Some(g) = self.gear_ratio(gear)? else { return Ok(None) };
        let t = self.range_ratio(range)?;
        let Some(d) = self.main_axle().and_then(|e| self.final_ratio(e)) else { return Ok(None) };
        Ok(Some(Order(d * t * g)))
    }

    /// What a shaft turns with.
    pub fn prop_turns(&self, prop: &Prop) -> Option<Turns> {
        if self.prop_before_gearbox(prop.end) {
            return Some(Turns::Engine(1.0));
        }
        self.final_ratio(prop.end).map(Turns::Wheel)
    }

    /// A shaft's turns for one wheel turn in a gear.
    pub fn prop_per_wheel(&self, prop: &Prop, gear: Option<&str>, range: Option<&str>) -> Result<Option<Order>, Problem> {
        Ok(match self.prop_turns(prop) {
            Some(Turns::Wheel(r)) => Some(Order(r)),
            Some(Turns::Engine(k)) => self.engine_per_wheel(gear, range)?.map(|e| Order(k * e.get())),
            None => None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests_support::*;
    use super::*;

    fn worked() -> Vehicle {
        let mut v = rear_drive(2);
        v.tyre = super::super::Tyre { rolling_circumference_m: Some(Metres(2.2)), ..Default::default() };
        v.axles[0].pinion_teeth = Some(10);
        v.axles[0].ring_teeth = Some(41);
        v.gearbox.gears[4].ratio = 0.82;
        v
    }

    #[test]
    fn worked_speeds() {
        let v = worked();
        let w = v.wheel_hz(KilometresPerHour(100.0)).unwrap();
        assert!((w.get() - 12.626).abs() < 5e-4);
        let shaft = v.prop_per_wheel(&v.props[0], None, None).unwrap().unwrap();
        assert!((shaft.get() * w.get() - 51.768).abs() < 5e-4);
        let e = v.engine_per_wheel(Some("5"), None).unwrap().unwrap();
        assert!((Hz(e.get() * w.get()).to_rpm().get() - 2547.0).abs() < 0.5);
    }

    #[test]
    fn a_shaft_before_a_rear_transaxle_turns_with_the_engine() {
        let v = rear_transaxle();
        assert_eq!(v.prop_turns(&v.props[0]), Some(Turns::Engine(1.0)));
        let e = v.engine_per_wheel(Some("3"), None).unwrap().unwrap();
        assert_eq!(v.prop_per_wheel(&v.props[0], Some("3"), None).unwrap().unwrap(), e);
        assert_eq!(v.engine_end(), End::Front);
    }

    #[test]
    fn an_all_wheel_drive_transaxle_turns_its_rear_shaft_by_the_rear_axle() {
        let v = all_wheel_drive();
        let r = v.final_ratio(End::Rear).unwrap();
        assert_eq!(v.prop_turns(&v.props[0]), Some(Turns::Wheel(r)));
        let e = v.engine_per_wheel(Some("1"), None).unwrap().unwrap().get();
        assert!((e - v.gearbox.gears[0].ratio * v.final_ratio(End::Front).unwrap()).abs() < 1e-12);
    }

    #[test]
    fn the_low_range_turns_the_engine_faster_and_leaves_the_shaft() {
        let v = four_wheel_drive();
        let hi = v.engine_per_wheel(Some("2"), Some("high")).unwrap().unwrap().get();
        let lo = v.engine_per_wheel(Some("2"), Some("low")).unwrap().unwrap().get();
        assert!((lo / hi - v.range_ratio(Some("low")).unwrap()).abs() < 1e-12);
        assert_eq!(v.engine_per_wheel(Some("2"), Some("crawl")).unwrap_err().code, "unknown-range");
        assert_eq!(v.engine_per_wheel(Some("9"), None).unwrap_err().field.as_deref(), Some("gear"));
    }

    #[test]
    fn a_single_speed_needs_no_gear_name() {
        let v = electric();
        assert!(v.engine_per_wheel(None, None).unwrap().is_some());
        assert!(rear_drive(1).engine_per_wheel(None, None).unwrap().is_none());
    }
}
