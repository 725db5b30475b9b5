//! `trevlin sheet`.

use crate::args::{self, Common};
use crate::verbosity::Verbosity;
use crate::{context, load};
use anyhow::bail;
use std::io;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use trevlin_audit::{Analyses, Baseline, audit};
use trevlin_model::{Device, Note, Origin};
use trevlin_readers::{Head, check_sheet, sheet_guide, write_sheet};
use trevlin_render::sanitize;

/// Runs the command.
///
/// # Errors
/// When it could not be done.
pub(crate) fn run(sheet: &args::Sheet, common: &Common) -> anyhow::Result<ExitCode> {
    match sheet {
        args::Sheet::New(new) => {
            context::print(|out| out.write_all(sheet_guide(new.kind.into()).as_bytes()))?;
            Ok(ExitCode::SUCCESS)
        }
        args::Sheet::Check(check) => checked(&check.file),
        args::Sheet::Show(show) => shown(show, common),
    }
}

fn shown(arguments: &args::SheetShow, common: &Common) -> anyhow::Result<ExitCode> {
    let estate = load::estate(&arguments.paths, context::verbosity(common))?;
    let device = chosen(&estate, arguments.device.as_deref())?;
    let text = written(&estate, device);
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
        chapter("INFORMATION REQUESTS of an audit", &listed(&questions))?;
        writeln!(
            out,
            "{} errors, {}, {} not answered, {} information requests",
            counted(report.unread.len(), "thing", "things"),
            counted(report.contradictions.len(), "contradiction", "contradictions"),
            report.missing.len(),
            counted(questions.len(), "question", "questions"),
        )
    })?;
    let sound = report.unread.is_empty() && report.contradictions.is_empty();
    Ok(if sound { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn counted(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

/// Requests that an audit of the sheet alone would raise, each once.
fn questions(file: &Path) -> Vec<String> {
    let Ok(estate) = load::estate(&[file.to_owned()], Verbosity::Nothing) else { return Vec::new() };
    // No question depends on the day.
    let outcome = audit(&estate, &Baseline::on(jiff::civil::Date::constant(2000, 1, 1)));
    let mut asked: Vec<Arc<str>> = Vec::new();
    for question in outcome.open_questions {
        if !asked.contains(&question.question) {
            asked.push(question.question);
        }
    }
    asked.iter().map(ToString::to_string).collect()
}

fn chosen<'a>(estate: &'a Analyses, name: Option<&str>) -> anyhow::Result<&'a Device> {
    match (name, estate.devices.as_slice()) {
        (Some(name), _) => {
            context::know_devices(estate, &[name.to_owned()])?;
            let found = estate.devices.iter().find(|device| device.name == name);
            found.ok_or_else(|| anyhow::anyhow!("there is no device `{name}`"))
        }
        (None, [only]) => Ok(only),
        (None, all) => {
            let names: Vec<_> = all.iter().map(|device| device.name.as_str()).collect();
            bail!("several devices: use --device with one of: {}", names.join(", "))
        }
    }
}

/// A device as a sheet.
fn written(estate: &Analyses, device: &Device) -> String {
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
            files: &files,
            seen: &seen,
            file: &file,
            mask: &mask,
        },
    )
}
