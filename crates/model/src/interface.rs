//! Interfaces, their addresses, and routes.

use crate::{Family, Origin};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// An address on an interface, with its prefix length.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct InterfaceAddress {
    /// Address and prefix length; the host bits are kept.
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub net: IpNet,
    /// The other end of a point-to-point link.
    pub peer: Option<IpAddr>,
    /// Whether it was got by asking (DHCP, router advertisements) and will run out.
    pub dynamic: bool,
    /// Where it is stated.
    pub origin: Origin,
}

/// One network interface of a device.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Interface {
    /// Name, such as `eth0`.
    pub name: String,
    /// Whether it is the loopback interface.
    pub loopback: bool,
    /// Whether it is one end of a link with one other end (a tunnel or a dial-up link): its network is no
    /// place where other hosts live.
    pub point_to_point: bool,
    /// Whether it is enabled; `None` where the export does not state it.
    #[serde(with = "crate::written::known_truth")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<bool>"))]
    pub up: Option<bool>,
    /// Its addresses.
    pub addresses: Vec<InterfaceAddress>,
    /// Where a stored configuration sets the address to be obtained by DHCP, so that it is not in the file.
    pub asks: Option<Origin>,
    /// Where it is stated.
    pub origin: Origin,
}

/// A route.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Route {
    /// Where to; a prefix of length 0 is the default route.
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub destination: IpNet,
    /// Next hop, where there is one.
    pub gateway: Option<IpAddr>,
    /// Leaving interface.
    pub interface: Option<String>,
    /// Preference among several routes to one destination, as a sheet states it: the lowest number is used first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub preference: Option<u32>,
    /// Whether it is of a kind that carries packets on (not local, broadcast, blackhole and the like).
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub forwards: bool,
    /// Where it is stated.
    pub origin: Origin,
}

impl Route {
    /// Whether this is a default route that carries packets on.
    #[must_use]
    pub fn is_default(&self) -> bool {
        self.forwards && self.destination.prefix_len() == 0
    }

    /// IP version.
    #[must_use]
    pub fn family(&self) -> Family {
        Family::of(self.destination.addr())
    }
}
