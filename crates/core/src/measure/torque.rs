//! Tightening: what the wrench is set to with an adapter, and in which order the fasteners are turned.
//!
//! An adapter lengthens the lever by its part along the wrench: setting = value·L/(L + E·cos φ); φ is 0 straight on and 90 square to the
//! wrench, where the setting is the value.

use crate::error::{Finding, Level, Problem, finite, positive};
use serde::{Deserialize, Serialize};

/// Fasteners of one joint at most.
pub const MOST_FASTENERS: usize = 64;
/// Passes at most.
const MOST_PASSES: usize = 12;

/// The unit of values and settings.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum TorqueUnit {
    /// N·m.
    #[default]
    #[serde(rename = "N·m")]
    NewtonMetre,
    /// lb·ft.
    #[serde(rename = "lb·ft")]
    PoundFoot,
    /// lb·in.
    #[serde(rename = "lb·in")]
    PoundInch,
}

/// A pass over all fasteners: by value, back off, or on by an angle.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Pass {
    /// To this torque.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<f64>,
    /// Loosened by this angle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back_off_deg: Option<f64>,
    /// Turned on by this angle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub turn_deg: Option<f64>,
}

/// Passes, wrench and adapter.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct TorqueInput {
    /// In their order.
    pub passes: Vec<Pass>,
    /// Of the values.
    #[serde(default)]
    pub unit: TorqueUnit,
    /// From the middle of the grip to the square drive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wrench_mm: Option<f64>,
    /// From the square drive to the fastener.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub extension_mm: Option<f64>,
    /// 0 straight on, 90 square to the wrench.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub angle_deg: Option<f64>,
    /// How many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fasteners: Option<usize>,
    /// What the wrench can be set to, from and to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wrench_range: Option<[f64; 2]>,
    /// A nut with slots for a split pin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub castle: Option<CastleNut>,
}

/// A nut whose slots a split pin locks.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct CastleNut {
    /// Slots round the nut; 6 when left out.
    #[serde(default = "six")]
    pub slots: u32,
    /// How far it must turn on until the next slot meets the hole, when its torque is reached; 0 when it meets.
    #[serde(default)]
    pub to_next_deg: f64,
    /// Whether it holds taper roller bearings with play: then it goes back to the last slot, never on.
    #[serde(default)]
    pub taper_bearing: bool,
}

fn six() -> u32 {
    6
}

/// What is set, and the order.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Tightening {
    /// Of each pass; none for one by angle.
    pub settings: Vec<Option<f64>>,
    /// One order for all passes.
    pub sequence: Vec<usize>,
    /// How far a castle nut turns from where its torque was reached to its slot; negative: back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub castle_turn_deg: Option<f64>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// The order in which a ring of fasteners is turned. Odd: from 1 in steps of (n−1)/2. Even: opposite pairs, each as far as can be from the
/// last, of equal ones the lowest.
///
/// ```
/// use baricord_core::measure::torque::sequence;
/// assert_eq!(sequence(5), [1, 3, 5, 2, 4]);
/// assert_eq!(sequence(8), [1, 5, 3, 7, 2, 6, 4, 8]);
/// ```
pub fn sequence(n: usize) -> Vec<usize> {
    if n % 2 == 1 {
        let step = ((n - 1) / 2).max(1);
        return (0..n).map(|i| 1 + i * step % n).collect();
    }
    let half = n / 2;
    let mut left: Vec<usize> = (1..=half).collect();
    let (mut out, mut last) = (vec![], None);
    let apart = |a: usize, b: usize| {
        let d = a.abs_diff(b);
        d.min(half - d)
    };
    while !left.is_empty() {
        let far = |p: &usize| last.map_or(0, |l| apart(*p, l));
        let most = left.iter().map(far).max().unwrap_or(0);
        let at = left.iter().position(|p| far(p) == most).unwrap_or(0);
        let pair = left.remove(at);
        out.extend([pair, pair + half]);
        last = Some(pair);
    }
    out
}

/// What the wrench is set to in each pass, in the unit of the values, and the order. Errors name the field: a pass says one thing, values
/// are above 0, angles from 0 to 720°; with an adapter `wrench_mm` is needed and the lever stays above 0.
pub fn torque(input: &TorqueInput) -> Result<Tightening, Problem> {
    if input.passes.is_empty() || input.passes.len() > MOST_PASSES {
        return Err(Problem::new("missing", format!("1 to {MOST_PASSES} passes")).field("passes"));
    }
    let fasteners = input.fasteners.unwrap_or(0);
    if fasteners > MOST_FASTENERS {
        return Err(Problem::new("out-of-range", format!("{MOST_FASTENERS} fasteners at most")).field("fasteners"));
    }
    let wrench = input.wrench_mm.map(|w| positive(w, "wrench_mm")).transpose()?;
    let extension = finite(input.extension_mm.unwrap_or(0.0), "extension_mm")?;
    if extension < 0.0 {
        return Err(Problem::new("out-of-range", "an adapter is 0 mm or longer: turn it by its angle").field("extension_mm"));
    }
    let angle = finite(input.angle_deg.unwrap_or(0.0), "angle_deg")?;
    let along = extension * angle.to_radians().cos();
    let factor = match wrench {
        None if extension > 0.0 => return Err(Problem::new("missing", "how long is the wrench?").field("wrench_mm")),
        None => 1.0,
        Some(w) if w + along <= 0.0 => {
            return Err(Problem::new("out-of-range", "the adapter reaches back past the grip").field("extension_mm"));
        }
        Some(w) => w / (w + along),
    };
    let (mut settings, mut findings) = (vec![], vec![]);
    for (i, p) in input.passes.iter().enumerate() {
        let at = |field: &str| format!("passes[{i}].{field}");
        match (p.value, p.back_off_deg, p.turn_deg) {
            (Some(v), None, None) => settings.push(Some(positive(v, &at("value"))? * factor)),
            (None, Some(d), None) | (None, None, Some(d)) => {
                let field = if p.back_off_deg.is_some() { "back_off_deg" } else { "turn_deg" };
                if !(0.0..=720.0).contains(&finite(d, &at(field))?) {
                    return Err(Problem::new("out-of-range", "an angle lies from 0° to 720°").field(at(field)));
                }
                settings.push(None);
            }
            _ => {
                let message = "a pass is one of value, back_off_deg and turn_deg";
                return Err(Problem::new("bad-value", message).field(format!("passes[{i}]")));
            }
        }
    }
    if extension > 0.0 {
        findings.push(Finding::new(
            "grip",
            Level::Info,
            "hold the wrench at the middle of its grip: the setting is for that lever",
        ));
    }
    if let Some([low, high]) = input.wrench_range {
        positive(low, "wrench_range[0]")?;
        if positive(high, "wrench_range[1]")? < low {
            return Err(Problem::new("out-of-range", "the wrench's range runs from low to high").field("wrench_range"));
        }
        for set in settings.iter().flatten().filter(|s| !(low..=high).contains(*s)) {
            let message = format!("{set:.0} is outside the wrench's {low:.0} to {high:.0}: take another wrench");
            findings.push(Finding::new("wrench-range", Level::Over, message));
        }
    }
    let castle_turn_deg = input.castle.map(|c| castle_turn(c, &mut findings)).transpose()?;
    let sequence = if fasteners == 0 { vec![] } else { sequence(fasteners) };
    Ok(Tightening { settings, sequence, castle_turn_deg, findings })
}

/// To the slot of a castle nut: on to the next one, of taper bearings with play back to the last.
fn castle_turn(c: CastleNut, findings: &mut Vec<Finding>) -> Result<f64, Problem> {
    if !(3..=24).contains(&c.slots) {
        return Err(Problem::new("out-of-range", "a castle nut has 3 to 24 slots").field("castle.slots"));
    }
    let (pitch, next) = (360.0 / f64::from(c.slots), finite(c.to_next_deg, "castle.to_next_deg")?);
    if !(0.0..pitch).contains(&next) {
        let message = format!("the next of {} slots is less than {pitch:.0}° away", c.slots);
        return Err(Problem::new("out-of-range", message).field("castle.to_next_deg"));
    }
    let (turn, message) = match (next == 0.0, c.taper_bearing) {
        (true, _) => (0.0, "the slot meets the hole: put the pin in".to_string()),
        (false, false) => (next, format!("on by {next:.0}° to the next slot; never back for the pin")),
        (false, true) => {
            let back = next - pitch;
            (back, format!("taper bearings with play: back by {:.0}° to the last slot, never on; then feel for play", -back))
        }
    };
    findings.push(Finding::new("castle", Level::Info, message));
    Ok(turn)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn of(input: &Value) -> Result<Tightening, Problem> {
        torque(&read_json(input).unwrap())
    }

    #[test]
    fn worked_orders() {
        assert_eq!(sequence(4), [1, 3, 2, 4]);
        assert_eq!(sequence(6), [1, 4, 2, 5, 3, 6]);
        assert_eq!((sequence(1), sequence(2), sequence(3)), (vec![1], vec![1, 2], vec![1, 2, 3]));
        assert_eq!(sequence(7), [1, 4, 7, 3, 6, 2, 5]);
    }

    #[test]
    fn only_what_is_along_the_wrench_counts() {
        let set = |angle: f64| {
            let t = of(&json!({"passes": [{"value": 100}, {"back_off_deg": 90}, {"turn_deg": 60}], "unit": "N·m",
                "wrench_mm": 400, "extension_mm": 100, "angle_deg": angle, "fasteners": 4}));
            t.unwrap().settings
        };
        assert_eq!(set(0.0), [Some(80.0), None, None]);
        assert!((set(90.0)[0].unwrap() - 100.0).abs() < 1e-9);
        assert!((set(180.0)[0].unwrap() - 400.0 / 3.0).abs() < 1e-9);
        assert_eq!(of(&json!({"passes": [{"value": 55}]})).unwrap().settings, [Some(55.0)]);
    }

    #[test]
    fn a_castle_nut_turns_on_and_that_of_taper_bearings_back() {
        let turn = |taper: bool| {
            of(&json!({"passes": [{"value": 40}], "castle": {"to_next_deg": 20, "taper_bearing": taper}}))
                .unwrap()
                .castle_turn_deg
        };
        assert_eq!((turn(false), turn(true)), (Some(20.0), Some(-40.0)));
        let t = of(&json!({"passes": [{"value": 300}, {"value": 60}], "wrench_range": [40, 200]})).unwrap();
        assert_eq!(t.findings.iter().map(|f| f.code.as_str()).collect::<Vec<_>>(), ["wrench-range"]);
        let e = of(&json!({"passes": [{"value": 40}], "castle": {"slots": 6, "to_next_deg": 60}})).unwrap_err();
        assert_eq!(e.field.as_deref(), Some("castle.to_next_deg"));
    }

    #[test]
    fn errors_name_the_field() {
        let field = |v: Value| of(&v).unwrap_err().field.unwrap();
        assert_eq!(field(json!({"passes": []})), "passes");
        assert_eq!(field(json!({"passes": [{}]})), "passes[0]");
        assert_eq!(field(json!({"passes": [{"value": 5, "turn_deg": 9}]})), "passes[0]");
        assert_eq!(field(json!({"passes": [{"value": -5}]})), "passes[0].value");
        assert_eq!(field(json!({"passes": [{"value": 5}], "extension_mm": 50})), "wrench_mm");
        assert_eq!(
            field(json!({"passes": [{"value": 5}], "wrench_mm": 100, "extension_mm": 100, "angle_deg": 180})),
            "extension_mm"
        );
        assert_eq!(field(json!({"passes": [{"value": 5}], "fasteners": 65})), "fasteners");
    }

    proptest! {
        #[test]
        fn every_fastener_comes_once(n in 1usize..=64) {
            let mut all = sequence(n);
            all.sort_unstable();
            prop_assert_eq!(all, (1..=n).collect::<Vec<_>>());
        }
        #[test]
        fn what_the_fastener_gets_is_the_value(v in 5.0f64..400.0, w in 100.0f64..900.0, e in 0.0f64..300.0, a in 0.0f64..90.0) {
            let t = of(&json!({"passes": [{"value": v}], "wrench_mm": w, "extension_mm": e, "angle_deg": a})).unwrap();
            let force = t.settings[0].unwrap() / w;
            prop_assert!((force * (w + e * a.to_radians().cos()) - v).abs() < 1e-9 * v);
        }
    }
}
