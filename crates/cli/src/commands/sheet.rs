//! `trevlin sheet`.

use crate::args::{self, Common};
use crate::commands::interview;
use crate::verbosity::Verbosity;
use crate::{context, load};
use anyhow::bail;
use std::io;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use trevlin_audit::{Analyses, Baseline, audit};
use trevlin_model::{DeviceKind, Note, Origin};
use trevlin_readers::{FORM, Head, check_sheet, sheet_guide, write_sheet};
use trevlin_render::sanitize;

/// Runs the command.
///
/// # Errors
/// When it could not be done.
pub(crate) fn run(sheet: &args::Sheet, common: &Common) -> anyhow::Result<ExitCode> {
    match sheet {
        args::Sheet::New(new) => {
            let kind: DeviceKind = new.kind.into();
            match &new.interactive {
                None => context::print(|out| out.write_all(sheet_guide(kind).as_bytes()))?,
                Some(file) => {
                    let (mut input, mut output) = (io::stdin().lock(), io::stdout().lock());
                    let head = (FORM, kind.word());
                    interview::run(file, &sheet_guide(kind), head, &mut input, &mut output)?;
                }
            }
            Ok(ExitCode::SUCCESS)
        }
        args::Sheet::Check(check) => checked(&check.file),
        args::Sheet::Show(show) => shown(show, common),
    }
}

fn shown(arguments: &args::SheetShow, common: &Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, context::verbosity(common))?;
    let at = chosen(&estate, arguments.device.as_deref())?;
    let text = written(&estate, at);
    context::print(|out| out.write_all(text.as_bytes()))?;
    Ok(ExitCode::SUCCESS)
}

fn checked(file: &Path) -> anyhow::Result<ExitCode> {
    let export = crate::read::export(file)?;
    let report = check_sheet(&export);
    let questions = questions(file);
    context::print(|out| {
        let mut chapter = |title: &str, lines: &[String]| -> io::Result<()> {
            if lines.is_empty() {
                return Ok(());
            }
            writeln!(out, "{title}")?;
            for line in lines {
                let filled = textwrap::Options::new(context::width())
                    .initial_indent("  ")
                    .subsequent_indent("       ");
                writeln!(out, "{}", textwrap::fill(line, filled))?;
            }
            writeln!(out)
        };
        let placed = |notes: &[Note]| -> Vec<String> {
            let line =
                |note: &Note| format!("{:>4} {}", export.line_of(note.origin.start), sanitize(&note.text));
            notes.iter().map(line).collect()
        };
        let listed = |all: &[String]| -> Vec<String> {
            all.iter().map(|one| format!("   - {}", sanitize(one))).collect()
        };
        chapter("ERRORS, by line", &placed(&report.unread))?;
        chapter("CONTRADICTIONS, by line", &placed(&report.contradictions))?;
        chapter("NOT ANSWERED, in the order of the review", &listed(&report.missing))?;
        let seen: Vec<String> = report
            .not_seen
            .iter()
            .map(|origin| {
                let key = key_of(export.text(), origin.start as usize);
                format!("{:>4} {}", export.line_of(origin.start), sanitize(&key))
            })
            .collect();
        chapter("NOT SEEN on any screen, by line", &seen)?;
        chapter("INFORMATION REQUESTS of an audit", &listed(&questions))?;
        if report.is_former {
            let note = "This sheet has the form of version 1, which is still read. Version 2 adds permissions, rules for \
                        clients, certificates by name and more (see `trevlin sheet new`), and reports names that refer to \
                        nothing.";
            writeln!(out, "{}\n", textwrap::fill(note, context::width()))?;
        }
        writeln!(
            out,
            "{}, {}, {} not answered, {} not seen, {}",
            counted(report.unread.len(), "error", "errors"),
            counted(report.contradictions.len(), "contradiction", "contradictions"),
            report.missing.len(),
            report.not_seen.len(),
            counted(questions.len(), "information request", "information requests"),
        )
    })?;
    let sound = report.unread.is_empty() && report.contradictions.is_empty();
    Ok(if sound { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// The key of a value, as it is written on its line.
fn key_of(text: &str, at: usize) -> String {
    let begin = text[..at.min(text.len())].rfind('\n').map_or(0, |at| at + 1);
    let line = text[begin..].lines().next().unwrap_or_default();
    line.split('=').next().unwrap_or_default().trim().to_owned()
}

fn counted(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// Requests that an audit of the sheet alone would raise, each once.
fn questions(file: &Path) -> Vec<String> {
    load::estate(&[file.to_owned()], Verbosity::Nothing).map(|estate| requests(&estate)).unwrap_or_default()
}

/// Requests of an audit, each once.
pub(super) fn requests(estate: &Analyses) -> Vec<String> {
    // No question depends on the day.
    let outcome = audit(estate, &Baseline::on(jiff::civil::Date::constant(2000, 1, 1)));
    let mut asked: Vec<Arc<str>> = Vec::new();
    for question in outcome.open_questions {
        if !asked.contains(&question.question) {
            asked.push(question.question);
        }
    }
    asked.iter().map(ToString::to_string).collect()
}

/// Number of the named device, or of the only one.
fn chosen(estate: &Analyses, name: Option<&str>) -> anyhow::Result<usize> {
    match (name, estate.devices.as_slice()) {
        (Some(name), _) => {
            context::know_devices(estate, &[name.to_owned()])?;
            let found = estate.devices.iter().position(|device| device.name == name);
            found.ok_or_else(|| anyhow::anyhow!("there is no device `{name}`"))
        }
        (None, [_]) => Ok(0),
        (None, all) => {
            let names: Vec<_> = all.iter().map(|device| device.name.as_str()).collect();
            bail!("several devices: use --device with one of: {}", names.join(", "))
        }
    }
}

/// A device as a sheet.
fn written(estate: &Analyses, at: usize) -> String {
    let device = &estate.devices[at];
    let file = |origin: Origin| estate.export(origin.export).path().to_owned();
    let seen = |origin: Origin| {
        let export = estate.export(origin.export);
        format!("{}, line {}", export.path(), export.line_of(origin.start))
    };
    let mask = |text: &str| estate.masker().mask(text);
    let files: Vec<String> = device.exports.iter().map(|id| estate.export(*id).path().to_owned()).collect();
    write_sheet(
        &device.facts,
        &Head {
            device: &device.name,
            kind: device.kind,
            complete: !estate.is_appliance(at),
            files: &files,
            seen: &seen,
            file: &file,
            mask: &mask,
        },
    )
}
