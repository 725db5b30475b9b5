//! Statements that no phrase takes, within blocks whose other statements land in a rule or in a name: what is known of such an entry is not
//! all of it.

use super::book::Phrasebook;
use super::pattern::{Pattern, Word};
use super::target::Target;
use std::collections::BTreeMap;

/// Part of a rule base.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Part {
    /// A rule, by itself.
    Rule,
    /// A name for addresses.
    Addresses,
    /// A name for services.
    Services,
    /// A named list of rules.
    List,
    /// The whole: its defaults, zones, forwards and translations.
    Whole,
}

impl Part {
    fn of(target: &Target) -> Option<Self> {
        Some(match target.section()? {
            "rules" => Self::Rule,
            "address-names" => Self::Addresses,
            "service-names" => Self::Services,
            "lists" => Self::List,
            "rule-list" | "zones" | "forwards" | "translations" | "filters" => Self::Whole,
            _ => return None,
        })
    }

    /// The section of a sheet that has its entries.
    pub(super) fn section(self) -> Option<&'static str> {
        match self {
            Self::Rule => Some("rules"),
            Self::Addresses => Some("address-names"),
            Self::Services => Some("service-names"),
            Self::List => Some("lists"),
            Self::Whole => None,
        }
    }
}

/// Where something lands in a rule base.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Block {
    /// Number of the target among those of the phrase.
    pub(super) target: usize,
    /// What it lands in.
    pub(super) part: Part,
    /// Level of the phrase, from 0, whose statement is the block of the entry.
    pub(super) level: usize,
    /// Whether several blocks may land in the same entry.
    scattered: bool,
}

/// The parts of a rule base in which something lands, each once.
pub(super) fn blocks(lands: &[(Target, super::target::Plan)], levels: &[(usize, usize)]) -> Vec<Block> {
    let mut found: Vec<Block> = Vec::new();
    for (number, (target, _)) in lands.iter().enumerate() {
        let Some(part) = Part::of(target) else { continue };
        let level_of = |capture: usize| levels.iter().rposition(|(_, first)| *first <= capture).unwrap_or(0);
        let (level, scattered) = target.block(level_of, levels.len());
        let known = |one: &Block| one.part == part && lands[one.target].0.first() == target.first();
        if !found.iter().any(known) {
            found.push(Block { target: number, part, level, scattered });
        }
    }
    found
}

/// What a statement may be that begins like one of a rule base.
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
                if let Some(word) = pattern.first_word() {
                    found.by_word.entry(word).or_default().add(begins);
                } else {
                    found.others.push((pattern, (!phrase.anywhere).then_some(block.level), begins));
                }
            }
        }
        found
    }

    /// What a statement at a depth may be, by its beginning.
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

/// Entries that the statements of a block land in.
#[derive(Debug, Default)]
pub(super) struct Landed {
    entries: Vec<(Part, usize)>,
}

/// How many entries of one block are told apart.
const MOST: usize = 8;

impl Landed {
    /// Adds an entry by its number in its section.
    pub(super) fn add(&mut self, part: Part, at: usize) {
        if self.entries.contains(&(part, at)) {
            return;
        }
        if self.entries.len() >= MOST {
            self.entries.clear();
            self.entries.push((Part::Whole, 0));
            return;
        }
        self.entries.push((part, at));
    }

    pub(super) fn take(&mut self) -> Vec<(Part, usize)> {
        std::mem::take(&mut self.entries)
    }
}
