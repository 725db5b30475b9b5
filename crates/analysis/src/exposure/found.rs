//! Results of one path.

use trevlin_packets::way::TrafficClass;

/// A cell with where it set out.
pub(crate) struct Found {
    pub(crate) traffic_source: usize,
    pub(crate) cell: TrafficClass,
}
