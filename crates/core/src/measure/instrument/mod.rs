//! Instruments: what can be read on a vehicle, at which measuring points, and what a reading says. [`INSTRUMENTS`] is the registry;
//! an instrument is one module here and one form beside the page (`web`, `stations/measure`).
//!
//! A real device would fill the same input.

mod angle_gauge;
mod dial;
mod repeated;
mod spring_balance;

pub use repeated::{Agreement, Repeated};

use crate::case::Measurement;
use crate::case::patch::plain_numbers;
use crate::error::Problem;
use crate::hands::Hands;
use crate::measure::angles::AnglesInput;
use crate::measure::joint_drag::JointDragInput;
use crate::measure::runout::RunoutInput;
use crate::vehicle::{Place, Vehicle};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What was read, in the shape of the calculation behind the instrument.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", content = "input", rename_all = "kebab-case")]
pub enum Reading {
    /// The dial's.
    Runout(RunoutInput),
    /// The angle gauge's.
    Angles(AnglesInput),
    /// The spring balance's.
    JointDrag(JointDragInput),
}

impl Reading {
    /// Id of its instrument: the kind of a measurement in a case file.
    pub fn kind(&self) -> &'static str {
        match self {
            Reading::Runout(_) => dial::DIAL.id,
            Reading::Angles(_) => angle_gauge::ANGLE_GAUGE.id,
            Reading::JointDrag(_) => spring_balance::SPRING_BALANCE.id,
        }
    }

    /// What a measurement of a case holds; none where its kind is not read by an instrument, or its input cannot be read.
    pub fn of(m: &Measurement) -> Option<Self> {
        serde_json::from_value(serde_json::json!({"kind": m.kind, "input": m.input})).ok()
    }

    /// The calculation's input as a case file holds it.
    pub fn input(&self) -> Value {
        let input = match self {
            Reading::Runout(r) => serde_json::to_value(r),
            Reading::Angles(a) => serde_json::to_value(a),
            Reading::JointDrag(j) => serde_json::to_value(j),
        };
        // Each is made of what JSON has.
        let mut input = input.unwrap_or_default();
        plain_numbers(&mut input);
        input
    }
}

/// What becomes of a reading.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InstrumentKind {
    /// It is kept as a measurement and held against a limit.
    Measurement,
    /// It amounts to an outcome of a test and is kept with that answer.
    Answer,
}

/// Where an instrument can be read on a vehicle.
#[derive(Clone, Debug, PartialEq)]
pub struct MeasuringPoint {
    /// A place, or a point on one: `prop.rear.s1.centre`.
    pub id: String,
    /// The limit there, in the instrument's unit.
    pub limit: Option<f64>,
}

/// How a reading stands to its limit.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LimitCheck {
    /// The reading over its limit; the largest where there are several.
    pub ratio: f64,
    /// Its standard error, over the limit.
    pub sigma: f64,
}

impl LimitCheck {
    /// A value against its limit, with its standard error in the same unit.
    fn new(value: f64, limit: f64, sigma: f64) -> Self {
        Self { ratio: value / limit, sigma: sigma / limit }
    }

    /// Probability that the true value is over the limit; 0.01 to 0.99: an instrument that was set wrongly is never quite excluded. The
    /// normal distribution function is taken by the logistic function that follows it within 0.01.
    pub fn over_probability(&self) -> f64 {
        let z = (self.ratio - 1.0) / self.sigma.max(1e-9);
        (1.0 / (1.0 + (-1.702 * z).exp())).clamp(0.01, 0.99)
    }
}

/// What a reading says.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Evaluation {
    /// The value with its unit: “1.10 mm”.
    pub value: String,
    /// The value with its unit and limit: “1.10 mm, limit 0.75 mm”.
    pub words: String,
    /// The same as a line of evidence.
    pub evidence_words: String,
    /// Over its limit.
    pub over: bool,
    /// Against the limit; none where there is none.
    pub limit: Option<LimitCheck>,
    /// The outcome that it amounts to, of an instrument whose reading is an answer.
    pub outcome: Option<&'static str>,
    /// What the drawing shows: place and short text.
    pub pins: Vec<(String, String)>,
}

/// Something that is read on a vehicle.
#[derive(Debug)]
pub struct Instrument {
    /// Public id: the kind of a measurement in a case file.
    pub id: &'static str,
    /// What becomes of its readings.
    pub kind: InstrumentKind,
    /// What it is called: “Dial”.
    pub name: &'static str,
    /// What it reads: “runout”.
    pub quantity: &'static str,
    /// What the choice of its point is called: “Where the dial stands”.
    pub point_words: &'static str,
    /// How it is used, in one to three sentences.
    pub how: &'static str,
    /// What the hands do: the picture.
    pub hands: Hands,
    /// Every point where it can be read on a vehicle.
    pub points: fn(&Vehicle) -> Vec<MeasuringPoint>,
    /// The point of a part that is read first; none where it is not read there.
    pub point_of: fn(&Place) -> Option<String>,
    /// The part of a vehicle that is read first; none where no part comes before the others.
    pub usual_place: fn(&Vehicle) -> Option<Place>,
    /// Works a reading at a point out. The input is that of the calculation behind it; errors name its field.
    pub evaluate: fn(&Vehicle, &str, &Value) -> Result<Evaluation, Problem>,
}

impl Instrument {
    /// Whether its readings are kept as measurements.
    pub fn is_measured(&self) -> bool {
        self.kind == InstrumentKind::Measurement
    }

    /// The point that is read when nobody says where; none where the vehicle has nothing to read.
    pub fn usual_point(&self, v: &Vehicle) -> Option<String> {
        let first = (self.usual_place)(v).and_then(|p| (self.point_of)(&p));
        first.or_else(|| (self.points)(v).into_iter().next().map(|p| p.id))
    }

    /// Works out a reading that is to be kept. Errors: `unknown-place` (422) where the vehicle has no such place or this
    /// instrument is not read there, and those of the calculation.
    pub fn read_at(&self, v: &Vehicle, at: &str, input: &Value) -> Result<Evaluation, Problem> {
        let refused = |message: String| Problem::new("unknown-place", message).field("at");
        let place = v.place(at).ok_or_else(|| refused(format!("this vehicle has no place “{at}”")))?;
        let is_point = (self.points)(v).iter().any(|p| p.id == at);
        if !is_point && (place.id != at || point_at(self, v, at).is_none()) {
            return Err(refused(format!("{} is not read at {}", self.quantity, v.place_words(at))));
        }
        (self.evaluate)(v, at, input)
    }
}

/// All instruments, in the order in which they are offered.
pub const INSTRUMENTS: &[&Instrument] = &[&dial::DIAL, &angle_gauge::ANGLE_GAUGE, &spring_balance::SPRING_BALANCE];

/// An instrument by its id.
pub fn instrument(id: &str) -> Option<&'static Instrument> {
    INSTRUMENTS.iter().find(|i| i.id == id).copied()
}

/// The instruments whose readings are kept as measurements and that can be read on this vehicle.
pub fn instruments_for(v: &Vehicle) -> Vec<&'static Instrument> {
    let of_use = |i: &&&Instrument| i.kind == InstrumentKind::Measurement && !(i.points)(v).is_empty();
    INSTRUMENTS.iter().filter(of_use).copied().collect()
}

/// The measuring point meant by a place or by a point on one; none where the instrument is not read there.
pub fn point_at(i: &Instrument, v: &Vehicle, at: &str) -> Option<String> {
    let place = v.place(at)?;
    match (i.point_of)(&place).filter(|_| place.id == at) {
        Some(usual) => Some(usual),
        None => {
            let is_on = |p: &MeasuringPoint| v.place(&p.id).is_some_and(|of| of.id == place.id);
            (i.points)(v).iter().any(is_on).then(|| at.to_string())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reasoning::knowledge::builtin;
    use crate::vehicle::sample::{electric, front_drive, rear_drive};
    use serde_json::json;

    #[test]
    fn every_point_is_a_place_of_the_vehicle_and_every_instrument_answers_a_test() {
        for v in [rear_drive(1), rear_drive(3), front_drive(), electric()] {
            for i in INSTRUMENTS {
                let points = (i.points)(&v);
                assert!(points.iter().all(|p| v.place(&p.id).is_some()), "{}: {points:?}", i.id);
                let first = v.places().into_iter().filter_map(|p| (i.point_of)(&p)).collect::<Vec<_>>();
                assert!(first.iter().all(|id| points.iter().any(|p| p.id == *id)), "{}: {first:?}", i.id);
                assert!(builtin().test_read_with(i.id, |_| true).is_some(), "{}", i.id);
            }
        }
    }

    #[test]
    fn a_vehicle_without_a_shaft_has_no_joint_angles_to_read() {
        let ids = |v: &Vehicle| instruments_for(v).iter().map(|i| i.id).collect::<Vec<_>>();
        assert_eq!(ids(&rear_drive(1)), ["runout", "angles"]);
        assert_eq!(ids(&front_drive()), ["runout"]);
    }

    #[test]
    fn a_part_means_its_first_point_and_a_point_itself() {
        let (v, dial, gauge) = (rear_drive(2), instrument("runout").unwrap(), instrument("angles").unwrap());
        assert_eq!(point_at(dial, &v, "prop.rear.s2").as_deref(), Some("prop.rear.s2.centre"));
        assert_eq!(point_at(dial, &v, "prop.rear.s2.front").as_deref(), Some("prop.rear.s2.front"));
        assert_eq!(point_at(gauge, &v, "prop.rear.j1").as_deref(), Some("prop.rear"));
        assert_eq!((point_at(gauge, &v, "wheel.fl"), point_at(dial, &v, "nowhere")), (None, None));
    }

    #[test]
    fn a_reading_is_refused_where_the_instrument_is_not_read() {
        let (v, dial, balance) = (rear_drive(2), instrument("runout").unwrap(), instrument("joint-drag").unwrap());
        let around = json!({"mm": [0.1, 0.2, 0.1, 0.0]});
        let pulls = json!({"arm_mm": 100, "first_n": [1, 1, 1], "second_n": [1, 1, 1]});
        let at = |i: &Instrument, at: &str, input| i.read_at(&v, at, input).map(|_| ()).map_err(|p| p.code);
        for place in ["prop.rear.s1.front", "prop.rear.s1", "diff.rear", "wheel.fl", "brake.fl"] {
            assert_eq!(at(dial, place, &around), Ok(()), "{place}");
        }
        for place in ["nowhere", "tyre.fl", "prop.rear.j1", ""] {
            assert_eq!(at(dial, place, &around), Err("unknown-place".into()), "{place}");
        }
        assert_eq!(at(balance, "prop.rear.j1", &pulls), Ok(()));
        assert_eq!(at(balance, "prop.rear.s1", &pulls), Err("unknown-place".into()));
    }

    #[test]
    fn the_first_point_is_the_last_section_of_the_shaft_or_a_half_shaft() {
        let first = |id: &str, v: &Vehicle| instrument(id).unwrap().usual_point(v);
        assert_eq!(first("runout", &rear_drive(2)).as_deref(), Some("prop.rear.s2.centre"));
        assert!(first("runout", &front_drive()).is_some_and(|p| p.starts_with("half.")));
        assert_eq!((first("angles", &rear_drive(1)).as_deref(), first("angles", &front_drive())), (Some("prop.rear"), None));
    }

    #[test]
    fn a_reading_at_its_limit_is_even_odds_and_far_from_it_nearly_sure() {
        let over = |value: f64| LimitCheck::new(value, 0.5, 0.03).over_probability();
        assert!((over(0.5) - 0.5).abs() < 1e-12);
        assert_eq!((over(5.0), over(0.0)), (0.99, 0.01));
    }

    #[test]
    fn a_dial_over_its_limit_says_so_with_a_pin_and_a_limit() {
        let v = rear_drive(1);
        let around: Vec<f64> = (0..8).map(|i| 0.55 * (f64::from(i) * std::f64::consts::FRAC_PI_4).cos()).collect();
        let e = (instrument("runout").unwrap().evaluate)(&v, "prop.rear.s1.centre", &json!({"mm": around})).unwrap();
        assert_eq!((e.words.as_str(), e.over), ("1.10 mm, limit 0.75 mm", true));
        assert_eq!(e.pins, [("prop.rear.s1".to_string(), "1.10 mm".to_string())]);
        assert!(e.limit.is_some_and(|l| l.over_probability() > 0.98 && (l.ratio - 1.1 / 0.75).abs() < 1e-9));
    }
}
