//! What must lie ready before the first bolt: tools with their sizes, consumables, parts used once, figures that are missing.

use super::step::{Consumable, Fastener, Role, Step};
use crate::units::sixteenths;
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

/// A part that is used once.
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

/// The same thing is one line with its sum.
fn add(list: &mut Vec<Consumable>, c: &Consumable) {
    match list.iter_mut().find(|o| o.what == c.what && o.unit == c.unit) {
        Some(o) => o.amount = ((o.amount + c.amount) * 1000.0).round() / 1000.0,
        None => list.push(c.clone()),
    }
}

impl Kit {
    /// What steps need.
    pub(super) fn of(steps: &[Step]) -> Self {
        let mut kit = Self::default();
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
            s.single_use.iter().for_each(|w| kit.once(w, 1, &s.at));
            let is_done_up = matches!(s.role, Role::Torque | Role::Lock | Role::Fill);
            s.fasteners.iter().filter(|f| f.renew && is_done_up).for_each(|f| kit.once(&f.what, f.count, &s.at));
            kit.figures(s);
        }
        let torques = || steps.iter().flat_map(|s| &s.fasteners).filter_map(|f| f.torque_nm);
        kit.wrench =
            torques().reduce(f64::min).zip(torques().reduce(f64::max)).map(|(from_nm, to_nm)| WrenchRange { from_nm, to_nm });
        kit
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

    fn once(&mut self, what: &str, count: u32, at: &str) {
        match self.single_use.iter_mut().find(|o| o.what == what && o.at == at) {
            Some(o) => o.count = o.count.max(count),
            None => self.single_use.push(SingleUse { what: what.into(), count, at: at.into() }),
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
        let torque = Torque { what: "pinion nut".into(), nm: Some(180.0), source: "manual, p. 214".into() };
        case.repairs.push_back(Repair {
            fault: "pinion-seal-leaking".into(),
            at: Some("diff.rear".into()),
            torques: vec![torque],
            ..Repair::default()
        });
        let kit = repair_plan(&case, builtin(), Aim::Repair).kit;
        let has = |what: &str, count: u32| kit.single_use.iter().any(|x| x.what == what && x.count == count);
        assert!(has("pinion seal", 1) && has("pinion nut", 1) && has("flange bolts", 4) && has("drain plug", 1));
        let missing: Vec<&str> = kit.missing_figures.iter().map(|m| m.what.as_str()).collect();
        assert!(missing.contains(&"flange bolts") && !missing.contains(&"pinion nut"), "{missing:?}");
        assert_eq!(kit.wrench, Some(WrenchRange { from_nm: 180.0, to_nm: 180.0 }));
        assert_eq!(kit.waste.iter().map(|w| w.what.as_str()).collect::<Vec<_>>(), ["used gear oil"]);
        let socket = kit.tools.iter().find(|t| t.mm == Some(30.0)).unwrap();
        assert_eq!(socket.inch.as_deref(), Some("1 3/16"));
    }
}
