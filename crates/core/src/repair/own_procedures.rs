//! How a workshop does a thing itself: an entry of the procedures in its own words, with the school that it follows and why. It stands
//! before the entry that ships, and is taken back by being taken out.

use super::entry_form::{EntryForm, EntryName, as_way, name_of_words};
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

/// What stands between the key of an entry that ships and the name of a way that a workshop added beside it.
const ADDED: &str = ".own-";

/// The entry that ships which an entry of a workshop's own is written over, or is another way beside.
pub fn shipped_entry(key: &str) -> Option<&'static ShippedEntry> {
    let base = key.split_once(ADDED).map_or(key, |(base, _)| base);
    shipped_entries().iter().find(|e| e.key == base)
}

/// Whether an entry is another way beside one that ships.
pub fn is_added_way(key: &str) -> bool {
    key.contains(ADDED)
}

/// Whether an entry ships: a workshop's own stands in its place, not beside it.
pub fn stands_over(key: &str) -> bool {
    !is_added_way(key) && shipped_entry(key).is_some()
}

/// The text of an entry as a workshop has it; none where there is no such entry.
pub fn entry_text<'a>(own: &'a BTreeMap<String, OwnProcedure>, key: &str) -> Option<&'a str> {
    let ships = || shipped_entry(key).filter(|_| stands_over(key)).map(|e| e.text.as_str());
    own.get(key).map(|o| o.text.as_str()).or_else(ships)
}

/// What an entry is called: another way has what differs behind the name of the entry that it stands beside. What no longer ships is
/// called by its key.
pub fn entry_words(own: &BTreeMap<String, OwnProcedure>, key: &str) -> String {
    let words = shipped_entry(key).map_or(key, |e| e.words.as_str());
    let differs = own.get(key).filter(|_| is_added_way(key)).and_then(|o| EntryForm::read(&o.text).ok()?.way);
    differs.map_or(words.to_string(), |d| format!("{words}: {d}"))
}

/// Another way to the same end, to be changed from there: its key, and the text of the entry, as the workshop has it, under the name of
/// the way.
///
/// # Errors
/// `unknown-procedure` at `entry`; `missing`, `too-long` or `already` at `differs`.
pub fn another_way(own: &BTreeMap<String, OwnProcedure>, key: &str, differs: &str) -> Result<(String, String), Problem> {
    let refused = |code: &str, why: &str| Err(Problem::new(code, why).field("differs"));
    let Some(text) = entry_text(own, key).filter(|_| stands_over(key)) else { return Err(unknown(key)) };
    let words = name_of_words(differs);
    if words.is_empty() {
        return refused("missing", "say what differs in this way");
    }
    if differs.len() > MAX_WORDS {
        return refused("too-long", &format!("what differs has more than {MAX_WORDS} letters"));
    }
    let id = format!("own-{words}");
    let added = format!("{key}.{id}");
    if own.contains_key(&added) {
        return refused("already", "there is a way that begins with these words: it is changed where it stands");
    }
    Ok((added, as_way(text, &id, differs)?))
}

fn unknown(key: &str) -> Problem {
    Problem::new("unknown-procedure", format!("there is no procedure {key}")).field("entry")
}

/// An entry keeps its name and the way that it is: what would stand before an entry of another name by chance is refused.
fn keeps_name(key: &str, text: &str) -> Result<(), Problem> {
    let base = shipped_entry(key).ok_or_else(|| unknown(key))?;
    let shipped = EntryName::read(&base.text)?;
    let name = EntryName::read(text)?;
    let wanted = match key.split_once(ADDED) {
        None => shipped,
        Some((_, way)) => shipped.way(&format!("own-{way}")),
    };
    if name == wanted {
        return Ok(());
    }
    let way = wanted.way.as_ref().map_or("without a way of its own".into(), |w| format!("as the way {w}"));
    let message = format!("this entry is [[{}]] with the id {}, {way}; they stay as they are", wanted.kind, wanted.id);
    Err(Problem::new("bad-procedure", message).field("text"))
}

/// Cautions of an entry that ships stand in the workshop's own, too, at one of its steps: none is lost by rewriting.
fn keeps_cautions(key: &str, text: &str) -> Result<(), Problem> {
    let shipped = shipped_entry(key).ok_or_else(|| unknown(key))?;
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
        keeps_name(key, &p.text).map_err(under)?;
        keeps_cautions(key, &p.text).map_err(under)?;
    }
    let files: Vec<(&str, &str)> = own.iter().map(|(key, p)| (key.as_str(), p.text.as_str())).collect();
    Procedures::read_before_shipped(&files).map_err(|e| Problem::new("bad-procedure", e).field("text"))
}

/// Entries of a workshop's own that do not read beside what ships today, and why: a later version of the program may say a thing
/// otherwise. The shipped ones stand for them until somebody has changed them.
pub fn left_out(own: &BTreeMap<String, OwnProcedure>) -> BTreeMap<String, Problem> {
    let Err(all) = with_own(own) else { return BTreeMap::new() };
    let alone =
        |(key, p): (&String, &OwnProcedure)| with_own(&[(key.clone(), p.clone())].into()).err().map(|why| (key.clone(), why));
    let odd: BTreeMap<String, Problem> = own.iter().filter_map(alone).collect();
    let rest: BTreeMap<_, _> =
        own.iter().filter(|(key, _)| !odd.contains_key(*key)).map(|(k, p)| (k.clone(), p.clone())).collect();
    match with_own(&rest) {
        Ok(_) => odd,
        Err(_) => own.keys().map(|key| (key.clone(), odd.get(key).unwrap_or(&all).clone())).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::{Case, Repair};
    use crate::reasoning::knowledge::{WorkshopOverrides, builtin};
    use crate::repair::repair_plan::{Aim, repair_plan};
    use crate::vehicle::sample::rear_drive;

    const WHEEL: &str = "unit.wheel.1";

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
    fn a_way_of_a_workshops_own_stands_beside_the_usual_one_and_is_worked_by_where_it_is_chosen() {
        let differs = "By the small press, on the bench";
        for e in shipped_entries() {
            let (key, text) = another_way(&BTreeMap::new(), &e.key, differs).unwrap();
            assert!(is_added_way(&key) && !stands_over(&key) && shipped_entry(&key).unwrap().key == e.key);
            own(&key, &text).over(builtin()).unwrap_or_else(|p| panic!("{key}: {}", p.message));
        }
        let (key, text) = another_way(&BTreeMap::new(), "procedure.joint-grease", differs).unwrap();
        assert_eq!(key, "procedure.joint-grease.own-by-the-small-press");
        let text = text.replace("until fresh grease shows at all four caps", "two strokes only, by the house rule");
        let k = own(&key, &text).over(builtin()).unwrap();
        let mut case = Case::new("c", "Case", rear_drive(1));
        case.repairs.push_back(Repair { task: Some("grease".into()), at: Some("prop.rear.j1".into()), ..Repair::default() });
        let says = |case: &Case| repair_plan(case, &k, Aim::Repair).steps.iter().any(|s| s.what.contains("two strokes only"));
        let ways = repair_plan(&case, &k, Aim::Repair).ways;
        assert!(ways.iter().any(|w| w.words == differs && !w.chosen), "{ways:?}");
        assert!(!says(&case));
        case.repairs[0].way = Some("own-by-the-small-press".into());
        assert!(says(&case));
        // A unit that comes off another way.
        let (key, text) = another_way(&BTreeMap::new(), WHEEL, differs).unwrap();
        let k = own(&key, &text.replace("Break the wheel nuts loose by", "By the house rule break loose by"))
            .over(builtin())
            .unwrap();
        let mut repair = Repair { task: Some("replace".into()), at: Some("hub.rl".into()), ..Repair::default() };
        for (way, is_own) in [(None, false), (Some("own-by-the-small-press".to_string()), true)] {
            repair.way = way;
            case.repairs = [repair.clone()].into_iter().collect();
            let plan = repair_plan(&case, &k, Aim::Repair);
            assert_eq!(plan.steps.iter().any(|s| s.what.contains("By the house rule")), is_own, "{:?}", plan.problems);
        }
    }

    #[test]
    fn an_entry_keeps_its_name_so_that_none_stands_before_another_by_chance() {
        let (key, text) = another_way(&BTreeMap::new(), "procedure.cross-joint", "At the bench").unwrap();
        let refused = |key: &str, text: &str| own(key, text).over(builtin()).unwrap_err();
        for odd in
            [text.replace("cross-joint-own-at-the-bench", "cross-joint"), text.replace("\"own-at-the-bench\"", "\"own-other\"")]
        {
            let p = refused(&key, &odd);
            assert!(p.code == "bad-procedure" && p.message.contains("stay as they are"), "{}", p.message);
        }
        // Nor does it lose a caution, nor is it a way of something unknown.
        let shipped = &shipped_entry(&key).unwrap().text;
        assert_eq!(refused(&key, shipped).code, "bad-procedure");
        assert_eq!(refused("procedure.none.own-x", &text).code, "unknown-procedure");
        assert_eq!(another_way(&BTreeMap::new(), &key, "Once more").unwrap_err().code, "unknown-procedure");
        let none = BTreeMap::new();
        for (differs, code) in [(" – ".to_string(), "missing"), ("long ".repeat(100), "too-long")] {
            let p = another_way(&none, "procedure.cross-joint", &differs).unwrap_err();
            assert_eq!((p.code.as_str(), p.field.as_deref()), (code, Some("differs")));
        }
        // It begins with the entry as the workshop has it, and is not added twice.
        let changed =
            own("procedure.cross-joint", &shipped_entry(&key).unwrap().text.replacen("{at}", "{at} by the house rule", 1));
        let mut all = changed.procedures;
        let (key, text) = another_way(&all, "procedure.cross-joint", "At the bench").unwrap();
        assert!(text.contains("by the house rule"));
        all.extend(own(&key, &text).procedures);
        assert_eq!(entry_words(&all, &key), "cross joint: At the bench");
        assert_eq!(another_way(&all, "procedure.cross-joint", "at the bench").unwrap_err().code, "already");
    }

    #[test]
    fn what_does_not_read_or_gives_no_reason_is_refused_by_name() {
        let refused = |h: &WorkshopOverrides| h.over(builtin()).unwrap_err();
        let text = &shipped_entries()[0].text;
        assert_eq!(refused(&own(WHEEL, &text.replace("minutes = [1, 2, 4]", "minutes = [4, 2, 1]"))).code, "bad-procedure");
        for odd in ["[nan, nan, nan]", "[1, 2, inf]", "[-1, 2, 4]", "[1, 2, 4000]"] {
            assert_eq!(
                refused(&own(WHEEL, &text.replace("minutes = [1, 2, 4]", &format!("minutes = {odd}")))).code,
                "bad-procedure",
                "{odd}"
            );
        }
        // A wheel that needs its hub nut off first, which needs the wheel off.
        let circle = text.replace("words = \"wheel\"", "words = \"wheel\"\nneeds = [\"axle-nut@hub.{corner}\"]");
        let e = refused(&own(WHEEL, &circle));
        assert!(e.message.contains("needs it off itself"), "{}", e.message);
        assert_eq!(refused(&own(WHEEL, "no entry")).code, "bad-procedure");
        let mut h = own(WHEEL, text);
        h.procedures.get_mut(WHEEL).unwrap().why.clear();
        assert_eq!(refused(&h).code, "missing");
    }

    #[test]
    fn what_a_later_version_no_longer_reads_is_left_out_by_name_and_the_rest_stands() {
        let text = &shipped_entry(WHEEL).unwrap().text;
        let mut h = own(WHEEL, &text.replace("Break the wheel nuts loose by", "By the house rule break loose by"));
        assert!(left_out(&h.procedures).is_empty());
        let odd = own("procedure.gone", "[[procedure]]\nid = \"gone\"").procedures;
        h.procedures.extend(odd);
        let k = h.knowledge().unwrap();
        assert!(k.procedures.units[0].apart[0].what.starts_with("By the house rule"));
        let out = left_out(&h.procedures);
        assert_eq!(out.keys().collect::<Vec<_>>(), ["procedure.gone"]);
        assert_eq!(out["procedure.gone"].code, "unknown-procedure");
        // Written now it would be refused; as it was it stops nothing else from being kept.
        assert!(h.may_replace(&WorkshopOverrides::default()).is_err());
        let more = WorkshopOverrides { rate: Some(90.0), ..h.clone() };
        assert!(more.may_replace(&h).is_ok() && WorkshopOverrides { rate: Some(-1.0), ..h.clone() }.may_replace(&h).is_err());
    }
}
