//! Phrases by words that a statement must have, so that of a hundred phrases few are compared with each statement.

use super::book::Phrasebook;
use super::pattern::{Pattern, Word};
use std::collections::{BTreeMap, BTreeSet};

/// Phrases by the first word of their own statement.
#[derive(Debug, Default)]
pub(super) struct Index<'a>(BTreeMap<Option<&'a str>, Alike<'a>>);

/// Phrases whose statements have the first word in common.
#[derive(Debug, Default)]
struct Alike<'a> {
    /// Place of the word in which they differ most, counted from 0.
    place: usize,
    by_word: BTreeMap<Option<&'a str>, Vec<Entry>>,
}

/// A phrase: its number, and the depth of its statement where that is fixed.
#[derive(Debug, Clone, Copy)]
struct Entry {
    depth: Option<usize>,
    number: usize,
}

impl<'a> Index<'a> {
    pub(super) fn of(book: &'a Phrasebook) -> Self {
        let mut all: BTreeMap<Option<&str>, Vec<(Entry, Option<&Pattern>)>> = BTreeMap::new();
        for (number, phrase) in book.phrases.iter().enumerate() {
            let depth = if phrase.anywhere { None } else { Some(phrase.levels.len()) };
            let last = phrase.levels.last().and_then(|(level, _)| book.levels[*level].pattern.as_ref());
            let word = last.and_then(|pattern| pattern.word_at(0));
            all.entry(word).or_default().push((Entry { depth, number }, last));
        }
        Self(all.into_iter().map(|(word, alike)| (word, Alike::of(&alike))).collect())
    }

    /// Those that may take a statement, in the order of the book.
    pub(super) fn candidates(&self, depth: usize, words: &[Word<'_>], into: &mut Vec<usize>) {
        into.clear();
        let text = |at: usize| words.get(at).map(|word| word.text);
        for alike in [text(0), None].iter().filter_map(|first| self.0.get(first)) {
            let own = text(alike.place).map(Some);
            let found = own.into_iter().chain([None]).filter_map(|word| alike.by_word.get(&word)).flatten();
            into.extend(
                found.filter(|one| one.depth.is_none_or(|wanted| wanted == depth)).map(|one| one.number),
            );
        }
        into.sort_unstable();
    }
}

impl<'a> Alike<'a> {
    fn of(all: &[(Entry, Option<&'a Pattern>)]) -> Self {
        let patterns = || all.iter().filter_map(|(_, pattern)| *pattern);
        let different =
            |place: usize| patterns().filter_map(|one| one.word_at(place)).collect::<BTreeSet<_>>();
        let places: BTreeSet<usize> =
            patterns().flat_map(Pattern::places).filter(|place| *place > 0).collect();
        // The first of several is found again at once.
        let place =
            places.into_iter().rev().max_by_key(|place| different(*place).len()).unwrap_or(usize::MAX);
        let mut by_word: BTreeMap<Option<&str>, Vec<Entry>> = BTreeMap::new();
        for (entry, pattern) in all {
            by_word.entry(pattern.and_then(|one| one.word_at(place))).or_default().push(*entry);
        }
        Self { place, by_word }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{Export, ExportId};

    #[test]
    fn only_phrases_that_may_fit_are_compared() {
        let phrases = [
            "rule {_n} let {_a}",
            "rule {_n} stop {_a}",
            "rule {_n}",
            "{_x} let {_y}",
            "rule {_n} [log]",
            "port {_n} up",
        ];
        let says: String = phrases.iter().map(|one| format!("[[phrase]]\nsays = \"{one}\"\n")).collect();
        let head = "phrasebook = \"trevlin-phrasebook/1\"\nname = \"x\"\nshape = \"lines\"\nrecognise.file = \"x\"\n";
        let text = format!("{head}{says}");
        let export = Export::new(ExportId(0), "x.toml", text);
        let (book, notes) = Phrasebook::read(&export);
        assert_eq!(notes, []);
        let index = Index::of(&book);
        for (statement, wanted) in [
            ("rule 7 let a", &[0, 2, 4][..]),
            ("rule 7 stop a", &[1, 2, 4]),
            ("rule 7", &[2, 4]),
            ("rule let b", &[2, 3, 4]),
            ("port a up", &[5]),
            ("port a down", &[]),
            ("7 let b", &[3]),
            ("7", &[]),
        ] {
            let words: Vec<Word<'_>> = statement.split(' ').map(|text| Word::bare(text, 0, 0)).collect();
            let mut found = Vec::new();
            index.candidates(1, &words, &mut found);
            assert_eq!(found, wanted, "{statement}");
        }
    }
}
