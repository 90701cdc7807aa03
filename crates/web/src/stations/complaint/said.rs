//! What the driver said, sentence by sentence: each can become an answer, a finding, or something that was tried before, with one press.

use crate::page::LoadedCase;
use baricord_core::case::Symptom;
use baricord_core::workflow::case_search::answer_said;

/// An answer that a sentence may be.
pub struct SaidAnswer {
    pub test: String,
    pub outcome: String,
    pub at: String,
    /// The test with its outcome, in words.
    pub words: String,
}

/// A sentence of the driver.
pub struct Sentence {
    pub words: String,
    pub answer: Option<SaidAnswer>,
}

/// Sentences shown at most, and words of a shortest one.
const SHOWN: usize = 4;
const SHORTEST: usize = 3;

/// The sentences of a symptom's words.
pub fn sentences(k: &LoadedCase, s: &Symptom) -> Vec<Sentence> {
    let parts = s.words.split(['.', ';', '!', '?', '\n']).map(str::trim);
    let whole = parts.filter(|p| p.split_whitespace().count() >= SHORTEST).take(SHOWN);
    whole
        .map(|words| Sentence {
            answer: answer_said(k.case(), &k.knowledge, words).map(|a| SaidAnswer {
                test: a.test,
                outcome: a.outcome,
                at: a.at.unwrap_or_default(),
                words: a.words,
            }),
            words: words.into(),
        })
        .collect()
}
