//! Where every part of a driveline stands on the sheet: one engine for every layout.
//!
//! Plan view, front to the left. Engine, gearbox, shafts and final drives lie along the middle; the
//! corners (inner joint, half shaft, outer joint, hub, wheel) stand above and below their axle, left
//! above. A vehicle whose engine is at the rear is laid out turned round and mirrored.

use baricord_core::vehicle::{Corner, End, Place, Prop, Slip, Vehicle};

/// A rectangle on the sheet.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rect {
    pub x: f64,
    pub y: f64,
    pub w: f64,
    pub h: f64,
}

impl Rect {
    pub fn new(x: f64, y: f64, w: f64, h: f64) -> Self {
        Self { x, y, w, h }
    }
    pub fn cx(&self) -> f64 {
        self.x + self.w / 2.0
    }
    pub fn cy(&self) -> f64 {
        self.y + self.h / 2.0
    }
    pub fn right(&self) -> f64 {
        self.x + self.w
    }
    pub fn bottom(&self) -> f64 {
        self.y + self.h
    }
    /// Whether two share more than an edge.
    pub fn overlaps(&self, o: &Rect) -> bool {
        const TOUCH: f64 = 0.01;
        self.x + TOUCH < o.right() && o.x + TOUCH < self.right() && self.y + TOUCH < o.bottom() && o.y + TOUCH < self.bottom()
    }
}

/// A part in its place on the sheet.
#[derive(Clone, Debug)]
pub struct Part {
    pub place: Place,
    pub rect: Rect,
}

/// The drawing as placed rectangles, in its own units.
#[derive(Clone, Debug)]
pub struct Sheet {
    pub width: f64,
    pub height: f64,
    pub parts: Vec<Part>,
    /// Heights of the shafts' centre lines: main, and the front shaft beside the gearbox.
    pub axis: f64,
    /// Whether the driveline was mirrored: the engine at the rear.
    pub mirrored: bool,
}

/// Sizes that differ between a wide sheet and a phone's.
struct Sizes {
    width: f64,
    front: f64,
    rear: f64,
    wheel: f64,
    engine: f64,
    clutch: f64,
    gearbox: f64,
    transfer: f64,
    coupler: f64,
    diff: f64,
    joint: f64,
    slip: f64,
    support: f64,
    corner: f64,
}

const WIDE: Sizes = Sizes {
    width: 1280.0,
    front: 150.0,
    rear: 1090.0,
    wheel: 68.0,
    engine: 108.0,
    clutch: 18.0,
    gearbox: 128.0,
    transfer: 54.0,
    coupler: 40.0,
    diff: 64.0,
    joint: 34.0,
    slip: 28.0,
    support: 18.0,
    corner: 16.0,
};

const NARROW: Sizes = Sizes {
    width: 390.0,
    front: 38.0,
    rear: 352.0,
    wheel: 34.0,
    engine: 34.0,
    clutch: 6.0,
    gearbox: 30.0,
    transfer: 18.0,
    coupler: 13.0,
    diff: 24.0,
    joint: 12.0,
    slip: 9.0,
    support: 7.0,
    corner: 10.0,
};

/// Height of the sheet, and of its middle.
pub const HEIGHT: f64 = 208.0;
const AXIS: f64 = 88.0;
/// The front shaft of a transfer case runs beside the gearbox.
const SIDE: f64 = 137.0;

/// Lays a vehicle out on a wide sheet or on a phone's.
pub fn lay_out(v: &Vehicle, narrow: bool) -> Sheet {
    let s = if narrow { &NARROW } else { &WIDE };
    let places = v.places();
    let engine_end = v.engine_end();
    let mirrored = engine_end == End::Rear;
    let mut b = Builder { v, s, places: &places, parts: vec![] };
    b.units();
    b.corners();
    let mut sheet = Sheet { width: s.width, height: HEIGHT, parts: b.parts, axis: AXIS, mirrored };
    if mirrored {
        for p in &mut sheet.parts {
            p.rect.x = s.width - p.rect.right();
        }
    }
    sheet
}

struct Builder<'a> {
    v: &'a Vehicle,
    s: &'a Sizes,
    places: &'a [Place],
    parts: Vec<Part>,
}

impl Builder<'_> {
    fn put(&mut self, id: &str, rect: Rect) {
        if let Some(p) = self.places.iter().find(|p| p.id == id) {
            self.parts.push(Part { place: p.clone(), rect });
        }
    }
    fn has(&self, id: &str) -> bool {
        self.places.iter().any(|p| p.id == id)
    }
    fn rect(&self, id: &str) -> Option<Rect> {
        self.parts.iter().find(|p| p.place.id == id).map(|p| p.rect)
    }
    /// Where an axle stands before any mirroring: the engine's own end is always left.
    fn axle_x(&self, end: End) -> f64 {
        let at_engine = end == self.v.engine_end();
        if at_engine { self.s.front } else { self.s.rear }
    }
    fn centred(x: f64, y: f64, w: f64, h: f64) -> Rect {
        Rect::new(x - w / 2.0, y - h / 2.0, w, h)
    }

    fn units(&mut self) {
        let s = self.s;
        let engine_end = self.v.engine_end();
        let transaxle = self.v.transaxle_end();
        if transaxle == Some(engine_end) {
            self.transverse(engine_end);
        } else {
            self.lengthwise(transaxle);
        }
        let far = engine_end.other();
        let far_diff = format!("diff.{}", far.id());
        if self.has(&far_diff) && self.rect(&far_diff).is_none() {
            self.put(&far_diff, Self::centred(self.axle_x(far), AXIS, s.diff, 44.0));
        }
        if self.has("mount.diff") {
            let own = [far, engine_end].into_iter().find_map(|e| {
                let a = self.v.axle(e)?;
                let independent = a.kind == baricord_core::vehicle::AxleKind::Independent;
                (a.driven && independent && transaxle != Some(e)).then(|| self.rect(&format!("diff.{}", e.id()))).flatten()
            });
            if let Some(d) = own {
                let w = if s.width < 500.0 { 8.0 } else { 16.0 };
                // On the side away from the engine, where nothing else stands.
                let x = if d.cx() < s.width / 2.0 { d.x - 2.0 - w } else { d.right() + 2.0 };
                self.put("mount.diff", Rect::new(x, d.cy() - 7.0, w, 14.0));
            }
        }
        for p in &self.v.props {
            self.shaft(p);
        }
        let from = s.front + s.corner + 16.0;
        self.put("exhaust", Rect::new(from, 164.0, (s.rear - s.corner - 16.0 - from).max(20.0), 5.0));
    }

    /// Engine across the vehicle, gearbox beside it, final drive behind both.
    fn transverse(&mut self, end: End) {
        let s = self.s;
        let x = self.axle_x(end);
        let (w, ex) = (s.engine * 0.72, x + s.diff / 2.0 + s.corner);
        // The block stands behind its axle on the sheet, so that the corners keep clear of it.
        let block = ex + if s.width < 500.0 { 2.0 } else { 8.0 };
        self.put(&format!("diff.{}", end.id()), Self::centred(x, AXIS, s.diff, 44.0));
        let clutch = if self.has("clutch") { 8.0 } else { 0.0 };
        self.put("engine", Rect::new(block, AXIS - 62.0, w, 54.0));
        self.put("clutch", Rect::new(block, AXIS - 8.0, w, clutch));
        self.put("gearbox", Rect::new(block, AXIS - 8.0 + clutch, w, 50.0 - clutch));
        self.put("mount.engine", Rect::new(block, AXIS - 74.0, w.min(18.0), 10.0));
        self.put("mount.gearbox", Rect::new(block, AXIS + 44.0, w.min(18.0), 10.0));
        self.put("transfer", Rect::new(block + w + 3.0, AXIS - 18.0, s.transfer * 0.7, 36.0));
        let far = end.other();
        if self.has("coupler") {
            let d = self.axle_x(far) - s.diff / 2.0;
            self.put("coupler", Rect::new(d - s.coupler, AXIS - 17.0, s.coupler, 34.0));
        }
    }

    /// Engine, clutch, gearbox, transfer case in a row; or the gearbox at the far axle.
    fn lengthwise(&mut self, transaxle: Option<End>) {
        let s = self.s;
        let x = self.axle_x(self.v.engine_end());
        let front_driven = self.v.axle(self.v.engine_end()).is_some_and(|a| a.driven);
        if front_driven {
            self.put(&format!("diff.{}", self.v.engine_end().id()), Self::centred(x, SIDE - 4.0, s.diff, 36.0));
        }
        let start = x + if front_driven { s.diff / 2.0 + 4.0 } else { s.corner + 4.0 };
        self.put("engine", Rect::new(start, AXIS - 32.0, s.engine, 64.0));
        self.put("mount.engine", Rect::new(start + s.engine / 2.0 - 6.0, AXIS - 46.0, 12.0, 12.0));
        let mut at = start + s.engine;
        if self.has("clutch") {
            self.put("clutch", Rect::new(at, AXIS - 24.0, s.clutch, 48.0));
            at += s.clutch;
        }
        if let Some(end) = transaxle {
            let d = self.axle_x(end) - s.diff / 2.0;
            self.put("gearbox", Rect::new(d - s.gearbox * 0.8, AXIS - 18.0, s.gearbox * 0.8, 36.0));
            self.put("mount.gearbox", Rect::new(d - s.gearbox * 0.4 - 6.0, AXIS - 32.0, 12.0, 12.0));
        } else {
            self.put("gearbox", Rect::new(at, AXIS - 20.0, s.gearbox, 40.0));
            self.put("mount.gearbox", Rect::new(at + s.gearbox * 0.6, AXIS - 34.0, 12.0, 12.0));
            at += s.gearbox;
            if self.has("transfer") {
                let deep = self.v.prop(self.v.engine_end()).is_some();
                let h = if deep { SIDE - AXIS + 36.0 } else { 40.0 };
                self.put("transfer", Rect::new(at, AXIS - 20.0, s.transfer, h));
            }
        }
        if self.has("coupler")
            && let Some(c) = self.v.coupler
        {
            let d = self.axle_x(c.before);
            let near = c.before == self.v.engine_end();
            let x = if near { d + s.diff / 2.0 } else { d - s.diff / 2.0 - s.coupler };
            self.put(
                "coupler",
                Rect::new(x, if near { SIDE - 12.0 } else { AXIS - 17.0 }, s.coupler, if near { 24.0 } else { 34.0 }),
            );
        }
    }

    /// A shaft with its joints, sections, support bearings and slip between two units.
    fn shaft(&mut self, p: &Prop) {
        let s = self.s;
        let engine_end = self.v.engine_end();
        let to_engine = p.end == engine_end;
        let y = if to_engine { SIDE } else { AXIS };
        let edge = |r: Option<Rect>, right: bool, or: f64| r.map_or(or, |r| if right { r.right() } else { r.x });
        let diff = self.rect(&format!("diff.{}", p.end.id()));
        let (near, far) = if to_engine {
            // From transfer case or gearbox back to the axle beside the engine.
            let from = edge(self.rect("transfer").or(self.rect("gearbox")), false, s.width / 2.0);
            let coupled = self.v.coupler.is_some_and(|c| c.before == p.end);
            let to = edge(if coupled { self.rect("coupler") } else { diff }, true, s.front);
            (from, to)
        } else if self.v.prop_before_gearbox(p.end) {
            let from = edge(self.rect("clutch").or(self.rect("engine")), true, s.front);
            (from, edge(self.rect("gearbox"), false, s.rear))
        } else {
            let from = edge(self.rect("transfer").or(self.rect("gearbox")), true, s.front);
            let coupled = self.v.coupler.is_some_and(|c| c.before == p.end);
            (from, edge(if coupled { self.rect("coupler") } else { diff }, false, s.rear))
        };
        let id = format!("prop.{}", p.end.id());
        let direction = if far >= near { 1.0 } else { -1.0 };
        let length = (far - near).abs();
        let n = p.sections.len();
        let fixed = s.joint * (n + 1) as f64 + s.support * (n - 1) as f64 + if p.slip.is_some() { s.slip } else { 0.0 };
        // Where the room is short, everything shrinks alike and a third is left for the tubes.
        let shrink = (length * 0.66 / fixed).min(1.0);
        let (joint, support, slip) = (s.joint * shrink, s.support * shrink, s.slip * shrink);
        let tubes = length - fixed * shrink;
        let total: f64 = p.sections.iter().map(|q| q.length_mm.get().sqrt()).sum();
        let mut at = 0.0;
        let mut place = |b: &mut Self, id: String, w: f64, h: f64| {
            let x = if direction > 0.0 { near + at } else { near - at - w };
            b.put(&id, Rect::new(x, y - h / 2.0, w, h));
            at += w;
        };
        let slip_first = matches!(p.slip, Some(Slip::Gearbox | Slip::Transfer));
        let start = near;
        if slip_first {
            place(self, format!("{id}.slip"), slip, 16.0);
        }
        place(self, format!("{id}.j1"), joint, 24.0);
        for (k, section) in p.sections.iter().enumerate() {
            let w = tubes * section.length_mm.get().sqrt() / total;
            let last = k + 1 == n;
            if last && p.slip == Some(Slip::Shaft) {
                place(self, format!("{id}.slip"), slip, 18.0);
            }
            place(self, format!("{id}.s{}", k + 1), w, 12.0);
            if !last {
                place(self, format!("{id}.sb{}", k + 1), support, if to_engine { 28.0 } else { 38.0 });
            }
            if last && p.slip == Some(Slip::Axle) {
                place(self, format!("{id}.slip"), slip, 16.0);
            }
            place(self, format!("{id}.j{}", k + 2), joint, 24.0);
        }
        // The shaft as a whole is the dimension line that runs along it.
        let x = start.min(far);
        let line = if to_engine { y + 16.0 } else { y + 22.0 };
        self.put(&id, Rect::new(x + 1.0, line, (length - 2.0).max(4.0), 8.0));
    }

    fn corners(&mut self) {
        for a in self.v.axles.clone() {
            let x = self.axle_x(a.end);
            for c in a.end.corners() {
                self.corner(c, x);
            }
        }
    }

    /// From the final drive outward: inner joint, half shaft, outer joint, hub, wheel; the strut beside the hub.
    fn corner(&mut self, c: Corner, x: f64) {
        let s = self.s;
        // Mirroring left and right would turn the vehicle over: turned round, left stays above.
        let up = c.is_left();
        let id = c.id();
        let side_diff = self.rect(&format!("diff.{}", c.end().id()));
        let inner_edge = match (side_diff, up) {
            (Some(d), true) => d.y,
            (Some(d), false) => d.bottom(),
            (None, _) => AXIS,
        };
        let bottom = HEIGHT - 26.0;
        let (wheel_y, hub_y) = if up { (4.0, 26.0) } else { (bottom, bottom - 10.0) };
        self.put(&format!("wheel.{id}"), Rect::new(x - s.wheel / 2.0, wheel_y, s.wheel, 22.0));
        self.put(&format!("hub.{id}"), Rect::new(x - s.corner / 2.0, hub_y, s.corner, 10.0));
        self.put(&format!("brake.{id}"), Rect::new(x + s.corner / 2.0 + 2.0, hub_y, 8.0, 10.0));
        self.put(&format!("strut.{id}"), Rect::new(x - s.corner / 2.0 - 14.0, if up { hub_y } else { hub_y - 2.0 }, 12.0, 12.0));
        if !self.has(&format!("half.{id}")) {
            return;
        }
        let (from, to) = if up { (hub_y + 10.0, inner_edge) } else { (inner_edge, hub_y) };
        let length = to - from;
        let joint = |has: bool| if has { (length * 0.28).min(11.0) } else { 0.0 };
        let (inner, outer) = (joint(self.has(&format!("half.{id}.inner"))), joint(self.has(&format!("half.{id}.outer"))));
        // The bearing of an intermediate shaft stands beside the inner joint.
        let between = if self.has(&format!("half.{id}.bearing")) { (length * 0.16).min(6.0) } else { 0.0 };
        let (a, b) = if up { (from + outer, to - inner - between) } else { (from + inner + between, to - outer) };
        self.put(&format!("half.{id}"), Rect::new(x - 4.0, a, 8.0, b - a));
        let wide = s.corner;
        if between > 0.0 {
            let y = if up { b } else { a - between };
            self.put(&format!("half.{id}.bearing"), Rect::new(x - wide / 2.0, y, wide, between));
        }
        if inner > 0.0 {
            let y = if up { b + between } else { from };
            self.put(&format!("half.{id}.inner"), Rect::new(x - wide / 2.0, y, wide, inner));
        }
        if outer > 0.0 {
            let y = if up { from } else { b };
            self.put(&format!("half.{id}.outer"), Rect::new(x - wide / 2.0, y, wide, outer));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::units::Millimetres;
    use baricord_core::vehicle::sample::*;
    use baricord_core::vehicle::*;
    use rand::{Rng, SeedableRng};
    use rand_chacha::ChaCha8Rng;
    use std::collections::HashSet;

    fn check(v: &Vehicle) {
        v.check().unwrap_or_else(|e| panic!("{}: {e:?}", v.name));
        for narrow in [false, true] {
            let s = lay_out(v, narrow);
            let drawn: Vec<_> = s.parts.iter().map(|p| p.place.id.clone()).collect();
            let unique: HashSet<_> = drawn.iter().cloned().collect();
            let all: HashSet<_> = v.places().into_iter().map(|p| p.id).collect();
            assert_eq!(drawn.len(), unique.len(), "{}: drawn twice", v.name);
            assert_eq!(unique, all, "{} narrow {narrow}", v.name);
            for (i, a) in s.parts.iter().enumerate() {
                let r = a.rect;
                assert!(r.w > 0.5 && r.h > 0.5, "{} {}: {r:?} is nothing", v.name, a.place.id);
                let inside = r.x >= 0.0 && r.y >= 0.0 && r.right() <= s.width && r.bottom() <= s.height;
                assert!(inside, "{} {} is cut at {}: {r:?}", v.name, a.place.id, s.width);
                for b in &s.parts[i + 1..] {
                    assert!(
                        !r.overlaps(&b.rect),
                        "{} narrow {narrow}: {} on {}: {r:?} {:?}",
                        v.name,
                        a.place.id,
                        b.place.id,
                        b.rect
                    );
                }
            }
        }
    }

    #[test]
    fn every_layout_is_drawn_whole() {
        every_layout().iter().for_each(check);
    }

    fn pick<T: Clone>(of: &[T], rng: &mut ChaCha8Rng) -> T {
        of[rng.random_range(0..of.len())].clone()
    }

    #[test]
    fn two_hundred_random_vehicles_are_drawn_whole() {
        let mut rng = ChaCha8Rng::seed_from_u64(7);
        for i in 0..200 {
            let mut v = pick(&every_layout(), &mut rng);
            v.name = format!("{} #{i}", v.name);
            if rng.random_range(0..3) == 0 {
                v.gearbox.kind = pick(&[GearboxKind::Manual, GearboxKind::Automatic], &mut rng);
            }
            for p in &mut v.props {
                let n = 1 + rng.random_range(0..3);
                let sample = p.sections[0].clone();
                p.sections = (0..n)
                    .map(|_| Section {
                        length_mm: Millimetres(250.0 + 100.0 * f64::from(rng.random_range(0..15))),
                        ..sample.clone()
                    })
                    .collect();
                let kinds = [JointKind::Cross, JointKind::DoubleCross, JointKind::Ball, JointKind::Tripod, JointKind::Flex];
                p.joints = (0..=n).map(|_| Joint::Plain(pick(&kinds, &mut rng))).collect();
                p.slip = pick(&[None, Some(Slip::Gearbox), Some(Slip::Transfer), Some(Slip::Shaft), Some(Slip::Axle)], &mut rng);
            }
            for a in &mut v.axles {
                a.kind = pick(&[AxleKind::Solid, AxleKind::Independent], &mut rng);
            }
            if v.gearbox.transaxle && v.props.is_empty() && rng.random_range(0..2) == 0 {
                // The same turned round: everything at the rear.
                for a in &mut v.axles {
                    a.end = a.end.other();
                }
                v.gearbox.end = Some(v.gearbox.end.map_or(End::Rear, End::other));
                v.half_shafts.clear();
            }
            if v.prop(End::Rear).is_some()
                && !v.prop_before_gearbox(End::Rear)
                && v.axle(End::Rear).is_some_and(|a| a.driven)
                && rng.random_range(0..4) == 0
            {
                v.coupler = Some(Coupler { before: End::Rear });
            }
            if rng.random_range(0..3) == 0 {
                v.half_shafts.clear();
            }
            v.bearings.clear();
            check(&v);
        }
    }
}
