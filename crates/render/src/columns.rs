//! Rows of columns of fixed width.

use comfy_table::{ColumnConstraint, ContentArrangement, Table, Width, presets};

/// A row as lines. Every block of a table has the same columns, so that the eye finds its way down.
pub(crate) fn columns<const COLUMNS: usize>(row: [String; COLUMNS], rooms: &[usize; COLUMNS]) -> Vec<String> {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.add_row(row);
    for (column, room) in table.column_iter_mut().zip(rooms) {
        let room = u16::try_from(*room).unwrap_or(10);
        column.set_padding((0, 1)).set_constraint(ColumnConstraint::Absolute(Width::Fixed(room)));
    }
    table.lines().collect()
}
