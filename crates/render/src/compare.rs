//! Comparison of two audits, as text, Markdown and JSON.

use crate::counted;
use crate::report::{markdown, ticked_markdown};
use crate::sanitize;
use crate::text::{fitted, style};
use anstyle::Style;
use serde::Serialize;
use std::collections::BTreeMap;
use std::io;
use trevlin_audit::compare::{ChangedFinding, Comparison, ControlChange, Exposed, SeenFinding};
use trevlin_audit::{Severity, checks};

/// Names of the two audits.
#[derive(Debug, Clone, Copy)]
pub struct Names<'a> {
    /// The first one.
    pub old: &'a str,
    /// The second one.
    pub new: &'a str,
}

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    #[serde(flatten)]
    comparison: &'a Comparison,
}

/// The comparison as one JSON object, schema `trevlin-compare/1`.
///
/// # Errors
/// When writing fails.
pub fn compare_json(found: &Comparison, out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-compare/1", comparison: found }, out)
}

/// A line of a section.
struct Line {
    severity: Option<Severity>,
    /// Number of findings, where there is more than one.
    count: usize,
    text: String,
    /// Devices, or the one line that proves it.
    places: Vec<String>,
}

/// Findings with the same change.
struct Section {
    title: &'static str,
    about: String,
    lines: Vec<Line>,
    /// Most lines that are shown unless all are requested.
    most: usize,
}

/// Sections in order of importance.
fn sections(found: &Comparison) -> Vec<Section> {
    let findings = |count: usize| counted(count, "finding");
    let mut all = vec![
        Section {
            title: "New",
            about: findings(found.new.len()),
            lines: found.new.iter().map(single).collect(),
            most: 5,
        },
        Section {
            title: "Changed",
            about: findings(found.changed.len()),
            lines: worse_first(&found.changed).into_iter().map(changed).collect(),
            most: 3,
        },
    ];
    if let Some(exposure) = &found.exposure {
        let mut lines: Vec<Line> = exposure.came.iter().map(|one| exposed("newly reachable", one)).collect();
        lines.extend(exposure.changed.iter().map(|one| Line {
            severity: None,
            count: 1,
            text: format!("{} now, {} before: {}", one.new, one.old, one.what),
            places: Vec::new(),
        }));
        lines.extend(exposure.went.iter().map(|one| exposed("no longer reachable", one)));
        let about = format!(
            "{} new, {} removed, {} changed, {} unchanged",
            exposure.came.len(),
            exposure.went.len(),
            exposure.changed.len(),
            exposure.still
        );
        all.push(Section { title: "Reachable from the Internet", about, lines, most: 5 });
    }
    if let Some(controls) = found.controls.as_ref().filter(|all| !all.is_empty()) {
        let better = controls.iter().filter(|one| one.is_better()).count();
        let mut lines: Vec<&ControlChange> = controls.iter().collect();
        lines.sort_by_key(|one| one.is_better());
        all.push(Section {
            title: "Controls",
            about: format!("{better} better, {} worse", controls.len() - better),
            lines: lines.into_iter().map(control).collect(),
            most: 2,
        });
    }
    all.push(Section {
        title: "Fixed",
        about: findings(found.fixed.len()),
        lines: grouped(&found.fixed),
        most: 4,
    });
    all.push(Section {
        title: "Not verified",
        about: format!(
            "{} fixed only if the missing files and devices are really gone",
            findings(found.unseen.len())
        ),
        lines: missing(found),
        most: 2,
    });
    all.push(Section {
        title: "Moved",
        about: findings(found.moved.len()),
        lines: found.moved.iter().map(changed).collect(),
        most: 2,
    });
    all.push(Section {
        title: "Remaining",
        about: findings(found.still.len()),
        lines: grouped(&found.still),
        most: 3,
    });
    all.retain(|one| !one.lines.is_empty());
    all
}

fn control(one: &ControlChange) -> Line {
    let text = format!(
        "{} now, {} before: {} {}: {}",
        one.new.words(),
        one.old.words(),
        one.catalogue,
        one.control,
        one.requirement
    );
    Line { severity: None, count: 1, text, places: Vec::new() }
}

fn place(one: &SeenFinding) -> String {
    one.evidence.first().map_or_else(|| one.device.clone(), |first| format!("{}:{}", first.path, first.line))
}

fn single(one: &SeenFinding) -> Line {
    Line { severity: Some(one.severity), count: 1, text: one.title.clone(), places: vec![place(one)] }
}

fn changed(one: &ChangedFinding) -> Line {
    Line { text: format!("{}: {}", one.how.join(", "), one.finding.title), ..single(&one.finding) }
}

/// Findings with raised severity first, then by severity.
fn worse_first(all: &[ChangedFinding]) -> Vec<&ChangedFinding> {
    let mut all: Vec<&ChangedFinding> = all.iter().collect();
    all.sort_by_key(|one| std::cmp::Reverse((one.worse, one.finding.severity)));
    all
}

/// Findings that are missing together with a device or file, as one line with the highest severity.
fn missing(found: &Comparison) -> Vec<Line> {
    let mut groups: BTreeMap<&str, Vec<&SeenFinding>> = BTreeMap::new();
    for one in &found.unseen {
        groups.entry(&one.missing).or_default().push(&one.finding);
    }
    let mut lines: Vec<Line> = groups
        .into_iter()
        .filter_map(|(missing, all)| {
            let top_findings = all.iter().max_by_key(|one| one.severity)?;
            let text = format!("{missing} is missing from the new exports: {}", top_findings.title);
            Some(Line { severity: Some(top_findings.severity), count: all.len(), text, places: Vec::new() })
        })
        .collect();
    lines.sort_by_key(|line| std::cmp::Reverse((line.severity, line.count)));
    lines
}

fn exposed(word: &str, one: &Exposed) -> Line {
    let text = format!("{word}: {} on {} ({})", one.what, one.device, one.protection);
    Line { severity: None, count: 1, text, places: Vec::new() }
}

/// Findings of one check and severity as one line, the highest severity first.
fn grouped(all: &[SeenFinding]) -> Vec<Line> {
    #[derive(Default)]
    struct Group<'a> {
        findings: Vec<&'a SeenFinding>,
        devices: Vec<String>,
    }
    let mut groups: BTreeMap<(Severity, &str), Group<'_>> = BTreeMap::new();
    for one in all {
        let group = groups.entry((one.severity, &one.check)).or_default();
        group.findings.push(one);
        if !group.devices.contains(&one.device) {
            group.devices.push(one.device.clone());
        }
    }
    let mut lines: Vec<Line> = groups
        .into_iter()
        .filter_map(|((severity, check), group)| {
            let first = group.findings.first()?;
            let known = checks::find(check).filter(|_| group.findings.len() > 1);
            Some(Line {
                severity: Some(severity),
                count: group.findings.len(),
                text: known.map_or_else(|| first.title.clone(), |known| known.title.to_owned()),
                places: group.devices,
            })
        })
        .collect();
    // Within one severity the most frequent first.
    lines.sort_by_key(|line| std::cmp::Reverse((line.severity, line.count)));
    lines
}

/// Changes of the estate as a whole, in sentences.
fn lead(found: &Comparison) -> Vec<String> {
    let (mut old, mut new) = (0, 0);
    let mut by_severity = Vec::new();
    for one in &found.severities {
        old += one.old;
        new += one.new;
        if one.old + one.new > 0 {
            by_severity.push(format!("{} {} -> {}", one.severity.word(), one.old, one.new));
        }
    }
    let mut lines = vec![format!("open findings  {old} -> {new}")];
    if !by_severity.is_empty() {
        lines.push(format!("by severity    {}", by_severity.join(", ")));
    }
    let asked = (found.answered.len() + found.still_asked, found.asked.len() + found.still_asked);
    if asked != (0, 0) {
        let about = format!("{} answered, {} new", found.answered.len(), found.asked.len());
        lines.push(format!("information requests {} -> {}   {about}", asked.0, asked.1));
    }
    let mut devices = Vec::new();
    if !found.came.is_empty() {
        devices.push(format!("new devices: {}", found.came.join(", ")));
    }
    if !found.went.is_empty() {
        devices.push(format!("removed devices: {}", found.went.join(", ")));
    }
    devices.extend(found.renamed.iter().map(|one| format!("{} is now {}", one.old, one.new)));
    if !devices.is_empty() {
        lines.push(format!("devices        {}", devices.join("; ")));
    }
    if found.exposure.is_none() {
        lines.push("Exposure is not compared: neither saved results nor exports without an Internet interface contain it.".to_owned());
    }
    lines
}

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

/// The comparison as text for a terminal: less than a screen, unless `all` is set.
///
/// # Errors
/// When writing fails.
pub fn compare_text(
    found: &Comparison,
    names: Names<'_>,
    all: bool,
    width: usize,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let width = width.clamp(60, 120);
    let name = |text: &str| ending(&sanitize(text), (width - 30) / 2);
    let (old, new) = (name(names.old), name(names.new));
    writeln!(
        out,
        "{BOLD}{old}{BOLD:#} ({}) -> {BOLD}{new}{BOLD:#} ({})",
        date(&found.old_as_of),
        date(&found.new_as_of)
    )?;
    for line in lead(found) {
        writeln!(out, "{}", fitted(&sanitize(&line), width))?;
    }
    let sections = sections(found);
    if sections.is_empty() {
        return writeln!(out, "no findings in either");
    }
    let mut cut = false;
    for section in sections {
        let title = section.title.to_uppercase();
        writeln!(
            out,
            "{BOLD}{title}{BOLD:#}  {DIM}{}{DIM:#}",
            fitted(&section.about, width - title.len() - 2)
        )?;
        let shown = if all { section.lines.len() } else { section.most.min(section.lines.len()) };
        for line in &section.lines[..shown] {
            write_line(line, width, out)?;
        }
        let more = section.lines.len() - shown;
        if more > 0 {
            cut = true;
            let rest: usize = section.lines[shown..].iter().map(|line| line.count).sum();
            let of = if rest == more { String::new() } else { format!(", {rest} findings") };
            writeln!(
                out,
                "  {DIM}and {}{of}{DIM:#}",
                if more == 1 { "1 more line".to_owned() } else { format!("{more} more") }
            )?;
        }
    }
    if cut {
        writeln!(out, "{DIM}--all shows every line{DIM:#}")?;
    }
    Ok(())
}

/// The end of a text that fits into the space: the most specific part of a path.
fn ending(text: &str, room: usize) -> String {
    let wide = |text: &str| unicode_width::UnicodeWidthStr::width(text);
    if wide(text) <= room {
        return text.to_owned();
    }
    let mut from = text.char_indices().map(|(at, _)| &text[at..]);
    let fits = from.find(|rest| wide(rest) < room).unwrap_or_default();
    format!("…{fits}")
}

fn date(text: &str) -> String {
    if text.is_empty() { "no date".to_owned() } else { sanitize(text).into_owned() }
}

fn write_line(line: &Line, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let Some(severity) = line.severity else {
        return writeln!(out, "  {}", fitted(&sanitize(&line.text), width - 2));
    };
    let style = style(severity);
    let count = if line.count > 1 { format!("{:>3} x", line.count) } else { "     ".to_owned() };
    let room = width - 17;
    let joined = sanitize(&line.places.join(", ")).into_owned();
    let place = if unicode_width::UnicodeWidthStr::width(joined.as_str()) > room / 3 && line.places.len() > 1
    {
        format!("{} devices", line.places.len())
    } else {
        ending(&joined, room / 3)
    };
    let text =
        fitted(&sanitize(&line.text), room - unicode_width::UnicodeWidthStr::width(place.as_str()) - 2);
    write!(out, "  {style}{:<8}{style:#} {count} {text}", severity.word())?;
    if place.is_empty() { writeln!(out) } else { writeln!(out, "  {DIM}{place}{DIM:#}") }
}

/// The comparison as Markdown, whole.
///
/// # Errors
/// When writing fails.
pub fn compare_markdown(found: &Comparison, names: Names<'_>, out: &mut dyn io::Write) -> io::Result<()> {
    let safe = |text: &str| markdown(&sanitize(text));
    writeln!(out, "# Comparison of {}\n", safe(names.old))?;
    let (old, new) = (safe(&date(&found.old_as_of)), safe(&date(&found.new_as_of)));
    writeln!(out, "{} as of {old}, and {} as of {new}.\n", safe(names.old), safe(names.new))?;
    for line in lead(found) {
        let words: Vec<&str> = line.split_whitespace().collect();
        writeln!(out, "- {}", safe(&words.join(" ")))?;
    }
    for section in sections(found) {
        writeln!(out, "\n## {}\n\n{}\n", section.title, section.about)?;
        if section.lines.iter().all(|line| line.severity.is_none()) {
            for line in &section.lines {
                writeln!(out, "- {}", ticked_markdown(&sanitize(&line.text)))?;
            }
            continue;
        }
        writeln!(out, "| severity | findings | title | place |\n| --- | --- | --- | --- |")?;
        for line in &section.lines {
            let severity = line.severity.map_or("", Severity::word);
            let text = ticked_markdown(&sanitize(&line.text));
            writeln!(out, "| {severity} | {} | {text} | {} |", line.count, safe(&line.places.join(", ")))?;
        }
    }
    for (title, questions) in
        [("Answered information requests", &found.answered), ("New information requests", &found.asked)]
    {
        if !questions.is_empty() {
            writeln!(out, "\n## {title}\n")?;
        }
        for one in questions {
            writeln!(out, "- {}: {}", safe(&one.device), ticked_markdown(&sanitize(&one.question)))?;
        }
    }
    Ok(())
}
