//! Many phrasebooks at once: which of them is for an export, without asking each for each line.

use super::pattern::{Pattern, Word};
use super::shape::{self, Shape};
use super::sink::Sink;
use super::{Phrasebook, Recognition, TELLING_LINES, line_words};
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Deref;
use trevlin_model::{Export, Origin};

/// Phrasebooks in order: where several are for an export, the first is taken.
#[derive(Debug, Default)]
pub struct Shelf<B> {
    books: Vec<B>,
    /// Lines that tell, by the word they begin with.
    by_word: BTreeMap<String, Vec<Sign>>,
    /// Those that begin with no certain word.
    others: Vec<Sign>,
    /// Phrasebooks that recognise by name alone, or by lines without fixed words.
    without_words: Vec<usize>,
}

/// A characteristic line: the number of its phrasebook, and its number there.
type Sign = (usize, usize);

impl<B: Deref<Target = Phrasebook>> Shelf<B> {
    /// Puts phrasebooks in order.
    #[must_use]
    pub fn of(books: Vec<B>) -> Self {
        let mut by_word: BTreeMap<String, Vec<Sign>> = BTreeMap::new();
        let mut others = Vec::new();
        let mut without_words = Vec::new();
        for (number, book) in books.iter().enumerate() {
            let mut words = false;
            for (at, level) in book.telling.iter().enumerate() {
                let Some(pattern) = &level.pattern else { continue };
                words = true;
                match pattern.word_at(0) {
                    Some(word) => by_word.entry(word.to_owned()).or_default().push((number, at)),
                    None => others.push((number, at)),
                }
            }
            if !words {
                without_words.push(number);
            }
        }
        Self { books, by_word, others, without_words }
    }

    /// The first phrasebook that recognises an export by its content.
    #[must_use]
    pub fn by_content(&self, export: &Export) -> Option<&B> {
        let mut seen: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
        // Where no line can begin with a characteristic word, none is examined.
        let begins = !self.others.is_empty()
            || self
                .by_word
                .keys()
                .any(|word| memchr::memmem::find(export.text().as_bytes(), word.as_bytes()).is_some());
        for line in export.lines().take(if begins { TELLING_LINES } else { 0 }) {
            let words = line_words::plain(export, line.text.trim());
            let bare = line_words::opening(export, line.text.trim());
            let here = bare.first().and_then(|word| self.by_word.get(word.text)).into_iter().flatten();
            for (number, at) in here.chain(&self.others) {
                let known = seen.get(number).is_some_and(|all| all.contains(at));
                let pattern = || self.books[*number].telling[*at].pattern.as_ref();
                let matches =
                    |pattern: &Pattern| pattern.matches(&words).is_some() || pattern.matches(&bare).is_some();
                if !known && pattern().is_some_and(matches) {
                    seen.entry(*number).or_default().insert(*at);
                }
            }
        }
        self.by_statement(export, &mut seen);
        let whole = |(number, all): (&usize, &BTreeSet<usize>)| {
            let wanted = self.books[*number].telling.iter().filter(|level| level.pattern.is_some()).count();
            (all.len() == wanted).then_some(*number)
        };
        let any_line = export.lines().next().is_some();
        let anything = self
            .without_words
            .iter()
            .copied()
            .filter(|number| any_line && !self.books[*number].telling.is_empty());
        let mut found: Vec<usize> = seen.iter().filter_map(whole).chain(anything).collect();
        found.sort_unstable();
        found.into_iter().map(|number| &self.books[number]).find(|book| book.fits_name(export) != Some(false))
    }

    /// The characteristic lines of phrasebooks for JSON and XML that statements of an export fit: a program may write all of it on one line.
    fn by_statement(&self, export: &Export, seen: &mut BTreeMap<usize, BTreeSet<usize>>) {
        let begins = export.text().trim_start_matches(['\u{feff}', ' ', '\t', '\r', '\n']);
        let shape = match begins.chars().next() {
            Some('{' | '[') => Shape::Json,
            Some('<') => Shape::Xml,
            _ => return,
        };
        let open = |(number, book): (usize, &B)| {
            let telling = book.telling.iter().filter(|level| level.pattern.is_some()).count();
            let known = seen.get(&number).map_or(0, BTreeSet::len);
            (book.shape == shape && known < telling).then_some(number)
        };
        let books: Vec<usize> = self.books.iter().enumerate().filter_map(open).collect();
        if books.is_empty() {
            return;
        }
        let mut teller = Teller { shelf: self, books, export, shape, statements: 0, seen };
        shape::walk(shape, &[], &[], export, 1..export.line_count() + 1, &mut teller);
    }

    /// The first phrasebook that recognises an export by its name and does not examine its content.
    #[must_use]
    pub fn by_name(&self, export: &Export) -> Option<&B> {
        let books = self.without_words.iter().map(|number| &self.books[*number]);
        books.filter(|book| book.telling.is_empty()).find(|book| book.fits_name(export) == Some(true))
    }
}

/// Compares the first statements of an export with characteristic lines.
struct Teller<'s, 'a, B> {
    shelf: &'s Shelf<B>,
    /// Numbers of the phrasebooks at hand.
    books: Vec<usize>,
    export: &'a Export,
    shape: Shape,
    statements: usize,
    seen: &'s mut BTreeMap<usize, BTreeSet<usize>>,
}

impl<'a, B: Deref<Target = Phrasebook>> Sink<'a> for Teller<'_, 'a, B> {
    fn statement(&mut self, _: usize, words: &[Word<'a>], line: Origin) {
        self.statements += 1;
        if self.statements > TELLING_LINES {
            return;
        }
        // As a line of its own would have it.
        let as_line = match (self.shape, words) {
            (Shape::Json, [name, value]) => vec![*name, Word::bare(":", name.end, name.end), *value],
            (Shape::Xml, _) => {
                let text = self.export.text().get(line.start as usize..line.end as usize);
                line_words::plain(self.export, text.unwrap_or_default())
            }
            _ => Vec::new(),
        };
        for number in &self.books {
            for (at, level) in self.shelf.books[*number].telling.iter().enumerate() {
                let Some(pattern) = &level.pattern else { continue };
                if pattern.matches(words).is_some() || pattern.matches(&as_line).is_some() {
                    self.seen.entry(*number).or_default().insert(at);
                }
            }
        }
    }

    fn broken(&mut self, _: Origin, _: &str) {}

    fn cut(&mut self, _: Origin) {}
}

impl Phrasebook {
    /// Whether an export is one that the phrasebook is for.
    #[must_use]
    pub fn recognises(&self, export: &Export) -> Recognition {
        let shelf = Shelf::of(vec![self]);
        match (shelf.by_content(export), shelf.by_name(export)) {
            (Some(_), _) => Recognition::Declared,
            (None, Some(_)) => Recognition::Name,
            (None, None) => Recognition::No,
        }
    }
}
