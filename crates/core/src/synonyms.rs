//! Words: people call one thing by several names, and makers call a shaft by opposite ones. One name is
//! shown; what was said leads to it.

use serde::Deserialize;
use std::sync::LazyLock;

/// A name that is shown, and what people say for it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Word {
    /// The name that is shown.
    pub name: String,
    /// What people say.
    pub said: Vec<String>,
    /// Where what is said may mean something else.
    #[serde(default)]
    pub note: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Book {
    word: Vec<Word>,
}

static BOOK: LazyLock<Vec<Word>> = LazyLock::new(|| {
    let book: Book =
        toml::from_str(include_str!("../knowledge/words.toml")).expect("the words ship with the program and are tested");
    book.word
});

/// All words.
pub fn book() -> &'static [Word] {
    &BOOK
}

/// A word that was said, and the name that it leads to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Meant {
    /// As it was said.
    pub said: String,
    /// The name that is shown.
    pub name: String,
    /// Where it may mean something else.
    pub note: Option<String>,
}

/// Where a word stands in a text as a word of its own, a plural counting as the word.
fn stands(text: &str, word: &str) -> bool {
    text.match_indices(word).any(|(i, _)| {
        let inner = |c: Option<char>| c.is_some_and(char::is_alphanumeric);
        let after = &text[i + word.len()..];
        let after =
            after.strip_prefix("es").filter(|a| !inner(a.chars().next())).or_else(|| after.strip_prefix('s')).unwrap_or(after);
        !inner(text[..i].chars().next_back()) && !inner(after.chars().next())
    })
}

/// The names that a text leads to, in the order of the book; what is already called by its name is left out,
/// and so is a word that is part of a longer one that was said.
pub fn meant(text: &str) -> Vec<Meant> {
    let text = text.to_lowercase();
    let mut out: Vec<Meant> = vec![];
    for w in book() {
        let said = w.said.iter().filter(|s| stands(&text, s)).max_by_key(|s| s.len());
        out.extend(said.map(|s| Meant { said: s.clone(), name: w.name.clone(), note: w.note.clone() }));
    }
    let longer: Vec<String> =
        out.iter().map(|m| m.said.clone()).chain(book().iter().map(|w| w.name.clone()).filter(|n| stands(&text, n))).collect();
    out.retain(|m| !longer.iter().any(|l| l.len() > m.said.len() && stands(l, &m.said)));
    out
}

/// Everything that a search for some words should find: what was typed, and the other names of the same things.
pub fn alike(search: &str) -> Vec<String> {
    let search = search.trim().to_lowercase();
    let mut out = vec![search.clone()];
    if search.is_empty() {
        return vec![];
    }
    for w in book().iter().filter(|w| w.name == search || w.said.contains(&search) || stands(&search, &w.name)) {
        out.extend(std::iter::once(&w.name).chain(&w.said).filter(|s| **s != search).cloned());
    }
    out.sort();
    out.dedup();
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(text: &str) -> Vec<String> {
        meant(text).into_iter().map(|m| m.name).collect()
    }

    #[test]
    fn what_is_said_leads_to_the_one_name() {
        assert_eq!(names("I think the Giubo has gone"), ["flex coupling"]);
        assert_eq!(names("two U-joints are worn"), ["cross joint"]);
        assert_eq!(names("crown wheel and gaiters"), ["ring gear", "boot"]);
        assert_eq!(names("the support bearing hums"), Vec::<String>::new());
        // A maker's word for either shaft names both.
        assert_eq!(names("clunk from the driveshaft"), ["propeller shaft", "half shaft"]);
        assert!(meant("driveshaft").iter().all(|m| m.note.is_some()));
    }

    #[test]
    fn a_word_inside_another_is_not_said() {
        assert!(names("he was diffident").is_empty());
        assert_eq!(names("spider gears are pitted"), ["side gears"]);
        assert!(names("side gears").is_empty());
    }

    #[test]
    fn a_search_finds_what_others_call_it() {
        let all = alike("Propshaft");
        assert!(all.contains(&"propeller shaft".to_string()) && all.contains(&"propshaft".to_string()));
        assert!(alike("support bearing").contains(&"centre bearing".to_string()));
        assert_eq!(alike("mail van 4"), ["mail van 4"]);
        assert!(alike("  ").is_empty());
    }

    #[test]
    fn every_word_has_one_home_or_says_where_else_it_is_used() {
        for w in book() {
            assert!(!w.said.is_empty() && w.said.iter().all(|s| *s == s.to_lowercase() && *s != w.name), "{}", w.name);
            for s in &w.said {
                let homes = book().iter().filter(|o| o.said.contains(s) || o.name == *s).count();
                assert!(homes == 1 || w.note.is_some(), "{s} leads to {homes} names without a note");
            }
        }
    }
}
