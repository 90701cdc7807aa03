//! What would cure the angles: the planner, and the four schools of target.

use super::fields::{Field, Group, Typed, trimmed};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::case::Case;
use baricord_core::error::{Finding, Level, Problem};
use baricord_core::measure::angle_plan::{Adjuster, AdjusterKind, AnglePlanInput, AnglePlans, Plan, angle_plan};
use baricord_core::measure::angle_targets::{AngleTargetsInput, School, USUAL_CLIMB_DEG, angle_targets};
use baricord_core::measure::angles::AnglesInput;
use baricord_core::measure::instrument::Reading;
use baricord_core::units::Unit;
use baricord_core::vehicle::{AxleKind, PlaceKind, Prop, Vehicle};

pub(super) const SHEET: Sheet = Sheet {
    id: "angle-plan",
    name: "What would cure the angles",
    how: "From the slopes that were read: every combination of what can be moved on this vehicle, the best first, beside today.",
    caution: "Wedges, shims and ride height: the vehicle on stands, springs only by the maker's way; brake hoses, exhaust and alignment are looked at again.",
    is_answer_first: true,
    is_of_vehicle: false,
    is_at: |_, p| p.kind == PlaceKind::Prop,
    groups,
    answer,
};

/// Plans that are shown.
const SHOWN: usize = 5;

fn prop<'a>(v: &'a Vehicle, at: &str) -> Option<&'a Prop> {
    v.props.iter().find(|p| format!("prop.{}", p.end.id()) == at)
}

/// The last slopes of a shaft that stand.
fn slopes(case: &Case, at: &str) -> Option<AnglesInput> {
    let here = case.measurements.iter().rev().filter(|m| m.kind == "angles" && case.measurement_place(m).is_ok_and(|p| p == at));
    here.filter(|m| case.stale(m).is_none()).find_map(|m| match Reading::of(m)? {
        Reading::Angles(mut a) => {
            if a.limits == Default::default() {
                a.limits = case.vehicle.limits.clone();
            }
            Some(a)
        }
        _ => None,
    })
}

fn is_solid(v: &Vehicle, p: &Prop) -> bool {
    v.axles.iter().any(|a| a.end == p.end && a.kind == AxleKind::Solid)
}

/// An adjuster as it stands on the form: id, words, unit, kind, usual from, to, step, its arm and what that is called.
struct Offered {
    id: String,
    words: String,
    unit: Unit,
    kind: AdjusterKind,
    usual: [f64; 3],
    arm: Option<(&'static str, f64)>,
    joint: Option<usize>,
}

/// What this vehicle can have.
fn offered(v: &Vehicle, p: &Prop) -> Vec<Offered> {
    let mut out = vec![];
    for k in 1..p.sections.len() {
        out.push(Offered {
            id: format!("sb{k}"),
            words: format!("support bearing {k}, lower +"),
            unit: Unit::Millimetre,
            kind: AdjusterKind::SupportBearing,
            usual: [-25.0, 25.0, 5.0],
            arm: None,
            joint: Some(k),
        });
    }
    let (words, kind) =
        if is_solid(v, p) { ("wedge or moved holes, nose up +", "wedge") } else { ("final drive mount, nose up +", "wedge") };
    out.push(Offered {
        id: kind.into(),
        words: words.into(),
        unit: Unit::Degree,
        kind: AdjusterKind::PinionWedge,
        usual: [-3.0, 3.0, 0.5],
        arm: Some(("axle centre to joint", 200.0)),
        joint: None,
    });
    out.push(Offered {
        id: "mount".into(),
        words: "shim at the gearbox mount".into(),
        unit: Unit::Millimetre,
        kind: AdjusterKind::GearboxMount,
        usual: [0.0, 12.0, 3.0],
        arm: Some(("front mount to rear mount", 900.0)),
        joint: None,
    });
    if is_solid(v, p) {
        out.push(Offered {
            id: "height".into(),
            words: "ride height, axle lower +".into(),
            unit: Unit::Millimetre,
            kind: AdjusterKind::RideHeight,
            usual: [0.0, 0.0, 10.0],
            arm: None,
            joint: None,
        });
        out.push(Offered {
            id: "arm".into(),
            words: "arms longer, axle rearward +".into(),
            unit: Unit::Millimetre,
            kind: AdjusterKind::ArmLength,
            usual: [0.0, 0.0, 5.0],
            arm: None,
            joint: None,
        });
    }
    out
}

fn groups(c: &SheetContext) -> Vec<Group> {
    let Some(p) = prop(c.vehicle(), c.at) else { return vec![] };
    let mut out = vec![];
    for o in offered(c.vehicle(), p) {
        let [from, to, step] = o.usual;
        let mut fields = vec![
            Field::amount(format!("{}-from", o.id), "from", o.unit).filled(trimmed(from, 1)),
            Field::amount(format!("{}-to", o.id), "to", o.unit).filled(trimmed(to, 1)),
            Field::amount(format!("{}-step", o.id), "in steps of", o.unit).filled(trimmed(step, 1)),
            Field { unit: Some(o.unit), ..Field::line(format!("{}-hand", o.id), "or only what is at hand", "0 1 2.5") },
        ];
        if let Some((words, mm)) = o.arm {
            fields.push(Field::amount(format!("{}-arm", o.id), words, Unit::Millimetre).filled(trimmed(mm, 0)));
        }
        if o.kind == AdjusterKind::PinionWedge {
            fields.push(Field::amount("holes", "or its holes moved by", Unit::Millimetre));
            fields.push(Field::amount("centres", "over this centre distance", Unit::Millimetre));
        }
        let group = Group::new(o.words, fields);
        out.push(if from == to { group.folded() } else { group });
    }
    let schools = School::ALL.map(|s| (s.id(), s.words()));
    out.push(Group::new(
        "Aim",
        vec![
            Field::choice("school", "school", &schools).filled(c.house.angle_school.unwrap_or(School::Cruise).id()),
            Field::amount("climb", "pinion climbs under torque", Unit::Degree).filled(trimmed(USUAL_CLIMB_DEG, 1)),
            Field::amount("slip", "slip there is to spend", Unit::Millimetre),
        ],
    ));
    out
}

fn adjusters(v: &Vehicle, p: &Prop, f: &FormFields) -> Result<Vec<Adjuster>, Problem> {
    let mut out = vec![];
    for o in offered(v, p) {
        let get = |what: &str| f.amount(&format!("{}-{what}", o.id), o.unit);
        let hand = f.amounts(&format!("{}-hand", o.id), o.unit)?;
        let (mut from, mut to) = (get("from")?, get("to")?);
        let is = |kind| o.kind == kind;
        let holes = f.amount("holes", Unit::Millimetre)?.zip(f.amount("centres", Unit::Millimetre)?);
        let holes = holes.filter(|_| is(AdjusterKind::PinionWedge));
        if holes.is_some() {
            (from, to) = (None, None);
        }
        if hand.is_empty() && holes.is_none() && (from.is_none() || from == to && from == Some(0.0)) {
            continue;
        }
        let arm = f.amount(&format!("{}-arm", o.id), Unit::Millimetre)?;
        out.push(Adjuster {
            kind: o.kind,
            from,
            to,
            step: get("step")?,
            at_hand: (!hand.is_empty()).then_some(hand),
            arm_mm: arm.filter(|_| is(AdjusterKind::PinionWedge)),
            offset_mm: holes.map(|h| h.0),
            centres_mm: holes.map(|h| h.1),
            pivot_mm: arm.filter(|_| is(AdjusterKind::GearboxMount)),
            joint_mm: None,
            joint: o.joint,
            deg_per_mm: None,
        });
    }
    Ok(out)
}

/// What an adjuster is set to, in words; empty where it stays.
fn setting_words(kind: AdjusterKind, x: f64) -> String {
    if x == 0.0 {
        return String::new();
    }
    let by = trimmed(x.abs(), 1);
    match (kind, x > 0.0) {
        (AdjusterKind::PinionWedge, true) => format!("pinion nose {by}° up"),
        (AdjusterKind::PinionWedge, false) => format!("pinion nose {by}° down"),
        (AdjusterKind::GearboxMount, true) => format!("gearbox mount {by} mm up"),
        (AdjusterKind::GearboxMount, false) => format!("gearbox mount {by} mm down"),
        (AdjusterKind::SupportBearing, true) => format!("support bearing {by} mm down"),
        (AdjusterKind::SupportBearing, false) => format!("support bearing {by} mm up"),
        (AdjusterKind::RideHeight, true) => format!("axle {by} mm lower"),
        (AdjusterKind::RideHeight, false) => format!("axle {by} mm higher"),
        (AdjusterKind::ArmLength, true) => format!("axle {by} mm rearward"),
        (AdjusterKind::ArmLength, false) => format!("axle {by} mm forward"),
    }
}

fn plan_words(p: &Plan) -> String {
    let all: Vec<String> = p.settings.iter().map(|s| setting_words(s.kind, s.value)).filter(|w| !w.is_empty()).collect();
    if all.is_empty() { "leave it as it is".into() } else { all.join(", ") }
}

fn row(words: String, p: &Plan) -> Vec<String> {
    let joints: Vec<String> = p.joint_deg.iter().map(|d| format!("{:.1}", d.get())).collect();
    let used = (p.slip_mm.get() * 10.0).round() / 10.0 + 0.0;
    let slip = match p.slip_available_mm {
        Some(there) => format!("{used:.1} of {there:.0} mm"),
        None => format!("{used:.1} mm"),
    };
    vec![
        words,
        format!("{}°", joints.join("  ")),
        format!("{:.1}°", p.residual_deg.get()),
        format!("{:.0}", p.torsional_rads2.get()),
        slip,
        format!("{:.1} mm", (p.pinion_mm.get() * 10.0).round() / 10.0 + 0.0),
        if p.broken == 0 { "none".into() } else { p.broken.to_string() },
    ]
}

const HEADINGS: [&str; 7] =
    ["what would cure it", "joints", "left over", "pinion, rad/s²", "slip used", "pinion rearward", "limits broken"];

/// The plans of all adjusters together, and the best one that moves a single thing and is within the limits.
struct Plans {
    together: AnglePlans,
    simplest: Option<Plan>,
}

impl Plans {
    fn of(v: &Vehicle, p: &Prop, shaft: AnglesInput, f: &FormFields, climb_deg: Option<f64>) -> Result<Self, Problem> {
        let input = AnglePlanInput {
            shaft,
            lengths_mm: p.sections.iter().map(|s| s.length_mm.get()).collect(),
            adjusters: adjusters(v, p, f)?,
            slip_available_mm: f.amount("slip", Unit::Millimetre)?,
            climb_deg,
        };
        let alone = |a: &Adjuster| {
            let one = AnglePlanInput { adjusters: vec![a.clone()], ..input.clone() };
            angle_plan(&one).ok()?.plans.into_iter().find(|p| p.broken == 0)
        };
        let simplest =
            input.adjusters.iter().filter_map(alone).min_by(|a, b| a.residual_deg.get().total_cmp(&b.residual_deg.get()));
        Ok(Self { together: angle_plan(&input)?, simplest })
    }

    /// Today, the simplest one, the best few.
    fn rows(&self, most: usize) -> Vec<Vec<String>> {
        let mut rows = vec![row("as it is today".into(), &self.together.today)];
        let first = self.together.plans.first().map(plan_words);
        let simple = self.simplest.as_ref().map(|p| (plan_words(p), p)).filter(|(w, _)| Some(w) != first.as_ref());
        if let Some((words, p)) = &simple {
            rows.push(row(format!("simplest: {words}"), p));
        }
        let shown = self.together.plans.iter().filter(|p| simple.as_ref().is_none_or(|(w, _)| *w != plan_words(p)));
        rows.extend(shown.take(most).map(|p| row(plan_words(p), p)));
        rows
    }
}

fn answer(c: &SheetContext, f: &FormFields) -> Result<SheetAnswer, Problem> {
    let v = c.vehicle();
    let p = prop(v, c.at).ok_or_else(|| Problem::new("unknown-place", "this vehicle has no such shaft").field("at"))?;
    let shaft = slopes(c.case, c.at).ok_or_else(|| Problem::new("missing", "read the slopes of this shaft first").field("at"))?;
    let climb = f.amount("climb", Unit::Degree)?.unwrap_or(USUAL_CLIMB_DEG);
    let school = f.text("school").unwrap_or("cruise");
    let all = Plans::of(v, p, shaft.clone(), f, (school == "climb").then_some(climb))?;
    let (rows, plans) = (all.rows(SHOWN), &all.together);
    let targets = angle_targets(&AngleTargetsInput { shaft: shaft.clone(), climb_deg: Some(climb) })?.targets;
    let mut findings = vec![];
    let mut pairs = vec![];
    let mut is_of_school = false;
    for t in &targets {
        let name = t.school.id();
        let turn = t.turn_deg.get();
        let way = match turn {
            x if x.abs() < 0.05 => "as it stands".to_string(),
            x if x > 0.0 => format!("nose {x:.1}° up"),
            x => format!("nose {:.1}° down", -x),
        };
        pairs.push((t.school.words().to_string(), format!("pinion at {:.1}°, {way}", t.pinion_deg.get())));
        if name == school {
            is_of_school = true;
            findings.push(Finding::new("school", Level::Info, t.why));
        }
    }
    if !is_of_school {
        findings.push(Finding::new("school", Level::Warn, "that aim does not fit the joints of this shaft"));
    }
    let best = plans.plans.first();
    if best.is_none_or(|b| b.broken == plans.today.broken && b.residual_deg.get() >= plans.today.residual_deg.get() - 1e-9) {
        findings.push(Finding::new(
            "nothing-better",
            Level::Warn,
            "nothing in these ranges is better than today: widen them, or look at mounts and ride height",
        ));
    }
    if let (Some(b), Some(there)) = (best, plans.today.slip_available_mm)
        && b.slip_mm.get().abs() > there
    {
        findings.push(Finding::new("slip", Level::Warn, "the first takes more slip than there is"));
    }
    let best_words = best.map(plan_words);
    Ok(SheetAnswer {
        figures: best_words.iter().map(|w| ("best".to_string(), w.clone())).collect(),
        beside: Some(("By the pinion alone it would take", pairs)),
        headings: HEADINGS.to_vec(),
        rows,
        findings,
        words: best.map_or(String::new(), |b| {
            format!(
                "{}: pinion {:.0} rad/s², today {:.0}",
                plan_words(b),
                b.torsional_rads2.get(),
                plans.today.torsional_rads2.get()
            )
        }),
        ..SheetAnswer::default()
    })
}

/// The best plans for slopes, with what this vehicle usually has: headings and rows, today first; none where nothing breaks a limit.
pub(in crate::stations) fn plan_rows(
    v: &Vehicle,
    at: &str,
    shaft: &AnglesInput,
) -> Option<(Vec<&'static str>, Vec<Vec<String>>)> {
    let p = prop(v, at)?;
    let mut f = vec![];
    for o in offered(v, p) {
        let [from, to, step] = o.usual;
        for (what, x) in [("from", from), ("to", to), ("step", step)] {
            f.push((format!("{}-{what}", o.id), trimmed(x, 1)));
        }
        if let Some((_, mm)) = o.arm {
            f.push((format!("{}-arm", o.id), trimmed(mm, 0)));
        }
    }
    let plans = Plans::of(v, p, shaft.clone(), &FormFields::metric(f), None).ok()?;
    (plans.together.today.broken > 0).then(|| (HEADINGS.to_vec(), plans.rows(3)))
}
