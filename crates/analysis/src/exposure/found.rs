//! What was found on one way.

use trevlin_packets::way::Cell;

/// A cell with where it set out.
pub(crate) struct Found {
    pub(crate) setout: usize,
    pub(crate) cell: Cell,
}
