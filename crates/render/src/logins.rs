//! The table of logins.

use crate::columns::{Look, table};
use crate::counted;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use trevlin_audit::logins::LoginPath;
use trevlin_audit::{LoginVerdict, joined_factors};

const DIM: Style = Style::new().dimmed();

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    logins: &'a [LoginPath],
}

/// The table as one JSON object, schema `trevlin-logins/1`.
///
/// # Errors
/// When writing fails.
pub fn logins_json(rows: &[LoginPath], out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-logins/1", logins: rows }, out)
}

/// The table as text, one block for each device.
///
/// # Errors
/// When writing fails.
pub fn logins_text(rows: &[LoginPath], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    if rows.is_empty() {
        return writeln!(out, "no login path was found in these exports");
    }
    let shown: Vec<_> =
        rows.iter().map(|row| (row.device.as_str(), cells(row), style(row.verdict))).collect();
    table(&LOOK, &shown, width, out)?;
    summary(rows, out)
}

fn style(verdict: LoginVerdict) -> Style {
    match verdict {
        LoginVerdict::Nothing => AnsiColor::Red.on_default().bold(),
        LoginVerdict::OneFactor => AnsiColor::Yellow.on_default().bold(),
        LoginVerdict::TwoFactors => AnsiColor::Green.on_default().bold(),
        _ => DIM,
    }
}

pub(crate) const HEADS: [&str; 7] =
    ["Service", "Users", "Identity source", "Factors", "Reachable from", "Limits", "Verdict"];

const LOOK: Look<7> = Look { heads: HEADS, shares: [17, 14, 15, 12, 14, 13, 14], widest: 140 };

pub(crate) fn cells(row: &LoginPath) -> [String; 7] {
    let who = match row.administrators.as_slice() {
        [] => row.who.clone(),
        [one] if *one == row.who => format!("{one} (admin)"),
        [one] => format!("{}, admin {one}", row.who),
        all => format!("{}, {} admins", row.who, all.len()),
    };
    let from = if row.sources.is_empty() {
        row.from.clone()
    } else {
        format!("{}, only {}", row.from, row.sources.join(", "))
    };
    let factors =
        if row.factors.is_empty() { "not known".to_owned() } else { joined_factors(&row.factors, " + ") };
    let factors = if row.verdict == LoginVerdict::Nothing { "none".to_owned() } else { factors };
    let limits = if row.limits.is_empty() { "no limits".to_owned() } else { row.limits.join(", ") };
    [row.service.clone(), who, row.list.clone(), factors, from, limits, row.verdict.to_string()]
}

fn summary(rows: &[LoginPath], out: &mut dyn io::Write) -> io::Result<()> {
    let count = |verdict: LoginVerdict| rows.iter().filter(|row| row.verdict == verdict).count();
    let told: Vec<_> = [
        LoginVerdict::Nothing,
        LoginVerdict::OneFactor,
        LoginVerdict::TwoFactors,
        LoginVerdict::Undetermined,
    ]
    .into_iter()
    .filter(|verdict| count(*verdict) > 0)
    .map(|verdict| format!("{0}{1} {verdict}{0:#}", style(verdict), count(verdict)))
    .collect();
    writeln!(out, "{}: {}", counted(rows.len(), "login path"), told.join(", "))
}
