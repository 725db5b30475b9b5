//! Configurations from the sources of other projects: each is checked by its real program, and read by Trevlin in the place where the program
//! has it.

use anyhow::{Context, Result};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::fmt;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use trevlin_model::glob::{self, Signs};

/// The table of programs: `scripts/foreign.toml`.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Table {
    program: Vec<Program>,
}

/// Files of one program.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Program {
    /// Format that Trevlin reads them as.
    format: String,
    /// Patterns of paths below the folder of sources; a star stands for any text.
    files: Vec<String>,
    /// Patterns of files that are none, or are not meant to be valid.
    #[serde(default)]
    except: Vec<String>,
    /// Path on a machine.
    at: String,
    /// Command in the chroot that succeeds for a valid file; `{}` stands for it. Without one every file counts as valid.
    check: Option<String>,
}

/// What became of the files of a format.
#[derive(Debug, Default)]
struct Row {
    files: usize,
    accepted: usize,
    recognised: usize,
    lines: u64,
    lost: u64,
}

/// All rows, and what went wrong.
#[derive(Debug, Default)]
pub struct Outcome {
    rows: BTreeMap<String, Row>,
    /// Files of another format or none, and lines that the program takes and Trevlin does not, with their places.
    pub faults: Vec<String>,
}

impl fmt::Display for Outcome {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(
            out,
            "| format | files | accepted by the program | recognised | lines | of them not understood |"
        )?;
        writeln!(out, "| --- | --- | --- | --- | --- | --- |")?;
        let mut all = Row::default();
        for (format, row) in &self.rows {
            let Row { files, accepted, recognised, lines, lost } = row;
            writeln!(out, "| {format} | {files} | {accepted} | {recognised} | {lines} | {lost} |")?;
            all.files += files;
            all.accepted += accepted;
            all.recognised += recognised;
            all.lines += lines;
            all.lost += lost;
        }
        let share = |part: f64, whole: f64| 100.0 * part / whole.max(1.0);
        let Row { files, accepted, recognised, lines, lost } = all;
        writeln!(out, "| all | {files} | {accepted} | {recognised} | {lines} | {lost} |")?;
        writeln!(
            out,
            "\nrecognised {:.1} %, not understood {:.2} % of lines",
            share(recognised as f64, accepted as f64),
            share(lost as f64, lines as f64)
        )
    }
}

/// Checks and reads every file of the table. `root`: a system with the programs; `sources`: the unpacked packages; `work`: a folder for the
/// files as they lie on a machine.
///
/// # Errors
/// When a file cannot be read or written, or a program cannot be run.
pub fn measure(program: &Path, table: &Path, root: &Path, sources: &Path, work: &Path) -> Result<Outcome> {
    let text = fs::read_to_string(table).with_context(|| table.display().to_string())?;
    let table: Table = toml::from_str(&text)?;
    let all = files_below(sources)?;
    let mut outcome = Outcome::default();
    let estate = work.join("estate");
    let _ = fs::remove_dir_all(&estate);
    let mut wanted: BTreeMap<String, (String, String)> = BTreeMap::new();
    for one in &table.program {
        let row = outcome.rows.entry(one.format.clone()).or_default();
        let is_one = |path: &&String| {
            let fits = |patterns: &[String]| patterns.iter().any(|pattern| matches(path, pattern));
            fits(&one.files) && !fits(&one.except)
        };
        for path in all.iter().filter(is_one) {
            row.files += 1;
            let bytes = fs::read(sources.join(path))?;
            if let Some(check) = &one.check
                && !accepts(root, check, &one.at, &bytes)?
            {
                continue;
            }
            row.accepted += 1;
            let device = format!("{:05}", wanted.len());
            let at = estate.join(&device).join(&one.at);
            fs::create_dir_all(at.parent().context("a folder")?)?;
            fs::write(&at, bytes)?;
            wanted.insert(format!("{device}/{}", one.at), (one.format.clone(), path.clone()));
        }
    }
    read(program, &estate, &wanted, &mut outcome)?;
    Ok(outcome)
}

/// Whether the program takes a file: in the chroot, at its own place in a folder of its own.
fn accepts(root: &Path, check: &str, at: &str, bytes: &[u8]) -> Result<bool> {
    let place = format!("tmp/foreign/{at}");
    let file = root.join(&place);
    fs::create_dir_all(file.parent().context("a folder")?)?;
    fs::write(&file, bytes)?;
    let status = Command::new("chroot")
        .arg(root)
        .args(["timeout", "20", "sh", "-c", &check.replace("{}", &format!("/{place}"))])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()?;
    Ok(status.success())
}

/// Reads the estate, and holds each file against the format that it is of.
fn read(
    program: &Path,
    estate: &Path,
    wanted: &BTreeMap<String, (String, String)>,
    outcome: &mut Outcome,
) -> Result<()> {
    let output = Command::new(program)
        .args(["audit", "--format", "json", "--limit", "files=1000000"])
        .arg(estate)
        .stderr(Stdio::null())
        .output()?;
    let found: serde_json::Value =
        serde_json::from_slice(&output.stdout).context("the audit printed no JSON")?;
    let devices = found["devices"].as_array().context("no devices")?;
    for export in devices.iter().filter_map(|device| device["exports"].as_array()).flatten() {
        let Some((format, source)) = export["path"].as_str().and_then(|path| wanted.get(path)) else {
            continue;
        };
        let Some(row) = outcome.rows.get_mut(format) else { continue };
        let read_as = export["format"].as_str().unwrap_or_default();
        let count = |name: &str| export[name].as_u64().unwrap_or_default();
        row.lines += count("lines");
        if read_as != format {
            row.lost += count("lines");
            outcome.faults.push(format!("{source}: read as {read_as} instead of {format}"));
            continue;
        }
        row.recognised += 1;
        row.lost += count("not_understood");
        if count("not_understood") > 0 {
            let path = export["path"].as_str().unwrap_or_default();
            let lost = count("not_understood");
            outcome.faults.push(format!("{source}: {lost} lines of {format} not understood ({path})"));
        }
    }
    Ok(())
}

/// Endings of programs, scripts, manual pages and documentation.
const NO_CONFIGURATIONS: [&str; 31] = [
    "5", "7", "8", "ac", "adoc", "am", "c", "cc", "cpp", "css", "diff", "docbook", "go", "h", "htm", "html",
    "js", "lua", "m4", "md", "patch", "php", "pl", "pm", "po", "py", "rb", "rs", "rst", "sh", "texi",
];

/// The number of files in an audit, and those among them that are no configurations and were read as such. Certificates and keys in
/// any file are what they are.
///
/// # Errors
/// When the text is no output of an audit.
pub fn misread(audit: &[u8]) -> Result<(usize, Vec<String>)> {
    let found: serde_json::Value = serde_json::from_slice(audit)?;
    let devices = found["devices"].as_array().context("no devices")?;
    let exports: Vec<_> =
        devices.iter().filter_map(|device| device["exports"].as_array()).flatten().collect();
    let fault = |export: &serde_json::Value| -> Option<String> {
        let (path, format) = (export["path"].as_str()?, export["format"].as_str()?);
        let name = path.rsplit('/').next()?;
        let no_configuration =
            name.rsplit_once('.').is_some_and(|(_, ending)| NO_CONFIGURATIONS.contains(&ending))
                || name.starts_with("Makefile")
                || name.starts_with("README");
        (no_configuration && !["unknown", "pem"].contains(&format))
            .then(|| format!("{path}: read as {format}"))
    };
    Ok((exports.len(), exports.iter().copied().filter_map(fault).collect()))
}

/// Paths of all files below a folder, in order.
fn files_below(top: &Path) -> Result<Vec<String>> {
    fn walk(folder: &Path, top: &Path, found: &mut Vec<String>) -> Result<()> {
        let mut entries: Vec<PathBuf> =
            fs::read_dir(folder)?.map(|entry| Ok(entry?.path())).collect::<Result<_>>()?;
        entries.sort();
        for entry in entries {
            if entry.is_symlink() {
                continue;
            }
            if entry.is_dir() {
                walk(&entry, top, found)?;
            } else if let Some(path) = entry.strip_prefix(top)?.to_str() {
                found.push(path.to_owned());
            }
        }
        Ok(())
    }
    let mut found = Vec::new();
    walk(top, top, &mut found)?;
    Ok(found)
}

/// Whether a path matches a pattern: a star stands for any text, slashes too.
fn matches(path: &str, pattern: &str) -> bool {
    glob::matches(path, pattern, Signs::Plain)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_of_paths() {
        for (path, pattern, wanted) in [
            ("a/b/c.conf", "a*.conf", true),
            ("a/b/c.conf", "a/*/c.conf", true),
            ("a/b/c.conf", "a/*d.conf", false),
            ("a/c.conf", "a/c.conf", true),
            ("a/c.conf", "a/c.con", false),
            ("a/c.conf", "b*", false),
            ("a/bc/bd", "*b*bd", true),
        ] {
            assert_eq!(matches(path, pattern), wanted, "{path} {pattern}");
        }
    }
}
