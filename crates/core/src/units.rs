//! Quantities with their unit in the type, so that millimetres never meet metres by accident.
//!
//! Each is a thin wrapper over `f64` that serialises as the bare number; the key it stands under in
//! a file or an answer carries the unit (`tir_mm`, `peak_hz`).
//!
//! Inside, everything is metric. [`Unit`] and [`UnitSystem`] are what people read and type: [`amount`] reads what was typed, [`sentence`],
//! [`figure`] and [`field_text`] say it in the reader's units.

mod amount;
mod conversion;
mod wording;

pub use self::amount::{Amount, amount};
pub use self::conversion::{Dimension, Unit, UnitSystem};
pub(crate) use self::wording::sixteenths;
pub use self::wording::{field_text, field_unit, figure, sentence};

use serde::{Deserialize, Serialize};
use std::ops::{Add, Div, Mul, Neg, Sub};

macro_rules! quantity {
    ($($(#[$doc:meta])* $name:ident, $unit:literal;)*) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, Default, PartialEq, PartialOrd, Serialize, Deserialize)]
        #[serde(transparent)]
        pub struct $name(pub f64);

        impl $name {
            /// The unit as it is printed beside the number.
            pub const UNIT: &'static str = $unit;
            /// The bare number, for arithmetic inside a module.
            pub fn get(self) -> f64 { self.0 }
            /// The magnitude.
            pub fn abs(self) -> Self { Self(self.0.abs()) }
            /// The larger of two.
            pub fn max(self, other: Self) -> Self { Self(self.0.max(other.0)) }
        }
        impl Add for $name { type Output = Self; fn add(self, o: Self) -> Self { Self(self.0 + o.0) } }
        impl Sub for $name { type Output = Self; fn sub(self, o: Self) -> Self { Self(self.0 - o.0) } }
        impl Neg for $name { type Output = Self; fn neg(self) -> Self { Self(-self.0) } }
        impl Mul<f64> for $name { type Output = Self; fn mul(self, k: f64) -> Self { Self(self.0 * k) } }
        impl Div<f64> for $name { type Output = Self; fn div(self, k: f64) -> Self { Self(self.0 / k) } }
        impl Div for $name { type Output = f64; fn div(self, o: Self) -> f64 { self.0 / o.0 } }
    )*};
}

quantity! {
    /// Cycles a second.
    Hz, "Hz";
    /// Turns a minute.
    Rpm, "rpm";
    /// Turns of one part for one turn of another: a fixed ratio, the heart of the trade.
    Order, "";
    /// An angle as people read it.
    Degrees, "°";
    /// A length as people read it.
    Millimetres, "mm";
    /// What a vehicle has run.
    Kilometres, "km";
    /// A length in the arithmetic.
    Metres, "m";
    /// A speed as people read it.
    KilometresPerHour, "km/h";
    /// A speed in the arithmetic.
    MetresPerSecond, "m/s";
    /// A time span.
    Seconds, "s";
    /// A time span as the workshop counts it.
    Minutes, "min";
    /// Angular acceleration.
    RadPerS2, "rad/s²";
    /// Acceleration, peak.
    Ms2, "m/s²";
    /// A level or a change of level.
    Decibels, "dB";
    /// Information: one bit halves the odds.
    Bits, "bits";
}

impl Hz {
    /// The same rate in turns a minute.
    pub fn to_rpm(self) -> Rpm {
        Rpm(self.0 * 60.0)
    }
}
impl Rpm {
    /// The same rate in turns a second.
    pub fn to_hz(self) -> Hz {
        Hz(self.0 / 60.0)
    }
    /// Angular speed, rad/s.
    pub fn omega(self) -> f64 {
        self.0 * std::f64::consts::TAU / 60.0
    }
}
impl KilometresPerHour {
    /// The same speed in m/s.
    pub fn to_ms(self) -> MetresPerSecond {
        MetresPerSecond(self.0 / 3.6)
    }
}
impl MetresPerSecond {
    /// The same speed in km/h.
    pub fn to_kmh(self) -> KilometresPerHour {
        KilometresPerHour(self.0 * 3.6)
    }
}
impl Degrees {
    /// Brought into 0 ≤ x < 360, as every position round a turn is printed.
    pub fn turned(self) -> Self {
        let x = self.0.rem_euclid(360.0);
        Self(if x >= 360.0 { 0.0 } else { x })
    }
    /// In radians.
    pub fn rad(self) -> f64 {
        self.0.to_radians()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_round_a_turn_stay_below_a_full_turn() {
        assert_eq!(Degrees(-90.0).turned(), Degrees(270.0));
        assert_eq!(Degrees(360.0).turned(), Degrees(0.0));
        assert_eq!(Degrees(-1e-18).turned(), Degrees(0.0));
    }

    #[test]
    fn rates_convert_both_ways() {
        assert!((Hz(51.768).to_rpm().get() - 3106.08).abs() < 1e-9);
        assert!((Rpm(60.0).to_hz().get() - 1.0).abs() < 1e-12);
        assert!((KilometresPerHour(100.0).to_ms().to_kmh().get() - 100.0).abs() < 1e-12);
    }
}
