//! Rules of what happens to the vehicle itself, and of sounds, pictures and recordings.

use super::act::{ComparedSounds, Levels, NewAttachment, On, PartsOff, Standing, Warmth};
use super::words::{need_gear, need_place, need_symptom};
use super::{Applied, CaseEdit, EditContext};
use crate::case::{Attachment, Case, Compared, Heard, RecordingSpec};
use crate::error::Problem;
use crate::lift::sound_localisation::{level_sounds, new_levels};
use crate::lift::vehicle_state::{driven, removable_parts, warm_until};
use crate::safety::cautions::require_checks;

pub(super) fn attach(case: &mut Case, e: &CaseEdit, a: &NewAttachment) -> Result<Applied, Problem> {
    let name = a.file.strip_prefix("pinned/").filter(|n| !n.is_empty() && !n.contains(['/', '\\']) && !n.starts_with('.'));
    name.ok_or_else(|| Problem::new("bad-value", "a picture or a note stands under pinned/").field("file"))?;
    if case.pinned.iter().any(|p| p.file == a.file) {
        return Err(Problem::new("duplicate", format!("{} is there already", a.file)).field("file"));
    }
    let id = e.entry_id();
    case.pinned.push_back(Attachment {
        id: id.clone(),
        file: a.file.clone(),
        test: a.test.clone(),
        at: a.at.clone(),
        by: e.by.clone(),
        at_time: e.time(),
    });
    Ok(Applied::made(if a.picture { "a picture was kept" } else { "a spoken note was kept" }, id))
}

pub(super) fn stand(case: &mut Case, s: Standing) -> Result<Applied, Problem> {
    let (on, words) = match s.on {
        On::Ground => ("ground", "on the ground"),
        On::Lift => ("lift", "on the lift"),
    };
    case.state.get_or_insert_default().on = Some(on.into());
    Ok(Applied::words(words))
}

/// What is off now: what a test needs that is off already costs nothing more.
pub(super) fn set_parts_off(x: &EditContext, case: &mut Case, p: &PartsOff) -> Result<Applied, Problem> {
    let may: Vec<String> = removable_parts(case, x.knowledge).into_iter().map(|p| p.0.id).collect();
    if let Some(odd) = p.off.iter().find(|o| !may.contains(o)) {
        return Err(Problem::new("unknown-place", format!("“{odd}” does not come off this vehicle")).field("off"));
    }
    let words: Vec<String> = p.off.iter().map(|o| case.vehicle.place_words(o)).collect();
    let off = &mut case.state.get_or_insert_default().off;
    // What else stands there came with the case and stays.
    off.retain(|o| !may.contains(o) || p.off.contains(o));
    let new: Vec<String> = p.off.iter().filter(|o| !off.contains(o)).cloned().collect();
    off.extend(new);
    Ok(Applied::words(format!("off now: {}", if words.is_empty() { "nothing".into() } else { words.join(", ") })))
}

pub(super) fn set_warm(x: &EditContext, case: &mut Case, e: &CaseEdit, w: Warmth) -> Result<Applied, Problem> {
    case.state.get_or_insert_default().warm_until = w.warm.then(|| warm_until(x.knowledge, e.at_time));
    Ok(Applied::words(if w.warm { "warm from the road" } else { "has cooled" }))
}

pub(super) fn drove(x: &EditContext, case: &mut Case, e: &CaseEdit) -> Result<Applied, Problem> {
    driven(case, &warm_until(x.knowledge, e.at_time));
    Ok(Applied::words("back from a drive"))
}

pub(super) fn listen(x: &EditContext, case: &mut Case, e: &CaseEdit, l: &Levels) -> Result<Applied, Problem> {
    let missing = || Problem::new("missing", "a level at one place at least").field("level");
    let rule = x.knowledge.levels_test().ok_or_else(missing)?;
    if l.levels.is_empty() {
        return Err(missing());
    }
    for level in &l.levels {
        need_place(case, Some(&level.at))?;
        let (from, to) = level.unit.range();
        if !(from..=to).contains(&level.level) {
            let message = format!("a level lies from {from} to {to} {}", level.unit.words());
            return Err(Problem::new("out-of-range", message).field(&level.at));
        }
    }
    require_checks(case, rule, &l.seen_to)?;
    let new = new_levels(case, &l.levels);
    for (n, level) in new.iter().enumerate() {
        let id = if n == 0 { e.entry_id() } else { format!("{}.{}", e.entry_id(), n + 1) };
        case.listened.push_back(Heard {
            id,
            at: level.at.clone(),
            level: level.level,
            unit: level.unit,
            by: e.by.clone(),
            at_time: e.time(),
        });
    }
    Ok(Applied::words(format!("listened at {} places", new.len())))
}

/// Which of two was louder, its place not known to who listened.
pub(super) fn compare_sounds(x: &EditContext, case: &mut Case, e: &CaseEdit, c: &ComparedSounds) -> Result<Applied, Problem> {
    let place = |file: &str| level_sounds(case, x.knowledge).find(|p| p.file == file).and_then(|p| p.at.clone());
    let (Some(louder), Some(quieter)) = (place(&c.louder), place(&c.quieter)) else {
        return Err(Problem::new("missing", "these sounds are not there any more").field("louder"));
    };
    if louder == quieter || case.vehicle.place(&louder).is_none() {
        return Err(Problem::new("bad-value", "two sounds of two places").field("louder"));
    }
    let id = e.entry_id();
    case.compared.push_back(Compared { id: id.clone(), louder, quieter, by: e.by.clone(), at_time: e.time() });
    Ok(Applied::made("two sounds compared blind", id))
}

pub(super) fn add_recording(case: &mut Case, e: &CaseEdit, r: &RecordingSpec) -> Result<Applied, Problem> {
    need_symptom(case, r.symptom.as_deref())?;
    need_gear(case, r.fixed_gear())?;
    case.recordings.push_back(RecordingSpec { at_time: r.at_time.clone().or(e.time()), ..r.clone() });
    let words = match r.is_simulated() {
        true => format!("recorded {}", r.words()),
        false => format!("loaded {}", r.words()),
    };
    Ok(Applied::made(words, r.id.clone()))
}
