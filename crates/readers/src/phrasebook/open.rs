//! Statements that no phrase takes, within blocks whose other statements land in a rule or in a name: such an entry is known in part
//! only.

use super::target::{Plan, Target};
use crate::sheet::node::{Entry, Node, Value};
use smol_str::SmolStr;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::Origin;

/// What stands for a part of an entry that was not understood.
pub(super) const NOT_UNDERSTOOD: &str = "a part of it was not understood";

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

/// Leaves open how sources are translated towards interfaces and zones that statements name of which nothing is known: one line may hide a
/// network behind an address. Returns the places of those statements.
pub(super) fn translations(top: &mut Node, unknown: &[(Origin, Vec<SmolStr>)]) -> Vec<Origin> {
    if unknown.is_empty() {
        return Vec::new();
    }
    let named = |section: &str| {
        let entries = top.get(section).map_or(&[][..], Node::each);
        entries.iter().filter_map(|one| one.get("name")?.text().map(str::to_owned)).collect::<Vec<_>>()
    };
    let known: BTreeSet<String> = named("interfaces").into_iter().chain(named("zones")).collect();
    let mut to: BTreeMap<&str, Origin> = BTreeMap::new();
    for (origin, words) in unknown {
        for word in words.iter().filter(|word| known.contains(word.as_str())) {
            to.entry(word).or_insert(*origin);
        }
    }
    let entry = |(name, origin): (&&str, &Origin)| {
        let text = |text: &str| Value::Text(text.into());
        let fields = vec![
            Entry::new("to", *origin, Value::List(vec![Node { origin: *origin, value: text(name) }])),
            Entry::new("address", *origin, text(NOT_UNDERSTOOD)),
        ];
        Node { origin: *origin, value: Value::Table(fields) }
    };
    let entries: Vec<Node> = to.iter().map(entry).collect();
    let places: Vec<Origin> = to.values().copied().collect();
    let (Some(first), Value::Table(sections)) = (places.first(), &mut top.value) else { return Vec::new() };
    let at = sections.iter().position(|one| &*one.key == "translations").unwrap_or_else(|| {
        sections.push(Entry::new("translations", *first, Value::List(Vec::new())));
        sections.len() - 1
    });
    if let Value::List(all) = &mut sections[at].node.value {
        all.extend(entries);
    }
    places
}

#[cfg(test)]
mod tests {
    use crate::phrasebook::Phrasebook;
    use trevlin_model::{Export, ExportId, Target};

    /// Interfaces that a line may translate towards, by the unread rules that come of it.
    #[test]
    fn an_unknown_line_that_names_an_interface_may_translate() {
        let book = "phrasebook = \"trevlin-phrasebook/1\"\nname = \"x\"\nshape = \"indented\"\nrecognise.file = \"x\"\npasses = [\"lamp {_l:rest}\"]\n\
                    [values.side]\nsea = \"wire1\"\n[[phrase]]\nsays = \"wire {n}\"\nlands = { \"interfaces[name={n}].up\" = \"yes\" }\n\
                    [[phrase]]\nsays = \"let {from:side}\"\nlands = { \"rules[]\" = { from = [\"{from}\"], action = \"allow\" } }\n";
        for (line, wanted) in [
            ("mask wire1", 1),
            ("mask sea", 1),
            ("hide\n  behind wire1", 1),
            ("mask wire9", 0),
            ("lamp wire1", 0),
            // Within a block that is understood nothing is about the others.
            ("wire wire1\n  near wire1", 0),
        ] {
            let book = Export::new(ExportId(0), "book.toml", book.into());
            let (book, notes) = Phrasebook::read(&book);
            assert_eq!(notes, []);
            let export = Export::new(ExportId(0), "x", format!("wire wire1\nlet sea\n{line}\n"));
            let reading = book.read_export(&export);
            let rules = reading.facts.filters.iter().flat_map(|one| &one.chains).flat_map(|one| &one.rules);
            let open = |one: &&trevlin_model::Rule| matches!(&one.target, Target::NotAnalysed { name, .. } if name.contains("translation"));
            assert_eq!(rules.filter(open).count(), wanted, "{line}");
        }
    }
}
