//! The table of tunnels.

use crate::columns::{Look, table};
use crate::counted;
use crate::sanitize;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use trevlin_audit::tables::tunnels::{TunnelKey, TunnelRow};
use trevlin_audit::{Severity, TunnelVerdict};

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

pub(crate) const HEADS: [&str; 6] = [
    "Tunnel",
    "Peer and authentication",
    "Weakest algorithm offered",
    "Routes / pool",
    "Reachable from",
    "Verdict",
];

const LOOK: Look<6> = Look { heads: HEADS, shares: [19, 23, 15, 19, 14, 9], widest: 120 };

/// The table as text, one block for each device.
///
/// # Errors
/// When writing fails.
pub fn tunnels_text(rows: &[TunnelRow], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    if rows.is_empty() {
        return writeln!(out, "no tunnel was found in these exports");
    }
    let shown: Vec<_> =
        rows.iter().map(|row| (row.device.as_str(), cells(row), style(row.verdict))).collect();
    table(&LOOK, &shown, width, out)?;
    writeln!(out, "{}; --detail NAME shows one with its lines", counted(rows.len(), "tunnel"))
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
        let style = style(row.verdict);
        writeln!(out, "{BOLD}{} on {}{BOLD:#}", sanitize(&row.name), sanitize(&row.device))?;
        writeln!(out, "  {}, {} ({}:{})", row.protocol, row.role, sanitize(&row.path), row.line)?;
        for (what, text) in [
            ("peer", row.who.clone()),
            ("authentication", row.factors.join(" + ")),
            ("key", row.key.to_string()),
            ("reachable from", row.from.clone()),
            ("sends", row.sends.to_owned()),
        ] {
            if !text.is_empty() {
                writeln!(out, "  {DIM}{what:<21}{DIM:#}{}", sanitize(&text))?;
            }
        }
        for one in &row.detail {
            writeln!(
                out,
                "  {DIM}{:<21}{DIM:#}{} {DIM}{}{DIM:#}",
                one.what,
                sanitize(&one.text),
                sanitize(&one.place)
            )?;
        }
        writeln!(out, "  {DIM}{:<21}{DIM:#}{style}{}{style:#}", "verdict", row.verdict.word())?;
    }
    Ok(())
}

fn style(verdict: TunnelVerdict) -> Style {
    match verdict {
        TunnelVerdict::Finding(Severity::Critical | Severity::High) => AnsiColor::Red.on_default().bold(),
        TunnelVerdict::Finding(_) => AnsiColor::Yellow.on_default().bold(),
        TunnelVerdict::NoFinding => AnsiColor::Green.on_default().bold(),
        TunnelVerdict::NotStarted | TunnelVerdict::Undetermined => DIM,
    }
}

pub(crate) fn cells(row: &TunnelRow) -> [String; 6] {
    let or = |text: String| if text.is_empty() { "-".to_owned() } else { text };
    let joined = |parts: [String; 3]| {
        let parts: Vec<String> = parts.into_iter().filter(|part| !part.is_empty()).collect();
        parts.join("; ")
    };
    // The grade of the key is shown with the authentication; a missing export is shown in the detail.
    let key = match &row.key {
        TunnelKey::Shared(grade) => format!("the key is {grade}"),
        TunnelKey::Own(kind) if !kind.is_empty() => format!("own key: {kind}"),
        TunnelKey::Own(_) | TunnelKey::NotExported | TunnelKey::Fixed(_) | TunnelKey::Unknown => {
            String::new()
        }
    };
    [
        row.name.clone(),
        or(joined([row.who.clone(), row.factors.join(" + "), key])),
        or(row.weakest.clone()),
        or(joined([row.sends.to_owned(), row.pools.join(", "), String::new()])),
        or(row.from.clone()),
        row.verdict.word().to_owned(),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_line_fits_its_width() {
        let row = TunnelRow {
            device: "harbour-edge".into(),
            name: "IPsec connection yard".into(),
            protocol: "IPsec",
            role: "joins sites",
            who: "gate.yard.veyholm.example".into(),
            factors: vec!["shared key".into(), "XAuth".into()],
            from: "outside interface eth0".into(),
            weakest: "MODP 1024 bits with a subgroup (group 22) (broken)".into(),
            key: TunnelKey::Shared("trivial"),
            sends: "some networks",
            pools: vec!["2001:db8:20:18::10-2001:db8:20:18::ff".into(), "10.20.4.200-10.20.4.225".into()],
            verdict: TunnelVerdict::Undetermined,
            path: "a".into(),
            line: 1,
            detail: Vec::new(),
        };
        for width in [60, 80, 100, 120, 200] {
            let mut out = Vec::new();
            tunnels_text(std::slice::from_ref(&row), width, &mut out).unwrap();
            // Styles stand between an escape and an `m`, and take no room.
            let text = String::from_utf8(out).unwrap();
            let text: String = text
                .split('\u{1b}')
                .enumerate()
                .map(|(at, part)| if at == 0 { part } else { part.split_once('m').unwrap().1 })
                .collect();
            let table: Vec<&str> = text.lines().take_while(|line| !line.is_empty()).collect();
            assert!(
                table.len() > 3 && table.iter().all(|line| line.chars().count() <= width.min(120)),
                "{width}: {text}"
            );
        }
    }
}
