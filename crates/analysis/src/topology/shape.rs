//! How devices are joined: the outcome.

use ipnet::IpNet;
use trevlin_model::Origin;
use trevlin_model::{IpRange, TunnelFamily};
use trevlin_packets::way::{Place, Shape};

/// Something that is taken to be so, and that the estate file can put right.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Assumption {
    /// The assumption, and its reason.
    pub text: String,
    /// The entry for the estate file where it is wrong.
    pub otherwise: String,
    /// Lines that the assumption is based on.
    pub origins: Vec<Origin>,
}

/// Two ends of a tunnel that are both devices of the estate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SiteLink {
    /// Name of the tunnel at the first end.
    pub name: String,
    /// Both ends, the one with the smaller name first.
    pub ends: [Place; 2],
    /// Where each is stated.
    pub origins: Vec<Origin>,
}

/// How the devices of an estate are joined.
#[derive(Debug, Clone, Default)]
pub struct Topology {
    /// As the packet engine takes it.
    pub shape: Shape,
    /// Networks with who is on them, in order of their first interface.
    pub networks: Vec<Network>,
    /// Entry points of each tunnel's clients, in order of device.
    pub clients: Vec<RemoteClients>,
    /// Sites joined by tunnels.
    pub joined: Vec<SiteLink>,
    /// Interfaces that certainly face an untrusted network.
    pub outside: Vec<Place>,
    /// Assumptions.
    pub assumptions: Vec<Assumption>,
}

impl Topology {
    /// The network that an interface is on.
    #[must_use]
    pub fn network_of(&self, place: &Place) -> Option<&Network> {
        self.networks.get(self.shape.segment(place)?)
    }

    /// Clients of the tunnels that a device serves.
    #[must_use]
    pub fn clients_at(&self, device: usize) -> &[RemoteClients] {
        trevlin_estate::assemble::of_device(&self.clients, device, |one| one.device)
    }

    /// Clients of the tunnels of devices, by the names of the tunnels.
    #[must_use]
    pub fn clients_of(&self, name: &str) -> Vec<&RemoteClients> {
        self.clients.iter().filter(|one| one.tunnel == name).collect()
    }
}

/// Those who call a tunnel, once they are in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RemoteClients {
    /// The device that answers them.
    pub device: usize,
    /// Name of the tunnel within the device.
    pub tunnel: String,
    /// Protocol family.
    pub family: TunnelFamily,
    /// Interface by which their packets come.
    pub interface: String,
    /// Whether they come out of IPsec there.
    pub ipsec: bool,
    /// Their addresses.
    pub ranges: Vec<IpRange>,
    /// The line to point at.
    pub origin: Origin,
}

/// A network with the interfaces that are on it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Network {
    /// Its prefixes, in order.
    pub prefixes: Vec<IpNet>,
    /// Interfaces on it, in order.
    pub members: Vec<Place>,
}
