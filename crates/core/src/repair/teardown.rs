//! How the driveline stands at a point of a plan: what is off, what hangs, what is open, which wheels are chocked, which marks were made.

use super::drive_steps::chocked_wheels;
use super::repair_plan::RepairPlan;
use super::step::{On, Role, Step};
use crate::vehicle::Vehicle;
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
    /// Places along the shafts that carry index marks, in the order in which they were made: the first has one dot, the second two.
    pub marks: Vec<String>,
    /// Whether it is up.
    pub is_up: bool,
    /// Wheels at which chocks lie.
    pub chocked: BTreeSet<String>,
}

impl Teardown {
    /// After those of a plan's steps that are done, in their order.
    pub fn after(v: &Vehicle, plan: &RepairPlan, is_done: impl Fn(&Step) -> bool) -> Self {
        let mut t = Self::default();
        plan.in_order().filter(|s| is_done(s)).for_each(|s| t.step(v, plan, s));
        t
    }

    /// At the point of a plan at which most is off; the last of several.
    pub fn widest(v: &Vehicle, plan: &RepairPlan) -> Self {
        let (mut now, mut widest) = (Self::default(), Self::default());
        let size = |t: &Self| t.off.len() + t.hanging.len() + t.drained.len();
        for s in plan.in_order() {
            now.step(v, plan, s);
            if size(&now) >= size(&widest) && size(&now) > 0 {
                widest = now.clone();
            }
        }
        widest
    }

    fn step(&mut self, v: &Vehicle, plan: &RepairPlan, s: &Step) {
        self.is_up = if s.bench { self.is_up } else { s.state.on == On::Lift };
        let at = || s.at.clone();
        match s.role {
            Role::Secure if s.state.on == On::Ground => self.chocked = chocked_wheels(v, &plan.steps).into_iter().collect(),
            // A different count at each position of a shaft.
            Role::Mark if !s.bench && is_on_shaft(&s.at) && !self.marks.contains(&s.at) => self.marks.push(at()),
            Role::Remove => {
                self.hanging.retain(|h| !crate::vehicle::is_part_of(h, &s.at));
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
            Role::StandRun => self.chocked.clear(),
            _ => {}
        }
    }
}

/// Whether a mark there belongs to the row of marks along a propeller shaft.
fn is_on_shaft(at: &str) -> bool {
    at.starts_with("prop.") || at == "coupler"
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::{Case, Repair};
    use crate::reasoning::knowledge::builtin;
    use crate::repair::repair_plan::{Aim, repair_plan};
    use crate::vehicle::sample::{front_drive, rear_drive};

    fn plan(v: Vehicle, fault: &str, at: &str) -> RepairPlan {
        let mut case = Case::new("c", "Case", v);
        case.repairs.push_back(Repair { fault: fault.into(), at: Some(at.into()), ..Repair::default() });
        repair_plan(&case, builtin(), Aim::Repair)
    }

    #[test]
    fn a_shaft_is_out_its_opening_plugged_and_its_marks_counted() {
        let p = plan(rear_drive(2), "joint-worn", "prop.rear.j2");
        let v = rear_drive(2);
        let t = Teardown::widest(&v, &p);
        assert!(t.off.contains("prop.rear") && t.open.contains("prop.rear.slip") && t.is_up && !t.chocked.is_empty());
        assert!(t.hanging.is_empty());
        assert_eq!(t.marks, ["prop.rear.slip", "prop.rear.sb1", "prop.rear.j3"]);
        let end = Teardown::after(&v, &p, |_| true);
        assert!(end.off.is_empty() && end.open.is_empty() && end.drained.is_empty() && !end.is_up && end.chocked.is_empty());
    }

    #[test]
    fn a_shaft_that_is_only_parted_hangs() {
        let t = Teardown::widest(&rear_drive(2), &plan(rear_drive(2), "pinion-seal-leaking", "diff.rear"));
        assert!(t.hanging.contains("prop.rear.j3") && !t.off.contains("prop.rear") && t.drained.contains("diff.rear"));
        let t = Teardown::widest(&front_drive(), &plan(front_drive(), "inner-joint-worn", "half.fl.inner"));
        // What stays down is chocked, not what comes off.
        assert!(!t.chocked.contains("wheel.fl") && t.chocked.contains("wheel.rr"));
        assert!(t.off.contains("half.fl") && t.off.contains("wheel.fl") && t.hanging.contains("hub.fl"));
    }
}
