//! A page of text for a terminal, built up line by line.

use crate::alike::{self, Place, alike};
use crate::counted;
use crate::requests::{Request, addressee, merged};
use crate::sanitize;
use anstyle::{AnsiColor, Style};
use std::collections::BTreeSet;
use std::fmt::Write;
use trevlin_audit::LeftOutFile;
use trevlin_audit::{
    Acceptance, AcceptanceEntry, AnswerEntry, Area, Evidence, ExportSummary, Finding, InformationRequest,
    Outcome, Severity, Status,
};

/// Longer lines of prose are hard to read.
pub(crate) const WIDEST_PROSE: usize = 110;

/// Where titles begin.
pub(crate) const MARGIN: &str = "          ";

/// Where labelled paragraphs begin.
const PARAGRAPH: &str = "             ";

/// What no check looked at; nothing where all exports that checks need were read.
fn not_looked_at(outcome: &Outcome) -> Option<String> {
    let exports = || outcome.devices.iter().flat_map(|device| &device.exports);
    let unread = exports().filter(|export| export.format == "unknown" && export.not_understood > 0).count();
    let lines: u32 =
        exports().filter(|export| export.format != "unknown").map(|export| export.not_understood).sum();
    let mut parts = Vec::new();
    if unread > 0 {
        parts.push(format!("{} in unsupported formats", counted(unread, "file")));
    }
    if !outcome.left_out.is_empty() {
        parts.push(format!("{} that could not be read", counted(outcome.left_out.len(), "file")));
    }
    if lines > 0 {
        parts.push(counted(lines as usize, "line"));
    }
    let mut parts = if parts.is_empty() { Vec::new() } else { vec![parts.join(", ")] };
    match outcome.summary.tested.incomplete_systems {
        0 => {}
        1 => parts.push("1 system lacks an export that checks need".to_owned()),
        count => parts.push(format!("{count} systems lack an export that checks need")),
    }
    (!parts.is_empty()).then(|| format!("not looked at: {} (`trevlin coverage`)", parts.join("; ")))
}

/// Notes shown for one export before the rest is only counted.
pub(crate) const SHOWN_NOTES: usize = 6;

/// Files of no known format that are named before the rest is only counted.
pub(crate) const SHOWN_UNKNOWN: usize = 8;

pub(crate) const BOLD: Style = Style::new().bold();

pub(crate) const DIM: Style = Style::new().dimmed();

pub(crate) const PATH: Style = AnsiColor::Cyan.on_default();

pub(crate) fn style(severity: Severity) -> Style {
    match severity {
        Severity::Critical => {
            Style::new().bold().fg_color(Some(AnsiColor::White.into())).bg_color(Some(AnsiColor::Red.into()))
        }
        Severity::High => AnsiColor::Red.on_default().bold(),
        Severity::Medium => AnsiColor::Yellow.on_default().bold(),
        Severity::Low => AnsiColor::Blue.on_default().bold(),
        Severity::Info => AnsiColor::BrightBlack.on_default().bold(),
    }
}

/// A severity as findings begin with it, as wide as the margin.
pub(crate) fn mark(severity: Severity) -> String {
    let (style, word) = (style(severity), severity.word().to_uppercase());
    let gap = " ".repeat(MARGIN.len().saturating_sub(word.len()));
    format!("{style}{word}{style:#}{gap}")
}

pub(crate) struct Page<'a> {
    pub(crate) text: String,
    /// Columns for prose.
    pub(crate) width: usize,
    /// Columns there are.
    pub(crate) wide: usize,
    pub(crate) detail: Detail,
    pub(crate) again: &'a str,
    /// Checks whose risk was already printed.
    pub(crate) explained: BTreeSet<&'static str>,
}

impl Page<'_> {
    /// The findings of an area, as a page of its own.
    pub(crate) fn area(&self, outcome: &Outcome, area: Area) -> Result<String, std::fmt::Error> {
        let mut page = Self { text: String::new(), explained: BTreeSet::new(), ..*self };
        let stands = |one: &&Finding| one.area == area && one.status == Status::Open;
        for (at, group) in alike(outcome.findings().filter(stands)).iter().enumerate() {
            if at == 0 {
                page.heading(area.word(), area.question())?;
            }
            page.group(group)?;
        }
        Ok(page.text)
    }

    pub(crate) fn heading(&mut self, title: &str, subtitle: &str) -> std::fmt::Result {
        let title = title.to_uppercase();
        let gap = if subtitle.is_empty() { "" } else { "  " };
        writeln!(self.text, "{BOLD}{title}{BOLD:#}{gap}{DIM}{}{DIM:#}", self.cut(subtitle, title.len() + 2))?;
        writeln!(self.text, "{DIM}{}{DIM:#}", "─".repeat(self.width))
    }

    /// Wrapping that breaks at blanks only, so that paths and names stay whole.
    pub(crate) fn indented<'a>(&self, first: &'a str, rest: &'a str) -> textwrap::Options<'a> {
        textwrap::Options::new(self.width)
            .initial_indent(first)
            .subsequent_indent(rest)
            .word_separator(textwrap::WordSeparator::AsciiSpace)
            .word_splitter(textwrap::WordSplitter::NoHyphenation)
    }

    /// A text that fits after the present content of the line.
    pub(crate) fn cut(&self, text: &str, taken: usize) -> String {
        fitted(text, self.width.saturating_sub(taken))
    }

    /// Findings shown as one: each with its lines, followed by their common text once.
    pub(crate) fn group(&mut self, group: &[&Finding]) -> std::fmt::Result {
        let [first, ..] = group else { return Ok(()) };
        let title = textwrap::fill(
            &sanitize(&format!("{}: {}", first.device, alike::title(group))),
            self.indented(MARGIN, MARGIN),
        );
        writeln!(self.text, "{}{BOLD}{}{BOLD:#}", mark(first.severity), title.trim_start())?;
        for one in group {
            if group.len() > 1 {
                let text = sanitize(&format!("• {}", one.title)).into_owned();
                writeln!(self.text, "{}", textwrap::fill(&text, self.indented("  ", "    ")))?;
            }
            self.evidence(&one.evidence)?;
            self.paragraph("finding", &one.detail)?;
            self.paragraph("severity", &format!("{} ({})", one.severity.word(), one.why_this_severity))?;
            if let Some(acceptance) = &one.acceptance {
                self.paragraph("status", &format!("open again: {}, expired", answered(acceptance)))?;
            }
            if group.len() > 1 {
                self.paragraph("check", &format!("{} {}", one.check, short(&one.fingerprint)))?;
            }
        }
        let told = !self.explained.insert(first.check);
        if !told {
            self.paragraph("risk", first.why)?;
            self.paragraph("remedy", first.remedy)?;
            self.paragraph("see", &first.references.to_string())?;
        }
        if group.len() == 1 {
            let also = if told { "; risk and remedy as above" } else { "" };
            self.paragraph("check", &format!("{} {}{also}", first.check, short(&first.fingerprint)))?;
        }
        writeln!(self.text)
    }

    /// Accepted findings, and entries of the estate file that match no finding or have expired.
    pub(crate) fn accepted(&mut self, outcome: &Outcome) -> std::fmt::Result {
        if outcome.acceptances.is_empty() {
            return Ok(());
        }
        self.heading("accepted", "accepted findings")?;
        for one in outcome.findings().filter(|one| one.status == Status::Accepted) {
            let title = sanitize(&format!("{}: {}", one.device, one.title)).into_owned();
            let title = textwrap::fill(&title, self.indented(MARGIN, MARGIN));
            writeln!(self.text, "{}{}", mark(one.severity), title.trim_start())?;
            self.evidence(one.evidence.get(..1).unwrap_or_default())?;
            if let Some(acceptance) = &one.acceptance {
                self.paragraph("by", &answered(acceptance))?;
            }
            self.paragraph("check", &format!("{} {}", one.check, short(&one.fingerprint)))?;
        }
        for entry in &outcome.acceptances {
            let Some(told) = stale(entry) else { continue };
            let text = format!("! {told}");
            writeln!(self.text, "{}", textwrap::fill(&sanitize(&text), self.indented("  ", "    ")))?;
        }
        writeln!(self.text)
    }

    /// Lines file by file, the cited one marked.
    pub(crate) fn evidence(&mut self, evidence: &[Evidence]) -> std::fmt::Result {
        for file in alike::places(evidence) {
            self.places(&file)?;
        }
        Ok(())
    }

    /// Lines of one file.
    fn places(&mut self, places: &[Place<'_>]) -> std::fmt::Result {
        let lines: Vec<_> = places.iter().map(|place| place.line.line.to_string()).collect();
        let path = places.first().map(|place| sanitize(&place.line.path)).unwrap_or_default();
        writeln!(self.text, "    {PATH}{path}:{}{PATH:#}", lines.join(", "))?;
        // Places may overlap, where a statement of several lines holds another one.
        let mut last = 0;
        for place in places {
            for (number, line) in (place.line.line..).zip(place.line.excerpt.lines()) {
                if number <= last {
                    continue;
                }
                last = number;
                let shown = sanitize(line);
                let mark = if place.cited { "▸" } else { " " };
                writeln!(self.text, "  {mark}{DIM}{number:>6} │{DIM:#} {}", self.cut(shown.trim_end(), 12))?;
            }
        }
        Ok(())
    }

    pub(crate) fn paragraph(&mut self, label: &str, text: &str) -> std::fmt::Result {
        let options = self.indented(PARAGRAPH, PARAGRAPH);
        let filled = textwrap::fill(&sanitize(text), options);
        writeln!(self.text, "    {DIM}{label:<8}{DIM:#} {}", filled.trim_start())
    }

    pub(crate) fn questions(&mut self, outcome: &Outcome) -> std::fmt::Result {
        if outcome.open_questions.is_empty() {
            return Ok(());
        }
        self.heading("information requests", "information that the exports do not contain")?;
        for Request { first, text: question, checks } in merged(&outcome.open_questions) {
            let (addressee, InformationRequest { evidence, .. }) = (addressee(first), first);
            let check = checks.join(", ");
            let options = self.indented("  ", "    ");
            writeln!(
                self.text,
                "{}",
                textwrap::fill(&sanitize(&format!("? {addressee}: {question}")), options)
            )?;
            for place in evidence.iter().take(1) {
                writeln!(
                    self.text,
                    "    {PATH}{}:{}{PATH:#}  {DIM}{check}{DIM:#}",
                    sanitize(&place.path),
                    place.line
                )?;
            }
            if evidence.is_empty() {
                writeln!(self.text, "    {DIM}{check}{DIM:#}")?;
            }
        }
        writeln!(self.text)
    }

    /// Answers to information requests.
    pub(crate) fn answers(&mut self, outcome: &Outcome) -> std::fmt::Result {
        if outcome.answers.is_empty() {
            return Ok(());
        }
        self.heading("answered", "answers in the estate file")?;
        for one in &outcome.answers {
            for question in &one.settles {
                let options = self.indented("  ", "    ");
                writeln!(self.text, "{}", textwrap::fill(&sanitize(&format!("= {question}")), options))?;
                let options = self.indented("    ", "    ");
                writeln!(self.text, "{}", textwrap::fill(&sanitize(&said(one)), options))?;
            }
            if let Some(told) = idle(one) {
                let options = self.indented("  ", "    ");
                writeln!(self.text, "{}", textwrap::fill(&sanitize(&format!("! {told}")), options))?;
            }
        }
        writeln!(self.text)
    }

    /// Files that were not read, and are not covered by the results.
    pub(crate) fn left_out(&mut self, outcome: &Outcome) -> std::fmt::Result {
        if outcome.left_out.is_empty() {
            return Ok(());
        }
        self.heading("not read", "not covered by any result")?;
        let all = match self.detail {
            Detail::All => outcome.left_out.clone(),
            _ => LeftOutFile::grouped(&outcome.left_out),
        };
        let shown = if self.detail == Detail::All { all.len() } else { SHOWN_UNKNOWN };
        for one in all.iter().take(shown) {
            let text = sanitize(&format!("{}: {}", one.path, one.why)).into_owned();
            writeln!(self.text, "{}", textwrap::fill(&text, self.indented("  ", "    ")))?;
        }
        if all.len() > shown {
            writeln!(self.text, "  and {} more (-v lists them)", all.len() - shown)?;
        }
        writeln!(self.text)
    }

    pub(crate) fn not_understood(&mut self, outcome: &Outcome) -> std::fmt::Result {
        let exports = || outcome.devices.iter().flat_map(|device| &device.exports);
        if !exports().any(|export| export.not_understood > 0 || !export.notes.is_empty()) {
            return Ok(());
        }
        self.heading("not understood", "lines not judged; please review them")?;
        let told = |export: &&ExportSummary| export.not_understood > 0 || !export.notes.is_empty();
        for export in exports().filter(told).filter(|export| export.format != "unknown") {
            self.export(export)?;
        }
        let unknown: Vec<_> = exports().filter(told).filter(|export| export.format == "unknown").collect();
        let shown = if self.detail == Detail::All { unknown.len() } else { SHOWN_UNKNOWN };
        for export in unknown.iter().take(shown) {
            self.export(export)?;
        }
        if unknown.len() > shown {
            writeln!(
                self.text,
                "  {DIM}and {} more files in unsupported formats; -v lists them{DIM:#}",
                unknown.len() - shown
            )?;
        }
        writeln!(self.text)
    }

    pub(crate) fn export(&mut self, export: &ExportSummary) -> std::fmt::Result {
        let ExportSummary { path, format, lines, not_understood, notes, .. } = export;
        let what = if *format == "unknown" { "unsupported format".to_owned() } else { (*format).to_owned() };
        writeln!(self.text, "  {PATH}{}{PATH:#}  {what}: {not_understood} of {lines} lines", sanitize(path))?;
        let shown = if self.detail == Detail::All { notes.len() } else { SHOWN_NOTES };
        for note in notes.iter().take(shown) {
            let options = self.indented(MARGIN, MARGIN);
            let text = textwrap::fill(&sanitize(&note.text), options);
            writeln!(self.text, "    {DIM}{:>5}{DIM:#} {}", note.line, text.trim_start())?;
        }
        match notes.len().saturating_sub(shown) {
            0 => Ok(()),
            more => writeln!(self.text, "          {DIM}and {more} more; -v shows all{DIM:#}"),
        }
    }

    pub(crate) fn summary(&mut self, outcome: &Outcome) -> std::fmt::Result {
        self.heading("summary", "")?;
        let exports: Vec<_> = outcome.devices.iter().flat_map(|device| &device.exports).collect();
        let known: Vec<_> = exports.iter().filter(|export| export.format != "unknown").collect();
        let sum = |count: fn(&ExportSummary) -> u32| {
            known.iter().map(|export| u64::from(count(export))).sum::<u64>()
        };
        let severities: Vec<_> = Severity::ALL
            .iter()
            .filter_map(|severity| Some((*severity, *outcome.summary.by_severity.get(severity.word())?)))
            .filter(|(_, count)| *count > 0)
            .map(|(severity, count)| format!("{0}{count} {1}{0:#}", style(severity), severity.word()))
            .collect();
        let areas: Vec<_> = Area::ALL
            .iter()
            .filter_map(|area| Some((area.word(), *outcome.summary.by_area.get(area.word())?)))
            .filter(|(_, count)| *count > 0)
            .map(|(word, count)| format!("{word} {count}"))
            .collect();
        let mut lines = Vec::new();
        if severities.is_empty() {
            let unread = exports.iter().any(|one| one.format == "unknown" && one.not_understood > 0);
            let all = if unread || !outcome.left_out.is_empty() { " in what was read" } else { "" };
            lines.push(format!("no open findings{all}"));
        } else {
            let open = outcome.findings.len() - outcome.summary.accepted;
            lines.push(format!("{}: {}", counted(open, "finding"), severities.join(", ")));
            lines.push(format!("by area: {}", areas.join(", ")));
        }
        if outcome.summary.accepted > 0 {
            lines.push(format!("and {} accepted", outcome.summary.accepted));
        }
        lines.push(counted(merged(&outcome.open_questions).len(), "information request"));
        let tested = &outcome.summary.tested;
        lines.push(format!(
            "tested: {}, {}: {} failed, {} undetermined, {} passed",
            counted(tested.checks, "check"),
            counted(tested.counts.judged(), "subject"),
            tested.counts.failed,
            tested.counts.undetermined,
            tested.counts.passed,
        ));
        if let Some(line) = not_looked_at(outcome) {
            lines.push(line);
        }
        lines.push(format!("certificates judged as of {} (change with --as-of)", outcome.as_of));
        lines.push(format!(
            "read: {}, {}, {} lines: {} understood, {} not understood, the others are not relevant",
            counted(outcome.devices.len(), "device"),
            counted(known.len(), "export"),
            sum(|export| export.lines),
            sum(|export| export.understood),
            sum(|export| export.not_understood),
        ));
        let others = exports.iter().filter(|export| export.format == "unknown");
        let no_bearing = others.filter(|export| export.not_understood == 0).count();
        if no_bearing > 0 {
            lines.push(format!("not relevant: {}", counted(no_bearing, "file")));
        }
        for line in lines {
            // Styles have no width for the wrapping.
            writeln!(self.text, "{}", textwrap::fill(&line, self.indented("  ", "    ")))?;
        }
        Ok(())
    }

    /// One line a finding: severity, place, title.
    pub(crate) fn lines(&mut self, outcome: &Outcome) -> std::fmt::Result {
        for one in outcome.findings() {
            let style = style(one.severity);
            let (place, title) = place_and_title(one);
            let word = one.severity.word();
            let gap = " ".repeat(10usize.saturating_sub(word.len()));
            let space = if place.is_empty() { "" } else { "  " };
            let (place, title) = (sanitize(&place), sanitize(&title));
            let accepted = match (one.status, &one.acceptance) {
                (Status::Accepted, Some(acceptance)) => format!(" (accepted until {})", acceptance.until),
                _ => String::new(),
            };
            writeln!(self.text, "{style}{word}{style:#}{gap}{PATH}{place}{PATH:#}{space}{title}{accepted}")?;
        }
        Ok(())
    }
}

/// Place and title of a finding, with the device where the path does not show it.
pub(crate) fn place_and_title(one: &Finding) -> (String, String) {
    let place =
        one.evidence.first().map(|place| format!("{}:{}", place.path, place.line)).unwrap_or_default();
    // The path begins with the device's folder as a rule.
    let told = place.strip_prefix(&*one.device).is_some_and(|rest| rest.starts_with('/'));
    let title = if told { one.title.to_string() } else { format!("{}: {}", one.device, one.title) };
    (place, title)
}

/// Amount of detail.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Detail {
    /// One line a finding.
    Lines,
    /// The most important actions, and the findings of each area with the highest severity; all findings where there are few.
    Short,
    /// Everything, with long lists cut.
    Full,
    /// Everything.
    All,
}

/// As much of a fingerprint as `trevlin accept` needs.
pub(crate) fn short(fingerprint: &str) -> &str {
    fingerprint.get(..12).unwrap_or(fingerprint)
}

pub(crate) fn answered(acceptance: &Acceptance) -> String {
    format!("{} until {}: {}", acceptance.owner, acceptance.until, acceptance.reason)
}

/// As much of a text as there is room for, in columns.
pub(crate) fn fitted(text: &str, room: usize) -> String {
    if unicode_width::UnicodeWidthStr::width(text) <= room {
        return text.to_owned();
    }
    let mut out = String::new();
    for letter in text.chars() {
        if unicode_width::UnicodeWidthStr::width(out.as_str()) + 2 > room {
            break;
        }
        out.push(letter);
    }
    out + "…"
}

/// Reason why an acceptance entry is not effective, if it is not.
pub(crate) fn stale(entry: &AcceptanceEntry) -> Option<String> {
    let what = match &entry.device {
        Some(device) => format!("{} on {device}", entry.accepts),
        None => entry.accepts.clone(),
    };
    let told = match (entry.findings, entry.acceptance.expired) {
        (0, _) => "matches no finding; remove it, or check its purpose".to_owned(),
        (count, true) => {
            format!("expired on {}; {} open again", entry.acceptance.until, counted(count, "finding"))
        }
        _ => return None,
    };
    Some(format!("trevlin.toml, line {}: {what} {told}", entry.line))
}

/// An answer with its source, its date and its consequence.
pub(crate) fn said(one: &AnswerEntry) -> String {
    let follows = if one.right { "no finding" } else { "a finding" };
    format!("{} ({}, {}): {follows}", one.answer, one.by, one.on)
}

/// Reason why an answer has no effect, if no request matches it.
pub(crate) fn idle(one: &AnswerEntry) -> Option<String> {
    one.settles.is_empty().then(|| {
        let device = one.device.as_ref().map(|device| format!(" on {device}")).unwrap_or_default();
        format!("trevlin.toml, line {}: {}{device} has no request that this answers", one.line, one.check)
    })
}
