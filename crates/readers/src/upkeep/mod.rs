//! Readers of time sources, logging and units.

pub(crate) mod chrony;
pub(crate) mod journald;
pub(crate) mod ntp;
pub(crate) mod rsyslog;
mod rsyslog_script;
pub(crate) mod service_units;
pub(crate) mod socket_units;
pub(crate) mod timesyncd;
pub(crate) mod units;
