//! Every string that a person can read: templates, knowledge, and the sentences in the code. `cargo test -p baricord-web --test web
//! screen_words -- --nocapture` prints the list; the test hunts for words that need their author.

use proc_macro2::{TokenStream, TokenTree};
use std::path::{Path, PathBuf};
use std::str::FromStr;

/// A string, and the file it stands in.
struct Words {
    file: String,
    text: String,
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

fn files(under: &Path, ending: &str, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(under).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, ending, out);
        } else if path.extension().is_some_and(|e| e == ending) {
            out.push(path);
        }
    }
    out.sort();
}

/// Whether a string is written for people: a sentence or a name, not an id, an address or markup.
fn is_for_people(text: &str) -> bool {
    let letters = text.chars().filter(|c| c.is_alphabetic()).count();
    let is_code =
        ["SELECT ", "INSERT ", "UPDATE ", "DELETE ", "='", "=\"", "--", "::", "/cases/"].iter().any(|m| text.contains(m));
    letters > 2 && text.trim().contains(' ') && !is_code && !text.starts_with('<')
}

/// Text and labels of markup, without tags and without what the template engine fills in.
fn of_markup(markup: &str) -> Vec<String> {
    let mut out = vec![];
    let (mut text, mut rest) = (String::new(), markup);
    while let Some(i) = rest.find(['<', '{']) {
        text += &rest[..i];
        let close = match &rest[i..] {
            r if r.starts_with("{#") => "#}",
            r if r.starts_with("{%") => "%}",
            r if r.starts_with("{{") => "}}",
            r if r.starts_with('{') => "{",
            _ => ">",
        };
        let end = rest[i..].find(close).map_or(rest.len(), |e| i + e + close.len());
        let inside = &rest[i..end];
        match close {
            "}}" => text += "…",
            ">" => {
                out.push(std::mem::take(&mut text));
                for label in ["aria-label=\"", "title=\"", "placeholder=\"", "alt=\""] {
                    out.extend(inside.split(label).skip(1).filter_map(|l| l.split('"').next()).map(String::from));
                }
            }
            _ => {}
        }
        rest = &rest[end..];
    }
    out.push(text + rest);
    let one_line = |t: &String| t.split_whitespace().collect::<Vec<_>>().join(" ");
    out.iter().map(one_line).filter(|t| t.chars().any(char::is_alphabetic)).collect()
}

/// String literals of Rust code outside attributes and tests.
fn of_code(tokens: TokenStream, out: &mut Vec<String>) {
    let all: Vec<TokenTree> = tokens.into_iter().collect();
    let mut i = 0;
    while i < all.len() {
        match &all[i] {
            TokenTree::Punct(p) if p.as_char() == '#' => {
                // An attribute; after `cfg(test)` the whole item is left out.
                let is_inner = matches!(all.get(i + 1), Some(TokenTree::Punct(p)) if p.as_char() == '!');
                i += if is_inner { 3 } else { 2 };
                let attribute = all.get(i - 1).map(ToString::to_string).unwrap_or_default();
                if attribute.replace(' ', "").contains("cfg(test)") {
                    while i < all.len()
                        && !matches!(&all[i], TokenTree::Group(g) if g.delimiter() == proc_macro2::Delimiter::Brace)
                    {
                        i += 1;
                    }
                    i += 1;
                }
                continue;
            }
            TokenTree::Group(g) => of_code(g.stream(), out),
            TokenTree::Literal(l) => {
                if let Ok(s) = syn::parse_str::<syn::LitStr>(&l.to_string()) {
                    out.push(s.value());
                }
            }
            _ => {}
        }
        i += 1;
    }
}

fn of_knowledge(v: &toml::Value, key: &str, out: &mut Vec<String>) {
    match v {
        // The reason of an exception is read by who maintains it.
        toml::Value::String(s) if key != "why" => out.push(s.clone()),
        toml::Value::Array(a) => a.iter().for_each(|x| of_knowledge(x, key, out)),
        toml::Value::Table(t) => t.iter().for_each(|(k, x)| of_knowledge(x, k, out)),
        _ => {}
    }
}

fn all_words() -> Vec<Words> {
    let root = root();
    let mut out = vec![];
    let mut add = |path: &Path, texts: Vec<String>| {
        let file = path.strip_prefix(&root).unwrap().display().to_string();
        out.extend(texts.into_iter().map(|text| Words { file: file.clone(), text }));
    };
    let list = |under: &str, ending: &str| {
        let mut paths = vec![];
        files(&root.join(under), ending, &mut paths);
        paths
    };
    for path in list("crates/web/templates", "html").into_iter().chain(list("crates/web/src", "html")) {
        add(&path, of_markup(&std::fs::read_to_string(&path).unwrap()));
    }
    for path in list("crates/core/knowledge", "toml") {
        let value: toml::Value = toml::from_str(&std::fs::read_to_string(&path).unwrap()).unwrap();
        let mut texts = vec![];
        of_knowledge(&value, "", &mut texts);
        texts.retain(|t| is_for_people(t));
        add(&path, texts);
    }
    for name in ["core", "formats", "simulator", "store", "web", "app"] {
        for path in list(&format!("crates/{name}/src"), "rs") {
            let code = std::fs::read_to_string(&path).unwrap();
            let mut texts = vec![];
            of_code(TokenStream::from_str(&code).unwrap(), &mut texts);
            let readable = |t: String| match t.contains('<') && t.contains('>') {
                true => of_markup(&t),
                false => vec![t],
            };
            let texts = texts.into_iter().flat_map(readable).filter(|t| is_for_people(t)).collect();
            add(&path, texts);
        }
    }
    out
}

/// Words of a private language, and what is said instead.
const PRIVATE: &[(&str, &str)] =
    &[("anew", "again"), ("told", "shown, said"), ("settles", "answers"), ("leans on", "rests on"), ("keeps so", "stays")];

#[test]
fn no_string_on_screen_needs_its_author() {
    let all = all_words();
    assert!(all.len() > 1500, "{} strings: is something not read?", all.len());
    for w in &all {
        println!("{}\t{}", w.file, w.text);
    }
    let words_of =
        |t: &str| t.to_lowercase().split(|c: char| !c.is_alphanumeric()).map(String::from).collect::<Vec<_>>().join(" ");
    let is_private = |w: &&Words| PRIVATE.iter().any(|(p, _)| format!(" {} ", words_of(&w.text)).contains(&format!(" {p} ")));
    let found: Vec<String> = all.iter().filter(is_private).map(|w| format!("{}: {}", w.file, w.text)).collect();
    assert!(found.is_empty(), "{} strings:\n{}", found.len(), found.join("\n"));
}
