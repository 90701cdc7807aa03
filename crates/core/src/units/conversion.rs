//! Units of the two systems, and from one into the other.
//!
//! Every figure is kept in the first unit of its dimension ([`Unit::base`]); a person reads and types it in the units of the chosen
//! system. Factors are exact: the inch is 25.4 mm, the pound 0.453 592 37 kg, standard gravity 9.806 65 m/s², the mile 1.609 344 km, the
//! US liquid quart 0.946 352 946 l.

use serde::{Deserialize, Serialize};

/// One inch in millimetres.
const INCH_MM: f64 = 25.4;
/// One mile in kilometres.
const MILE_KM: f64 = 1.609_344;
/// One pound in kilograms.
const POUND_KG: f64 = 0.453_592_37;
/// Standard gravity, m/s².
const GRAVITY_MS2: f64 = 9.806_65;
/// One pound-force in newtons.
const POUND_FORCE_N: f64 = POUND_KG * GRAVITY_MS2;
/// One foot in metres.
const FOOT_M: f64 = 0.3048;
/// One US liquid quart in litres.
const QUART_L: f64 = 0.946_352_946;

/// The units that a person reads and types.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum UnitSystem {
    /// mm, km/h, N·m, °C, l.
    #[default]
    Metric,
    /// in, mph, lb·ft, °F, qt.
    Imperial,
}

impl UnitSystem {
    /// By its id; what is no id is metric.
    pub fn of(id: &str) -> Self {
        if id == Self::Imperial.id() { Self::Imperial } else { Self::Metric }
    }
    /// The id that a person's choice is kept as.
    pub fn id(self) -> &'static str {
        match self {
            Self::Metric => "metric",
            Self::Imperial => "imperial",
        }
    }
}

/// What a unit measures.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Dimension {
    /// From a reading of a dial to the length of a shaft; base mm.
    Length,
    /// A way on the road; base km.
    Distance,
    /// A speed on the road; base km/h.
    Speed,
    /// Base N·m.
    Torque,
    /// Base degrees.
    Angle,
    /// Base °C.
    Temperature,
    /// Base l.
    Volume,
    /// Base N.
    Force,
    /// Base kg.
    Mass,
    /// Base bar.
    Pressure,
}

/// A unit that people write.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Unit {
    Millimetre,
    Centimetre,
    Metre,
    Inch,
    Thousandth,
    Foot,
    Kilometre,
    Mile,
    KilometrePerHour,
    MilePerHour,
    NewtonMetre,
    PoundFoot,
    PoundInch,
    Degree,
    ArcMinute,
    Celsius,
    Fahrenheit,
    Litre,
    Millilitre,
    Quart,
    FluidOunce,
    Newton,
    PoundForce,
    Kilogram,
    Pound,
    Bar,
    PoundPerSquareInch,
}

use Dimension as D;
use Unit as U;

impl Unit {
    /// Every unit.
    pub const ALL: [Unit; 27] = [
        U::Millimetre,
        U::Centimetre,
        U::Metre,
        U::Inch,
        U::Thousandth,
        U::Foot,
        U::Kilometre,
        U::Mile,
        U::KilometrePerHour,
        U::MilePerHour,
        U::NewtonMetre,
        U::PoundFoot,
        U::PoundInch,
        U::Degree,
        U::ArcMinute,
        U::Celsius,
        U::Fahrenheit,
        U::Litre,
        U::Millilitre,
        U::Quart,
        U::FluidOunce,
        U::Newton,
        U::PoundForce,
        U::Kilogram,
        U::Pound,
        U::Bar,
        U::PoundPerSquareInch,
    ];

    /// The unit that figures of a dimension are kept in.
    pub fn base(dimension: Dimension) -> Unit {
        match dimension {
            D::Length => U::Millimetre,
            D::Distance => U::Kilometre,
            D::Speed => U::KilometrePerHour,
            D::Torque => U::NewtonMetre,
            D::Angle => U::Degree,
            D::Temperature => U::Celsius,
            D::Volume => U::Litre,
            D::Force => U::Newton,
            D::Mass => U::Kilogram,
            D::Pressure => U::Bar,
        }
    }

    /// What it measures.
    pub fn dimension(self) -> Dimension {
        match self {
            U::Millimetre | U::Centimetre | U::Metre | U::Inch | U::Thousandth | U::Foot => D::Length,
            U::Kilometre | U::Mile => D::Distance,
            U::KilometrePerHour | U::MilePerHour => D::Speed,
            U::NewtonMetre | U::PoundFoot | U::PoundInch => D::Torque,
            U::Degree | U::ArcMinute => D::Angle,
            U::Celsius | U::Fahrenheit => D::Temperature,
            U::Litre | U::Millilitre | U::Quart | U::FluidOunce => D::Volume,
            U::Newton | U::PoundForce => D::Force,
            U::Kilogram | U::Pound => D::Mass,
            U::Bar | U::PoundPerSquareInch => D::Pressure,
        }
    }

    /// The system it belongs to; angles belong to both.
    pub fn system(self) -> Option<UnitSystem> {
        match self {
            U::Degree | U::ArcMinute => None,
            U::Inch
            | U::Thousandth
            | U::Foot
            | U::Mile
            | U::MilePerHour
            | U::PoundFoot
            | U::PoundInch
            | U::Fahrenheit
            | U::Quart
            | U::FluidOunce
            | U::PoundForce
            | U::Pound
            | U::PoundPerSquareInch => Some(UnitSystem::Imperial),
            _ => Some(UnitSystem::Metric),
        }
    }

    /// As it is printed beside the number.
    pub fn symbol(self) -> &'static str {
        match self {
            U::Millimetre => "mm",
            U::Centimetre => "cm",
            U::Metre => "m",
            U::Inch => "in",
            U::Thousandth => "thou",
            U::Foot => "ft",
            U::Kilometre => "km",
            U::Mile => "mi",
            U::KilometrePerHour => "km/h",
            U::MilePerHour => "mph",
            U::NewtonMetre => "N·m",
            U::PoundFoot => "lb·ft",
            U::PoundInch => "lb·in",
            U::Degree => "°",
            U::ArcMinute => "′",
            U::Celsius => "°C",
            U::Fahrenheit => "°F",
            U::Litre => "l",
            U::Millilitre => "ml",
            U::Quart => "qt",
            U::FluidOunce => "fl oz",
            U::Newton => "N",
            U::PoundForce => "lbf",
            U::Kilogram => "kg",
            U::Pound => "lb",
            U::Bar => "bar",
            U::PoundPerSquareInch => "psi",
        }
    }

    /// Factor and offset into the base unit of its dimension: base = factor × x + offset.
    fn line(self) -> (f64, f64) {
        match self {
            U::Centimetre => (10.0, 0.0),
            U::Metre => (1000.0, 0.0),
            U::Inch => (INCH_MM, 0.0),
            U::Thousandth => (INCH_MM / 1000.0, 0.0),
            U::Foot => (FOOT_M * 1000.0, 0.0),
            U::Mile | U::MilePerHour => (MILE_KM, 0.0),
            U::PoundFoot => (POUND_FORCE_N * FOOT_M, 0.0),
            U::PoundInch => (POUND_FORCE_N * INCH_MM / 1000.0, 0.0),
            U::ArcMinute => (1.0 / 60.0, 0.0),
            U::Fahrenheit => (5.0 / 9.0, -160.0 / 9.0),
            U::Millilitre => (0.001, 0.0),
            U::Quart => (QUART_L, 0.0),
            U::FluidOunce => (QUART_L / 32.0, 0.0),
            U::PoundForce => (POUND_FORCE_N, 0.0),
            U::Pound => (POUND_KG, 0.0),
            U::PoundPerSquareInch => (POUND_FORCE_N / (INCH_MM * INCH_MM) * 10.0, 0.0),
            U::Millimetre
            | U::Kilometre
            | U::KilometrePerHour
            | U::NewtonMetre
            | U::Degree
            | U::Celsius
            | U::Litre
            | U::Newton
            | U::Kilogram
            | U::Bar => (1.0, 0.0),
        }
    }

    /// A figure in this unit, in the base unit of its dimension.
    ///
    /// ```
    /// use baricord_core::units::Unit;
    /// assert_eq!(Unit::Inch.to_base(46.25), 1174.75);
    /// ```
    pub fn to_base(self, x: f64) -> f64 {
        let (factor, offset) = self.line();
        x * factor + offset
    }

    /// A figure in the base unit, in this one.
    pub fn from_base(self, x: f64) -> f64 {
        let (factor, offset) = self.line();
        (x - offset) / factor
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn worked_values() {
        for (unit, x, base) in [
            (U::Inch, 46.25, 1174.75),
            (U::Thousandth, 10.0, 0.254),
            (U::Foot, 1.0, 304.8),
            (U::MilePerHour, 55.0, 88.513_92),
            (U::PoundFoot, 41.0, 55.588_537),
            (U::PoundInch, 12.0, 1.355_817_948),
            (U::Fahrenheit, 212.0, 100.0),
            (U::Fahrenheit, -40.0, -40.0),
            (U::ArcMinute, 30.0, 0.5),
            (U::Quart, 1.0, 0.946_352_946),
            (U::FluidOunce, 32.0, 0.946_352_946),
            (U::PoundForce, 1.0, 4.448_221_615),
            (U::PoundPerSquareInch, 14.503_773_773, 1.0),
        ] {
            assert!((unit.to_base(x) - base).abs() < 1e-6 * base.abs().max(1.0), "{unit:?} {x}: {}", unit.to_base(x));
        }
    }

    #[test]
    fn each_dimension_is_kept_in_a_unit_of_its_own() {
        for u in Unit::ALL {
            let base = Unit::base(u.dimension());
            assert_eq!((base.dimension(), base.to_base(3.5)), (u.dimension(), 3.5), "{u:?}");
        }
    }

    proptest! {
        #[test]
        fn there_and_back_is_the_same(i in 0usize..27, x in -1e6f64..1e6) {
            let unit = Unit::ALL[i];
            let back = unit.from_base(unit.to_base(x));
            prop_assert!((back - x).abs() <= 1e-9 * x.abs().max(1.0), "{unit:?} {x} {back}");
        }
    }
}
