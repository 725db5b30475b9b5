//! DHCP servers and the ranges they assign (RFC 2131, RFC 8415).

use crate::plan::Placed;
use crate::written::Word;
use crate::{IpRange, MalformedAddress, Origin};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};

/// An address kept for one client.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Reservation {
    /// Whose it is: a name or a hardware address.
    pub who: String,
    /// The address.
    pub address: IpRange,
    /// Where it is stated.
    pub origin: Origin,
}

/// One network that is served.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DhcpSubnet {
    /// The network, where it is stated or follows from a mask.
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub network: Option<IpNet>,
    /// Ranges that are assigned dynamically.
    pub ranges: Vec<Placed>,
    /// Routers sent to clients.
    pub routers: Vec<Placed>,
    /// DNS servers sent to clients.
    pub name_servers: Vec<Placed>,
    /// The statement.
    pub origin: Origin,
}

impl DhcpServer {
    /// A server with nothing in it yet.
    #[must_use]
    pub fn new(daemon: &'static str, file: &str, origin: Origin) -> Self {
        Self {
            name: format!("{daemon} ({file})"),
            daemon,
            interfaces: Vec::new(),
            subnets: Vec::new(),
            reservations: Vec::new(),
            keeps_reserved: false,
            keeps_own: false,
            partner: None,
            malformed: Vec::new(),
            origin,
        }
    }
}

impl DhcpSubnet {
    /// A network with nothing in it yet.
    #[must_use]
    pub fn new(network: Option<IpNet>, origin: Origin) -> Self {
        Self { network, ranges: Vec::new(), routers: Vec::new(), name_servers: Vec::new(), origin }
    }
}

/// One DHCP server.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct DhcpServer {
    /// The program and its file, as a phrase ("dnsmasq (lan.conf)").
    pub name: String,
    /// The program. Files of one program on one device make one server.
    #[serde(deserialize_with = "crate::written::word::one")]
    pub daemon: Word,
    /// Interfaces on which clients are answered, where they are named.
    pub interfaces: Vec<String>,
    /// Networks.
    pub subnets: Vec<DhcpSubnet>,
    /// Addresses kept for one client each.
    pub reservations: Vec<Reservation>,
    /// Whether the program excludes a reserved address from dynamic assignment, even where the address is in a range.
    pub keeps_reserved: bool,
    /// Whether the program excludes its own address from the ranges.
    pub keeps_own: bool,
    /// A partner that serves the same ranges by arrangement (failover).
    pub partner: Option<Origin>,
    /// Pieces that should be addresses and are none.
    pub malformed: Vec<MalformedAddress>,
    /// The line to point at.
    pub origin: Origin,
}
