//! The address plan: text, JSON, CSV.

use crate::sanitize;
use anstyle::{AnsiColor, Style};
use ipnet::IpNet;
use serde::Serialize;
use std::collections::BTreeMap;
use std::io;
use textwrap::{Options, WordSeparator, WordSplitter};
use trevlin_audit::addresses::OverlapKind;
use trevlin_audit::tables::addresses::{Row, Sheet};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const FAULT: Style = AnsiColor::Red.on_default().bold();
const MEANT: Style = AnsiColor::Yellow.on_default().bold();

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    #[serde(flatten)]
    sheet: &'a Sheet,
}

#[derive(Serialize)]
struct FreeDocument<'a> {
    schema: &'static str,
    free: &'a [IpNet],
}

/// The plan as one JSON object, schema `trevlin-addresses/1`.
///
/// # Errors
/// When writing fails.
pub fn addresses_json(sheet: &Sheet, out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-addresses/1", sheet }, out)
}

/// Free networks as one JSON object, schema `trevlin-addresses/1`.
///
/// # Errors
/// When writing fails.
pub fn free_json(free: &[IpNet], out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&FreeDocument { schema: "trevlin-addresses/1", free }, out)
}

/// The claims as CSV (RFC 4180), one line each. Names that a spreadsheet would take for a formula are kept from it by an
/// apostrophe before them.
///
/// # Errors
/// When writing fails.
pub fn addresses_csv(sheet: &Sheet, out: &mut dyn io::Write) -> io::Result<()> {
    let mut meets: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for one in &sheet.overlaps {
        let [a, b] = one.rows;
        meets.entry(a).or_default().push(b);
        meets.entry(b).or_default().push(a);
    }
    let mut csv = csv::Writer::from_writer(out);
    csv.write_record([
        "range", "first", "last", "kind", "device", "owner", "who", "path", "line", "overlap", "meets",
    ])?;
    for (at, row) in sheet.allocations.iter().enumerate() {
        let met = meets.get(&at).map(Vec::as_slice).unwrap_or_default().iter().map(|other| {
            let other = &sheet.allocations[*other];
            format!("{} {} ({}:{})", other.range, other.kind.words(), other.path, other.line)
        });
        let met: Vec<_> = met.collect();
        csv.write_record(
            [
                row.range.as_str(),
                &row.first.to_string(),
                &row.last.to_string(),
                row.kind.words(),
                &row.device,
                &row.owner,
                row.who.as_deref().unwrap_or_default(),
                &row.path,
                &row.line.to_string(),
                row.overlaps.map(word).unwrap_or_default(),
                &met.join("; "),
            ]
            .map(no_formula),
        )?;
    }
    csv.flush()
}

/// A cell that no spreadsheet runs.
pub(crate) fn no_formula(cell: &str) -> String {
    let cell = sanitize(cell);
    if cell.starts_with(['=', '+', '-', '@']) { format!("'{cell}") } else { cell.into_owned() }
}

fn word(meaning: OverlapKind) -> &'static str {
    match meaning {
        OverlapKind::Fault => "fault",
        OverlapKind::Unclear => "unclear",
        OverlapKind::Meant => "meant",
    }
}

/// Marker of a line.
fn sign(meaning: OverlapKind) -> &'static str {
    match meaning {
        OverlapKind::Fault => "!",
        OverlapKind::Unclear => "?",
        OverlapKind::Meant => "~",
    }
}

fn style(meaning: OverlapKind) -> Style {
    match meaning {
        OverlapKind::Fault => FAULT,
        OverlapKind::Unclear | OverlapKind::Meant => MEANT,
    }
}

/// Free networks, a line each.
///
/// # Errors
/// When writing fails.
pub fn free_text(free: &[IpNet], wanted: u32, out: &mut dyn io::Write) -> io::Result<()> {
    if free.is_empty() {
        return writeln!(out, "no private network with room for {wanted} clients is free in this estate");
    }
    writeln!(out, "{DIM}free private networks with room for {wanted} clients:{DIM:#}")?;
    for net in free {
        // The ends and the server's own address are not available to clients.
        let room = (1u64 << (net.max_prefix_len() - net.prefix_len())) - 3;
        writeln!(out, "  {BOLD}{:<18}{BOLD:#} room for {room} clients", net.to_string())?;
    }
    Ok(())
}

/// The plan as text: the address space as a tree, then every overlap in a sentence, then malformed ranges.
///
/// # Errors
/// When writing fails.
pub fn addresses_text(sheet: &Sheet, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    if sheet.allocations.is_empty() && sheet.malformed.is_empty() {
        return writeln!(out, "no address allocation was found in these exports");
    }
    tree(&sheet.allocations, width, out)?;
    if !sheet.overlaps.is_empty() {
        writeln!(out, "\n{BOLD}OVERLAPS{BOLD:#}")?;
        for one in &sheet.overlaps {
            let style = style(one.meaning);
            bullet(&format!("{style}{}{style:#}", sign(one.meaning)), &one.sentence, width, out)?;
        }
    }
    if !sheet.malformed.is_empty() {
        writeln!(out, "\n{BOLD}MISTYPED{BOLD:#}")?;
        for one in &sheet.malformed {
            let text = format!("{} on {}: {} ({}:{})", one.owner, one.device, one.what, one.path, one.line);
            bullet(&format!("{FAULT}x{FAULT:#}"), &text, width, out)?;
        }
    }
    summary(sheet, out)
}

/// Lines of a text, broken at blanks only: a path stays whole.
fn wrap(text: &str, room: usize) -> Vec<String> {
    let options = Options::new(room)
        .word_splitter(WordSplitter::NoHyphenation)
        .word_separator(WordSeparator::AsciiSpace)
        .break_words(false);
    textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned).collect()
}

fn bullet(mark: &str, text: &str, width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let room = width.clamp(50, 120).saturating_sub(4);
    for (number, line) in wrap(&sanitize(text), room).into_iter().enumerate() {
        match number {
            0 => writeln!(out, "  {mark} {line}")?,
            _ => writeln!(out, "    {line}")?,
        }
    }
    Ok(())
}

/// Rows of one range and one kind are one line: a network that many hosts live in, a name server that many name.
fn tree(rows: &[Row], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    let same = |a: &Row, b: &Row| (a.first, a.last, a.kind, a.depth) == (b.first, b.last, b.kind, b.depth);
    let lines: Vec<&[Row]> = rows.chunk_by(same).collect();
    let indented = |row: &Row| row.depth * 2 + row.range.chars().count();
    let column = lines.iter().map(|all| indented(&all[0])).max().unwrap_or(0).min(44) + 2;
    let mut before: Option<(&Row, usize)> = None;
    for all in lines {
        let row = &all[0];
        let mark = all.iter().filter_map(|row| row.overlaps).min();
        // A range that stands above already is not written again.
        let again = before
            .is_some_and(|(held, depth)| (held.first, held.last, depth) == (row.first, row.last, row.depth));
        if row.depth == 0 && before.is_some() && !again {
            writeln!(out)?;
        }
        let range = if again { "" } else { row.range.as_str() };
        before = Some((row, row.depth));
        let (sign, style) = match mark {
            Some(meaning) => (sign(meaning), style(meaning)),
            None => (" ", Style::new()),
        };
        let indent = row.depth * 2;
        let head = format!("{:indent$}{range:<rest$}", "", rest = column.saturating_sub(indent));
        let kind = row.kind.words();
        let head = format!("{sign} {head}{kind:<17}");
        let told = sanitize(&claimants(all)).into_owned();
        let used = head.chars().count();
        let room = width.clamp(60, 160).saturating_sub(used).max(24);
        for (number, line) in wrap(&told, room).into_iter().enumerate() {
            match number {
                0 => writeln!(out, "{style}{head}{style:#}{line}")?,
                _ => writeln!(out, "{:used$}{line}", "")?,
            }
        }
    }
    Ok(())
}

/// The allocations concerned: one with its place, several by name.
fn claimants(rows: &[Row]) -> String {
    let name = |row: &Row| {
        let who = row.who.as_ref().map(|who| format!("{who}, ")).unwrap_or_default();
        format!("{who}{} on {}", row.owner, row.device)
    };
    match rows {
        [row] => {
            let foreign = if row.foreign { ", in foreign public address space" } else { "" };
            format!("{} ({}:{}){foreign}", name(row), row.path, row.line)
        }
        rows => {
            let mut names: Vec<_> = rows.iter().map(name).collect();
            names.dedup();
            let rest = names.len().saturating_sub(4);
            names.truncate(4);
            let more = if rest > 0 { format!(" and {rest} more") } else { String::new() };
            format!("{}{more}", names.join(", "))
        }
    }
}

fn summary(sheet: &Sheet, out: &mut dyn io::Write) -> io::Result<()> {
    let count = |meaning: OverlapKind| sheet.overlaps.iter().filter(|one| one.meaning == meaning).count();
    let plural = |count: usize, word: &str| format!("{count} {word}{}", if count == 1 { "" } else { "s" });
    let mut told = vec![plural(sheet.allocations.len(), "claim")];
    let (faults, unclear, meant) =
        (count(OverlapKind::Fault), count(OverlapKind::Unclear), count(OverlapKind::Meant));
    told.push(format!("{FAULT}!{FAULT:#} {}", plural(faults, "overlap")));
    if unclear > 0 {
        told.push(format!("{MEANT}?{MEANT:#} {unclear} if both are at one site"));
    }
    if meant > 0 {
        told.push(format!("{MEANT}~{MEANT:#} {meant} by design"));
    }
    if !sheet.malformed.is_empty() {
        told.push(format!("{FAULT}x{FAULT:#} {} malformed", sheet.malformed.len()));
    }
    writeln!(out, "\n{}", told.join(", "))
}
