//! The plates of a clutch-type limited slip: in the maker's order, thick enough, and both packs alike.
//!
//! A pack's thickness is the sum of its plates; the order repeats that of the maker, from the side gear outwards. The other pack takes
//! the same thickness, from plates on hand.

use crate::error::{Finding, Level, Problem, positive};
use serde::{Deserialize, Serialize};

/// Packs differ by no more than this, mm.
pub const MOST_DIFFERENCE_MM: f64 = 0.1;
const MOST_PLATES: usize = 40;

/// Kind of a plate.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PlateKind {
    /// With a lining.
    Friction,
    /// Plain.
    Steel,
    /// A cone spring.
    Spring,
    /// A shim.
    Shim,
}

/// A plate as it lies in the pack.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Plate {
    /// Its kind.
    pub kind: PlateKind,
    /// Its thickness.
    pub mm: f64,
}

/// Both packs, from the side gear outwards.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ClutchPackInput {
    /// The maker's order; the kinds of one pack.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub order: Option<Vec<PlateKind>>,
    /// Left pack.
    pub left: Vec<Plate>,
    /// Right pack.
    pub right: Vec<Plate>,
    /// Thickness of a pack, from and to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pack_mm: Option<[f64; 2]>,
    /// Thinnest friction plate that is allowed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least_friction_mm: Option<f64>,
    /// Shims on hand.
    #[serde(default)]
    pub shims_mm: Vec<f64>,
}

/// One pack.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct PackSum {
    /// All plates.
    pub thickness_mm: f64,
    /// Number of the first plate that is not as in the maker's order, from 1.
    pub first_wrong: Option<usize>,
    /// Numbers of friction plates that are too thin, from 1.
    pub thin: Vec<usize>,
    /// The shim on hand that brings it nearest to the middle of its range; none where it lies in it, or none helps.
    pub add_shim_mm: Option<f64>,
}

/// Both packs.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ClutchPacks {
    pub left: PackSum,
    pub right: PackSum,
    /// Left less right.
    pub difference_mm: f64,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// Order and thickness of both packs, mm. Errors name the field: 1 to 40 plates a side, each above 0 and up to 20 mm.
///
/// ```
/// use baricord_core::{error::read_json, measure::clutch_pack::clutch_pack};
/// let plate = |kind: &str, mm: f64| serde_json::json!({"kind": kind, "mm": mm});
/// let input = serde_json::json!({"left": [plate("steel", 1.8), plate("friction", 2.0)], "right": [plate("steel", 1.8), plate("friction", 1.9)]});
/// assert!((clutch_pack(&read_json(&input).unwrap()).unwrap().difference_mm - 0.1).abs() < 1e-9);
/// ```
pub fn clutch_pack(input: &ClutchPackInput) -> Result<ClutchPacks, Problem> {
    if let Some([low, high]) = input.pack_mm {
        positive(low, "pack_mm[0]")?;
        if positive(high, "pack_mm[1]")? < low {
            return Err(Problem::new("out-of-range", "the range runs from low to high").field("pack_mm"));
        }
    }
    for (i, s) in input.shims_mm.iter().enumerate() {
        positive(*s, &format!("shims_mm[{i}]"))?;
    }
    let mut findings = vec![];
    let left = pack(input, &input.left, "left", &mut findings)?;
    let mut on_hand = input.clone();
    // A shim that the one pack takes is not there for the other.
    if let Some(at) = left.add_shim_mm.and_then(|s| on_hand.shims_mm.iter().position(|x| *x == s)) {
        on_hand.shims_mm.remove(at);
    }
    let right = pack(&on_hand, &input.right, "right", &mut findings)?;
    let difference = left.thickness_mm - right.thickness_mm;
    if difference.abs() > MOST_DIFFERENCE_MM + 1e-9 {
        let thicker = if difference > 0.0 { "left" } else { "right" };
        let message =
            format!("the {thicker} pack is {:.2} mm thicker: both alike, else one side locks earlier", difference.abs());
        findings.push(Finding::new("unequal", Level::Warn, message));
    }
    let message =
        "soak the friction plates in the oil and additive that the maker names before they go in; dry ones chatter and burn";
    findings.push(Finding::new("soak", Level::Info, message));
    Ok(ClutchPacks { left, right, difference_mm: difference, findings })
}

fn pack(input: &ClutchPackInput, plates: &[Plate], side: &str, findings: &mut Vec<Finding>) -> Result<PackSum, Problem> {
    if plates.is_empty() || plates.len() > MOST_PLATES {
        return Err(Problem::new("missing", format!("1 to {MOST_PLATES} plates of the {side} pack")).field(side));
    }
    for (i, p) in plates.iter().enumerate() {
        let field = format!("{side}[{i}].mm");
        if positive(p.mm, &field)? > 20.0 {
            return Err(Problem::new("out-of-range", "a plate is up to 20 mm thick").field(field));
        }
    }
    let thickness = plates.iter().map(|p| p.mm).sum();
    let first_wrong = input.order.as_ref().and_then(|order| {
        let kinds: Vec<PlateKind> = plates.iter().map(|p| p.kind).collect();
        let differs = (0..order.len().max(kinds.len())).find(|i| order.get(*i) != kinds.get(*i));
        differs.map(|i| i + 1)
    });
    if let Some(n) = first_wrong {
        let message = format!("{side} pack: plate {n} from the side gear is not as in the maker's order");
        findings.push(Finding::new("order", Level::Over, message).at(side));
    }
    let is_thin = |p: &Plate| p.kind == PlateKind::Friction && input.least_friction_mm.is_some_and(|least| p.mm < least);
    let thin: Vec<usize> = plates.iter().enumerate().filter(|(_, p)| is_thin(p)).map(|(i, _)| i + 1).collect();
    if !thin.is_empty() {
        let list = thin.iter().map(usize::to_string).collect::<Vec<_>>().join(", ");
        findings.push(
            Finding::new("worn", Level::Over, format!("{side} pack: friction plate {list} is worn below its limit")).at(side),
        );
    }
    let mut add = None;
    if let Some([low, high]) = input.pack_mm.filter(|[low, high]| !(*low..=*high).contains(&thickness)) {
        let middle = 0.5 * (low + high);
        let off = |shim: &f64| (thickness + shim - middle).abs();
        add = input
            .shims_mm
            .iter()
            .copied()
            .filter(|s| (low..=high).contains(&(thickness + s)))
            .min_by(|a, b| off(a).total_cmp(&off(b)));
        let help = add.map_or("no shim on hand brings it there".to_string(), |s| {
            format!("a shim of {s:.2} mm brings it to {:.2} mm", thickness + s)
        });
        let message = format!("{side} pack: {thickness:.2} mm, wanted {low:.2} to {high:.2} mm; {help}");
        findings.push(Finding::new("thickness", Level::Over, message).at(side));
    }
    Ok(PackSum { thickness_mm: thickness, first_wrong, thin, add_shim_mm: add })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use serde_json::{Value, json};

    fn of(v: &Value) -> Result<ClutchPacks, Problem> {
        clutch_pack(&read_json(v).unwrap())
    }
    fn plates(kinds: &[(&str, f64)]) -> Value {
        kinds.iter().map(|(kind, mm)| json!({"kind": kind, "mm": mm})).collect()
    }

    #[test]
    fn order_wear_and_thickness_of_each_pack() {
        let good = plates(&[("steel", 1.8), ("friction", 2.0), ("steel", 1.8)]);
        let turned = plates(&[("steel", 1.8), ("steel", 1.8), ("friction", 1.6)]);
        let p = of(&json!({"order": ["steel", "friction", "steel"], "left": good, "right": turned, "pack_mm": [5.5, 5.7],
            "least_friction_mm": 1.8, "shims_mm": [0.2, 0.4]}))
        .unwrap();
        assert_eq!((p.left.first_wrong, p.right.first_wrong, p.right.thin.as_slice()), (None, Some(2), [3].as_slice()));
        assert_eq!((p.left.add_shim_mm, p.right.add_shim_mm), (None, Some(0.4)));
        let codes: Vec<&str> = p.findings.iter().map(|f| f.code.as_str()).collect();
        assert_eq!(codes, ["order", "worn", "thickness", "unequal", "soak"]);
    }

    #[test]
    fn a_shim_is_used_once_and_errors_name_the_field() {
        let thin = plates(&[("steel", 1.8), ("friction", 2.0)]);
        let p = of(&json!({"left": thin, "right": thin, "pack_mm": [4.0, 4.2], "shims_mm": [0.3]})).unwrap();
        assert_eq!((p.left.add_shim_mm, p.right.add_shim_mm), (Some(0.3), None));
        let field = |v: Value| of(&v).unwrap_err().field.unwrap();
        assert_eq!(field(json!({"left": [], "right": thin})), "left");
        assert_eq!(field(json!({"left": thin, "right": plates(&[("steel", 0.0)])})), "right[0].mm");
    }
}
