//! Checks of the area `upkeep`.

pub(super) mod expired_exception;
pub(super) mod export_incomplete;
pub(super) mod filter_incomplete;
pub(super) mod filter_not_loaded;
pub(super) mod no_remote_logging;
pub(super) mod no_time_source;
pub(super) mod protection_switched_off;
pub(super) mod referenced_list_missing;
pub(super) mod running_filter_differs;
pub(super) mod temporary_rule;
