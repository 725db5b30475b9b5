//! Statements that no phrase takes, within blocks whose other statements land in a rule or in a name: such an entry is known in part
//! only.

use super::target::Target;

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
    pub(super) scattered: bool,
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
