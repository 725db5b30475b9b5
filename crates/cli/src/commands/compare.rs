//! The compare command.

use crate::args::{self, Common, CompareFormat};
use crate::commands::exposure;
use crate::context::{baseline, print, verbosity, width};
use crate::controls::{Catalogues, names_or_default, of_scope, received};
use crate::load;
use crate::verbosity::Verbosity;
use anyhow::{Context, bail};
use std::fs;
use std::path::Path;
use std::process::ExitCode;
use trevlin_audit::audit;
use trevlin_audit::compare::{Snapshot, compare};
use trevlin_audit::coverage::coverage;
use trevlin_render::{Json, Names, Renderer, compare_json, compare_markdown, compare_text};

/// The schema of saved results.
const SCHEMA: &str = "trevlin-audit/1";

/// Runs the command.
///
/// # Errors
/// When one of both cannot be read, or is neither an estate nor a saved result.
pub(crate) fn run(arguments: &args::Compare, common: &Common) -> anyhow::Result<ExitCode> {
    let (old, _) = snapshot(&arguments.old, arguments, verbosity(common))?;
    let (new, known) = snapshot(&arguments.new, arguments, verbosity(common))?;
    let (mut names, catalogues) = known.unwrap_or_else(|| (Vec::new(), Catalogues::built_in()));
    if !arguments.controls.is_empty() {
        names.clone_from(&arguments.controls);
    }
    let found = compare(old, new, &catalogues.named(&names_or_default(names))?);
    let (old, new) = (arguments.old.to_string_lossy(), arguments.new.to_string_lossy());
    let names = Names { old: &old, new: &new };
    match arguments.format {
        CompareFormat::Text => print(|out| compare_text(&found, names, arguments.all, width(), out))?,
        CompareFormat::Json => print(|out| compare_json(&found, out))?,
        CompareFormat::Markdown => print(|out| compare_markdown(&found, names, out))?,
    }
    Ok(if found.is_worse(arguments.fail_on) { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// Names of catalogues that an estate is judged by, and all that it has.
type Known = (Vec<String>, Catalogues);

/// A saved result as it is, or the audit of an estate, with its catalogues.
fn snapshot(
    path: &Path,
    arguments: &args::Compare,
    verbosity: Verbosity,
) -> anyhow::Result<(Snapshot, Option<Known>)> {
    if let Some(saved) = saved(path)? {
        return Ok((saved, None));
    }
    let paths = [path.to_owned()];
    let estate = load::judged(&paths, verbosity, &arguments.judging)?;
    let mut bytes = Vec::new();
    let outcome = audit(&estate, &baseline(&estate, &arguments.judging));
    let coverage = coverage(&estate, &outcome, &received(&estate, &paths), &[]);
    Json { coverage: Some(&coverage) }.render(&outcome, &mut bytes)?;
    let mut made: Snapshot = serde_json::from_slice(&bytes).context("the saved audit cannot be read")?;
    // Where the Internet interface is not known, nothing is known to be reachable.
    let outside = exposure::of_outside(&estate);
    made.add_exposure(&outside);
    Ok((made, Some((of_scope(&estate), Catalogues::of(&estate, verbosity)))))
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
