//! Files of sections and nested relations that Kerberos reads (krb5.conf(5), STRUCTURE).

use crate::reader::{LineRecorder, ReadContext};
use crate::serving;
use std::collections::BTreeMap;
use trevlin_model::{Export, LineClass, Origin};

/// A relation: the names of its section and of the blocks around it, its own name and its value.
#[derive(Debug, Clone)]
pub(super) struct Relation {
    pub(super) within: Vec<String>,
    pub(super) name: String,
    pub(super) value: String,
    pub(super) origin: Origin,
}

/// A profile of one or several files, the first of which counts where both state a relation.
#[derive(Debug, Default)]
pub(super) struct Profile {
    all: Vec<Relation>,
    /// Positions of the relations by section, blocks and name: files may have thousands of each.
    by_name: BTreeMap<String, Vec<usize>>,
    /// Position of the first relation of each block of a section, in order of appearance.
    blocks: BTreeMap<String, Vec<usize>>,
    /// Files that are read in and were not exported, with the line that names them.
    pub(super) open: Vec<(String, Origin)>,
    /// The first line that keeps programs of Kerberos from starting, where there is one.
    pub(super) fault: Option<(Origin, &'static str)>,
}

impl Profile {
    /// Adds a relation behind those of before.
    fn add(&mut self, relation: Relation) {
        let at = self.all.len();
        let within: Vec<&str> = relation.within.iter().map(String::as_str).collect();
        if let [section, block, ..] = within[..] {
            let known = self.by_name.entry(key(&[section, block], "")).or_default();
            if known.is_empty() {
                self.blocks.entry(section.to_owned()).or_default().push(at);
            }
            known.push(at);
        }
        self.by_name.entry(key(&within, &relation.name)).or_default().push(at);
        self.all.push(relation);
    }

    /// Every relation of a name within sections and blocks.
    pub(super) fn every<'a>(
        &'a self,
        within: &[&str],
        name: &str,
    ) -> impl Iterator<Item = &'a Relation> + use<'a> {
        self.by_name.get(&key(within, name)).into_iter().flatten().map(|at| &self.all[*at])
    }

    /// The first of them, which counts.
    pub(super) fn first(&self, within: &[&str], name: &str) -> Option<(&str, Origin)> {
        self.every(within, name).next().map(|one| (one.value.as_str(), one.origin))
    }

    /// Every relation of a block, in order.
    pub(super) fn of_block<'a>(
        &'a self,
        section: &str,
        block: &str,
    ) -> impl Iterator<Item = &'a Relation> + use<'a> {
        self.every(&[section, block], "")
    }

    /// A switch (krb5.conf(5)): `yes`, `true`, `t`, `y`, `1`, `on`, and their opposites.
    pub(super) fn is(&self, within: &[&str], name: &str) -> Option<(bool, Origin)> {
        let (value, origin) = self.first(within, name)?;
        let value = match value.to_ascii_lowercase().as_str() {
            "y" | "yes" | "true" | "t" | "1" | "on" => true,
            "n" | "no" | "false" | "nil" | "0" | "off" => false,
            _ => return None,
        };
        Some((value, origin))
    }

    /// Names of the blocks of a section, in their order.
    pub(super) fn blocks(&self, section: &str) -> Vec<&str> {
        let found = self.blocks.get(section).into_iter().flatten();
        found.filter_map(|at| self.all[*at].within.get(1).map(String::as_str)).collect()
    }
}

/// Key of a name within sections and blocks; without a name that of a block as a whole.
fn key(within: &[&str], name: &str) -> String {
    format!("{}\u{1f}{name}", within.join("\u{1f}"))
}

/// What one line of a profile is.
#[derive(Debug, PartialEq, Eq)]
enum Line<'a> {
    Section(&'a str),
    Close,
    Open(&'a str),
    Value(&'a str, &'a str),
    Include(&'a str),
    Folder(&'a str),
    Module,
    Fault(&'static str),
}

fn line<'a>(text: &'a str, depth: usize) -> Line<'a> {
    for (word, is) in [
        ("include", Line::Include as fn(&'a str) -> Line<'a>),
        ("includedir", Line::Folder),
        ("module", |_| Line::Module),
    ] {
        if let Some(rest) = text.strip_prefix(word).filter(|rest| rest.starts_with(char::is_whitespace)) {
            return is(rest.trim());
        }
    }
    if let Some(rest) = text.strip_prefix('[') {
        return match rest.split_once(']') {
            _ if depth > 1 => Line::Fault("expected `}` before the next section"),
            None => Line::Fault("expected `]` behind the name of the section"),
            Some((name, _)) => Line::Section(name),
        };
    }
    if depth == 0 {
        return Line::Fault("expected `[section]` above this line");
    }
    if text.starts_with('}') {
        return if depth > 1 { Line::Close } else { Line::Fault("expected no `}` here: no block is open") };
    }
    let Some((name, value)) = text.split_once('=') else { return Line::Fault("expected `name = value`") };
    let name = name.trim_end().trim_end_matches('*');
    if name.is_empty() || name.contains(char::is_whitespace) {
        return Line::Fault("expected one name before the equals sign");
    }
    match value.trim() {
        "{" => Line::Open(name),
        value => Line::Value(name, value),
    }
}

/// The profile of files, the most important first.
pub(super) fn load<'a>(files: &[&'a Export], around: &ReadContext<'a>) -> Profile {
    let mut profile = Profile::default();
    for export in files {
        take(export, around, 0, &mut profile);
    }
    profile
}

fn take<'a>(export: &'a Export, around: &ReadContext<'a>, depth: usize, profile: &mut Profile) {
    /// How deep files read in others here.
    const MOST: usize = 10;
    let mut within: Vec<String> = Vec::new();
    for text in entries(export) {
        let origin = export.origin_of(text);
        match line(text, within.len()) {
            Line::Section(name) => within = vec![name.to_owned()],
            Line::Close => _ = within.pop(),
            Line::Open(name) => within.push(name.to_owned()),
            Line::Value(name, value) => profile.add(Relation {
                within: within.clone(),
                name: name.to_owned(),
                value: unquoted(value),
                origin,
            }),
            Line::Include(path) if depth < MOST => match around.find(path, export) {
                Some(other) if other.path() != export.path() => take(other, around, depth + 1, profile),
                _ => profile.open.push((path.to_owned(), origin)),
            },
            Line::Folder(path) if depth < MOST => {
                for other in folder(path, export, around) {
                    take(other, around, depth + 1, profile);
                }
            }
            Line::Include(_) | Line::Folder(_) | Line::Module => {}
            Line::Fault(why) => {
                profile.fault.get_or_insert((origin, why));
            }
        }
    }
}

/// Files of a folder: those with plain names, or that end in `.conf` (krb5.conf(5), includedir).
fn folder<'a>(path: &str, export: &'a Export, around: &ReadContext<'a>) -> Vec<&'a Export> {
    let mut found = around.find_all(&format!("{}/*", path.trim_end_matches('/')), export);
    found.retain(|one| {
        let name = one.file_name();
        let plain = name.chars().all(|letter| letter.is_ascii_alphanumeric() || "-_".contains(letter));
        one.path() != export.path() && (plain || (name.ends_with(".conf") && !name.starts_with('.')))
    });
    found
}

fn entries(export: &Export) -> impl Iterator<Item = &str> {
    let lines = export.lines().map(|line| line.text.trim());
    lines.filter(|text| !text.is_empty() && !text.starts_with(['#', ';']))
}

/// A value without its quotes, in which a backslash takes the next sign as it is.
fn unquoted(value: &str) -> String {
    let Some(inner) = value.strip_prefix('"') else { return value.to_owned() };
    let (mut found, mut escaped) = (String::new(), false);
    for letter in inner.chars() {
        match letter {
            _ if escaped => {
                found.push(letter);
                escaped = false;
            }
            '\\' => escaped = true,
            '"' => break,
            _ => found.push(letter),
        }
    }
    found
}

/// Classifies the lines of a profile: those with a name of `judged` become facts.
pub(super) fn record(export: &Export, judged: &[&str], book: &mut LineRecorder<'_>) {
    /// Sections with names of their own.
    const FREE: [&str; 7] = ["appdefaults", "capaths", "domain_realm", "login", "logging", "kdc", "plugins"];
    let mut within: Vec<&str> = Vec::new();
    for text in entries(export) {
        let origin = export.origin_of(text);
        match line(text, within.len()) {
            Line::Section(name) => {
                within = vec![name];
                book.understood(origin);
            }
            Line::Close => {
                within.pop();
                book.understood(origin);
            }
            Line::Open(name) => {
                within.push(name);
                book.understood(origin);
            }
            Line::Include(_) | Line::Folder(_) => book.understood(origin),
            Line::Module => book.class(origin, LineClass::Ignored),
            Line::Fault(why) => {
                book.not_understood(origin, format!("{why}: programs of Kerberos do not start"));
            }
            Line::Value(..) if within.first().is_some_and(|first| FREE.contains(first)) => {
                book.class(origin, LineClass::Ignored);
            }
            Line::Value(name, _) if judged.contains(&name) => book.understood(origin),
            Line::Value(name, _) if serving::is_known("kerberos", name) || name.starts_with("pkinit_") => {
                book.class(origin, LineClass::Ignored);
            }
            // Below a block of a realm, names of mappings are free.
            Line::Value(..) if within.len() > 2 => book.class(origin, LineClass::Ignored),
            Line::Value(..) => book.not_understood(origin, serving::unknown("krb5.conf(5)")),
        }
    }
}
