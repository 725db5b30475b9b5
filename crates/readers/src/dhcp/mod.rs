//! What DHCP servers are told to hand out.

pub(crate) mod dhcpd;
pub(crate) mod dnsmasq;
pub(crate) mod kea;
