//! Services of a device besides tunnels and SSH: sockets as observed, port mapping services, and published names.

use crate::written::Word;
use crate::{IpRange, Origin, PortRange, Protocol};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// A listening socket, as a socket list shows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Socket {
    /// Transport protocol.
    pub protocol: Protocol,
    /// Address it is bound to; `None` for every one.
    pub address: Option<IpAddr>,
    /// IP versions; a socket on every IPv6 address has both where it accepts IPv4 as well (ipv6(7), IPV6_V6ONLY).
    #[serde(with = "crate::written::both")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<crate::Families>"))]
    pub families: crate::Families,
    /// Interface it is bound to, where it is.
    pub interface: Option<String>,
    /// Port.
    pub port: u16,
    /// Name of the program, where the list shows it.
    pub program: Option<String>,
    /// The line.
    pub origin: Origin,
}

/// A service that opens ports on request of hosts (UPnP IGD; RFC 6886, NAT-PMP; RFC 6887, PCP).
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PortMapper {
    /// Whether it takes requests of UPnP.
    pub upnp: bool,
    /// Whether it takes requests of NAT-PMP and PCP.
    pub nat_pmp: bool,
    /// Whether a host may request ports for itself only.
    pub own_only: bool,
    /// Port of its web interface, where one is stated.
    pub port: Option<(u16, Origin)>,
    /// Addresses or interfaces where it listens, as written.
    pub listens: Vec<(String, Origin)>,
    /// Access list in order; the first match decides, and requests without a match are permitted.
    pub permissions: Vec<Permission>,
    /// The line to point at.
    pub origin: Origin,
}

/// One rule of who may have a port opened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Permission {
    /// Whether it allows.
    pub allows: bool,
    /// External ports.
    pub outside: PortRange,
    /// Hosts that ask.
    pub hosts: IpRange,
    /// Their ports.
    pub inside: PortRange,
    /// The line.
    pub origin: Origin,
}

/// A client that publishes the device's address under a name.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DynamicName {
    /// The program.
    #[serde(deserialize_with = "crate::written::word::one")]
    pub program: Word,
    /// Names that it publishes.
    pub names: Vec<(String, Origin)>,
    /// The line of its password or token, where the file holds one.
    pub token: Option<Origin>,
    /// Whether the token is sent in clear text, with the line that states it.
    pub plain: Option<Origin>,
    /// The line to point at.
    pub origin: Origin,
}
