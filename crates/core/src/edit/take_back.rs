//! What was done is taken back: by an edit that names it. What it changed goes back to what it was; what somebody has changed since, or
//! has built on it, keeps it.

use super::act::TakenBack;
use super::{Applied, CaseEdit};
use crate::case::Case;
use crate::case::document::written;
use crate::case::patch::{Change, overlap, part, put};
use crate::error::{Problem, read_json};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use uuid::Uuid;

/// Something that was done to a case.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PastEdit {
    /// Id of the edit.
    pub id: Uuid,
    /// Its number in the case.
    pub sequence: i64,
    /// Who did it.
    pub by: String,
    /// What, in words.
    pub words: String,
    /// What it changed; none of what was done before changes were kept one by one.
    pub changes: Option<Vec<Change>>,
    /// The edit that it takes back, where it does.
    pub takes_back: Option<Uuid>,
}

/// The state of the vehicle goes with an answer; it is put back where nobody has said otherwise since.
fn goes_along(path: &[String]) -> bool {
    path.first().is_some_and(|key| key == "state")
}

/// The edits of a history that stand: not taken back, and taking nothing back.
pub fn standing(past: &[PastEdit]) -> impl Iterator<Item = &PastEdit> {
    let is_back = move |id: Uuid| past.iter().any(|p| p.takes_back == Some(id));
    past.iter().filter(move |p| p.takes_back.is_none() && !is_back(p.id))
}

/// What names something that is not there: a symptom or a repair, by whom it is named.
pub(super) fn dangling(case: &Case) -> Vec<String> {
    let symptoms = |named: Option<&String>| named.is_some_and(|s| case.symptom(s).is_none());
    let repairs = |named: Option<&String>| named.is_some_and(|r| !case.repairs.iter().any(|x| x.id == *r));
    let mut out = vec![];
    let mut tell = |is: bool, what: String| {
        if is {
            out.push(what);
        }
    };
    case.observations.iter().for_each(|o| tell(symptoms(o.symptom.as_ref()) || repairs(o.repair.as_ref()), "an answer".into()));
    case.votes.iter().for_each(|v| tell(symptoms(v.question.symptom.as_ref()), "a blind answer".into()));
    case.measurements.iter().for_each(|m| tell(symptoms(m.symptom.as_ref()) || repairs(m.repair.as_ref()), "a reading".into()));
    case.recordings.iter().for_each(|r| tell(symptoms(r.symptom.as_ref()), format!("run {}", r.id)));
    case.repairs.iter().for_each(|r| tell(symptoms(r.symptom.as_ref()), "a repair".into()));
    out
}

/// Puts back what stood at the changed parts; parts of the vehicle's state that were changed since stay.
fn put_back(case: &Case, changes: &[Change], since: &[&PastEdit]) -> Result<Case, Problem> {
    let mut v: Value = written(case);
    let changed_since = |c: &Change| since.iter().any(|p| p.changes.iter().flatten().any(|x| overlap(&x.path, &c.path)));
    for c in changes.iter().rev().filter(|c| !(goes_along(&c.path) && changed_since(c))) {
        let now = part(&v, &c.path).cloned();
        put(&mut v, &c.path, now.as_ref(), c.before.as_ref(), c.place);
    }
    read_json(&v)
}

pub(super) fn take_back(past: &[PastEdit], case: &mut Case, e: &CaseEdit, t: &TakenBack) -> Result<Applied, Problem> {
    let refused = |code: &str, message: String| Err(Problem::new(code, message).field("event"));
    let Some(one) = past.iter().find(|p| p.id == t.event) else {
        return refused("missing", "this case has no such change".into());
    };
    if past.iter().any(|p| p.takes_back == Some(one.id)) {
        return refused("taken-back", format!("“{}” was taken back already", one.words));
    }
    if one.takes_back.is_some() {
        return refused("taken-back", "an undo is not undone: enter it again".into());
    }
    let Some(changes) = &one.changes else {
        let message = format!("“{}” is from before single changes could be undone: correct it where it stands", one.words);
        return refused("before-border", message);
    };
    if one.by != e.by && !t.of_another {
        return refused("another-person", format!("{} did this: “{}”. Take it back all the same?", one.by, one.words));
    }
    let since: Vec<&PastEdit> = standing(past).filter(|p| p.sequence > one.sequence).collect();
    let builds_on = |p: &&&PastEdit| {
        let own = changes.iter().filter(|c| !goes_along(&c.path));
        own.into_iter().any(|c| p.changes.iter().flatten().any(|x| overlap(&x.path, &c.path)))
    };
    if let Some(later) = since.iter().find(builds_on) {
        let message = format!("“{}” ({}) came after it and needs it: take that back first", later.words, later.by);
        return refused("needed", message);
    }
    let next = put_back(case, changes, &since)?;
    let (before, after) = (dangling(case), dangling(&next));
    if let Some(named) = after.iter().find(|d| !before.contains(d)).or(after.get(before.len())) {
        return refused("needed", format!("{named} belongs to it: take that back first"));
    }
    *case = next;
    // What another attempt says as well stays.
    super::complaint::count_earlier_work(case);
    Ok(Applied::words(format!("took back: {}", one.words)))
}
