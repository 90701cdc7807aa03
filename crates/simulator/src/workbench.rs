//! A virtual dial on virtual parts that are bolted on each other: true circles that stand off their axis, read mark by mark.
//!
//! A part runs out because its bore is off its outside; bolted on another in one of its positions it takes that part's own offset with
//! it. The dial reads a true circle, not a cosine: r(θ) = d·cos(θ − φ) + √(R² − d²·sin²(θ − φ)).

use crate::noise::Noise;
use baricord_core::measure::runout::{Reading, RunoutInput};
use baricord_core::units::{Degrees, Millimetres};

/// A shaft, or a wheel, on what carries it.
#[derive(Clone, Copy, Debug)]
pub struct BoltedParts {
    /// How far the carrier's centre is off the axis, mm, and towards which mark, degrees.
    pub carrier: (f64, f64),
    /// The same of the part's outside against its bore, in position 0.
    pub part: (f64, f64),
    /// Radius of what the dial touches, mm.
    pub radius_mm: f64,
    /// Positions in which the part can be bolted on.
    pub positions: u32,
}

/// One sigma of a reading by hand, and what the dial is divided into, mm.
const HAND_MM: f64 = 0.006;
const DIVISION_MM: f64 = 0.01;

/// A circle that stands off the axis by `off` mm towards `deg`, read at so many marks.
fn read(off: (f64, f64), radius: f64, marks: u32, noise: &mut Noise) -> RunoutInput {
    let (d, phi) = (off.0.hypot(off.1), off.1.atan2(off.0));
    let set = 0.2 * (noise.uniform() - 0.5);
    let at = |i: u32| {
        let deg = 360.0 * f64::from(i) / f64::from(marks);
        let turn = deg.to_radians() - phi;
        let true_mm = d * turn.cos() + (radius * radius - (d * turn.sin()).powi(2)).sqrt() - radius + set;
        let seen = true_mm + HAND_MM * noise.normal();
        Reading { deg: Degrees(deg), mm: Millimetres((seen / DIVISION_MM).round() * DIVISION_MM) }
    };
    RunoutInput { readings: Some((0..marks).map(at).collect()), ..RunoutInput::default() }
}

fn vector((mm, deg): (f64, f64)) -> (f64, f64) {
    (mm * deg.to_radians().cos(), mm * deg.to_radians().sin())
}

impl BoltedParts {
    /// The dial on the carrier alone; seeded as everything here.
    pub fn read_carrier(&self, marks: u32, seed: u64) -> RunoutInput {
        read(vector(self.carrier), self.radius_mm, marks, &mut Noise::new(seed))
    }

    /// The dial on the part as it is mounted in a position.
    pub fn read_mounted(&self, position: u32, marks: u32, seed: u64) -> RunoutInput {
        let turned = (self.part.0, self.part.1 + 360.0 * f64::from(position) / f64::from(self.positions));
        let ((cx, cy), (px, py)) = (vector(self.carrier), vector(turned));
        read((cx + px, cy + py), self.radius_mm, marks, &mut Noise::new(seed))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use baricord_core::measure::indexing::{IndexInput, RunoutVector, index, part_alone};
    use baricord_core::measure::runout::runout;

    fn seen(input: &RunoutInput) -> RunoutVector {
        let r = runout(input).unwrap();
        RunoutVector { tir_mm: r.tir_mm, high_spot_deg: r.high_spot_deg }
    }

    /// Bolted on in the position that the sum names, and read again, it is what the sum foretold, and no other position reads less.
    #[test]
    fn what_indexing_foretells_is_what_the_dial_reads_afterwards() {
        for seed in 0..60 {
            let mut noise = Noise::new(seed);
            let off = |noise: &mut Noise| (0.05 + 0.45 * noise.uniform(), 360.0 * noise.uniform());
            let parts = BoltedParts {
                carrier: off(&mut noise),
                part: off(&mut noise),
                radius_mm: 38.0,
                positions: 3 + (seed % 6) as u32,
            };
            let carrier = seen(&parts.read_carrier(8, seed + 1000));
            let mounted = seen(&parts.read_mounted(0, 8, seed + 2000));
            let vectors = vec![carrier, part_alone(mounted, carrier)];
            let plan = index(&IndexInput { vectors, positions: parts.positions }).unwrap();
            let again = seen(&parts.read_mounted(plan.best.position, 8, seed + 3000));
            let gap = (again.tir_mm.get() - plan.best.tir_mm.get()).abs();
            assert!(gap < 0.06, "seed {seed}: {gap:.3} mm");
            for p in 0..parts.positions {
                let other = seen(&parts.read_mounted(p, 8, seed + 4000)).tir_mm.get();
                assert!(again.tir_mm.get() < other + 0.06, "seed {seed}, position {p}: {other:.3}");
            }
        }
    }
}
