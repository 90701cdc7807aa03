//! How a workshop does a thing itself: an entry of the procedures in its own words, with the school that it follows and why. It stands
//! before the entry that ships, and is taken back by being taken out.

use super::procedures::{Procedures, SHIPPED};
use crate::error::Problem;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::LazyLock;

/// Longest entry, bytes.
const MAX_TEXT: usize = 20_000;
/// Longest school or reason, letters.
const MAX_WORDS: usize = 400;

/// An entry of a workshop's own.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OwnProcedure {
    /// The entry, as the files of procedures are written: one `[[unit]]` or `[[procedure]]`.
    pub text: String,
    /// Whose school it follows: a manual, a maker, a person.
    pub school: String,
    /// Why.
    pub why: String,
}

/// An entry that ships.
#[derive(Clone, Debug)]
pub struct ShippedEntry {
    /// `unit.half.2`, `procedure.pinion-seal`.
    pub key: String,
    /// What it is of.
    pub words: String,
    /// As it is written.
    pub text: String,
}

/// Every entry that ships, in the order of the files.
pub fn shipped_entries() -> &'static [ShippedEntry] {
    static ENTRIES: LazyLock<Vec<ShippedEntry>> = LazyLock::new(|| {
        let mut counts: BTreeMap<String, usize> = BTreeMap::new();
        let chunks = SHIPPED.iter().flat_map(|(_, text)| text.split("\n[[").skip(1));
        chunks.filter_map(|c| entry(&format!("[[{}", c.trim_end()), &mut counts)).collect()
    });
    &ENTRIES
}

/// The value of `name = "…"` on a line of its own.
fn said<'a>(text: &'a str, name: &str) -> Option<&'a str> {
    let line = text.lines().find_map(|l| l.strip_prefix(name)?.trim_start().strip_prefix('='))?;
    line.trim().strip_prefix('"')?.split('"').next()
}

fn entry(text: &str, counts: &mut BTreeMap<String, usize>) -> Option<ShippedEntry> {
    // A comment before the next entry belongs to that one.
    let lines: Vec<&str> = text.lines().collect();
    let last = lines.iter().rposition(|l| !l.is_empty() && !l.starts_with('#'))?;
    let text = lines[..=last].join("\n");
    let id = said(&text, "id")?;
    if text.starts_with("[[unit]]") {
        let n = counts.entry(id.into()).or_default();
        *n += 1;
        let words = format!("{}, off and on", said(&text, "words").unwrap_or(id));
        return Some(ShippedEntry { key: format!("unit.{id}.{n}"), words, text });
    }
    Some(ShippedEntry { key: format!("procedure.{id}"), words: id.replace('-', " "), text })
}

impl OwnProcedure {
    fn check(&self) -> Result<(), Problem> {
        for (field, words, most) in
            [("text", &self.text, MAX_TEXT), ("school", &self.school, MAX_WORDS), ("why", &self.why, MAX_WORDS)]
        {
            if words.trim().is_empty() {
                return Err(Problem::new(
                    "missing",
                    format!("{field} is missing: an own procedure says what is done, whose school it is, and why"),
                )
                .field(field));
            }
            if words.len() > most {
                return Err(Problem::new("too-long", format!("{field} has more than {most} letters")).field(field));
            }
        }
        let entries = self.text.lines().filter(|l| l.starts_with("[[")).count();
        if entries != 1 {
            return Err(Problem::new("bad-procedure", "one [[unit]] or one [[procedure]] is written here").field("text"));
        }
        Ok(())
    }
}

/// Cautions of an entry that ships stand in the workshop's own, too, at one of its steps: none is lost by rewriting.
fn keeps_cautions(key: &str, text: &str) -> Result<(), Problem> {
    let Some(shipped) = shipped_entries().iter().find(|e| e.key == key) else { return Ok(()) };
    let named = |text: &str| Procedures::cautions_of(text).map_err(|e| Problem::new("bad-procedure", e).field("text"));
    let (wanted, has) = (named(&shipped.text)?, named(text)?);
    match wanted.difference(&has).next() {
        None => Ok(()),
        Some(c) => {
            Err(Problem::new("caution", format!("the caution {c} of this work must stay at one of its steps")).field("text"))
        }
    }
}

/// The procedures with a workshop's own before those that ship.
///
/// # Errors
/// `missing`, `too-long` or `bad-procedure` at `text`, `school` or `why` of the entry; the message says the step.
pub fn with_own(own: &BTreeMap<String, OwnProcedure>) -> Result<Procedures, Problem> {
    for (key, p) in own {
        let under = |e: Problem| e.under(&format!("procedures.{key}"));
        p.check().map_err(under)?;
        keeps_cautions(key, &p.text).map_err(under)?;
    }
    let files: Vec<(&str, &str)> = own.iter().map(|(key, p)| (key.as_str(), p.text.as_str())).collect();
    Procedures::read_before_shipped(&files).map_err(|e| Problem::new("bad-procedure", e).field("text"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::{Case, Repair};
    use crate::reasoning::knowledge::{WorkshopOverrides, builtin};
    use crate::repair::repair_plan::{Aim, repair_plan};
    use crate::vehicle::sample::rear_drive;

    fn own(key: &str, text: &str) -> WorkshopOverrides {
        let p = OwnProcedure { text: text.into(), school: "workshop manual of the ferry".into(), why: "ours are greased".into() };
        WorkshopOverrides { procedures: [(key.to_string(), p)].into(), ..WorkshopOverrides::default() }
    }

    #[test]
    fn every_entry_that_ships_reads_alone_as_its_own() {
        let all = shipped_entries();
        assert!(all.len() > 80, "{}", all.len());
        for e in all {
            own(&e.key, &e.text).over(builtin()).unwrap_or_else(|p| panic!("{}: {}", e.key, p.message));
        }
    }

    #[test]
    fn a_workshops_own_way_is_what_the_plan_says_until_it_is_taken_out() {
        let shipped = shipped_entries().iter().find(|e| e.key == "procedure.joint-grease").unwrap();
        let text = shipped.text.replace("until fresh grease shows at all four caps", "two strokes only, by the house rule");
        let mut case = Case::new("c", "Case", rear_drive(1));
        case.repairs.push_back(Repair { task: Some("grease".into()), at: Some("prop.rear.j1".into()), ..Repair::default() });
        let says = |h: &WorkshopOverrides| {
            let k = h.over(builtin()).unwrap();
            repair_plan(&case, &k, Aim::Repair).steps.iter().any(|s| s.what.contains("two strokes only"))
        };
        assert!(says(&own("procedure.joint-grease", &text)) && !says(&WorkshopOverrides::default()));
    }

    #[test]
    fn what_does_not_read_or_gives_no_reason_is_refused_by_name() {
        let refused = |h: &WorkshopOverrides| h.over(builtin()).unwrap_err();
        let text = &shipped_entries()[0].text;
        assert_eq!(refused(&own("x", &text.replace("minutes = [1, 2, 4]", "minutes = [4, 2, 1]"))).code, "bad-procedure");
        for odd in ["[nan, nan, nan]", "[1, 2, inf]", "[-1, 2, 4]", "[1, 2, 4000]"] {
            assert_eq!(
                refused(&own("x", &text.replace("minutes = [1, 2, 4]", &format!("minutes = {odd}")))).code,
                "bad-procedure",
                "{odd}"
            );
        }
        // A wheel that needs its hub nut off first, which needs the wheel off.
        let circle = text.replace("words = \"wheel\"", "words = \"wheel\"\nneeds = [\"axle-nut@hub.{corner}\"]");
        let e = refused(&own("x", &circle));
        assert!(e.message.contains("needs it off itself"), "{}", e.message);
        assert_eq!(refused(&own("x", "no entry")).code, "bad-procedure");
        let mut h = own("x", text);
        h.procedures.get_mut("x").unwrap().why.clear();
        assert_eq!(refused(&h).code, "missing");
    }
}
