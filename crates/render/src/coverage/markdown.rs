//! Coverage as Markdown.

use super::data::evidence_of;
use super::{
    CoverageView, gaps, justification, lacking, not_judged_names, of_area, proof, scope_words, states, totals,
};
use crate::report::{markdown, ticked_markdown};
use crate::sanitize;
use std::io;
use trevlin_audit::Area;
use trevlin_audit::coverage::{ControlSheet, Coverage};

/// Files that are named for a gap before the rest is counted.
const SHOWN_FILES: usize = 5;

fn plain(text: &str) -> String {
    markdown(&sanitize(text))
}

/// The coverage as Markdown (CommonMark with the tables of GFM).
///
/// # Errors
/// When writing fails.
pub fn coverage_markdown(view: &CoverageView<'_>, out: &mut dyn io::Write) -> io::Result<()> {
    let coverage = view.coverage;
    writeln!(out, "# Coverage of the audit\n\nAs of {}: {}.\n", coverage.as_of, totals(coverage))?;
    for words in scope_words(coverage) {
        writeln!(out, "- {}", plain(&words))?;
    }
    if view.of_controls {
        for sheet in view.sheets {
            controls(view, sheet, out)?;
        }
    } else {
        checks(coverage, out)?;
    }
    if view.passes && !view.of_controls {
        passes(coverage, out)?;
    }
    not_judged(coverage, out)
}

fn checks(coverage: &Coverage, out: &mut dyn io::Write) -> io::Result<()> {
    for area in Area::ALL.into_iter().filter(|area| of_area(coverage, *area).next().is_some()) {
        writeln!(out, "\n## {}\n", crate::report::capitalized(area.word()))?;
        writeln!(
            out,
            "| check | failed | undetermined | passed | not judged on |\n| --- | ---: | ---: | ---: | --- |"
        )?;
        for one in of_area(coverage, area) {
            let counts = one.counts;
            writeln!(
                out,
                "| {} | {} | {} | {} | {} |",
                ticked_markdown(one.check.title),
                counts.failed,
                counts.undetermined,
                counts.passed,
                plain(&not_judged_names(coverage, one.check).join(", "))
            )?;
        }
    }
    Ok(())
}

fn controls(view: &CoverageView<'_>, sheet: &ControlSheet<'_>, out: &mut dyn io::Write) -> io::Result<()> {
    writeln!(out, "\n## {}\n", plain(&sheet.catalogue.title))?;
    writeln!(out, "{}.\n", states(sheet))?;
    let (head, line) = if view.passes { (" evidence |", " --- |") } else { ("", "") };
    writeln!(
        out,
        "| control | requirement | judged part | state | basis |{head}\n| --- | --- | --- | --- | --- |{line}"
    )?;
    for row in sheet.visible() {
        let evidence = match view.passes {
            true => format!(" {} |", plain(&evidence_of(view.coverage, row).join("; "))),
            false => String::new(),
        };
        writeln!(
            out,
            "| {} | {} | {} | {} | {} |{evidence}",
            plain(&row.control.id),
            plain(&row.control.says),
            plain(&row.control.shows),
            row.state.words(),
            plain(&justification(row, view.coverage))
        )?;
    }
    Ok(())
}

fn passes(coverage: &Coverage, out: &mut dyn io::Write) -> io::Result<()> {
    writeln!(out, "\n## Passed\n")?;
    for one in coverage.checks.iter().filter(|one| one.rows.iter().any(|row| !row.quoted.is_empty())) {
        writeln!(out, "- {}", ticked_markdown(one.check.title))?;
        for row in &one.rows {
            for pass in &row.quoted {
                writeln!(out, "  - {}: {}", plain(&coverage.systems[row.system].name), plain(&proof(pass)))?;
            }
        }
    }
    Ok(())
}

fn not_judged(coverage: &Coverage, out: &mut dyn io::Write) -> io::Result<()> {
    let (lacking, gaps) = (lacking(coverage), gaps(coverage, SHOWN_FILES));
    if lacking.is_empty() && gaps.is_empty() && coverage.open.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n## Not judged\n")?;
    for words in &coverage.open {
        writeln!(out, "- {}", plain(words))?;
    }
    for (title, reasons) in
        [("Exports that checks need and systems lack", lacking), ("Exports that may not be complete", gaps)]
    {
        if reasons.is_empty() {
            continue;
        }
        writeln!(out, "- {title}:")?;
        for one in reasons {
            writeln!(
                out,
                "  - {}: {}",
                ticked_markdown(&sanitize(&one.words)),
                plain(&one.systems.join(", "))
            )?;
        }
    }
    Ok(())
}
