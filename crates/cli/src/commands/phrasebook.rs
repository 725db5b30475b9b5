//! `trevlin phrasebook`.

use crate::args;
use crate::{context, phrasebooks};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::io::{self, Write};
use std::path::Path;
use std::process::ExitCode;
use trevlin_model::secret::Masker;
use trevlin_model::{Export, Origin};
use trevlin_readers::{PhraseResult, Phrasebook, Recognition, Tried, phrasebook_for, phrasebook_guide};
use trevlin_render::{counted, sanitize};
use unicode_width::UnicodeWidthStr;

/// Runs the command.
///
/// # Errors
/// When it could not be done.
pub(crate) fn run(command: &args::Phrasebook) -> anyhow::Result<ExitCode> {
    match command {
        args::Phrasebook::New(new) => {
            let text = match &new.from {
                Some(export) => phrasebook_for(&crate::read::export(export)?),
                None => phrasebook_guide(&new.shape),
            };
            context::print(|out| out.write_all(text.as_bytes()))?;
            Ok(ExitCode::SUCCESS)
        }
        args::Phrasebook::Check(check) => checked(&check.book),
        args::Phrasebook::Try(tried) => attempted(tried),
        args::Phrasebook::Coverage(coverage) => super::phrasebook_coverage::run(coverage),
    }
}

fn checked(path: &Path) -> anyhow::Result<ExitCode> {
    let export = crate::read::export(path)?;
    let (book, notes) = Phrasebook::read(&export);
    let warnings = book.review(&export);
    context::print(|out| {
        for (note, what) in
            notes.iter().map(|note| (note, "")).chain(warnings.iter().map(|note| (note, "warning: ")))
        {
            let line = export.line_of(note.origin.start);
            writeln!(out, "{}:{line}: {what}{}", path.display(), sanitize(&note.text))?;
        }
        let errors = match notes.len() {
            1 => "1 error".to_owned(),
            0 if warnings.is_empty() => format!("{}: no errors", path.display()),
            0 => "no errors".to_owned(),
            number => format!("{number} errors"),
        };
        match warnings.len() {
            0 => writeln!(out, "{errors}"),
            1 => writeln!(out, "{errors}, 1 warning"),
            number => writeln!(out, "{errors}, {number} warnings"),
        }
    })?;
    Ok(if notes.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn attempted(arguments: &args::PhrasebookTry) -> anyhow::Result<ExitCode> {
    let (book, exports) = phrasebooks::given(&arguments.book, &arguments.exports)?;
    let unknown = |export: &&Export| book.recognises(export) == Recognition::No;
    let unknown: Vec<&str> = exports.iter().filter(unknown).map(Export::path).collect();
    let all: Vec<&Export> = exports.iter().collect();
    let tried = book.try_together(&all);
    let facts = || tried.iter().map(|one| &one.reading.facts);
    let places: Vec<Origin> = facts().flat_map(|facts| facts.masked_places.iter().copied()).collect();
    let masker = Masker::new(facts().flat_map(|facts| facts.to_mask()), &places);
    context::print(|out| {
        if arguments.show != args::Shown::Sheet {
            for (one, export) in tried.iter().zip(&exports) {
                if exports.len() > 1 {
                    writeln!(out, "{}", export.path())?;
                }
                lines(one, export, &masker, arguments.show, out)?;
            }
            errors(&tried, &exports, &masker, out)?;
        }
        if arguments.show != args::Shown::Untaken {
            if arguments.show == args::Shown::All {
                writeln!(out, "\nRESULTING SHEET\n")?;
            }
            for one in &tried {
                out.write_all(one.sheet.as_bytes())?;
            }
        }
        if arguments.show != args::Shown::Sheet {
            for path in &unknown {
                writeln!(
                    out,
                    "\nAn audit would not use this phrasebook for {path}: `[recognise]` does not match it."
                )?;
            }
        }
        Ok(())
    })?;
    let untaken =
        |one: &Tried| one.statements.iter().any(|(_, took)| matches!(took, PhraseResult::Nobody(_)));
    let whole = tried.iter().all(|one| !untaken(one) && one.notes.is_empty());
    Ok(if whole { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// Errors of the resulting sheet, each once.
fn errors(tried: &[Tried], exports: &[Export], masker: &Masker, out: &mut dyn Write) -> io::Result<()> {
    let mut by_text: Vec<(String, Vec<Origin>)> = Vec::new();
    let mut numbers: BTreeMap<String, usize> = BTreeMap::new();
    for note in tried.iter().flat_map(|one| &one.notes) {
        let text = masker.mask(&note.text);
        let number = *numbers.entry(text.clone()).or_insert_with(|| {
            by_text.push((text, Vec::new()));
            by_text.len() - 1
        });
        by_text[number].1.push(note.origin);
    }
    for (text, places) in by_text {
        let first = places[0];
        let export = exports.iter().find(|export| export.id() == first.export);
        let line = export.map_or(0, |export| export.line_of(first.start));
        let file = export
            .filter(|_| exports.len() > 1)
            .map_or(String::new(), |export| format!("{}:", export.path()));
        let more = match places.len() {
            1 => String::new(),
            2 => ", and on 1 more line".to_owned(),
            many => format!(", and on {} more lines", many - 1),
        };
        writeln!(out, "{file}{line:>5} resulting sheet: {}{more}", sanitize(&text))?;
    }
    Ok(())
}

/// How wide the part of the export is.
const STATEMENT: usize = 52;
/// How many statements are worth a thread.
const PARALLEL: usize = 4096;

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
    for (_, took) in &tried.statements {
        match took {
            PhraseResult::Phrase(..) => taken += 1,
            PhraseResult::Passed => passed += 1,
            PhraseResult::Nobody(_) => untaken += 1,
        }
    }
    let written = |some: &[(Origin, PhraseResult)]| {
        let mut text = String::new();
        for (origin, took) in some {
            if all || matches!(took, PhraseResult::Nobody(_)) {
                statement(*origin, took, export, masker, (width, all), &mut text);
            }
        }
        text
    };
    // An export may have hundreds of thousands.
    let pieces: Vec<String> = tried.statements.par_chunks(PARALLEL).map(written).collect();
    for piece in pieces {
        out.write_all(piece.as_bytes())?;
    }
    writeln!(
        out,
        "\n{}: {taken} matched, {passed} not relevant, {untaken} unmatched",
        counted(tried.statements.len(), "statement")
    )?;
    Ok(())
}

/// A statement, and what took it; alone with the reason, where only unmatched ones are listed.
fn statement(
    origin: Origin,
    took: &PhraseResult,
    export: &Export,
    masker: &Masker,
    (width, all): (usize, bool),
    out: &mut String,
) {
    let half = STATEMENT.min(width / 2);
    let position = export.position(origin.start);
    let line = export.line(position.line);
    let whole = line.map_or("", |line| line.text);
    let place = line.map_or(origin, |line| export.origin_of(line.text));
    // Several statements may be on one line.
    let own = export.text().get(origin.start as usize..origin.end as usize).unwrap_or_default();
    let alone = whole.trim().trim_end_matches([',', ';', '{']).trim() == own;
    let within = place.start <= origin.start && origin.end <= place.end && !own.is_empty() && !alone;
    let masked = if within { masker.mask_at(own, origin) } else { masker.mask_at(whole, place) };
    let by = match took {
        PhraseResult::Phrase(line, says) => format!("{line}: {says}"),
        PhraseResult::Passed => "- not relevant".into(),
        PhraseResult::Nobody(why) => format!("! {why}"),
    };
    if all {
        let by = cut(&by, width.saturating_sub(half + 7));
        let _ = writeln!(out, "{:>5} {} {by}", position.line, pad(&cut(masked.trim_end(), half), half));
        return;
    }
    let _ = writeln!(out, "{:>5} {}", position.line, cut(masked.trim(), width.saturating_sub(7)));
    // Without a nearer reason the line itself says all.
    let nearer = if by.starts_with("! no phrase of") { None } else { by.strip_prefix("! ") };
    for line in nearer.map(|by| textwrap::wrap(by, width.saturating_sub(10))).unwrap_or_default() {
        let _ = writeln!(out, "         {line}");
    }
}

fn cut(text: &str, width: usize) -> String {
    let clean = sanitize(text);
    if clean.is_ascii() && clean.len() <= width || clean.width() <= width {
        return clean.into_owned();
    }
    let kept: String = clean.chars().take(width.saturating_sub(1)).collect();
    format!("{kept}…")
}

fn pad(text: &str, width: usize) -> String {
    format!("{text}{}", " ".repeat(width.saturating_sub(text.width())))
}
