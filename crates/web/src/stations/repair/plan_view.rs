//! The repair plan as the page shows it: how long, stretches with their steps and flags, other ways in.

use super::kit_view::KitView;
use crate::drawing::time_line::time_line;
use crate::page::LoadedCase;
use crate::stations::test_cards::CautionView;
use crate::wording::hours;
use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::Knowledge;
use baricord_core::repair::job::is_to_be_planned;
use baricord_core::repair::repair_plan::{Aim, RepairPlan, repair_plan, whole_plan};
use baricord_core::repair::step::{Fastener, On, Role, Step};
use baricord_core::repair::teardown::Teardown;
use jiff::Timestamp;
use std::collections::BTreeSet;

/// A step of the list.
pub struct StepView {
    pub number: usize,
    /// Repair and step, as the button sends them.
    pub value: String,
    pub what: String,
    pub minutes: String,
    /// Class and words of each flag.
    pub flags: Vec<(&'static str, String)>,
}

/// Steps in one stance, with or without a helper; or a wait with nothing to do, which has none.
pub struct Stretch {
    pub title: String,
    pub minutes: String,
    pub steps: Vec<StepView>,
    pub cautions: Vec<CautionView>,
}

/// A step that is done.
pub struct DoneView {
    pub value: String,
    pub what: String,
    pub by: String,
    /// Why work began before all lay ready.
    pub without: String,
}

/// Another way in.
pub struct WayView {
    pub repair: String,
    /// What is sent: its id, or nothing for the usual way.
    pub value: String,
    pub words: String,
    pub time: String,
    pub disturbs: String,
    pub spares: String,
    pub owes: String,
    pub press: &'static str,
}

/// What must be answered first.
pub struct AskView {
    pub repair: String,
    pub field: &'static str,
    pub message: String,
    pub choices: Vec<String>,
    pub usual: String,
}

/// A time: as machines read it, and in words for a page without script.
pub struct Moment {
    pub utc: String,
    pub words: String,
}

impl Moment {
    fn new(t: Timestamp) -> Self {
        Self { utc: t.to_string(), words: t.strftime("%d.%m. %H:%M UTC").to_string() }
    }
}

/// When the vehicle is wanted, and when work must begin: as is likely, and to be safe.
pub struct Wanted {
    pub due: Moment,
    pub likely: Moment,
    pub safe: Moment,
}

/// All of it.
pub struct PlanView {
    pub hands_on: String,
    pub range: String,
    pub elapsed: String,
    pub helper: String,
    pub wanted: Option<Wanted>,
    pub rests: String,
    pub line: String,
    pub stretches: Vec<Stretch>,
    pub done: Vec<DoneView>,
    pub next: Option<StepView>,
    /// What stops the first bolt; empty once it is out.
    pub not_ready: Vec<String>,
    pub asks: Vec<AskView>,
    pub problems: Vec<String>,
    pub kit: KitView,
    pub ways: Vec<WayView>,
    pub restore: Vec<(String, bool)>,
    pub owed: Vec<String>,
    pub teardown: Teardown,
    /// Whether something is off or loose already.
    pub is_begun: bool,
    /// Whether it needs small print to go on one sheet.
    pub is_long: bool,
    /// Whether the list shows how all is put back unrepaired.
    pub is_put_back: bool,
}

/// Shortest wait that is worth a line of its own.
const SHORTEST_WAIT_MIN: f64 = 1.0;

/// Steps that go on one printed sheet in two columns.
const SHEET_STEPS: usize = 45;

fn stance(s: &Step) -> &'static str {
    match s.state.on {
        _ if s.is_ready_check() => "Before the first bolt",
        _ if s.bench => "On the bench",
        On::Lift => "On the lift",
        On::Ground => "On the ground",
    }
}

/// Count and size as sockets are named, then the torque: 4 × 14 mm, 60 N·m.
fn fastener_flags(f: &Fastener, is_torque: bool) -> Vec<(&'static str, String)> {
    let size = match f.drive_mm {
        Some(mm) => ("as-typed", format!("{} × {mm} mm", f.count)),
        None => ("missing", format!("{} ×, size ?", f.count)),
    };
    let torque = is_torque.then(|| match f.torque_nm {
        Some(nm) => ("", format!("{nm} N·m")),
        None => ("missing", "torque ?".into()),
    });
    [size].into_iter().chain(torque).collect()
}

fn flags(k: &Knowledge, s: &Step) -> Vec<(&'static str, String)> {
    let is_torque = matches!(s.role, Role::Torque | Role::Fill);
    let mut out: Vec<(&'static str, String)> = s.fasteners.iter().flat_map(|f| fastener_flags(f, is_torque)).collect();
    if matches!(s.role, Role::Unfasten | Role::StartByHand) && s.fasteners.iter().any(|f| f.renew) {
        out.push(("", "renew".into()));
    }
    match s.role {
        Role::Mark => out.push(("first", "mark first".into())),
        Role::Read if !s.reads.is_empty() => out.push(("", "read it".into())),
        Role::SeatCheck => out.push(("", "does it sit?".into())),
        Role::Support => out.push(("drops", "it drops".into())),
        _ => {}
    }
    if s.state.helper {
        out.push(("first", "helper".into()));
    }
    if let Some(w) = &s.wait {
        out.push(("wait", format!("{} {}", w.kind, hours(w.minutes))));
    }
    out.extend(s.opens.first().map(|_| ("drops", "plug it".into())));
    let brief = |id: &String| k.caution(id).map(|c| ("care", c.head.clone()));
    out.extend(s.caution.iter().filter_map(brief));
    out
}

fn step_view(k: &Knowledge, number: usize, s: &Step) -> StepView {
    StepView {
        number,
        value: format!("{} {}", s.serves.first().map_or("", String::as_str), s.id),
        what: s.what.clone(),
        minutes: if s.minutes[1] > 0.0 { format!("{} min", s.minutes[1].ceil()) } else { String::new() },
        flags: flags(k, s),
    }
}

/// What a stretch of steps is called.
fn stretch_title(s: &Step) -> String {
    let helper = if s.state.helper { ", with a helper" } else { "" };
    format!("{}{helper}", stance(s))
}

fn stretches(k: &Knowledge, plan: &RepairPlan) -> Vec<Stretch> {
    let mut out: Vec<(Stretch, f64)> = vec![];
    let mut shown: BTreeSet<&str> = BTreeSet::new();
    let begun = |title: String| Stretch { title, minutes: String::new(), steps: vec![], cautions: vec![] };
    for (n, (s, _, idle)) in plan.timed().into_iter().enumerate() {
        if idle >= SHORTEST_WAIT_MIN {
            out.push((begun("Wait, nothing else can be done".into()), idle));
        }
        let title = stretch_title(s);
        if out.last().is_none_or(|(l, _)| l.title != title) {
            out.push((begun(title), 0.0));
        }
        let Some((last, minutes)) = out.last_mut() else { continue };
        *minutes += s.minutes[1];
        last.steps.push(step_view(k, n + 1, s));
        // The whole caution stands where it is met first; its head at every step.
        for c in s.caution.iter().filter(|c| shown.insert(c)) {
            last.cautions.extend(k.caution(c).map(CautionView::new));
        }
    }
    out.into_iter().map(|(s, m)| Stretch { minutes: hours(m), ..s }).collect()
}

/// When it must be begun to be ready by the time it is wanted.
fn wanted(case: &Case, plan: &RepairPlan) -> Option<Wanted> {
    let due = case.due.as_deref()?.parse::<Timestamp>().ok()?;
    plan.begin_by(due).map(|[likely, safe]| Wanted {
        due: Moment::new(due),
        likely: Moment::new(likely),
        safe: Moment::new(safe),
    })
}

impl PlanView {
    /// The plan of a case's open repairs; none where nothing is planned.
    pub fn new(k: &LoadedCase, put_back: bool) -> Option<Self> {
        let (case, kb) = (k.case(), &*k.knowledge);
        let aim = if put_back { Aim::PutBack } else { Aim::Repair };
        let plan = repair_plan(case, kb, aim);
        if plan.steps.is_empty() && plan.problems.is_empty() {
            return None;
        }
        let whole = whole_plan(case, kb);
        let done: Vec<(&baricord_core::case::Repair, &baricord_core::case::StepDone)> =
            case.repairs.iter().filter(|r| is_to_be_planned(case, r)).flat_map(|r| r.done.iter().map(move |d| (r, d))).collect();
        let is_begun = done.iter().any(|(_, d)| whole.step(&d.step).is_some_and(|s| s.role == Role::Secure));
        let ticked: BTreeSet<&str> = done.iter().map(|(_, d)| d.step.as_str()).collect();
        let teardown = match is_begun {
            true => Teardown::after(&case.vehicle, &whole, |s| ticked.contains(s.id.as_str())),
            false => Teardown::widest(&case.vehicle, &plan),
        };
        let s = &plan.schedule;
        let kit = &plan.kit;
        let done_view = |(r, d): &(&baricord_core::case::Repair, &baricord_core::case::StepDone)| DoneView {
            value: format!("{} {}", r.id, d.step),
            what: whole.step(&d.step).map_or_else(|| d.step.clone(), |s| s.what.clone()),
            by: d.by.clone().unwrap_or_default(),
            without: d.without.clone().unwrap_or_default(),
        };
        Some(Self {
            hands_on: hours(s.minutes[1]),
            range: format!("{} to {}", hours(s.minutes[0]), hours(s.minutes[2])),
            elapsed: hours(s.elapsed[1]),
            helper: if s.helper_minutes > 0.0 { hours(s.helper_minutes) } else { String::new() },
            wanted: wanted(case, &plan),
            rests: s.rests.iter().filter_map(|id| plan.step(id)).take(3).map(|s| s.what.clone()).collect::<Vec<_>>().join(", "),
            line: time_line(&plan, stance),
            stretches: stretches(kb, &plan),
            done: done.iter().map(done_view).collect(),
            not_ready: match plan.steps.iter().any(Step::is_ready_check) && !put_back {
                true => kit.not_ready(),
                false => vec![],
            },
            next: plan.in_order().next().map(|s| step_view(kb, 1, s)),
            asks: plan
                .asks
                .iter()
                .map(|a| AskView {
                    repair: a.repair.clone(),
                    field: a.code,
                    message: a.message.clone(),
                    choices: a.choices.clone(),
                    usual: a.usual.clone(),
                })
                .collect(),
            problems: plan.problems.iter().map(|p| p.message.clone()).collect(),
            kit: KitView::new(kit, &plan.steps),
            ways: plan
                .ways
                .iter()
                .map(|w| WayView {
                    repair: w.repair.clone(),
                    value: if w.chosen { String::new() } else { w.id.clone() },
                    words: w.words.clone(),
                    time: hours(w.minutes[1]),
                    disturbs: w.disturbs.join(", "),
                    spares: w.spares.join(", "),
                    owes: w.owes.join(", "),
                    press: if w.chosen { "Take the usual way" } else { "Take this way" },
                })
                .collect(),
            restore: {
                let mut all: Vec<(String, bool)> = vec![];
                for r in &plan.restore {
                    if !all.iter().any(|x| x.0 == r.what) {
                        all.push((r.what.clone(), r.step.is_none()));
                    }
                }
                all
            },
            owed: plan.owed.iter().map(|o| format!("{}, after {:.0} km", o.what, o.after.km)).collect(),
            teardown,
            is_begun,
            is_long: plan.steps.len() > SHEET_STEPS,
            is_put_back: put_back,
        })
    }
}
