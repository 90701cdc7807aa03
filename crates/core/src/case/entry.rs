//! Entries of a case's lists: each has an id by which it is found, changed and taken back. A file that names none gets `o3`, `r1`
//! by kind and place.

use imbl::Vector;
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::collections::HashSet;

/// An entry of a list.
pub trait Entry {
    /// First letter of an id that is given by place.
    const LETTER: char;
    /// Its id.
    fn id(&self) -> &str;
    /// Gives it an id.
    fn set_id(&mut self, id: String);
}

/// Makes a type with a field `id` an entry of a list.
macro_rules! entry {
    ($type:ty, $letter:literal) => {
        impl Entry for $type {
            const LETTER: char = $letter;
            fn id(&self) -> &str {
                &self.id
            }
            fn set_id(&mut self, id: String) {
                self.id = id;
            }
        }
    };
}
pub(super) use entry;

/// Calls a macro with every list whose entries are found by id, and the letter of ids given by place.
macro_rules! with_lists {
    ($what:ident) => {
        $what!(
            symptoms 'S', observations 'o', votes 'v', asked_later 'k', recordings 'R',
            measurements 'm', repairs 'r', attempts 'a', replaced_as_due 'd', hints 'h',
            safety 's', found 'f', notes 'n', opinions 'q', pinned 'p', listened 'l',
            compared 'c', dimension_changes 'g', kit_notes 'i'
        )
    };
}
pub(super) use with_lists;

macro_rules! names {
    ($($list:ident $letter:literal),*) => { [$((stringify!($list), $letter)),*] };
}

/// The lists whose entries are found by id, with the letter of ids given by place.
pub const LISTS: [(&str, char); 19] = with_lists!(names);

/// Lists of words that are there or not: each word is added and taken out by itself.
pub const SETS: [&[&str]; 3] = [&["history"], &["history_denied"], &["state", "off"]];

/// The ids that entries without one get, by their place; none where an entry has its own.
fn free_ids(own: &[Option<&str>], letter: char) -> Vec<Option<String>> {
    let mut taken: HashSet<String> = own.iter().flatten().map(|id| (*id).to_string()).collect();
    let given = |(i, own): (usize, &Option<&str>)| {
        if own.is_some() {
            return None;
        }
        let mut id = format!("{letter}{}", i + 1);
        while !taken.insert(id.clone()) {
            id.push('b');
        }
        Some(id)
    };
    own.iter().enumerate().map(given).collect()
}

/// Gives ids to the entries of a list as it stands in a document, those that are wanted.
pub(super) fn write_ids(list: &mut [Value], letter: char, wanted: impl Fn(&str) -> bool) {
    let own: Vec<Option<&str>> = list.iter().map(|e| e.get("id").and_then(Value::as_str)).collect();
    let ids = free_ids(&own, letter);
    for (entry, id) in list.iter_mut().zip(ids) {
        if let (Value::Object(entry), Some(id)) = (entry, id.filter(|id| wanted(id))) {
            entry.insert("id".into(), id.into());
        }
    }
}

/// Gives ids to entries that have been read.
pub(super) fn give_ids<T: Entry + Clone>(list: &mut Vector<T>) {
    let own: Vec<Option<&str>> = list.iter().map(|e| Some(e.id()).filter(|id| !id.is_empty())).collect();
    if own.iter().all(Option::is_some) {
        return;
    }
    let ids = free_ids(&own, T::LETTER);
    for (entry, id) in list.iter_mut().zip(ids) {
        if let Some(id) = id {
            entry.set_id(id);
        }
    }
}

/// The entries of a list that can be read; what cannot stays in the document and does not weigh.
pub(super) fn readable<'de, D, T>(d: D) -> Result<Vector<T>, D::Error>
where
    D: serde::Deserializer<'de>,
    T: DeserializeOwned + Entry + Clone,
{
    use serde::Deserialize;
    let Value::Array(mut all) = Value::deserialize(d)? else { return Ok(Vector::new()) };
    write_ids(&mut all, T::LETTER, |_| true);
    Ok(all.into_iter().filter_map(|v| serde_json::from_value(v).ok()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn ids_are_given_by_place_and_never_twice() {
        let mut list = vec![json!({}), json!({"id": "o3"}), json!({"id": "mine"}), json!("torn"), json!({})];
        write_ids(&mut list, 'o', |_| true);
        assert_eq!(json!(list), json!([{"id": "o1"}, {"id": "o3"}, {"id": "mine"}, "torn", {"id": "o5"}]));
        let mut clash = vec![json!({"id": "o2"}), json!({})];
        write_ids(&mut clash, 'o', |_| true);
        assert_eq!(clash[1]["id"], "o2b");
        let before = clash.clone();
        write_ids(&mut clash, 'o', |_| true);
        assert_eq!(clash, before);
    }
}
