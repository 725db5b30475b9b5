//! Common parts of commands: the terminal, the date, the thresholds, and the exit status.

use crate::args::{self};
use crate::links;
use crate::verbosity::Verbosity;
use anyhow::bail;
use jiff::civil::Date;
use std::io::{self, Write};
use std::path::PathBuf;
use std::process::ExitCode;
use trevlin_audit::{Analyses, Baseline, Outcome, Selection, Severity, Status};
use trevlin_render::{Detail, Text};

/// Columns of the terminal, or 100 where output goes elsewhere.
pub(crate) fn width() -> usize {
    terminal_size::terminal_size_of(io::stdout()).map_or(100, |(width, _)| usize::from(width.0))
}

/// The only place that reads a clock; the output states the date.
#[allow(clippy::disallowed_methods, reason = "the audit date is read here and nowhere else")]
pub(crate) fn today() -> Date {
    jiff::Zoned::now().date()
}

/// Writes to standard output. A reader that closed the pipe is no error.
pub(crate) fn print(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> anyhow::Result<()> {
    let mut out = links::Linked::over(io::BufWriter::new(anstream::stdout()));
    match write(&mut out).and_then(|()| out.flush()) {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        other => Ok(other?),
    }
}

pub(crate) fn verbosity(common: &args::Common) -> Verbosity {
    match (common.quiet, common.is_verbose()) {
        (true, _) => Verbosity::Nothing,
        (_, true) => Verbosity::Everything,
        _ => Verbosity::Warnings,
    }
}

/// The criteria for an estate.
pub(crate) fn baseline(estate: &Analyses, judging: &args::Judging) -> Baseline {
    estate.baseline(judging.as_of.unwrap_or_else(today))
}

pub(crate) fn text<'a>(common: &args::Common, full: bool, again: &'a str) -> Text<'a> {
    let detail = match (common.quiet, common.is_verbose()) {
        (true, _) => Detail::Lines,
        (_, true) => Detail::All,
        _ if full => Detail::Full,
        _ => Detail::Short,
    };
    Text { width: width(), detail, again }
}

/// The command that audits these again, as one would type it.
pub(crate) fn again(paths: &[PathBuf]) -> String {
    let quoted = |path: &PathBuf| {
        let path = path.display().to_string();
        let plain = |letter: char| letter.is_alphanumeric() || "/._-+,:=@%~".contains(letter);
        if !path.is_empty() && path.chars().all(plain) {
            path
        } else {
            format!("'{}'", path.replace('\'', r"'\''"))
        }
    };
    let paths: Vec<String> = paths.iter().map(quoted).collect();
    format!("trevlin audit {}", paths.join(" "))
}

/// Bytes of everything that was read.
pub(crate) fn bytes_of(estate: &Analyses) -> u64 {
    estate.exports.iter().map(|one| one.export.text().len() as u64).sum()
}

pub(crate) fn selection(stated: &args::Selection) -> Selection {
    Selection {
        areas: stated.area.clone(),
        severity: stated.severity,
        devices: stated.device.clone(),
        checks: stated.check.clone(),
    }
}

/// Exit status. Values that live to the end of the process are not dropped piece by piece; secrets are wiped first.
pub(crate) fn leave(
    estate: Analyses,
    outcome: &Outcome,
    fail_on: Option<Severity>,
) -> anyhow::Result<ExitCode> {
    estate.wipe();
    let failed = fail_on.is_some_and(|least| {
        outcome.findings().any(|one| one.status == Status::Open && one.severity >= least)
    });
    Ok(if failed { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// A device that is not there is a mistake, not an empty answer.
pub(crate) fn know_devices(estate: &Analyses, wanted: &[String]) -> anyhow::Result<()> {
    for name in wanted {
        if !estate.devices.iter().any(|device| device.name == *name) {
            let names: Vec<_> = estate.devices.iter().map(|device| device.name.as_str()).collect();
            let near = names.iter().find(|one| strsim::jaro_winkler(one, name) > 0.8);
            let hint = near.map(|near| format!(" Did you mean {near}?")).unwrap_or_default();
            bail!("there is no device {name}; known are: {}.{hint}", names.join(", "));
        }
    }
    Ok(())
}
