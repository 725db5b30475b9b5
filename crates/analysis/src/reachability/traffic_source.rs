//! Sources of connections, as requested and as resolved.

use crate::map::EstateMap;
use crate::topology::RemoteClients;
use ipnet::IpNet;
use std::net::IpAddr;
use trevlin_model::IpRange;
use trevlin_packets::way::{Place, Start};

/// Where a connection comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum From {
    /// A host of an untrusted network that no rule names.
    Outside,
    /// This address.
    Address(IpAddr),
    /// Any host of a network.
    Network(IpNet),
    /// A device, the clients of a tunnel, or a group of users, by name.
    Named(String),
}

impl From {
    /// `outside`, an address, a network, or a name.
    ///
    /// # Errors
    /// If it is neither, with the probable type.
    pub fn parse(word: &str) -> Result<Self, NoPlace> {
        if word == "outside" {
            return Ok(Self::Outside);
        }
        if let Ok(address) = word.parse() {
            return Ok(Self::Address(address));
        }
        if let Ok(net) = word.parse::<IpNet>() {
            return Ok(Self::Network(net.trunc()));
        }
        let numbers = word.chars().all(|one| one.is_ascii_digit() || matches!(one, '.' | '/' | ':'));
        if word.is_empty() || numbers {
            return Err(NoPlace(word.to_owned()));
        }
        Ok(Self::Named(word.to_owned()))
    }
}

/// A malformed address.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is neither an address nor a network")]
pub struct NoPlace(pub String);

/// Destination of a connection.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum To {
    /// An untrusted network.
    Outside,
    /// These addresses.
    Addresses(Vec<IpRange>),
    /// A device, by any of its addresses.
    Device(usize, Vec<IpRange>),
}

impl To {
    /// `outside`, an address, a network, a device (its addresses), or a tunnel (the addresses of its clients).
    ///
    /// # Errors
    /// When it is none of these.
    pub fn parse(estate: &EstateMap, word: &str) -> Result<Self, QueryError> {
        let known = |word: &str| QueryError::NoName(word.to_owned(), names(estate));
        Ok(match From::parse(word).map_err(|_| known(word))? {
            From::Outside => Self::Outside,
            From::Address(address) => Self::Addresses(vec![IpRange::from(address)]),
            From::Network(net) => Self::Addresses(vec![IpRange::from(net)]),
            From::Named(name) => {
                if let Some(at) = estate.devices.iter().position(|one| one.name == name) {
                    let device = &estate.devices[at];
                    let held = device.facts.interfaces.iter().filter(|one| !one.loopback);
                    let all = held.flat_map(|one| &one.addresses).map(|one| IpRange::from(one.net.addr()));
                    return Ok(Self::Device(at, all.collect()));
                }
                let clients = clients_named(estate, &name);
                if clients.is_empty() {
                    return Err(known(&name));
                }
                Self::Addresses(clients.into_iter().flat_map(|one| one.ranges.clone()).collect())
            }
        })
    }
}

/// Where connections set out, with the addresses that they may have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TrafficSource {
    /// The device: it sends them, or they enter it.
    pub device: usize,
    /// Interface by which they enter; none where the device sends them.
    pub interface: Option<String>,
    /// Whether they come out of IPsec.
    pub ipsec: bool,
    /// Source addresses.
    pub sources: Vec<IpRange>,
    /// Whether the destination is on the same network, without a device between.
    pub next_to: bool,
    /// Whether this is one of several places that may be the source, and it is not known which.
    pub one_of_several: bool,
}

impl TrafficSource {
    /// For the packet engine.
    #[must_use]
    pub fn start(&self) -> Start<'_> {
        match &self.interface {
            Some(interface) => Start::Entering { device: self.device, interface, ipsec: self.ipsec },
            None => Start::Device(self.device),
        }
    }

    /// Where they enter, where a device does not send them itself; out of IPsec they come from elsewhere than the interface is.
    #[must_use]
    pub fn place(&self) -> Option<Place> {
        let interface = self.interface.clone().filter(|_| !self.ipsec)?;
        Some(Place { device: self.device, interface })
    }

    pub(crate) fn entering(place: &Place, sources: Vec<IpRange>) -> Self {
        let interface = Some(place.interface.clone());
        Self { device: place.device, interface, ipsec: false, sources, next_to: false, one_of_several: false }
    }

    /// Traffic that a device sends itself.
    pub(crate) fn sent_by(device: usize, sources: Vec<IpRange>) -> Self {
        Self { device, interface: None, ipsec: false, sources, next_to: false, one_of_several: false }
    }

    /// Sources of the clients of a tunnel.
    #[must_use]
    pub fn of_clients(clients: &RemoteClients) -> Self {
        let place = Place { device: clients.device, interface: clients.interface.clone() };
        Self { ipsec: clients.ipsec, ..Self::entering(&place, clients.ranges.clone()) }
    }
}

/// Why a question cannot be answered.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum QueryError {
    /// There is no such device.
    #[error("there is no device {0}; known are: {1}")]
    NoDevice(String, String),
    /// The device has no such interface, and no rule names it.
    #[error("{device} has no interface {interface}; it has: {known}")]
    NoInterface {
        /// The device.
        device: String,
        /// The requested interface.
        interface: String,
        /// The known interfaces.
        known: String,
    },
    /// The entry point of the connection is not known.
    #[error(
        "the exports do not show through which device and interface it enters; use `--entering DEVICE:INTERFACE`"
    )]
    Entering,
    /// Nothing has this name.
    #[error(
        "nothing is named {0}: no device, no remote-access tunnel, no group with fixed addresses; known are: {1}"
    )]
    NoName(String, String),
    /// Addresses of a device are not known.
    #[error("the addresses of {0} were not exported, so its source addresses are not known")]
    NoAddress(String),
    /// The addresses are of different IP versions.
    #[error("{0} and {1} are of different IP versions")]
    Versions(IpAddr, IpAddr),
}

pub(crate) fn places(estate: &EstateMap, all: &[Place]) -> String {
    let name = |place: &Place| format!("{}:{}", estate.devices[place.device].name, place.interface);
    all.iter().map(name).collect::<Vec<_>>().join(", ")
}

/// Names that may be requested.
pub(crate) fn names(estate: &EstateMap) -> String {
    let known = estate.devices.iter().map(|one| one.name.clone());
    let tunnels = estate.shape().clients.iter().map(|one| one.tunnel.clone());
    let mut known: Vec<String> = known.chain(tunnels).collect();
    known.dedup();
    known.join(", ")
}

/// Clients of the tunnels that a name selects: a tunnel's name, or `device/tunnel`.
pub(crate) fn clients_named<'e>(estate: &'e EstateMap, name: &str) -> Vec<&'e RemoteClients> {
    let fits = |one: &&RemoteClients| {
        one.tunnel == name
            || name.split_once('/').is_some_and(|(device, tunnel)| {
                estate.devices[one.device].name == device && one.tunnel == tunnel
            })
    };
    estate.shape().clients.iter().filter(fits).collect()
}
