//! Length of a shaft, its slip, and how much of that the suspension takes.
//!
//! Length is centre to centre of the end joints: the bottomed length less the reserve. Over the travel the distance of the joints is
//! L = √(x² + z²); slip is its change. The splines overlap by 1.5 of their diameter at least.

use crate::error::{Finding, Level, Problem, finite, positive};
use crate::units::Millimetres;
use serde::{Deserialize, Serialize};

/// How far the slip is drawn out from the bottom, by default, mm. Another school takes the diameter of the joint's cap.
pub const RESERVE_MM: f64 = 22.0;
/// Overlap of the splines over their diameter.
pub const LEAST_ENGAGEMENT: f64 = 1.5;
/// Heights of the axle on the curve.
const CURVE: usize = 21;
/// Longest shaft.
const LONGEST_MM: f64 = 10_000.0;

/// Where the rear joint stands under the front one, and how far it travels.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Travel {
    /// How far behind it.
    pub x_mm: Millimetres,
    /// How far below it at ride height.
    pub z_mm: Millimetres,
    /// Up to full bump.
    #[serde(default)]
    pub bump_mm: Millimetres,
    /// Down to full droop.
    #[serde(default)]
    pub droop_mm: Millimetres,
}

/// What is measured for a shaft.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct ShaftLengthInput {
    /// Joint to joint at ride height with the slip fully home.
    pub bottomed_mm: Millimetres,
    /// Drawn out from there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reserve_mm: Option<Millimetres>,
    /// Diameter of the joint's cap: the reserve of the other school.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cap_mm: Option<Millimetres>,
    /// Diameter of the splines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spline_diameter_mm: Option<Millimetres>,
    /// Their overlap at ride height.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub engaged_mm: Option<Millimetres>,
    /// What the suspension does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub travel: Option<Travel>,
}

/// The slip that a height of the axle asks for.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct SlipAt {
    /// How much lower than at ride height the rear joint stands.
    pub lower_mm: Millimetres,
    /// Positive when the shaft must lengthen.
    pub slip_mm: Millimetres,
}

/// The shaft to order.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ShaftLength {
    /// Centre to centre; of a shaft with its own slip the collapsed length.
    pub length_mm: Millimetres,
    /// The length by the other school: a cap's diameter drawn out; none where that was not measured.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub length_by_cap_mm: Option<Millimetres>,
    /// Whether the splines overlap enough; none where it was not measured.
    pub engagement_ok: Option<bool>,
    /// At full bump and at full droop, positive when the shaft must lengthen.
    pub slip_needed_mm: Option<[Millimetres; 2]>,
    /// Over the travel, from bump to droop; empty without it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub curve: Vec<SlipAt>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

impl Travel {
    /// Slip at 21 heights, from full bump to full droop.
    fn curve(&self) -> Vec<SlipAt> {
        let (from, to) = (-self.bump_mm.get(), self.droop_mm.get());
        let at = |i: usize| from + (to - from) * i as f64 / (CURVE - 1) as f64;
        (0..CURVE).map(|i| SlipAt { lower_mm: Millimetres(at(i)), slip_mm: self.slip_at(at(i)) }).collect()
    }

    /// Change of the joints' distance when the rear one stands `lower` mm lower than at ride height.
    pub fn slip_at(&self, lower: f64) -> Millimetres {
        let length = |z: f64| self.x_mm.get().hypot(z);
        Millimetres(length(self.z_mm.get() + lower) - length(self.z_mm.get()))
    }
}

/// Length of a shaft and the slip it needs, mm. Errors name the field: lengths up to 10 m, a reserve below the bottomed length.
///
/// ```
/// use baricord_core::{error::read_json, measure::shaft_length::shaft_length};
/// let input = serde_json::json!({"bottomed_mm": 1202, "travel": {"x_mm": 1200, "z_mm": 70, "bump_mm": 80, "droop_mm": 90}});
/// let s = shaft_length(&read_json(&input).unwrap()).unwrap();
/// assert_eq!(s.length_mm.get(), 1180.0);
/// assert!((s.slip_needed_mm.unwrap()[1].get() - 8.580).abs() < 5e-4);
/// ```
pub fn shaft_length(input: &ShaftLengthInput) -> Result<ShaftLength, Problem> {
    let within = |x: Option<Millimetres>, field: &str| match x {
        Some(x) => {
            let mm = finite(x.get(), field)?;
            match (0.0..=LONGEST_MM).contains(&mm) {
                true => Ok(()),
                false => Err(Problem::new("out-of-range", format!("a length lies from 0 to {LONGEST_MM} mm")).field(field)),
            }
        }
        None => Ok(()),
    };
    let bottomed = positive(input.bottomed_mm.get(), "bottomed_mm")?;
    within(Some(input.bottomed_mm), "bottomed_mm")?;
    within(input.reserve_mm, "reserve_mm")?;
    within(input.cap_mm, "cap_mm")?;
    within(input.spline_diameter_mm, "spline_diameter_mm")?;
    within(input.engaged_mm, "engaged_mm")?;
    let reserve = input.reserve_mm.map_or(RESERVE_MM, |r| r.get());
    if reserve >= bottomed {
        return Err(Problem::new("out-of-range", "the reserve is longer than the shaft").field("reserve_mm"));
    }
    let mut findings = vec![];
    let engaged = input.engaged_mm.zip(input.spline_diameter_mm).map(|(e, d)| {
        let least = LEAST_ENGAGEMENT * d.get();
        if e.get() < least {
            let message = format!("the splines overlap {:.0} mm: {least:.0} mm at least", e.get());
            findings.push(Finding::new("engagement", Level::Over, message));
        }
        e.get() >= least
    });
    let slip = match input.travel {
        None => None,
        Some(t) => {
            for (x, field) in [(t.x_mm, "travel.x_mm"), (t.bump_mm, "travel.bump_mm"), (t.droop_mm, "travel.droop_mm")] {
                within(Some(x), field)?;
            }
            positive(t.x_mm.get(), "travel.x_mm")?;
            finite(t.z_mm.get(), "travel.z_mm")?;
            let (bump, droop) = (t.slip_at(-t.bump_mm.get()), t.slip_at(t.droop_mm.get()));
            // Between the ends the joints may come nearer still, where the shaft passes level.
            let level = t.z_mm.get() - t.bump_mm.get() < 0.0 && t.z_mm.get() > 0.0;
            let shortest = if level { t.slip_at(-t.z_mm.get()).get() } else { bump.get().min(droop.get()).min(0.0) };
            if -shortest > reserve {
                let message = format!("the slip bottoms: it closes by {:.1} mm and has {reserve:.1} mm", -shortest);
                findings.push(Finding::new("bottoms", Level::Over, message));
            }
            if let (Some(e), Some(d)) = (input.engaged_mm, input.spline_diameter_mm) {
                let left = e.get() - bump.get().max(droop.get()).max(0.0);
                if engaged == Some(true) && left < LEAST_ENGAGEMENT * d.get() {
                    let message = format!("drawn out at the end of the travel the splines overlap {left:.0} mm only");
                    findings.push(Finding::new("engagement-at-travel", Level::Warn, message));
                }
            }
            Some([bump, droop])
        }
    };
    let by_cap = input.cap_mm.map(|c| Millimetres(bottomed - c.get()));
    if by_cap.is_some_and(|l| l.get() <= 0.0) {
        return Err(Problem::new("out-of-range", "the cap is wider than the shaft is long").field("cap_mm"));
    }
    Ok(ShaftLength {
        length_mm: Millimetres(bottomed - reserve),
        length_by_cap_mm: by_cap,
        engagement_ok: engaged,
        slip_needed_mm: slip,
        curve: input.travel.map(|t| t.curve()).unwrap_or_default(),
        findings,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn of(input: &Value) -> Result<ShaftLength, Problem> {
        shaft_length(&read_json(input).unwrap())
    }

    #[test]
    fn overlap_and_travel_are_held_against_what_there_is() {
        let s = of(&json!({"bottomed_mm": 1200, "reserve_mm": 25, "spline_diameter_mm": 30, "engaged_mm": 45})).unwrap();
        assert_eq!((s.length_mm.get(), s.engagement_ok, s.slip_needed_mm), (1175.0, Some(true), None));
        let s = of(&json!({"bottomed_mm": 1200, "spline_diameter_mm": 30, "engaged_mm": 44})).unwrap();
        assert_eq!((s.engagement_ok, s.findings[0].code.as_str()), (Some(false), "engagement"));
        let s =
            of(&json!({"bottomed_mm": 1200, "cap_mm": 27, "travel": {"x_mm": 1200, "z_mm": 70, "bump_mm": 80, "droop_mm": 90}}))
                .unwrap();
        assert_eq!((s.length_mm.get(), s.length_by_cap_mm.unwrap().get(), s.curve.len()), (1178.0, 1173.0, 21));
        assert_eq!([s.curve[0].slip_mm, s.curve[20].slip_mm], s.slip_needed_mm.unwrap());
        // Short and steep: it passes level on the way up and closes most there.
        let s = of(
            &json!({"bottomed_mm": 400, "reserve_mm": 10, "travel": {"x_mm": 300, "z_mm": 90, "bump_mm": 120, "droop_mm": 0}}),
        )
        .unwrap();
        assert_eq!(s.findings[0].code, "bottoms");
        assert!(s.slip_needed_mm.unwrap()[0].get() > -13.0);
    }

    #[test]
    fn errors_name_the_field() {
        let field = |v: Value| of(&v).unwrap_err().field.unwrap();
        assert_eq!(field(json!({"bottomed_mm": 0})), "bottomed_mm");
        assert_eq!(field(json!({"bottomed_mm": 20})), "reserve_mm");
        assert_eq!(field(json!({"bottomed_mm": 900, "travel": {"x_mm": 0, "z_mm": 1}})), "travel.x_mm");
    }

    proptest! {
        #[test]
        fn droop_from_below_lengthens_and_bump_to_level_shortens(x in 300.0f64..2000.0, z in 1.0f64..200.0, droop in 1.0f64..150.0) {
            let t = Travel { x_mm: Millimetres(x), z_mm: Millimetres(z), bump_mm: Millimetres(z), droop_mm: Millimetres(droop) };
            prop_assert!(t.slip_at(droop).get() > 0.0 && t.slip_at(-z).get() < 0.0);
            prop_assert!((t.slip_at(0.0).get()).abs() < 1e-12);
        }
    }
}
