//! The document of a case: what stands in its file, kept whole, and the case that is read of it. An edit changes the case; of the
//! document only what the edit changed is written.

use super::entry::{LISTS, with_lists, write_ids};
use super::patch::{Change, changes, part, plain_numbers, push, put};
use super::{Case, FORMAT, VERSION};
use crate::error::Problem;
use serde_json::{Value, json};
use std::sync::OnceLock;

/// A case with its document.
#[derive(Clone, Debug)]
pub struct CaseDocument {
    whole: Value,
    case: Case,
    /// Made when the text is asked for first; kept true by edits that only add.
    texts: OnceLock<Texts>,
    /// Whether the document is as an edit leaves it: see [`is_settled`].
    settled: OnceLock<bool>,
}

/// The text of a document, key by key: an entry that is added is written alone.
#[derive(Clone, Debug)]
struct Texts(Vec<(String, String)>);

impl Texts {
    fn of(whole: &Value) -> Self {
        Self(whole.as_object().into_iter().flatten().map(|(key, v)| (key.clone(), v.to_string())).collect())
    }

    /// An entry comes to the end of a list of entries.
    fn add(&mut self, list: &str, entry: &Value) {
        match self.0.iter_mut().find(|(key, _)| key == list) {
            Some((_, text)) => {
                text.pop();
                let comma = if text.ends_with('[') { "" } else { "," };
                text.push_str(&format!("{comma}{entry}]"));
            }
            None => self.0.push((list.into(), format!("[{entry}]"))),
        }
    }

    fn whole(&self) -> String {
        let mut out = String::with_capacity(self.0.iter().map(|(key, text)| key.len() + text.len() + 8).sum());
        for (key, text) in &self.0 {
            out.push(if out.is_empty() { '{' } else { ',' });
            out.push_str(&Value::from(key.as_str()).to_string());
            out.push(':');
            out.push_str(text);
        }
        out.push('}');
        out
    }
}

/// A case as it is written into a file, without what the program does not know.
pub fn written(case: &Case) -> Value {
    // Every type of a case is made of what JSON has.
    let mut v = serde_json::to_value(case).unwrap_or_default();
    plain_numbers(&mut v);
    v
}

/// Two states of a case, of each list only what comes after the entries with which both begin: most edits add one at the end.
struct Tails {
    before: Case,
    after: Case,
    /// With how many entries both lists begin.
    begins: Vec<(&'static str, usize)>,
}

impl Tails {
    fn of(before: &Case, after: &Case) -> Self {
        let mut begins = vec![];
        macro_rules! tails {
            ($($list:ident $_letter:literal),*) => {{
                $(
                    let $list = before.$list.iter().zip(&after.$list).take_while(|(b, a)| std::ptr::eq(*b, *a) || b == a).count();
                    begins.push((stringify!($list), $list));
                )*
                let of = |c: &Case| Case {
                    $($list: c.$list.skip($list),)*
                    id: c.id.clone(),
                    title: c.title.clone(),
                    vehicle: c.vehicle.clone(),
                    opened: c.opened.clone(),
                    distance_km: c.distance_km,
                    history: c.history.clone(),
                    history_denied: c.history_denied.clone(),
                    due: c.due.clone(),
                    state: c.state.clone(),
                    demo: c.demo,
                };
                (of(before), of(after))
            }};
        }
        let (before, after) = with_lists!(tails);
        Self { before, after, begins }
    }

    /// What differs, and the later state as it is written.
    fn changes(&self) -> (Vec<Change>, Value) {
        let after = written(&self.after);
        let mut all = changes(&written(&self.before), &after);
        for c in &mut all {
            let list = self.begins.iter().find(|b| c.path.first().is_some_and(|key| key == b.0));
            if let (Some(place), Some((_, same))) = (&mut c.place, list) {
                *place += same;
            }
        }
        (all, after)
    }

    /// Whether nothing of the earlier state was changed, moved or taken out, if all changes only add entries.
    fn only_goes_on(&self) -> bool {
        macro_rules! ended {
            ($($list:ident $_letter:literal),*) => { $(self.before.$list.is_empty())&&* };
        }
        with_lists!(ended)
    }

    /// Puts the entries that were added, as they were read back, at the end of the earlier state's.
    fn put_back(&self, read: Case, case: &mut Case) {
        macro_rules! put_back {
            ($($list:ident $_letter:literal),*) => {$(
                case.$list.truncate(case.$list.len() - self.after.$list.len());
                case.$list.append(read.$list);
            )*};
        }
        with_lists!(put_back);
    }
}

/// Whether a change puts a new entry at the end of its list, and nothing else.
fn adds_entry(c: &Change) -> bool {
    let of_list = |list: &str| LISTS.iter().any(|l| l.0 == list);
    c.before.is_none() && c.place.is_none() && matches!(c.path.as_slice(), [list, _] if of_list(list))
}

/// Whether every entry has its id and every list its key of today, as after an edit.
fn is_settled(whole: &Value) -> bool {
    let has_id = |e: &Value| e.get("id").is_some_and(Value::is_string);
    let settled = |list: &Value| list.as_array().is_some_and(|all| all.iter().all(has_id));
    !whole.get("due").is_some_and(Value::is_array) && LISTS.iter().all(|(list, _)| whole.get(*list).is_none_or(settled))
}

/// Entries get their ids; lists of older files get the key that they have now.
fn settle(whole: &mut Value, case: &Case) {
    if is_settled(whole) {
        return;
    }
    let known = written(case);
    let Some(map) = whole.as_object_mut() else { return };
    if map.get("due").is_some_and(Value::is_array)
        && let Some(due) = map.shift_remove("due")
        && !map.contains_key("replaced_as_due")
    {
        map.insert("replaced_as_due".into(), due);
    }
    for (list, letter) in LISTS {
        if let Some(all) = map.get_mut(list).and_then(Value::as_array_mut) {
            // What could not be read is left as it is.
            let read = known[list].as_array().map_or(&[][..], Vec::as_slice);
            write_ids(all, letter, |id| read.iter().any(|e| e["id"] == id));
        }
    }
}

impl CaseDocument {
    /// Of a case that begins here.
    pub fn new(case: Case) -> Self {
        let mut whole = json!({"format": FORMAT, "version": VERSION});
        if let (Value::Object(whole), Value::Object(case)) = (&mut whole, written(&case)) {
            whole.extend(case);
        }
        Self { whole, case, texts: OnceLock::new(), settled: OnceLock::new() }
    }

    /// Of a case file's JSON. Errors: those of [`Case::from_json`].
    pub fn read(whole: Value) -> Result<Self, Problem> {
        let case = Case::from_json(&whole)?;
        Ok(Self { whole, case, texts: OnceLock::new(), settled: OnceLock::new() })
    }

    /// The case.
    pub fn case(&self) -> &Case {
        &self.case
    }

    /// The whole document, for a file.
    pub fn json(&self) -> &Value {
        &self.whole
    }

    /// The whole document as it is kept: the same for the same document.
    pub fn text(&self) -> String {
        self.texts.get_or_init(|| Texts::of(&self.whole)).whole()
    }

    fn write(&mut self, mut case: Case) -> Result<Vec<Change>, Problem> {
        let tails = Tails::of(&self.case, &case);
        let (changed, after) = tails.changes();
        if changed.is_empty() {
            return Ok(changed);
        }
        // The case is what stands in the document, and nothing else: what is written is read again, of what is only added that alone.
        let settled = *self.settled.get_or_init(|| is_settled(&self.whole));
        if settled && tails.only_goes_on() && changed.iter().all(adds_entry) {
            case.check()?;
            tails.put_back(crate::error::read_json(&after)?, &mut case);
            for c in &changed {
                if let ([list, _], Some(entry)) = (c.path.as_slice(), &c.after) {
                    push(&mut self.whole, list, entry.clone());
                    self.texts.get_mut().into_iter().for_each(|texts| texts.add(list, entry));
                }
            }
            self.case = case;
            debug_assert_eq!(self.text(), self.whole.to_string(), "the text is that of the document");
            debug_assert_eq!(Case::from_json(&self.whole).as_ref(), Ok(&self.case), "read whole it is the same");
        } else {
            let mut whole = self.whole.clone();
            settle(&mut whole, &self.case);
            for c in &changed {
                put(&mut whole, &c.path, c.before.as_ref(), c.after.as_ref(), c.place);
            }
            *self = Self::read(whole)?;
        }
        Ok(changed)
    }

    /// The case as it was before some changes were made to it; `made` holds those of each edit, the latest edit first.
    pub fn before<'a>(&self, made: impl IntoIterator<Item = &'a [Change]>) -> Result<Case, Problem> {
        let mut v = written(&self.case);
        for c in made.into_iter().flat_map(|changes| changes.iter().rev()) {
            let now = part(&v, &c.path).cloned();
            put(&mut v, &c.path, now.as_ref(), c.before.as_ref(), c.place);
        }
        let mut case: Case = crate::error::read_json(&v)?;
        case.tidy();
        Ok(case)
    }

    /// Puts another state of the case in the place of this one and writes what differs. When it is refused nothing has changed.
    pub fn replace<R>(&mut self, with: impl FnOnce(&Case) -> Result<(R, Case), Problem>) -> Result<(R, Vec<Change>), Problem> {
        let (result, next) = with(&self.case)?;
        Ok((result, self.write(next)?))
    }
}

/// Keys of a document that no type of the case reads, as paths: what a program of another version, or a person, wrote into it.
pub fn unknown_keys(document: &Value) -> Vec<String> {
    fn compare(path: &str, there: &Value, known: Option<&Value>, out: &mut Vec<String>) {
        match (there, known) {
            (Value::Null, None) => {}
            (Value::Array(all), None) if all.is_empty() => {}
            (Value::Object(map), None) if map.is_empty() => {}
            // What is left out when it is the usual.
            (Value::Bool(false), None) => {}
            (_, None) => out.push(path.to_string()),
            (Value::Object(there), Some(known)) => {
                for (key, v) in there {
                    let path = if path.is_empty() { key.clone() } else { format!("{path}.{key}") };
                    compare(&path, v, known.get(key), out);
                }
            }
            (Value::Array(there), Some(Value::Array(known))) => {
                let has_ids = known.iter().any(|k| k.get("id").is_some());
                let same = |i: usize, v: &Value| match has_ids {
                    true => known.iter().find(|k| k.get("id").is_some() && k.get("id") == v.get("id")),
                    false => known.get(i),
                };
                there.iter().enumerate().for_each(|(i, v)| compare(&format!("{path}[{i}]"), v, same(i, v), out));
            }
            _ => {}
        }
    }
    let Ok(CaseDocument { mut whole, case, .. }) = CaseDocument::read(document.clone()) else { return vec![] };
    settle(&mut whole, &case);
    let mut known = written(&case);
    (known["format"], known["version"]) = (FORMAT.into(), VERSION.into());
    let mut out = vec![];
    compare("", &whole, Some(&known), &mut out);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::Observation;
    use crate::vehicle::sample::{every_layout, rear_drive};

    fn torn() -> Value {
        let mut d = Case::new_document("c1", "Shake", json!(rear_drive(2)));
        d["zebra"] = json!({"kept": 1.50});
        d["vehicle"]["tyre"]["make"] = "Plover".into();
        d["symptoms"] = json!([{"id": "S1", "kind": "vibration", "colour": "grey", "condition": {"gear": ["3", "4"]}}]);
        d["attempts"] = json!([3, {"what": "new shaft", "price": 120}]);
        d["due"] = json!([{"fault": "oil-wrong", "at": "gearbox"}]);
        d["observations"] = json!([{"test": "turn", "outcome": "left"}]);
        d
    }

    #[test]
    fn a_document_is_what_it_was_until_it_is_edited_and_then_but_for_the_edit() {
        let mut d = CaseDocument::read(torn()).unwrap();
        assert_eq!(d.text(), torn().to_string());
        let mut next = d.case().clone();
        next.title = "Buzz".into();
        next.observations.push_back(Observation { id: "e1".into(), ..Observation::new("turn", "right") });
        let ((), changed) = d.replace(|_| Ok(((), next))).unwrap();
        assert_eq!(changed.len(), 2);
        let mut expected = torn();
        expected["title"] = "Buzz".into();
        expected["observations"] =
            json!([{"test": "turn", "outcome": "left", "id": "o1"}, {"id": "e1", "test": "turn", "outcome": "right"}]);
        expected["attempts"] = json!([3, {"what": "new shaft", "price": 120, "id": "a2"}]);
        expected["replaced_as_due"] = json!([{"fault": "oil-wrong", "at": "gearbox", "id": "d1"}]);
        expected.as_object_mut().unwrap().remove("due");
        assert_eq!(d.json(), &expected);
        assert_eq!(d.case(), &Case::from_json(d.json()).unwrap());
        let refused = d.replace(|_| Err::<((), Case), _>(Problem::new("no", "no")));
        assert!(refused.is_err() && d.case().title == "Buzz" && d.json() == &expected);
    }

    #[test]
    fn what_both_begin_with_is_left_out_and_places_are_those_of_the_whole_list() {
        let with = |words: &[&str]| {
            let mut c = Case::new("c", "t", rear_drive(1));
            let one = |w: &&str| Observation { id: format!("o-{w}"), ..Observation::new(w, "none") };
            c.observations = words.iter().map(one).collect();
            c
        };
        let (before, after) = (with(&["a", "b", "c", "d"]), with(&["a", "b", "d", "e"]));
        let short = Tails::of(&before, &after).changes().0;
        assert_eq!(short, changes(&written(&before), &written(&after)));
        assert_eq!(short.iter().map(|c| (c.path[1].as_str(), c.place)).collect::<Vec<_>>(), [("o-c", Some(2)), ("o-e", None)]);
    }

    #[test]
    fn a_new_case_has_no_key_that_is_not_known_and_reads_back() {
        for v in every_layout() {
            let d = CaseDocument::new(Case::new("c", "t", v));
            assert_eq!(unknown_keys(d.json()), Vec::<String>::new());
            assert_eq!(Case::from_json(d.json()).unwrap(), *d.case());
        }
        assert_eq!(
            unknown_keys(&torn()),
            ["vehicle.tyre.make", "symptoms[0].colour", "zebra", "attempts[0]", "attempts[1].price"]
        );
    }
}
