//! Dumps of `iptables-save` and `ip6tables-save`, and files of the same form that are loaded at boot.
//!
//! Format: iptables-save(8), iptables-restore(8), iptables(8), iptables-extensions(8).

pub(crate) mod ipset;
mod matches;
mod numbers;
mod rule;
mod target;
mod tokens;
pub(crate) mod words;

use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use ipset::Sets;
pub(crate) use numbers::{protocols, services};
use rule::{Command, ParsedLine};
use std::collections::BTreeMap;
use trevlin_model::{
    Chain, ChainKind, Export, ExportState, Family, Filter, FilterFormat, Hook, LineClass, NamedSet,
    NotAnalysed, Origin, Rule, Target,
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
    let stored = export.path().split('/').any(|part| part == "etc")
        || matches!(export.file_name(), "rules.v4" | "rules.v6" | "iptables.rules" | "ip6tables.rules");
    if stored { ExportState::Stored } else { ExportState::Running }
}

/// The hook a built-in chain sits on.
fn hook(name: &str) -> Option<Hook> {
    Some(match name {
        "PREROUTING" => Hook::Prerouting,
        "INPUT" => Hook::Input,
        "FORWARD" => Hook::Forward,
        "OUTPUT" => Hook::Output,
        "POSTROUTING" => Hook::Postrouting,
        _ => return None,
    })
}

/// Order in which the kernel evaluates the built-in chains of a table, and their hooks (the priorities that nft(8) names; source
/// translation comes after filtering, destination translation before routing).
fn place(table: &str, hook: Option<Hook>) -> (i32, ChainKind) {
    let source = matches!(hook, Some(Hook::Postrouting | Hook::Input));
    match (table, hook) {
        ("raw", _) => (-300, ChainKind::Filter),
        ("mangle", Some(Hook::Output)) => (-150, ChainKind::Route),
        ("mangle", _) => (-150, ChainKind::Filter),
        ("nat", Some(_)) => (if source { 100 } else { -100 }, ChainKind::Nat),
        ("nat", None) => (0, ChainKind::Nat),
        ("security", _) => (50, ChainKind::Filter),
        _ => (0, ChainKind::Filter),
    }
}

/// One `*table` section while it is read.
struct Section<'a> {
    filter: Filter,
    family: Family,
    sets: &'a Sets,
    /// A line of it was lost that may have been anything.
    broken: bool,
    /// A part of a rule was not understood, and is replaced by one that may have any effect.
    open: bool,
    by_name: BTreeMap<String, usize>,
}

impl<'a> Section<'a> {
    fn new(table: &str, family: Family, state: ExportState, origin: Origin, sets: &'a Sets) -> Self {
        let filter = Filter {
            families: family.into(),
            format: FilterFormat::Iptables,
            table: table.into(),
            state,
            chains: Vec::new(),
            sets: Vec::new(),
            complete: false,
            gaps_placed: false,
            origin,
        };
        Self { filter, family, broken: false, open: false, by_name: BTreeMap::new(), sets }
    }

    /// The chain with this name, made where it is missing: built-in chains exist without being declared.
    fn chain(&mut self, name: &str, origin: Origin) -> &mut Chain {
        let at = *self.by_name.entry(name.to_owned()).or_insert_with(|| {
            let hook = hook(name);
            let policy = hook.map(|_| Target::Accept);
            let (priority, kind) = place(&self.filter.table, hook);
            let rules = Vec::new();
            self.filter.chains.push(Chain { name: name.into(), hook, priority, kind, policy, rules, origin });
            self.filter.chains.len() - 1
        });
        &mut self.filter.chains[at]
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
                        format!("table {} before this line has no COMMIT", unfinished.filter.table),
                    );
                    filters.push(unfinished.filter);
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
                        filters.extend(open.take().map(|section| section.filter));
                    }
                }
            },
        }
    }
    if let Some(unfinished) = open {
        let origin = unfinished.filter.origin;
        book.note(origin, "the dump breaks off: this table has no COMMIT; export it again");
        filters.push(unfinished.filter);
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
        reading.facts.forwards.extend(crate::forwards::of(&table));
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
        section.filter.complete = !section.broken && !section.open;
        section.filter.gaps_placed = !section.broken;
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
    let placed = matches!(&command, Some(Command::Append(..)));
    let applied = match command {
        Some(command) => apply(section, command, origin),
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
    let Some(at) = named.and_then(|name| section.by_name.get(name)) else { return false };
    section.filter.chains[*at].rules.push(Rule::open("not understood", origin));
    true
}

/// Keeps that a rule names a set.
fn name_set(section: &mut Section<'_>, name: String, origin: Origin) {
    let filter = &mut section.filter;
    if let Some(known) = filter.sets.iter_mut().find(|set| set.name == name) {
        known.used_at.push(origin);
        return;
    }
    let held = section.sets.get(&name);
    filter.sets.push(NamedSet {
        ranges: Vec::new(),
        filled_by_rules: held.is_some_and(|set| set.timeout),
        elements: held.map_or(0, |set| set.entries.len()),
        present: held.is_some(),
        used_at: vec![origin],
        origin: held.map_or(origin, |set| set.origin),
        name,
    });
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
    let chain = section.chain(name, origin);
    chain.origin = origin;
    if chain.hook.is_some() {
        chain.policy = policy.or(Some(Target::Accept));
    } else if policy.is_some() {
        return Err(format!("chain {name} is not built in and cannot have a policy"));
    }
    Ok(())
}

fn apply(section: &mut Section<'_>, command: Command, origin: Origin) -> Result<(), String> {
    match command {
        Command::Append(chain, rule) => {
            // The program rejects a rule for an undeclared chain; built-in chains exist always.
            if hook(&chain).is_none() && !section.by_name.contains_key(&chain) {
                return Err(format!("chain {chain} was not declared before this line"));
            }
            section.chain(&chain, origin).rules.push(rule);
        }
        Command::Insert(chain, place, rule) => {
            let rules = &mut section.chain(&chain, origin).rules;
            if place == 0 || place > rules.len() + 1 {
                return Err(format!(
                    "there is no place {place} in chain {chain}, which has {} rules here",
                    rules.len()
                ));
            }
            rules.insert(place - 1, rule);
        }
        Command::Policy(chain, policy) => {
            let chain = section.chain(&chain, origin);
            (chain.policy, chain.origin) = (Some(policy), origin);
        }
        Command::NewChain(chain) => {
            section.chain(&chain, origin);
        }
        Command::Flush(Some(chain)) => section.chain(&chain, origin).rules.clear(),
        Command::Flush(None) => section.filter.chains.iter_mut().for_each(|chain| chain.rules.clear()),
        Command::Nothing => {}
        Command::Delete(chain, rule) => {
            let rules = &mut section.chain(&chain, origin).rules;
            let found = rules.iter().position(|one| one.matches == rule.matches && one.target == rule.target);
            rules.remove(found.ok_or_else(|| format!("chain {chain} has no such rule to delete"))?);
        }
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
    let mut found = Vec::new();
    for rule in filter.chains.iter().flat_map(|chain| &chain.rules) {
        let condition = rule.matches.iter().find_map(|one| match &one.kind {
            trevlin_model::MatchKind::NotAnalysed(text) => Some(format!("a rule's condition `{text}`")),
            _ => None,
        });
        let target = match &rule.target {
            Target::NotAnalysed { name, .. } => Some(format!("a rule's target {name}")),
            _ => None,
        };
        if let Some(what) = condition.or(target) {
            let what = format!("{what} in table {} ({})", filter.table, export.file_name());
            found.push(NotAnalysed {
                what,
                may_serve: None,
                filters_packets: true,
                apart: false,
                only_blocks: false,
                origin: rule.origin,
            });
        }
    }
    found
}

#[cfg(test)]
mod tests;
