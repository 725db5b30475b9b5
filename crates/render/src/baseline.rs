//! The baseline: thresholds with where each comes from.

use crate::columns::{Look, table};
use crate::sanitize;
use anstyle::Style;
use serde::Serialize;
use std::io;
use trevlin_audit::{BaselineRow, PredefinedBaseline};

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    baseline: &'a [BaselineRow],
}

/// The thresholds as one JSON object, schema `trevlin-baseline/1`: those without `device` hold for the estate, the others for a
/// device alone.
///
/// # Errors
/// When writing fails.
pub fn baseline_json(rows: &[BaselineRow], out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-baseline/1", baseline: rows }, out)
}

const LOOK: Look<4> =
    Look { heads: ["Threshold", "Meaning", "Value", "Source"], shares: [22, 30, 14, 34], widest: 140 };

/// The thresholds as text, and the ready-made baselines where some are given.
///
/// # Errors
/// When writing fails.
pub fn baseline_text(
    rows: &[BaselineRow],
    ready_made: &[PredefinedBaseline],
    width: usize,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let cells = |row: &BaselineRow| {
        [row.key.to_owned(), row.about.to_owned(), row.value.clone(), sanitize(&row.source).into_owned()]
    };
    let shown: Vec<_> = rows
        .iter()
        .map(|row| (row.device.as_deref().unwrap_or("every device"), cells(row), Style::new()))
        .collect();
    table(&LOOK, &shown, width, out)?;
    if !ready_made.is_empty() {
        writeln!(out, "\nready-made baselines")?;
    }
    for one in ready_made {
        writeln!(out, "  {:<12} {}", one.name, one.purpose)?;
    }
    Ok(())
}
