//! The daemon whose settings these are.

/// How the documentation of defaults is cited.
pub(super) const DAEMON: &str = "openvpn";
