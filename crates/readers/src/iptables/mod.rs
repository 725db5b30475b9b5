//! Dumps of `iptables-save` and `ip6tables-save`, and files of the same form that are loaded at boot.
//!
//! Format: iptables-save(8), iptables-restore(8), iptables(8), iptables-extensions(8).

pub(crate) mod ipset;
mod load;
mod matches;
mod numbers;
mod rule;
mod target;
mod tokens;
pub(crate) mod words;

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use ipset::Sets;
pub(crate) use load::Loader;
pub(crate) use numbers::{protocol, protocols, services};
use rule::{Command, ParsedLine};
use std::borrow::Cow;
use tokens::Token;
use trevlin_model::{
    Export, ExportState, Family, Filter, IptablesTable, LineClass, NamedSet, NotAnalysed, Origin, Rule,
    TableChange, Target,
};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "iptables-save",
    title: "iptables-save or ip6tables-save dump",
    manual: "iptables-save(8), iptables-extensions(8)",
    recognise,
    read,
};

/// Tables that the kernel has (iptables(8), -t).
const TABLES: [&str; 5] = ["filter", "nat", "mangle", "raw", "security"];

fn recognise(export: &Export) -> Recognition {
    if crate::ufw::parts::is_part(export) {
        return Recognition::No;
    }
    let mut table = false;
    for line in export.lines().take(200) {
        let text = line.text.trim();
        if text.strip_prefix('*').is_some_and(|name| TABLES.contains(&name)) {
            table = true;
        } else if table
            && (text.starts_with(':') || text.starts_with("-A ") || text == "COMMIT" || text.starts_with('['))
        {
            return Recognition::Content;
        }
    }
    let name = export.file_name();
    let named = matches!(
        name,
        "rules.v4" | "rules.v6" | "iptables.rules" | "ip6tables.rules" | "ip6tables" | "iptables"
    ) || name.starts_with("iptables-save")
        || name.starts_with("ip6tables-save");
    if table || named { Recognition::Name } else { Recognition::No }
}

/// IP version of a dump: from the header of the program, otherwise from the file's name, otherwise from the rules.
fn family(export: &Export) -> Family {
    for line in export.lines().filter(|line| line.text.starts_with('#')) {
        if line.text.contains("ip6tables-save") {
            return Family::V6;
        }
        if line.text.contains("iptables-save") {
            return Family::V4;
        }
    }
    let name = export.file_name();
    let content = ["ipv6-icmp", "icmpv6", "icmp6"].iter().any(|word| export.text().contains(word));
    if name.contains("ip6") || name.contains("v6") || content { Family::V6 } else { Family::V4 }
}

/// Whether a path names something that applies at boot.
fn state(export: &Export) -> ExportState {
    let made = ["var/lib/shorewall", "var/cache/ferm"].iter().any(|folder| export.path().contains(folder));
    let stored = made
        || export.path().split('/').any(|part| part == "etc")
        || matches!(export.file_name(), "rules.v4" | "rules.v6" | "iptables.rules" | "ip6tables.rules");
    if stored { ExportState::Stored } else { ExportState::Running }
}

/// One `*table` section while it is read.
struct Section<'a> {
    table: IptablesTable,
    family: Family,
    sets: &'a Sets,
    /// A line of it was lost that may have been anything.
    broken: bool,
    /// A part of a rule was not understood, and is replaced by one that may have any effect.
    open: bool,
}

impl<'a> Section<'a> {
    fn new(table: &str, family: Family, state: ExportState, origin: Origin, sets: &'a Sets) -> Self {
        let table = IptablesTable::new(table, family, state, origin);
        Self { table, family, broken: false, open: false, sets }
    }
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    let (family, state) = (family(export), state(export));
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut filters: Vec<Filter> = Vec::new();
    let sets = around.once(|| ipset::of(around));
    let mut open: Option<Section<'_>> = None;
    let (mut elsewhere, mut lost) = (Vec::new(), false);
    for line in export.lines() {
        let text = line.text.trim();
        let origin = export.origin_of(text);
        match text.as_bytes().first() {
            Some(b'#') if text.contains("-legacy tables present") => {
                // The program prints this when the kernel holds rules of its older form as well.
                book.not_understood(
                    origin,
                    "there are rules that this dump does not show; export `iptables-legacy-save` too",
                );
                elsewhere.push(NotAnalysed::beside("a second ruleset, of iptables-legacy", origin));
            }
            None | Some(b'#') => {}
            Some(b'*') => {
                if let Some(unfinished) = open.take() {
                    book.note(
                        origin,
                        format!("table {} before this line has no COMMIT", unfinished.table.filter.table),
                    );
                    filters.push(unfinished.table.filter);
                }
                open = Some(start_section(&text[1..], family, state, origin, &sets, &mut book));
            }
            _ => match open.as_mut() {
                None => {
                    lost = true;
                    book.not_understood(origin, "expected a `*table` line before this one");
                }
                Some(section) => {
                    if statement(section, text, origin, &mut book) {
                        filters.extend(open.take().map(|section| section.table.filter));
                    }
                }
            },
        }
    }
    if let Some(unfinished) = open {
        let origin = unfinished.table.filter.origin;
        book.note(origin, "the dump breaks off: this table has no COMMIT; export it again");
        filters.push(unfinished.table.filter);
    }
    // The program says of each table that it wrote it whole.
    let count = |sign: &str| export.lines().filter(|line| line.text.starts_with(sign)).count();
    let ends = export.ends_with_line() && !filters.is_empty();
    if !ends && count("# Generated by") > count("# Completed on") {
        lost = true;
        book.note(
            export.last_line(),
            "the dump breaks off: its last line should say `# Completed on`; export it again",
        );
    }
    // After a truncated comment the rest is not known.
    lost |= filters.is_empty() && export.breaks_off();
    let mut filters = keep_last(filters, &mut book);
    if lost {
        filters.iter_mut().for_each(|filter| (filter.complete, filter.gaps_placed) = (false, false));
        if filters.is_empty() {
            elsewhere.push(NotAnalysed::beside("a ruleset that was not exported whole", export.origin(0..0)));
        }
    }
    name_unused(&mut filters, family, &sets);
    for table in filters {
        warn_of_missing_chains(&table, &mut book);
        reading.facts.not_analysed.extend(not_analysed(export, &table));
        reading.facts.forwards.extend(trevlin_model::forwards::of(&table));
        reading.facts.filters.push(table);
    }
    reading.facts.not_analysed.extend(elsewhere);
    reading
}

fn start_section<'a>(
    name: &str,
    family: Family,
    state: ExportState,
    origin: Origin,
    sets: &'a Sets,
    book: &mut LineRecorder<'_>,
) -> Section<'a> {
    if TABLES.contains(&name) {
        book.understood(origin);
    } else {
        book.not_understood(origin, format!("`{name}` is no table; expected one of {}", TABLES.join(", ")));
    }
    Section::new(name, family, state, origin, sets)
}

/// Takes one line of a table. Returns whether it closes the table.
fn statement(section: &mut Section<'_>, text: &str, origin: Origin, book: &mut LineRecorder<'_>) -> bool {
    if text == "COMMIT" {
        section.table.filter.complete = !section.broken && !section.open;
        section.table.filter.gaps_placed = !section.broken;
        book.understood(origin);
        return true;
    }
    if let Some(declaration) = text.strip_prefix(':') {
        match declare(section, declaration, origin) {
            Ok(()) => book.understood(origin),
            Err(why) => {
                section.broken = true;
                book.not_understood(origin, why);
            }
        }
        return false;
    }
    let ParsedLine { command, problem, sets } = rule::parse(text, section.family, origin, section.sets);
    for name in sets {
        name_set(section, name, origin);
    }
    let placed = matches!(&command, Some(Command::Change(TableChange::Append { .. })));
    let applied = match command {
        Some(Command::Change(change)) => section.table.change(change, origin),
        Some(Command::Nothing) => Ok(()),
        None => Err("expected a rule such as `-A INPUT …`".to_owned()),
    };
    let lost = match (&problem, &applied) {
        (Some(_), Ok(())) if placed => false,
        (None, Ok(())) => false,
        _ => !stand_in(section, text, origin),
    };
    section.broken |= lost;
    section.open |= problem.is_some() || applied.is_err();
    match problem.map_or(applied, Err) {
        Ok(()) => book.understood(origin),
        Err(why) => book.not_understood(origin, why),
    }
    false
}

/// Puts a rule that may do anything in the place of one that cannot be read, where its chain can.
fn stand_in(section: &mut Section<'_>, text: &str, origin: Origin) -> bool {
    let named = text.strip_prefix("-A ").and_then(|rest| rest.split_whitespace().next());
    let Some(at) = named.and_then(|name| section.table.known(name)) else { return false };
    section.table.filter.chains[at].rules.push(Rule::open("not understood", origin));
    true
}

/// Keeps that a rule names a set.
fn name_set(section: &mut Section<'_>, name: String, origin: Origin) {
    let filter = &mut section.table.filter;
    if let Some(known) = filter.sets.iter_mut().find(|set| set.name == name) {
        known.used_at.push(origin);
        return;
    }
    filter.sets.push(named_set(section.sets, name, origin));
}

/// A set that a rule names.
pub(crate) fn named_set(sets: &Sets, name: String, origin: Origin) -> NamedSet {
    let held = sets.get(&name);
    NamedSet {
        ranges: Vec::new(),
        filled_by_rules: held.is_some_and(|set| set.timeout),
        elements: held.map_or(0, |set| set.entries.len()),
        present: held.is_some(),
        used_at: vec![origin],
        origin: held.map_or(origin, |set| set.origin),
        name,
    }
}

/// A command of iptables by its words.
pub(crate) struct OfWords {
    /// What it changes; nothing, for those that change no rule or were not understood.
    pub(crate) change: Option<TableChange>,
    /// The part that was not understood: a rule has it as a condition that may hold or not.
    pub(crate) problem: Option<String>,
    /// Sets that it names.
    pub(crate) sets: Vec<String>,
}

/// Takes a command of iptables apart.
pub(crate) fn of_words(words: &[&str], family: Family, origin: Origin, sets: &Sets) -> OfWords {
    let tokens = words.iter().map(|word| Token { text: Cow::Borrowed(*word), quoted: word.contains(' ') });
    let ParsedLine { command, problem, sets } = rule::of_tokens(tokens.collect(), None, family, origin, sets);
    let change = match command {
        Some(Command::Change(change)) => Some(change),
        Some(Command::Nothing) | None => None,
    };
    OfWords { change, problem, sets }
}

/// Lists of this IP version that no table names belong to the one that filters.
fn name_unused(filters: &mut [Filter], family: Family, sets: &Sets) {
    let named: Vec<String> =
        filters.iter().flat_map(|filter| &filter.sets).map(|set| set.name.clone()).collect();
    let Some(filter) = filters.iter_mut().find(|filter| filter.table == "filter") else { return };
    for (name, set) in sets.iter().filter(|(name, set)| set.family == family && !named.contains(name)) {
        // A list in another list is used where that is.
        let listed = sets.values().any(|other| other.entries.contains(name));
        if !listed {
            filter.sets.push(NamedSet {
                ranges: Vec::new(),
                name: name.clone(),
                filled_by_rules: set.timeout,
                elements: set.entries.len(),
                present: true,
                used_at: Vec::new(),
                origin: set.origin,
            });
        }
    }
}

/// `NAME POLICY [packets:bytes]`
fn declare(section: &mut Section<'_>, declaration: &str, origin: Origin) -> Result<(), String> {
    let mut words = declaration.split_whitespace();
    let name = words.next().ok_or("a chain name is missing after `:`")?;
    let policy = match words.next() {
        Some("ACCEPT") => Some(Target::Accept),
        Some("DROP") => Some(Target::Drop),
        Some("-") => None,
        None => return Err("a policy is missing: expected ACCEPT, DROP or -".into()),
        Some(other) => return Err(format!("`{other}` is no policy; expected ACCEPT, DROP or -")),
    };
    // Where anything else follows, it may have been a line of its own.
    let counted = |word: &str| {
        let inside = word.strip_prefix('[').and_then(|rest| rest.strip_suffix(']'));
        let numbers = inside.and_then(|numbers| numbers.split_once(':'));
        numbers.is_some_and(|(one, other)| one.parse::<u64>().is_ok() && other.parse::<u64>().is_ok())
    };
    let counters = words.next();
    if counters.is_some_and(|word| !counted(word)) || words.next().is_some() {
        return Err(format!("expected `:{name} POLICY [packets:bytes]` and nothing more"));
    }
    let chain = section.table.chain(name, origin);
    chain.origin = origin;
    if chain.hook.is_some() {
        chain.policy = policy.or(Some(Target::Accept));
    } else if policy.is_some() {
        return Err(format!("chain {name} is not built in and cannot have a policy"));
    }
    Ok(())
}

/// A table that occurs twice: loading the second empties the first (iptables-restore(8), without --noflush).
fn keep_last(filters: Vec<Filter>, book: &mut LineRecorder<'_>) -> Vec<Filter> {
    let mut kept: Vec<Filter> = Vec::new();
    for filter in filters {
        if let Some(at) = kept.iter().position(|one| one.table == filter.table) {
            book.note(
                filter.origin,
                format!("table {} occurs twice; this one replaces the earlier", filter.table),
            );
            kept.remove(at);
        }
        kept.push(filter);
    }
    kept
}

fn warn_of_missing_chains(filter: &Filter, book: &mut LineRecorder<'_>) {
    for rule in filter.chains.iter().flat_map(|chain| &chain.rules) {
        if let Target::Jump(name) | Target::Goto(name) = &rule.target
            && filter.chain(name).is_none()
        {
            book.class(rule.origin, LineClass::NotUnderstood);
            book.note(
                rule.origin,
                format!("chain {name} is not in this dump; what happens in it is not known"),
            );
        }
    }
}

/// Statements that the engine cannot analyse, kept as facts and never dropped.
fn not_analysed(export: &Export, filter: &Filter) -> Vec<NotAnalysed> {
    let rules = filter.chains.iter().flat_map(|chain| &chain.rules);
    rules.filter_map(|rule| not_analysed_in(rule, &filter.table, export.file_name())).collect()
}

/// The statement of a rule that the engine cannot analyse.
pub(crate) fn not_analysed_in(rule: &Rule, table: &str, file: &str) -> Option<NotAnalysed> {
    let condition = rule.matches.iter().find_map(|one| match &one.kind {
        trevlin_model::MatchKind::NotAnalysed(text) => Some(format!("a rule's condition `{text}`")),
        _ => None,
    });
    let target = match &rule.target {
        Target::NotAnalysed { name, .. } => Some(format!("a rule's target {name}")),
        _ => None,
    };
    let what = format!("{} in table {table} ({file})", condition.or(target)?);
    Some(NotAnalysed {
        what,
        may_serve: None,
        filters_packets: true,
        apart: false,
        only_blocks: false,
        origin: rule.origin,
    })
}

#[cfg(test)]
mod tests;
