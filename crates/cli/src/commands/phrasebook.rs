//! `trevlin phrasebook`.

use crate::args;
use crate::context;
use anyhow::bail;
use std::io::{self, Write};
use std::path::Path;
use std::process::ExitCode;
use trevlin_model::Export;
use trevlin_model::secret::Masker;
use trevlin_readers::{PhraseResult, Phrasebook, Tried, phrasebook_guide};
use trevlin_render::sanitize;
use unicode_width::UnicodeWidthStr;

/// Runs the command.
///
/// # Errors
/// When it could not be done.
pub(crate) fn run(command: &args::Phrasebook) -> anyhow::Result<ExitCode> {
    match command {
        args::Phrasebook::New(new) => {
            context::print(|out| out.write_all(phrasebook_guide(&new.shape).as_bytes()))?;
            Ok(ExitCode::SUCCESS)
        }
        args::Phrasebook::Check(check) => checked(&check.book),
        args::Phrasebook::Try(tried) => attempted(tried),
    }
}

fn checked(path: &Path) -> anyhow::Result<ExitCode> {
    let export = crate::read::export(path)?;
    let (_, notes) = Phrasebook::read(&export);
    context::print(|out| {
        for note in &notes {
            let line = export.line_of(note.origin.start);
            writeln!(out, "{}:{line}: {}", path.display(), sanitize(&note.text))?;
        }
        match notes.len() {
            0 => writeln!(out, "{}: no errors", path.display()),
            1 => writeln!(out, "1 error"),
            number => writeln!(out, "{number} errors"),
        }
    })?;
    Ok(if notes.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn attempted(arguments: &args::PhrasebookTry) -> anyhow::Result<ExitCode> {
    let file = crate::read::export(&arguments.book)?;
    if !Phrasebook::is_one(&file) {
        bail!("{} is not a phrasebook; `trevlin phrasebook new` prints a template", arguments.book.display());
    }
    let (book, notes) = Phrasebook::read(&file);
    for note in &notes {
        let line = file.line_of(note.origin.start);
        crate::messages::warning(&format!("{}:{line}: {}", arguments.book.display(), note.text));
    }
    let export = crate::read::export(&arguments.export)?;
    let recognised = book.recognises(&export) != trevlin_readers::Recognition::No;
    let tried = book.try_on(&export);
    let masker = Masker::new(tried.reading.facts.to_mask(), &tried.reading.facts.masked_places);
    context::print(|out| {
        if arguments.show != args::Shown::Sheet {
            lines(&tried, &export, &masker, arguments.show, out)?;
        }
        if arguments.show != args::Shown::Untaken {
            if arguments.show == args::Shown::All {
                writeln!(out, "\nRESULTING SHEET\n")?;
            }
            out.write_all(tried.sheet.as_bytes())?;
        }
        if !recognised && arguments.show != args::Shown::Sheet {
            writeln!(
                out,
                "\nAn audit would not use this phrasebook for this export: `[recognise]` does not match it."
            )?;
        }
        Ok(())
    })?;
    let untaken = tried.statements.iter().any(|(_, took)| matches!(took, PhraseResult::Nobody(_)));
    Ok(if untaken || !tried.notes.is_empty() { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// How wide the part of the export is.
const STATEMENT: usize = 52;

fn lines(
    tried: &Tried,
    export: &Export,
    masker: &Masker,
    show: args::Shown,
    out: &mut dyn Write,
) -> io::Result<()> {
    let all = show == args::Shown::All;
    let width = context::width();
    let half = STATEMENT.min(width / 2);
    let (mut taken, mut passed, mut untaken) = (0, 0, 0);
    if all {
        writeln!(out, " line {} matched by", pad("statement", half))?;
    }
    for (origin, took) in &tried.statements {
        match took {
            PhraseResult::Phrase(..) => taken += 1,
            PhraseResult::Passed => passed += 1,
            PhraseResult::Nobody(_) => untaken += 1,
        }
        if !all && !matches!(took, PhraseResult::Nobody(_)) {
            continue;
        }
        let position = export.position(origin.start);
        let line = export.line(position.line);
        let whole = line.map_or("", |line| line.text);
        let masked = masker.mask_at(whole, line.map_or(*origin, |line| export.origin_of(line.text)));
        let by = match took {
            PhraseResult::Phrase(line, says) => format!("{line}: {says}"),
            PhraseResult::Passed => "- not relevant".into(),
            PhraseResult::Nobody(why) => format!("! {why}"),
        };
        let by = cut(&by, width.saturating_sub(half + 7));
        writeln!(out, "{:>5} {} {by}", position.line, pad(&cut(masked.trim_end(), half), half))?;
    }
    writeln!(
        out,
        "\n{} statements: {taken} matched, {passed} not relevant, {untaken} unmatched",
        tried.statements.len()
    )?;
    for note in &tried.notes {
        let line = export.line_of(note.origin.start);
        writeln!(out, "{line:>5} resulting sheet: {}", sanitize(&masker.mask(&note.text)))?;
    }
    Ok(())
}

fn cut(text: &str, width: usize) -> String {
    let clean = sanitize(text);
    if clean.width() <= width {
        return clean.into_owned();
    }
    let kept: String = clean.chars().take(width.saturating_sub(1)).collect();
    format!("{kept}…")
}

fn pad(text: &str, width: usize) -> String {
    format!("{text}{}", " ".repeat(width.saturating_sub(text.width())))
}
