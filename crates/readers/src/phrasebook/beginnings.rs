//! How the statements of a rule base begin: one that begins so, and that no phrase takes, may be one of them.

use super::book::Phrasebook;
use super::open::Part;
use super::pattern::{Pattern, Word};
use std::collections::BTreeMap;

/// Possible role of a statement that begins like one of a rule base.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Begins {
    /// A rule of its own, or a forward.
    pub(super) rule: bool,
    /// A part of an entry that other statements land in, or something that rules depend on.
    pub(super) whole: bool,
}

impl Begins {
    fn add(&mut self, other: Self) {
        self.rule |= other.rule;
        self.whole |= other.whole;
    }
}

/// How the statements that are blocks of a rule base begin.
#[derive(Debug, Default)]
pub(super) struct Beginnings<'a> {
    by_word: BTreeMap<&'a str, Begins>,
    /// Those without a fixed first word, each with the depth of its statement, if it is certain.
    others: Vec<(&'a Pattern, Option<usize>, Begins)>,
}

impl<'a> Beginnings<'a> {
    pub(super) fn of(book: &'a Phrasebook) -> Self {
        let mut found = Self::default();
        for phrase in &book.phrases {
            for (block, target) in phrase.blocks() {
                let level = phrase.levels.get(block.level).map(|(level, _)| &book.levels[*level]);
                let Some(pattern) = level.and_then(|level| level.pattern.as_ref()) else { continue };
                let begins = Begins {
                    rule: matches!(target.section(), Some("rules" | "forwards" | "filters")),
                    whole: block.scattered || block.part != Part::Rule,
                };
                if let Some(word) = pattern.word_at(0) {
                    found.by_word.entry(word).or_default().add(begins);
                } else {
                    found.others.push((pattern, (!phrase.anywhere).then_some(block.level), begins));
                }
            }
        }
        found
    }

    /// Possible role of a statement at a depth, by its beginning.
    pub(super) fn of_statement(&self, book: &Phrasebook, depth: usize, words: &[Word<'_>]) -> Option<Begins> {
        let mut found: Option<Begins> = None;
        let negated = words.first().is_some_and(|first| book.negation.iter().any(|word| word == first.text));
        for words in [Some(words), words.get(1..).filter(|_| negated)].into_iter().flatten() {
            let Some(first) = words.first() else { continue };
            let known = |map: usize, word: &str| book.maps[map].words.contains_key(word);
            let others = self.others.iter().filter(|(pattern, wanted, _)| {
                wanted.is_none_or(|wanted| wanted == depth) && pattern.resembles(words, &known)
            });
            let all = self.by_word.get(first.text).into_iter().chain(others.map(|one| &one.2));
            for begins in all {
                found.get_or_insert_default().add(*begins);
            }
        }
        found
    }
}
