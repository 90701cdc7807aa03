//! Backlash round the ring, and the shims that bring it to the middle of its range.
//!
//! A shim of thickness s moved from one side of the ring to the other changes backlash by about 0.7·s; after a first move by what it did on
//! this axle: the median of (before − after)/s over all moves. The whole pack stays, plus a preload that is wanted.

use crate::error::{Finding, Level, Problem, finite, positive};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Change of backlash for a shim moved across, before it was learnt on this axle.
pub const USUAL_RATIO: f64 = 0.7;
/// A spread round the ring from which on it runs out or is dirty, mm.
pub const MOST_SPREAD_MM: f64 = 0.07;
/// The range of light axles, mm; a vehicle's own figure overrides it.
pub const USUAL_RANGE_MM: [f64; 2] = [0.13, 0.20];
/// Readings, moves and shims at most.
const MOST_READINGS: usize = 64;
const MOST_SHIMS: usize = 40;
/// Packs that are named.
const PACKS: usize = 5;
/// Shims are told apart to a thousandth of a millimetre.
const PER_MM: f64 = 1000.0;

/// The side whose pack, made thicker, moves the ring to the pinion.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PackSide {
    Left,
    Right,
}

/// Packs of both sides.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct PackMm {
    pub left: f64,
    pub right: f64,
}

/// A move that was made.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct ShimMove {
    /// Moved across; positive towards the pinion.
    pub shim_mm: f64,
    /// Mean backlash before.
    pub before_mm: f64,
    /// And after.
    pub after_mm: f64,
}

/// What was read, what is wanted, what there is.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct BacklashInput {
    /// Round the ring.
    pub readings_mm: Vec<f64>,
    /// From, to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range_mm: Option<[f64; 2]>,
    /// On hand, those that are in it now among them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shims: Option<Vec<f64>>,
    /// Made on this axle.
    #[serde(default)]
    pub moves: Vec<ShimMove>,
    /// Today's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pack_mm: Option<PackMm>,
    /// Which pack moves the ring to the pinion.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub toward_pinion: Option<PackSide>,
    /// Added to the whole pack.
    #[serde(default)]
    pub preload_mm: f64,
}

/// A pack that can be made of the shims on hand.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Pack {
    /// Shims of the left side.
    pub left: Vec<f64>,
    /// Of the right side.
    pub right: Vec<f64>,
    /// Mean backlash that is expected.
    pub backlash_mm: f64,
}

/// Where it stands and what is moved.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Backlash {
    /// Of all readings.
    pub mean_mm: f64,
    /// Largest less smallest.
    pub spread_mm: f64,
    /// Thickness to move across; positive brings the ring nearer the pinion.
    pub move_mm: f64,
    /// Change of backlash for a thickness moved across, usual or learnt.
    pub ratio: f64,
    /// The outcome of the test that it amounts to: `over` is outside the range, on either side.
    pub outcome: &'static str,
    /// What was noticed.
    pub findings: Vec<Finding>,
    /// The nearest first.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub packs: Option<Vec<Pack>>,
}

fn learnt(moves: &[ShimMove]) -> Result<Option<f64>, Problem> {
    let mut all = vec![];
    for (i, m) in moves.iter().enumerate() {
        let at = |field: &str| format!("moves[{i}].{field}");
        finite(m.before_mm, &at("before_mm"))?;
        finite(m.after_mm, &at("after_mm"))?;
        if finite(m.shim_mm, &at("shim_mm"))? == 0.0 {
            return Err(Problem::new("out-of-range", "a shim that was moved is thicker than 0 mm").field(at("shim_mm")));
        }
        all.push((m.before_mm - m.after_mm) / m.shim_mm);
    }
    all.sort_by(f64::total_cmp);
    let n = all.len();
    let median = match n {
        0 => return Ok(None),
        n if n % 2 == 1 => all[n / 2],
        n => 0.5 * (all[n / 2 - 1] + all[n / 2]),
    };
    if median <= 0.0 {
        let message = "by these moves the backlash grows where it should shrink: see which side each shim came from";
        return Err(Problem::new("contradiction", message).field("moves"));
    }
    Ok(Some(median))
}

/// A state of choosing: how the shims so far were put, in thousandths left and right, by the fewest shims.
type States = BTreeMap<(u32, u32), (u32, u64, u64)>;

/// Every way to split shims so that both sides together have a sum: left in thousandths, with the shims of each side.
fn splits(shims: &[f64], sum: u32) -> Vec<(u32, Vec<f64>, Vec<f64>)> {
    let thick: Vec<u32> = shims.iter().map(|s| (s * PER_MM).round() as u32).collect();
    let mut states: States = BTreeMap::from([((0, 0), (0, 0, 0))]);
    for (i, t) in thick.iter().enumerate() {
        let mut next = states.clone();
        for (&(l, r), &(n, ml, mr)) in &states {
            if l + r + t > sum {
                continue;
            }
            for (key, value) in [((l + t, r), (n + 1, ml | 1 << i, mr)), ((l, r + t), (n + 1, ml, mr | 1 << i))] {
                let at = next.entry(key).or_insert(value);
                if value.0 < at.0 {
                    *at = value;
                }
            }
        }
        states = next;
    }
    let of = |mask: u64| (0..shims.len()).filter(|i| mask >> i & 1 == 1).map(|i| shims[i]).collect::<Vec<_>>();
    states.iter().filter(|(k, _)| k.0 + k.1 == sum).map(|(k, v)| (k.0, of(v.1), of(v.2))).collect()
}

/// Mean and spread of the backlash in mm, the thickness to move across, and packs from the shims on hand that keep the whole pack.
///
/// `readings_mm` 1 to 64, each 0 mm or more; `range_mm` from below to above, 0.13 to 0.20 mm when left out. Packs need `shims`, `pack_mm`
/// and `toward_pinion`. Errors name the field.
pub fn backlash(input: &BacklashInput) -> Result<Backlash, Problem> {
    let n = input.readings_mm.len();
    if !(1..=MOST_READINGS).contains(&n) {
        return Err(Problem::new("missing", format!("1 to {MOST_READINGS} readings round the ring")).field("readings_mm"));
    }
    for (i, x) in input.readings_mm.iter().enumerate() {
        if finite(*x, &format!("readings_mm[{i}]"))? < 0.0 {
            return Err(Problem::new("out-of-range", "backlash is 0 mm or more").field(format!("readings_mm[{i}]")));
        }
    }
    let [low, high] = input.range_mm.unwrap_or(USUAL_RANGE_MM);
    if !(finite(low, "range_mm")? >= 0.0 && finite(high, "range_mm")? >= low) {
        return Err(Problem::new("out-of-range", "a range goes from the lower to the higher figure").field("range_mm"));
    }
    let preload = finite(input.preload_mm, "preload_mm")?;
    let mean = input.readings_mm.iter().sum::<f64>() / n as f64;
    let extreme = |f: fn(f64, f64) -> f64| input.readings_mm.iter().copied().fold(input.readings_mm[0], f);
    let spread = extreme(f64::max) - extreme(f64::min);
    let ratio = learnt(&input.moves)?.unwrap_or(USUAL_RATIO);
    let middle = 0.5 * (low + high);
    let mut findings = vec![];
    if n < 4 {
        findings.push(Finding::new("few-readings", Level::Info, "read it at four places round the ring at least"));
    }
    if spread > MOST_SPREAD_MM {
        let message = format!("it differs by {spread:.2} mm round the ring: the ring runs out, or dirt is under it");
        findings.push(Finding::new("spread", Level::Warn, message));
    }
    let is_within = (low..=high).contains(&mean);
    if !is_within {
        findings.push(Finding::new("out-of-range", Level::Over, format!("{mean:.2} mm, wanted {low:.2} to {high:.2} mm")));
    }
    let packs = match (&input.shims, input.pack_mm, input.toward_pinion) {
        (Some(shims), Some(pack), Some(toward)) => {
            Some(packs(shims, pack, toward, preload, |moved| mean - ratio * moved, middle)?)
        }
        _ => None,
    };
    if packs.as_ref().is_some_and(Vec::is_empty) {
        let message = "the shims on hand do not make up the whole pack: others are needed";
        findings.push(Finding::new("no-pack", Level::Warn, message));
    }
    let outcome = if is_within { "within" } else { "over" };
    Ok(Backlash { mean_mm: mean, spread_mm: spread, move_mm: (mean - middle) / ratio, ratio, outcome, findings, packs })
}

fn packs(
    shims: &[f64],
    pack: PackMm,
    toward: PackSide,
    preload: f64,
    after: impl Fn(f64) -> f64,
    middle: f64,
) -> Result<Vec<Pack>, Problem> {
    if shims.len() > MOST_SHIMS {
        return Err(Problem::new("out-of-range", format!("{MOST_SHIMS} shims at most")).field("shims"));
    }
    for (i, s) in shims.iter().enumerate() {
        if positive(*s, &format!("shims[{i}]"))? > 20.0 {
            return Err(Problem::new("out-of-range", "a shim is up to 20 mm thick").field(format!("shims[{i}]")));
        }
    }
    for (x, field) in [(pack.left, "pack_mm.left"), (pack.right, "pack_mm.right")] {
        if !(0.0..=40.0).contains(&finite(x, field)?) {
            return Err(Problem::new("out-of-range", "a pack lies from 0 to 40 mm").field(field));
        }
    }
    let whole = pack.left + pack.right + preload;
    if whole < 0.0 {
        return Err(Problem::new("out-of-range", "less preload than there is pack").field("preload_mm"));
    }
    let total = (whole * PER_MM).round() as u32;
    let now = match toward {
        PackSide::Left => pack.left,
        PackSide::Right => pack.right,
    };
    let mut out: Vec<Pack> = splits(shims, total)
        .into_iter()
        .map(|(left_thousandths, left, right)| {
            let left_mm = f64::from(left_thousandths) / PER_MM;
            let side = if toward == PackSide::Left { left_mm } else { f64::from(total) / PER_MM - left_mm };
            // Of a preload half goes to either side: the ring moves by what is beyond that.
            Pack { left, right, backlash_mm: after(side - now - 0.5 * preload) }
        })
        .collect();
    let off = |p: &Pack| (p.backlash_mm - middle).abs();
    out.sort_by(|a, b| off(a).total_cmp(&off(b)).then((a.left.len() + a.right.len()).cmp(&(b.left.len() + b.right.len()))));
    out.truncate(PACKS);
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn of(input: &Value) -> Result<Backlash, Problem> {
        backlash(&read_json(input).unwrap())
    }

    #[test]
    fn the_first_move_by_seven_tenths_and_the_next_as_learnt() {
        let b = of(&json!({"readings_mm": [0.30, 0.32, 0.28, 0.30], "range_mm": [0.13, 0.20]})).unwrap();
        assert!((b.mean_mm - 0.30).abs() < 1e-12 && (b.spread_mm - 0.04).abs() < 1e-12);
        assert!((b.move_mm - 0.135 / 0.7).abs() < 1e-12);
        assert_eq!(b.findings[0].code, "out-of-range");
        let moves = json!([{"shim_mm": 0.2, "before_mm": 0.30, "after_mm": 0.20}, {"shim_mm": -0.1, "before_mm": 0.10, "after_mm": 0.17}]);
        let b = of(&json!({"readings_mm": [0.2, 0.2, 0.2, 0.2], "range_mm": [0.1, 0.2], "moves": moves})).unwrap();
        assert!((b.ratio - 0.6).abs() < 1e-9 && (b.move_mm - 0.05 / 0.6).abs() < 1e-9, "{b:?}");
        let uneven = of(&json!({"readings_mm": [0.1, 0.2, 0.15, 0.16]})).unwrap();
        assert!(uneven.findings.iter().any(|f| f.code == "spread"));
    }

    #[test]
    fn packs_keep_the_whole_and_use_each_shim_once() {
        let b = of(
            &json!({"readings_mm": [0.30, 0.30, 0.30, 0.30], "range_mm": [0.13, 0.20], "shims": [0.5, 0.7, 0.3, 0.2, 0.1, 1.0],
            "pack_mm": {"left": 0.8, "right": 1.0}, "toward_pinion": "left", "preload_mm": 0}),
        )
        .unwrap();
        let packs = b.packs.unwrap();
        assert!((1..=5).contains(&packs.len()));
        for p in &packs {
            assert!((p.left.iter().sum::<f64>() + p.right.iter().sum::<f64>() - 1.8).abs() < 1e-9, "{p:?}");
        }
        // 0.193 mm over: 1.0 left is nearest, 0.30 − 0.7·0.2 = 0.16.
        assert!(
            (packs[0].left.iter().sum::<f64>() - 1.0).abs() < 1e-9 && (packs[0].backlash_mm - 0.16).abs() < 1e-9,
            "{packs:?}"
        );
        let none =
            of(&json!({"readings_mm": [0.3], "shims": [0.4], "pack_mm": {"left": 0.8, "right": 1.0}, "toward_pinion": "left"}))
                .unwrap();
        assert!(none.packs.unwrap().is_empty() && none.findings.iter().any(|f| f.code == "no-pack"));
    }

    #[test]
    fn errors_name_the_field() {
        let field = |v: Value| of(&v).unwrap_err().field.unwrap();
        assert_eq!(field(json!({"readings_mm": []})), "readings_mm");
        assert_eq!(field(json!({"readings_mm": [-0.1]})), "readings_mm[0]");
        assert_eq!(field(json!({"readings_mm": [0.1], "range_mm": [0.2, 0.1]})), "range_mm");
        assert_eq!(
            field(json!({"readings_mm": [0.1], "moves": [{"shim_mm": 0, "before_mm": 1, "after_mm": 1}]})),
            "moves[0].shim_mm"
        );
        let moves = json!([{"shim_mm": 0.1, "before_mm": 0.1, "after_mm": 0.2}]);
        assert_eq!(field(json!({"readings_mm": [0.1], "moves": moves})), "moves");
    }

    proptest! {
        #[test]
        fn no_shim_is_used_twice(shims in prop::collection::vec(1u32..12, 1..10), left in 1u32..8, right in 1u32..8) {
            let shims: Vec<f64> = shims.iter().map(|s| f64::from(*s) / 10.0).collect();
            let b = of(&json!({"readings_mm": [0.2], "shims": shims, "toward_pinion": "right",
                "pack_mm": {"left": f64::from(left) / 10.0, "right": f64::from(right) / 10.0}})).unwrap();
            for p in b.packs.unwrap() {
                let mut rest = shims.clone();
                for s in p.left.iter().chain(&p.right) {
                    let at = rest.iter().position(|x| x == s);
                    prop_assert!(at.is_some(), "{p:?} of {shims:?}");
                    rest.remove(at.unwrap());
                }
            }
        }
    }
}
