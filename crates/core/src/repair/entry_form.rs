//! An entry of the procedures as a form has it: its steps with their words and minutes, its fasteners with count and size. What a form
//! does not show of a step (cautions, tools, waits, what it needs) stays with it.

use super::procedures::{FastenerRule, STEP_CAUTIONS, StepRule};
use crate::error::Problem;
use serde::Deserialize;
use std::collections::BTreeMap;
use toml::{Table, Value};

/// Lists of steps that an entry has, in their order, and what they are called.
const LISTS: [(&str, &str); 3] = [("apart", "Taken off"), ("steps", "The work"), ("together", "Put on again")];

/// Roles of a step that a form adds: those that need neither a fastener nor a part of their own.
pub const ADDED_ROLES: [(&str, &str); 7] = [
    ("inspect", "look"),
    ("clean", "clean"),
    ("mark", "mark"),
    ("photo", "photograph"),
    ("check-part", "compare old and new"),
    ("seat-check", "check that it sits"),
    ("seal", "seal"),
];

/// A step of a form.
#[derive(Clone, Debug, PartialEq)]
pub struct EntryStep {
    /// apart, steps or together.
    pub list: String,
    /// Its id in the list.
    pub id: String,
    /// Its words; `{at}` stands for the place.
    pub what: String,
    /// Low, likely, high.
    pub minutes: [f64; 3],
}

/// A step that is added.
#[derive(Clone, Debug, PartialEq)]
pub struct AddedStep {
    /// The list that it comes into.
    pub list: String,
    /// The step that it follows; none: it is the first.
    pub after: Option<String>,
    /// One of [`ADDED_ROLES`].
    pub role: String,
    /// Its words.
    pub what: String,
    /// Low, likely, high.
    pub minutes: [f64; 3],
    /// A caution that stands at it.
    pub caution: Option<String>,
}

/// Fasteners of a form.
#[derive(Clone, Debug, PartialEq)]
pub struct EntryFastener {
    /// Its name in the entry.
    pub name: String,
    /// What a mechanic calls it.
    pub what: String,
    /// How many.
    pub count: u32,
    /// Width across flats, mm, where it is usual.
    pub drive: Option<f64>,
    /// Whether it is used once only.
    pub renew: bool,
}

/// What a form shows of an entry.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct EntryForm {
    /// Its steps in their order.
    pub steps: Vec<EntryStep>,
    /// Its fasteners.
    pub fasteners: Vec<EntryFastener>,
    /// What differs in it, where it is another way.
    pub way: Option<String>,
}

/// What a list of steps is called.
pub fn list_words(list: &str) -> &'static str {
    LISTS.iter().find(|l| l.0 == list).map_or("", |l| l.1)
}

fn unread(why: impl std::fmt::Display) -> Problem {
    Problem::new("bad-procedure", why.to_string()).field("text")
}

/// The one entry of a text: its kind, and its keys.
fn entry(text: &str) -> Result<(String, Table), Problem> {
    let file: Table = text.parse().map_err(unread)?;
    let (kind, list) = file.into_iter().next().ok_or_else(|| unread("no entry is written here"))?;
    match list {
        Value::Array(mut all) if all.len() == 1 => match all.remove(0) {
            Value::Table(t) => Ok((kind, t)),
            _ => Err(unread("this is no entry")),
        },
        _ => Err(unread("one [[unit]] or one [[procedure]] is written here")),
    }
}

fn rule(v: &Value) -> Result<StepRule, Problem> {
    StepRule::deserialize(v.clone()).map_err(unread)
}

impl EntryForm {
    /// Reads an entry.
    ///
    /// # Errors
    /// `bad-procedure` at `text`.
    pub fn read(text: &str) -> Result<Self, Problem> {
        #[derive(Deserialize)]
        struct Fasteners {
            #[serde(default)]
            fasteners: BTreeMap<String, FastenerRule>,
        }
        let (_, table) = entry(text)?;
        let way = table.get("way").and_then(|w| w.get("words")).and_then(Value::as_str).map(String::from);
        let mut form = Self::default();
        for (list, _) in LISTS {
            for v in table.get(list).and_then(Value::as_array).into_iter().flatten() {
                let s = rule(v)?;
                form.steps.push(EntryStep { list: list.into(), id: s.id, what: s.what, minutes: s.minutes });
            }
        }
        let all = Fasteners::deserialize(Value::Table(table)).map_err(unread)?.fasteners;
        let one = |(name, f): (String, FastenerRule)| EntryFastener {
            name,
            what: f.what,
            count: f.count,
            drive: f.drive,
            renew: f.renew,
        };
        form.way = way;
        form.fasteners = all.into_iter().map(one).collect();
        Ok(form)
    }

    /// The entry with what the form says of it: its steps in the form's order, those that the form left out taken out, one added.
    ///
    /// # Errors
    /// `bad-procedure` at `text`: the entry does not read; `unknown-step` at `step`; `unknown-role`, `unknown-caution` at `new`.
    pub fn write(&self, text: &str, added: Option<&AddedStep>) -> Result<String, Problem> {
        let (kind, mut table) = entry(text)?;
        for (list, _) in LISTS {
            let Some(Value::Array(old)) = table.get(list) else { continue };
            let mut new = vec![];
            let is_first = |a: &&AddedStep| a.list == list && a.after.is_none();
            new.extend(added.filter(is_first).map(|a| added_step(a, &self.steps)).transpose()?);
            for s in self.steps.iter().filter(|s| s.list == list) {
                let is_it = |v: &&Value| v.get("id").and_then(Value::as_str) == Some(&s.id);
                let gone = || Problem::new("unknown-step", format!("there is no step {} in this entry", s.id)).field("step");
                let mut step = old.iter().find(is_it).ok_or_else(gone)?.clone();
                if let Value::Table(t) = &mut step {
                    t.insert("what".into(), one_line(&s.what));
                    t.insert("minutes".into(), minutes(s.minutes));
                }
                new.push(step);
                let follows = |a: &&AddedStep| a.list == list && a.after.as_deref() == Some(&s.id);
                new.extend(added.filter(follows).map(|a| added_step(a, &self.steps)).transpose()?);
            }
            table.insert(list.into(), Value::Array(new));
        }
        if let Some(Value::Table(all)) = table.get_mut("fasteners") {
            for f in &self.fasteners {
                let Some(Value::Table(t)) = all.get_mut(&f.name) else { continue };
                t.insert("what".into(), one_line(&f.what));
                t.insert("count".into(), Value::Integer(f.count.into()));
                t.insert("renew".into(), Value::Boolean(f.renew));
                match f.drive {
                    Some(mm) => t.insert("drive".into(), number(mm)),
                    None => t.remove("drive"),
                };
            }
        }
        Ok(written(&kind, &table))
    }
}

/// A whole number is written as one.
fn number(x: f64) -> Value {
    if x.fract() == 0.0 && x.abs() < 1e9 { Value::Integer(x as i64) } else { Value::Float(x) }
}

fn minutes(all: [f64; 3]) -> Value {
    Value::Array(all.into_iter().map(number).collect())
}

/// Words on one line.
fn one_line(words: &str) -> Value {
    Value::String(words.split_whitespace().collect::<Vec<_>>().join(" "))
}

/// A name made of the first words of a sentence: small letters, joined by hyphens.
pub(super) fn name_of_words(sentence: &str) -> String {
    let letters = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
    let all: String = sentence.chars().map(letters).collect();
    let words: Vec<&str> = all.split('-').filter(|w| !w.is_empty()).take(4).collect();
    words.join("-")
}

/// What an entry is, whatever its steps are.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct EntryName {
    /// unit or procedure.
    pub kind: String,
    pub id: String,
    /// The id of the way that it is, where it is not the usual one.
    pub way: Option<String>,
}

impl EntryName {
    pub fn read(text: &str) -> Result<Self, Problem> {
        let (kind, table) = entry(text)?;
        let said = |v: &Value| v.get("id").and_then(Value::as_str).map(String::from);
        let way = table.get("way").and_then(said);
        let id = table.get("id").and_then(Value::as_str).map(String::from);
        Ok(Self { kind, id: id.ok_or_else(|| unread("an entry has an id"))?, way })
    }

    /// Its name as another way. Procedures have one id each; units of one id are ways to take one thing off.
    pub fn way(self, way: &str) -> Self {
        let id = if self.kind == "procedure" { format!("{}-{way}", self.id) } else { self.id };
        Self { kind: self.kind, id, way: Some(way.into()) }
    }
}

/// An entry as another way to the same end.
pub(super) fn as_way(text: &str, way: &str, differs: &str) -> Result<String, Problem> {
    let (kind, mut table) = entry(text)?;
    let name = EntryName::read(text)?.way(way);
    let mut t = Table::new();
    t.insert("id".into(), Value::String(way.into()));
    t.insert("words".into(), one_line(differs));
    table.insert("id".into(), Value::String(name.id));
    table.insert("way".into(), Value::Table(t));
    Ok(written(&kind, &table))
}

/// A step that is added; its id is none that the entry has.
fn added_step(a: &AddedStep, taken: &[EntryStep]) -> Result<Value, Problem> {
    if !ADDED_ROLES.iter().any(|r| r.0 == a.role) {
        return Err(Problem::new("unknown-role", format!("a step that is added is no “{}”", a.role)).field("new-role"));
    }
    if let Some(c) = a.caution.as_ref().filter(|c| !STEP_CAUTIONS.contains(&c.as_str())) {
        return Err(Problem::new("unknown-caution", format!("there is no caution “{c}”")).field("new-caution"));
    }
    let mut t = Table::new();
    let named = format!("own-{}", name_of_words(&a.what.replace("{at}", "")));
    let id = |n: usize| if n == 1 { named.clone() } else { format!("{named}-{n}") };
    let free = (1..).map(id).find(|id| !taken.iter().any(|s| s.id == *id));
    t.insert("id".into(), Value::String(free.unwrap_or(named)));
    t.insert("role".into(), Value::String(a.role.clone()));
    t.insert("what".into(), one_line(&a.what));
    t.insert("minutes".into(), minutes(a.minutes));
    if let Some(c) = &a.caution {
        t.insert("caution".into(), Value::Array(vec![Value::String(c.clone())]));
    }
    Ok(Value::Table(t))
}

/// As the files are written: a key a line, a step a line.
fn written(kind: &str, table: &Table) -> String {
    let mut out = format!("[[{kind}]]\n");
    for (key, v) in table {
        match v {
            Value::Array(steps) if LISTS.iter().any(|l| l.0 == key) => {
                let lines: Vec<String> = steps.iter().map(|s| format!("  {s},\n")).collect();
                out += &format!("{key} = [\n{}]\n", lines.concat());
            }
            Value::Table(all) if key == "fasteners" => {
                all.iter().for_each(|(name, f)| out += &format!("fasteners.{name} = {f}\n"));
            }
            _ => out += &format!("{key} = {v}\n"),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::repair::own_procedures::{OwnProcedure, shipped_entries, with_own};

    fn reads(key: &str, text: &str) -> Result<(), Problem> {
        let own = OwnProcedure { text: text.into(), school: "our count".into(), why: "ours are greased".into() };
        with_own(&[(key.to_string(), own)].into()).map(|_| ())
    }

    #[test]
    fn every_entry_that_ships_comes_out_of_its_form_as_it_went_in() {
        for e in shipped_entries() {
            let form = EntryForm::read(&e.text).unwrap();
            assert!(!form.steps.is_empty(), "{}", e.key);
            let again = form.write(&e.text, None).unwrap();
            let (a, b) = (entry(&e.text).unwrap(), entry(&again).unwrap());
            let same = |t: &Table| toml::to_string(t).unwrap().replace(".0", "").replace("renew = false\n", "");
            assert_eq!((a.0, same(&a.1)), (b.0, same(&b.1)), "{}", e.key);
            assert_eq!(EntryForm::read(&again).unwrap(), form, "{}", e.key);
            reads(&e.key, &again).unwrap_or_else(|p| panic!("{}: {}", e.key, p.message));
        }
    }

    #[test]
    fn words_minutes_a_size_and_one_step_more_are_written_and_what_the_form_does_not_show_stays() {
        let e = shipped_entries().iter().find(|e| e.key == "unit.axle-nut.1").unwrap();
        let mut form = EntryForm::read(&e.text).unwrap();
        form.steps[0].minutes = [2.0, 4.5, 12.0];
        form.fasteners[0].drive = Some(36.0);
        let added = AddedStep {
            list: "apart".into(),
            after: None,
            role: "photo".into(),
            what: "Photograph how the nut of the {at} is staked".into(),
            minutes: [0.5, 1.0, 1.0],
            caution: None,
        };
        let text = form.write(&e.text, Some(&added)).unwrap();
        reads(&e.key, &text).unwrap();
        let then = EntryForm::read(&text).unwrap();
        assert_eq!((then.steps[0].id.as_str(), then.steps[1].minutes), ("own-photograph-how-the-nut", [2.0, 4.5, 12.0]));
        assert_eq!(then.fasteners[0].drive, Some(36.0));
        assert!(text.contains("breaker bar") && text.contains("helper = true"), "{text}");
        // The same words once more are another step.
        let twice = then.write(&text, Some(&AddedStep { what: format!("{}\n", added.what), ..added })).unwrap();
        reads(&e.key, &twice).unwrap();
        assert_eq!(EntryForm::read(&twice).unwrap().steps[0].id, "own-photograph-how-the-nut-2");
    }

    #[test]
    fn what_is_undone_is_done_up_again_whoever_leaves_a_step_out() {
        for (key, id) in [("unit.wheel.1", "on"), ("unit.wheel.1", "torque"), ("unit.caliper.1", "bolts-on")] {
            let e = shipped_entries().iter().find(|e| e.key == key).unwrap();
            let mut form = EntryForm::read(&e.text).unwrap();
            form.steps.retain(|s| s.id != id);
            let p = reads(&e.key, &form.write(&e.text, None).unwrap()).unwrap_err();
            assert!(p.message.contains("not done up again"), "{key} {id}: {}", p.message);
        }
    }

    #[test]
    fn what_cannot_be_added_is_refused_and_so_is_the_loss_of_a_support_or_a_caution() {
        let added = |role: &str, caution: Option<&str>| AddedStep {
            list: "apart".into(),
            after: None,
            role: role.into(),
            what: "Look at the {at} once more".into(),
            minutes: [1.0, 1.0, 2.0],
            caution: caution.map(String::from),
        };
        let e = shipped_entries().iter().find(|e| e.text.contains("heavy = true")).unwrap();
        let form = EntryForm::read(&e.text).unwrap();
        assert_eq!(form.write(&e.text, Some(&added("press-in", None))).unwrap_err().code, "unknown-role");
        assert_eq!(form.write(&e.text, Some(&added("inspect", Some("none")))).unwrap_err().code, "unknown-caution");
        // Whoever takes out what carries a heavy unit is refused.
        let mut bare = form.clone();
        let supports = |id: &str| e.text.contains(&format!("id = \"{id}\", role = \"support\""));
        bare.steps.retain(|s| !supports(&s.id));
        assert!(bare.steps.len() < form.steps.len());
        assert_eq!(reads(&e.key, &bare.write(&e.text, None).unwrap()).unwrap_err().code, "bad-procedure");
        // A caution of the work stays at one of its steps.
        let e = shipped_entries().iter().find(|e| e.key == "unit.caliper.1").unwrap();
        let p = reads(&e.key, &e.text.replace(r#"caution = ["pedal-first"], "#, "")).unwrap_err();
        assert!(p.code == "caution" && p.message.contains("pedal-first"), "{}", p.message);
        let p = reads(&e.key, &e.text.replace("[[unit]]", "[[unit]]\nid = \"x\"")).unwrap_err();
        assert_eq!(p.code, "bad-procedure");
    }
}
