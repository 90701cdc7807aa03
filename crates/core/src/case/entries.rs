//! Lists of a case document, read and changed entry by entry.
//!
//! An entry that does not read as what the list holds stays where it is: it is passed over, never
//! erased, and so is every key that the program does not know.

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// The entries of a list that read as `T`, each with its place in the list. Empty where there is no list.
pub fn read_entries<T: DeserializeOwned>(document: &Value, list: &str) -> Vec<(usize, T)> {
    let all = document.get(list).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default();
    all.iter().enumerate().filter_map(|(i, v)| Some((i, serde_json::from_value(v.clone()).ok()?))).collect()
}

/// Puts an entry at the end of a list. What stood there and is no list becomes its first entry.
pub fn append(document: &mut Value, list: &str, entry: Value) {
    match document.get_mut(list).map(Value::take) {
        None | Some(Value::Null) => document[list] = Value::Array(vec![entry]),
        Some(Value::Array(mut all)) => {
            all.push(entry);
            document[list] = Value::Array(all);
        }
        Some(other) => document[list] = Value::Array(vec![other, entry]),
    }
}

/// Changes the entries of a list that read as `T`: what `change` leaves of them is written over the keys
/// of each, what it adds goes to the end. Entries that do not read, and unknown keys, stay.
pub fn edit_entries<T, R, E>(document: &mut Value, list: &str, change: impl FnOnce(&mut Vec<T>) -> Result<R, E>) -> Result<R, E>
where
    T: DeserializeOwned + Serialize,
{
    let (places, mut entries): (Vec<usize>, Vec<T>) = read_entries::<T>(document, list).into_iter().unzip();
    let result = change(&mut entries)?;
    for (i, entry) in entries.iter().enumerate() {
        let Ok(Value::Object(keys)) = serde_json::to_value(entry) else { continue };
        match places.get(i).and_then(|p| document[list].get_mut(p)).and_then(Value::as_object_mut) {
            Some(there) => there.extend(keys),
            None => append(document, list, Value::Object(keys)),
        }
    }
    Ok(result)
}

/// Takes the entry with this id out of a list; whether there was one.
pub fn remove_entry(document: &mut Value, list: &str, id: &str) -> bool {
    let Some(all) = document.get_mut(list).and_then(Value::as_array_mut) else { return false };
    let before = all.len();
    all.retain(|entry| entry.get("id").and_then(Value::as_str) != Some(id));
    all.len() < before
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde::Deserialize;
    use serde_json::json;

    #[derive(Serialize, Deserialize, Debug, PartialEq)]
    struct Note {
        by: String,
    }

    #[test]
    fn what_does_not_read_and_what_is_not_known_stays() {
        let mut d = json!({"notes": [{"by": "A", "colour": "red"}, {"by": 3}, "nonsense", {"by": "B"}]});
        assert_eq!(read_entries::<Note>(&d, "notes").iter().map(|e| e.0).collect::<Vec<_>>(), [0, 3]);
        let done: Result<(), ()> = edit_entries(&mut d, "notes", |all: &mut Vec<Note>| {
            all[1].by = "C".into();
            all.push(Note { by: "D".into() });
            Ok(())
        });
        done.unwrap();
        assert_eq!(d, json!({"notes": [{"by": "A", "colour": "red"}, {"by": 3}, "nonsense", {"by": "C"}, {"by": "D"}]}));
        let before = d.clone();
        assert_eq!(edit_entries(&mut d, "notes", |_: &mut Vec<Note>| Err::<(), _>("refused")), Err("refused"));
        assert_eq!(d, before);
    }

    #[test]
    fn an_entry_goes_by_its_id_and_no_other() {
        let mut d = json!({"hints": [{"id": "a"}, {"id": "b", "x": 1}, "nonsense"], "none": 3});
        assert!(remove_entry(&mut d, "hints", "a") && !remove_entry(&mut d, "hints", "a"));
        assert!(!remove_entry(&mut d, "none", "a") && !remove_entry(&mut d, "new", "a"));
        assert_eq!(d, json!({"hints": [{"id": "b", "x": 1}, "nonsense"], "none": 3}));
    }

    #[test]
    fn what_is_no_list_is_kept_as_its_first_entry() {
        let mut d = json!({"notes": "torn", "none": null});
        append(&mut d, "notes", 1.into());
        append(&mut d, "none", 2.into());
        append(&mut d, "new", 3.into());
        assert_eq!(d, json!({"notes": ["torn", 1], "none": [2], "new": [3]}));
    }
}
