//! The summary of an outcome: the most important actions, and the findings of each area with the highest severity, one line each.

use super::{BOLD, DIM, PATH, Page, mark};
use crate::counted;
use crate::requests::{addressee, merged};
use crate::sanitize;
use crate::top_findings::{Group, few, top_findings};
use std::fmt::Write;
use trevlin_audit::{Area, Finding, Outcome, Severity, Status};
use unicode_width::UnicodeWidthStr;

/// Number of most important actions.
const FIRST: usize = 5;
/// Number of open findings above which a summary is printed first.
const MANY: usize = 12;
/// Findings and questions that are named of each list.
const NAMED: usize = 3;
/// Number of devices named for an action.
const DEVICES: usize = 4;
/// Where the lines of a thing to do begin.
const INNER: &str = "              ";

/// Whether an outcome is too long to be printed in full by default.
pub(super) fn is_long(outcome: &Outcome) -> bool {
    outcome.findings().filter(|one| one.status == Status::Open).count() > MANY
}

/// Place and title of a finding as they may be shown.
fn shown(one: &Finding) -> (String, String) {
    let (place, title) = super::place_and_title(one);
    (sanitize(&place).into_owned(), sanitize(&title).into_owned())
}

impl Page<'_> {
    /// The summary. Parts left out are named with the command that shows them.
    pub(super) fn short(&mut self, outcome: &Outcome) -> std::fmt::Result {
        self.do_first(outcome)?;
        for area in Area::ALL {
            self.area_in_lines(outcome, area)?;
        }
        self.accepted(outcome)?;
        self.questions_in_lines(outcome)?;
        self.answers(outcome)?;
        self.not_understood(outcome)?;
        self.left_out(outcome)?;
        self.summary(outcome)?;
        let again = self.again;
        writeln!(self.text)?;
        writeln!(self.text, "{DIM}every finding in full{DIM:#}     {again} --full")?;
        writeln!(self.text, "{DIM}one line each{DIM:#}             {again} --quiet")
    }

    fn do_first(&mut self, outcome: &Outcome) -> std::fmt::Result {
        let groups = top_findings(outcome, Severity::Info);
        let first = &groups[..groups.len().min(FIRST)];
        let covered: usize = first.iter().map(|group| group.all.len()).sum();
        let all: usize = groups.iter().map(|group| group.all.len()).sum();
        let title = match first.len() {
            1 => "most important action".to_owned(),
            FIRST => "five most important actions".to_owned(),
            few => format!("{few} most important actions"),
        };
        self.heading(&title, &format!("covering {covered} of {}", counted(all, "open finding")))?;
        for (number, group) in (1..).zip(first) {
            self.thing(number, group)?;
        }
        Ok(())
    }

    fn thing(&mut self, number: usize, group: &Group<'_>) -> std::fmt::Result {
        let first = group.first;
        let title = trevlin_audit::checks::find(first.check).map_or("", |check| check.title);
        let options = self.indented(INNER, INNER);
        let title = textwrap::fill(title, options);
        writeln!(self.text, "{number:>3} {}{BOLD}{}{BOLD:#}", mark(first.severity), title.trim_start())?;
        let devices = group.devices();
        let place =
            first.evidence.first().map(|at| sanitize(&format!("{}:{}", at.path, at.line)).into_owned());
        let place = place.unwrap_or_default();
        self.inner("where", &format!("{PATH}{place}{PATH:#}"))?;
        self.filled("", &sanitize(&first.title))?;
        if group.all.len() > 1 {
            let more = format!("and {} more, on {}", group.all.len() - 1, few(&devices, DEVICES));
            self.filled("", &sanitize(&more))?;
        }
        self.filled("fix", first.remedy)?;
        let command = format!("{} --check {}", self.again, first.check);
        // A command is never broken: it is there to be copied.
        if INNER.len() + command.width() <= self.wide {
            self.inner("all", &command)?;
        } else {
            writeln!(self.text, "        {DIM}all{DIM:#}\n  {command}")?;
        }
        writeln!(self.text)
    }

    /// A line of a thing to do, as it is.
    fn inner(&mut self, label: &str, text: &str) -> std::fmt::Result {
        writeln!(self.text, "        {DIM}{label:<5}{DIM:#} {text}")
    }

    /// A text of a thing to do, wrapped.
    fn filled(&mut self, label: &str, text: &str) -> std::fmt::Result {
        let filled = textwrap::fill(text, self.indented(INNER, INNER));
        self.inner(label, filled.trim_start())
    }

    fn area_in_lines(&mut self, outcome: &Outcome, area: Area) -> std::fmt::Result {
        let stands = |one: &&Finding| one.area == area && one.status == Status::Open;
        let all: Vec<&Finding> = outcome.findings().filter(stands).collect();
        if all.is_empty() {
            return Ok(());
        }
        self.heading(area.word(), area.question())?;
        let named = &all[..all.len().min(NAMED)];
        let beside = named.iter().all(|one| {
            let (place, title) = shown(one);
            place.width() + title.width() + 12 <= self.wide
        });
        for one in named {
            self.in_a_line(one, beside)?;
        }
        if all.len() > NAMED {
            let again = self.again;
            let more = all.len() - NAMED;
            writeln!(self.text, "{DIM}{:>9} {more} more:{DIM:#} {again} --area {}", "and", area.word())?;
        }
        writeln!(self.text)
    }

    /// Severity, place and title, or the title below the place.
    fn in_a_line(&mut self, one: &Finding, beside: bool) -> std::fmt::Result {
        let (place, title) = shown(one);
        write!(self.text, "{}{PATH}{place}{PATH:#}", mark(one.severity))?;
        if beside {
            return writeln!(self.text, "  {title}");
        }
        writeln!(self.text, "\n{}", textwrap::fill(&title, self.indented(INNER, INNER)))
    }

    fn questions_in_lines(&mut self, outcome: &Outcome) -> std::fmt::Result {
        let all = merged(&outcome.open_questions);
        if all.is_empty() {
            return Ok(());
        }
        self.heading("information requests", "information that the exports do not contain")?;
        for one in all.iter().take(NAMED) {
            let text = sanitize(&format!("? {}: {}", addressee(one.first), one.text)).into_owned();
            writeln!(self.text, "{}", textwrap::fill(&text, self.indented("  ", "    ")))?;
        }
        if all.len() > NAMED {
            let (more, asked) = (all.len() - NAMED, self.again.replacen(" audit ", " questions ", 1));
            writeln!(self.text, "    {DIM}and {more} more:{DIM:#} {asked}")?;
        }
        writeln!(self.text)
    }
}
