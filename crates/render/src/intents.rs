//! Evaluation of intents: text and JSON.

use crate::exposure::some;
use crate::sanitize;
use anstyle::{AnsiColor, Style};
use serde::Serialize;
use std::io;
use trevlin_audit::IntentVerdict;
use trevlin_audit::tables::intents::{IntentRow, PartRow};

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    intents: &'a [IntentRow],
}

/// Every intent as one JSON object, schema `trevlin-intents/1`.
///
/// # Errors
/// When writing fails.
pub fn intents_json(rows: &[IntentRow], out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-intents/1", intents: rows }, out)
}

/// Every intent as text, with missing and excess access.
///
/// # Errors
/// When writing fails.
pub fn intents_text(rows: &[IntentRow], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    for row in rows {
        let (sign, style) = match row.verdict {
            IntentVerdict::Holds => ("+", AnsiColor::Green.on_default().bold()),
            IntentVerdict::Undetermined => ("?", AnsiColor::Magenta.on_default().bold()),
            IntentVerdict::Missing => ("-", AnsiColor::Yellow.on_default().bold()),
            _ => ("!", AnsiColor::Red.on_default().bold()),
        };
        let services =
            if row.services.is_empty() { "any service".to_owned() } else { some(&row.services, 6) };
        let only = if row.only { ", and nothing else" } else { "" };
        let meant = format!("{} reaches {} on {services}{only}", row.from, some(&row.to, 4));
        writeln!(out, "{style}{sign} {:<18}{style:#} {DIM}trevlin.toml:{}{DIM:#}", row.verdict, row.line)?;
        for line in wrapped(&meant, width, "  ") {
            writeln!(out, "{BOLD}{line}{BOLD:#}")?;
        }
        if let Some(problem) = &row.problem {
            writeln!(out, "    {}", sanitize(problem))?;
        }
        parts("blocked", &row.missing, width, out)?;
        parts("beyond the intent", &row.excess, width, out)?;
    }
    let hold = rows.iter().filter(|one| one.verdict == IntentVerdict::Holds).count();
    writeln!(out, "\n{} intents, {hold} hold", rows.len())
}

fn parts(what: &str, all: &[PartRow], width: usize, out: &mut dyn io::Write) -> io::Result<()> {
    for part in all {
        let unsure = if part.certain { "" } else { " (a condition not analysed decides)" };
        let text = format!("{what}: {} on {}{unsure}", some(&part.at, 6), some(&part.addresses, 6));
        for line in wrapped(&text, width, "    ") {
            writeln!(out, "{line}")?;
        }
        for rule in &part.rules {
            let place = sanitize(&format!("{}:{}", rule.path, rule.line)).into_owned();
            let excerpt = sanitize(rule.excerpt.lines().next().unwrap_or_default().trim()).into_owned();
            let room = width.saturating_sub(8 + unicode_width::UnicodeWidthStr::width(place.as_str()));
            writeln!(out, "      {DIM}{place}{DIM:#}  {}", crate::text::fitted(&excerpt, room))?;
        }
    }
    Ok(())
}

/// Lines of a text, the first with this indentation, the others with two blanks more.
fn wrapped(text: &str, width: usize, indent: &str) -> Vec<String> {
    let more = format!("{indent}  ");
    let options =
        textwrap::Options::new(width.clamp(60, 140)).initial_indent(indent).subsequent_indent(&more);
    textwrap::wrap(&sanitize(text), options).into_iter().map(std::borrow::Cow::into_owned).collect()
}
