//! `trevlin phrasebook coverage`.

use crate::args::PhrasebookCoverage;
use crate::commands::interview::{Group, groups};
use crate::commands::sheet;
use crate::{context, limits, phrasebooks};
use std::io::{self, Write};
use std::process::ExitCode;
use toml_edit::{DocumentMut, Item, TableLike};
use trevlin_audit::{Analyses, Estate, Input, ValidEstateFile};
use trevlin_model::{DeviceKind, Export};
use trevlin_readers::sheet_guide;
use trevlin_render::sanitize;

/// Runs the command.
///
/// # Errors
/// When a file cannot be read.
pub(crate) fn run(arguments: &PhrasebookCoverage) -> anyhow::Result<ExitCode> {
    let (book, exports) = phrasebooks::given(&arguments.book, &arguments.exports)?;
    let all: Vec<&Export> = exports.iter().collect();
    let tried = book.try_together(&all);
    let sheet: DocumentMut =
        tried.first().map(|one| one.sheet.parse()).transpose().ok().flatten().unwrap_or_default();
    let kind = sheet.get("kind").and_then(Item::as_str).and_then(DeviceKind::from_word);
    let topics = groups(&sheet_guide(kind.unwrap_or(DeviceKind::Firewall)));
    let input = |(export, one): (Export, trevlin_readers::Tried)| Input {
        export,
        folder: "device".into(),
        format: Some("phrasebook"),
        facts: one.reading.facts,
        ledger: one.reading.ledger,
    };
    let inputs = exports.into_iter().zip(tried).map(input).collect();
    let estate = Estate::within(inputs, &ValidEstateFile::default(), limits::in_force());
    let requests = sheet::requests(&Analyses::of(estate));
    context::print(|out| {
        let mut listed = Vec::new();
        for group in &topics {
            if let Some(topic) = &group.topic {
                listed.clear();
                writeln!(out, "{topic}")?;
            }
            // Several groups of one section are variants of an entry.
            let known = sheet.get(&group.section).is_some();
            if known || !listed.contains(&group.section) {
                row(group, &sheet, out)?;
            }
            listed.push(group.section.clone());
        }
        writeln!(out, "\nINFORMATION REQUESTS of an audit")?;
        for request in &requests {
            let filled =
                textwrap::Options::new(context::width()).initial_indent("  - ").subsequent_indent("    ");
            writeln!(out, "{}", textwrap::fill(&sanitize(request), filled))?;
        }
        if requests.is_empty() {
            writeln!(out, "  none")?;
        }
        Ok(())
    })?;
    Ok(ExitCode::SUCCESS)
}

/// A section: its entries, the keys that they have, and those of the review that none of them has.
fn row(group: &Group, sheet: &DocumentMut, out: &mut dyn Write) -> io::Result<()> {
    let entries: Vec<&dyn TableLike> = match sheet.get(&group.section) {
        Some(Item::ArrayOfTables(all)) => all.iter().map(|one| one as &dyn TableLike).collect(),
        Some(item) => match (item.as_table_like(), item.as_array()) {
            (Some(one), _) => vec![one],
            (None, Some(all)) => {
                all.iter().filter_map(|one| one.as_inline_table().map(|one| one as &dyn TableLike)).collect()
            }
            (None, None) => Vec::new(),
        },
        None => return writeln!(out, "  {:<16} not stated", group.section),
    };
    if entries.is_empty() {
        return writeln!(out, "  {:<16} stated: none", group.section);
    }
    let (mut stated, mut missing) = (Vec::new(), Vec::new());
    for part in &group.parts {
        let inner = part.heading.trim_matches(['[', ']']).strip_prefix(&group.section).unwrap_or_default();
        let inner: Vec<&str> = inner.split('.').filter(|key| !key.is_empty()).collect();
        for field in part.fields.iter().filter(|field| field.key != "seen") {
            let path: Vec<&str> = inner.iter().copied().chain(field.key.split('.')).collect();
            let has = entries.iter().any(|entry| reaches(*entry, &path));
            if has { &mut stated } else { &mut missing }.push(path.join("."));
        }
    }
    let count = if entries.len() == 1 { "1 entry".to_owned() } else { format!("{} entries", entries.len()) };
    let filled = |first: &str, keys: &[String], out: &mut dyn Write| {
        let options = textwrap::Options::new(context::width())
            .initial_indent(first)
            .subsequent_indent("                     ");
        writeln!(out, "{}", textwrap::fill(&keys.join(", "), options))
    };
    filled(&format!("  {:<16} {count}: ", group.section), &stated, out)?;
    if missing.is_empty() {
        return Ok(());
    }
    filled("                   not stated: ", &missing, out)
}

/// Whether a path leads to a value, through lists as well.
fn reaches(table: &dyn TableLike, path: &[&str]) -> bool {
    let Some((first, rest)) = path.split_first() else { return true };
    let Some(item) = table.get(first) else { return false };
    if rest.is_empty() {
        return true;
    }
    match item {
        Item::ArrayOfTables(all) => all.iter().any(|one| reaches(one, rest)),
        item => match (item.as_table_like(), item.as_array()) {
            (Some(one), _) => reaches(one, rest),
            (None, Some(all)) => {
                all.iter().filter_map(|one| one.as_inline_table()).any(|one| reaches(one, rest))
            }
            (None, None) => false,
        },
    }
}
