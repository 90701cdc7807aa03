//! What must lie ready before the first bolt: tools with their sizes, consumables, parts used once, figures that are missing.

use super::step::{Consumable, Fastener, On, Role, Step};
use crate::case::{Case, KitNote};
use crate::units::sixteenths;
use crate::vehicle::Vehicle;
use serde::Serialize;

/// A tool.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Tool {
    /// What.
    pub what: String,
    /// Width across flats, mm.
    pub mm: Option<f64>,
    /// The nearest inch size: it fits where the other is meant, or nearly.
    pub inch: Option<String>,
    /// Not everybody has it.
    pub special: bool,
}

/// A part that is bought.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct SingleUse {
    /// What.
    pub what: String,
    /// How many.
    pub count: u32,
    /// Where.
    pub at: String,
}

/// A figure that nobody has looked up.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct MissingFigure {
    /// The step that needs it.
    pub step: String,
    /// Of what.
    pub what: String,
}

/// Room that must be free.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Space {
    /// What.
    pub what: String,
    /// For how many likely minutes of hands-on work.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub minutes: Option<f64>,
    /// For a part of which length, mm.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub length_mm: Option<f64>,
}

/// Something that is not simply here.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Elsewhere {
    /// What.
    pub what: String,
    /// Who sends or lends it.
    pub from: Option<String>,
    /// When it comes, or goes back.
    pub when: Option<String>,
}

/// A fastener of which something is not known, and is asked once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnansweredFastener {
    /// What.
    pub what: String,
    /// Whether its torque is missing.
    pub torque: bool,
    /// Whether its size is missing.
    pub size: bool,
}

/// Lowest and highest torque of the job.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct WrenchRange {
    /// N·m.
    pub from_nm: f64,
    /// N·m.
    pub to_nm: f64,
}

/// All that must lie ready.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Kit {
    /// Sockets by size, then the others.
    pub tools: Vec<Tool>,
    /// What is used up, summed.
    pub consumables: Vec<Consumable>,
    /// What is bought for the repairs.
    pub new_parts: Vec<SingleUse>,
    /// What is used once only.
    pub single_use: Vec<SingleUse>,
    /// Torques that nobody has looked up.
    pub missing_figures: Vec<MissingFigure>,
    /// Fasteners whose size is not usual: it is looked at once.
    pub missing_sizes: Vec<MissingFigure>,
    /// What is left over and goes to its own waste: old oil, cleaner.
    pub waste: Vec<Consumable>,
    /// The range of the torque wrench, where torques are known.
    pub wrench: Option<WrenchRange>,
    /// Room that must be free.
    pub space: Vec<Space>,
    /// What of it has not come yet.
    pub awaited: Vec<Elsewhere>,
    /// What of it goes back to somebody.
    pub borrowed: Vec<Elsewhere>,
}

/// Millimetres of an inch.
const MM_PER_INCH: f64 = 25.4;

/// The nearest size in sixteenths of an inch: 14 mm is 9/16, 24 mm 15/16.
///
/// ```
/// use baricord_core::repair::kit::nearest_inch;
/// assert_eq!((nearest_inch(14.0), nearest_inch(24.0)), ("9/16".to_string(), "15/16".to_string()));
/// assert_eq!(nearest_inch(19.0), "3/4");
/// ```
pub fn nearest_inch(mm: f64) -> String {
    sixteenths(mm / MM_PER_INCH)
}

/// The same part at the same place is bought once.
fn once(list: &mut Vec<SingleUse>, what: &str, count: u32, at: &str) {
    match list.iter_mut().find(|o| o.what == what && o.at == at) {
        Some(o) => o.count = o.count.max(count),
        None => list.push(SingleUse { what: what.into(), count, at: at.into() }),
    }
}

/// The same thing is one line with its sum.
fn add(list: &mut Vec<Consumable>, c: &Consumable) {
    match list.iter_mut().find(|o| o.what == c.what && o.unit == c.unit) {
        Some(o) => o.amount = ((o.amount + c.amount) * 1000.0).round() / 1000.0,
        None => list.push(c.clone()),
    }
}

/// Room that steps need: the lift, a bench for a long shaft, the floor under what is carried down.
fn space(v: &Vehicle, steps: &[Step]) -> Vec<Space> {
    let up: f64 = steps.iter().filter(|s| !s.bench && s.state.on == On::Lift).map(|s| s.minutes[1]).sum();
    let lift = (up > 0.0).then(|| {
        let is_level = steps.iter().any(|s| s.role == Role::Level);
        let what = if is_level { "lift, level when the oil is looked at" } else { "lift" };
        Space { what: what.into(), minutes: Some(up), length_mm: None }
    });
    let comes_out = |at: &str| steps.iter().any(|s| s.role == Role::Remove && s.at == at);
    let shafts = v.props.iter().filter(|p| comes_out(&format!("prop.{}", p.end.id()))).map(|p| Space {
        what: "bench or trestles for the propeller shaft".into(),
        minutes: None,
        length_mm: Some(p.sections.iter().map(|s| s.length_mm.0).sum()),
    });
    let mut carried: Vec<&str> = vec![];
    for s in steps.iter().filter(|s| s.role == Role::Support && s.caution.iter().any(|c| c == "heavy-unit")) {
        if !carried.contains(&s.at.as_str()) {
            carried.push(&s.at);
        }
    }
    let floor = carried.into_iter().map(|at| Space {
        what: format!("floor beside the lift for the {}", v.place_words(at)),
        minutes: None,
        length_mm: None,
    });
    lift.into_iter().chain(shafts).chain(floor).collect()
}

impl Kit {
    /// What steps of a case need.
    pub(super) fn of(case: &Case, steps: &[Step]) -> Self {
        let noted = |state: &str| {
            let elsewhere = |k: &KitNote| Elsewhere { what: k.what.clone(), from: k.from.clone(), when: k.when.clone() };
            case.kit_notes.iter().filter(|k| k.state == state).map(elsewhere).collect()
        };
        let mut kit = Self { space: space(&case.vehicle, steps), borrowed: noted("borrowed"), ..Self::default() };
        let mut sizes: Vec<f64> = steps.iter().flat_map(|s| &s.fasteners).filter_map(|f| f.drive_mm).collect();
        sizes.sort_by(f64::total_cmp);
        sizes.dedup();
        let socket = |mm: f64| Tool { what: "socket".into(), mm: Some(mm), inch: Some(nearest_inch(mm)), special: false };
        kit.tools = sizes.into_iter().map(socket).collect();
        if steps.iter().any(|s| s.role == Role::Torque) {
            kit.tool("torque wrench", false);
        }
        for s in steps {
            s.tools.iter().for_each(|t| kit.tool(t, false));
            s.special_tools.iter().for_each(|t| kit.tool(t, true));
            s.consumables.iter().for_each(|c| add(&mut kit.consumables, c));
            // What is filled in was run out before; cleaner is dirty after it.
            let is_left_over = |c: &&Consumable| s.role == Role::Fill || c.what == "cleaner";
            let used = |c: &Consumable| Consumable { what: format!("used {}", c.what), ..c.clone() };
            s.consumables.iter().filter(is_left_over).map(used).for_each(|c| add(&mut kit.waste, &c));
            s.new_parts.iter().for_each(|w| once(&mut kit.new_parts, w, 1, &s.at));
            s.single_use.iter().for_each(|w| once(&mut kit.single_use, w, 1, &s.at));
            let is_done_up = matches!(s.role, Role::Torque | Role::Lock | Role::Fill);
            s.fasteners.iter().filter(|f| f.renew && is_done_up).for_each(|f| once(&mut kit.single_use, &f.what, f.count, &s.at));
            kit.figures(s);
        }
        let torques = || steps.iter().flat_map(|s| &s.fasteners).filter_map(|f| f.torque_nm);
        kit.wrench =
            torques().reduce(f64::min).zip(torques().reduce(f64::max)).map(|(from_nm, to_nm)| WrenchRange { from_nm, to_nm });
        // What was awaited for work that is done or dropped holds nothing up.
        let awaited: Vec<Elsewhere> = noted("awaited");
        let awaited = awaited.into_iter().filter(|a| kit.holds(&a.what)).collect();
        kit.awaited = awaited;
        kit
    }

    /// Whether something of this name is part of it.
    pub fn holds(&self, what: &str) -> bool {
        self.tools.iter().any(|t| t.what == what)
            || self.new_parts.iter().any(|p| p.what == what)
            || self.single_use.iter().any(|p| p.what == what)
            || self.consumables.iter().any(|c| c.what == what)
    }

    /// Fasteners whose torque or size nobody has answered, each once.
    pub fn unanswered_fasteners(&self) -> Vec<UnansweredFastener> {
        let mut out: Vec<UnansweredFastener> = vec![];
        let torques = self.missing_figures.iter().map(|m| (m, true));
        for (m, is_torque) in torques.chain(self.missing_sizes.iter().map(|m| (m, false))) {
            match out.iter_mut().find(|f| f.what == m.what) {
                Some(f) => (f.torque, f.size) = (f.torque || is_torque, f.size || !is_torque),
                None => out.push(UnansweredFastener { what: m.what.clone(), torque: is_torque, size: !is_torque }),
            }
        }
        out
    }

    /// What stops the first bolt: what has not come, what nobody has looked up. Empty: all lies ready.
    pub fn not_ready(&self) -> Vec<String> {
        let awaited = self.awaited.iter().map(|a| match &a.from {
            Some(from) => format!("{} is awaited from {from}", a.what),
            None => format!("{} is awaited", a.what),
        });
        let unanswered = self.unanswered_fasteners();
        let listed = |kind: &str, is_it: fn(&UnansweredFastener) -> bool| {
            let of: Vec<String> = unanswered.iter().filter(|f| is_it(f)).map(|f| format!("the {}", f.what)).collect();
            (!of.is_empty()).then(|| format!("{kind} of {} not looked up", of.join(", ")))
        };
        awaited.chain(listed("torque", |f| f.torque)).chain(listed("size", |f| f.size)).collect()
    }

    fn figures(&mut self, s: &Step) {
        let missing = |f: &Fastener| MissingFigure { step: s.id.clone(), what: f.what.clone() };
        if matches!(s.role, Role::Torque | Role::Fill) {
            self.missing_figures.extend(s.fasteners.iter().filter(|f| f.torque_nm.is_none()).map(missing));
        }
        if s.role == Role::Torque {
            self.missing_sizes.extend(s.fasteners.iter().filter(|f| f.drive_mm.is_none()).map(missing));
        }
    }

    fn tool(&mut self, what: &str, special: bool) {
        if !self.tools.iter().any(|t| t.what == what) {
            self.tools.push(Tool { what: what.into(), mm: None, inch: None, special });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::{Case, Repair, Torque};
    use crate::reasoning::knowledge::builtin;
    use crate::repair::repair_plan::{Aim, repair_plan};
    use crate::vehicle::sample::rear_drive;

    #[test]
    fn what_must_lie_ready_is_counted_and_a_known_torque_is_not_missing() {
        let mut case = Case::new("c", "Case", rear_drive(2));
        let torque = Torque { what: "pinion nut".into(), nm: Some(180.0), source: "manual, p. 214".into(), drive_mm: None };
        case.repairs.push_back(Repair {
            fault: "pinion-seal-leaking".into(),
            at: Some("diff.rear".into()),
            torques: vec![torque],
            ..Repair::default()
        });
        let kit = repair_plan(&case, builtin(), Aim::Repair).kit;
        let has = |what: &str, count: u32| kit.single_use.iter().any(|x| x.what == what && x.count == count);
        assert!(has("pinion seal", 1) && has("pinion nut", 1) && has("flange bolts", 4) && has("drain plug washer", 1));
        let missing: Vec<&str> = kit.missing_figures.iter().map(|m| m.what.as_str()).collect();
        assert!(missing.contains(&"flange bolts") && !missing.contains(&"pinion nut"), "{missing:?}");
        assert_eq!(kit.wrench, Some(WrenchRange { from_nm: 180.0, to_nm: 180.0 }));
        assert_eq!(kit.waste.iter().map(|w| w.what.as_str()).collect::<Vec<_>>(), ["used gear oil"]);
        let socket = kit.tools.iter().find(|t| t.mm == Some(30.0)).unwrap();
        assert_eq!(socket.inch.as_deref(), Some("1 3/16"));
    }

    #[test]
    fn a_size_is_answered_once_for_every_step_and_its_socket_lies_ready() {
        let mut case = Case::new("c", "Case", crate::vehicle::sample::front_drive());
        let fault = "outer-joint-worn".to_string();
        case.repairs.push_back(Repair { fault, at: Some("half.fl.outer".into()), ..Repair::default() });
        let plan = |case: &Case| repair_plan(case, builtin(), Aim::Repair);
        let before = plan(&case);
        let nut = |f: &UnansweredFastener| f.what == "axle nut" && f.size;
        assert!(before.kit.unanswered_fasteners().iter().any(nut), "{:?}", before.kit.missing_sizes);
        assert!(before.kit.not_ready().iter().any(|w| w.starts_with("size of") && w.contains("the axle nut")));
        case.repairs[0].torques = vec![Torque { what: "axle nut".into(), nm: None, source: String::new(), drive_mm: Some(36.0) }];
        let then = plan(&case).kit;
        assert!(then.tools.iter().any(|t| t.mm == Some(36.0)) && !then.unanswered_fasteners().iter().any(nut));
        assert!(then.missing_figures.iter().any(|m| m.what == "axle nut"), "a size is no torque");
    }

    #[test]
    fn what_is_bought_is_on_the_kit_and_not_where_it_is_only_greased_or_refitted() {
        let kit = |task: Option<&str>, fault: &str, at: &str| {
            let mut case = Case::new("c", "Case", crate::vehicle::sample::front_drive());
            let task = task.map(String::from);
            case.repairs.push_back(Repair { fault: fault.into(), task, at: Some(at.into()), ..Repair::default() });
            let plan = repair_plan(&case, builtin(), Aim::Repair);
            assert!(plan.problems.is_empty(), "{:?}", plan.problems);
            plan.kit.new_parts.into_iter().map(|p| (p.what, p.count)).collect::<Vec<_>>()
        };
        assert_eq!(kit(None, "outer-joint-worn", "half.fl.outer"), [("outer joint".to_string(), 1)]);
        assert_eq!(kit(Some("replace"), "", "hub.fl"), [("wheel bearing".to_string(), 1)]);
        assert_eq!(kit(Some("grease"), "", "half.fl.outer"), []);
        assert_eq!(kit(None, "clutch-slipping", "clutch").len(), 3);
    }

    #[test]
    fn room_is_counted_for_the_lift_a_long_shaft_and_what_is_carried_down() {
        let plan = |v: Vehicle, fault: &str, at: &str| {
            let mut case = Case::new("c", "Case", v);
            case.repairs.push_back(Repair { fault: fault.into(), at: Some(at.into()), ..Repair::default() });
            repair_plan(&case, builtin(), Aim::Repair)
        };
        let joint = plan(rear_drive(2), "joint-worn", "prop.rear.j2");
        let up: f64 = joint.steps.iter().filter(|s| !s.bench && s.state.on == On::Lift).map(|s| s.minutes[1]).sum();
        assert_eq!(joint.kit.space[0].minutes, Some(up));
        let bench = joint.kit.space.iter().find(|s| s.length_mm.is_some()).unwrap();
        let length: f64 = rear_drive(2).props[0].sections.iter().map(|s| s.length_mm.0).sum();
        assert_eq!(bench.length_mm, Some(length));
        let gearbox = plan(rear_drive(2), "gearbox-input-bearing", "gearbox");
        assert!(
            gearbox.kit.space.iter().any(|s| s.what.contains("floor") && s.what.contains("gearbox")),
            "{:?}",
            gearbox.kit.space
        );
    }
}
