//! Result of an exposure analysis.

use crate::reachability::TrafficSource;
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_model::{Family, IpRange, IpRangeSet, Origin, PortSet, total_addresses};
use trevlin_packets::way::{Egress, Step};

/// No device has more public addresses: a /8 of IPv4, a /32 of IPv6.
const LARGEST_V4: u128 = 1 << 24;
const LARGEST_V6: u128 = 1 << 96;

/// A service that is reached.
#[derive(Debug, Clone)]
pub struct Reachable {
    /// Where the connections set out, by its number.
    pub traffic_source: usize,
    /// Requested addresses.
    pub called: IpRangeSet,
    /// Requested ports.
    pub called_ports: PortSet,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Who reaches it.
    pub sources: IpRangeSet,
    /// Whether all, or nearly all, sources there are included.
    pub everybody: bool,
    /// The device that serves it.
    pub device: usize,
    /// The service, by its number among those of the device.
    pub service: usize,
    /// Address at which it answers.
    pub address: IpAddr,
    /// Whether it is certain; otherwise a condition that is not analysed decides.
    pub certain: bool,
    /// The port forward that leads there, where one does.
    pub forward: Option<Origin>,
    /// The deciding steps, in order.
    pub steps: Vec<Step>,
}

/// Traffic that is permitted to a destination without a known service.
#[derive(Debug, Clone)]
pub struct Opening {
    /// Where the connections set out, by its number.
    pub traffic_source: usize,
    /// The destination device, or the last one on the path.
    pub device: usize,
    /// The next hop after that device; none for traffic to the device itself.
    pub gone: Option<Egress>,
    /// Interface by which it leaves.
    pub leaving: Option<String>,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Addresses, after translation.
    pub addresses: IpRangeSet,
    /// Ports, after translation.
    pub ports: PortSet,
    /// Permitted sources.
    pub sources: IpRangeSet,
    /// Whether all, or nearly all, sources there are included.
    pub everybody: bool,
    /// Whether it is certain.
    pub certain: bool,
    /// The port forward that leads there, where one does.
    pub forward: Option<Origin>,
    /// The deciding steps of one connection, in order.
    pub steps: Vec<Step>,
    /// For traffic to the device itself: the ports, by the last line that permits them; none for a policy.
    pub by_line: BTreeMap<Option<Origin>, PortSet>,
}

/// Traffic that is permitted to hosts that were not exported, by the line that decides.
#[derive(Debug, Clone)]
pub struct BeyondExport {
    /// Where the connections set out, by its number.
    pub traffic_source: usize,
    /// The last device on the path.
    pub device: usize,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Requested addresses.
    pub called: IpRangeSet,
    /// Requested ports.
    pub called_ports: PortSet,
    /// Addresses, after translation.
    pub addresses: IpRangeSet,
    /// Ports, after translation.
    pub ports: PortSet,
    /// Permitted sources.
    pub sources: IpRangeSet,
    /// Whether all, or nearly all, sources there are included.
    pub everybody: bool,
    /// Whether it is certain.
    pub certain: bool,
    /// The port forward that leads there, where one does.
    pub forward: Option<Origin>,
    /// The deciding steps of one connection, in order.
    pub steps: Vec<Step>,
}

/// A device that answers requests for an echo.
#[derive(Debug, Clone)]
pub struct Ping {
    /// The device.
    pub device: usize,
    /// Its addresses that answer.
    pub addresses: IpRangeSet,
    /// Whether it is certain.
    pub certain: bool,
    /// The deciding steps.
    pub steps: Vec<Step>,
}

/// Amount of traffic permitted to hosts on internal networks, by one protocol of one IP version.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Breadth {
    /// IP version.
    pub family: Family,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Pairs of an address and a port, after translation, as a power of two.
    pub log2_pairs: f64,
    /// Addresses among them.
    pub addresses: u128,
}

/// Services and traffic reachable from a source.
#[derive(Debug, Clone, Default)]
pub struct Exposure {
    /// Where connections set out.
    pub traffic_sources: Vec<TrafficSource>,
    /// Services that are reached, by device and port.
    pub reached: Vec<Reachable>,
    /// Further permitted traffic.
    pub openings: Vec<Opening>,
    /// Permitted traffic to hosts that were not exported; it is among the openings as well.
    pub beyond: Vec<BeyondExport>,
    /// Traffic permitted to untrusted networks, where the connections do not come from there.
    pub outwards: Vec<Opening>,
    /// Outcome of each port forward that such connections match.
    pub forwards: Vec<ForwardResult>,
    /// Devices that answer requests for an echo.
    pub pings: Vec<Ping>,
    /// How wide it is.
    pub breadth: Vec<Breadth>,
    /// Whether something was left out, because there would have been too much.
    pub cut: bool,
    /// Numbers of reachable services, by device.
    pub(crate) by_device: BTreeMap<usize, Vec<usize>>,
}

impl Exposure {
    /// Requested addresses in words: where an address is assigned at run time it may be any, and is that of the interface.
    #[must_use]
    pub fn called_words(&self, traffic_source: usize, called: &[IpRange]) -> Vec<String> {
        let v4 = called.first().is_some_and(|range| range.family() == Family::V4);
        if total_addresses(called) <= if v4 { LARGEST_V4 } else { LARGEST_V6 } {
            return called.iter().map(IpRange::short).collect();
        }
        let interface = self.traffic_sources.get(traffic_source).and_then(|one| one.interface.as_deref());
        vec![format!("the address of {}", interface.unwrap_or("the Internet interface"))]
    }

    /// Reachable services of one device, in the same order.
    pub fn reached_of(&self, device: usize) -> impl Iterator<Item = &Reachable> {
        self.by_device.get(&device).into_iter().flatten().map(|at| &self.reached[*at])
    }

    /// Devices of which something is reached, in order.
    pub fn reached_devices(&self) -> impl Iterator<Item = usize> {
        self.by_device.keys().copied()
    }

    /// Reachable services of each device that has any.
    pub fn reached_by_device(&self) -> impl Iterator<Item = (usize, Vec<&Reachable>)> {
        self.by_device
            .iter()
            .map(|(device, all)| (*device, all.iter().map(|at| &self.reached[*at]).collect()))
    }
}

/// Where a port forward leads.
#[derive(Debug, Clone)]
pub enum ForwardOutcome {
    /// To services, by their numbers among those reached.
    Service(Vec<usize>),
    /// To a device of which nothing is known that answers there; whether its sockets were seen, so that nothing does.
    NothingServes {
        /// The device.
        device: usize,
        /// Whether that is certain.
        certain: bool,
    },
    /// To a container of a device.
    Container {
        /// The device.
        device: usize,
        /// The container, by its number.
        number: usize,
    },
    /// To an address with an allocation in the exports, whose device was not exported: number of the allocation.
    Claimed(usize),
    /// To an address of a known network without any allocation: a host there may have it.
    NotExported,
    /// To an address that no network contains.
    NobodyThere,
    /// Nowhere: it is stopped further in.
    BlockedLater,
    /// Packets that go in a circle, or that no route takes on.
    Lost,
    /// Its outcome depends on unknown information.
    Depends,
    /// No destination: no connection from the source matches it.
    NeverMet,
}

/// Outcome of one port forward.
#[derive(Debug, Clone)]
pub struct ForwardResult {
    /// The device.
    pub device: usize,
    /// The forward, by its number among those of the device.
    pub number: usize,
    /// Its line.
    pub origin: Origin,
    /// Number of the transport protocol it is met by.
    pub protocol: Option<u8>,
    /// Sources that match it.
    pub sources: IpRangeSet,
    /// Requested addresses.
    pub called: IpRangeSet,
    /// Requested ports.
    pub called_ports: PortSet,
    /// Where it leads to.
    pub address: Option<IpAddr>,
    /// Port there.
    pub port: Option<u16>,
    /// Its outcome.
    pub outcome: ForwardOutcome,
    /// The deciding steps.
    pub steps: Vec<Step>,
}
