//! What a tunnel does with addresses beyond its listeners: pools, fixed addresses, networks behind it.

use crate::{IpRange, MalformedAddress, Origin, Pool};
use serde::{Deserialize, Serialize};

/// A range and the place that states it.
pub type Placed = (IpRange, Origin);

/// An address kept for one caller.
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

/// What callers send through a tunnel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Sends {
    /// Everything (a full tunnel).
    Everything,
    /// What is for some networks (a split tunnel).
    SomeNetworks,
}

/// The address side of one tunnel.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AddressPlan {
    /// What callers are given in turn.
    pub pools: Vec<Pool>,
    /// What is kept for one caller each.
    pub fixed: Vec<FixedAddress>,
    /// Networks at the other end, reached through the tunnel (routes, traffic selectors, allowed addresses).
    pub remote: Vec<Placed>,
    /// What callers are told to send through the tunnel; every address of a family is a full tunnel.
    pub sent_through: Vec<Placed>,
    /// Networks that callers are told to keep out of the tunnel.
    pub kept_out: Vec<Placed>,
    /// Name servers that callers are told.
    pub name_servers: Vec<Placed>,
    /// Domains whose names callers are told to look up there, or to complete names with.
    pub domains: Vec<(String, Origin)>,
    /// NetBIOS name servers that callers are told, and other lines that carry NetBIOS through the tunnel.
    pub netbios: Vec<(String, Origin)>,
    /// How many callers may be connected at a time, where it is stated.
    pub sessions: Option<(u32, Origin)>,
    /// Pieces outside the pools that should be addresses and are none.
    pub malformed: Vec<MalformedAddress>,
}
