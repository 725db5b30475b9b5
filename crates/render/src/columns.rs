//! Tables by device, with columns of fixed width and a verdict in the last one.

use crate::sanitize;
use anstyle::Style;
use comfy_table::{ColumnConstraint, ContentArrangement, Table, Width, presets};
use rayon::prelude::*;
use std::fmt::Write as _;
use std::io;

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();

/// How a table looks: the heads of its columns, and how many hundredths of the width each takes.
pub(crate) struct Look<const COLUMNS: usize> {
    pub(crate) heads: [&'static str; COLUMNS],
    pub(crate) shares: [usize; COLUMNS],
    /// Widest that it gets, in columns of the terminal.
    pub(crate) widest: usize,
}

/// Writes rows in the order given, one block for each device. A row is its device, its cells, and how its verdict looks.
pub(crate) fn table<const COLUMNS: usize>(
    look: &Look<COLUMNS>,
    rows: &[(&str, [String; COLUMNS], Style)],
    width: usize,
    out: &mut dyn io::Write,
) -> io::Result<()> {
    let rooms = look.shares.map(|share| width.clamp(60, look.widest) * share / 100);
    // The verdict stands last, so what follows these columns is the verdict.
    let before: usize = rooms[..COLUMNS - 1].iter().sum();
    for line in lines([look.heads.map(str::to_owned)], &rooms) {
        writeln!(out, " {DIM}{}{DIM:#}", line.trim_end())?;
    }
    for device in rows.chunk_by(|a, b| a.0 == b.0) {
        writeln!(out, "{BOLD}{}{BOLD:#}", sanitize(device[0].0))?;
        let written = |some: &[(&str, [String; COLUMNS], Style)]| {
            let mut text = String::new();
            let alike = some.chunk_by(|(.., a), (.., b)| a == b);
            alike.for_each(|alike| block(alike, &rooms, before, &mut text));
            text
        };
        // A rule base may have hundreds of thousands of rows.
        let pieces: Vec<String> = device.par_chunks(PARALLEL).map(written).collect();
        for piece in pieces {
            out.write_all(piece.as_bytes())?;
        }
        writeln!(out)?;
    }
    Ok(())
}

/// How many rows are worth a thread.
const PARALLEL: usize = 512;

/// Writes rows whose verdicts look alike.
fn block<const COLUMNS: usize>(
    rows: &[(&str, [String; COLUMNS], Style)],
    rooms: &[usize; COLUMNS],
    before: usize,
    out: &mut String,
) {
    let Some((.., style)) = rows.first() else { return };
    let cells = rows.iter().map(|(_, cells, _)| cells.each_ref().map(|text| sanitize(text).into_owned()));
    for line in lines(cells, rooms) {
        let at = line.char_indices().nth(before).map_or(line.len(), |(at, _)| at);
        let (rest, verdict) = line.split_at(at);
        let _ = match verdict.trim_end() {
            "" => writeln!(out, " {}", rest.trim_end()),
            verdict => writeln!(out, " {rest}{style}{verdict}{style:#}"),
        };
    }
}

/// Rows as lines. Every block of a table has the same columns, so that the eye finds its way down.
fn lines<const COLUMNS: usize>(
    rows: impl IntoIterator<Item = [String; COLUMNS]>,
    rooms: &[usize; COLUMNS],
) -> Vec<String> {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    for row in rows {
        table.add_row(row);
    }
    for (column, room) in table.column_iter_mut().zip(rooms) {
        let room = u16::try_from(*room).unwrap_or(10);
        column.set_padding((0, 1)).set_constraint(ColumnConstraint::Absolute(Width::Fixed(room)));
    }
    table.lines().collect()
}
