//! How the driveline stands at a point of a plan: what is off, what hangs, what is open, which wheels are chocked, which marks were made.

use super::repair_plan::RepairPlan;
use super::step::{On, Role, Step};
use std::collections::BTreeSet;

/// A driveline taken apart.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Teardown {
    /// Places that are off.
    pub off: BTreeSet<String>,
    /// Places that were parted and hang, tied up.
    pub hanging: BTreeSet<String>,
    /// Openings that were left, plugged.
    pub open: BTreeSet<String>,
    /// Units whose oil is out.
    pub drained: BTreeSet<String>,
    /// Places that carry index marks, in the order in which they were made: the first has one dot, the second two.
    pub marks: Vec<String>,
    /// Whether it is up.
    pub is_up: bool,
    /// Whether chocks lie at its wheels.
    pub is_chocked: bool,
}

impl Teardown {
    /// After these steps, in their order.
    pub fn after<'a>(steps: impl IntoIterator<Item = &'a Step>) -> Self {
        let mut t = Self::default();
        steps.into_iter().for_each(|s| t.step(s));
        t
    }

    /// At the point of a plan at which most is off.
    pub fn widest(plan: &RepairPlan) -> Self {
        let order: Vec<&Step> = plan.in_order().collect();
        let last_off = order.iter().rposition(|s| matches!(s.role, Role::Remove | Role::Part | Role::Drain));
        Self::after(order.into_iter().take(last_off.map_or(0, |n| n + 1)))
    }

    fn step(&mut self, s: &Step) {
        self.is_up = if s.bench { self.is_up } else { s.state.on == On::Lift };
        let at = || s.at.clone();
        match s.role {
            Role::Secure if s.state.on == On::Ground => self.is_chocked = true,
            Role::Mark if !self.marks.contains(&s.at) && !s.bench => self.marks.push(at()),
            Role::Remove => {
                self.hanging.remove(&s.at);
                self.off.insert(at());
                self.open.extend(s.opens.iter().cloned());
            }
            Role::Part => {
                self.hanging.insert(at());
            }
            Role::Drain => {
                self.drained.insert(at());
            }
            Role::Fill => {
                self.drained.remove(&s.at);
            }
            Role::Fit => {
                self.off.remove(&s.at);
                self.hanging.remove(&s.at);
                self.open.retain(|o| !crate::vehicle::is_part_of(o, &s.at));
            }
            Role::StandRun => self.is_chocked = false,
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::{Case, Repair};
    use crate::reasoning::knowledge::builtin;
    use crate::repair::procedures::shipped_procedures;
    use crate::repair::repair_plan::{Aim, repair_plan};
    use crate::vehicle::sample::{front_drive, rear_drive};

    fn plan(v: crate::vehicle::Vehicle, fault: &str, at: &str) -> RepairPlan {
        let mut case = Case::new("c", "Case", v);
        case.repairs.push_back(Repair { fault: fault.into(), at: Some(at.into()), ..Repair::default() });
        repair_plan(&case, builtin(), shipped_procedures(), Aim::Repair)
    }

    #[test]
    fn a_shaft_is_out_its_opening_plugged_and_its_marks_counted() {
        let p = plan(rear_drive(2), "joint-worn", "prop.rear.j2");
        let t = Teardown::widest(&p);
        assert!(t.off.contains("prop.rear") && t.open.contains("prop.rear.slip") && t.is_up && t.is_chocked);
        assert_eq!(t.marks, ["prop.rear.slip", "prop.rear.sb1", "prop.rear.j3"]);
        let end = Teardown::after(p.in_order());
        assert!(end.off.is_empty() && end.open.is_empty() && end.drained.is_empty() && !end.is_up && !end.is_chocked);
    }

    #[test]
    fn a_shaft_that_is_only_parted_hangs() {
        let t = Teardown::widest(&plan(rear_drive(2), "pinion-seal-leaking", "diff.rear"));
        assert!(t.hanging.contains("prop.rear.j3") && !t.off.contains("prop.rear") && t.drained.contains("diff.rear"));
        let t = Teardown::widest(&plan(front_drive(), "inner-joint-worn", "half.fl.inner"));
        assert!(t.off.contains("half.fl") && t.off.contains("wheel.fl") && t.hanging.contains("hub.fl"));
    }
}
