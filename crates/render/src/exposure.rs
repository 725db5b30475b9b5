//! Exposed services: text, JSON, CSV.

use crate::addresses::no_formula;
use crate::counted::of_text;
use crate::sanitize;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use textwrap::{Options, WordSeparator, WordSplitter};
use trevlin_audit::exposure::protection::Protection;
use trevlin_audit::reachability::ReachStep;
use trevlin_audit::services::{Encrypted, Known};
use trevlin_audit::tables::exposure::{ExposureSheet, ForwardRow, OpeningRow, ReachedRow};
use trevlin_audit::{ForwardVerdict, OpeningTo, joined_factors};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    #[serde(flatten)]
    sheet: &'a ExposureSheet,
}

/// Exposure as one JSON object, schema `trevlin-exposure/1`.
///
/// # Errors
/// When writing fails.
pub fn exposure_json(sheet: &ExposureSheet, out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-exposure/1", sheet }, out)
}

/// Marker of a line, so that colour is never the only distinction.
pub(crate) fn sign(protection: Protection) -> &'static str {
    match protection {
        Protection::Unprotected => "!!",
        Protection::Weak => "! ",
        Protection::Undetermined => "? ",
        Protection::Protected => "+ ",
        Protection::Limited => "- ",
    }
}

fn style(protection: Protection) -> Style {
    match protection {
        Protection::Unprotected => AnsiColor::Red.on_default().bold(),
        Protection::Weak => AnsiColor::Yellow.on_default().bold(),
        Protection::Undetermined => AnsiColor::Magenta.on_default().bold(),
        Protection::Protected => AnsiColor::Green.on_default().bold(),
        Protection::Limited => AnsiColor::Blue.on_default().bold(),
    }
}

/// A few of many, with the number of the others.
pub(crate) fn some(all: &[String], most: usize) -> String {
    let shown = all.iter().take(most).cloned().collect::<Vec<_>>().join(", ");
    match all.len().saturating_sub(most) {
        0 => shown,
        rest => format!("{shown} and {rest} more"),
    }
}

/// How a service is protected, in words.
fn protected(row: &ReachedRow) -> String {
    let encrypted = match row.service.encrypted {
        Some(Encrypted::Yes) => "encrypted",
        Some(Encrypted::No) => "no encryption",
        Some(Encrypted::May) => "encryption optional",
        None => "encryption not known",
    };
    let factors = match &row.service.factors {
        None => "logins not known".to_owned(),
        Some(none) if none.is_empty() => "no login".to_owned(),
        Some(factors) => format!("login: {}", joined_factors(factors, " and ")),
    };
    let mut all = vec![encrypted.to_owned(), factors];
    all.extend(row.service.remarks.iter().cloned());
    all.join(", ")
}

pub(crate) fn known(known: Known) -> &'static str {
    match known {
        Known::Configured => "configured",
        Known::Observed => "socket seen, without an exported configuration",
        Known::Both => "configured and observed",
        Known::Absent => "configured, without a socket in the export",
        Known::Disabled => "configured, disabled",
    }
}

fn wrapped(indent: usize, text: &str, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let room = width.clamp(60, 140).saturating_sub(indent);
    let options = Options::new(room)
        .word_splitter(WordSplitter::NoHyphenation)
        .word_separator(WordSeparator::AsciiSpace)
        .break_words(false);
    for line in textwrap::wrap(&sanitize(text), options) {
        writeln!(out, "{:indent$}{line}", "")?;
    }
    Ok(())
}

/// Where connections set out, in words.
fn starts(sheet: &ExposureSheet) -> String {
    let mut all: Vec<String> = sheet
        .starts
        .iter()
        .map(|one| match &one.interface {
            Some(interface) => format!("{}:{interface}", one.device),
            None => one.device.clone(),
        })
        .collect();
    all.sort();
    all.dedup();
    some(&all, 6)
}

/// Exposure as text: services by protection, further permitted traffic, and port forwards without a target.
///
/// # Errors
/// When writing fails.
pub fn exposure_text(sheet: &ExposureSheet, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    if sheet.starts.is_empty() {
        writeln!(
            out,
            "no interface is known to face the Internet; set it in trevlin.toml: [device.\"NAME\"] outside = [\"INTERFACE\"]"
        )?;
        return assumptions(sheet, width, out);
    }
    out.write_all(crate::incomplete::text(&sheet.incomplete).as_bytes())?;
    let from = if sheet.from == "outside" { "THE INTERNET".to_owned() } else { sheet.from.to_uppercase() };
    let title = format!("REACHABLE FROM {from}, via {}", starts(sheet));
    writeln!(out, "{BOLD}{}{BOLD:#}", sanitize(&title))?;
    if sheet.reached.is_empty() {
        writeln!(out, "\n  no known service is reachable")?;
        crate::unread::unread(&sheet.not_read, width, out)?;
    }
    for row in &sheet.reached {
        reached(row, width, out)?;
    }
    // Openings of a forward are reported with the forward.
    let wide: Vec<&OpeningRow> = sheet.openings.iter().filter(|one| one.forward.is_none()).collect();
    if !wide.is_empty() {
        writeln!(out, "\n{BOLD}OPENINGS without a known service{BOLD:#}")?;
        for row in wide {
            opening(row, width, out)?;
        }
    }
    let nowhere: Vec<&ForwardRow> =
        sheet.forwards.iter().filter(|one| one.outcome != ForwardVerdict::Works).collect();
    if !nowhere.is_empty() {
        writeln!(out, "\n{BOLD}PORT FORWARDS without a known service{BOLD:#}")?;
        for row in nowhere {
            forward(row, width, out)?;
        }
    }
    if !sheet.pings.is_empty() {
        let all: Vec<String> =
            sheet.pings.iter().map(|one| format!("{} ({})", one.device, some(&one.addresses, 3))).collect();
        writeln!(out)?;
        wrapped(0, &format!("Answers ICMP echo: {}", all.join("; ")), width, out)?;
    }
    for one in &sheet.breadth {
        let text = format!(
            "Via {} over {}: {}, {} of an address and a port",
            one.protocol.to_uppercase(),
            one.version,
            of_text(&one.addresses, "address"),
            of_text(&one.pairs, "pair")
        );
        wrapped(0, &text, width, out)?;
    }
    assumptions(sheet, width, out)?;
    summary(sheet, out)
}

fn reached(row: &ReachedRow, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let style = style(row.protection);
    let (sign, word) = (sign(row.protection), row.protection.word());
    let name = sanitize(&row.service.name).into_owned();
    writeln!(out, "\n{style}{sign} {word:<12}{style:#} {BOLD}{name}{BOLD:#} on {}", sanitize(&row.device))?;
    let who = some(&row.sources, 4);
    let may = if row.certain { "" } else { " (a condition not analysed decides)" };
    let called = format!("from {who} to {} {}{may}", some(&row.called, 3), some(&row.called_at, 4));
    wrapped(12, &called, width, out)?;
    let there = format!("{} {}", row.address, row.endpoint.join(", "));
    let same = row.called == [row.address.to_string()] && row.called_at == row.endpoint;
    let answers = if same { String::new() } else { format!("listens on {there}; ") };
    wrapped(
        12,
        &format!("{answers}{}, {}; {}", row.service.kind, known(row.service.known), protected(row)),
        width,
        out,
    )?;
    steps(&row.steps, width, out)?;
    for place in &row.service.evidence {
        line(&row.device, "listens here", Some((&place.path, place.line)), width, out)?;
    }
    Ok(())
}

/// The deciding steps, one line each: place and event.
fn steps(all: &[ReachStep], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    for step in all.iter().filter(|step| step.path.is_some()) {
        let place = step.path.as_deref().zip(step.line);
        line(&step.device, &step.text, place, width, out)?;
    }
    Ok(())
}

fn line(
    device: &str,
    text: &str,
    place: Option<(&str, u32)>,
    width: usize,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let place = place.map(|(path, line)| format!("{path}:{line}")).unwrap_or_default();
    // The path begins with the device's folder as a rule.
    let head =
        if place.starts_with(device) || place.is_empty() { String::new() } else { format!("{device}: ") };
    let text = sanitize(&format!("{head}{text}")).into_owned();
    let place = sanitize(&place).into_owned();
    let one_line = 14 + text.chars().count() + 2 + place.chars().count() <= width.clamp(60, 140);
    if one_line {
        writeln!(out, "            {DIM}›{DIM:#} {text}  {DIM}{place}{DIM:#}")
    } else {
        writeln!(out, "            {DIM}›{DIM:#} {text}")?;
        writeln!(out, "              {DIM}{place}{DIM:#}")
    }
}

fn opening(row: &OpeningRow, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let to = match row.to {
        OpeningTo::Device => format!("{} itself", row.device),
        OpeningTo::Network => format!(
            "networks behind {}{}",
            row.device,
            row.leaving.as_ref().map(|name| format!(":{name}")).unwrap_or_default()
        ),
        OpeningTo::Beyond => format!("a next hop behind {} that was not exported", row.device),
    };
    let may = if row.certain { "" } else { ", where a condition not analysed decides" };
    let text = format!(
        "{to}: {} at {}, from {}{may}",
        some(&row.at.iter().map(ToString::to_string).collect::<Vec<_>>(), 6),
        some(&row.addresses, 4),
        some(&row.sources, 4)
    );
    writeln!(out)?;
    wrapped(2, &text, width, out)?;
    steps(&row.steps, width, out)
}

fn forward(row: &ForwardRow, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    writeln!(out)?;
    let called =
        if row.called_at.is_empty() { String::new() } else { format!(", on {}", some(&row.called_at, 4)) };
    let to = row.to.as_ref().map(|to| format!(" to {to}")).unwrap_or_default();
    let who = match row.sources.as_slice() {
        _ if row.everybody => String::new(),
        [] => String::new(),
        some_sources => format!(" from {}", some(some_sources, 3)),
    };
    let remark = row.remark.as_ref().map(|remark| format!("; {remark}")).unwrap_or_default();
    writeln!(out, "  {BOLD}{}{BOLD:#}", sanitize(row.outcome.into()))?;
    wrapped(4, &format!("{}{to}{called}{who}{remark}", row.device), width, out)?;
    line(&row.device, "the forward", Some((&row.evidence.path, row.evidence.line)), width, out)?;
    let last = row.steps.iter().rev().find(|step| step.line.is_some_and(|line| line != row.evidence.line));
    match last.filter(|_| {
        matches!(row.outcome, ForwardVerdict::BlockedLater | ForwardVerdict::Circle | ForwardVerdict::Depends)
    }) {
        Some(step) => line(&step.device, &step.text, step.path.as_deref().zip(step.line), width, out),
        None => Ok(()),
    }
}

fn assumptions(sheet: &ExposureSheet, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    if sheet.assumptions.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{BOLD}ASSUMPTIONS{BOLD:#} (correct them in trevlin.toml)")?;
    for guess in &sheet.assumptions {
        wrapped(2, &format!("{}; otherwise: {}", guess.text, guess.otherwise), width, out)?;
    }
    Ok(())
}

fn summary(sheet: &ExposureSheet, out: &mut dyn io::Write) -> io::Result<()> {
    writeln!(out)?;
    let count =
        |protection: Protection| sheet.reached.iter().filter(|one| one.protection == protection).count();
    for protection in Protection::ALL.into_iter().filter(|protection| count(*protection) > 0) {
        let style = style(protection);
        writeln!(
            out,
            "{style}{} {:<8}{style:#} {:>3}  {}",
            sign(protection),
            protection.word(),
            count(protection),
            protection.meaning()
        )?;
    }
    if sheet.cut {
        writeln!(
            out,
            "The result is incomplete: the work limit was reached; select a part with --from or --device."
        )?;
    }
    Ok(())
}

/// Exposure as CSV (RFC 4180), one line each, with further permitted traffic and port forwards.
///
/// # Errors
/// When writing fails.
pub fn exposure_csv(sheet: &ExposureSheet, out: &mut dyn io::Write) -> io::Result<()> {
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record([
        "row",
        "verdict",
        "certain",
        "from",
        "called",
        "called_at",
        "device",
        "address",
        "endpoint",
        "service",
        "kind",
        "known",
        "protection",
        "forward",
        "steps",
    ])?;
    let place = |path: &str, line: u32| format!("{path}:{line}");
    let steps = |all: &[ReachStep]| {
        let told = all.iter().filter_map(|step| {
            let at = step.path.as_ref().zip(step.line)?;
            Some(format!("{} ({})", step.text, place(at.0, at.1)))
        });
        told.collect::<Vec<_>>().join("; ")
    };
    let yes = |certain: bool| if certain { "yes" } else { "no" }.to_owned();
    let mut records: Vec<[String; 15]> = Vec::new();
    for one in &sheet.reached {
        records.push([
            "reached".into(),
            one.protection.word().into(),
            yes(one.certain),
            one.sources.join(" "),
            one.called.join(" "),
            one.called_at.join("; "),
            one.device.clone(),
            one.address.to_string(),
            one.endpoint.join(", "),
            one.service.name.clone(),
            one.service.kind.into(),
            known(one.service.known).into(),
            protected(one),
            one.forward.as_ref().map(|at| place(&at.path, at.line)).unwrap_or_default(),
            steps(&one.steps),
        ]);
    }
    for one in &sheet.openings {
        records.push([
            "permitted".into(),
            one.to.to_string(),
            yes(one.certain),
            one.sources.join(" "),
            String::new(),
            String::new(),
            one.device.clone(),
            one.addresses.join(" "),
            one.at.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "),
            String::new(),
            String::new(),
            String::new(),
            String::new(),
            one.forward.as_ref().map(|at| place(&at.path, at.line)).unwrap_or_default(),
            steps(&one.steps),
        ]);
    }
    for one in &sheet.forwards {
        records.push([
            "forward".into(),
            one.outcome.to_string(),
            String::new(),
            String::new(),
            one.called.join(" "),
            one.called_at.join("; "),
            one.device.clone(),
            one.to.clone().unwrap_or_default(),
            String::new(),
            one.remark.clone().unwrap_or_default(),
            String::new(),
            String::new(),
            String::new(),
            place(&one.evidence.path, one.evidence.line),
            steps(&one.steps),
        ]);
    }
    for record in records {
        csv.write_record(record.map(|cell| no_formula(&cell)))?;
    }
    csv.flush()
}
