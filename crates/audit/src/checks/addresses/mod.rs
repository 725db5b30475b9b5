//! Checks of the area `addresses`.

pub(super) mod pool_in_connected_network;
pub(super) mod pools_overlap;
