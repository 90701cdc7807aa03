//! Put back unrepaired: what is off goes on again as it was. Of each list of steps only that stays which undoes what was done.

use super::step::{Role, Step};
use super::step_graph::StepGraph;
use std::collections::BTreeSet;

/// Whether a step takes something away that another step has to put back.
fn opens_work(r: Role) -> bool {
    matches!(r, Role::Unfasten | Role::Remove | Role::PressOut | Role::Part | Role::Drain | Role::Disconnect)
}

/// The steps of a unit or of a repair that are done.
struct Done<'a>(Vec<&'a Step>);

impl Done<'_> {
    fn was(&self, role: Role) -> bool {
        self.0.iter().any(|s| s.role == role)
    }

    fn loosened(&self, step: &Step) -> bool {
        let holds = |s: &&&Step| s.role == Role::Unfasten && s.at == step.at;
        self.0.iter().filter(holds).any(|s| s.fasteners.iter().any(|f| step.fasteners.iter().any(|o| o.what == f.what)))
    }

    /// Whether a step that is left puts back something that these took away.
    fn are_undone_by(&self, step: &Step) -> bool {
        let is_out = self.was(Role::Remove) || self.was(Role::Part) || self.was(Role::PressOut);
        let is_drained = self.was(Role::Drain);
        match step.role {
            r if opens_work(r) => false,
            Role::StartByHand | Role::Torque | Role::Lock => self.loosened(step),
            Role::PressIn => self.was(Role::PressOut),
            Role::Fit => self.was(Role::Remove) || self.was(Role::Part),
            Role::Restore => self.was(Role::Disconnect) || is_out,
            Role::Fill => is_drained,
            Role::Level => is_drained || is_out,
            Role::Wait => (is_out || is_drained) && step.wait.as_ref().is_none_or(|w| w.kind != "soak"),
            Role::Read => is_out && self.0.iter().any(|s| s.role == Role::Read && s.at == step.at && s.reads == step.reads),
            Role::CheckPart | Role::Mark | Role::Photo | Role::Support | Role::Secure => false,
            _ => is_out,
        }
    }
}

/// What is not done when all is put back: what is not off yet, and what would put on what is still on, or repair it.
pub(super) fn not_put_back(g: &StepGraph, done: &BTreeSet<usize>) -> BTreeSet<usize> {
    let mut out = BTreeSet::new();
    let of_units = g.units.iter().map(|u| (u.apart.clone(), [&u.apart[..], &u.together[..]].concat()));
    let of_jobs = g.jobs.iter().map(|j| (j.steps.clone(), j.steps.clone()));
    for (apart, all) in of_units.chain(of_jobs) {
        let undone = Done(apart.iter().filter(|s| done.contains(s)).map(|s| &g.steps[*s]).collect());
        out.extend(all.into_iter().filter(|s| !done.contains(s) && !undone.are_undone_by(&g.steps[*s])));
    }
    out
}

#[cfg(test)]
mod tests {
    use crate::case::{Case, Repair, StepDone};
    use crate::reasoning::knowledge::builtin;
    use crate::repair::repair_plan::{Aim, repair_plan};
    use crate::repair::step::Role;
    use crate::vehicle::sample::rear_drive;

    /// What is left to put back once the steps up to one of an id are done: ids.
    fn left_after(last: &str) -> Vec<String> {
        let mut case = Case::new("c", "Case", rear_drive(2));
        case.repairs.push_back(Repair {
            fault: "support-bearing-worn".into(),
            at: Some("prop.rear.sb1".into()),
            ..Repair::default()
        });
        let order = repair_plan(&case, builtin(), Aim::Repair).schedule.order;
        let until = order.iter().position(|id| id.starts_with(last)).unwrap();
        for id in &order[..=until] {
            case.repairs[0].done.push(StepDone { step: id.clone(), ..StepDone::default() });
        }
        let p = repair_plan(&case, builtin(), Aim::PutBack);
        assert!(p.steps.iter().all(|s| !matches!(s.role, Role::Remove | Role::Unfasten | Role::CheckPart)));
        p.schedule.order
    }

    #[test]
    fn only_what_was_undone_is_done_up_again() {
        let has = |ids: &[String], name: &str| ids.iter().any(|id| id.starts_with(name));
        // Marked only: nothing of the shaft is left to do.
        let ids = left_after("prop.mark-last");
        assert!(!has(&ids, "prop.") && !has(&ids, "support-bearing"), "{ids:?}");
        // The flange is loose: its bolts go back in; nothing was fitted.
        let ids = left_after("prop.last@");
        assert!(has(&ids, "prop.torque-last") && !has(&ids, "prop.on-tail") && !has(&ids, "prop.torque-mid"), "{ids:?}");
        // The shaft is out, the yoke's nut is off, the bearing is still on.
        let ids = left_after("support-bearing.nut");
        assert!(
            has(&ids, "prop.on-tail") && has(&ids, "support-bearing.nut-on") && !has(&ids, "support-bearing.new-in"),
            "{ids:?}"
        );
        // The bearing is off: it is pressed on again.
        assert!(has(&left_after("support-bearing.old-out"), "support-bearing.new-in"));
    }
}
