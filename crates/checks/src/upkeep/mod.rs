//! Checks of the area `upkeep`.

pub(super) mod clock_alone;
pub(super) mod export_incomplete;
pub(super) mod left_to_device;
pub(super) mod list_missing;
pub(super) mod log_stays;
pub(super) mod stored_rules_differ;
pub(super) mod temporary_rule;
