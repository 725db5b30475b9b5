//! Missing or unanalysed parts of packet filters, and all incomplete exports, for outputs.

use crate::incomplete::{Incomplete, IncompleteRow, Why, rows};
use crate::map::EstateMap;

/// Missing or unanalysed parts of a device's packet filters.
#[must_use]
pub fn of_filters(map: &EstateMap, device: usize) -> Vec<Incomplete> {
    let tables = map.tables_in_force(device);
    let placed = tables.into_iter().filter(|table| !table.complete && table.gaps_placed);
    let placed = placed.map(|table| Incomplete {
        device,
        why: Why::Packets(format!("rules of table {} that were not understood", table.table)),
        origin: table.origin,
    });
    let lacks = map.lacks(device).into_iter();
    let lacks = lacks.map(|one| Incomplete { device, why: Why::Packets(one.what), origin: one.origin });
    lacks.chain(placed).collect()
}

/// Missing or unanalysed parts of all packet filters, for outputs.
#[must_use]
pub fn rows_of_filters(map: &EstateMap) -> Vec<IncompleteRow> {
    let found: Vec<Incomplete> = (0..map.devices.len()).flat_map(|at| of_filters(map, at)).collect();
    rows(map, &found)
}

/// Everything, for outputs.
#[must_use]
pub fn rows_of_all(map: &EstateMap) -> Vec<IncompleteRow> {
    let of = |at: usize| of_filters(map, at).into_iter().chain(map.incomplete()[at].iter().cloned());
    let found: Vec<Incomplete> = (0..map.devices.len()).flat_map(of).collect();
    rows(map, &found)
}
