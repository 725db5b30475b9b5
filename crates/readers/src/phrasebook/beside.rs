//! Neighbours of a statement: in many exports one member of a block decides the meaning of the others.

use super::book::Phrasebook;
use super::pattern::Word;
use super::sink::Sink;
use std::collections::BTreeSet;
use trevlin_model::Origin;

/// The statements that phrases depend on, by the number of the statement around them.
#[derive(Debug, Default)]
pub(super) struct Beside(BTreeSet<(u64, usize)>);

impl Beside {
    /// Whether one of these statements holds the statement of a condition.
    pub(super) fn holds(&self, condition: usize, around: impl Iterator<Item = u64>) -> bool {
        around.into_iter().any(|number| self.0.contains(&(number, condition)))
    }
}

/// Numbers of statements: each has one, and so has a block without words of its own.
#[derive(Debug)]
pub(super) struct Numbers {
    next: u64,
    /// Those of the statement at hand and of the ones around it.
    pub(super) open: Vec<u64>,
}

impl Numbers {
    pub(super) fn from(first: u64) -> Self {
        Self { next: first, open: Vec::new() }
    }

    /// A statement begins at a depth.
    pub(super) fn begin(&mut self, depth: usize) {
        self.open.truncate(depth);
        while self.open.len() <= depth {
            self.next += 1;
            self.open.push(self.next);
        }
    }
}

/// Goes through an export for the statements that phrases depend on.
pub(super) struct Collector<'b> {
    book: &'b Phrasebook,
    numbers: Numbers,
    found: Beside,
}

impl<'b> Collector<'b> {
    pub(super) fn of(book: &'b Phrasebook, first: u64) -> Self {
        Self { book, numbers: Numbers::from(first), found: Beside::default() }
    }

    pub(super) fn found(self) -> Beside {
        self.found
    }
}

impl<'a> Sink<'a> for Collector<'_> {
    fn statement(&mut self, depth: usize, words: &[Word<'a>], _: Origin) {
        let depth = depth.min(super::sink::DEPTH);
        self.numbers.begin(depth);
        let Some(outer) = depth.checked_sub(1) else { return };
        for (number, condition) in self.book.conditions.iter().enumerate() {
            let fits = condition.pattern.as_ref().is_none_or(|one| one.matches(words).is_some());
            if fits && words.len() <= super::results::LONGEST {
                self.found.0.insert((self.numbers.open[outer], number));
            }
        }
    }

    fn broken(&mut self, _: Origin, _: &str) {}

    fn cut(&mut self, _: Origin) {}
}
