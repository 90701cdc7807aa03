//! Balance: where a mass goes, by trial masses; hose clamps for it; what may remain.

use super::fields::{Field, Group, Typed};
use super::pictures::{Hand, clock};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::error::{Finding, Level, Problem};
use baricord_core::measure::balance::{
    Balance, BalanceInput, CorrectionMass, GradeInput, Plane, PlaneTrial, Trial, Vibration, balance, balance_grade,
};
use baricord_core::measure::clamps::{ClampsInput, clamps};
use baricord_core::units::{Degrees, Unit};
use baricord_core::vehicle::{Place, Vehicle};

const CAUTION: &str = "The wheels turn in the air: chocks and stands, all driven wheels free, nobody in line with the shaft; clamps and trial mass are checked tight before each run.";

/// Runs with a trial mass that can be typed.
const TRIALS: usize = 3;
/// Balance quality that is usual for shafts: ordinary, and with special demands.
const GRADES: [(&str, &str); 2] = [("40", "G40, ordinary shafts"), ("16", "G16, special demands")];

pub(super) const ONE_PLANE: Sheet = Sheet {
    id: "balance",
    name: "Balance",
    how: "One run as it is, then the same trial mass at three places, or one run with a phase. Any unit of vibration will do as long as it is always the same.",
    caution: CAUTION,
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: turns,
    groups: one_groups,
    answer: one_answer,
};

pub(super) const TWO_PLANES: Sheet = Sheet {
    id: "balance-two",
    name: "Balance, two planes",
    how: "A sensor at each end. Three runs with a phase: as it is, the trial mass at the front end, then at the rear end. It comes off after each.",
    caution: CAUTION,
    is_answer_first: false,
    is_of_vehicle: false,
    is_at: turns,
    groups: two_groups,
    answer: two_answer,
};

fn turns(_: &Vehicle, p: &Place) -> bool {
    p.kind == baricord_core::vehicle::PlaceKind::Section
}

fn vibration(f: &FormFields, name: &str, what: &str) -> Result<Vibration, Problem> {
    let amplitude = f.need_number(&format!("{name}-a"), &format!("the vibration {what}"))?;
    Ok(Vibration { amplitude, phase_deg: f.amount(&format!("{name}-p"), Unit::Degree)?.map(Degrees) })
}

fn shown(name: &str, with_phase: bool) -> Vec<Field> {
    let amplitude = Field::number(format!("{name}-a"), "vibration");
    let phase = Field::amount(format!("{name}-p"), if with_phase { "phase" } else { "phase, if read" }, Unit::Degree);
    vec![amplitude, phase]
}

fn afterwards() -> Vec<Group> {
    vec![
        Group::new(
            "With hose clamps",
            vec![Field::number("clamp", "one housing weighs, g"), Field::number("clamps", "clamps there are").filled(4)],
        ),
        Group::new(
            "What may remain",
            vec![
                Field::amount("kg", "mass of the shaft in this plane", Unit::Kilogram),
                Field::number("rpm", "highest shaft speed, rpm"),
                Field::choice("grade", "balance quality", &GRADES),
            ],
        )
        .folded(),
    ]
}

fn one_groups(_: &SheetContext) -> Vec<Group> {
    let mut out = vec![Group::new("As it runs", shown("v0", false))];
    out.push(Group::new("The trial mass", vec![Field::number("mass", "weighs, g")]));
    for (i, deg) in [0, 120, 240].into_iter().enumerate() {
        let mut run = vec![Field::amount(format!("t{i}-deg"), "it sits at", Unit::Degree).filled(deg)];
        run.extend(shown(&format!("t{i}"), false));
        out.push(Group::new(format!("Run {} with it", i + 2), run));
    }
    out.extend(afterwards());
    out
}

fn mass_words(m: &CorrectionMass) -> String {
    format!("{:.1} g at {:.0}°", m.mass_g, m.deg.get())
}

fn clamp_part(f: &FormFields, m: &CorrectionMass, hands: &mut Vec<Hand>, out: &mut SheetAnswer) -> Result<(), Problem> {
    let Some(clamp_g) = f.number("clamp")? else { return Ok(()) };
    let c = clamps(ClampsInput { mass_g: m.mass_g, deg: m.deg, clamp_g, clamps: f.count("clamps")?.unwrap_or(4) })?;
    hands.extend(c.housings_deg.iter().enumerate().map(|(i, d)| Hand {
        deg: d.get(),
        reach: 1.0,
        class: "housing",
        words: format!("{}", i + 1),
        is_arm: false,
    }));
    let at: Vec<String> = c.housings_deg.iter().map(|d| format!("{:.0}°", d.get())).collect();
    out.pairs.push(("clamp housings at".into(), if at.is_empty() { "none needed".into() } else { at.join(", ") }));
    if c.error_g > 0.05 {
        let message = format!("these clamps miss it by {:.1} g: heavier housings, or more of them", c.error_g);
        out.findings.push(Finding::new("clamps", Level::Warn, message));
    }
    Ok(())
}

fn rest_part(f: &FormFields, out: &mut SheetAnswer) -> Result<(), Problem> {
    let (Some(mass_kg), Some(rpm)) = (f.amount("kg", Unit::Kilogram)?, f.number("rpm")?) else { return Ok(()) };
    let grade = f.number("grade")?.unwrap_or(40.0);
    let g = balance_grade(GradeInput { mass_kg, rpm, grade })?;
    out.pairs.push((format!("may remain, G{grade:.0}"), format!("{:.0} g·mm", g.permissible_gmm)));
    Ok(())
}

fn one_answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let initial = vibration(f, "v0", "as it runs")?;
    let mass_g = f.need_number("mass", "the trial mass")?;
    let mut trials = vec![];
    for i in 0..TRIALS {
        if f.text(&format!("t{i}-a")).is_some() {
            let deg = Degrees(f.need_amount(&format!("t{i}-deg"), "where the trial mass was", Unit::Degree)?);
            trials.push(Trial { mass_g, deg, shown: vibration(f, &format!("t{i}"), "with the trial mass")? });
        }
    }
    let most = trials.iter().map(|t| t.shown.amplitude).fold(initial.amplitude, f64::max).max(1e-9);
    let run = |t: &Trial| Hand {
        deg: t.deg.get(),
        reach: t.shown.amplitude / most,
        class: "reading",
        words: format!("{:.2}", t.shown.amplitude),
        is_arm: false,
    };
    let mut hands: Vec<Hand> = trials.iter().map(run).collect();
    let b: Balance = balance(&BalanceInput { initial: Some(initial), trials: Some(trials), planes: None })?;
    let m = b.one.ok_or_else(|| Problem::new("missing", "the runs do not tell a mass"))?;
    hands.push(Hand { deg: m.deg.get(), reach: 1.0, class: "spot-best", words: String::new(), is_arm: true });
    let mut out = SheetAnswer {
        figures: vec![("correction mass".into(), mass_words(&m))],
        findings: b.findings,
        words: mass_words(&m),
        ..SheetAnswer::default()
    };
    out.pairs.push(("take off first".into(), "the trial mass".into()));
    if let Some(x) = b.mismatch {
        out.pairs.push(("runs fit each other within".into(), format!("{:.0} %", 100.0 * x)));
    }
    clamp_part(f, &m, &mut hands, &mut out)?;
    rest_part(f, &mut out)?;
    out.picture = clock("Trial masses, and where the correction goes", &hands, "");
    Ok(out)
}

fn two_groups(_: &SheetContext) -> Vec<Group> {
    let both = |name: &str| {
        let mut all = vec![];
        for (end, words) in [("f", "front sensor"), ("r", "rear sensor")] {
            all.push(Field::number(format!("{name}{end}-a"), format!("{words}: vibration")));
            all.push(Field::amount(format!("{name}{end}-p"), format!("{words}: phase"), Unit::Degree));
        }
        all
    };
    let with_mass = |name: &str| {
        let mut all = vec![
            Field::number(format!("{name}-mass"), "trial mass, g"),
            Field::amount(format!("{name}-deg"), "at", Unit::Degree).filled(0),
        ];
        all.extend(both(name));
        all
    };
    let mut out = vec![
        Group::new("As it runs", both("v")),
        Group::new("Trial mass at the front end", with_mass("tf")),
        Group::new("Trial mass at the rear end", with_mass("tr")),
    ];
    out.extend(afterwards().into_iter().skip(1));
    out
}

fn two_answer(_: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let mut planes = vec![];
    for (end, words) in [("f", "at the front sensor"), ("r", "at the rear sensor")] {
        let trial = format!("t{end}");
        planes.push(Plane {
            initial: vibration(f, &format!("v{end}"), words)?,
            trials: vec![PlaneTrial {
                mass_g: f.need_number(&format!("{trial}-mass"), "the trial mass")?,
                deg: Degrees(f.need_amount(&format!("{trial}-deg"), "where the trial mass was", Unit::Degree)?),
                answers: vec![
                    vibration(f, &format!("{trial}f"), "at the front sensor")?,
                    vibration(f, &format!("{trial}r"), "at the rear sensor")?,
                ],
            }],
        });
    }
    let b = balance(&BalanceInput { initial: None, trials: None, planes: Some(planes) })?;
    let masses = b.planes.unwrap_or_default();
    let hand = |(m, words): (&CorrectionMass, &str)| Hand {
        deg: m.deg.get(),
        reach: 1.0,
        class: "spot-best",
        words: words.into(),
        is_arm: true,
    };
    let ends = ["front", "rear"];
    let hands: Vec<Hand> = masses.iter().zip(ends).map(hand).collect();
    let words: Vec<String> = masses.iter().zip(ends).map(|(m, e)| format!("{e} end {}", mass_words(m))).collect();
    let mut out = SheetAnswer {
        picture: clock("Where the correction goes at each end", &hands, ""),
        figures: masses.iter().zip(ends).map(|(m, e)| (format!("{e} end"), mass_words(m))).collect(),
        pairs: vec![("take off first".into(), "both trial masses".into())],
        findings: b.findings,
        words: words.join(", "),
        ..SheetAnswer::default()
    };
    rest_part(f, &mut out)?;
    Ok(out)
}
