//! The vehicle: its layout, the places where something can be wrong, and how fast everything turns.

mod kinematics;
pub mod layout;
mod model;
mod places;
mod tyre;

pub use kinematics::Turns;
pub use model::*;
pub use places::{Place, PlaceKind, answered_place, is_part_of};
pub use tyre::{RADIAL_FACTOR, Tyre, TyreFigures};

use crate::error::{Problem, finite, positive, read_json};
use crate::units::{Degrees, Millimetres};

impl Vehicle {
    /// Reads a vehicle and checks that it can exist; problems name the field below `vehicle`.
    pub fn from_json(value: &serde_json::Value) -> Result<Self, Problem> {
        let v: Vehicle = read_json(value).map_err(|p| p.under("vehicle"))?;
        v.check().map_err(|p| p.under("vehicle"))?;
        Ok(v)
    }

    /// Whether such a vehicle can exist. The field of a problem is a path below the vehicle.
    pub fn check(&self) -> Result<(), Problem> {
        self.tyre.figures().map_err(|p| p.under("tyre"))?;
        if let Some(e) = &self.engine {
            if !(1..=16).contains(&e.cylinders) {
                return Err(Problem::new("out-of-range", format!("an engine of {} cylinders is not supported", e.cylinders))
                    .field("engine.cylinders"));
            }
            if e.strokes != 2 && e.strokes != 4 {
                return Err(Problem::new("out-of-range", "an engine works in 2 or 4 strokes").field("engine.strokes"));
            }
        }
        for (i, g) in self.gearbox.gears.iter().enumerate() {
            positive(g.ratio, "ratio").map_err(|p| p.under(&format!("gearbox.gears[{i}]")))?;
            if self.gearbox.gears[..i].iter().any(|o| o.name == g.name) {
                return Err(Problem::new("duplicate", format!("gear {} is described twice", g.name))
                    .field(format!("gearbox.gears[{i}].name")));
            }
        }
        if let Some(t) = &self.transfer {
            for (i, r) in t.ranges.iter().enumerate() {
                positive(r.ratio, "ratio").map_err(|p| p.under(&format!("transfer.ranges[{i}]")))?;
            }
        }
        if self.axles.is_empty() {
            return Err(Problem::new("missing", "a vehicle needs its axles").field("axles"));
        }
        for (i, a) in self.axles.iter().enumerate() {
            let at = format!("axles[{i}]");
            if self.axles[..i].iter().any(|o| o.end == a.end) {
                return Err(Problem::new("duplicate", format!("the {} axle is described twice", a.end.id())).field(at));
            }
            if let Some(r) = a.ratio {
                positive(r, "ratio").map_err(|p| p.under(&at))?;
            }
            if let Some(t) = &a.tyre {
                t.figures().map_err(|p| p.under(&format!("{at}.tyre")))?;
            }
            if a.pinion_teeth == Some(0) || a.ring_teeth == Some(0) {
                return Err(Problem::new("out-of-range", "a gear has teeth").field(format!("{at}.pinion_teeth")));
            }
        }
        if !self.axles.iter().any(|a| a.driven) {
            return Err(Problem::new("missing", "at least one axle must be driven").field("axles"));
        }
        for (i, p) in self.props.iter().enumerate() {
            self.check_prop(i, p).map_err(|e| e.under(&format!("props[{i}]")))?;
        }
        for (i, b) in self.bearings.iter().enumerate() {
            if b.has_geometry() {
                check_bearing(b.elements, b.element_mm, b.pitch_mm, b.contact_deg)
                    .map_err(|p| p.under(&format!("bearings[{i}]")))?;
            }
        }
        Ok(())
    }

    fn check_prop(&self, i: usize, p: &Prop) -> Result<(), Problem> {
        if self.props[..i].iter().any(|o| o.end == p.end) {
            return Err(Problem::new("duplicate", format!("the {} shaft is described twice", p.end.id())).field("end"));
        }
        if !(1..=3).contains(&p.sections.len()) {
            return Err(Problem::new("out-of-range", "a shaft has one, two or three sections").field("sections"));
        }
        if p.joints.len() != p.sections.len() + 1 {
            return Err(Problem::new(
                "mismatch",
                format!("{} sections need {} joints, got {}", p.sections.len(), p.sections.len() + 1, p.joints.len()),
            )
            .field("joints"));
        }
        for (k, s) in p.sections.iter().enumerate() {
            let under = |e: Problem| e.under(&format!("sections[{k}]"));
            positive(s.length_mm.get(), "length_mm").map_err(under)?;
            positive(s.od_mm.get(), "od_mm").map_err(under)?;
            positive(s.wall_mm.get(), "wall_mm").map_err(under)?;
            if 2.0 * s.wall_mm.get() > s.od_mm.get() {
                return Err(under(Problem::new("out-of-range", "the wall is thicker than the tube").field("wall_mm")));
            }
            if let Some(g) = s.phase_deg {
                finite(g.get(), "phase_deg").map_err(under)?;
            }
        }
        Ok(())
    }

    /// The axle at an end.
    pub fn axle(&self, end: End) -> Option<&Axle> {
        self.axles.iter().find(|a| a.end == end)
    }

    /// The shaft to an end.
    pub fn prop(&self, end: End) -> Option<&Prop> {
        self.props.iter().find(|p| p.end == end)
    }

    /// Where the transaxle sits, if there is one.
    pub fn transaxle_end(&self) -> Option<End> {
        self.gearbox.transaxle.then(|| {
            self.gearbox.end.unwrap_or(if self.axle(End::Front).is_some_and(|a| a.driven) { End::Front } else { End::Rear })
        })
    }

    /// Whether a shaft lies between the engine and the gearbox, so that it turns with the engine.
    pub fn prop_before_gearbox(&self, end: End) -> bool {
        self.transaxle_end() == Some(end)
    }

    /// Where the engine or motor stands: at the far end when a shaft leads to the transaxle.
    pub fn engine_end(&self) -> End {
        match self.transaxle_end() {
            Some(e) if self.prop(e).is_some() => e.other(),
            Some(e) => e,
            None => End::Front,
        }
    }

    /// Whether the vehicle is electric.
    pub fn is_electric(&self) -> bool {
        self.engine.is_none()
    }

    /// The jointed half shaft of a corner: as described, or the usual one of a driven independent axle.
    pub fn half_shaft(&self, corner: Corner) -> Option<HalfShaft> {
        if let Some(h) = self.half_shafts.iter().find(|h| h.corner == corner) {
            return Some(h.clone());
        }
        let a = self.axle(corner.end())?;
        let usual = |inner, outer, balls| HalfShaft { corner, inner, outer: Some(outer), balls, intermediate: None };
        match a.kind {
            _ if !a.driven => None,
            AxleKind::Independent => Some(usual(Some(JointKind::Tripod), JointKind::Ball, Some(6))),
            // A driven and steered solid axle has a joint at each knuckle.
            AxleKind::Solid if a.end == End::Front => Some(usual(None, JointKind::Cross, None)),
            AxleKind::Solid => None,
        }
    }

    /// Whether the transaxle lies across the vehicle, so that its own final drive is a pair of helical gears.
    pub fn is_transverse(&self) -> bool {
        self.gearbox.transverse.unwrap_or(self.transaxle_end() == Some(End::Front))
    }

    /// Whether an axle's final drive is a part of the gearbox.
    pub fn final_drive_in_gearbox(&self, end: End) -> bool {
        self.transaxle_end() == Some(end)
    }

    /// Whether an axle is steered.
    pub fn is_steered(&self, end: End) -> bool {
        end == End::Front
    }

    /// A gear by its name.
    pub fn gear(&self, name: &str) -> Option<&Gear> {
        self.gearbox.gears.iter().find(|g| g.name == name)
    }
}

pub mod sample;

/// Whether a bearing of `n` elements can exist. Elements and pitch circle in mm, the contact angle in degrees from 0 to below 90.
///
/// # Errors
/// Names the field that is out of range.
pub(crate) fn check_bearing(n: u32, element: Millimetres, pitch: Millimetres, contact: Degrees) -> Result<(), Problem> {
    if !(3..=60).contains(&n) {
        return Err(Problem::new("out-of-range", format!("a bearing has 3 to 60 elements, got {n}")).field("elements"));
    }
    positive(element.get(), "element_mm")?;
    positive(pitch.get(), "pitch_mm")?;
    if element.get() >= pitch.get() {
        return Err(Problem::new("out-of-range", "the elements are larger than their pitch circle").field("element_mm"));
    }
    if !(0.0..90.0).contains(&contact.get()) {
        return Err(Problem::new("out-of-range", "a contact angle lies from 0° to below 90°").field("contact_deg"));
    }
    Ok(())
}

#[cfg(test)]
pub(crate) use sample as tests_support;

#[cfg(test)]
mod tests {
    use super::sample::*;
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn every_layout_has_its_places_once_and_words_for_each() {
        for v in every_layout() {
            v.check().unwrap();
            let places = v.places();
            let ids: HashSet<_> = places.iter().map(|p| p.id.clone()).collect();
            assert_eq!(ids.len(), places.len(), "{}", v.name);
            let words: HashSet<_> = places.iter().map(|p| p.words.clone()).collect();
            assert_eq!(words.len(), places.len(), "{}: two places share a name", v.name);
        }
    }

    #[test]
    fn stations_belong_to_their_part() {
        let v = rear_drive(2);
        assert_eq!(v.place("prop.rear.s2.centre").unwrap().id, "prop.rear.s2");
        assert_eq!(v.place("diff.rear.flange").unwrap().kind, PlaceKind::Diff);
        assert_eq!(v.place("gearbox.3").unwrap().id, "gearbox");
        assert!(v.place("prop.front.s1").is_none());
        assert!(v.place("moon").is_none());
        assert_eq!(v.place_words("prop.rear.s2.centre"), "rear section, middle");
        assert_eq!(v.place_words("gearbox.3"), "gearbox in 3");
    }

    /// The ends of a shaft by what stands there: the end at which it is driven carries the first joint.
    #[test]
    fn joints_and_dial_stations_are_called_by_where_they_are() {
        let v = four_wheel_drive();
        let words = |id: &str| v.place_words(id);
        assert_eq!(words("prop.front.j1"), "front shaft joint at the transfer case");
        assert_eq!(words("prop.front.j2"), "front shaft joint at the front axle");
        assert_eq!(words("prop.rear.j1"), "rear shaft joint at the transfer case");
        assert_eq!(words("prop.front.s1.front"), "front shaft tube, end at the front axle");
        assert_eq!(words("prop.front.s1.rear"), "front shaft tube, end at the transfer case");
        assert_eq!(words("prop.rear.s1.front"), "rear shaft tube, front end");
        let two = rear_drive(2);
        let joints: Vec<String> = (1..=3).map(|k| two.place_words(&format!("prop.rear.j{k}"))).collect();
        assert_eq!(joints, ["joint at the gearbox", "joint at the support bearing", "joint at the rear axle"]);
        let three = rear_drive(3);
        assert_eq!(three.place_words("prop.rear.j2"), "joint at the front support bearing");
        assert_eq!(three.place_words("prop.rear.s2"), "middle section");
        assert_eq!(rear_transaxle().place_words("prop.rear.j1"), "joint at the engine");
    }

    #[test]
    fn no_label_of_a_front_shaft_points_the_wrong_way() {
        for v in every_layout() {
            for p in &v.props {
                let id = |what: &str| v.place_words(&format!("prop.{}.{what}", p.end.id()));
                let (first, last) = (id("j1"), id(&format!("j{}", p.joints.len())));
                let driven_at = match (v.transfer.is_some(), v.prop_before_gearbox(p.end)) {
                    (true, _) => "transfer case",
                    (_, true) => "engine",
                    _ if v.gearbox.transaxle => "bevel box",
                    _ => "gearbox",
                };
                assert!(first.ends_with(&format!("at the {driven_at}")), "{}: {first}", v.name);
                let drives = ["axle", "coupling unit", "gearbox"].iter().any(|w| last.ends_with(w));
                assert!(drives && first != last, "{}: {last}", v.name);
                for k in 1..=p.sections.len() {
                    let ends: Vec<String> = ["front", "centre", "rear"].iter().map(|s| id(&format!("s{k}.{s}"))).collect();
                    assert!(ends[0] != ends[2] && ends[1].ends_with("middle"), "{}: {ends:?}", v.name);
                    // Nothing of a front shaft is called front or rear but by an axle, a shaft's name or a direction on the vehicle.
                    if p.end == End::Front && p.sections.len() == 1 {
                        assert!(ends[0].contains("front axle") && !ends[2].contains("front axle"), "{}: {ends:?}", v.name);
                    }
                }
            }
        }
    }

    #[test]
    fn impossible_vehicles_are_refused_by_field() {
        let field = |v: Vehicle| v.check().unwrap_err().field.unwrap();
        let mut v = rear_drive(2);
        v.props[0].joints.pop();
        assert_eq!(field(v), "props[0].joints");
        let mut v = rear_drive(1);
        v.props[0].sections[0].wall_mm = crate::units::Millimetres(60.0);
        assert_eq!(field(v), "props[0].sections[0].wall_mm");
        let mut v = rear_drive(1);
        v.axles.iter_mut().for_each(|a| a.driven = false);
        assert_eq!(field(v), "axles");
        let mut v = rear_drive(1);
        v.gearbox.gears[1].name = v.gearbox.gears[0].name.clone();
        assert_eq!(field(v), "gearbox.gears[1].name");
        let json = serde_json::json!({"tyre": {"size": "235/65R16"}, "gearbox": {"kind": "sideways"}, "axles": []});
        assert_eq!(Vehicle::from_json(&json).unwrap_err().field.as_deref(), Some("vehicle.gearbox.kind"));
    }
}
