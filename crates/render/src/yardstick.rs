//! The yardstick: thresholds with where each comes from.

use crate::columns::{Look, table};
use crate::neutral;
use anstyle::Style;
use serde::Serialize;
use std::io;
use trevlin_audit::{ReadyMade, YardstickRow};

#[derive(Serialize)]
struct Document<'a> {
    schema: &'static str,
    yardstick: &'a [YardstickRow],
}

/// The thresholds as one JSON object, schema `trevlin-yardstick/1`: those without `device` hold for the estate, the others for a
/// device alone.
///
/// # Errors
/// When writing fails.
pub fn yardstick_json(rows: &[YardstickRow], out: &mut dyn io::Write) -> io::Result<()> {
    crate::json::write(&Document { schema: "trevlin-yardstick/1", yardstick: rows }, out)
}

const LOOK: Look<4> =
    Look { heads: ["threshold", "about", "value", "from"], shares: [22, 30, 14, 34], widest: 140 };

/// The thresholds as text, and the ready-made yardsticks where some are given.
///
/// # Errors
/// When writing fails.
pub fn yardstick_text(
    rows: &[YardstickRow],
    ready_made: &[ReadyMade],
    width: usize,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let cells = |row: &YardstickRow| {
        [row.key.to_owned(), row.about.to_owned(), row.value.clone(), neutral(&row.source).into_owned()]
    };
    let shown: Vec<_> = rows
        .iter()
        .map(|row| (row.device.as_deref().unwrap_or("every device"), cells(row), Style::new()))
        .collect();
    table(&LOOK, &shown, width, out)?;
    if !ready_made.is_empty() {
        writeln!(out, "\nready-made yardsticks")?;
    }
    for one in ready_made {
        writeln!(out, "  {:<12} {}", one.name, one.purpose)?;
    }
    Ok(())
}
