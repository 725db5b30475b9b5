//! Incompletely read files, reported first.

use crate::sanitize;
use anstyle::Style;
use std::fmt;
use trevlin_audit::IncompleteRow;

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

/// Rows shown before the rest is only counted.
const SHOWN: usize = 4;

/// Missing parts, one line each; empty where nothing is missing.
pub(crate) fn told(rows: &[IncompleteRow], all: bool, out: &mut dyn fmt::Write) -> fmt::Result {
    if rows.is_empty() {
        return Ok(());
    }
    writeln!(out, "{BOLD}INCOMPLETE{BOLD:#} {DIM}results that depend on these lines are not certain{DIM:#}")?;
    let shown = if all { rows.len() } else { rows.len().min(SHOWN) };
    for row in &rows[..shown] {
        let text = format!("  {}  {}:{}  {}", row.device, row.path, row.line, row.what);
        writeln!(out, "{}", sanitize(&text))?;
    }
    if shown < rows.len() {
        writeln!(out, "  and {} more", rows.len() - shown)?;
    }
    writeln!(out)
}

/// The same as text, for what writes bytes.
pub(crate) fn text(rows: &[IncompleteRow]) -> String {
    let mut out = String::new();
    // A text takes everything.
    let _ = told(rows, false, &mut out);
    out
}
