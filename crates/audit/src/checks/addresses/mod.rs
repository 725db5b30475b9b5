//! Checks of the area `addresses`.

pub(super) mod pool_in_connected_network;
pub(super) mod pool_in_foreign_space;
pub(super) mod pools_overlap;
pub(super) mod range_malformed;
