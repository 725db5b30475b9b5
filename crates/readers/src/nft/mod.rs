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

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition, TELLING_LINES};
use crate::uci::included::Place;
use expr::{Command, TableName};
use trevlin_model::{Export, ExportState, Filter, NotAnalysed, Rule};

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
    // A script of another interpreter may hold a ruleset among its commands.
    if export.text().starts_with("#!")
        && !export.text().lines().next().is_some_and(|line| line.contains("nft"))
    {
        return Recognition::No;
    }
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
    // Where nothing is loaded the program prints nothing.
    let words = || export.file_name().split(|one: char| !one.is_ascii_alphanumeric());
    let empty = export.text().trim().is_empty() && words().any(|word| matches!(word, "nft" | "nftables"));
    let name = empty || matches!(export.file_name(), "nftables.conf") || export.file_name().ends_with(".nft");
    if content {
        Recognition::Content
    } else if name {
        Recognition::Name
    } else {
        Recognition::No
    }
}

/// The exports that a line reads in.
fn included<'a>(line: &str, other: &Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
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

/// Rules of a file that the firewall of another program puts into one of its chains, with what became of its lines, and whether
/// all of it could be taken.
pub(crate) fn rules_of_chain(export: &Export, around: &ReadContext<'_>) -> (Vec<Rule>, Reading, bool) {
    let (filter, reading, whole) = fragment(export, around, true);
    let rules = filter.and_then(|filter| filter.chains.into_iter().next()).map(|chain| chain.rules);
    (rules.unwrap_or_default(), reading, whole)
}

/// Chains and sets of a file that the firewall of another program puts into its table, likewise.
pub(crate) fn parts_of_table(export: &Export, around: &ReadContext<'_>) -> (Option<Filter>, Reading, bool) {
    fragment(export, around, false)
}

/// A fragment of the table `inet fw4`: rules of one chain, or what a table holds.
fn fragment(export: &Export, around: &ReadContext<'_>, of_chain: bool) -> (Option<Filter>, Reading, bool) {
    let mut reading = Reading::of(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut variables = cursor::Variables::default();
    let (table, chain) = (TableName { family: "inet".into(), name: "fw4".into() }, "chain".to_owned());
    let origin = export.origin(0..0);
    let mut commands = vec![Command::Table(table.clone(), origin)];
    if of_chain {
        commands.push(Command::Chain { table: table.clone(), name: chain.clone(), base: None, origin });
    }
    let mut parser = parser::Parser::new(export, around, &mut book, &mut commands, &mut variables, true);
    if of_chain {
        parser.rules_of(&table, &chain);
    } else {
        parser.parts_of(&table);
    }
    let whole = !variables.lost && variables.missing.is_empty();
    let built = build::build(commands, ExportState::Stored);
    (built.filters.into_iter().next(), reading, whole)
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    match crate::uci::included::fragments(around).0.get(export.path()) {
        Some(Place::Chain { .. }) => return rules_of_chain(export, around).1,
        Some(Place::Table) => return parts_of_table(export, around).1,
        Some(Place::Ruleset) | None => {}
    }
    let mut reading = Reading::of(export);
    let part = around.reads_in(export, included);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let (commands, breaks_off, missing) = if is_json(export) {
        let (commands, broken) = json::read(export, &mut book);
        (commands, broken, Vec::new())
    } else {
        let mut commands = Vec::new();
        let mut variables = cursor::Variables::default();
        parser::Parser::new(export, around, &mut book, &mut commands, &mut variables, part).file();
        (commands, variables.lost, variables.missing)
    };
    // Commands of an included file are executed there.
    if part {
        return reading;
    }
    let built = build::build(commands, state(export));
    for (origin, text) in built.notes {
        book.note(origin, text);
    }
    reading.facts.not_analysed = built.not_analysed;
    reading.facts.forwards = built.filters.iter().flat_map(trevlin_model::forwards::of).collect();
    reading.facts.filters = built.filters;
    // Rules that were lost may have decided anything; of one of which a part was, its place is known.
    let cut = breaks_off || export.breaks_off() || !reading.ledger.cuts.is_empty();
    for filter in &mut reading.facts.filters {
        (filter.complete, filter.gaps_placed) = (filter.complete && !cut, filter.gaps_placed && !cut);
    }
    for (path, origin) in missing {
        reading.facts.not_analysed.push(NotAnalysed::beside(
            format!("`{path}`, which is included here and is not among the exports,"),
            origin,
        ));
    }
    // Remains without a readable part still show that there is a filter; the name of a table may be all that is left.
    if cut && reading.facts.filters.iter().all(|filter| filter.chains.is_empty()) {
        reading
            .facts
            .not_analysed
            .push(NotAnalysed::beside("a ruleset that was not exported whole", export.origin(0..0)));
    }
    reading
}

#[cfg(test)]
mod tests;
