//! Readers of what keeps a device in order: its clock, its log, what it starts.

pub(crate) mod chrony;
pub(crate) mod journald;
pub(crate) mod ntp;
pub(crate) mod rsyslog;
pub(crate) mod timesyncd;
pub(crate) mod units;
