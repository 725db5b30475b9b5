//! Several files loaded one after the other into the same tables, each with what was loaded before left in place (iptables-restore(8),
//! `--noflush`).

use super::ipset::Sets;
use super::rule::{self, Command};
use super::{Section, start_section, statement};
use crate::reader::LineRecorder;
use trevlin_model::{Export, ExportState, Family, Filter, Origin, Rule, TableChange, Target};

/// The tables of one IP version while files are loaded into them.
pub(crate) struct Loader<'a> {
    family: Family,
    sets: &'a Sets,
    sections: Vec<Section<'a>>,
}

impl<'a> Loader<'a> {
    /// No table yet.
    pub(crate) fn new(family: Family, sets: &'a Sets) -> Self {
        Self { family, sets, sections: Vec::new() }
    }

    /// Number of the section of a table, begun where nothing was loaded into it yet.
    fn section(&mut self, table: &str, origin: Origin) -> usize {
        if let Some(at) = self.sections.iter().position(|one| one.table.filter.table == table) {
            return at;
        }
        self.sections.push(Section::new(table, self.family, ExportState::Stored, origin, self.sets));
        self.sections.len() - 1
    }

    /// Loads a file. A chain of its own that it declares is emptied first; a built-in one keeps its rules.
    pub(crate) fn file(&mut self, export: &Export, book: &mut LineRecorder<'_>) {
        let mut at = None;
        for line in export.lines() {
            let text = line.text.trim();
            let origin = export.origin_of(text);
            match (text.as_bytes().first(), at) {
                (None | Some(b'#'), _) => {}
                (Some(b'*'), _) => {
                    // What it says of a name that is no table goes to the recorder alone.
                    start_section(&text[1..], self.family, ExportState::Stored, origin, self.sets, book);
                    at = Some(self.section(&text[1..], origin));
                }
                (_, None) => book.not_understood(origin, "expected a `*table` line before this one"),
                (_, Some(number)) => {
                    let section = &mut self.sections[number];
                    let name = text.strip_prefix(':').and_then(|rest| rest.split_whitespace().next());
                    let chain = name.and_then(|name| section.table.known(name));
                    if let Some(chain) = chain.map(|chain| &mut section.table.filter.chains[chain])
                        && chain.hook.is_none()
                    {
                        chain.rules.clear();
                    }
                    if statement(section, text, origin, book) {
                        at = None;
                    }
                }
            }
        }
        if let Some(section) = at.map(|at| &mut self.sections[at]) {
            // Without its last line nothing of a table is loaded, but more likely the rest of the export is missing.
            section.broken = true;
            book.note(export.last_line(), "the table before this line has no COMMIT; export the file again");
        }
    }

    /// Loads one line that the program itself writes into a table. Returns whether it was understood whole: parts of it may be from an
    /// export.
    pub(crate) fn line(&mut self, table: &str, text: &str, origin: Origin) -> bool {
        let at = self.section(table, origin);
        if let Some(declared) = text.strip_prefix(':') {
            let mut words = declared.split_whitespace();
            let chain = self.sections[at].table.chain(words.next().unwrap_or_default(), origin);
            if chain.hook.is_some() {
                chain.origin = origin;
                chain.policy = Some(match words.next() {
                    Some("DROP") => Target::Drop,
                    _ => Target::Accept,
                });
            }
            return true;
        }
        let parsed = rule::parse(text, self.family, origin, self.sets);
        let section = &mut self.sections[at];
        let applied = match parsed.command {
            Some(Command::Change(mut change)) => {
                // Jumps between the program's own chains are in no file.
                if let TableChange::Append { rule, .. } = &mut change
                    && matches!(rule.target, Target::Jump(_))
                    && rule.matches.is_empty()
                {
                    rule.comment = Some(format!("{}ufw", Rule::GENERATED));
                }
                section.table.change(change, origin).is_ok()
            }
            Some(Command::Nothing) | None => false,
        };
        let whole = applied && parsed.problem.is_none();
        section.open |= !whole;
        whole
    }

    /// Puts a rule behind those of a chain.
    pub(crate) fn rule(&mut self, table: &str, chain: &str, rule: Rule) {
        let at = self.section(table, rule.origin);
        self.sections[at].table.chain(chain, rule.origin).rules.push(rule);
    }

    /// The tables as they are loaded.
    pub(crate) fn tables(self) -> Vec<Filter> {
        let finish = |section: Section<'_>| {
            let mut filter = section.table.filter;
            filter.complete = !section.broken && !section.open;
            filter.gaps_placed = !section.broken;
            filter
        };
        self.sections.into_iter().map(finish).collect()
    }
}
