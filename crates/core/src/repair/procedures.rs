//! The procedures of the trade as data: what comes off and goes on again (units), and the work of a fault or a task in between.
//! `knowledge/procedures/wheels.toml` says at its head how an entry is written.

use crate::reasoning::place_kinds::is_kind;
use crate::repair::layout_conditions::{all_hold, is_condition};
use crate::repair::step::{On, Role};
use crate::vehicle::{Place, Vehicle};
use serde::Deserialize;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, LazyLock};

/// The files that ship with the program.
pub(crate) const SHIPPED: [(&str, &str); 5] = [
    ("wheels", include_str!("../../knowledge/procedures/wheels.toml")),
    ("half_shafts", include_str!("../../knowledge/procedures/half_shafts.toml")),
    ("shafts", include_str!("../../knowledge/procedures/shafts.toml")),
    ("axles", include_str!("../../knowledge/procedures/axles.toml")),
    ("gearboxes", include_str!("../../knowledge/procedures/gearboxes.toml")),
];

/// The cautions that a step of a repair may carry.
pub const STEP_CAUTIONS: [&str; 17] = [
    "road",
    "wheels-in-the-air",
    "shaft-held",
    "vehicle-held",
    "press",
    "springs",
    "heavy-unit",
    "oil",
    "hot",
    "torch",
    "air",
    "jack",
    "pedal-first",
    "exhaust",
    "high-voltage",
    "engine-load",
    "maker",
];

/// Narrowest and widest fastener, mm across flats.
pub(crate) const DRIVE_MM: std::ops::RangeInclusive<f64> = 3.0..=120.0;
/// Longest step, minutes hands-on; longest wait, minutes; largest amount, l or kg.
const MAX_STEP_MIN: f64 = 2000.0;
const MAX_WAIT_MIN: f64 = 20_000.0;
const MAX_AMOUNT: f64 = 500.0;

/// Work without a fault.
pub const TASK_IDS: [&str; 4] = ["replace", "refit", "grease", "oil"];

/// What holds something.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FastenerRule {
    /// What a mechanic calls it, in the plural where there are several.
    pub what: String,
    /// How many.
    pub count: u32,
    /// Width across flats, mm, where it is usual.
    pub drive: Option<f64>,
    /// Whether it is used once only.
    #[serde(default)]
    pub renew: bool,
}

/// A time that passes with no hands.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WaitRule {
    /// Minutes until what follows may begin.
    pub minutes: f64,
    /// soak, cure, settle, cool.
    pub kind: String,
}

/// Where the work of a step is done.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Where {
    /// With the vehicle up.
    #[default]
    Lift,
    /// With the vehicle standing on its wheels.
    Ground,
    /// Beside the vehicle, however it stands.
    Bench,
}

impl Where {
    /// How the vehicle must stand; none where it does not matter.
    pub fn on(self) -> Option<On> {
        match self {
            Self::Lift => Some(On::Lift),
            Self::Ground => Some(On::Ground),
            Self::Bench => None,
        }
    }
}

/// A step as it is written. `role = "fasten"` stands for two: started by hand, then torque.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StepRule {
    pub(crate) id: String,
    pub(crate) role: Role,
    pub(crate) what: String,
    pub(crate) minutes: [f64; 3],
    pub(crate) at: Option<String>,
    #[serde(default)]
    pub(crate) on: Where,
    pub(crate) brake: Option<String>,
    pub(crate) gearbox: Option<String>,
    #[serde(default)]
    pub(crate) helper: bool,
    #[serde(default)]
    pub(crate) running: bool,
    #[serde(default)]
    pub(crate) f: Vec<String>,
    #[serde(default)]
    pub(crate) caution: Vec<String>,
    #[serde(default)]
    pub(crate) reads: Vec<String>,
    #[serde(default)]
    pub(crate) opens: Vec<String>,
    #[serde(default)]
    pub(crate) tools: Vec<String>,
    #[serde(default)]
    pub(crate) special: Vec<String>,
    #[serde(default, rename = "use")]
    pub(crate) consumables: Vec<(String, f64, String)>,
    /// What is bought for it.
    #[serde(default)]
    pub(crate) new: Vec<String>,
    #[serde(default)]
    pub(crate) once: Vec<String>,
    pub(crate) wait: Option<WaitRule>,
    pub(crate) needs: Option<Vec<String>>,
    #[serde(default)]
    pub(crate) after: Vec<String>,
    #[serde(default)]
    pub(crate) when: Vec<String>,
    #[serde(default)]
    pub(crate) blocks: Vec<String>,
    pub(crate) each: Option<String>,
    #[serde(default)]
    pub(crate) rest: bool,
    pub(crate) restore: Option<String>,
}

/// Another way to the same end.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WayRule {
    /// Kept in the repair that takes it.
    pub id: String,
    /// What differs.
    pub words: String,
}

/// What is due after some distance.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OwedRule {
    /// What is looked at or done.
    pub what: String,
    /// After how many km.
    pub km: f64,
}

/// Something that comes off and goes on again.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UnitRule {
    pub(crate) id: String,
    pub(crate) at: String,
    /// What a mechanic calls it.
    pub words: String,
    #[serde(default)]
    pub(crate) when: Vec<String>,
    /// Left out of the usual way.
    pub(crate) way: Option<WayRule>,
    #[serde(default)]
    pub(crate) needs: Vec<String>,
    /// Where this unit comes off, it is off, too.
    pub(crate) covered_by: Option<String>,
    #[serde(default)]
    pub(crate) heavy: bool,
    #[serde(default)]
    pub(crate) alignment: bool,
    #[serde(default)]
    pub(crate) fasteners: BTreeMap<String, FastenerRule>,
    pub(crate) apart: Vec<StepRule>,
    pub(crate) together: Vec<StepRule>,
    #[serde(default)]
    pub(crate) owed: Vec<OwedRule>,
}

/// The work of a fault or a task, between taking apart and putting together.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProcedureRule {
    pub(crate) id: String,
    #[serde(default)]
    pub(crate) fault: Vec<String>,
    #[serde(default)]
    pub(crate) task: Vec<String>,
    pub(crate) kinds: Vec<String>,
    #[serde(default)]
    pub(crate) when: Vec<String>,
    /// Left out of the usual way.
    pub(crate) way: Option<WayRule>,
    /// Procedures that it does, too, on the same corner or shaft.
    #[serde(default)]
    pub(crate) covers: Vec<String>,
    /// The place that is worked on, where it is another than the one that is named.
    pub(crate) at: Option<String>,
    /// Which part of the place: inner or outer boot.
    pub(crate) part: Option<String>,
    #[serde(default)]
    pub(crate) off: Vec<String>,
    #[serde(default)]
    pub(crate) alignment: bool,
    /// The trade that it is handed to.
    pub(crate) handover: Option<String>,
    #[serde(default)]
    pub(crate) fasteners: BTreeMap<String, FastenerRule>,
    pub(crate) steps: Vec<StepRule>,
}

/// Every procedure that is known.
#[derive(Clone, Debug, Default)]
pub struct Procedures {
    pub(crate) units: Vec<UnitRule>,
    pub(crate) procedures: Vec<ProcedureRule>,
}

/// What a repair is for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Work<'a> {
    /// It cures a fault.
    Fault(&'a str),
    /// It is work without a search: replace, refit, grease, oil.
    Task(&'a str),
}

impl Procedures {
    /// Reads files of procedures (name, text) and checks them. The error names file and entry.
    pub fn read(files: &[(&str, &str)]) -> Result<Self, String> {
        let all = Self::parse(files)?;
        all.check()?;
        Ok(all)
    }

    /// Files of a workshop's own before those that ship: of procedures of one id its own stands, of units of a name its own comes first.
    pub(crate) fn read_before_shipped(own: &[(&str, &str)]) -> Result<Self, String> {
        let mut all = Self::parse(own)?;
        let shipped = shipped_procedures();
        let is_own = |p: &&ProcedureRule| all.procedures.iter().any(|o| o.id == p.id);
        let rest: Vec<ProcedureRule> = shipped.procedures.iter().filter(|p| !is_own(p)).cloned().collect();
        all.procedures.extend(rest);
        all.units.extend(shipped.units.iter().cloned());
        all.check()?;
        Ok(all)
    }

    /// The cautions of what is written in a text.
    pub(super) fn cautions_of(text: &str) -> Result<BTreeSet<String>, String> {
        let all = Self::parse(&[("text", text)])?;
        let of_units = all.units.iter().flat_map(|u| u.apart.iter().chain(&u.together));
        Ok(of_units.chain(all.procedures.iter().flat_map(|p| &p.steps)).flat_map(|s| s.caution.clone()).collect())
    }

    fn parse(files: &[(&str, &str)]) -> Result<Self, String> {
        #[derive(Deserialize)]
        #[serde(deny_unknown_fields)]
        struct File {
            #[serde(default)]
            unit: Vec<UnitRule>,
            #[serde(default)]
            procedure: Vec<ProcedureRule>,
        }
        let mut all = Self::default();
        for (name, text) in files {
            let file: File = toml::from_str(text).map_err(|e| format!("{name}: {e}"))?;
            all.units.extend(file.unit);
            all.procedures.extend(file.procedure);
        }
        Ok(all)
    }

    fn check(&self) -> Result<(), String> {
        for u in &self.units {
            let entry = format!("unit {} ({})", u.id, u.words);
            check_steps(&u.apart, &u.fasteners, &entry)?;
            check_steps(&u.together, &u.fasteners, &entry)?;
            check_conditions(&u.when, &entry)?;
            check_done_up(&u.apart.iter().chain(&u.together).collect::<Vec<_>>(), &entry)?;
            let lets_go = |s: &StepRule| matches!(s.role, Role::Unfasten | Role::Remove);
            let carries = |s: &StepRule| s.role == Role::Support;
            let carried = u.apart.iter().position(carries).unwrap_or(usize::MAX);
            if u.heavy && u.apart.iter().position(lets_go).is_some_and(|first| first < carried) {
                return Err(format!("{entry}: nothing carries it before its first bolt is out"));
            }
            let mut needed = u.needs.iter().chain(&u.covered_by);
            needed.try_for_each(|n| self.check_need(n, &entry))?;
        }
        if let Some(u) = self.units.iter().find(|u| self.comes_off_before(&u.id, &u.id, &mut BTreeSet::new())) {
            return Err(format!("unit {}: what must be off before it needs it off itself", u.id));
        }
        let mut seen = BTreeSet::new();
        for p in &self.procedures {
            let entry = format!("procedure {}", p.id);
            if !seen.insert(&p.id) {
                return Err(format!("{entry}: there are two of that id"));
            }
            check_steps(&p.steps, &p.fasteners, &entry)?;
            check_conditions(&p.when, &entry)?;
            check_done_up(&p.steps.iter().collect::<Vec<_>>(), &entry)?;
            p.off.iter().try_for_each(|n| self.check_need(n, &entry))?;
            if let Some(c) = p.covers.iter().find(|c| **c == p.id || !self.procedures.iter().any(|o| o.id == **c)) {
                return Err(format!("{entry}: covers {c}, which is no other procedure"));
            }
            if let Some(t) = p.task.iter().find(|t| !TASK_IDS.contains(&t.as_str())) {
                return Err(format!("{entry}: unknown task {t}"));
            }
            if let Some(k) = p.kinds.iter().find(|k| !crate::case::vocabulary::PLACE_KINDS.contains(&k.as_str())) {
                return Err(format!("{entry}: unknown kind of place {k}"));
            }
        }
        Ok(())
    }

    /// Whether a unit of a name must be off before one of another name, directly or by what that needs.
    fn comes_off_before<'a>(&'a self, first: &str, then: &str, seen: &mut BTreeSet<&'a str>) -> bool {
        let needs = self.units.iter().filter(|u| u.id == then).flat_map(|u| &u.needs);
        let names: Vec<&str> = needs.flat_map(|n| n.split('|')).filter_map(|n| n.split(['@', '?']).next()).collect();
        names.iter().any(|n| *n == first || seen.insert(n) && self.comes_off_before(first, n, seen))
    }

    fn check_need(&self, need: &str, entry: &str) -> Result<(), String> {
        for one in need.split('|') {
            let (name, condition) = parts_of_need(one);
            let unit = name.split('@').next().unwrap_or_default();
            if !self.units.iter().any(|u| u.id == unit) {
                return Err(format!("{entry}: there is no unit {unit}"));
            }
            check_conditions(condition, entry)?;
        }
        Ok(())
    }

    /// The units of a name that this vehicle has at a place: the usual one, and other ways.
    pub(crate) fn units_at(&self, id: &str, v: &Vehicle, p: &Place) -> Vec<&UnitRule> {
        self.units.iter().filter(|u| u.id == id && all_hold(v, p, &u.when)).collect()
    }

    /// The unit of a name at a place, in the way that was chosen, else the usual one.
    pub(crate) fn unit(&self, id: &str, v: &Vehicle, p: &Place, ways: &BTreeSet<String>) -> Option<&UnitRule> {
        taken(&self.units_at(id, v, p), |u| u.way.as_ref(), ways)
    }

    /// How a fault or a task is worked on at a place, the usual way and others. `part` chooses between the parts of a place.
    pub(crate) fn procedures_at(&self, work: Work, v: &Vehicle, p: &Place, part: Option<&str>) -> Vec<&ProcedureRule> {
        let fits = |r: &&ProcedureRule| {
            let named = match work {
                Work::Fault(f) => r.fault.iter().any(|x| x == f),
                Work::Task(t) => r.task.iter().any(|x| x == t),
            };
            let is_part = part.is_none() || r.part.is_none() || r.part.as_deref() == part;
            named && is_part && r.kinds.iter().any(|k| is_kind(v, p, k)) && all_hold(v, p, &r.when)
        };
        self.procedures.iter().filter(fits).collect()
    }

    /// The procedure in the way that was chosen, else the usual one.
    pub(crate) fn procedure(
        &self,
        work: Work,
        v: &Vehicle,
        p: &Place,
        part: Option<&str>,
        ways: &BTreeSet<String>,
    ) -> Option<&ProcedureRule> {
        taken(&self.procedures_at(work, v, p, part), |r| r.way.as_ref(), ways)
    }
}

/// Of rules that are ways to the same end: one that was chosen, else the first that is no other way.
fn taken<'a, T>(rules: &[&'a T], way: impl Fn(&T) -> Option<&WayRule>, ways: &BTreeSet<String>) -> Option<&'a T> {
    let is_chosen = |r: &&&T| way(r).is_some_and(|w| ways.contains(&w.id));
    let is_usual = |r: &&&T| way(r).is_none();
    rules.iter().find(is_chosen).or_else(|| rules.iter().find(is_usual)).copied()
}

/// A need without its condition, and the condition: `transfer@transfer?has-transfer`.
pub(crate) fn parts_of_need(need: &str) -> (&str, Option<&str>) {
    need.split_once('?').map_or((need, None), |(n, c)| (n, Some(c)))
}

fn check_conditions(names: impl IntoIterator<Item = impl AsRef<str>>, entry: &str) -> Result<(), String> {
    match names.into_iter().find(|c| !is_condition(c.as_ref())) {
        Some(c) => Err(format!("{entry}: unknown condition {}", c.as_ref())),
        None => Ok(()),
    }
}

/// What an entry undoes it does up again, later; and no two of its steps have one id.
fn check_done_up(steps: &[&StepRule], entry: &str) -> Result<(), String> {
    for (n, s) in steps.iter().enumerate() {
        let later = &steps[n + 1..];
        if later.iter().any(|o| o.id == s.id) {
            return Err(format!("{entry}: two steps are called {}", s.id));
        }
        let follows = |roles: &[Role]| later.iter().any(|o| roles.contains(&o.role));
        let is_done_up = match s.role {
            Role::Unfasten => {
                let by =
                    |o: &&&StepRule, f: &String| matches!(o.role, Role::Fasten | Role::Torque | Role::Lock) && o.f.contains(f);
                s.f.iter().all(|f| later.iter().any(|o| by(&o, f)))
            }
            Role::Remove => follows(&[Role::Fit]),
            Role::PressOut => follows(&[Role::PressIn]),
            Role::Disconnect => follows(&[Role::Restore, Role::Fit]),
            Role::Drain => follows(&[Role::Fill]),
            _ => true,
        };
        if !is_done_up {
            return Err(format!("{entry}: step {}: what it undoes is not done up again", s.id));
        }
    }
    Ok(())
}

fn check_steps(steps: &[StepRule], fasteners: &BTreeMap<String, FastenerRule>, entry: &str) -> Result<(), String> {
    let is_odd = |f: &FastenerRule| !(1..=200).contains(&f.count) || f.drive.is_some_and(|d| !DRIVE_MM.contains(&d));
    if let Some((name, _)) = fasteners.iter().find(|(_, f)| is_odd(f)) {
        return Err(format!("{entry}: fasteners {name}: 1 to 200 of them, 3 to 120 mm across flats"));
    }
    for s in steps {
        let e = format!("{entry}: step {}", s.id);
        let [low, likely, high] = s.minutes;
        if !(0.0 <= low && low <= likely && likely <= high && high <= MAX_STEP_MIN) {
            return Err(format!("{e}: minutes go from low to high, at most {MAX_STEP_MIN}"));
        }
        if s.wait.as_ref().is_some_and(|w| !(0.0..=MAX_WAIT_MIN).contains(&w.minutes)) {
            return Err(format!("{e}: a wait has 0 to {MAX_WAIT_MIN} minutes"));
        }
        if s.consumables.iter().any(|c| !(0.0..=MAX_AMOUNT).contains(&c.1)) {
            return Err(format!("{e}: an amount is 0 to {MAX_AMOUNT}"));
        }
        if let Some(f) = s.f.iter().find(|f| !fasteners.contains_key(*f)) {
            return Err(format!("{e}: unknown fasteners {f}"));
        }
        if let Some(c) = s.caution.iter().find(|c| !STEP_CAUTIONS.contains(&c.as_str())) {
            return Err(format!("{e}: unknown caution {c}"));
        }
        if let Some(n) = s.needs.iter().flatten().find(|n| !steps.iter().any(|o| o.id == **n)) {
            return Err(format!("{e}: needs {n}, which is no step beside it"));
        }
        if matches!(s.role, Role::Fasten | Role::Torque | Role::StartByHand | Role::Unfasten) && s.f.is_empty() {
            return Err(format!("{e}: names no fasteners"));
        }
        if (s.role == Role::Wait) != s.wait.is_some() {
            return Err(format!("{e}: a wait has its minutes, and nothing else has"));
        }
        if s.wait.as_ref().is_some_and(|w| !["soak", "cure", "settle", "cool"].contains(&w.kind.as_str())) {
            return Err(format!("{e}: a wait is soak, cure, settle or cool"));
        }
        // Words that would fit any part say nothing: a step names its place, and more than its role.
        let words = s.what.split_whitespace().count();
        if !s.what.contains("{at}") || words < 4 {
            return Err(format!("{e}: its words would fit any part"));
        }
        check_conditions(&s.when, &e)?;
    }
    Ok(())
}

/// What ships with the program.
pub fn shipped_procedures() -> &'static Arc<Procedures> {
    static SHIPPED_PROCEDURES: LazyLock<Arc<Procedures>> =
        LazyLock::new(|| Arc::new(Procedures::read(&SHIPPED).unwrap_or_else(|e| panic!("shipped procedures: {e}"))));
    &SHIPPED_PROCEDURES
}
