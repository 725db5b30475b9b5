//! The compare command.

use crate::args::{self, Common, CompareFormat};
use crate::commands::exposure;
use crate::context::{baseline, print, verbosity, width};
use crate::load;
use crate::verbosity::Verbosity;
use anyhow::{Context, bail};
use std::fs;
use std::path::Path;
use std::process::ExitCode;
use trevlin_audit::audit;
use trevlin_audit::compare::{Snapshot, compare};
use trevlin_render::{Json, Names, Renderer, compare_json, compare_markdown, compare_text};

/// The schema of saved results.
const SCHEMA: &str = "trevlin-audit/1";

/// Runs the command.
///
/// # Errors
/// When one of both cannot be read, or is neither an estate nor a saved result.
pub(crate) fn run(arguments: &args::Compare, common: &Common) -> anyhow::Result<ExitCode> {
    let old = snapshot(&arguments.old, arguments, verbosity(common))?;
    let new = snapshot(&arguments.new, arguments, verbosity(common))?;
    let found = compare(old, new);
    let (old, new) = (arguments.old.to_string_lossy(), arguments.new.to_string_lossy());
    let names = Names { old: &old, new: &new };
    match arguments.format {
        CompareFormat::Text => print(|out| compare_text(&found, names, arguments.all, width(), out))?,
        CompareFormat::Json => print(|out| compare_json(&found, out))?,
        CompareFormat::Markdown => print(|out| compare_markdown(&found, names, out))?,
    }
    Ok(if found.is_worse(arguments.fail_on) { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// A saved result as it is, or the audit of an estate.
fn snapshot(path: &Path, arguments: &args::Compare, verbosity: Verbosity) -> anyhow::Result<Snapshot> {
    if let Some(saved) = saved(path)? {
        return Ok(saved);
    }
    let estate = load::judged(&[path.to_owned()], verbosity, &arguments.judging)?;
    let mut bytes = Vec::new();
    Json.render(&audit(&estate, &baseline(&estate, &arguments.judging)), &mut bytes)?;
    let mut made: Snapshot = serde_json::from_slice(&bytes).context("the saved audit cannot be read")?;
    // Where the Internet interface is not known, nothing is known to be reachable.
    let outside = exposure::of_outside(&estate);
    made.add_exposure(&outside);
    Ok(made)
}

/// The result in a file; none where it is no JSON that holds one.
fn saved(path: &Path) -> anyhow::Result<Option<Snapshot>> {
    if !path.is_file() || path.extension().is_none_or(|ending| !ending.eq_ignore_ascii_case("json")) {
        return Ok(None);
    }
    let text = fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))?;
    let Ok(whole) = serde_json::from_str::<serde_json::Value>(&text) else { return Ok(None) };
    match whole.get("schema").and_then(serde_json::Value::as_str) {
        Some(SCHEMA) => {}
        Some(schema) if schema.starts_with("trevlin-") => bail!(
            "{} has the schema {schema}; expected {SCHEMA}: save it with `trevlin audit --format json`",
            path.display()
        ),
        // An export in JSON.
        _ => return Ok(None),
    }
    let read = serde_json::from_value(whole)
        .with_context(|| format!("{} is not a complete {SCHEMA}", path.display()))?;
    Ok(Some(read))
}
