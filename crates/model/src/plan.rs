//! Address plan of a tunnel besides its listeners: pools, fixed addresses, networks behind it.

use crate::{IpRange, MalformedAddress, Origin, Pool};
use serde::{Deserialize, Serialize};

/// A range and the place that states it.
pub type Placed = (IpRange, Origin);

/// An address reserved for one VPN client.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct FixedAddress {
    /// Whose it is, as the configuration names it.
    pub who: String,
    /// The address, or the addresses.
    pub range: IpRange,
    /// Where it is stated.
    pub origin: Origin,
}

/// Traffic that VPN clients send through a tunnel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Sends {
    /// Everything (a full tunnel).
    Everything,
    /// Traffic to some networks (a split tunnel).
    SomeNetworks,
}

/// The address side of one tunnel.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AddressPlan {
    /// Pools for dynamic assignment.
    pub pools: Vec<Pool>,
    /// Addresses reserved for one client each.
    pub fixed: Vec<FixedAddress>,
    /// Networks at the other end, reached through the tunnel (routes, traffic selectors, allowed addresses).
    pub remote: Vec<Placed>,
    /// Routes pushed to clients; every address of a family is a full tunnel.
    pub sent_through: Vec<Placed>,
    /// Networks that clients exclude from the tunnel.
    pub kept_out: Vec<Placed>,
    /// DNS servers pushed to clients.
    pub name_servers: Vec<Placed>,
    /// Domains that clients resolve through the tunnel, or use as search domains.
    pub domains: Vec<(String, Origin)>,
    /// NetBIOS name servers pushed to clients, and other lines that carry NetBIOS through the tunnel.
    pub netbios: Vec<(String, Origin)>,
    /// Maximum number of simultaneous clients, where it is stated.
    pub sessions: Option<(u32, Origin)>,
    /// Malformed addresses outside the pools.
    pub malformed: Vec<MalformedAddress>,
}
