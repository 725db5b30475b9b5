//! Statements of slapd from either of its forms: `slapd.conf`, and the entries below `cn=config`.

use super::super::ldif::{self, Placed};
use crate::reader::ReadContext;
use std::collections::BTreeSet;
use std::ops::Range;
use trevlin_model::{Export, ExportId, Origin};

/// A word of a statement.
#[derive(Debug, Clone)]
pub(crate) struct Word {
    /// Without quotes and backslashes.
    pub(crate) text: String,
    /// Its place.
    pub(crate) origin: Origin,
}

/// A statement.
#[derive(Debug, Clone)]
pub(crate) struct Statement {
    /// Its keyword as `slapd.conf` has it, in small letters, and its arguments.
    pub(crate) words: Vec<Word>,
    /// Its lines.
    pub(crate) origin: Origin,
}

impl Statement {
    /// The keyword.
    pub(crate) fn keyword(&self) -> &str {
        self.words.first().map(|word| word.text.as_str()).unwrap_or_default()
    }

    /// An argument by its number, from 1 on.
    pub(crate) fn argument(&self, number: usize) -> &str {
        self.words.get(number).map(|word| word.text.as_str()).unwrap_or_default()
    }

    /// Its arguments.
    pub(crate) fn arguments(&self) -> impl Iterator<Item = &str> {
        self.words.iter().skip(1).map(|word| word.text.as_str())
    }
}

/// Statements of a database, or of the whole server.
#[derive(Debug, Clone)]
pub(crate) struct Section {
    /// Type of the database; empty for the whole server.
    pub(crate) kind: String,
    /// Statements.
    pub(crate) statements: Vec<Statement>,
    /// The line that begins it.
    pub(crate) origin: Origin,
}

impl Section {
    /// The last statement with a keyword.
    pub(crate) fn last(&self, keyword: &str) -> Option<&Statement> {
        self.all(keyword).last()
    }

    /// The statements with a keyword.
    pub(crate) fn all<'s>(&'s self, keyword: &str) -> impl Iterator<Item = &'s Statement> {
        self.statements.iter().filter(move |one| one.keyword() == keyword)
    }
}

/// Settings of a server: those for all databases, then those of each.
#[derive(Debug, Clone, Default)]
pub(crate) struct Settings {
    pub(crate) sections: Vec<Section>,
    /// Files that are included and are not among the exports.
    pub(crate) missing: Vec<(String, Origin)>,
    /// Names of the included schemas, without folder and ending.
    pub(crate) schemas: BTreeSet<String>,
}

impl Settings {
    /// Settings for the whole server.
    pub(crate) fn global(&self) -> Option<&Section> {
        self.sections.first()
    }

    /// The databases.
    pub(crate) fn databases(&self) -> impl Iterator<Item = &Section> {
        self.sections.iter().skip(1)
    }
}

/// Statements of one `slapd.conf`: lines with those that continue them, which begin with a blank.
pub(crate) fn of_file(export: &Export) -> Vec<Statement> {
    let mut logical: Vec<Range<usize>> = Vec::new();
    let text = export.text();
    for line in export.lines() {
        let start = export.origin_of(line.text).start as usize;
        let end = start + line.text.len();
        match logical.last_mut() {
            Some(last) if line.text.starts_with([' ', '\t']) => last.end = end,
            _ => logical.push(start..end),
        }
    }
    let found = logical.into_iter().filter_map(|range| {
        let whole = &text[range.clone()];
        if whole.starts_with('#') {
            return None;
        }
        let placed = Placed::plain(whole, range.start);
        let mut words = words(&placed, export);
        let first = words.first_mut()?;
        first.text = first.text.to_ascii_lowercase();
        let start = range.start + (whole.len() - whole.trim_start().len());
        Some(Statement { origin: export.origin(start..range.start + whole.trim_end().len()), words })
    });
    found.collect()
}

/// Words of a text: quotes hold one together, and a backslash takes the next letter as it is.
fn words(placed: &Placed, export: &Export) -> Vec<Word> {
    let text = placed.text.as_str();
    let mut found = Vec::new();
    let (mut word, mut start, mut quoted, mut escaped) = (None::<String>, 0, false, false);
    let mut end = |word: &mut Option<String>, part: Range<usize>| {
        if let Some(text) = word.take() {
            found.push(Word { text, origin: export.origin(placed.place(part)) });
        }
    };
    for (at, letter) in text.char_indices() {
        if letter.is_whitespace() && !quoted && !escaped {
            end(&mut word, start..at);
            continue;
        }
        let current = word.get_or_insert_with(|| {
            start = at;
            String::new()
        });
        match letter {
            _ if escaped => {
                current.push(letter);
                escaped = false;
            }
            '"' => quoted = !quoted,
            '\\' => escaped = true,
            // Lines that continue a statement begin with a blank, and their ends belong to it.
            '\n' | '\r' => {}
            _ => current.push(letter),
        }
    }
    end(&mut word, start..text.len());
    found
}

/// Everything that a `slapd.conf` and the files that it includes state.
pub(crate) fn of_conf(export: &Export, around: &ReadContext<'_>) -> Settings {
    let mut settings = Settings::default();
    let whole = Section { kind: String::new(), statements: Vec::new(), origin: export.origin(0..0) };
    settings.sections.push(whole);
    let mut place = 0;
    include(export, around, &mut settings, &mut place, &mut BTreeSet::new(), 8);
    settings
}

fn include(
    export: &Export,
    around: &ReadContext<'_>,
    settings: &mut Settings,
    place: &mut usize,
    seen: &mut BTreeSet<ExportId>,
    depth: usize,
) {
    if depth == 0 || !seen.insert(export.id()) {
        return;
    }
    for statement in of_file(export) {
        match statement.keyword() {
            "include" => {
                let path = statement.argument(1);
                let name = path.rsplit('/').next().unwrap_or_default();
                if let Some(schema) = name.strip_suffix(".schema") {
                    settings.schemas.insert(schema.to_owned());
                } else if let Some(file) = around.find(path, export) {
                    include(file, around, settings, place, seen, depth - 1);
                } else {
                    settings.missing.push((path.to_owned(), statement.origin));
                }
            }
            "database" if statement.argument(1).eq_ignore_ascii_case("frontend") => *place = 0,
            "database" => {
                let kind = statement.argument(1).to_ascii_lowercase();
                settings.sections.push(Section { kind, statements: Vec::new(), origin: statement.origin });
                *place = settings.sections.len() - 1;
            }
            // Settings of a type of database belong to none.
            "backend" => *place = usize::MAX,
            _ => {
                if let Some(section) = settings.sections.get_mut(*place) {
                    section.statements.push(statement);
                }
            }
        }
    }
}

/// Everything that the entries below `cn=config` state: those of one file, or of the files of a folder.
pub(crate) fn of_entries(exports: &[&Export]) -> Settings {
    let mut settings = Settings::default();
    let first =
        exports.first().map_or(Origin { export: ExportId(0), start: 0, end: 0 }, |one| one.origin(0..0));
    settings.sections.push(Section { kind: String::new(), statements: Vec::new(), origin: first });
    let mut numbers = vec![(i64::MIN, String::new())];
    for export in exports {
        for entry in ldif::entries(export).0 {
            let dn = entry.dn.to_ascii_lowercase();
            if dn.contains("cn=schema") {
                let name = dn.split(',').next().and_then(|part| part.strip_prefix("cn=")).unwrap_or_default();
                settings.schemas.insert(without_number(name).1.to_owned());
                continue;
            }
            let of_database = dn.split(',').find_map(|part| part.trim().strip_prefix("olcdatabase="));
            let at = match of_database.map(without_number) {
                None | Some((_, "frontend")) => 0,
                Some((number, kind)) => {
                    let known = numbers.iter().position(|one| one.0 == number && one.1 == kind);
                    known.unwrap_or_else(|| {
                        numbers.push((number, kind.to_owned()));
                        let statements = Vec::new();
                        settings.sections.push(Section {
                            kind: kind.to_owned(),
                            statements,
                            origin: entry.origin,
                        });
                        settings.sections.len() - 1
                    })
                }
            };
            if of_database.is_some() && dn.starts_with("olcdatabase=") {
                settings.sections[at].origin = entry.origin;
            }
            let mut added: Vec<(i64, Statement)> =
                entry.attributes.iter().filter_map(|one| statement(one, export)).collect();
            added.sort_by_key(|one| one.0);
            settings.sections[at].statements.extend(added.into_iter().map(|one| one.1));
        }
    }
    settings
}

/// The statement that an attribute is, with its number among those of its name.
fn statement(one: &ldif::Attribute, export: &Export) -> Option<(i64, Statement)> {
    let name = one.name.strip_prefix("olc")?;
    let keyword = match name {
        "requires" => "require",
        "disallows" => "disallow",
        "allows" => "allow",
        other => other,
    };
    let (number, rest) = without_number(&one.value.text);
    let skipped = one.value.text.len() - rest.len();
    let mut all = words(&one.value, export);
    if skipped > 0 {
        // The number may stand before the first word, or be the beginning of it.
        let first = all.first_mut()?;
        first.text = without_number(&first.text).1.to_owned();
        if first.text.is_empty() {
            all.remove(0);
        }
    }
    let begin = Word { text: keyword.to_owned(), origin: one.origin };
    all.insert(0, begin);
    Some((number, Statement { words: all, origin: one.origin }))
}

/// A value without the number in braces before it.
pub(super) fn without_number(text: &str) -> (i64, &str) {
    let found = text.strip_prefix('{').and_then(|rest| rest.split_once('}'));
    match found.and_then(|(number, rest)| Some((number.parse().ok()?, rest))) {
        Some(found) => found,
        None => (0, text),
    }
}
