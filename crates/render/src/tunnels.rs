//! The table of tunnels.

use crate::columns::{Look, table};
use crate::neutral;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use trevlin_audit::tunnels::TunnelRow;

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    tunnels: &'a [TunnelRow],
}

/// The table as one JSON object, schema `trevlin-tunnels/1`.
///
/// # Errors
/// When writing fails.
pub fn tunnels_json(rows: &[TunnelRow], out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-tunnels/1", tunnels: rows }, out)
}

const LOOK: Look<9> = Look {
    heads: [
        "tunnel",
        "other end",
        "it shows",
        "weakest taken",
        "key",
        "sends",
        "pool",
        "reached from",
        "verdict",
    ],
    shares: [15, 11, 12, 14, 11, 11, 19, 12, 9],
    widest: 120,
};

/// The table as text, one block for each device.
///
/// # Errors
/// When writing fails.
pub fn tunnels_text(rows: &[TunnelRow], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    if rows.is_empty() {
        return writeln!(out, "no tunnel was found in these exports");
    }
    let shown: Vec<_> =
        rows.iter().map(|row| (row.device.as_str(), cells(row), style(&row.verdict))).collect();
    table(&LOOK, &shown, width, out)?;
    writeln!(out, "{} tunnels; --detail NAME shows everything of one, with its lines", rows.len())
}

/// Everything of some tunnels, each with its place.
///
/// # Errors
/// When writing fails.
pub fn tunnels_detail(rows: &[&TunnelRow], out: &mut dyn io::Write) -> io::Result<()> {
    for (number, row) in rows.iter().enumerate() {
        if number > 0 {
            writeln!(out)?;
        }
        let style = style(&row.verdict);
        writeln!(out, "{BOLD}{} on {}{BOLD:#}", neutral(&row.name), neutral(&row.device))?;
        writeln!(out, "  {}, {} ({}:{})", row.protocol, row.role, neutral(&row.path), row.line)?;
        for (what, text) in [
            ("other end", row.who.clone()),
            ("it shows", row.factors.join(" + ")),
            ("key", row.key.clone()),
            ("reached from", row.from.clone()),
            ("sends", row.sends.to_owned()),
        ] {
            if !text.is_empty() {
                writeln!(out, "  {DIM}{what:<16}{DIM:#}{}", neutral(&text))?;
            }
        }
        for one in &row.detail {
            writeln!(
                out,
                "  {DIM}{:<16}{DIM:#}{} {DIM}{}{DIM:#}",
                one.what,
                neutral(&one.text),
                neutral(&one.place)
            )?;
        }
        writeln!(out, "  {DIM}{:<16}{DIM:#}{style}{}{style:#}", "verdict", row.verdict)?;
    }
    Ok(())
}

fn style(verdict: &str) -> Style {
    match verdict {
        "critical" | "high" => AnsiColor::Red.on_default().bold(),
        "medium" | "low" | "info" => AnsiColor::Yellow.on_default().bold(),
        "no finding" => AnsiColor::Green.on_default().bold(),
        _ => DIM,
    }
}

fn cells(row: &TunnelRow) -> [String; 9] {
    let or = |text: String, other: &str| if text.is_empty() { other.to_owned() } else { text };
    [
        row.name.clone(),
        or(row.who.clone(), "-"),
        or(row.factors.join(" + "), "-"),
        or(row.weakest.clone(), "-"),
        or(row.key.clone(), "-"),
        or(row.sends.to_owned(), "-"),
        or(row.pools.join(", "), "-"),
        or(row.from.clone(), "-"),
        row.verdict.clone(),
    ]
}
