//! Hose clamps as balance masses: the housing of a worm clamp is the mass; where each of them goes.
//!
//! k clamps of mass c give at most k·c. Two at ±acos(W/2c) from the wanted direction give exactly W; an odd one stands in it, the others
//! beside it in mirrored pairs at one angle.

use crate::error::{Problem, finite, positive};
use crate::units::Degrees;
use serde::{Deserialize, Serialize};

/// Clamps that are put on at most.
pub const MOST_CLAMPS: u32 = 24;
/// A mass is met within this share of a housing.
const MET: f64 = 1e-9;

/// What is wanted, and of what.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct ClampsInput {
    /// Wanted mass.
    pub mass_g: f64,
    /// Wanted place.
    pub deg: Degrees,
    /// Mass of one housing.
    pub clamp_g: f64,
    /// Most to use.
    pub clamps: u32,
}

/// Where the housings go.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Clamps {
    /// Each housing.
    pub housings_deg: Vec<Degrees>,
    /// Length of the vector by which they miss.
    pub error_g: f64,
}

/// Angle of the pairs by which `k` clamps give `wanted` housings' worth; none when they cannot.
fn pair_angle(k: u32, wanted: f64) -> Option<f64> {
    let odd = f64::from(k % 2);
    let paired = f64::from(k) - odd;
    if paired == 0.0 {
        return ((wanted - odd).abs() <= MET).then_some(0.0);
    }
    let cos = (wanted - odd) / paired;
    (-1.0 - MET..=1.0 + MET).contains(&cos).then(|| cos.clamp(-1.0, 1.0).acos())
}

/// The fewest housings that give the wanted mass, with their places; as near as can be where they cannot. `mass_g` is 0 or more,
/// `clamp_g` above 0, `clamps` up to 24.
///
/// ```
/// use baricord_core::{measure::clamps::{ClampsInput, clamps}, units::Degrees};
/// let c = clamps(ClampsInput { mass_g: 10.0, deg: Degrees(90.0), clamp_g: 10.0, clamps: 3 }).unwrap();
/// assert_eq!((c.housings_deg, c.error_g < 1e-9), (vec![Degrees(90.0)], true));
/// ```
pub fn clamps(input: ClampsInput) -> Result<Clamps, Problem> {
    finite(input.mass_g, "mass_g")?;
    if input.mass_g < 0.0 {
        return Err(Problem::new("out-of-range", "the wanted mass is 0 g or more").field("mass_g"));
    }
    let deg = finite(input.deg.get(), "deg")?;
    let c = positive(input.clamp_g, "clamp_g")?;
    if input.clamps > MOST_CLAMPS {
        return Err(Problem::new("out-of-range", format!("{MOST_CLAMPS} clamps at most")).field("clamps"));
    }
    let wanted = input.mass_g / c;
    let exact = (0..=input.clamps).find_map(|k| Some((k, pair_angle(k, wanted)?)));
    // None give it: all in one direction, as many as come nearest.
    let nearest = || (wanted.round().min(f64::from(input.clamps)) as u32, 0.0);
    let (k, angle) = exact.unwrap_or_else(nearest);
    let mut housings: Vec<f64> = vec![];
    if k % 2 == 1 {
        housings.push(deg);
    }
    for _ in 0..k / 2 {
        housings.extend([deg + angle.to_degrees(), deg - angle.to_degrees()]);
    }
    let along: f64 = housings.iter().map(|h| c * (h - deg).to_radians().cos()).sum::<f64>() - input.mass_g;
    let across: f64 = housings.iter().map(|h| c * (h - deg).to_radians().sin()).sum();
    Ok(Clamps { housings_deg: housings.into_iter().map(|h| Degrees(h).turned()).collect(), error_g: along.hypot(across) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(mass_g: f64, clamp_g: f64, most: u32) -> Clamps {
        clamps(ClampsInput { mass_g, deg: Degrees(100.0), clamp_g, clamps: most }).unwrap()
    }

    #[test]
    fn worked() {
        assert_eq!(of(0.0, 10.0, 4), Clamps { housings_deg: vec![], error_g: 0.0 });
        // Half of what two give: 60° to either side.
        let two = of(10.0 * 3f64.sqrt(), 10.0, 2);
        let d: Vec<f64> = two.housings_deg.iter().map(|d| d.get()).collect();
        assert!((d[0] - 130.0).abs() < 1e-9 && (d[1] - 70.0).abs() < 1e-9 && two.error_g < 1e-9, "{two:?}");
        // A third one carries on where two end: one at it, two at 60°.
        let three = of(25.0, 10.0, 3);
        assert_eq!(three.housings_deg.len(), 3);
        assert!((three.housings_deg[1].get() - 100.0 - 0.75f64.acos().to_degrees()).abs() < 1e-9 && three.error_g < 1e-9);
        // Too much for them: all in one direction.
        let all = of(50.0, 10.0, 3);
        assert!(all.housings_deg.iter().all(|d| (d.get() - 100.0).abs() < 1e-9) && (all.error_g - 20.0).abs() < 1e-9);
        // One alone cannot give less than it weighs.
        let one = of(7.0, 10.0, 1);
        assert!(one.housings_deg.len() == 1 && (one.error_g - 3.0).abs() < 1e-9);
        assert!(of(3.0, 10.0, 1).housings_deg.is_empty());
    }

    #[test]
    fn errors_name_the_field() {
        let field = |mass_g, clamp_g, clamps| {
            super::clamps(ClampsInput { mass_g, deg: Degrees(0.0), clamp_g, clamps }).unwrap_err().field.unwrap()
        };
        assert_eq!(
            (field(-1.0, 1.0, 2), field(1.0, 0.0, 2), field(1.0, 1.0, 99)),
            ("mass_g".into(), "clamp_g".into(), "clamps".into())
        );
    }

    proptest! {
        #[test]
        fn what_they_can_give_they_give_exactly(mass in 0.0f64..60.0, clamp in 5.0f64..20.0, most in 2u32..8) {
            let c = of(mass, clamp, most);
            if mass <= f64::from(most) * clamp {
                prop_assert!(c.error_g < 1e-6, "{c:?}");
            }
            prop_assert!(c.housings_deg.len() <= most as usize);
            prop_assert!(c.housings_deg.iter().all(|d| (0.0..360.0).contains(&d.get())));
        }
    }
}
