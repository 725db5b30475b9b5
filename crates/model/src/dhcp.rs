//! What DHCP servers hand out (RFC 2131, RFC 8415).

use crate::plan::Placed;
use crate::{IpRange, MalformedAddress, Origin};
use ipnet::IpNet;

/// An address kept for one client.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reservation {
    /// Whose it is: a name or a hardware address.
    pub who: String,
    /// The address.
    pub address: IpRange,
    /// Where it is stated.
    pub origin: Origin,
}

/// One network that is served.
#[derive(Debug, Clone)]
pub struct DhcpSubnet {
    /// The network, where it is stated or follows from a mask.
    pub network: Option<IpNet>,
    /// What clients are given in turn.
    pub ranges: Vec<Placed>,
    /// Routers that clients are told.
    pub routers: Vec<Placed>,
    /// Name servers that clients are told.
    pub name_servers: Vec<Placed>,
    /// The statement.
    pub origin: Origin,
}

/// One DHCP server.
#[derive(Debug, Clone)]
pub struct DhcpServer {
    /// The program and its file, as a phrase ("dnsmasq (lan.conf)").
    pub name: String,
    /// Networks.
    pub subnets: Vec<DhcpSubnet>,
    /// Addresses kept for one client each.
    pub reservations: Vec<Reservation>,
    /// Whether the program itself keeps a reserved address out of what it hands to others, even where the address
    /// lies in a range.
    pub keeps_reserved: bool,
    /// A partner that hands out the same ranges by arrangement.
    pub partner: Option<Origin>,
    /// Pieces that should be addresses and are none.
    pub malformed: Vec<MalformedAddress>,
    /// The line to point at.
    pub origin: Origin,
}
