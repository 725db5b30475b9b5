//! The review of rules.

use crate::columns::{Look, table};
use crate::counted;
use crate::sanitize;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use trevlin_audit::filter_review::remarks::RemarkKind;
use trevlin_audit::tables::rules::{ChainSheet, FilterSheet, RuleRow, RulesSheet, TranslationRow};
use trevlin_audit::{IncompleteRow, RuleVerdict};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    filters: &'a [FilterSheet],
    translations: &'a [TranslationRow],
    incomplete: &'a [IncompleteRow],
}

/// The review as one JSON object, schema `trevlin-rules/1`.
///
/// # Errors
/// When writing fails.
pub fn rules_json(sheet: &RulesSheet, out: &mut dyn io::Write) -> io::Result<()> {
    let (filters, translations, incomplete) = (&*sheet.filters, &*sheet.translations, &*sheet.incomplete);
    crate::json::write(&Document { schema: "trevlin-rules/1", filters, translations, incomplete }, out)
}

/// The review for a spreadsheet, a line for each rule.
///
/// # Errors
/// When writing fails.
pub fn rules_csv(sheet: &RulesSheet, out: &mut dyn io::Write) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(out);
    writer.write_record([
        "device",
        "table",
        "versions",
        "chain",
        "path",
        "line",
        "action",
        "from",
        "to",
        "service",
        "condition",
        "verdict",
        "breadth",
        "left",
        "packets",
        "remarks",
        "rule",
    ])?;
    for filter in &sheet.filters {
        for chain in &filter.chains {
            for row in &chain.rules {
                let number = |value: Option<f64>| value.map(|one| format!("{one:.2}")).unwrap_or_default();
                let remarks: Vec<String> = row.remarks.iter().map(|one| remark(one, "")).collect();
                let cells = [
                    &filter.device,
                    &filter.table,
                    &filter.families,
                    &chain.name,
                    &row.path,
                    &row.line.to_string(),
                    &row.action,
                    &row.from,
                    &row.to,
                    &row.service,
                    &row.condition,
                    &row.verdict.to_string(),
                    &number(row.breadth),
                    &number(row.left),
                    &row.packets.map(|one| one.to_string()).unwrap_or_default(),
                    &remarks.join("; "),
                    &row.text,
                ];
                writer.write_record(cells.map(|cell| crate::addresses::no_formula(&sanitize(cell))))?;
            }
        }
    }
    writer.flush()
}

pub(crate) const HEADS: [&str; 7] =
    ["Line", "Action", "Source", "Destination", "Service", "Breadth", "Assessment"];

const LOOK: Look<7> = Look { heads: HEADS, shares: [5, 14, 15, 15, 13, 16, 22], widest: 140 };

/// The review as text: for each table its chains, for each chain its rules.
///
/// # Errors
/// When writing fails.
pub fn rules_text(sheet: &RulesSheet, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    if sheet.filters.is_empty() {
        writeln!(out, "no packet filter was found in these exports")?;
        return translations(&sheet.translations, width, out);
    }
    out.write_all(crate::incomplete::text(&sheet.incomplete).as_bytes())?;
    for (number, filter) in sheet.filters.iter().enumerate() {
        if number > 0 {
            writeln!(out)?;
        }
        let title = format!("{}: table {} for {}", filter.device, filter.table, filter.families);
        writeln!(out, "{BOLD}{}{BOLD:#} {DIM}{}{DIM:#}", sanitize(&title), sanitize(&filter.path))?;
        if !filter.whole {
            writeln!(
                out,
                "a part of it is missing or was not understood, so shadowed rules are not reported"
            )?;
        }
        summary(filter, out)?;
        writeln!(out)?;
        let headings: Vec<String> = filter.chains.iter().map(heading).collect();
        let mut rows = Vec::new();
        for (chain, heading) in filter.chains.iter().zip(&headings) {
            for row in &chain.rules {
                rows.push((heading.as_str(), cells(row, &filter.path), style(row)));
            }
        }
        table(&LOOK, &rows, width, out)?;
        for (chain, heading) in
            filter.chains.iter().zip(&headings).filter(|(chain, _)| chain.rules.is_empty())
        {
            writeln!(out, "{BOLD}{}{BOLD:#} {DIM}(line {}; no rules){DIM:#}", sanitize(heading), chain.line)?;
        }
        for list in &filter.lists {
            let entries = list.entries;
            let noun = if entries == 1 { "entry" } else { "entries" };
            writeln!(
                out,
                "list {}, {entries} {noun}: {} {DIM}{}:{}{DIM:#}",
                sanitize(&list.name),
                list.remark,
                sanitize(&list.path),
                list.line
            )?;
        }
    }
    translations(&sheet.translations, width, out)?;
    writeln!(
        out,
        "{DIM}breadth: source addresses → destination addresses, ports of new connections\n         narrow: below 2^16 \
         combinations; moderate: below 2^40; broad: below 2^74{DIM:#}"
    )
}

const TRANSLATIONS: Look<6> = Look {
    heads: ["Line", "Translation", "Source", "Destination", "Service", "New address"],
    shares: [5, 20, 20, 20, 15, 20],
    widest: 140,
};

/// Translations, each device and export with a heading of its own.
fn translations(all: &[TranslationRow], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    if all.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{BOLD}Address translation{BOLD:#}")?;
    let headings: Vec<String> = all.iter().map(|row| format!("{}: {}", row.device, row.path)).collect();
    let rows: Vec<_> = all
        .iter()
        .zip(&headings)
        .map(|(row, heading)| {
            let becomes = match (row.translates, row.becomes.as_str()) {
                ("none", _) => "not translated",
                ("source", "") => "address of the outgoing interface",
                (_, becomes) => becomes,
            };
            let name = row.comment.as_ref().map(|name| format!(": {name}")).unwrap_or_default();
            let kind = format!("{}{name}", if row.translates == "none" { "exempt" } else { row.translates });
            let cells = [
                row.line.to_string(),
                kind,
                row.from.clone(),
                row.to.clone(),
                row.service.clone(),
                becomes.into(),
            ];
            (heading.as_str(), cells.map(|cell| sanitize(&cell).into_owned()), Style::new())
        })
        .collect();
    table(&TRANSLATIONS, &rows, width, out)
}

fn summary(filter: &FilterSheet, out: &mut dyn io::Write) -> io::Result<()> {
    let summary = &filter.summary;
    let red = AnsiColor::Red.on_default().bold();
    let yellow = AnsiColor::Yellow.on_default().bold();
    let open = match summary.accepting.as_slice() {
        [] => String::new(),
        chains => {
            format!("{red}default policy: {}{red:#}", sanitize(&format!("{} accept", chains.join(" and "))))
        }
    };
    let parts: Vec<String> = [
        (summary.never_met, "shadowed", red),
        (summary.temporary, "temporary", red),
        (summary.every_service, "any service", yellow),
        (summary.changes_nothing, "without effect", yellow),
        (summary.no_comment, "without a comment", DIM),
    ]
    .into_iter()
    .filter(|(count, _, _)| *count > 0)
    .map(|(count, what, style)| format!("{style}{count} {what}{style:#}"))
    .chain((!open.is_empty()).then_some(open.clone()))
    .collect();
    let rest = if parts.is_empty() { String::new() } else { format!(": {}", parts.join(", ")) };
    writeln!(out, "{}{rest}", counted(summary.rules, "rule"))
}

fn heading(chain: &ChainSheet) -> String {
    match (chain.hook, chain.policy, chain.reached) {
        (Some(hook), Some("drop"), _) => format!("chain {} ({hook}), default policy: drop", chain.name),
        (Some(hook), _, _) => format!("chain {} ({hook}), default policy: accept", chain.name),
        (None, _, true) => format!("chain {}", chain.name),
        (None, _, false) => format!("chain {}: unreachable", chain.name),
    }
}

/// Remarks about faults, in order of weight.
fn weight(kind: RemarkKind) -> u8 {
    match kind {
        RemarkKind::DenyTooLate | RemarkKind::AcceptsEverything | RemarkKind::Temporary => 2,
        RemarkKind::NeverMatched
        | RemarkKind::Impossible
        | RemarkKind::Duplicate
        | RemarkKind::EveryService
        | RemarkKind::ChangesNothing
        | RemarkKind::NotReached
        | RemarkKind::PartlyTaken => 1,
        _ => 0,
    }
}

fn style(row: &RuleRow) -> Style {
    match row.remarks.iter().map(|one| weight(one.kind)).max().unwrap_or(0) {
        2 => AnsiColor::Red.on_default().bold(),
        1 => AnsiColor::Yellow.on_default(),
        _ => DIM,
    }
}

/// A remark with the lines it refers to; those of the same file without its name.
fn remark(one: &trevlin_audit::tables::rules::RemarkRow, path: &str) -> String {
    let lines: Vec<String> = one
        .rules
        .iter()
        .map(|place| if &*place.path == path { place.line.to_string() } else { place.to_string() })
        .collect();
    match lines.as_slice() {
        [] => one.text.clone(),
        [line] if !path.is_empty() => format!("{} (line {line})", one.text),
        lines if lines.len() > 5 && !path.is_empty() => {
            format!("{} (lines {} and {} more)", one.text, lines[..4].join(", "), lines.len() - 4)
        }
        lines if path.is_empty() => format!("{} ({})", one.text, lines.join(", ")),
        lines => format!("{} (lines {})", one.text, lines.join(", ")),
    }
}

/// The breadth of a permit in a word and in counts: `very broad (any → any, 65,536 ports)`.
fn breadth(row: &RuleRow) -> Option<String> {
    let (sources, destinations, services) = (row.sources?, row.destinations?, row.services?);
    let word = match scale(sources) + scale(destinations) + services {
        all if all < 16.0 => "narrow",
        all if all < 40.0 => "moderate",
        all if all < 74.0 => "broad",
        _ => "very broad",
    };
    let ports = number(services);
    let noun = if ports == "1" { "service" } else { "ports" };
    Some(format!("{word} ({} → {}, {ports} {noun})", addresses(sources), addresses(destinations)))
}

/// A number of addresses as a power of two for the word of a breadth: above 2^32 it is one of IPv6, of which networks of 64 bits
/// count, at most as many as IPv4 has addresses.
fn scale(addresses: f64) -> f64 {
    if addresses <= 32.0 { addresses } else { (addresses - 64.0).clamp(0.0, 32.0) }
}

/// Number of addresses, from a power of two.
fn addresses(power: f64) -> String {
    // A few are missing where rules or reserved blocks take them out.
    match power {
        all if (31.9..=32.0).contains(&all) || all >= 127.9 => "any".to_owned(),
        _ => number(power),
    }
}

/// A number from a power of two, with a comma between thousands; large ones as a power.
fn number(power: f64) -> String {
    if power > 53.0 {
        return format!("2^{power:.0}");
    }
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "it is from 1 to 2^53")]
    let count = power.exp2().round() as u64;
    let digits = count.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

pub(crate) fn cells(row: &RuleRow, path: &str) -> [String; 7] {
    let breadth = breadth(row).unwrap_or_else(|| "-".to_owned());
    let breadth = match row.left {
        Some(left) if left < 0.995 && row.breadth.is_some() && left > 0.0 => {
            format!("{breadth}, {:.0} % effective", left * 100.0)
        }
        _ => breadth,
    };
    let service = match (row.service.as_str(), row.condition.as_str()) {
        (service, "") => service.to_owned(),
        ("any", condition) => condition.to_owned(),
        (service, condition) => format!("{service}; {condition}"),
    };
    // That a rule is in use, behind exceptions or without a comment is what one expects of most.
    let told = row
        .remarks
        .iter()
        .filter(|one| !matches!(one.kind, RemarkKind::AfterExceptions | RemarkKind::NoComment));
    let remarks: Vec<String> = told.map(|one| remark(one, path)).collect();
    let verdict = match (row.verdict, remarks.is_empty()) {
        (verdict, true) => verdict.to_string(),
        (RuleVerdict::NotDecided, false) => format!("{}: {}", RuleVerdict::NotDecided, remarks.join("; ")),
        (_, false) => remarks.join("; "),
    };
    [row.line.to_string(), row.action.clone(), row.from.clone(), row.to.clone(), service, breadth, verdict]
}
