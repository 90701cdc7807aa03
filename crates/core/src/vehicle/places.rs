//! The places of a driveline. A vehicle's layout decides which of them exist; their ids are the
//! public vocabulary of case files, exports and answers.

use super::{AxleKind, Corner, End, GearboxKind, JointKind, Vehicle};
use std::borrow::Cow;

/// What kind of part a place is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum PlaceKind {
    /// Engine or motor.
    Engine,
    /// Clutch.
    Clutch,
    /// Gearbox, also of a transaxle.
    Gearbox,
    /// Transfer case or bevel box.
    Transfer,
    /// Coupling unit before an axle.
    Coupler,
    /// A propeller shaft as a whole.
    Prop,
    /// A section of a shaft.
    Section,
    /// A joint of a shaft.
    Joint,
    /// A support bearing of a shaft.
    Support,
    /// The slip of a shaft.
    Slip,
    /// A final drive.
    Diff,
    /// A half shaft.
    Half,
    /// The joint of a half shaft at the final drive.
    HalfInner,
    /// The joint of a half shaft at the wheel.
    HalfOuter,
    /// A hub with its bearing.
    Hub,
    /// A wheel with its tyre.
    Wheel,
    /// A strut's top bearing.
    Strut,
    /// A mount.
    Mount,
    /// The bearing of an intermediate shaft.
    HalfBearing,
    /// A wheel brake.
    Brake,
    /// The exhaust.
    Exhaust,
    /// What stands around the driveline: battery, subframes. It is no place of a vehicle's own list.
    Body,
}

/// One place of one vehicle.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// Public id: `prop.rear.j1`.
    pub id: String,
    /// What it is.
    pub kind: PlaceKind,
    /// Its axle's end, where it belongs to one.
    pub end: Option<End>,
    /// The wheel that it belongs to.
    pub corner: Option<Corner>,
    /// Its number along the shaft, from 1 at the gearbox.
    pub number: Option<usize>,
    /// What a mechanic calls it on this vehicle.
    pub words: String,
}

impl Place {
    fn new(kind: PlaceKind, id: impl Into<String>, words: impl Into<String>) -> Self {
        Self { id: id.into(), kind, end: None, corner: None, number: None, words: words.into() }
    }
    fn end(mut self, end: End) -> Self {
        self.end = Some(end);
        self
    }
    fn corner(mut self, corner: Corner) -> Self {
        self.corner = Some(corner);
        self.end(corner.end())
    }
    fn number(mut self, n: usize) -> Self {
        self.number = Some(n);
        self
    }

    /// Whether two places belong to one assembly (the same corner, the same shaft, the same unit).
    pub fn same_assembly(&self, other: &Place) -> bool {
        if self.id == other.id {
            return true;
        }
        match (self.corner, other.corner) {
            (Some(a), Some(b)) => a == b,
            _ => self.is_of_shaft() && other.is_of_shaft() && self.end == other.end,
        }
    }

    /// Whether it is a part of a propeller shaft.
    pub fn is_of_shaft(&self) -> bool {
        matches!(self.kind, PlaceKind::Prop | PlaceKind::Section | PlaceKind::Joint | PlaceKind::Support | PlaceKind::Slip)
    }

    /// Whether it is a part of what drives an axle: its shaft, its final drive, its half shafts.
    pub fn is_of_axle_drive(&self) -> bool {
        self.is_of_shaft()
            || matches!(
                self.kind,
                PlaceKind::Diff
                    | PlaceKind::Half
                    | PlaceKind::HalfInner
                    | PlaceKind::HalfOuter
                    | PlaceKind::HalfBearing
                    | PlaceKind::Coupler
            )
    }

    /// The propeller shaft or half shaft with which it comes off; none of what comes off on its own.
    pub fn whole(&self) -> Option<String> {
        match self.kind {
            _ if self.is_of_shaft() => self.end.map(|e| format!("prop.{}", e.id())),
            PlaceKind::Half | PlaceKind::HalfInner | PlaceKind::HalfOuter | PlaceKind::HalfBearing => {
                self.corner.map(|c| format!("half.{}", c.id()))
            }
            _ => None,
        }
    }
}

/// What the two ends of a propeller shaft are bolted to, in words: where it is driven, and where it drives.
struct ShaftEnds {
    driven_at: String,
    drives_at: String,
}

/// Where the `k`th of `n` sections or support bearings of a shaft stands, in words. `k` counts from the end where the shaft is
/// driven: of a shaft that runs forward the first one is the rear one, so these are named by what they are next to.
fn along_shaft(k: usize, n: usize, what: &str, runs_forward: bool, ends: &ShaftEnds) -> String {
    match (k, runs_forward) {
        _ if n == 1 => what.to_string(),
        (0, true) => format!("{what} at the {}", ends.driven_at),
        (0, false) => format!("front {what}"),
        (k, true) if k + 1 == n => format!("{what} at the {}", ends.drives_at),
        (k, false) if k + 1 == n => format!("rear {what}"),
        _ if n == 3 => format!("middle {what}"),
        _ => format!("{what} {}", k + 1),
    }
}

/// Whether a place is another, or a part of it: `prop.rear.s1.centre` of `prop.rear`.
pub fn is_part_of(at: &str, place: &str) -> bool {
    at == place || at.strip_prefix(place).is_some_and(|rest| rest.starts_with('.'))
}

/// The place that an answer names: an axle end stands for its final drive.
pub fn answered_place(at: &str) -> Cow<'_, str> {
    match at {
        "front" | "rear" => format!("diff.{at}").into(),
        _ => at.into(),
    }
}

impl Vehicle {
    /// Every place of this vehicle, from the engine along the driveline to the wheels, each once.
    pub fn places(&self) -> Vec<Place> {
        use PlaceKind as K;
        let mut out = vec![Place::new(K::Engine, "engine", if self.is_electric() { "motor" } else { "engine" })];
        if self.gearbox.kind == GearboxKind::Manual {
            out.push(Place::new(K::Clutch, "clutch", "clutch"));
        }
        let gearbox = if self.is_electric() { "reduction gear" } else { "gearbox" };
        out.push(Place::new(K::Gearbox, "gearbox", gearbox));
        if self.transfer.is_some() {
            out.push(Place::new(K::Transfer, "transfer", "transfer case"));
        } else if self.transaxle_end().is_some_and(|e| self.prop(e.other()).is_some()) {
            out.push(Place::new(K::Transfer, "transfer", "bevel box"));
        }
        if let Some(c) = self.coupler {
            out.push(Place::new(K::Coupler, "coupler", "coupling unit").end(c.before));
        }
        for p in &self.props {
            self.prop_places(p, &mut out);
        }
        let driven = self.axles.iter().filter(|a| a.driven).count();
        for a in &self.axles {
            let end = a.end;
            if a.driven {
                let words = if driven > 1 { format!("{} final drive", end.id()) } else { "final drive".into() };
                out.push(Place::new(K::Diff, format!("diff.{}", end.id()), words).end(end));
            }
            for c in end.corners() {
                self.corner_places(a.driven, a.kind, c, &mut out);
            }
        }
        out.push(Place::new(K::Mount, "mount.engine", if self.is_electric() { "motor mount" } else { "engine mount" }));
        out.push(Place::new(K::Mount, "mount.gearbox", "gearbox mount"));
        if !self.is_electric() {
            out.push(Place::new(K::Exhaust, "exhaust", "exhaust"));
        }
        let own = self.transaxle_end();
        if self.axles.iter().any(|a| a.driven && a.kind == AxleKind::Independent && own != Some(a.end)) {
            out.push(Place::new(K::Mount, "mount.diff", "final drive mount"));
        }
        out
    }

    /// What the ends of a shaft are bolted to.
    fn shaft_ends(&self, p: &super::Prop) -> ShaftEnds {
        let gearbox = if self.is_electric() { "reduction gear" } else { "gearbox" };
        if self.prop_before_gearbox(p.end) {
            return ShaftEnds { driven_at: "engine".into(), drives_at: gearbox.into() };
        }
        let driven_at = match self.transaxle_end() {
            _ if self.transfer.is_some() => "transfer case",
            Some(e) if e != p.end => "bevel box",
            _ => gearbox,
        };
        let drives_at = match self.coupler {
            Some(c) if c.before == p.end => "coupling unit".into(),
            _ => format!("{} axle", p.end.id()),
        };
        ShaftEnds { driven_at: driven_at.into(), drives_at }
    }

    /// What a mechanic calls the elements of a shaft whose slopes are read: what drives it, each section, the pinion.
    pub fn slope_words(&self, p: &super::Prop) -> Vec<String> {
        let n = p.sections.len();
        let mut out = vec![self.shaft_ends(p).driven_at];
        out.extend(self.section_words(p.end).into_iter().map(|w| if n == 1 { "shaft".to_string() } else { w }));
        out.push(if self.prop_before_gearbox(p.end) { "gearbox input".into() } else { "pinion".into() });
        out
    }

    /// What a mechanic calls the sections of a shaft, in the order in which they are numbered.
    pub fn section_words(&self, end: End) -> Vec<String> {
        let Some(p) = self.prop(end) else { return vec![] };
        let (n, ends) = (p.sections.len(), self.shaft_ends(p));
        let forward = Self::runs_forward(p);
        (0..n).map(|k| along_shaft(k, n, if n == 1 { "tube" } else { "section" }, forward, &ends)).collect()
    }

    /// Whether a shaft runs forward from where it is driven: `.s1` and `.j1` are then its rear ones.
    fn runs_forward(p: &super::Prop) -> bool {
        p.end == End::Front
    }

    fn prop_places(&self, p: &super::Prop, out: &mut Vec<Place>) {
        use PlaceKind as K;
        let (id, end, n) = (format!("prop.{}", p.end.id()), p.end, p.sections.len());
        let which = if self.props.len() > 1 { format!("{} shaft ", end.id()) } else { String::new() };
        let whole = if self.props.len() > 1 { format!("{} propeller shaft", end.id()) } else { "propeller shaft".into() };
        let (ends, forward) = (self.shaft_ends(p), Self::runs_forward(p));
        out.push(Place::new(K::Prop, &id, whole).end(end));
        if p.slip.is_some() {
            out.push(Place::new(K::Slip, format!("{id}.slip"), format!("{which}slip")).end(end));
        }
        for (k, what) in self.section_words(end).into_iter().enumerate() {
            let what = if n == 1 && which.is_empty() { "shaft tube".to_string() } else { what };
            out.push(Place::new(K::Section, format!("{id}.s{}", k + 1), format!("{which}{what}")).end(end).number(k + 1));
        }
        let support = |k: usize| along_shaft(k, n - 1, "support bearing", forward, &ends);
        for (k, j) in p.joints.iter().enumerate() {
            let what = if j.kind() == JointKind::Flex { "flex coupling" } else { "joint" };
            let at = match k {
                0 => ends.driven_at.clone(),
                k if k >= n => ends.drives_at.clone(),
                // Between two sections it stands behind the support bearing of the first of them.
                k => support(k - 1),
            };
            let words = format!("{which}{what} at the {at}");
            out.push(Place::new(K::Joint, format!("{id}.j{}", k + 1), words).end(end).number(k + 1));
        }
        for k in 1..n {
            out.push(Place::new(K::Support, format!("{id}.sb{k}"), format!("{which}{}", support(k - 1))).end(end).number(k));
        }
    }

    /// What the measuring point at an end of a section is called: by direction on the vehicle where there is one shaft that runs
    /// rearward, by what the end is next to where it runs forward. `front` and `rear` of a point are directions on the vehicle.
    fn point_words(&self, p: &Place, point: &str) -> String {
        let prop = p.end.and_then(|e| self.prop(e)).filter(|_| p.kind == PlaceKind::Section);
        match (prop, point) {
            (Some(_), "centre") => "middle".into(),
            (Some(q), "front" | "rear") if Self::runs_forward(q) => {
                let (ends, k, n) = (self.shaft_ends(q), p.number.unwrap_or(1), q.sections.len());
                match point {
                    "rear" if k == 1 => format!("end at the {}", ends.driven_at),
                    "front" if k == n => format!("end at the {}", ends.drives_at),
                    other => format!("{other} end"),
                }
            }
            (Some(_), "front" | "rear") => format!("{point} end"),
            _ => point.replace('.', " "),
        }
    }

    fn corner_places(&self, driven: bool, kind: AxleKind, c: Corner, out: &mut Vec<Place>) {
        use PlaceKind as K;
        let (id, w) = (c.id(), c.words());
        let half = self.half_shaft(c);
        if driven || half.is_some() {
            out.push(Place::new(K::Half, format!("half.{id}"), format!("{w} half shaft")).corner(c));
        }
        if let Some(h) = half {
            if h.inner.is_some() {
                out.push(Place::new(K::HalfInner, format!("half.{id}.inner"), format!("{w} inner joint")).corner(c));
            }
            if h.outer.is_some() {
                out.push(Place::new(K::HalfOuter, format!("half.{id}.outer"), format!("{w} outer joint")).corner(c));
            }
            if h.intermediate.is_some_and(|i| i.bearing) {
                let words = format!("{w} intermediate bearing");
                out.push(Place::new(K::HalfBearing, format!("half.{id}.bearing"), words).corner(c));
            }
        }
        out.push(Place::new(K::Hub, format!("hub.{id}"), format!("{w} hub")).corner(c));
        out.push(Place::new(K::Wheel, format!("wheel.{id}"), format!("{w} wheel")).corner(c));
        out.push(Place::new(K::Brake, format!("brake.{id}"), format!("{w} brake")).corner(c));
        if c.end() == End::Front && kind == AxleKind::Independent {
            out.push(Place::new(K::Strut, format!("strut.{id}"), format!("{w} strut top")).corner(c));
        }
    }

    /// The place that an id names: itself, or the part that a measuring point (`prop.rear.s2.centre`,
    /// `diff.rear.flange`, `gearbox.3`) belongs to.
    pub fn place(&self, id: &str) -> Option<Place> {
        let places = self.places();
        let mut probe = id;
        loop {
            if let Some(p) = places.iter().find(|p| p.id == probe) {
                return Some(p.clone());
            }
            probe = probe.rsplit_once('.')?.0;
        }
    }

    /// What a mechanic calls a place, a measuring point on it, or a gear.
    pub fn place_words(&self, id: &str) -> String {
        if id == "none" {
            return "none of these".into();
        }
        match self.place(id) {
            Some(p) if p.id == id => p.words,
            Some(p) => {
                let rest = id[p.id.len()..].trim_start_matches('.');
                if p.kind == PlaceKind::Gearbox && self.gear(rest).is_some() {
                    format!("{} in {rest}", p.words)
                } else {
                    format!("{}, {}", p.words, self.point_words(&p, rest))
                }
            }
            None => id.to_string(),
        }
    }
}
