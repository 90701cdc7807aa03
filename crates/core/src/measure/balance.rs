//! Balance of a shaft from trial masses: with phase, without phase by three runs or more, and in two planes.
//!
//! With phase: V0 without, V_i with a trial mass W_i (mass at its angle, a complex number); the influence H is the least squares of
//! V_i − V0 = H·W_i, the correction −V0/H. Two planes: H is 2×2, one row a sensor. Without phase: least squares for m, p, q in
//! A_i² − A0² = m + 2·A0·(p cos θ_i − q sin θ_i); the correction is W·A0/√(p²+q²) at arg(−1/(p+jq)), and m should be p²+q². Angles of
//! masses and phases run in the same sense. The trial mass comes off before the correction goes on.

use crate::error::{Finding, Level, Problem, finite, positive};
use crate::units::Degrees;
use nalgebra::{DMatrix, DVector, Matrix2, Vector2};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};

/// A mismatch above which the runs are made again.
pub const REPEAT_MISMATCH: f64 = 0.2;
/// Trials that are taken at most.
const MOST_TRIALS: usize = 36;
/// Constant of ISO 21940-11: 60·1000/(2π) g·mm per mm/s, kg and rpm.
const ISO_CONSTANT: f64 = 9549.0;

/// What a sensor shows: how much, and where in the turn.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Vibration {
    /// In any unit, the same in all.
    pub amplitude: f64,
    /// Where in the turn; none without a mark.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phase_deg: Option<Degrees>,
}

/// A run with a trial mass.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Trial {
    /// The mass.
    pub mass_g: f64,
    /// Where it was put on.
    pub deg: Degrees,
    /// What the sensor showed.
    #[serde(flatten)]
    pub shown: Vibration,
}

/// A run with a trial mass in one of two planes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PlaneTrial {
    /// The mass.
    pub mass_g: f64,
    /// Where it was put on.
    pub deg: Degrees,
    /// What each of the two sensors showed.
    pub answers: Vec<Vibration>,
}

/// A plane with the sensor beside it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Plane {
    /// What its sensor showed without a trial mass.
    pub initial: Vibration,
    /// Runs with a mass in this plane.
    pub trials: Vec<PlaneTrial>,
}

/// Runs of one plane, or of two.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct BalanceInput {
    /// Without a trial mass.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub initial: Option<Vibration>,
    /// With one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trials: Option<Vec<Trial>>,
    /// Two planes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub planes: Option<Vec<Plane>>,
}

/// A mass at its place.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct CorrectionMass {
    /// How much.
    pub mass_g: f64,
    /// Where.
    pub deg: Degrees,
}

/// What is put on.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Balance {
    /// In one plane.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub one: Option<CorrectionMass>,
    /// In two.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub planes: Option<Vec<CorrectionMass>>,
    /// How badly the runs agree, 0 is perfectly; none where nothing tells.
    pub mismatch: Option<f64>,
    /// What was noticed.
    pub findings: Vec<Finding>,
}

impl Vibration {
    fn check(self, path: &str) -> Result<(), Problem> {
        finite(self.amplitude, &format!("{path}amplitude"))?;
        if self.amplitude < 0.0 {
            return Err(Problem::new("out-of-range", "an amplitude is 0 or more").field(format!("{path}amplitude")));
        }
        self.phase_deg.map_or(Ok(()), |p| finite(p.get(), &format!("{path}phase_deg")).map(|_| ()))
    }
    fn complex(self) -> Option<Complex64> {
        Some(Complex64::from_polar(self.amplitude, self.phase_deg?.rad()))
    }
}

fn mass_at(z: Complex64) -> CorrectionMass {
    CorrectionMass { mass_g: z.norm(), deg: Degrees(z.arg().to_degrees()).turned() }
}

fn no_effect(field: &str) -> Problem {
    Problem::new("no-effect", "the trial mass changed nothing: take a heavier one, or see whether it is held at all").field(field)
}

/// Influence of a mass by least squares over trials, and what it leaves, relative.
fn influence(v0: Complex64, trials: &[(Complex64, Complex64)]) -> Option<(Complex64, f64)> {
    let above: Complex64 = trials.iter().map(|(w, v)| w.conj() * (v - v0)).sum();
    let below: f64 = trials.iter().map(|(w, _)| w.norm_sqr()).sum();
    let h = above / below;
    let moved: f64 = trials.iter().map(|(_, v)| (v - v0).norm_sqr()).sum();
    let left: f64 = trials.iter().map(|(w, v)| (v - v0 - h * w).norm_sqr()).sum();
    (h.norm() > 1e-12).then(|| (h, (left / moved.max(1e-300)).sqrt()))
}

fn findings(mismatch: Option<f64>) -> Vec<Finding> {
    let mut out = vec![Finding::new("trial-off", Level::Info, "take the trial mass off before the correction goes on")];
    if let Some(m) = mismatch.filter(|m| *m > REPEAT_MISMATCH) {
        out.push(Finding::new("repeat", Level::Warn, format!("the runs disagree by {:.0} %: drive them again", 100.0 * m)));
    }
    out
}

fn with_phase(v0: Complex64, trials: &[Trial], answers: &[Complex64]) -> Result<Balance, Problem> {
    let pairs: Vec<(Complex64, Complex64)> =
        trials.iter().zip(answers).map(|(t, v)| (Complex64::from_polar(t.mass_g, t.deg.rad()), *v)).collect();
    let (h, left) = influence(v0, &pairs).ok_or_else(|| no_effect("trials"))?;
    let mismatch = (trials.len() > 1).then_some(left);
    Ok(Balance { one: Some(mass_at(-v0 / h)), planes: None, mismatch, findings: findings(mismatch) })
}

fn without_phase(a0: f64, trials: &[Trial]) -> Result<Balance, Problem> {
    if trials.len() < 3 {
        let message = "without phase three runs with the trial mass are needed, at three places round the turn";
        return Err(Problem::new("missing", message).field("trials"));
    }
    positive(a0, "initial.amplitude")?;
    let mass = trials[0].mass_g;
    if let Some(i) = trials.iter().position(|t| (t.mass_g - mass).abs() > 1e-9 * mass) {
        let message = "without phase the trial mass is the same in all runs";
        return Err(Problem::new("mismatch", message).field(format!("trials[{i}].mass_g")));
    }
    let design = DMatrix::from_fn(trials.len(), 3, |i, j| {
        let (s, c) = trials[i].deg.rad().sin_cos();
        [1.0, 2.0 * a0 * c, -2.0 * a0 * s][j]
    });
    let y = DVector::from_iterator(trials.len(), trials.iter().map(|t| t.shown.amplitude.powi(2) - a0 * a0));
    let svd = design.svd(true, true);
    if svd.singular_values.min() < 1e-6 * svd.singular_values.max() {
        let message = "these places do not go round the turn: spread the trial mass over it";
        return Err(Problem::new("badly-spread", message).field("trials"));
    }
    let fit = svd.solve(&y, 0.0).map_err(|e| Problem::new("no-fit", e))?;
    let effect = Complex64::new(fit[1], fit[2]);
    if effect.norm() < 1e-9 * a0 {
        return Err(no_effect("trials"));
    }
    let squared = effect.norm_sqr();
    let mismatch = Some((fit[0] - squared).abs() / squared);
    let at = (-effect.inv()).arg();
    let one = mass_at(Complex64::from_polar(mass * a0 / effect.norm(), at));
    Ok(Balance { one: Some(one), planes: None, mismatch, findings: findings(mismatch) })
}

fn two_planes(planes: &[Plane]) -> Result<Balance, Problem> {
    let [a, b] = planes else {
        return Err(Problem::new("mismatch", format!("two planes, got {}", planes.len())).field("planes"));
    };
    let phase = |v: Vibration, path: String| {
        v.check(&format!("{path}."))?;
        v.complex().ok_or_else(|| Problem::new("missing", "two planes need the phase").field(format!("{path}.phase_deg")))
    };
    let v0 = [phase(a.initial, "planes[0].initial".into())?, phase(b.initial, "planes[1].initial".into())?];
    let mut h = Matrix2::<Complex64>::zeros();
    let mut left: Option<f64> = None;
    for (k, plane) in planes.iter().enumerate() {
        let path = format!("planes[{k}].trials");
        if plane.trials.is_empty() || plane.trials.len() > MOST_TRIALS {
            return Err(Problem::new("missing", format!("1 to {MOST_TRIALS} runs with a mass in this plane")).field(path));
        }
        let mut of_sensor: [Vec<(Complex64, Complex64)>; 2] = [vec![], vec![]];
        for (i, t) in plane.trials.iter().enumerate() {
            let path = format!("{path}[{i}]");
            positive(t.mass_g, &format!("{path}.mass_g"))?;
            finite(t.deg.get(), &format!("{path}.deg"))?;
            if t.answers.len() != 2 {
                return Err(Problem::new("mismatch", "what both sensors showed").field(format!("{path}.answers")));
            }
            let w = Complex64::from_polar(t.mass_g, t.deg.rad());
            for (s, answer) in t.answers.iter().enumerate() {
                of_sensor[s].push((w, phase(*answer, format!("{path}.answers[{s}]"))?));
            }
        }
        for (s, trials) in of_sensor.iter().enumerate() {
            // A plane may not reach the other sensor at all.
            let (influence, misses) = influence(v0[s], trials).unwrap_or((Complex64::new(0.0, 0.0), 0.0));
            h[(s, k)] = influence;
            if trials.len() > 1 {
                left = Some(left.unwrap_or(0.0).max(misses));
            }
        }
    }
    let det = h.determinant();
    let size = h.iter().map(|x| x.norm_sqr()).sum::<f64>();
    if det.norm() <= 1e-9 * size || size == 0.0 {
        let message = "the two planes do the same to both sensors: nothing tells them apart";
        return Err(Problem::new("no-effect", message).field("planes"));
    }
    let inverse = h.try_inverse().ok_or_else(|| no_effect("planes"))?;
    let correction = inverse * Vector2::new(-v0[0], -v0[1]);
    let planes = Some(correction.iter().map(|z| mass_at(*z)).collect());
    Ok(Balance { one: None, planes, mismatch: left, findings: findings(left) })
}

/// The correction mass in grams and where it goes, degrees in the sense of the phases.
///
/// One plane: `initial` and `trials`; all with phase, or none (then three trials or more of one mass). Two: `planes`, each with the phase
/// that its own sensor showed and trials with what both did. Errors name the field; `no-effect` where the trials changed nothing,
/// `badly-spread` where their places do not go round the turn.
pub fn balance(input: &BalanceInput) -> Result<Balance, Problem> {
    if let Some(planes) = &input.planes {
        return two_planes(planes);
    }
    let missing = |what: &str, field: &str| Problem::new("missing", what.to_string()).field(field.to_string());
    let initial = input.initial.ok_or_else(|| missing("what it shook without a trial mass", "initial"))?;
    let trials = input.trials.as_deref().filter(|t| !t.is_empty());
    let trials = trials.ok_or_else(|| missing("a run with a trial mass at least", "trials"))?;
    if trials.len() > MOST_TRIALS {
        return Err(Problem::new("out-of-range", format!("{MOST_TRIALS} trials at most")).field("trials"));
    }
    initial.check("initial.")?;
    for (i, t) in trials.iter().enumerate() {
        let path = format!("trials[{i}].");
        positive(t.mass_g, &format!("{path}mass_g"))?;
        finite(t.deg.get(), &format!("{path}deg"))?;
        t.shown.check(&path)?;
    }
    let answers: Option<Vec<Complex64>> = trials.iter().map(|t| t.shown.complex()).collect();
    match (initial.complex(), answers) {
        (Some(v0), Some(answers)) => with_phase(v0, trials, &answers),
        _ => without_phase(initial.amplitude, trials),
    }
}

/// Mass, speed and grade of a rotor.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct GradeInput {
    /// What is carried in this plane.
    pub mass_kg: f64,
    /// Highest speed.
    pub rpm: f64,
    /// G, mm/s: 16 where it matters, 40 ordinary.
    pub grade: f64,
}

/// The rest that is allowed.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Grade {
    /// Mass times radius.
    pub permissible_gmm: f64,
}

/// The rest unbalance that ISO 21940-11 allows in a plane: U = 9549·G·M/n g·mm. All three are above 0.
///
/// ```
/// use baricord_core::measure::balance::{GradeInput, balance_grade};
/// let g = balance_grade(GradeInput { mass_kg: 7.5, rpm: 4000.0, grade: 16.0 }).unwrap();
/// assert!((g.permissible_gmm - 286.0).abs() < 0.5);
/// ```
pub fn balance_grade(input: GradeInput) -> Result<Grade, Problem> {
    let (m, n, g) = (positive(input.mass_kg, "mass_kg")?, positive(input.rpm, "rpm")?, positive(input.grade, "grade")?);
    Ok(Grade { permissible_gmm: ISO_CONSTANT * g * m / n })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::read_json;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn of(input: &Value) -> Result<Balance, Problem> {
        balance(&read_json(input).unwrap())
    }

    #[test]
    fn worked_without_phase() {
        let trials = [(0, 4.551), (120, 1.087), (240, 4.136)];
        let trials: Vec<Value> = trials.iter().map(|(d, a)| json!({"mass_g": 10, "deg": d, "amplitude": a})).collect();
        let b = of(&json!({"initial": {"amplitude": 3.0}, "trials": trials})).unwrap();
        let one = b.one.unwrap();
        assert!((one.mass_g - 15.0).abs() < 0.02 && (one.deg.get() - 130.0).abs() < 0.05, "{one:?}");
        assert!(b.mismatch.unwrap() < 0.002 && b.findings.len() == 1);
    }

    #[test]
    fn a_single_run_with_phase_has_no_mismatch() {
        let b = of(
            &json!({"initial": {"amplitude": 4, "phase_deg": 30}, "trials": [{"mass_g": 5, "deg": 0, "amplitude": 2, "phase_deg": 30}]}),
        );
        let b = b.unwrap();
        // 5 g at 0° took half of it away: 10 g there take all.
        assert!((b.one.unwrap().mass_g - 10.0).abs() < 1e-9 && b.one.unwrap().deg.get() < 1e-9);
        assert_eq!(b.mismatch, None);
        assert!(serde_json::to_value(&b).unwrap()["mismatch"].is_null());
    }

    #[test]
    fn errors_name_the_field() {
        let field = |v: Value| of(&v).unwrap_err().field.unwrap_or_default();
        let shown = json!({"amplitude": 3.0});
        assert_eq!(field(json!({})), "initial");
        assert_eq!(field(json!({"initial": shown})), "trials");
        assert_eq!(field(json!({"initial": shown, "trials": [{"mass_g": 1, "deg": 0, "amplitude": 2}]})), "trials");
        assert_eq!(field(json!({"initial": shown, "trials": [{"mass_g": 0, "deg": 0, "amplitude": 2}]})), "trials[0].mass_g");
        let of_masses = |m: [f64; 3], d: [f64; 3]| {
            let t: Vec<Value> = m.iter().zip(d).map(|(m, d)| json!({"mass_g": m, "deg": d, "amplitude": 2.0})).collect();
            json!({"initial": shown, "trials": t})
        };
        assert_eq!(field(of_masses([1.0, 1.0, 2.0], [0.0, 120.0, 240.0])), "trials[2].mass_g");
        assert_eq!(of(&of_masses([1.0; 3], [0.0, 0.0, 180.0])).unwrap_err().code, "badly-spread");
        assert_eq!(field(json!({"planes": []})), "planes");
    }

    /// What sensors show of a rotor: influence times unbalance and trial mass.
    fn shown(z: Complex64) -> Value {
        json!({"amplitude": z.norm(), "phase_deg": z.arg().to_degrees()})
    }

    proptest! {
        #[test]
        fn the_correction_brings_a_rotor_to_rest(a in 0.5f64..3.0, x in 0.0f64..360.0, u in 2.0f64..30.0, y in 0.0f64..360.0) {
            let h = Complex64::from_polar(a, f64::to_radians(x));
            let unbalance = Complex64::from_polar(u, f64::to_radians(y));
            let run = |d: f64| h * (unbalance + Complex64::from_polar(10.0, d.to_radians()));
            let with: Vec<Value> = [10.0, 130.0, 250.0].iter().map(|d| {
                let z = run(*d);
                json!({"mass_g": 10, "deg": d, "amplitude": z.norm(), "phase_deg": z.arg().to_degrees()})
            }).collect();
            let without: Vec<Value> = [10.0, 130.0, 250.0].iter().map(|d| json!({"mass_g": 10, "deg": d, "amplitude": run(*d).norm()})).collect();
            let v0 = h * unbalance;
            for input in [json!({"initial": shown(v0), "trials": with}), json!({"initial": {"amplitude": v0.norm()}, "trials": without})] {
                let b = of(&input).unwrap();
                let c = b.one.unwrap();
                let rest = unbalance + Complex64::from_polar(c.mass_g, c.deg.rad());
                prop_assert!(rest.norm() < 1e-6 * u, "{rest} {b:?}");
                prop_assert!(b.mismatch.unwrap() < 1e-6);
            }
        }

        #[test]
        fn two_planes_come_to_rest_together(n in prop::collection::vec(-1.0f64..1.0, 8), u in 2.0f64..20.0) {
            let h = Matrix2::new(
                Complex64::new(2.0 + n[0], n[1]), Complex64::new(0.4 * n[2], 0.4 * n[3]),
                Complex64::new(0.4 * n[4], 0.4 * n[5]), Complex64::new(2.0 + n[6], n[7]));
            let unbalance = Vector2::new(Complex64::from_polar(u, 0.3), Complex64::from_polar(0.7 * u, 4.0));
            let v0 = h * unbalance;
            let plane = |k: usize| {
                let w = Complex64::from_polar(8.0, 1.0);
                let mut on = unbalance;
                on[k] += w;
                let v = h * on;
                json!({"initial": shown(v0[k]), "trials": [{"mass_g": 8.0, "deg": 1f64.to_degrees(), "answers": [shown(v[0]), shown(v[1])]}]})
            };
            let b = of(&json!({"planes": [plane(0), plane(1)]})).unwrap();
            let c: Vec<Complex64> = b.planes.unwrap().iter().map(|c| Complex64::from_polar(c.mass_g, c.deg.rad())).collect();
            prop_assert!((unbalance[0] + c[0]).norm() + (unbalance[1] + c[1]).norm() < 1e-6 * u);
        }

        #[test]
        fn noise_does_not_keep_a_rotor_from_coming_to_rest(seed in 0u64..500) {
            use rand::{Rng, SeedableRng};
            let mut rng = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let (h, mut unbalance) = (Complex64::from_polar(0.3, 1.2), Complex64::from_polar(25.0, 2.0));
            for _ in 0..4 {
                let mut run = |extra: Complex64| (h * (unbalance + extra)).norm() * (1.0 + 0.03 * (rng.random::<f64>() - 0.5));
                let a0 = run(Complex64::new(0.0, 0.0));
                let mass = 0.6 * unbalance.norm().max(0.5);
                let trials: Vec<Value> = [0.0, 120.0, 240.0].iter().map(|d: &f64| {
                    json!({"mass_g": mass, "deg": d, "amplitude": run(Complex64::from_polar(mass, d.to_radians()))})
                }).collect();
                let c = of(&json!({"initial": {"amplitude": a0}, "trials": trials})).unwrap().one.unwrap();
                unbalance += Complex64::from_polar(c.mass_g, c.deg.rad());
            }
            prop_assert!(unbalance.norm() < 2.5, "{unbalance}");
        }
    }
}
