//! Statements that no phrase takes, within blocks whose other statements land in a rule or in a name: such an entry is known in part
//! only.

use super::target::{Plan, Target};
use std::collections::BTreeSet;
use std::sync::Arc;

/// Part of a rule base.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Part {
    /// A rule, by itself.
    Rule,
    /// A name for addresses.
    Addresses,
    /// A name for services.
    Services,
    /// A named list of rules.
    List,
    /// An entry that is kept aside for one of these.
    Aside(Arc<str>),
    /// The whole: its defaults, zones, forwards and translations.
    Whole,
}

impl Part {
    /// `aside`: sections that are copied into a rule base.
    fn of(target: &Target, aside: &BTreeSet<Arc<str>>) -> Option<Self> {
        Some(match target.section()? {
            name if aside.contains(name) => Self::Aside(name.into()),
            "rules" => Self::Rule,
            "address-names" => Self::Addresses,
            "service-names" => Self::Services,
            "lists" => Self::List,
            "rule-list" | "zones" | "forwards" | "translations" | "filters" => Self::Whole,
            _ => return None,
        })
    }

    /// The section of a sheet that has its entries.
    pub(super) fn section(&self) -> Option<&str> {
        match self {
            Self::Aside(name) => Some(name),
            Self::Rule => Some("rules"),
            Self::Addresses => Some("address-names"),
            Self::Services => Some("service-names"),
            Self::List => Some("lists"),
            Self::Whole => None,
        }
    }
}

/// Where something lands in a rule base.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Block {
    /// Number of the target among those of the phrase.
    pub(super) target: usize,
    /// What it lands in.
    pub(super) part: Part,
    /// Level of the phrase, from 0, whose statement is the block of the entry.
    pub(super) level: usize,
    /// Whether several blocks may land in the same entry.
    pub(super) scattered: bool,
}

/// Sections kept aside, by their names, whose values are copied into a rule base, also by way of others.
pub(super) fn asides<'a>(lands: impl Iterator<Item = &'a (Target, Plan)> + Clone) -> BTreeSet<Arc<str>> {
    let none = BTreeSet::new();
    let mut found: BTreeSet<Arc<str>> = BTreeSet::new();
    loop {
        let before = found.len();
        for (target, plan) in lands.clone() {
            let known = target.section().is_some_and(|name| found.contains(name));
            if known || Part::of(target, &none).is_some() {
                plan.copied(&mut found);
            }
        }
        if found.len() == before {
            return found;
        }
    }
}

/// The parts of a rule base in which something lands, each once.
pub(super) fn blocks(
    lands: &[(Target, Plan)],
    levels: &[(usize, usize)],
    aside: &BTreeSet<Arc<str>>,
) -> Vec<Block> {
    let mut found: Vec<Block> = Vec::new();
    for (number, (target, _)) in lands.iter().enumerate() {
        let Some(part) = Part::of(target, aside) else { continue };
        let level_of = |capture: usize| levels.iter().rposition(|(_, first)| *first <= capture).unwrap_or(0);
        let (level, scattered) = target.block(level_of, levels.len());
        let known = |one: &Block| one.part == part && lands[one.target].0.first() == target.first();
        if !found.iter().any(known) {
            found.push(Block { target: number, part, level, scattered });
        }
    }
    found
}

/// Entries that the statements of a block land in.
#[derive(Debug, Default)]
pub(super) struct Landed {
    entries: Vec<(Part, usize)>,
}

/// Number of entries of one block that are distinguished.
const MOST: usize = 8;

impl Landed {
    /// Adds an entry by its number in its section.
    pub(super) fn add(&mut self, part: Part, at: usize) {
        if self.entries.iter().any(|one| one.0 == part && one.1 == at) {
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
