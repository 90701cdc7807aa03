//! What would cure the angles: the planner, and the four schools of target.

use super::fields::{Field, Group, Typed, trimmed};
use super::{Sheet, SheetAnswer, SheetContext};
use crate::stations::form::FormFields;
use baricord_core::case::Case;
use baricord_core::error::{Finding, Level, Problem};
use baricord_core::measure::angle_plan::{Adjuster, AdjusterKind, AnglePlanInput, AnglePlans, Plan, angle_plan, simplest};
use baricord_core::measure::angle_targets::{AngleTargetsInput, School, Target, USUAL_CLIMB_DEG, angle_targets};
use baricord_core::measure::angles::AnglesInput;
use baricord_core::measure::instrument::Reading;
use baricord_core::measure::shaft_adjusters::{is_solid, usual_adjusters};
use baricord_core::units::Unit;
use baricord_core::vehicle::{PlaceKind, Prop, Vehicle};

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

/// An adjuster as it stands on the form: how its fields begin, its words, its unit, what its arm is called.
struct AdjusterForm {
    id: String,
    words: String,
    unit: Unit,
    arm: Option<&'static str>,
}

impl AdjusterForm {
    fn of(a: &Adjuster, is_solid: bool) -> Self {
        let form = |id: &str, words: &str, unit, arm| Self { id: id.into(), words: words.into(), unit, arm };
        match a.kind {
            AdjusterKind::SupportBearing => {
                let k = a.joint.unwrap_or(1);
                form(&format!("sb{k}"), &format!("support bearing {k}, lower +"), Unit::Millimetre, None)
            }
            AdjusterKind::PinionWedge => {
                let words = if is_solid { "wedge or moved holes, nose up +" } else { "final drive mount, nose up +" };
                form("wedge", words, Unit::Degree, Some("axle centre to joint"))
            }
            AdjusterKind::GearboxMount => {
                form("mount", "shim at the gearbox mount", Unit::Millimetre, Some("front mount to rear mount"))
            }
            AdjusterKind::RideHeight => form("height", "ride height, axle lower +", Unit::Millimetre, None),
            AdjusterKind::ArmLength => form("arm", "arms longer, axle rearward +", Unit::Millimetre, None),
        }
    }
}

/// What this vehicle can have, each with its form.
fn offered(v: &Vehicle, p: &Prop) -> Vec<(Adjuster, AdjusterForm)> {
    let solid = is_solid(v, p);
    let with_form = |a: Adjuster| {
        let form = AdjusterForm::of(&a, solid);
        (a, form)
    };
    usual_adjusters(v, p).into_iter().map(with_form).collect()
}

fn groups(c: &SheetContext) -> Vec<Group> {
    let Some(p) = prop(c.vehicle(), c.at) else { return vec![] };
    let mut out = vec![];
    for (a, o) in offered(c.vehicle(), p) {
        let range = |what: &str, label: &str, x| Field::amount(format!("{}-{what}", o.id), label, o.unit).known(x, 1);
        let mut fields = vec![
            range("from", "from", a.from),
            range("to", "to", a.to),
            range("step", "in steps of", a.step),
            Field { unit: Some(o.unit), ..Field::line(format!("{}-hand", o.id), "or only what is at hand", "0 1 2.5") },
        ];
        if let Some(words) = o.arm {
            let arm = Field::amount(format!("{}-arm", o.id), words, Unit::Millimetre);
            fields.push(arm.known(a.arm_mm.or(a.pivot_mm), 0));
        }
        if a.kind == AdjusterKind::PinionWedge {
            fields.push(Field::amount("holes", "or its holes moved by", Unit::Millimetre));
            fields.push(Field::amount("centres", "over this centre distance", Unit::Millimetre));
        }
        let group = Group::new(o.words, fields);
        out.push(if a.from == a.to { group.folded() } else { group });
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

/// The adjusters as they were typed; what has a range of nothing stays out.
fn adjusters(v: &Vehicle, p: &Prop, f: &FormFields) -> Result<Vec<Adjuster>, Problem> {
    let mut out = vec![];
    for (usual, o) in offered(v, p) {
        let get = |what: &str| f.amount(&format!("{}-{what}", o.id), o.unit);
        let hand = f.amounts(&format!("{}-hand", o.id), o.unit)?;
        let arm = f.amount(&format!("{}-arm", o.id), Unit::Millimetre)?;
        let holes = match usual.kind {
            AdjusterKind::PinionWedge => f.amount("holes", Unit::Millimetre)?.zip(f.amount("centres", Unit::Millimetre)?),
            _ => None,
        };
        let range = if holes.is_some() { (None, None) } else { (get("from")?, get("to")?) };
        let typed = Adjuster {
            from: range.0,
            to: range.1,
            step: get("step")?,
            at_hand: (!hand.is_empty()).then_some(hand),
            arm_mm: usual.arm_mm.and(arm),
            pivot_mm: usual.pivot_mm.and(arm),
            offset_mm: holes.map(|h| h.0),
            centres_mm: holes.map(|h| h.1),
            ..usual
        };
        if typed.moves() {
            out.push(typed);
        }
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

/// What is planned, and the simplest way.
struct Plans {
    together: AnglePlans,
    simplest: Option<Plan>,
}

impl Plans {
    fn of(
        p: &Prop,
        shaft: AnglesInput,
        adjusters: Vec<Adjuster>,
        slip: Option<f64>,
        climb_deg: Option<f64>,
    ) -> Result<Self, Problem> {
        let lengths_mm = p.sections.iter().map(|s| s.length_mm.get()).collect();
        let input = AnglePlanInput { shaft, lengths_mm, adjusters, slip_available_mm: slip, climb_deg };
        Ok(Self { together: angle_plan(&input)?, simplest: simplest(&input) })
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
    let school = School::ALL.into_iter().find(|s| Some(s.id()) == f.text("school")).unwrap_or(School::Cruise);
    let under_way = (school == School::Climb).then_some(climb);
    let all = Plans::of(p, shaft.clone(), adjusters(v, p, f)?, f.amount("slip", Unit::Millimetre)?, under_way)?;
    let (rows, plans) = (all.rows(SHOWN), all.together);
    let targets = angle_targets(&AngleTargetsInput { shaft, climb_deg: Some(climb) })?.targets;
    let pair = |t: &Target| {
        let way = match t.turn_deg.get() {
            x if x.abs() < 0.05 => "as it stands".to_string(),
            x if x > 0.0 => format!("nose {x:.1}° up"),
            x => format!("nose {:.1}° down", -x),
        };
        (t.school.words().to_string(), format!("pinion at {:.1}°, {way}", t.pinion_deg.get()))
    };
    let mut findings = vec![match targets.iter().find(|t| t.school == school) {
        Some(t) => Finding::new("school", Level::Info, t.why),
        None => Finding::new("school", Level::Warn, "that aim does not fit the joints of this shaft"),
    }];
    findings.extend(plans.findings);
    let best = plans.plans.first();
    let words = |b: &Plan| {
        let (then, today) = (b.torsional_rads2.get(), plans.today.torsional_rads2.get());
        format!("{}: pinion {then:.0} rad/s², today {today:.0}", plan_words(b))
    };
    Ok(SheetAnswer {
        figures: best.iter().map(|b| ("best".to_string(), plan_words(b))).collect(),
        beside: Some(("By the pinion alone it would take", targets.iter().map(pair).collect())),
        headings: HEADINGS.to_vec(),
        rows,
        findings,
        words: best.map_or(String::new(), words),
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
    let adjusters = usual_adjusters(v, p).into_iter().filter(Adjuster::moves).collect();
    let plans = Plans::of(p, shaft.clone(), adjusters, None, None).ok()?;
    (plans.together.today.broken > 0).then(|| (HEADINGS.to_vec(), plans.rows(3)))
}
