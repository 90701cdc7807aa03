//! What an edit changed in a case, part by part: what is written into its document, found by other edits, and put back when the edit is
//! taken back.
//!
//! A part is an entry of a list or a key of one, a key of the vehicle or of its state, a word of a list of words, or a key of the case.

use super::entry::{LISTS, SETS};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::HashMap;

/// Where a part stands: `["repairs", "r1", "marks"]`.
pub type Path = Vec<String>;

/// One part that an edit changed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Change {
    /// Which.
    pub path: Path,
    /// What stood there before; none where there was nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Value>,
    /// Its place in the list, of an entry that was taken out or put back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<usize>,
    /// What stands there now; not kept.
    #[serde(skip)]
    pub after: Option<Value>,
}

/// Whether two parts are the same, or one holds the other.
pub fn overlap(a: &[String], b: &[String]) -> bool {
    a.iter().zip(b).all(|(a, b)| a == b)
}

/// Numbers as they are written in a case file: a whole one has no point.
pub(crate) fn plain_numbers(v: &mut Value) {
    match v {
        Value::Number(n) => {
            if let Some(x) = n.as_f64().filter(|x| n.is_f64() && x.fract() == 0.0 && x.abs() < 1e15) {
                *v = (x as i64).into();
            }
        }
        Value::Array(all) => all.iter_mut().for_each(plain_numbers),
        Value::Object(map) => map.values_mut().for_each(plain_numbers),
        _ => {}
    }
}

fn path(parts: &[&str]) -> Path {
    parts.iter().map(|p| (*p).to_string()).collect()
}

fn id_of(entry: &Value) -> Option<&str> {
    entry.get("id").and_then(Value::as_str)
}

fn entries<'a>(case: &'a Value, list: &str) -> &'a [Value] {
    case[list].as_array().map_or(&[], Vec::as_slice)
}

/// The keys of an object that differ, each as a change under a path.
fn keys_changed(under: &[&str], before: &Value, after: &Value, skip: &[&str], out: &mut Vec<Change>) {
    let none = Map::new();
    let (b, a) = (before.as_object().unwrap_or(&none), after.as_object().unwrap_or(&none));
    let keys = b.keys().chain(a.keys().filter(|k| !b.contains_key(*k)));
    for key in keys.filter(|k| !skip.contains(&k.as_str())) {
        let (was, is) = (b.get(key), a.get(key));
        if was == is {
            continue;
        }
        let at = [under, &[key]].concat();
        // Each answer of the intake is one of its own.
        if key == "condition" && under.first() == Some(&"symptoms") {
            keys_changed(&at, was.unwrap_or(&Value::Null), is.unwrap_or(&Value::Null), &[], out);
        } else {
            out.push(Change { path: path(&at), before: was.cloned(), place: None, after: is.cloned() });
        }
    }
}

/// Where each entry of a list stands, by its id; the first where one id stands twice.
fn places(all: &[Value]) -> HashMap<&str, usize> {
    let mut out = HashMap::with_capacity(all.len());
    for (i, e) in all.iter().enumerate() {
        if let Some(id) = id_of(e) {
            out.entry(id).or_insert(i);
        }
    }
    out
}

fn list_changed(list: &str, before: &Value, after: &Value, out: &mut Vec<Change>) {
    let (b, a) = (entries(before, list), entries(after, list));
    let (in_b, in_a) = (places(b), places(a));
    for (place, (id, was)) in b.iter().enumerate().filter_map(|(i, e)| Some((i, (id_of(e)?, e)))) {
        match in_a.get(id) {
            None => {
                out.push(Change { path: path(&[list, id]), before: Some(was.clone()), place: Some(place), after: None });
            }
            Some(i) if a[*i] != *was => keys_changed(&[list, id], was, &a[*i], &["id"], out),
            Some(_) => {}
        }
    }
    // What is put back stands before what came after it; what is new stands at the end.
    let last_old = a.iter().rposition(|e| id_of(e).is_none_or(|id| in_b.contains_key(id)));
    let new = a.iter().enumerate().filter_map(|(i, e)| Some((i, id_of(e)?, e))).filter(|(_, id, _)| !in_b.contains_key(id));
    for (i, id, is) in new {
        let place = last_old.filter(|last| i < *last).map(|_| i);
        out.push(Change { path: path(&[list, id]), before: None, place, after: Some(is.clone()) });
    }
}

fn words<'a>(case: &'a Value, set: &[&str]) -> Vec<&'a str> {
    let list = set.iter().fold(case, |v, key| &v[*key]);
    list.as_array().into_iter().flatten().filter_map(Value::as_str).collect()
}

fn words_changed(set: &[&str], before: &Value, after: &Value, out: &mut Vec<Change>) {
    let (b, a) = (words(before, set), words(after, set));
    let change = |word: &str, before: Option<Value>, after: Option<Value>| {
        let mut at = path(set);
        at.push(word.into());
        Change { path: at, before, place: None, after }
    };
    out.extend(b.iter().filter(|w| !a.contains(w)).map(|w| change(w, Some(true.into()), None)));
    out.extend(a.iter().filter(|w| !b.contains(w)).map(|w| change(w, None, Some(true.into()))));
}

/// What differs between a case as it was and as it is, both as they are written ([`super::document::written`]).
pub fn changes(before: &Value, after: &Value) -> Vec<Change> {
    let mut out = vec![];
    for (list, _) in LISTS {
        list_changed(list, before, after, &mut out);
    }
    for set in SETS {
        words_changed(set, before, after, &mut out);
    }
    keys_changed(&["vehicle"], &before["vehicle"], &after["vehicle"], &[], &mut out);
    keys_changed(&["state"], &before["state"], &after["state"], &["off"], &mut out);
    let apart: Vec<&str> = LISTS.iter().map(|l| l.0).chain(SETS.iter().map(|s| s[0])).chain(["vehicle", "state"]).collect();
    keys_changed(&[], before, after, &apart, &mut out);
    out
}

/// What stands at a part; none where there is nothing.
pub fn part<'a>(case: &'a Value, path: &[String]) -> Option<&'a Value> {
    if let Some(set) = set_of(path) {
        let word = path.last()?;
        let list = set.iter().try_fold(case, |v, key| v.get(*key))?;
        return list.as_array()?.iter().find(|w| w.as_str() == Some(word));
    }
    let mut at = case;
    for (i, key) in path.iter().enumerate() {
        at = match at {
            Value::Array(all) if i == 1 => all.iter().find(|e| id_of(e) == Some(key))?,
            other => other.get(key)?,
        };
    }
    Some(at)
}

fn set_of(path: &[String]) -> Option<&'static [&'static str]> {
    SETS.into_iter().find(|s| path.len() == s.len() + 1 && s.iter().zip(path).all(|(a, b)| a == b))
}

/// The list under a key. What stood there and is none becomes its first entry.
fn list_at<'a>(map: &'a mut Map<String, Value>, key: &str) -> &'a mut Vec<Value> {
    let slot = map.entry(key).or_insert(Value::Null);
    if !slot.is_array() {
        let was = slot.take();
        *slot = Value::Array(if was.is_null() { vec![] } else { vec![was] });
    }
    match slot {
        Value::Array(all) => all,
        // It was made one just now.
        _ => unreachable!("a list"),
    }
}

fn object_at(slot: &mut Value) -> &mut Map<String, Value> {
    if !slot.is_object() {
        *slot = Value::Object(Map::new());
    }
    match slot {
        Value::Object(map) => map,
        _ => unreachable!("an object"),
    }
}

/// Writes a value over what stands there: what has not changed, and what is not known, stays as it was written.
fn merge(slot: &mut Value, before: Option<&Value>, after: &Value) {
    match (&mut *slot, before, after) {
        (Value::Object(there), Some(Value::Object(b)), Value::Object(a)) => {
            b.keys().filter(|k| !a.contains_key(*k)).for_each(|k| drop(there.shift_remove(k)));
            for (key, value) in a {
                match there.get_mut(key) {
                    Some(_) if b.get(key) == Some(value) => {}
                    Some(slot) => merge(slot, b.get(key), value),
                    None => drop(there.insert(key.clone(), value.clone())),
                }
            }
        }
        (Value::Array(there), Some(Value::Array(b)), Value::Array(a)) if there.len() == b.len() => {
            there.truncate(a.len());
            for (i, value) in a.iter().enumerate() {
                match there.get_mut(i) {
                    Some(_) if b.get(i) == Some(value) => {}
                    Some(slot) => merge(slot, b.get(i), value),
                    None => there.push(value.clone()),
                }
            }
        }
        _ => *slot = after.clone(),
    }
}

/// Puts a new entry at the end of a list.
pub(crate) fn push(case: &mut Value, list: &str, entry: Value) {
    list_at(object_at(case), list).push(entry);
}

/// Puts something at a part of a case; none takes it out. `before` is what stood there as it is written.
pub(crate) fn put(case: &mut Value, path: &[String], before: Option<&Value>, after: Option<&Value>, place: Option<usize>) {
    if let (Some(set), Some(word)) = (set_of(path), path.last()) {
        let map = set[..set.len() - 1].iter().fold(object_at(case), |m, key| object_at(m.entry(*key).or_insert(Value::Null)));
        let list = list_at(map, set[set.len() - 1]);
        let is_there = list.iter().any(|w| w.as_str() == Some(word));
        match after {
            Some(_) if !is_there => list.push(word.as_str().into()),
            Some(_) => {}
            None => list.retain(|w| w.as_str() != Some(word)),
        }
        return;
    }
    let is_list = path.first().is_some_and(|key| LISTS.iter().any(|l| l.0 == key));
    let (slot, keys) = match path {
        [list, id, keys @ ..] if is_list => {
            let all = list_at(object_at(case), list);
            let at = all.iter().position(|e| id_of(e) == Some(id));
            match (keys, at, after) {
                ([], Some(i), None) => {
                    all.remove(i);
                    return;
                }
                ([], None, Some(v)) => {
                    let i = place.unwrap_or(all.len()).min(all.len());
                    all.insert(i, v.clone());
                    return;
                }
                (_, None, _) => return,
                (keys, Some(i), _) => (&mut all[i], keys),
            }
        }
        keys => (case, keys),
    };
    let Some((last, way)) = keys.split_last() else {
        if let Some(v) = after {
            merge(slot, before, v);
        }
        return;
    };
    let map = way.iter().fold(object_at(slot), |m, key| object_at(m.entry(key.as_str()).or_insert(Value::Null)));
    match (after, map.get_mut(last)) {
        (None, _) => drop(map.shift_remove(last)),
        (Some(v), Some(slot)) => merge(slot, before, v),
        (Some(v), None) => drop(map.insert(last.clone(), v.clone())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn paths(c: &[Change]) -> Vec<String> {
        c.iter().map(|c| c.path.join("/")).collect()
    }

    #[test]
    fn a_change_names_the_smallest_part_and_goes_both_ways() {
        let before = json!({"title": "a", "history": ["lowered"], "state": {"on": "ground", "off": ["prop.rear"]},
            "vehicle": {"name": "v", "axles": [{"end": "rear", "ratio": 4.1}]},
            "symptoms": [{"id": "S1", "kind": "hum", "condition": {"load": "drive"}}],
            "repairs": [{"id": "r1", "fault": "x"}, {"id": "r2", "fault": "y"}]});
        let mut after = before.clone();
        after["title"] = "b".into();
        after["history"] = json!(["raised"]);
        after["state"] = json!({"on": "lift", "off": ["prop.rear", "half.fl"]});
        after["vehicle"]["axles"][0]["ratio"] = 4.3.into();
        after["symptoms"][0]["condition"]["turn"] = "left".into();
        after["repairs"] = json!([{"id": "r2", "fault": "y", "marks": "white"}, {"id": "r3", "fault": "z"}]);
        let c = changes(&before, &after);
        let mut named = paths(&c);
        named.sort();
        assert_eq!(
            named,
            [
                "history/lowered",
                "history/raised",
                "repairs/r1",
                "repairs/r2/marks",
                "repairs/r3",
                "state/off/half.fl",
                "state/on",
                "symptoms/S1/condition/turn",
                "title",
                "vehicle/axles"
            ]
        );
        let mut there = before.clone();
        c.iter().for_each(|c| put(&mut there, &c.path, c.before.as_ref(), c.after.as_ref(), None));
        assert_eq!(changes(&there, &after), []);
        c.iter().rev().for_each(|c| put(&mut there, &c.path, c.after.as_ref(), c.before.as_ref(), c.place));
        assert_eq!(there, before, "taken back, in its place");
    }

    #[test]
    fn what_is_not_known_and_what_has_not_changed_stays_as_it_was_written() {
        let mut doc = json!({"vehicle": {"axles": [{"end": "rear", "ratio": 4.10, "colour": "red"}, {"end": "front"}], "x": 1}, "note": "torn"});
        let before = json!([{"end": "rear", "ratio": 4.1}, {"end": "front"}]);
        let after = json!([{"end": "rear", "ratio": 4.3}, {"end": "front", "driven": true}]);
        put(&mut doc, &path(&["vehicle", "axles"]), Some(&before), Some(&after), None);
        assert_eq!(
            doc["vehicle"],
            json!({"axles": [{"end": "rear", "ratio": 4.3, "colour": "red"}, {"end": "front", "driven": true}], "x": 1})
        );
        put(&mut doc, &path(&["repairs", "r1"]), None, Some(&json!({"id": "r1"})), None);
        put(&mut doc, &path(&["hints", "h1"]), None, Some(&json!({"id": "h1"})), None);
        assert_eq!((doc["repairs"].clone(), doc["note"].clone()), (json!([{"id": "r1"}]), json!("torn")));
    }

    #[test]
    fn parts_overlap_where_one_holds_the_other() {
        let p = |s: &str| s.split('/').map(String::from).collect::<Path>();
        assert!(overlap(&p("repairs/r1"), &p("repairs/r1/marks")) && overlap(&p("repairs/r1/marks"), &p("repairs/r1")));
        assert!(!overlap(&p("repairs/r1/marks"), &p("repairs/r1/note")) && !overlap(&p("repairs/r1"), &p("repairs/r2")));
    }
}
