//! The checks themselves, as a list and one at a time.

use anstyle::Style;
use std::fmt::Write;
use trevlin_audit::{Area, Check};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

/// All checks by area, in the order of the work.
#[must_use]
pub fn list(checks: &[&Check]) -> String {
    let mut out = String::new();
    let longest = checks.iter().map(|check| check.id.len()).max().unwrap_or_default();
    for area in Area::ALL {
        for check in checks.iter().filter(|check| check.area == area) {
            let severity = check.severity.word();
            let _ = writeln!(out, "{BOLD}{:<longest$}{BOLD:#}  {severity:<8}  {}", check.id, check.title);
        }
    }
    out
}

/// One check in full.
#[must_use]
pub fn explain(check: &Check, width: usize) -> String {
    let mut out = format!("{BOLD}{}{BOLD:#}\n{}\n\n", check.id, check.title);
    let rated = format!("{} as base severity", check.severity.word());
    let references = check.cited().to_string();
    let needs = needs(check);
    for (label, text) in [
        ("rated", rated.as_str()),
        ("why", check.why),
        ("judged", check.judged),
        ("needs", &needs),
        ("fix", check.fix),
        ("see", &references),
    ] {
        let options = textwrap::Options::new(width.clamp(40, 110))
            .initial_indent("        ")
            .subsequent_indent("        ")
            .word_separator(textwrap::WordSeparator::AsciiSpace)
            .word_splitter(textwrap::WordSplitter::NoHyphenation);
        let _ = writeln!(out, "{DIM}{label:<7}{DIM:#} {}\n", textwrap::fill(text, options).trim_start());
    }
    out.truncate(out.trim_end().len());
    out.push('\n');
    out
}

/// Exports of a system without which it is not judged, as a sentence.
fn needs(check: &Check) -> String {
    match check.needs {
        [] => "Any export of the system.".to_owned(),
        needs => {
            let words: Vec<&str> = needs.iter().map(|need| need.words()).collect();
            format!("Needed from each system: {}.", words.join("; "))
        }
    }
}

/// The page of one check in the manual, as Markdown: what `trevlin checks ID` shows.
#[must_use]
pub fn check_page(check: &Check) -> String {
    let references: String = check.cited().words().map(|one| format!("- {one}\n")).collect();
    format!(
        "# {title}\n\n`{id}`, a check of the area [{area}](../README.md#{area}): {question}. Base severity: \
         {severity}.\n\n## Risk\n\n{why}\n\n## Criteria\n\n{judged}\n\n## Exports\n\n{needs}\n\n## Remedy\n\n{fix}\n\n## References\n\n{references}",
        title = check.title,
        id = check.id,
        area = check.area.word(),
        question = check.area.question(),
        severity = check.severity.word(),
        why = check.why,
        judged = check.judged,
        needs = needs(check),
        fix = check.fix,
    )
}

/// The pages of all checks, by area, as Markdown.
#[must_use]
pub fn check_index(checks: &[&Check]) -> String {
    let mut out = format!(
        "# Checks\n\n{} checks by area, in the order in which remote access is reviewed. Each page states risk, criteria, \
         needed exports, remedy and references; `trevlin checks ID` prints the same. These pages are generated from the checks.\n",
        checks.len()
    );
    for area in Area::ALL {
        let _ = writeln!(out, "\n## {}\n\nScope: {}.\n", area.word(), area.question());
        let _ = writeln!(out, "| check | base severity | title |\n| --- | --- | --- |");
        for check in checks.iter().filter(|check| check.area == area) {
            let _ =
                writeln!(out, "| [{0}]({0}.md) | {1} | {2} |", check.id, check.severity.word(), check.title);
        }
    }
    out
}
