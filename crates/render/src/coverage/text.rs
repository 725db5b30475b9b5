//! Coverage as text.

use super::{
    CoverageView, Reason, basis, few, gaps, lacking, not_judged_names, of_area, proof, scope_words, states,
    totals,
};
use crate::columns::{Look, table};
use crate::counted;
use crate::sanitize;
use crate::text::fitted;
use anstyle::{AnsiColor, Style};
use std::io;
use trevlin_audit::Area;
use trevlin_audit::coverage::{CheckCoverage, ControlSheet, Coverage, State};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const GOOD: Style = AnsiColor::Green.on_default();
const OPEN: Style = AnsiColor::Yellow.on_default();
const BAD: Style = AnsiColor::Red.on_default().bold();

const CHECKS: Look<6> = Look {
    heads: ["Check", "Failed", "Undetermined", "Passed", "Not judged on", "Result"],
    shares: [34, 8, 14, 8, 21, 15],
    widest: 130,
};

const CONTROLS: Look<4> = Look {
    heads: ["Control", "Requirement and judged part", "Basis", "State"],
    shares: [13, 43, 30, 14],
    widest: 130,
};

/// Files that are named for a gap before the rest is counted.
const SHOWN_FILES: usize = 2;

/// Systems that are named for a reason before the rest is counted.
const SHOWN_SYSTEMS: usize = 8;

fn style(state: State) -> Style {
    match state {
        State::Met => GOOD,
        State::PartlyJudged => OPEN,
        State::NotMet => BAD,
        State::NotJudged => DIM,
    }
}

/// The coverage as text. `all`: with the names of all files.
///
/// # Errors
/// When writing fails.
pub fn coverage_text(
    view: &CoverageView<'_>,
    all: bool,
    width: usize,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let coverage = view.coverage;
    let width = width.clamp(60, 150);
    write!(out, "{BOLD}")?;
    wrapped(&totals(coverage), "", width, out)?;
    write!(out, "{BOLD:#}")?;
    for (at, words) in scope_words(coverage).iter().enumerate() {
        wrapped(words, if at == 0 { "Scope: " } else { "       " }, width, out)?;
    }
    writeln!(out)?;
    if view.of_controls {
        for sheet in view.sheets {
            controls(sheet, width, out)?;
        }
    } else {
        checks(coverage, width, out)?;
        numbers(view.sheets, out)?;
    }
    if view.passes {
        passes(coverage, width, out)?;
    }
    not_judged(coverage, all, width, out)
}

fn wrapped(text: &str, start: &str, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let blank = " ".repeat(start.len());
    let options = textwrap::Options::new(width)
        .initial_indent(start)
        .subsequent_indent(&blank)
        .word_separator(textwrap::WordSeparator::AsciiSpace)
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    writeln!(out, "{}", textwrap::fill(&sanitize(text), options))
}

fn heading(title: &str, about: &str, out: &mut dyn io::Write) -> io::Result<()> {
    writeln!(out, "{BOLD}{}{BOLD:#}  {DIM}{about}{DIM:#}", title.to_uppercase())
}

fn state_of(one: &CheckCoverage) -> State {
    State::of(one.counts, one.not_judged, true)
}

/// The result of a check: the words of a control's state do not fit it.
fn result(one: &CheckCoverage) -> &'static str {
    match state_of(one) {
        State::Met => "holds",
        State::PartlyJudged => "holds in part",
        State::NotMet => "fails",
        State::NotJudged if one.counts.undetermined > 0 => "undetermined",
        State::NotJudged if one.not_judged > 0 => "not judged",
        State::NotJudged => "no subject",
    }
}

fn checks(coverage: &Coverage, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let mut rows = Vec::new();
    for one in Area::ALL.into_iter().flat_map(|area| of_area(coverage, area)) {
        let number = |count: usize| if count == 0 { "-".to_owned() } else { count.to_string() };
        let names = not_judged_names(coverage, one.check);
        let systems = match names.len() {
            0 => "-".to_owned(),
            1 | 2 => names.join(", "),
            count if count == coverage.in_scope().count() => "all systems".to_owned(),
            count => format!("{count} systems"),
        };
        let failed = match one.accepted {
            0 => number(one.counts.failed),
            accepted => format!("{} ({accepted} accepted)", one.counts.failed),
        };
        let cells = [
            one.check.title.to_owned(),
            failed,
            number(one.counts.undetermined),
            number(one.counts.passed),
            systems,
            result(one).to_owned(),
        ];
        rows.push((one.check.area.word(), cells, style(state_of(one))));
    }
    table(&CHECKS, &rows, width, out)
}

/// Controls of every catalogue in numbers.
fn numbers(sheets: &[ControlSheet<'_>], out: &mut dyn io::Write) -> io::Result<()> {
    heading("Controls", "trevlin coverage PATH --controls NAME lists those of a catalogue", out)?;
    let longest = sheets.iter().map(|one| one.catalogue.name.len()).max().unwrap_or_default();
    for sheet in sheets {
        let states: Vec<String> = State::ALL
            .into_iter()
            .filter(|state| sheet.count(*state) > 0)
            .map(|state| {
                let style = style(state);
                format!("{style}{} {}{style:#}", sheet.count(state), state.words())
            })
            .collect();
        writeln!(out, "  {:<longest$}  {}", sanitize(&sheet.catalogue.name), states.join(", "))?;
    }
    writeln!(out)
}

fn controls(sheet: &ControlSheet<'_>, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let rows: Vec<_> = sheet
        .visible()
        .map(|row| {
            let cells = [
                row.control.id.clone(),
                format!("{} Judged: {}", row.control.says, row.control.shows),
                basis(row),
                row.state.words().to_owned(),
            ];
            (sheet.catalogue.title.as_str(), cells, style(row.state))
        })
        .collect();
    table(&CONTROLS, &rows, width, out)?;
    wrapped(&states(sheet), "  ", width, out)?;
    writeln!(out)
}

/// What makes subjects right, by check and system.
fn passes(coverage: &Coverage, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    heading("Passed", "with the line or the default that makes it right", out)?;
    for one in coverage.checks.iter().filter(|one| one.rows.iter().any(|row| !row.quoted.is_empty())) {
        writeln!(out, "  {BOLD}{}{BOLD:#}", one.check.title)?;
        for row in &one.rows {
            let name = &coverage.systems[row.system].name;
            for pass in &row.quoted {
                let line = format!("{name}: {}", proof(pass));
                writeln!(out, "    {}", fitted(&sanitize(&line), width - 4))?;
            }
        }
    }
    writeln!(out)
}

fn not_judged(coverage: &Coverage, all: bool, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let most = if all { usize::MAX } else { SHOWN_FILES };
    let (lacking, gaps) = (lacking(coverage), gaps(coverage, most));
    if lacking.is_empty() && gaps.is_empty() && coverage.open.is_empty() {
        return Ok(());
    }
    heading("Not judged", "no control is met while something of this concerns it", out)?;
    for words in &coverage.open {
        wrapped(words, "  ", width, out)?;
    }
    let systems = coverage.in_scope().count();
    let mut list = |title: &str, reasons: &[Reason]| -> io::Result<()> {
        if reasons.is_empty() {
            return Ok(());
        }
        writeln!(out, "  {BOLD}{title}{BOLD:#}")?;
        for one in reasons {
            let on = match one.systems.len() {
                count if count == systems && count > 2 && one.checks.is_some() => {
                    format!("all {count} systems")
                }
                _ => few(&one.systems, if all { usize::MAX } else { SHOWN_SYSTEMS }),
            };
            let checks =
                one.checks.map(|count| format!(" ({})", counted(count, "check"))).unwrap_or_default();
            let options = textwrap::Options::new(width)
                .initial_indent("    ")
                .subsequent_indent("      ")
                .word_separator(textwrap::WordSeparator::AsciiSpace)
                .word_splitter(textwrap::WordSplitter::NoHyphenation);
            writeln!(out, "{}", textwrap::fill(&sanitize(&format!("{}{checks}: {on}", one.words)), options))?;
        }
        Ok(())
    };
    list("Exports that checks need and systems lack", &lacking)?;
    list("Exports that may not be complete", &gaps)
}
