//! nftables rulesets: what `nft list ruleset` prints, files written by hand, and the JSON of `nft -j list ruleset`.
//!
//! Format: nft(8), libnftables-json(5). Text and JSON become the same commands, and those the same tables.

mod build;
pub(crate) mod cursor;
mod expr;
mod json;
mod lexer;
mod maker;
mod matches;
mod parser;
mod statements;
pub(crate) mod table;
mod values;

use crate::reader::{Bookkeeper, Growth, Reader, Reading, Recognition, Surroundings, TELLING_LINES};
use std::collections::BTreeMap;
use trevlin_model::{Export, ExportState};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "nftables",
    title: "nftables ruleset, as text or JSON",
    manual: "nft(8), libnftables-json(5)",
    recognise,
    read,
};

const FAMILIES: [&str; 6] = ["ip", "ip6", "inet", "arp", "bridge", "netdev"];

fn is_json(export: &Export) -> bool {
    let mut rest = export.text().trim_start();
    for part in ["{", "\"nftables\"", ":"] {
        let Some(after) = rest.strip_prefix(part) else { return false };
        rest = after.trim_start();
    }
    true
}

fn recognise(export: &Export) -> Recognition {
    let opens_table = |text: &str| {
        let mut words = text.split_whitespace();
        if words.next() != Some("table") {
            return false;
        }
        let second = words.next().unwrap_or_default();
        let name = if FAMILIES.contains(&second) { words.next() } else { Some(second) };
        name.is_some_and(|name| !name.is_empty()) && text.trim_end().ends_with('{')
    };
    let commands = |text: &str| {
        let mut words = text.split_whitespace();
        let verb = words.next().is_some_and(|word| matches!(word, "add" | "create" | "insert"));
        let what =
            words.next().is_some_and(|word| matches!(word, "table" | "chain" | "rule" | "set" | "map"));
        verb && what && words.next().is_some_and(|word| FAMILIES.contains(&word))
    };
    let content = is_json(export)
        || export.lines().take(TELLING_LINES).any(|line| {
            let text = line.text.trim_start();
            opens_table(text)
                || commands(text)
                || text.starts_with("flush ruleset")
                || text.starts_with("add table ")
        });
    let name = matches!(export.file_name(), "nftables.conf") || export.file_name().ends_with(".nft");
    if content {
        Recognition::Content
    } else if name {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// The exports that a line reads in.
fn included<'a>(line: &str, other: &Export, around: &Surroundings<'a>) -> Vec<&'a Export> {
    let Some(path) = line.trim_start().strip_prefix("include ") else { return Vec::new() };
    if recognise(other) == Recognition::No {
        return Vec::new();
    }
    around.find_all(path.trim().trim_matches(['"', '\'', ';']), other)
}

fn state(export: &Export) -> ExportState {
    let stored = export.path().split('/').any(|part| part == "etc")
        || export.file_name() == "nftables.conf"
        || export.file_name().ends_with(".nft");
    if stored { ExportState::Stored } else { ExportState::Running }
}

fn read(export: &Export, around: &Surroundings<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let part = around.reads_in(export, included);
    let mut book = Bookkeeper::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut breaks_off = false;
    let commands = if is_json(export) {
        let (commands, broken) = json::read(export, &mut book);
        breaks_off = broken;
        commands
    } else {
        let mut commands = Vec::new();
        let mut variables = cursor::Variables { known: BTreeMap::new(), growth: Growth::of(export) };
        parser::Parser::new(export, around, &mut book, &mut commands, &mut variables, part).file();
        commands
    };
    // What another file reads in is carried out there.
    if part {
        return reading;
    }
    let built = build::build(commands, state(export));
    for (origin, text) in built.notes {
        book.note(origin, text);
    }
    reading.facts.not_modelled = built.not_modelled;
    reading.facts.forwards = built.filters.iter().flat_map(crate::forwards::of).collect();
    reading.facts.filters = built.filters;
    // Rules that were lost may have decided anything.
    reading.facts.filters.iter_mut().filter(|_| breaks_off).for_each(|filter| filter.complete = false);
    reading
}

#[cfg(test)]
mod tests;
