//! The exports received, as text and JSON.

use crate::columns::{Look, table};
use crate::counted;
use crate::sanitize;
use crate::text::fitted;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use trevlin_audit::survey::{OutsideRow, Survey, SurveyedDevice};
use trevlin_audit::{LeftOutFile, ManifestRow};
use trevlin_model::DeviceKind;

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    #[serde(flatten)]
    survey: &'a Survey,
}

/// The survey as one JSON object, schema `trevlin-survey/1`.
///
/// # Errors
/// When writing fails.
pub fn survey_json(survey: &Survey, out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-survey/1", survey }, out)
}

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const GOOD: Style = AnsiColor::Green.on_default();
const OPEN: Style = AnsiColor::Yellow.on_default();

const LOOK: Look<5> = Look {
    heads: ["Device", "Exports", "Lines", "Internet", "Understood"],
    shares: [15, 43, 8, 22, 12],
    widest: 130,
};

/// Formats of a device that are named before the rest is only counted.
const SHOWN_FORMATS: usize = 6;

/// Missing files of a device that are named before the rest is only counted.
const SHOWN_FILES: usize = 6;

/// The survey as text.
///
/// # Errors
/// When writing fails.
pub fn survey_text(survey: &Survey, all: bool, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let width = width.clamp(60, 130);
    let sum = |of: fn(&SurveyedDevice) -> u32| survey.devices.iter().map(of).sum::<u32>();
    let files: usize = survey.devices.iter().map(files_of).sum();
    writeln!(
        out,
        "{BOLD}{}, {}{BOLD:#}: {} lines understood, {} not relevant, {} not understood\n",
        counted(survey.devices.len(), "device"),
        counted(files, "file"),
        sum(|one| one.understood),
        sum(|one| one.passed_over),
        sum(|one| one.not_understood)
    )?;
    let mut kinds: Vec<&SurveyedDevice> = survey.devices.iter().collect();
    kinds.sort_by_key(|one| one.kind);
    let heading = |kind: DeviceKind| match kind {
        DeviceKind::Unknown => "kind not known",
        known => known.word(),
    };
    let rows: Vec<_> = kinds
        .iter()
        .map(|one| (heading(one.kind), cells(one), if one.not_understood == 0 { GOOD } else { OPEN }))
        .collect();
    table(&LOOK, &rows, width, out)?;
    let section = |title: &str, about: &str, out: &mut dyn io::Write| {
        writeln!(out, "{BOLD}{}{BOLD:#}  {DIM}{about}{DIM:#}", title.to_uppercase())
    };
    let unsure: Vec<&SurveyedDevice> = survey.devices.iter().filter(|one| is_unsure(one)).collect();
    if !unsure.is_empty() {
        section("Internet interfaces", "assumed or unknown ones: set them in trevlin.toml", out)?;
        for one in unsure {
            writeln!(out, "  {}", fitted(&sanitize(&told_outside(one)), width - 2))?;
        }
        writeln!(out)?;
    }
    let missing: Vec<&SurveyedDevice> = survey.devices.iter().filter(|one| !one.missing.is_empty()).collect();
    if !missing.is_empty() {
        section("Missing files", "referenced by exported lines", out)?;
        for one in missing {
            let shown = if all { one.missing.len() } else { SHOWN_FILES };
            for file in one.missing.iter().take(shown) {
                let reachability_from =
                    file.evidence.first().map(|at| format!("  {}:{}", at.path, at.line)).unwrap_or_default();
                let line = format!("{}: {}{reachability_from}", one.name, file.path);
                writeln!(out, "  {}", fitted(&sanitize(&line), width - 2))?;
            }
            if one.missing.len() > shown {
                writeln!(
                    out,
                    "  {DIM}{}: and {} more (-v lists them){DIM:#}",
                    sanitize(&one.name),
                    one.missing.len() - shown
                )?;
            }
        }
        writeln!(out)?;
    }
    let mut lacks: Vec<&'static str> =
        survey.devices.iter().flat_map(|one| one.lacks.iter().copied()).collect();
    lacks.sort_unstable();
    lacks.dedup();
    if !lacks.is_empty() {
        section("Recommended exports", "not provided, although the devices support them", out)?;
        for what in lacks {
            let of: Vec<&str> = survey
                .devices
                .iter()
                .filter(|one| one.lacks.contains(&what))
                .map(|one| one.name.as_str())
                .collect();
            let names = format!("  {what}: {}", of.join(", "));
            let options = textwrap::Options::new(width)
                .subsequent_indent("    ")
                .word_separator(textwrap::WordSeparator::AsciiSpace)
                .word_splitter(textwrap::WordSplitter::NoHyphenation);
            writeln!(out, "{}", textwrap::fill(&sanitize(&names), options))?;
        }
        writeln!(out)?;
    }
    let unknown: Vec<&String> = survey.devices.iter().flat_map(|one| &one.unknown).collect();
    if !unknown.is_empty() {
        section("Unsupported formats", "a phrasebook or device sheet adds support", out)?;
        let shown = if all { unknown.len() } else { SHOWN_FILES };
        for path in unknown.iter().take(shown) {
            writeln!(out, "  {}", fitted(&sanitize(path), width - 2))?;
        }
        if unknown.len() > shown {
            writeln!(out, "  {DIM}and {} more (-v lists them){DIM:#}", unknown.len() - shown)?;
        }
        writeln!(out)?;
    }
    if !survey.manifests.is_empty() {
        section("Checksums", "collected files, compared with their checksums", out)?;
        for one in &survey.manifests {
            manifest(one, all, width, out)?;
        }
        writeln!(out)?;
    }
    if !survey.left_out.is_empty() {
        section("Not read", "not included in any result", out)?;
        let files = if all { survey.left_out.clone() } else { LeftOutFile::grouped(&survey.left_out) };
        let shown = if all { files.len() } else { SHOWN_FILES };
        for one in files.iter().take(shown) {
            let text = sanitize(&format!("  {}: {}", one.path, one.why)).into_owned();
            let options = textwrap::Options::new(width).subsequent_indent("    ");
            writeln!(out, "{}", textwrap::fill(&text, options))?;
        }
        if files.len() > shown {
            writeln!(out, "  {DIM}and {} more (-v lists them){DIM:#}", files.len() - shown)?;
        }
        writeln!(out)?;
    }
    if survey.open_questions > 0 {
        writeln!(
            out,
            "{}: `trevlin questions` lists them",
            counted(survey.open_questions, "information request")
        )?;
    }
    Ok(())
}

/// One collected export: whether it is as it was collected, and what differs.
fn manifest(one: &ManifestRow, all: bool, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let counts = [
        (one.changed.len(), "changed"),
        (one.missing.len(), "missing"),
        (one.added.len(), "without checksum"),
        (one.malformed.len(), "invalid lines"),
    ];
    let differs: Vec<String> = counts
        .iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, what)| format!("{count} {what}"))
        .collect();
    let line = if differs.is_empty() {
        format!("{}: {} unchanged", one.path, counted(one.same, "file"))
    } else {
        format!("{}: {} unchanged, {}", one.path, counted(one.same, "file"), differs.join(", "))
    };
    writeln!(out, "  {}", fitted(&sanitize(&line), width - 2))?;
    for (files, what) in
        [(&one.changed, "changed"), (&one.missing, "missing"), (&one.added, "without checksum")]
    {
        let shown = if all { files.len() } else { SHOWN_FILES };
        for path in files.iter().take(shown) {
            writeln!(out, "    {}", fitted(&sanitize(&format!("{what}: {path}")), width - 4))?;
        }
        if files.len() > shown {
            writeln!(out, "    {DIM}{what}: and {} more (-v lists them){DIM:#}", files.len() - shown)?;
        }
    }
    for number in &one.malformed {
        writeln!(out, "    line {number}: expected a checksum of SHA-256 and a path")?;
    }
    Ok(())
}

fn files_of(one: &SurveyedDevice) -> usize {
    one.unknown.len() + one.no_bearing + one.formats.iter().map(|format| format.files).sum::<usize>()
}

fn cells(one: &SurveyedDevice) -> [String; 5] {
    let mut formats: Vec<String> = one
        .formats
        .iter()
        .take(SHOWN_FORMATS)
        .map(|format| {
            if format.files > 1 {
                format!("{} ({})", format.format, format.files)
            } else {
                format.format.clone()
            }
        })
        .collect();
    if one.formats.len() > SHOWN_FORMATS {
        formats.push(format!("{} more", one.formats.len() - SHOWN_FORMATS));
    }
    if !one.unknown.is_empty() {
        formats.push(format!("{} of unknown format", counted(one.unknown.len(), "file")));
    }
    if one.no_bearing > 0 {
        formats.push(format!("{} not relevant", counted(one.no_bearing, "file")));
    }
    let outside: Vec<String> = one
        .outside
        .iter()
        .map(|outside| format!("{}{}", outside.interface, if outside.certain { "" } else { "?" }))
        .collect();
    let understood = match one.not_understood {
        0 => "all".to_owned(),
        count => format!("all but {count}"),
    };
    [
        one.name.clone(),
        formats.join(", "),
        one.lines.to_string(),
        if outside.is_empty() { "-".to_owned() } else { outside.join(", ") },
        understood,
    ]
}

/// Whether its Internet interface has to be stated: it connects networks, and the interface is unknown or only assumed.
fn is_unsure(one: &SurveyedDevice) -> bool {
    one.outside.iter().any(|outside| !outside.certain)
        || (one.outside.is_empty() && matches!(one.kind, DeviceKind::Firewall | DeviceKind::Router))
}

fn told_outside(one: &SurveyedDevice) -> String {
    if one.outside.is_empty() {
        return format!("{}: not known", one.name);
    }
    let told = |outside: &OutsideRow| {
        let addresses = match outside.addresses.as_slice() {
            [] => String::new(),
            all => format!(" ({})", all.join(", ")),
        };
        format!("{}{addresses}: {}", outside.interface, outside.why)
    };
    let all: Vec<String> = one.outside.iter().filter(|outside| !outside.certain).map(told).collect();
    format!("{}: possibly {}", one.name, all.join("; "))
}
