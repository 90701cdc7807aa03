//! Rules of what lies ready before the first bolt, and of when the vehicle must be handed back.

use super::act::{Deadline, NewKitNote};
use super::words::{known, note, sentence};
use super::{Applied, CaseEdit, EditContext};
use crate::case::{Case, KitNote};
use crate::error::Problem;
use crate::repair::repair_plan::{Aim, repair_plan};
use jiff::Timestamp;

/// Where something of the kit can be.
const STATES: [&str; 3] = ["here", "awaited", "borrowed"];

/// Something of the kit is awaited or borrowed; what is here, or went back, is not noted any more.
pub(super) fn note_kit(x: &EditContext, case: &mut Case, e: &CaseEdit, n: &NewKitNote) -> Result<Applied, Problem> {
    let what = sentence(&n.what, "what it is", "what")?.to_string();
    known(&n.state, &STATES, "unknown-state", "state")?;
    let is_noted = case.kit_notes.iter().any(|k| k.what == what);
    if !is_noted && !repair_plan(case, x.knowledge, Aim::Repair).kit.holds(&what) {
        return Err(Problem::new("unknown-item", format!("“{what}” is nothing of this repair's kit")).field("what"));
    }
    let (from, when) = (note(n.from.as_ref(), "from")?, note(n.when.as_ref(), "when")?);
    if n.state == "borrowed" && from.is_none() {
        return Err(Problem::new("missing", format!("who lends the {what}? It must go back to somebody")).field("from"));
    }
    case.kit_notes.retain(|k| k.what != what);
    if n.state == "here" {
        return Ok(Applied::words(format!("{what}: here")));
    }
    let id = e.entry_id();
    let told =
        KitNote { id: id.clone(), what: what.clone(), state: n.state.clone(), from, when, at_time: e.time(), by: e.person() };
    let words = format!("{what}: {}", told.words());
    case.kit_notes.push_back(told);
    Ok(Applied::made(words, id))
}

pub(super) fn set_deadline(case: &mut Case, d: &Deadline) -> Result<Applied, Problem> {
    let Some(due) = note(d.due.as_ref(), "due")? else {
        case.due = None;
        return Ok(Applied::words("to be handed back whenever it is ready"));
    };
    let unread = |_| Problem::new("bad-time", format!("“{due}” is no time: 2026-12-04T16:00:00Z")).field("due");
    let due: Timestamp = due.parse().map_err(unread)?;
    case.due = Some(due.to_string());
    Ok(Applied::words(format!("to be handed back by {}", due.strftime("%d.%m.%Y %H:%M UTC"))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::Repair;
    use crate::edit::apply;
    use crate::vehicle::sample::rear_drive;
    use serde_json::{Value, json};

    fn does(case: &mut Case, n: u32, act: Value) -> Result<Applied, Problem> {
        let edit = json!({"id": format!("0192f0c1-2a3b-7c4d-8e5f-{n:012}"), "at_time": "2026-11-30T08:00:00Z", "by": "Maren", "do": act});
        apply(case, &serde_json::from_value(edit).unwrap())
    }

    fn seal() -> Case {
        let mut case = Case::new("c", "Case", rear_drive(2));
        let fault = "pinion-seal-leaking".to_string();
        case.repairs.push_back(Repair { id: "P1".into(), fault, at: Some("diff.rear".into()), ..Repair::default() });
        case
    }

    #[test]
    fn what_is_awaited_or_has_no_figure_stops_the_first_bolt_unless_somebody_says_why_it_can_wait() {
        let mut case = seal();
        let ready =
            |without: Option<&str>| json!({"finish-steps": {"id": "P1", "steps": ["ready@diff.rear"], "without": without}});
        does(
            &mut case,
            1,
            json!({"note-kit": {"what": "pinion seal", "state": "awaited", "from": "the north store", "when": "Thursday"}}),
        )
        .unwrap();
        let e = does(&mut case, 2, ready(None)).unwrap_err();
        assert_eq!(e.code, "not-ready");
        assert!(e.message.contains("pinion seal") && e.message.contains("the north store"), "{}", e.message);
        assert!(e.message.contains("torque of the pinion nut"), "{}", e.message);
        assert_eq!(does(&mut case, 3, ready(Some(" "))).unwrap_err().code, "not-ready");
        does(&mut case, 4, ready(Some("the seal comes with the noon ferry"))).unwrap();
        assert_eq!(case.repairs[0].done[0].without.as_deref(), Some("the seal comes with the noon ferry"));
        // Once all is answered no reason is asked for, and none is kept.
        let mut case = seal();
        let plan = repair_plan(&case, crate::reasoning::knowledge::builtin(), Aim::Repair);
        let rows: Vec<Value> = plan
            .kit
            .unanswered_fasteners()
            .into_iter()
            .map(|f| json!({"what": f.what, "nm": 60.0, "source": "manual, p. 2", "drive_mm": 13.0}))
            .collect();
        does(&mut case, 1, json!({"plan-repair": {"id": "P1", "torques": rows}})).unwrap();
        does(&mut case, 2, ready(Some("no need"))).unwrap();
        assert_eq!(case.repairs[0].done[0].without, None);
    }

    #[test]
    fn a_borrowed_tool_has_a_lender_and_goes_back() {
        let mut case = seal();
        let of =
            |state: &str, from: Option<&str>| json!({"note-kit": {"what": "flange holding bar", "state": state, "from": from}});
        assert_eq!(does(&mut case, 1, of("borrowed", None)).unwrap_err().field.as_deref(), Some("from"));
        assert_eq!(does(&mut case, 2, of("lost", None)).unwrap_err().code, "unknown-state");
        let unknown = json!({"note-kit": {"what": "anvil", "state": "awaited"}});
        assert_eq!(does(&mut case, 3, unknown).unwrap_err().code, "unknown-item");
        does(&mut case, 4, of("awaited", None)).unwrap();
        does(&mut case, 5, of("borrowed", Some("the ferry yard"))).unwrap();
        let kit = repair_plan(&case, crate::reasoning::knowledge::builtin(), Aim::Repair).kit;
        assert!(kit.awaited.is_empty() && kit.borrowed[0].from.as_deref() == Some("the ferry yard"));
        does(&mut case, 6, of("here", None)).unwrap();
        assert!(case.kit_notes.is_empty());
    }

    #[test]
    fn a_deadline_is_a_time_or_none() {
        let mut case = seal();
        does(&mut case, 1, json!({"set-deadline": {"due": "2026-12-04T16:00:00Z"}})).unwrap();
        assert_eq!(case.due.as_deref(), Some("2026-12-04T16:00:00Z"));
        assert_eq!(does(&mut case, 2, json!({"set-deadline": {"due": "Friday"}})).unwrap_err().field.as_deref(), Some("due"));
        does(&mut case, 3, json!({"set-deadline": {}})).unwrap();
        assert_eq!(case.due, None);
    }
}
