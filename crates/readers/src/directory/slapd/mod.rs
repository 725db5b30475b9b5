//! slapd, the server of OpenLDAP: who reads and writes its entries, how a login is protected, where it listens.
//!
//! Formats: slapd.conf(5); entries below `cn=config`, slapd-config(5), as files of a folder or as a report of slapcat(8); its start,
//! `/etc/default/slapd`.

mod access;
mod attributes;
mod grants;
mod passwords;
mod rights;
mod samples;
mod served;
mod statements;

use super::ldif;
use crate::files::hosts_access;
use crate::reader::{LineRecorder, ReadContext, Reader, Reading, Recognition};
use crate::serving::{self, is_known};
use access::Rule;
use passwords::kind_of;
use statements::{Settings, Statement};
use std::sync::Arc;
use trevlin_model::secret::SecretKind;
use trevlin_model::{Export, Facts, LineClass, Origin, Secret, SecretRecord};

/// The reader.
pub(crate) const READER: Reader = Reader {
    name: "slapd",
    title: "directory server (OpenLDAP)",
    manual: "slapd.conf(5), slapd-config(5)",
    recognise,
    read,
};

fn recognise(export: &Export) -> Recognition {
    let (folder, name) = export.path().rsplit_once('/').unwrap_or(("", export.path()));
    let inside = |folder: &str| folder.split('/').any(|part| matches!(part, "ldap" | "openldap"));
    if is_entries(export) || matches!(name, "slapd.conf") {
        return Recognition::Content;
    }
    if is_start(export) || (inside(folder) && name.starts_with("slapd")) {
        return Recognition::Name;
    }
    Recognition::No
}

/// Entries below `cn=config`.
fn is_entries(export: &Export) -> bool {
    let mut lines = export.lines().map(|line| line.text);
    let first = lines.by_ref().take(40).find(|text| !text.is_empty() && !text.starts_with(['#', ' ']));
    let Some(first) = first else { return false };
    let first = if first.starts_with("version:") {
        lines.find(|text| text.starts_with("dn:")).unwrap_or_default()
    } else {
        first
    };
    let Some(dn) = first.strip_prefix("dn:") else { return false };
    let dn = dn.trim().to_ascii_lowercase();
    dn.ends_with("cn=config")
        || dn.starts_with("olc")
        || (export.path().contains("slapd.d/") && !dn.is_empty())
}

/// The file with the arguments of the start.
fn is_start(export: &Export) -> bool {
    ["default/slapd", "sysconfig/slapd", "sysconfig/openldap"].iter().any(|end| export.path().ends_with(end))
}

fn read(export: &Export, around: &ReadContext<'_>) -> Reading {
    let mut reading = Reading::of(export);
    reading.ledger.set(1, export.line_count(), LineClass::Ignored);
    if is_start(export) {
        read_start(export, &mut reading);
        return reading;
    }
    if is_entries(export) {
        read_entries(export, &mut reading);
    } else {
        read_file(export, around, &mut reading);
    }
    let main = main_of(export, around);
    if let Some(settings) = main {
        let starts = around.of_format(&READER).map(|one| one.0).filter(|one| is_start(one));
        let named =
            starts.filter_map(|one| variable(one, "SLAPD_SERVICES").or_else(|| variable(one, "SLAPD_URLS")));
        served::serve(&settings, export, named.last(), &mut reading.facts);
        hosts_access::limit(&mut reading.facts.served, around, export, "slapd");
    }
    reading
}

/// All settings, where this is the file that the server begins with.
fn main_of(export: &Export, around: &ReadContext<'_>) -> Option<Settings> {
    let of_format: Vec<&Export> = around.of_format(&READER).map(|one| one.0).collect();
    let mut folder: Vec<&Export> =
        of_format.iter().copied().filter(|one| one.path().contains("slapd.d/") && is_entries(one)).collect();
    folder.sort_by_key(|one| one.path());
    let first = folder.iter().find(|one| one.path().ends_with("slapd.d/cn=config.ldif"));
    let forced = of_format.iter().filter(|one| is_start(one)).find_map(|one| variable(one, "SLAPD_CONF"));
    let forced = forced.filter(|(path, _)| path.ends_with(".conf"));
    if is_entries(export) {
        if forced.is_some() {
            return None;
        }
        if let Some(first) = first {
            return (first.id() == export.id()).then(|| statements::of_entries(&folder));
        }
        let whole = |one: &&&Export| {
            is_entries(one)
                && one.lines().any(|line| line.text.to_ascii_lowercase().starts_with("dn: olcdatabase="))
        };
        let report = of_format.iter().find(whole)?;
        return (report.id() == export.id()).then(|| statements::of_entries(&[export]));
    }
    // A folder takes precedence over the file (slapd(8), -F).
    if export.file_name() != "slapd.conf"
        && forced.as_ref().is_none_or(|(path, _)| !export.path().ends_with(path.as_str()))
    {
        return None;
    }
    if first.is_some() && forced.is_none() {
        return None;
    }
    Some(statements::of_conf(export, around))
}

/// The value of a variable of the shell, with its line.
fn variable(export: &Export, name: &str) -> Option<(String, Origin)> {
    let found = export.lines().filter_map(|line| {
        let text = line.text.trim();
        let value = text.strip_prefix(name)?.strip_prefix('=')?;
        Some((serving::unquoted(value.trim()).to_owned(), export.origin_of(text)))
    });
    found.last().filter(|(value, _)| !value.is_empty())
}

/// Variables of the start, as Debian's and Fedora's packages have them.
const VARIABLES: [&str; 11] = [
    "KRB5_KTNAME",
    "SLAPD_CONF",
    "SLAPD_GROUP",
    "SLAPD_NO_START",
    "SLAPD_OPTIONS",
    "SLAPD_PIDFILE",
    "SLAPD_SENTINEL_FILE",
    "SLAPD_SERVICES",
    "SLAPD_SHUTDOWN_TIMEOUT",
    "SLAPD_URLS",
    "SLAPD_USER",
];

fn read_start(export: &Export, reading: &mut Reading) {
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for text in serving::entries(export) {
        let origin = export.origin_of(text);
        let name = text.trim_start_matches("export ").split('=').next().unwrap_or_default().trim();
        if VARIABLES.contains(&name) {
            book.class(origin, LineClass::Understood);
        } else {
            book.not_understood(origin, "not a variable of the start of slapd; check its spelling");
        }
    }
}

fn read_file(export: &Export, around: &ReadContext<'_>, reading: &mut Reading) {
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    let mut secrets = Vec::new();
    for statement in statements::of_file(export) {
        let keyword = statement.keyword();
        if !is_known("slapd", keyword) {
            book.not_understood(statement.origin, serving::unknown("slapd.conf(5)"));
            continue;
        }
        book.class(statement.origin, LineClass::Understood);
        if keyword == "include" {
            let path = statement.argument(1);
            let schema = path.ends_with(".schema");
            if !schema && around.find(path, export).is_none() {
                book.missing(statement.origin, path);
            }
        }
        if keyword == "access"
            && let Err(wrong) = Rule::parse(&statement)
        {
            book.not_understood(statement.origin, wrong);
        }
        secrets.extend(secrets_of(&statement));
    }
    hold(export, &mut reading.facts, secrets);
}

fn read_entries(export: &Export, reading: &mut Reading) {
    let (entries, strange) = ldif::entries(export);
    let mut book = LineRecorder::new(export, &mut reading.ledger, &mut reading.elsewhere);
    for origin in strange {
        book.not_understood(origin, "expected `attribute: value` of an entry (RFC 2849)");
    }
    for entry in &entries {
        book.class(entry.origin, LineClass::Understood);
        for one in &entry.attributes {
            if is_known("slapd-entries", &one.name) {
                book.class(one.origin, LineClass::Understood);
            } else {
                book.not_understood(one.origin, serving::unknown("slapd-config(5)"));
            }
        }
    }
    let settings = statements::of_entries(&[export]);
    let all = settings.sections.iter().flat_map(|section| &section.statements);
    let mut secrets = Vec::new();
    for statement in all {
        if statement.keyword() == "access"
            && let Err(wrong) = Rule::parse(statement)
        {
            book.not_understood(statement.origin, wrong);
        }
        secrets.extend(secrets_of(statement));
    }
    hold(export, &mut reading.facts, secrets);
}

/// A secret in a statement: its text, its place, and what it is for.
struct Found {
    text: String,
    origin: Origin,
    kind: SecretKind,
    owner: String,
}

fn secrets_of(statement: &Statement) -> Vec<Found> {
    let of = |text: &str, origin, owner: &str| Found {
        text: text.to_owned(),
        origin,
        kind: kind_of(text),
        owner: owner.to_owned(),
    };
    if statement.keyword() == "rootpw" {
        let word = statement.words.get(1);
        return word.map(|word| of(&word.text, word.origin, "root of the directory")).into_iter().collect();
    }
    let words = statement.words.iter().skip(1);
    let found = words.filter_map(|word| {
        let lower = word.text.to_ascii_lowercase();
        let length = ["credentials=", "secret="].iter().find(|key| lower.starts_with(**key))?.len();
        let start = word.origin.start + u32::try_from(length).unwrap_or_default();
        let origin = Origin { start: start.min(word.origin.end), ..word.origin };
        Some(of(word.text.get(length..)?, origin, statement.keyword()))
    });
    found.collect()
}

fn hold(export: &Export, facts: &mut Facts, all: Vec<Found>) {
    for one in all.into_iter().filter(|one| !one.text.is_empty() && one.origin.export == export.id()) {
        facts.secrets.push(Arc::new(SecretRecord {
            secret: Secret::new(&one.text),
            kind: one.kind,
            owner: one.owner,
            origin: one.origin,
        }));
    }
}

#[cfg(test)]
mod tests;
