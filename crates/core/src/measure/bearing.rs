//! Bearing orders: how often a rolling bearing's parts meet, for one turn of its shaft.
//!
//! n elements of diameter d on pitch diameter D, contact angle a: cage ½(1 − d/D·cos a) where the
//! inner ring turns, ½(1 + d/D·cos a) where the outer does; outer ring n/2·(1 − d/D·cos a); inner
//! ring n/2·(1 + d/D·cos a); element spin D/(2d)·(1 − (d/D·cos a)²). A fault on an element meets
//! both rings and pulses at twice its spin. (Standard kinematics of rolling without slip.)

use crate::error::Problem;
use crate::units::{Degrees, Millimetres, Order};
use crate::vehicle::check_bearing;
use serde::{Deserialize, Serialize};

/// A bearing's size.
#[derive(Clone, Copy, Debug, Deserialize)]
pub struct BearingInput {
    /// Number of balls or rollers.
    pub elements: u32,
    /// Their diameter.
    pub element_mm: Millimetres,
    /// Pitch diameter.
    pub pitch_mm: Millimetres,
    /// Contact angle.
    #[serde(default)]
    pub contact_deg: Degrees,
}

/// Orders for one turn of the shaft.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct BearingOrders {
    /// Cage, the inner ring turning.
    pub cage: Order,
    /// A fault on the outer ring.
    pub outer: Order,
    /// A fault on the inner ring.
    pub inner: Order,
    /// Spin of an element; a fault on it pulses at twice this.
    pub element: Order,
}

/// The orders of a bearing.
///
/// ```
/// # use baricord_core::{measure::bearing::*, units::*};
/// let o = bearing(BearingInput {
///     elements: 9, element_mm: Millimetres(7.94), pitch_mm: Millimetres(38.5), contact_deg: Degrees(0.0),
/// }).unwrap();
/// assert!((o.outer.get() - 3.572).abs() < 5e-4);
/// ```
pub fn bearing(b: BearingInput) -> Result<BearingOrders, Problem> {
    check_bearing(b.elements, b.element_mm, b.pitch_mm, b.contact_deg)?;
    let k = b.element_mm / b.pitch_mm * b.contact_deg.rad().cos();
    let half = f64::from(b.elements) / 2.0;
    Ok(BearingOrders {
        cage: Order(0.5 * (1.0 - k)),
        outer: Order(half * (1.0 - k)),
        inner: Order(half * (1.0 + k)),
        element: Order(b.pitch_mm / b.element_mm / 2.0 * (1.0 - k * k)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn worked_bearing() {
        let o = bearing(BearingInput {
            elements: 9,
            element_mm: Millimetres(7.94),
            pitch_mm: Millimetres(38.5),
            contact_deg: Degrees(0.0),
        })
        .unwrap();
        for (got, want) in [(o.cage, 0.397), (o.outer, 3.572), (o.inner, 5.428), (o.element, 2.321)] {
            assert!((got.get() - want).abs() < 5e-4, "{got:?} {want}");
        }
        assert!((2.0 * o.element.get() - 4.643).abs() < 1e-3);
    }

    #[test]
    fn rings_share_the_elements() {
        for n in 5..20 {
            let o = bearing(BearingInput {
                elements: n,
                element_mm: Millimetres(9.0),
                pitch_mm: Millimetres(50.0),
                contact_deg: Degrees(25.0),
            })
            .unwrap();
            assert!((o.outer.get() + o.inner.get() - f64::from(n)).abs() < 1e-12);
            assert!((o.cage.get() * f64::from(n) - o.outer.get()).abs() < 1e-12);
        }
    }

    #[test]
    fn impossible_bearings_name_the_field() {
        let b = |n, d, a| {
            bearing(BearingInput {
                elements: n,
                element_mm: Millimetres(d),
                pitch_mm: Millimetres(38.5),
                contact_deg: Degrees(a),
            })
            .unwrap_err()
            .field
            .unwrap()
        };
        assert_eq!(b(2, 7.94, 0.0), "elements");
        assert_eq!(b(9, 40.0, 0.0), "element_mm");
        assert_eq!(b(9, 7.94, 95.0), "contact_deg");
    }
}
