//! How things are taken apart and put together, entry by entry, and how this workshop does it itself, with the school it follows and why.

use crate::App;
use crate::auth::Member;
use crate::error::PageError;
use crate::knowledge::change_overrides;
use crate::stations::form::{FormFields, count_of, number_of};
use crate::wording::segment;

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::Query;
use axum::response::Redirect;
use axum::routing::get;
use axum::{Form, Router};
use baricord_core::error::Problem;
use baricord_core::permission::Act;
use baricord_core::repair::entry_form::{ADDED_ROLES, AddedStep, EntryFastener, EntryForm, EntryStep, list_words};
use baricord_core::repair::own_procedures::{
    OwnProcedure, another_way, entry_text, entry_words, left_out, shipped_entries, stands_over,
};
use baricord_core::repair::procedures::STEP_CAUTIONS;
use baricord_core::typed_input::across_flats_mm;
use serde::Deserialize;
use std::collections::BTreeSet;

/// A step of a form.
struct StepFields {
    /// Its list and its id.
    name: String,
    what: String,
    minutes: [f64; 3],
}

/// Fasteners of a form.
struct FastenerFields {
    name: String,
    what: String,
    count: u32,
    drive: String,
    renew: bool,
}

/// An entry that is opened.
struct OpenEntry {
    key: String,
    words: String,
    /// What each list of steps is called, and its steps.
    lists: Vec<(&'static str, Vec<StepFields>)>,
    fasteners: Vec<FastenerFields>,
    text: String,
    school: String,
    why: String,
    is_own: bool,
    /// Why it is not worked by, where it does not read.
    left_out: Option<String>,
    /// Whether it stands beside one that ships.
    is_added: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "procedures.html")]
struct ProceduresPage {
    theme: String,
    person: String,
    can_write: bool,
    /// Key, words, whether the workshop has its own.
    units: Vec<(String, String, bool)>,
    works: Vec<(String, String, bool)>,
    /// Key and words of ways beside those that ship.
    added: Vec<(String, String)>,
    open: Option<OpenEntry>,
    roles: [(&'static str, &'static str); 7],
    cautions: Vec<(&'static str, String)>,
}

#[derive(Debug, Deserialize)]
struct Which {
    #[serde(default)]
    e: Option<String>,
}

/// What a form shows of an entry.
fn fields(form: &EntryForm) -> (Vec<(&'static str, Vec<StepFields>)>, Vec<FastenerFields>) {
    let mut lists: Vec<(&'static str, Vec<StepFields>)> = vec![];
    for s in &form.steps {
        let step = StepFields { name: format!("{}/{}", s.list, s.id), what: s.what.clone(), minutes: s.minutes };
        match lists.last_mut() {
            Some((words, steps)) if *words == list_words(&s.list) => steps.push(step),
            _ => lists.push((list_words(&s.list), vec![step])),
        }
    }
    let fastener = |f: &EntryFastener| FastenerFields {
        name: f.name.clone(),
        what: f.what.clone(),
        count: f.count,
        drive: f.drive.map_or(String::new(), |mm| mm.to_string()),
        renew: f.renew,
    };
    (lists, form.fasteners.iter().map(fastener).collect())
}

/// List and step, as a field names them.
fn list_and_step(name: &str) -> Result<(String, String), Problem> {
    let unread = || Problem::new("unknown-step", format!("there is no step {name} in this entry")).field("step");
    name.split_once('/').map(|(list, id)| (list.to_string(), id.to_string())).ok_or_else(unread)
}

/// What a form says of an entry: each step begins with its name, each kind of fasteners with theirs.
fn entry_of(f: &FormFields) -> Result<(EntryForm, Option<AddedStep>), Problem> {
    let mut form = EntryForm::default();
    let mut out: BTreeSet<(String, String)> = BTreeSet::new();
    for (name, text) in &f.fields {
        match name.as_str() {
            "step" => {
                let (list, id) = list_and_step(text)?;
                form.steps.push(EntryStep { list, id, what: String::new(), minutes: [0.0; 3] });
                continue;
            }
            "fastener" => {
                let (name, what) = (text.clone(), String::new());
                form.fasteners.push(EntryFastener { name, what, count: 0, drive: None, renew: false });
                continue;
            }
            _ => {}
        }
        if let Some(s) = form.steps.last_mut() {
            match name.as_str() {
                "what" => s.what.clone_from(text),
                "low" => s.minutes[0] = number_of(text, "low")?,
                "likely" => s.minutes[1] = number_of(text, "likely")?,
                "high" => s.minutes[2] = number_of(text, "high")?,
                "out" => {
                    out.insert((s.list.clone(), s.id.clone()));
                }
                _ => {}
            }
        }
        if let Some(x) = form.fasteners.last_mut() {
            match name.as_str() {
                "fastener-what" => x.what.clone_from(text),
                "count" => x.count = count_of(text, "count")?,
                "drive" => x.drive = if text.trim().is_empty() { None } else { Some(across_flats_mm(text, "drive")?) },
                "renew" => x.renew = true,
                _ => {}
            }
        }
    }
    form.steps.retain(|s| !out.contains(&(s.list.clone(), s.id.clone())));
    let added = match f.text("new-what") {
        None => None,
        Some(what) => {
            let (list, after) = list_and_step(f.need("new-after", "after which step")?)?;
            let minutes = |name: &'static str| number_of(f.text(name).unwrap_or_default(), name);
            Some(AddedStep {
                list,
                after: Some(after),
                role: f.need("new-role", "what kind of step")?.into(),
                what: what.into(),
                minutes: [minutes("new-low")?, minutes("new-likely")?, minutes("new-high")?],
                caution: f.owned("new-caution"),
            })
        }
    };
    Ok((form, added))
}

async fn show(m: Member, Query(w): Query<Which>) -> Result<ProceduresPage, PageError> {
    let k = m.scope().await?.knowledge().await?;
    let own = &k.overrides().procedures;
    let open = match &w.e {
        Some(key) => {
            let text = entry_text(own, key).ok_or(PageError::NotFound)?.to_string();
            let mine = own.get(key).cloned();
            let is_own = mine.is_some();
            let mine = mine.unwrap_or_else(|| OwnProcedure { text, ..OwnProcedure::default() });
            let left_out = left_out(own).remove(key).map(|p| p.message);
            let (lists, fasteners) = EntryForm::read(&mine.text).map(|form| fields(&form)).unwrap_or_default();
            Some(OpenEntry {
                key: key.clone(),
                words: entry_words(own, key),
                lists,
                fasteners,
                text: mine.text,
                school: mine.school,
                why: mine.why,
                is_own,
                left_out,
                is_added: !stands_over(key),
            })
        }
        None => None,
    };
    let list = |kind: &str| {
        let of = shipped_entries().iter().filter(|e| e.key.starts_with(kind));
        of.map(|e| (e.key.clone(), e.words.clone(), own.contains_key(&e.key))).collect()
    };
    Ok(ProceduresPage {
        theme: m.person.theme.clone(),
        person: m.person.name.clone(),
        can_write: m.person.role().may(Act::ChangeKnowledge),
        units: list("unit."),
        works: list("procedure."),
        added: own.keys().filter(|key| !stands_over(key)).map(|key| (key.clone(), entry_words(own, key))).collect(),
        open,
        roles: ADDED_ROLES,
        cautions: STEP_CAUTIONS.iter().filter_map(|c| Some((*c, k.caution(c)?.head.clone()))).collect(),
    })
}

/// Writes a workshop's own entry, or takes it out.
async fn save(m: Member, Form(f): Form<Vec<(String, String)>>) -> Result<Redirect, PageError> {
    let f = FormFields::metric(f);
    let entry = f.need("entry", "the entry")?.to_string();
    let back = f.text("back") == Some("yes");
    let mut at = entry.clone();
    change_overrides(&m, |h| {
        if back {
            h.procedures.remove(&entry);
            return Ok(());
        }
        let text = match (f.text("differs"), f.text("text")) {
            (Some(differs), _) => {
                let (key, text) = another_way(&h.procedures, &entry, differs)?;
                at = key;
                text
            }
            (None, Some(text)) => text.replace("\r\n", "\n"),
            (None, None) => {
                let gone = || Problem::new("unknown-procedure", "there is no such entry (any more)").field("entry");
                let now = entry_text(&h.procedures, &entry).ok_or_else(gone)?;
                let (form, step) = entry_of(&f)?;
                form.write(now, step.as_ref())?
            }
        };
        let own = OwnProcedure {
            text,
            school: f.need("school", "whose school it follows")?.into(),
            why: f.need("why", "why it is done so here")?.into(),
        };
        h.procedures.insert(at.clone(), own);
        Ok(())
    })
    .await?;
    let to = if back { String::new() } else { format!("?e={}", segment(&at)) };
    Ok(Redirect::to(&format!("/knowledge/procedures{to}")))
}

/// Routes of the procedures.
pub fn routes() -> Router<App> {
    Router::new().route("/knowledge/procedures", get(show).post(save))
}
