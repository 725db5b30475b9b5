//! `trevlin accept`: an entry in the estate file with the risk owner of a finding.

use crate::context::{print, today};
use crate::load;
use crate::verbosity::Verbosity;
use crate::{args, output};
use anyhow::{Context, bail};
use std::fs;
use std::path::Path;
use std::process::ExitCode;
use toml_edit::{ArrayOfTables, DocumentMut, Item, Table, value};
use trevlin_audit::{ESTATE_FILE, Finding, Outcome, SHORTEST_FINGERPRINT, Status, ValidEstateFile, audit};
use trevlin_render::sanitize;

/// Runs the command.
///
/// # Errors
/// When there is no such finding, it is accepted already, or the estate file cannot be written.
pub(crate) fn run(arguments: &args::Accept) -> anyhow::Result<ExitCode> {
    let as_of = arguments.as_of.unwrap_or_else(today);
    if arguments.until < as_of {
        bail!("{} has passed; --until is the last day on which the acceptance is valid", arguments.until);
    }
    if !arguments.path.is_dir() {
        bail!("{} is not a folder; name the folder of the estate", arguments.path.display());
    }
    for (name, text) in [("owner", &arguments.owner), ("reason", &arguments.reason)] {
        if text.trim().is_empty() {
            bail!("--{name} is empty; an acceptance needs a named owner");
        }
    }
    let estate = load::estate(std::slice::from_ref(&arguments.path), Verbosity::Nothing)?;
    let outcome = audit(&estate, &estate.baseline(as_of));
    let finding = find(&outcome, &arguments.fingerprint)?;
    if let (Status::Accepted, Some(known)) = (finding.status, &finding.acceptance) {
        bail!(
            "`{}` is already accepted by {} until {}; change that entry in {ESTATE_FILE}",
            finding.title,
            known.owner,
            known.until
        );
    }
    let at = arguments.path.join(ESTATE_FILE);
    let line = write(&at, finding, arguments)?;
    let told = format!(
        "{}:{line}: {}: {}\n  accepted by {} until {}\n",
        at.display(),
        sanitize(&finding.device),
        sanitize(&finding.title),
        sanitize(arguments.owner.trim()),
        arguments.until
    );
    print(|out| out.write_all(told.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}

/// The finding that a fingerprint, or the beginning of one, is of.
fn find<'a>(outcome: &'a Outcome, fingerprint: &str) -> anyhow::Result<&'a Finding> {
    let wanted = fingerprint.to_ascii_lowercase();
    if wanted.len() < SHORTEST_FINGERPRINT || !wanted.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        bail!(
            "`{fingerprint}` is not a fingerprint; expected at least {SHORTEST_FINGERPRINT} of the characters that `trevlin \
             audit` shows after the check"
        );
    }
    let fitting: Vec<&Finding> =
        outcome.findings().filter(|one| one.fingerprint.starts_with(&wanted)).collect();
    match fitting.as_slice() {
        [one] => Ok(one),
        [] => bail!(
            "no finding of this estate has a fingerprint that begins with `{wanted}`; it may be fixed, or belong to another \
             estate"
        ),
        several => {
            let all: Vec<&str> = several.iter().map(|one| one.fingerprint.as_str()).collect();
            bail!("`{wanted}` matches several findings: {}", all.join(", "))
        }
    }
}

/// Adds the entry to the estate file without changing the rest. Returns the entry's line.
fn write(at: &Path, finding: &Finding, arguments: &args::Accept) -> anyhow::Result<usize> {
    let text = match fs::read_to_string(at) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(error).with_context(|| format!("{} cannot be read", at.display())),
    };
    let mut document: DocumentMut =
        text.parse().with_context(|| format!("{} is not a valid estate file", at.display()))?;
    let mut entry = Table::new();
    entry.insert("fingerprint", value(&finding.fingerprint));
    entry.insert("device", value(&*finding.device));
    entry.insert("owner", value(arguments.owner.trim()));
    entry.insert("reason", value(arguments.reason.trim()));
    entry.insert("until", value(arguments.until.to_string().parse::<toml_edit::Datetime>()?));
    let gap = if text.is_empty() { "" } else { "\n" };
    let about = format!("{gap}# {}: {}\n", finding.check, sanitize(&finding.title));
    entry.decor_mut().set_prefix(about);
    match document.entry("accept").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new())) {
        Item::ArrayOfTables(all) => all.push(entry),
        _ => bail!("{}: `accept` is expected as entries under [[accept]]", at.display()),
    }
    let mut text = document.to_string();
    if !text.ends_with('\n') {
        text.push('\n');
    }
    if text.contains("\r\n") {
        text = text.replace("\r\n", "\n").replace('\n', "\r\n");
    }
    // The output must be valid input of the next audit.
    let file = ValidEstateFile::parse(&text, &trevlin_audit::checks::known)
        .with_context(|| format!("{} cannot be kept", at.display()))?;
    let line = file.accepts.last().map_or(1, |one| one.line);
    output::replace(at, text.as_bytes())?;
    Ok(line)
}
