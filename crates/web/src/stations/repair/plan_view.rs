//! The repair plan as the page shows it: how long, a line of time, stretches with their steps and flags, what lies ready, other ways in.

use crate::page::LoadedCase;
use crate::stations::test_cards::CautionView;
use baricord_core::case::Case;
use baricord_core::reasoning::knowledge::Knowledge;
use baricord_core::repair::job::is_to_be_planned;
use baricord_core::repair::kit::Tool;
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

/// Steps in one stance.
pub struct Stretch {
    pub title: &'static str,
    pub minutes: String,
    pub steps: Vec<StepView>,
    pub cautions: Vec<CautionView>,
}

/// A step that is done.
pub struct DoneView {
    pub value: String,
    pub what: String,
    pub by: String,
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

/// All of it.
pub struct PlanView {
    pub hands_on: String,
    pub range: String,
    pub elapsed: String,
    pub helper: String,
    pub wanted: String,
    pub rests: String,
    pub line: String,
    pub stretches: Vec<Stretch>,
    pub done: Vec<DoneView>,
    pub next: Option<StepView>,
    pub asks: Vec<AskView>,
    pub problems: Vec<String>,
    pub parts: Vec<(String, String)>,
    pub tools: String,
    pub special: String,
    pub consumables: Vec<(String, String)>,
    pub waste: String,
    pub figures: Vec<String>,
    pub sizes: String,
    pub wrench: String,
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

/// Steps that go on one printed sheet in two columns.
const SHEET_STEPS: usize = 45;

/// Minutes as people read them: 35 min, 2 h 10.
pub fn hours(minutes: f64) -> String {
    let m = minutes.round() as i64;
    if m < 60 { format!("{m} min") } else { format!("{} h {:02}", m / 60, m % 60) }
}

fn stance(s: &Step) -> &'static str {
    match s.state.on {
        _ if s.is_ready_check() => "Before the first bolt",
        _ if s.bench => "On the bench",
        On::Lift => "On the lift",
        On::Ground => "On the ground",
    }
}

fn fastener_words(f: &Fastener, is_torque: bool) -> String {
    let size = f.drive_mm.map_or(String::new(), |mm| format!(" {mm} mm"));
    let torque = match (f.torque_nm, is_torque) {
        (Some(nm), true) => format!(", {nm} N·m"),
        (None, true) => ", torque ?".into(),
        (_, false) => String::new(),
    };
    format!("{} ×{size}{torque}", f.count)
}

fn flags(k: &Knowledge, s: &Step) -> Vec<(&'static str, String)> {
    let mut out = vec![];
    let is_torque = matches!(s.role, Role::Torque | Role::Fill);
    out.extend(
        s.fasteners
            .iter()
            .map(|f| (if is_torque && f.torque_nm.is_none() { "missing" } else { "" }, fastener_words(f, is_torque))),
    );
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

fn stretches(k: &Knowledge, plan: &RepairPlan) -> Vec<Stretch> {
    let mut out: Vec<(Stretch, f64)> = vec![];
    let mut shown: BTreeSet<&str> = BTreeSet::new();
    for (n, s) in plan.in_order().enumerate() {
        if out.last().is_none_or(|(l, _)| l.title != stance(s)) {
            out.push((Stretch { title: stance(s), minutes: String::new(), steps: vec![], cautions: vec![] }, 0.0));
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

/// The plan as a line of time: a box for each stretch, hatched where nothing can be done but wait, yellow where a helper is needed.
fn line(plan: &RepairPlan) -> String {
    use std::fmt::Write;
    const WIDTH: f64 = 900.0;
    let total = plan.schedule.elapsed[1].max(1.0);
    let x = |m: f64| m / total * WIDTH;
    let mut o = String::from(
        r#"<svg class="time-line" viewBox="0 0 900 62" role="img" aria-label="The plan as a line of time"><defs><pattern id="wait-hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><line x1="0" y1="0" x2="0" y2="6" class="hatch"/></pattern></defs>"#,
    );
    let mut now = 0.0;
    let mut boxes: Vec<(&'static str, f64, f64)> = vec![];
    let mut idle = vec![];
    let mut helper = vec![];
    for (s, &from) in plan.in_order().zip(&plan.schedule.starts) {
        if from > now + 0.01 {
            idle.push((now, from));
        }
        now = from + s.minutes[1];
        match boxes.last_mut() {
            Some(b) if b.0 == stance(s) => b.2 = now,
            _ => boxes.push((stance(s), from, now)),
        }
        if s.state.helper {
            helper.push((from, now));
        }
    }
    for (_, from, to) in &boxes {
        let _ = write!(o, r#"<rect class="stretch" x="{:.1}" y="8" width="{:.1}" height="30"/>"#, x(*from), x(*to) - x(*from));
    }
    for (from, to) in &idle {
        let _ = write!(
            o,
            r#"<rect class="idle" x="{:.1}" y="8" width="{:.1}" height="30" fill="url(#wait-hatch)"/>"#,
            x(*from),
            x(*to) - x(*from)
        );
    }
    for (title, from, to) in &boxes {
        let short = title.trim_start_matches("On the ");
        // The word stands where nothing is hatched over it.
        let free = idle.iter().filter(|i| i.0 >= *from && i.0 < *to).map(|i| i.0).fold(*to, f64::min);
        if x(free) - x(*from) > 8.0 * short.len() as f64 + 10.0 {
            let _ = write!(o, r#"<text class="stretch-word" x="{:.1}" y="28">{short}</text>"#, x(*from) + 6.0);
        }
    }
    for (from, to) in helper {
        let _ =
            write!(o, r#"<rect class="helper" x="{:.1}" y="3" width="{:.1}" height="40"/>"#, x(from), (x(to) - x(from)).max(4.0));
    }
    let _ = write!(o, r#"<line class="line" x1="0" y1="44" x2="{WIDTH}" y2="44"/>"#);
    let step = if total > 360.0 {
        120.0
    } else if total > 150.0 {
        60.0
    } else {
        30.0
    };
    let mut t = 0.0;
    while t <= total {
        let _ = write!(
            o,
            r#"<line class="line" x1="{a:.1}" y1="41" x2="{a:.1}" y2="47"/><text class="time" x="{a:.1}" y="60">{}</text>"#,
            hours(t),
            a = x(t)
        );
        t += step;
    }
    o += "</svg>";
    o
}

/// When it must be begun to be ready by the time it is wanted.
fn wanted(case: &Case, plan: &RepairPlan) -> String {
    let Some(due) = case.due.as_deref().and_then(|d| d.parse::<Timestamp>().ok()) else { return String::new() };
    let shown = |t: Timestamp| t.strftime("%d.%m. %H:%M UTC").to_string();
    plan.begin_by(due).map_or(String::new(), |[likely, safe]| {
        format!("Wanted {}: begin by {}; to be safe by {}", shown(due), shown(likely), shown(safe))
    })
}

fn tool_words(t: &Tool) -> String {
    match (t.mm, &t.inch) {
        (Some(mm), Some(inch)) => format!("{mm} ({inch})"),
        _ => t.what.clone(),
    }
}

fn joined(all: impl Iterator<Item = String>) -> String {
    all.collect::<Vec<_>>().join(", ")
}

/// The same thing at several places is one line with their sum.
fn summed(all: impl Iterator<Item = (String, u32)>) -> Vec<(String, String)> {
    let mut out: Vec<(String, u32)> = vec![];
    for (what, n) in all {
        match out.iter_mut().find(|o| o.0 == what) {
            Some(o) => o.1 += n,
            None => out.push((what, n)),
        }
    }
    out.into_iter().map(|(what, n)| (what, n.to_string())).collect()
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
        };
        let mut figures: Vec<String> = kit.missing_figures.iter().map(|m| m.what.clone()).collect();
        figures.sort();
        figures.dedup();
        Some(Self {
            hands_on: hours(s.minutes[1]),
            range: format!("{} to {}", hours(s.minutes[0]), hours(s.minutes[2])),
            elapsed: hours(s.elapsed[1]),
            helper: if s.helper_minutes > 0.0 { hours(s.helper_minutes) } else { String::new() },
            wanted: wanted(case, &plan),
            rests: joined(s.rests.iter().filter_map(|id| plan.step(id)).take(3).map(|s| s.what.clone())),
            line: line(&plan),
            stretches: stretches(kb, &plan),
            done: done.iter().map(done_view).collect(),
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
            parts: summed(kit.single_use.iter().map(|x| (x.what.clone(), x.count))),
            tools: joined(kit.tools.iter().filter(|t| !t.special && t.mm.is_none()).map(tool_words)),
            special: joined(kit.tools.iter().filter(|t| t.special).map(tool_words)),
            consumables: kit.consumables.iter().map(|c| (c.what.clone(), format!("{} {}", c.amount, c.unit))).collect(),
            waste: joined(kit.waste.iter().map(|c| format!("{} {} {}", c.what, c.amount, c.unit))),
            figures,
            sizes: joined(kit.tools.iter().filter(|t| t.mm.is_some()).map(tool_words)),
            wrench: kit.wrench.as_ref().map_or(String::new(), |w| format!("{:.0} to {:.0} N·m", w.from_nm, w.to_nm)),
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
