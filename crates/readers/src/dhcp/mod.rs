//! Ranges and options that DHCP servers assign.

pub(crate) mod dhcpd;
pub(crate) mod dnsmasq;
pub(crate) mod kea;
