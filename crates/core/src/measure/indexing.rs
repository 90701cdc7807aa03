//! Indexing: a part that bolts on in several positions is turned to where its runout and that of what carries it cancel.
//!
//! Runout adds as vectors, TIR at the high spot: for each position the turned part's vector is turned by 360°·position/positions and added
//! to the fixed one. A shaft's reading as it is mounted holds its flange's already: [`part_alone`] takes that off.

use crate::error::{Problem, finite};
use crate::units::{Degrees, Millimetres};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};

/// Positions that are tried at most.
pub const MOST_POSITIONS: u32 = 360;

/// Runout of a part: how much, and where its high spot is.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunoutVector {
    /// Total reading.
    pub tir_mm: Millimetres,
    /// Mark at the high spot.
    pub high_spot_deg: Degrees,
}

/// What is turned on what, and into how many positions.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct IndexInput {
    /// The part that stays, and the part alone that is turned, as it is now.
    pub vectors: Vec<RunoutVector>,
    /// In how many positions it can be bolted on.
    pub positions: u32,
}

/// A position and what it comes to.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Position {
    /// 0 is as it is now.
    pub position: u32,
    /// How far the part is turned.
    pub turn_deg: Degrees,
    /// Total reading that is expected.
    pub tir_mm: Millimetres,
}

/// Every position, and the best of them.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Index {
    /// The least reading; of equal ones the least turning.
    pub best: Position,
    /// All, from 0.
    pub all: Vec<Position>,
}

impl RunoutVector {
    fn complex(self) -> Complex64 {
        Complex64::from_polar(self.tir_mm.get(), self.high_spot_deg.rad())
    }
    fn of(z: Complex64) -> Self {
        Self { tir_mm: Millimetres(z.norm()), high_spot_deg: Degrees(z.arg().to_degrees()).turned() }
    }
}

/// The runout of a part alone, read as it is mounted on something that runs out itself.
pub fn part_alone(mounted: RunoutVector, carrier: RunoutVector) -> RunoutVector {
    RunoutVector::of(mounted.complex() - carrier.complex())
}

/// The reading in each position, mm TIR. Errors: `vectors` are two, with a TIR of 0 mm or more; `positions` from 1 to 360.
///
/// ```
/// use baricord_core::{error::read_json, measure::indexing::index};
/// let input = serde_json::json!({"vectors": [{"tir_mm": 0.3, "high_spot_deg": 0}, {"tir_mm": 0.2, "high_spot_deg": 10}], "positions": 4});
/// let i = index(&read_json(&input).unwrap()).unwrap();
/// assert_eq!(i.best.position, 2);
/// ```
pub fn index(input: &IndexInput) -> Result<Index, Problem> {
    let [fixed, turned] = input.vectors[..] else {
        let message =
            format!("two runouts are needed, of the part that stays and of the one that is turned; got {}", input.vectors.len());
        return Err(Problem::new("mismatch", message).field("vectors"));
    };
    for (i, v) in [fixed, turned].into_iter().enumerate() {
        let under = |p: Problem| p.under(&format!("vectors[{i}]"));
        finite(v.high_spot_deg.get(), "high_spot_deg").map_err(under)?;
        finite(v.tir_mm.get(), "tir_mm").map_err(under)?;
        if v.tir_mm.get() < 0.0 {
            return Err(Problem::new("out-of-range", "a total reading is 0 mm or more").field(format!("vectors[{i}].tir_mm")));
        }
    }
    if !(1..=MOST_POSITIONS).contains(&input.positions) {
        return Err(Problem::new("out-of-range", format!("1 to {MOST_POSITIONS} positions")).field("positions"));
    }
    let at = |position: u32| {
        let turn = 360.0 * f64::from(position) / f64::from(input.positions);
        let sum = fixed.complex() + turned.complex() * Complex64::from_polar(1.0, turn.to_radians());
        Position { position, turn_deg: Degrees(turn), tir_mm: Millimetres(sum.norm()) }
    };
    let all: Vec<Position> = (0..input.positions).map(at).collect();
    // Equal but for rounding is equal: the least turning wins.
    let less = |a: &Position, b: &Position| a.tir_mm.get() < b.tir_mm.get() - 1e-9;
    let best = all.iter().fold(all[0], |best, p| if less(p, &best) { *p } else { best });
    Ok(Index { best, all })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn v(tir: f64, high: f64) -> RunoutVector {
        RunoutVector { tir_mm: Millimetres(tir), high_spot_deg: Degrees(high) }
    }
    fn of(fixed: RunoutVector, turned: RunoutVector, positions: u32) -> Index {
        index(&IndexInput { vectors: vec![fixed, turned], positions }).unwrap()
    }

    #[test]
    fn opposite_cancels_and_the_present_position_is_kept_when_nothing_is_won() {
        let i = of(v(0.3, 20.0), v(0.3, 20.0), 2);
        assert_eq!((i.best.position, i.best.turn_deg), (1, Degrees(180.0)));
        assert!(i.best.tir_mm.get() < 1e-12 && (i.all[0].tir_mm.get() - 0.6).abs() < 1e-12);
        assert_eq!(of(v(0.3, 0.0), v(0.0, 0.0), 6).best.position, 0);
        // Four holes, turned by a quarter: 0.3 at 0° and 0.2 at 80° + 90° = 170°.
        let i = of(v(0.3, 0.0), v(0.2, 80.0), 4);
        let want = (0.09 + 0.04 + 2.0 * 0.06 * 170f64.to_radians().cos()).sqrt();
        assert!(i.best.position == 1 && (i.best.tir_mm.get() - want).abs() < 1e-12);
    }

    #[test]
    fn errors_name_the_field() {
        let field = |vectors, positions| index(&IndexInput { vectors, positions }).unwrap_err().field.unwrap();
        assert_eq!(field(vec![v(0.1, 0.0)], 4), "vectors");
        assert_eq!(field(vec![v(0.1, 0.0), v(-0.1, 0.0)], 4), "vectors[1].tir_mm");
        assert_eq!(field(vec![v(0.1, f64::NAN), v(0.1, 0.0)], 4), "vectors[0].high_spot_deg");
        assert_eq!(field(vec![v(0.1, 0.0), v(0.1, 0.0)], 0), "positions");
    }

    proptest! {
        #[test]
        fn what_is_mounted_less_the_flange_is_the_shaft(a in 0.0f64..2.0, x in 0.0f64..360.0, b in 0.0f64..2.0, y in 0.0f64..360.0) {
            let both = RunoutVector::of(v(a, x).complex() + v(b, y).complex());
            let alone = part_alone(both, v(a, x));
            prop_assert!((alone.complex() - v(b, y).complex()).norm() < 1e-9);
        }
        #[test]
        fn the_best_is_no_worse_than_any_and_than_now(a in 0.0f64..2.0, x in 0.0f64..360.0, b in 0.0f64..2.0, y in 0.0f64..360.0, n in 1u32..24) {
            let i = of(v(a, x), v(b, y), n);
            prop_assert!(i.all.iter().all(|p| i.best.tir_mm.get() <= p.tir_mm.get() + 1e-9));
            prop_assert!(i.best.tir_mm.get() >= (a - b).abs() - 1e-9);
        }
    }
}
