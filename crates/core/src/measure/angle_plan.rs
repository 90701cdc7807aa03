//! The correction planner: which wedge, shim, bearing height, arm or ride height brings the joints of a shaft within their limits.
//!
//! Geometry by points in the side view: P0 the first joint, P_k = P_{k−1} + L_k·(cos s_k, −sin s_k). An adjuster moves points, or turns the
//! gearbox or the pinion; slopes of the sections follow from the moved points, plan slopes stay. Every combination is worked out and ranked
//! by limits broken, then residual angle, then the smallest change (Σ |value| over the largest |value| of that adjuster).

use super::angles::{self, Angles, AnglesInput};
use crate::error::{Finding, Level, Problem, finite, positive};
use crate::units::{Degrees, Millimetres, RadPerS2};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

/// Combinations that are worked out at most.
pub const MOST_SETTINGS: usize = 1_000_000;
/// Plans that are named.
pub const PLANS: usize = 10;
/// A pinion climbs no further under torque.
pub(super) const MOST_CLIMB_DEG: f64 = 10.0;
/// Adjusters at most.
const MOST_ADJUSTERS: usize = 8;

/// What can be moved or turned.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AdjusterKind {
    /// A wedge under the axle, or relocated holes: degrees, positive lifts the nose of the pinion.
    PinionWedge,
    /// A shim at the gearbox mount: mm, positive lifts the rear of the gearbox.
    GearboxMount,
    /// The height of a support bearing: mm, positive lowers it.
    SupportBearing,
    /// Ride height: mm, positive lowers the axle.
    RideHeight,
    /// Length of the axle's arms: mm, positive moves the axle rearward.
    ArmLength,
}

/// An adjuster with its range and its geometry.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Adjuster {
    /// What it is.
    pub kind: AdjusterKind,
    /// Least setting, inclusive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<f64>,
    /// Largest setting, inclusive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<f64>,
    /// From one to the next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<f64>,
    /// Settings at hand, in place of a range.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_hand: Option<Vec<f64>>,
    /// Wedge: from the axle's middle to the joint, mm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub arm_mm: Option<f64>,
    /// Relocated holes: how far they were moved, mm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub offset_mm: Option<f64>,
    /// And the distance of their centres, mm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centres_mm: Option<f64>,
    /// Gearbox mount: from the point about which it turns to the mount, mm.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pivot_mm: Option<f64>,
    /// From that point to the first joint, mm; as far as the mount when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub joint_mm: Option<f64>,
    /// Support bearing: which joint it carries, from 0 at the gearbox.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub joint: Option<usize>,
    /// Ride height, arm length: how far the pinion turns with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deg_per_mm: Option<f64>,
}

impl Adjuster {
    /// Whether there is anything to try: a range that is more than 0, holes that were moved, something at hand.
    pub fn moves(&self) -> bool {
        let by_range = self.from.is_some() && !(self.from == self.to && self.from == Some(0.0));
        self.at_hand.is_some() || self.offset_mm.is_some() || by_range
    }
}

/// A shaft with its neighbours, and what can be changed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AnglePlanInput {
    /// As it is.
    #[serde(flatten)]
    pub shaft: AnglesInput,
    /// Length of each section, joint to joint.
    pub lengths_mm: Vec<f64>,
    /// What this vehicle has.
    pub adjusters: Vec<Adjuster>,
    /// Slip that there is to spend.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slip_available_mm: Option<f64>,
    /// How far the pinion climbs under torque: all figures are those under way.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub climb_deg: Option<f64>,
}

/// One adjuster as it is set.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Setting {
    /// Which.
    pub kind: AdjusterKind,
    /// Degrees or mm.
    pub value: f64,
}

/// A combination and what it does.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Plan {
    /// Of each adjuster.
    pub settings: Vec<Setting>,
    /// Each joint.
    pub joint_deg: Vec<Degrees>,
    /// What all do together.
    pub residual_deg: Degrees,
    /// At the pinion.
    pub torsional_rads2: RadPerS2,
    /// Each section, seen from the front.
    pub sections_rads2: Vec<RadPerS2>,
    /// Change of the summed lengths, positive when longer; the wedge's own fore-and-aft is left out.
    pub slip_mm: Millimetres,
    /// How far the pinion's joint moves rearward.
    pub pinion_mm: Millimetres,
    /// Limits that are broken.
    pub broken: usize,
    /// Slip that there is, where it was said.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub slip_available_mm: Option<f64>,
}

/// The best plans, beside today.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct AnglePlans {
    /// With nothing changed.
    pub today: Plan,
    /// Best first.
    pub plans: Vec<Plan>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

impl AnglePlans {
    fn findings(today: &Plan, best: Option<&Plan>) -> Vec<Finding> {
        let mut out = vec![];
        let is_better = |b: &Plan| b.broken < today.broken || b.residual_deg.get() < today.residual_deg.get() - 1e-9;
        if !best.is_some_and(is_better) {
            let message = "nothing in these ranges is better than today: widen them, or look at mounts and ride height";
            out.push(Finding::new("nothing-better", Level::Warn, message));
        }
        if let (Some(b), Some(there)) = (best, today.slip_available_mm)
            && b.slip_mm.get().abs() > there
        {
            out.push(Finding::new("slip", Level::Warn, "the first takes more slip than there is"));
        }
        out
    }
}

/// The best plan that moves a single thing and breaks no limit; none where that is not enough.
pub fn simplest(input: &AnglePlanInput) -> Option<Plan> {
    let alone = |a: &Adjuster| {
        let one = AnglePlanInput { adjusters: vec![a.clone()], ..input.clone() };
        angle_plan(&one).ok()?.plans.into_iter().find(|p| p.broken == 0)
    };
    input.adjusters.iter().filter_map(alone).min_by(|a, b| a.residual_deg.get().total_cmp(&b.residual_deg.get()))
}

/// What an adjuster does to the points and slopes.
#[derive(Clone, Copy)]
enum Move {
    Wedge { arm: f64 },
    Mount { pivot: f64, joint: f64 },
    Bearing { joint: usize },
    Height { per_mm: f64 },
    Arm { per_mm: f64 },
}

/// An adjuster that has been checked.
struct Range {
    kind: AdjusterKind,
    values: Vec<f64>,
    largest: f64,
    does: Move,
}

fn values_of(a: &Adjuster, at: impl Fn(&str) -> String) -> Result<Vec<f64>, Problem> {
    let missing = |field: &str| Problem::new("missing", "a range with its step, or what is at hand").field(at(field));
    if let Some(hand) = &a.at_hand {
        for (i, x) in hand.iter().enumerate() {
            finite(*x, &at(&format!("at_hand[{i}]")))?;
        }
        return if hand.is_empty() { Err(missing("at_hand")) } else { Ok(hand.clone()) };
    }
    if let (None, None, Some(offset), Some(centres)) = (a.from, a.to, a.offset_mm, a.centres_mm) {
        let centres = positive(centres, &at("centres_mm"))?;
        let turned = (finite(offset, &at("offset_mm"))? / centres).atan().to_degrees();
        return Ok(vec![0.0, turned]);
    }
    let from = finite(a.from.ok_or_else(|| missing("from"))?, &at("from"))?;
    let to = finite(a.to.ok_or_else(|| missing("to"))?, &at("to"))?;
    if to < from {
        return Err(Problem::new("out-of-range", "a range goes from the lower to the higher figure").field(at("to")));
    }
    if to == from {
        return Ok(vec![from]);
    }
    let step = positive(a.step.ok_or_else(|| missing("step"))?, &at("step"))?;
    let n = ((to - from) / step + 1e-9).floor();
    if n >= MOST_SETTINGS as f64 {
        return Err(too_many());
    }
    Ok((0..=n as usize).map(|i| from + step * i as f64).collect())
}

fn too_many() -> Problem {
    Problem::new("too-many-settings", format!("more than {MOST_SETTINGS} combinations: take wider steps or fewer adjusters"))
        .field("adjusters")
}

fn check(input: &AnglePlanInput) -> Result<Vec<Range>, Problem> {
    let sections = input.shaft.elements.len().saturating_sub(2);
    if input.lengths_mm.len() != sections || sections == 0 {
        let message = format!("{sections} sections have as many lengths, got {}", input.lengths_mm.len());
        return Err(Problem::new("mismatch", message).field("lengths_mm"));
    }
    for (i, l) in input.lengths_mm.iter().enumerate() {
        positive(*l, &format!("lengths_mm[{i}]"))?;
    }
    if finite(input.climb_deg.unwrap_or_default(), "climb_deg")?.abs() > MOST_CLIMB_DEG {
        let message = format!("a pinion climbs up to {MOST_CLIMB_DEG}°");
        return Err(Problem::new("out-of-range", message).field("climb_deg"));
    }
    if input.adjusters.is_empty() || input.adjusters.len() > MOST_ADJUSTERS {
        return Err(Problem::new("missing", format!("1 to {MOST_ADJUSTERS} adjusters")).field("adjusters"));
    }
    let mut out = vec![];
    let mut combinations = 1usize;
    for (i, a) in input.adjusters.iter().enumerate() {
        let at = |field: &str| format!("adjusters[{i}].{field}");
        let number = |x: Option<f64>, field: &str| x.map_or(Ok(0.0), |x| finite(x, &at(field)));
        let values = values_of(a, at)?;
        let does = match a.kind {
            AdjusterKind::PinionWedge => Move::Wedge { arm: number(a.arm_mm, "arm_mm")? },
            AdjusterKind::GearboxMount => {
                let need = || Problem::new("missing", "from where does the gearbox turn?").field(at("pivot_mm"));
                let pivot = positive(a.pivot_mm.ok_or_else(need)?, &at("pivot_mm"))?;
                Move::Mount { pivot, joint: a.joint_mm.map_or(Ok(pivot), |j| finite(j, &at("joint_mm")))? }
            }
            AdjusterKind::SupportBearing => {
                let joint = a.joint.unwrap_or(1);
                if !(1..sections.max(1)).contains(&joint) {
                    let message = format!("a support bearing carries one of the joints 1 to {}", sections.saturating_sub(1));
                    return Err(Problem::new("out-of-range", message).field(at("joint")));
                }
                Move::Bearing { joint }
            }
            AdjusterKind::RideHeight => Move::Height { per_mm: number(a.deg_per_mm, "deg_per_mm")? },
            AdjusterKind::ArmLength => Move::Arm { per_mm: number(a.deg_per_mm, "deg_per_mm")? },
        };
        combinations = combinations.checked_mul(values.len()).filter(|n| *n <= MOST_SETTINGS).ok_or_else(too_many)?;
        let largest = values.iter().fold(0.0, |m: f64, v| m.max(v.abs()));
        out.push(Range { kind: a.kind, values, largest, does });
    }
    Ok(out)
}

/// The shaft after its adjusters were set: the slopes, the change of length, how far the pinion moved rearward.
struct Moved {
    side_deg: Vec<f64>,
    slip_mm: f64,
    pinion_mm: f64,
}

/// Joints of the side view, x rearward and z up.
fn points(input: &AnglePlanInput) -> Vec<(f64, f64)> {
    let mut at = (0.0, 0.0);
    let mut out = vec![at];
    for (e, l) in input.shaft.elements[1..].iter().zip(&input.lengths_mm) {
        let (s, c) = e.side_deg.rad().sin_cos();
        at = (at.0 + l * c, at.1 - l * s);
        out.push(at);
    }
    out
}

fn moved(input: &AnglePlanInput, before: &[(f64, f64)], ranges: &[Range], values: &[f64]) -> Moved {
    let mut p = before.to_vec();
    let (last, n) = (p.len() - 1, input.shaft.elements.len());
    let mut side_deg: Vec<f64> = input.shaft.elements.iter().map(|e| e.side_deg.get()).collect();
    side_deg[n - 1] += input.climb_deg.unwrap_or_default();
    let mut wedge_mm = 0.0;
    for (r, x) in ranges.iter().zip(values) {
        match r.does {
            Move::Wedge { arm } => {
                side_deg[n - 1] += x;
                p[last].1 += arm * x.to_radians().sin();
                wedge_mm += arm * (1.0 - x.to_radians().cos());
            }
            Move::Mount { pivot, joint } => {
                side_deg[0] -= (x / pivot).atan().to_degrees();
                p[0].1 += x * joint / pivot;
            }
            Move::Bearing { joint } => p[joint].1 -= x,
            Move::Height { per_mm } => {
                p[last].1 -= x;
                side_deg[n - 1] += per_mm * x;
            }
            Move::Arm { per_mm } => {
                p[last].0 += x;
                side_deg[n - 1] += per_mm * x;
            }
        }
    }
    let mut slip_mm = 0.0;
    for (k, l) in input.lengths_mm.iter().enumerate() {
        let (dx, dz) = (p[k + 1].0 - p[k].0, p[k + 1].1 - p[k].1);
        slip_mm += dx.hypot(dz) - l;
        side_deg[k + 1] = (-dz).atan2(dx).to_degrees();
    }
    Moved { side_deg, slip_mm, pinion_mm: p[last].0 - before[last].0 + wedge_mm }
}

fn with_slopes(shaft: &AnglesInput, side_deg: &[f64]) -> AnglesInput {
    let mut out = shaft.clone();
    for (e, s) in out.elements.iter_mut().zip(side_deg) {
        e.side_deg = Degrees(*s);
    }
    out
}

fn plan(input: &AnglePlanInput, before: &[(f64, f64)], ranges: &[Range], values: &[f64]) -> Result<Plan, Problem> {
    let m = moved(input, before, ranges, values);
    let a: Angles = angles::angles(&with_slopes(&input.shaft, &m.side_deg))?;
    Ok(Plan {
        settings: ranges.iter().zip(values).map(|(r, v)| Setting { kind: r.kind, value: *v }).collect(),
        broken: a.broken(),
        joint_deg: a.joint_deg,
        residual_deg: a.residual_deg,
        torsional_rads2: a.torsional_rads2,
        sections_rads2: a.sections_rads2,
        slip_mm: Millimetres(m.slip_mm),
        pinion_mm: Millimetres(m.pinion_mm),
        slip_available_mm: input.slip_available_mm,
    })
}

/// How good a combination is: limits broken, residual, change, and its number.
type Rank = (usize, f64, f64, usize);

fn better(a: &Rank, b: &Rank) -> std::cmp::Ordering {
    a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)).then(a.2.total_cmp(&b.2)).then(a.3.cmp(&b.3))
}

/// Up to ten plans, best first, beside today; none that breaks more limits than today.
///
/// Slopes within ±60°, lengths above 0 mm, up to 1 000 000 combinations (`too-many-settings`). Errors name the field.
///
/// ```
/// use baricord_core::{error::read_json, measure::angle_plan::angle_plan};
/// let input = serde_json::json!({"elements": [{"side_deg": 4}, {"side_deg": 7}, {"side_deg": 1}], "joints": ["cross", "cross"], "rpm": 3000,
///     "lengths_mm": [1200], "adjusters": [{"kind": "pinion-wedge", "from": -4, "to": 4, "step": 0.5}]});
/// let p = angle_plan(&read_json(&input).unwrap()).unwrap();
/// assert_eq!((p.plans[0].settings[0].value, p.plans[0].residual_deg.get() < 1e-5), (3.0, true));
/// ```
pub fn angle_plan(input: &AnglePlanInput) -> Result<AnglePlans, Problem> {
    let ranges = check(input)?;
    let before = points(input);
    let nothing = vec![0.0; ranges.len()];
    // Says what is wrong with the shaft, too.
    let today = plan(input, &before, &ranges, &nothing)?;
    let shaft = angles::Shaft::new(&input.shaft);
    let plan_slopes: Vec<f64> = input.shaft.elements.iter().map(|e| e.plan_deg.unwrap_or_default().rad().tan()).collect();
    let all: usize = ranges.iter().map(|r| r.values.len()).product();
    let values = |mut n: usize| -> Vec<f64> {
        let of = |r: &Range| {
            let i = n % r.values.len();
            n /= r.values.len();
            r.values[i]
        };
        ranges.iter().map(of).collect()
    };
    let rank = |n: usize| -> Option<Rank> {
        let values = values(n);
        let m = moved(input, &before, &ranges, &values);
        let (broken, residual) = shaft.broken(&m.side_deg, &plan_slopes)?;
        let change = ranges.iter().zip(&values).map(|(r, v)| if r.largest > 0.0 { v.abs() / r.largest } else { 0.0 }).sum();
        // Residuals that differ by rounding alone are one.
        Some((broken, (residual * 1e9).round() / 1e9, change, n))
    };
    let keep = |mut best: Vec<Rank>, n: usize| {
        if let Some(r) = rank(n) {
            let at = best.partition_point(|b| better(b, &r).is_lt());
            if at < PLANS {
                best.insert(at, r);
                best.truncate(PLANS);
            }
        }
        best
    };
    let merge = |mut a: Vec<Rank>, b: Vec<Rank>| {
        a.extend(b);
        a.sort_by(better);
        a.truncate(PLANS);
        a
    };
    let best = (0..all).into_par_iter().with_min_len(2048).fold(Vec::new, keep).reduce(Vec::new, merge);
    // What is worse than leaving it alone is no plan.
    let helps = best.iter().filter(|r| r.0 <= today.broken);
    let plans: Vec<Plan> = helps.map(|r| plan(input, &before, &ranges, &values(r.3))).collect::<Result<_, _>>()?;
    let findings = AnglePlans::findings(&today, plans.first());
    Ok(AnglePlans { today, plans, findings })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn input(v: &Value) -> AnglePlanInput {
        read_json(v).unwrap()
    }

    fn worked_b(adjusters: &Value) -> Value {
        json!({"elements": [{"side_deg": 4}, {"side_deg": 1}, {"side_deg": 5.5}, {"side_deg": 3}], "joints": ["cross", "cross", "cross"],
            "rpm": 3600, "lengths_mm": [640, 1180], "adjusters": adjusters})
    }

    #[test]
    fn today_is_what_the_angles_are() {
        let p = angle_plan(&input(&worked_b(&json!([{"kind": "ride-height", "from": 0, "to": 0, "step": 1}])))).unwrap();
        assert!((p.today.residual_deg.get() - 2.236).abs() < 5e-4 && (p.today.torsional_rads2.get() - 216.5).abs() < 0.1);
        assert!(p.today.slip_mm.get().abs() < 1e-9 && p.today.pinion_mm.get() == 0.0);
        assert_eq!(p.plans.len(), 1);
    }

    #[test]
    fn each_adjuster_moves_what_it_moves() {
        let one = |adjuster: Value| {
            let a = input(&worked_b(&json!([adjuster])));
            let ranges = check(&a).unwrap();
            let values: Vec<f64> = ranges.iter().map(|r| r.values[0]).collect();
            let m = moved(&a, &points(&a), &ranges, &values);
            (m.side_deg, m.slip_mm, m.pinion_mm)
        };
        let (s, slip, pinion) = one(json!({"kind": "pinion-wedge", "from": 2, "to": 2, "step": 1, "arm_mm": 150}));
        let rise = 150.0 * 2f64.to_radians().sin();
        let (dx, dz) = (1180.0 * 5.5f64.to_radians().cos(), -1180.0 * 5.5f64.to_radians().sin() + rise);
        assert!((s[3] - 5.0).abs() < 1e-12 && (s[2] - (-dz).atan2(dx).to_degrees()).abs() < 1e-9 && (s[1] - 1.0).abs() < 1e-9);
        assert!((slip - (dx.hypot(dz) - 1180.0)).abs() < 1e-9 && (pinion - 150.0 * (1.0 - 2f64.to_radians().cos())).abs() < 1e-9);
        let (s, ..) = one(json!({"kind": "gearbox-mount", "from": 10, "to": 10, "step": 1, "pivot_mm": 500, "joint_mm": 600}));
        let sunk = 640.0 * 1f64.to_radians().sin() + 12.0;
        assert!((s[0] - (4.0 - (10f64 / 500.0).atan().to_degrees())).abs() < 1e-9);
        assert!((s[1] - (sunk / (640.0 * 1f64.to_radians().cos())).atan().to_degrees()).abs() < 1e-9);
        let (s, slip, _) = one(json!({"kind": "support-bearing", "joint": 1, "from": 8, "to": 8, "step": 1}));
        assert!(s[1] > 1.0 && s[2] < 5.5 && s[0] == 4.0 && slip.abs() < 1.0);
        let (s, ..) = one(json!({"kind": "ride-height", "from": 30, "to": 30, "step": 1, "deg_per_mm": -0.02}));
        assert!((s[3] - 2.4).abs() < 1e-12 && s[2] > 5.5);
        let (_, slip, pinion) = one(json!({"kind": "arm-length", "from": 6, "to": 6, "step": 1}));
        assert!(pinion == 6.0 && slip > 5.9 && slip < 6.0);
        // 9 over 110 mm is 4.68°.
        let holes = values_of(
            &input(&worked_b(&json!([{"kind": "pinion-wedge", "offset_mm": 9, "centres_mm": 110}]))).adjusters[0],
            |f| f.into(),
        );
        assert!((holes.unwrap()[1] - 4.677).abs() < 1e-3);
    }

    #[test]
    fn errors_name_the_field() {
        let field = |a: Value| angle_plan(&input(&worked_b(&a))).unwrap_err();
        assert_eq!(field(json!([])).field.unwrap(), "adjusters");
        assert_eq!(
            field(json!([{"kind": "gearbox-mount", "from": 0, "to": 1, "step": 1}])).field.unwrap(),
            "adjusters[0].pivot_mm"
        );
        assert_eq!(
            field(json!([{"kind": "support-bearing", "joint": 2, "from": 0, "to": 1, "step": 1}])).field.unwrap(),
            "adjusters[0].joint"
        );
        assert_eq!(field(json!([{"kind": "ride-height", "from": 0, "to": 1}])).field.unwrap(), "adjusters[0].step");
        assert_eq!(field(json!([{"kind": "ride-height", "from": 2, "to": 1, "step": 1}])).field.unwrap(), "adjusters[0].to");
        let wide = json!({"kind": "ride-height", "from": -500, "to": 500, "step": 0.5});
        assert_eq!(field(json!([wide, wide])).code, "too-many-settings");
        let mut short = worked_b(&json!([{"kind": "ride-height", "from": 0, "to": 1, "step": 1}]));
        short["lengths_mm"] = json!([640]);
        assert_eq!(angle_plan(&input(&short)).unwrap_err().field.unwrap(), "lengths_mm");
    }

    /// The same by a plain loop over the full calculation.
    fn naive(a: &AnglePlanInput) -> Vec<Plan> {
        let (ranges, before) = (check(a).unwrap(), points(a));
        let mut all = vec![vec![]];
        for r in &ranges {
            all = all.iter().flat_map(|v| r.values.iter().map(move |x| [v.as_slice(), &[*x]].concat())).collect();
        }
        let mut plans: Vec<(Plan, f64)> = all
            .iter()
            .map(|v| {
                let change = ranges.iter().zip(v).map(|(r, x)| if r.largest > 0.0 { x.abs() / r.largest } else { 0.0 }).sum();
                (plan(a, &before, &ranges, v).unwrap(), change)
            })
            .collect();
        plans.sort_by(|(a, x), (b, y)| {
            let round = |p: &Plan| (p.residual_deg.get() * 1e9).round();
            a.broken.cmp(&b.broken).then(round(a).total_cmp(&round(b))).then(x.total_cmp(y))
        });
        plans.into_iter().map(|p| p.0).collect()
    }

    #[test]
    fn the_simplest_plan_moves_one_thing_and_what_does_not_help_is_told() {
        let v = |to: f64| {
            input(&json!({"elements": [{"side_deg": 4}, {"side_deg": 0.5}, {"side_deg": 5.9}, {"side_deg": 3}], "rpm": 3600,
                "joints": ["cross", "cross", "cross"], "lengths_mm": [640, 1180], "slip_available_mm": 0.5, "adjusters": [
                {"kind": "support-bearing", "joint": 1, "from": 0, "to": to, "step": 5},
                {"kind": "gearbox-mount", "from": 0, "to": 0.5 * to, "step": 3, "pivot_mm": 900}]}))
        };
        let one = simplest(&v(25.0)).unwrap();
        assert_eq!((one.settings.len(), one.broken, one.settings[0].value), (1, 0, 20.0));
        let codes = |p: AnglePlans| p.findings.into_iter().map(|f| f.code).collect::<Vec<_>>();
        assert_eq!(codes(angle_plan(&v(25.0)).unwrap()), ["slip"]);
        assert_eq!(codes(angle_plan(&v(0.0)).unwrap()), ["nothing-better"]);
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]
        #[test]
        fn the_search_finds_what_a_plain_loop_finds_and_never_breaks_more_than_today(
            s in prop::collection::vec(-6.0f64..8.0, 4), wedge in 0.5f64..2.0, shim in 2.0f64..9.0, rpm in 1500.0f64..5000.0) {
            let slopes: Vec<Value> = s.iter().map(|s| json!({"side_deg": s})).collect();
            let a = input(&json!({"elements": slopes, "joints": ["cross", "ball", "cross"], "rpm": rpm, "lengths_mm": [600, 1100], "adjusters": [
                {"kind": "pinion-wedge", "from": -2.0 * wedge, "to": 2.0 * wedge, "step": wedge, "arm_mm": 120},
                {"kind": "support-bearing", "joint": 1, "from": -shim, "to": shim, "step": shim},
                {"kind": "gearbox-mount", "from": 0, "to": 2.0 * shim, "step": shim, "pivot_mm": 450}]}));
            let (fast, mut slow) = (angle_plan(&a).unwrap(), naive(&a));
            slow.retain(|p| p.broken <= fast.today.broken);
            prop_assert_eq!(fast.plans.len(), slow.len().min(PLANS));
            for (f, n) in fast.plans.iter().zip(&slow) {
                prop_assert_eq!(f.broken, n.broken);
                prop_assert!((f.residual_deg.get() - n.residual_deg.get()).abs() < 1e-6, "{f:?} {n:?}");
            }
            prop_assert!(fast.plans.iter().all(|p| p.broken <= fast.today.broken));
        }
    }
}
