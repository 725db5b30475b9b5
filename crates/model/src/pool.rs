//! Address pools of VPN clients.

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
    /// The error, as a phrase.
    pub why: String,
    /// The piece.
    pub origin: Origin,
}

/// An address with its network in a statement that was not understood, or of an interface without a name: the device may have it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PossibleAddress {
    /// The address, with the length of its prefix.
    pub net: IpNet,
    /// The statement.
    pub origin: Origin,
}

impl PossibleAddress {
    /// A network as one of an interface: with an address in it, and room for others. A network alone (`10.4.0.0/24`) is a route or a
    /// condition.
    #[must_use]
    pub fn of(net: IpNet, origin: Origin) -> Option<Self> {
        let room = net.max_prefix_len() - net.prefix_len();
        (net.addr() != net.network() && room >= 2 && !net.addr().is_loopback())
            .then_some(Self { net, origin })
    }
}

/// Relation of client addresses to the internal network.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum PoolPlacement {
    /// A network of their own, reached by routing.
    Routed,
    /// Addresses of the internal network, answered for by the server (proxy ARP).
    ProxyArp,
    /// The client link is bridged to the internal network.
    Bridged,
}

/// An address pool for the clients of one tunnel.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Pool {
    /// The service that assigns it, as a phrase ("PPTP server"); in a sheet the name of the tunnel.
    #[serde(deserialize_with = "crate::written::zero_unless_said::deserialize")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub owner: String,
    /// The ranges, each with its place.
    pub ranges: Vec<(IpRange, Origin)>,
    /// The whole network set aside for the tunnel, where the format states one.
    #[cfg_attr(feature = "schema", schemars(with = "Option<String>"))]
    pub network: Option<IpNet>,
    /// Number of addresses used per client (four in OpenVPN's net30 topology).
    pub per_client: Setting<u32>,
    /// The server's own addresses in the tunnel.
    pub server_addresses: Vec<IpAddr>,
    /// Separate from the internal network, or part of it.
    pub placement: Setting<PoolPlacement>,
    /// Pieces that are no addresses.
    pub malformed: Vec<MalformedAddress>,
    /// Where the daemon's own default is documented, where no export states the pool and that default applies.
    #[serde(deserialize_with = "crate::written::word::maybe")]
    pub from_default: Option<Word>,
    /// Name of the store of its leases: pools of one device with the same one never assign an address twice.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub leases: Option<String>,
    /// The statement.
    pub origin: Origin,
}

impl Pool {
    /// An empty routed pool with one address per client.
    #[must_use]
    pub fn new(owner: impl Into<String>, origin: Origin) -> Self {
        Self {
            owner: owner.into(),
            ranges: Vec::new(),
            network: None,
            per_client: Setting::Stated { value: 1, origin },
            server_addresses: Vec::new(),
            placement: Setting::Stated { value: PoolPlacement::Routed, origin },
            malformed: Vec::new(),
            from_default: None,
            leases: None,
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

    /// Number of addresses available to clients.
    #[must_use]
    pub fn size(&self) -> u128 {
        crate::sets::total_addresses(self.ranges.iter().map(|(range, _)| range))
    }

    /// All addresses that the pool allocates: its network where one is reserved, otherwise its ranges.
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
