//! Bearing preload by turning torque: what the pinion shall turn with afterwards, from what it turned with before.
//!
//! Bearings that stay are set back to what was read before it was opened, and the new seal drags on top: wanted = before + seal. New
//! bearings go by the maker's range alone. A crush sleeve tightens once: past the range it takes a new one.

use crate::error::{Finding, Level, Problem, finite};
use serde::{Deserialize, Serialize};

/// How far a turning torque read by hand may lie above the wanted one, N·m.
pub const TOLERANCE_NM: f64 = 0.2;
/// No pinion turns harder than this.
const MOST_NM: f64 = 50.0;

/// What holds the bearings apart.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Spacer {
    /// A sleeve that is crushed as the nut tightens.
    #[default]
    Crush,
    /// A solid spacer with shims.
    Solid,
}

/// What was read, and what is in it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct PreloadInput {
    /// Turning torque before it was opened.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before_nm: Option<f64>,
    /// Drag of the new seal.
    #[serde(default)]
    pub seal_nm: f64,
    /// Whether the bearings are new.
    #[serde(default)]
    pub new_bearings: bool,
    /// The maker's range for what is fitted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub range_nm: Option<[f64; 2]>,
    /// Turning torque now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub now_nm: Option<f64>,
    /// What holds the bearings apart.
    #[serde(default)]
    pub spacer: Spacer,
    /// How far the nut stands from its mark, positive past it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nut_past_mark_deg: Option<f64>,
}

/// What is to be done with the nut.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum PreloadAction {
    /// A little further, then read again.
    Tighten,
    /// It is right.
    Leave,
    /// A new sleeve, and from the start.
    NewSleeve,
    /// A thicker pack of shims at the spacer.
    MoreShim,
}

/// What it shall turn with.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Preload {
    /// From, to.
    pub wanted_nm: [f64; 2],
    /// What is missing to the lower end; 0 within, negative past the upper end. None before it was read again.
    pub missing_nm: Option<f64>,
    /// What is to be done; none before it was read again.
    pub action: Option<PreloadAction>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// What the pinion shall turn with, N·m, and what that asks of the nut now. Errors name the field: torques from 0 to 50 N·m; where the
/// value before is lost, or the bearings are new, the maker's range is needed.
///
/// ```
/// use baricord_core::{error::read_json, measure::preload::preload};
/// let p = preload(&read_json(&serde_json::json!({"before_nm": 1.4, "seal_nm": 0.3, "now_nm": 1.2})).unwrap()).unwrap();
/// assert!((p.wanted_nm[0] - 1.7).abs() < 1e-9 && (p.missing_nm.unwrap() - 0.5).abs() < 1e-9);
/// ```
pub fn preload(input: &PreloadInput) -> Result<Preload, Problem> {
    let within = |x: f64, field: &str| match finite(x, field)? {
        x if (0.0..=MOST_NM).contains(&x) => Ok(x),
        _ => Err(Problem::new("out-of-range", format!("a turning torque lies from 0 to {MOST_NM} N·m")).field(field)),
    };
    let seal = within(input.seal_nm, "seal_nm")?;
    let before = input.before_nm.map(|x| within(x, "before_nm")).transpose()?;
    let now = input.now_nm.map(|x| within(x, "now_nm")).transpose()?;
    let mut findings = vec![];
    let wanted = match (input.range_nm, before) {
        (Some([low, high]), _) => {
            let range = [within(low, "range_nm[0]")?, within(high, "range_nm[1]")?];
            if low > high {
                return Err(Problem::new("out-of-range", "the range runs from low to high").field("range_nm"));
            }
            range
        }
        (None, _) if input.new_bearings => {
            let message = "new bearings turn harder than run-in ones: the maker's range for new bearings is needed";
            return Err(Problem::new("missing", message).field("range_nm"));
        }
        (None, Some(b)) => [b + seal, b + seal + TOLERANCE_NM],
        (None, None) => {
            let message = "the turning torque was not read before it was opened and is lost: the maker's range is needed";
            return Err(Problem::new("missing", message).field("range_nm"));
        }
    };
    if before == Some(0.0) && input.range_nm.is_none() {
        let message = "it turned with no drag at all before: the preload was gone; go by the maker's range, not by what was read";
        findings.push(Finding::new("no-preload", Level::Warn, message));
    }
    let missing = now.map(|n| if n < wanted[0] { wanted[0] - n } else { (wanted[1] - n).min(0.0) });
    let action = missing.map(|m| match input.spacer {
        _ if m == 0.0 => PreloadAction::Leave,
        _ if m > 0.0 => PreloadAction::Tighten,
        Spacer::Crush => PreloadAction::NewSleeve,
        Spacer::Solid => PreloadAction::MoreShim,
    });
    let over = |by: f64| match input.spacer {
        Spacer::Crush => {
            format!("{by:.2} N·m past the range: a crush sleeve does not come back. Fit a new sleeve and start again")
        }
        Spacer::Solid => format!("{by:.2} N·m past the range: add shim at the spacer; never slacken the nut to get there"),
    };
    match (missing, action) {
        (Some(m), _) if m < 0.0 => findings.push(Finding::new("past-range", Level::Over, over(-m))),
        (_, Some(PreloadAction::Tighten)) => {
            let message = "a few degrees at a time, turn it through, read again: past the range it takes a new sleeve";
            findings.push(Finding::new("tighten-in-steps", Level::Info, message));
        }
        _ => {}
    }
    if let Some(mark) = input.nut_past_mark_deg
        && finite(mark, "nut_past_mark_deg")? < 0.0
    {
        let message = format!("the nut stands {:.0}° before its mark: never below the old mark", -mark);
        findings.push(Finding::new("below-mark", Level::Over, message));
    }
    Ok(Preload { wanted_nm: wanted, missing_nm: missing, action, findings })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn of(v: &Value) -> Result<Preload, Problem> {
        preload(&read_json(v).unwrap())
    }

    #[test]
    fn a_crush_sleeve_goes_one_way() {
        let p = of(&json!({"before_nm": 1.5, "seal_nm": 0.25, "now_nm": 2.4})).unwrap();
        assert_eq!((p.action, p.findings[0].code.as_str()), (Some(PreloadAction::NewSleeve), "past-range"));
        let p = of(&json!({"before_nm": 1.5, "seal_nm": 0.25, "now_nm": 2.4, "spacer": "solid"})).unwrap();
        assert_eq!(p.action, Some(PreloadAction::MoreShim));
        let p = of(&json!({"before_nm": 1.5, "seal_nm": 0.25, "now_nm": 1.8, "nut_past_mark_deg": -5})).unwrap();
        assert_eq!((p.action, p.findings[0].code.as_str()), (Some(PreloadAction::Leave), "below-mark"));
    }

    #[test]
    fn what_is_lost_asks_for_the_makers_range() {
        for v in [json!({}), json!({"before_nm": 1.0, "new_bearings": true})] {
            assert_eq!(of(&v).unwrap_err().field.as_deref(), Some("range_nm"));
        }
        assert_eq!(of(&json!({"range_nm": [2, 3], "new_bearings": true})).unwrap().wanted_nm, [2.0, 3.0]);
        assert_eq!(of(&json!({"before_nm": 0})).unwrap().findings[0].code, "no-preload");
        assert_eq!(of(&json!({"before_nm": -1})).unwrap_err().field.as_deref(), Some("before_nm"));
    }

    proptest! {
        #[test]
        fn what_is_missing_leads_into_the_range(before in 0.1f64..4.0, seal in 0.0f64..1.0, now in 0.0f64..6.0) {
            let p = of(&json!({"before_nm": before, "seal_nm": seal, "now_nm": now})).unwrap();
            let then = now + p.missing_nm.unwrap();
            prop_assert!(then > p.wanted_nm[0] - 1e-9 && then < p.wanted_nm[1] + 1e-9);
            prop_assert_eq!(p.action == Some(PreloadAction::NewSleeve), p.missing_nm.unwrap() < 0.0);
        }
    }
}
