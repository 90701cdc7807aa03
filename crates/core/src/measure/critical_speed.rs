//! The shaft as a beam: its first bending speed.
//!
//! First bending of a tube on simple supports: f = (π/2)/L² · √(E/ρ) · √(D² + d²)/4
//! (Euler–Bernoulli). The highest shaft speed stays below a share of it; the second order passes half of it.

use crate::error::{Finding, Level, Problem, positive};
use crate::units::{Hz, Rpm};
use crate::vehicle::{Limits, Material, Section};
use serde::{Deserialize, Serialize};

/// Highest shaft speed over critical speed, by default.
pub const CRITICAL_RATIO: f64 = 0.75;

/// A section and how fast it will turn.
#[derive(Clone, Debug, Deserialize)]
pub struct CriticalSpeedInput {
    /// The section, as in the case file.
    pub section: Section,
    /// Its highest speed in service.
    #[serde(default)]
    pub max_rpm: Option<Rpm>,
    /// Limits other than the default.
    #[serde(default)]
    pub limits: Limits,
}

/// The first bending speed and what is allowed.
#[derive(Clone, Debug, Serialize)]
pub struct CriticalSpeed {
    /// First bending frequency.
    pub hz: Hz,
    /// As a shaft speed.
    pub rpm: Rpm,
    /// Highest shaft speed allowed.
    pub limit_rpm: Rpm,
    /// Where the second order passes the bending frequency.
    pub half_rpm: Rpm,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

/// Young's modulus (Pa) and density (kg/m³).
fn elasticity(m: &Material) -> Result<(f64, f64), Problem> {
    match m {
        Material::Given { e_gpa, density_kgm3 } => {
            Ok((positive(*e_gpa, "material.e_gpa")? * 1e9, positive(*density_kgm3, "material.density_kgm3")?))
        }
        Material::Named(n) if n == "steel" => Ok((207e9, 7850.0)),
        Material::Named(n) if n == "aluminium" => Ok((70e9, 2700.0)),
        Material::Named(n) => Err(Problem::new(
            "unknown-material",
            format!("“{n}” is not known: steel, aluminium, or an object with e_gpa and density_kgm3"),
        )
        .field("material")),
    }
}

/// The critical speed of a section, rpm, from its free length, tube and material; errors name the field.
pub fn critical_speed(input: &CriticalSpeedInput) -> Result<CriticalSpeed, Problem> {
    let s = &input.section;
    let under = |p: Problem| p.under("section");
    let (e, rho) = elasticity(&s.material).map_err(under)?;
    let l = positive(s.length_mm.get(), "length_mm").map_err(under)? / 1000.0;
    let od = positive(s.od_mm.get(), "od_mm").map_err(under)? / 1000.0;
    let wall = positive(s.wall_mm.get(), "wall_mm").map_err(under)? / 1000.0;
    if 2.0 * wall > od {
        return Err(under(Problem::new("out-of-range", "the wall is thicker than the tube").field("wall_mm")));
    }
    let id = od - 2.0 * wall;
    let hz = Hz(std::f64::consts::FRAC_PI_2 / (l * l) * (e / rho).sqrt() * (od * od + id * id).sqrt() / 4.0);
    let rpm = hz.to_rpm();
    let ratio = input.limits.critical_ratio.map_or(Ok(CRITICAL_RATIO), |r| positive(r, "limits.critical_ratio"))?;
    let limit = rpm * ratio;
    let mut findings = vec![];
    if let Some(max) = input.max_rpm {
        positive(max.get(), "max_rpm")?;
        if max > limit {
            findings.push(Finding::new(
                "over-critical-limit",
                Level::Over,
                format!("{:.0} rpm is over {:.0} rpm, {ratio} of the critical speed", max.get(), limit.get()),
            ));
        }
        if max.get() > rpm.get() / 2.0 {
            findings.push(Finding::new(
                "half-critical-passed",
                Level::Info,
                format!("the second order passes the bending frequency at {:.0} rpm", rpm.get() / 2.0),
            ));
        }
    }
    Ok(CriticalSpeed { hz, rpm, limit_rpm: limit, half_rpm: rpm / 2.0, findings })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn input(json: &str) -> CriticalSpeedInput {
        serde_json::from_str(json).unwrap()
    }

    #[test]
    fn worked_steel_tube() {
        let c = critical_speed(&input(
            r#"{"section":{"length_mm":1500,"od_mm":76.2,"wall_mm":1.65,"material":"steel"},"max_rpm":4500}"#,
        ))
        .unwrap();
        assert!((c.hz.get() - 94.5).abs() < 0.05);
        assert!((c.rpm.get() - 5671.0).abs() < 0.5);
        assert!((c.limit_rpm.get() - 4253.0).abs() < 0.5);
        assert_eq!(c.findings[0].code, "over-critical-limit");
    }

    #[test]
    fn twice_as_long_bends_four_times_as_low() {
        let at = |l: u32| {
            critical_speed(&input(&format!(r#"{{"section":{{"length_mm":{l},"od_mm":76.2,"wall_mm":1.65}}}}"#))).unwrap().hz.get()
        };
        assert!((at(800) / at(1600) - 4.0).abs() < 1e-9);
    }

    #[test]
    fn an_unknown_material_is_named() {
        let e = critical_speed(&input(r#"{"section":{"length_mm":800,"od_mm":60,"wall_mm":2,"material":"wood"}}"#)).unwrap_err();
        assert_eq!(e.field.as_deref(), Some("section.material"));
    }
}
