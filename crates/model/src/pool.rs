//! Address pools: what callers are given.

use crate::written::Word;
use crate::{InterfaceAddress, IpRange, Origin, Setting};
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// A piece of an address list that is no address: it never becomes another range silently.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct MalformedAddress {
    /// What is wrong, as a phrase.
    pub why: String,
    /// The piece.
    pub origin: Origin,
}

/// How callers' addresses sit beside the inside network.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PoolPlacement {
    /// A network of their own, reached by routing.
    Routed,
    /// Addresses of the inside network, answered for by the server (proxy ARP).
    ProxyArp,
    /// The callers' link is joined to the inside network.
    Bridged,
}

/// A pool of addresses for the callers of one tunnel.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Pool {
    /// What hands it out, as a phrase ("PPTP server").
    pub owner: String,
    /// The ranges, each with its place.
    pub ranges: Vec<(IpRange, Origin)>,
    /// The whole network set aside for the tunnel, where the format states one.
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub network: Option<IpNet>,
    /// How many addresses one caller takes up (four in OpenVPN's net30 topology).
    pub per_caller: Setting<u32>,
    /// The server's own addresses in the tunnel.
    pub server_addresses: Vec<IpAddr>,
    /// Beside the inside, or carved out of it.
    pub placement: Setting<PoolPlacement>,
    /// Pieces that are no addresses.
    pub malformed: Vec<MalformedAddress>,
    /// Where the daemon's own default is documented, where no export states the pool and that default applies.
    #[serde(deserialize_with = "crate::written::word::maybe")]
    pub from_default: Option<Word>,
    /// The statement.
    pub origin: Origin,
}

impl Pool {
    /// A routed pool with nothing in it yet, one address a caller.
    #[must_use]
    pub fn new(owner: impl Into<String>, origin: Origin) -> Self {
        Self {
            owner: owner.into(),
            ranges: Vec::new(),
            network: None,
            per_caller: Setting::Stated { value: 1, origin },
            server_addresses: Vec::new(),
            placement: Setting::Stated { value: PoolPlacement::Routed, origin },
            malformed: Vec::new(),
            from_default: None,
            origin,
        }
    }

    /// The network set aside for those who call an interface of a device: that of the interface's own address.
    #[must_use]
    pub fn around(owner: impl Into<String>, address: &InterfaceAddress) -> Self {
        let net = address.net;
        Self {
            network: (net.prefix_len() < net.max_prefix_len()).then(|| net.trunc()),
            server_addresses: vec![net.addr()],
            ..Self::new(owner, address.origin)
        }
    }

    /// How many addresses there are for callers.
    #[must_use]
    pub fn size(&self) -> u128 {
        self.ranges.iter().fold(0, |sum, (range, _)| sum.saturating_add(range.size()))
    }

    /// Everything the pool lays claim to: its network where one is set aside, else its ranges.
    #[must_use]
    pub fn allocations(&self) -> Vec<(IpRange, Origin)> {
        match self.network {
            Some(net) => {
                let whole = IpRange::from(net);
                let mut allocations = vec![(whole, self.origin)];
                // A pool stated apart may leave the network it belongs to; that part is claimed as well.
                allocations.extend(
                    self.ranges.iter().filter(|(range, _)| whole.intersection(range) != Some(*range)),
                );
                allocations
            }
            None => self.ranges.clone(),
        }
    }
}
