//! What is reached: the outcome.

use crate::reachability::TrafficSource;
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_model::{Family, IpRangeSet, Origin, PortSet};
use trevlin_packets::way::{Egress, Step};

/// A service that is reached.
#[derive(Debug, Clone)]
pub struct Reachable {
    /// Where the connections set out, by its number.
    pub traffic_source: usize,
    /// Addresses that are called.
    pub called: IpRangeSet,
    /// Ports that are called.
    pub called_ports: PortSet,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Who reaches it.
    pub sources: IpRangeSet,
    /// Whether that is everybody there, or nearly.
    pub everybody: bool,
    /// The device that serves it.
    pub device: usize,
    /// The service, by its number among those of the device.
    pub service: usize,
    /// Address at which it answers.
    pub address: IpAddr,
    /// Whether it is certain; else a rule that is not modelled decides.
    pub certain: bool,
    /// The port forward that leads there, where one does.
    pub forward: Option<Origin>,
    /// What decided, in order.
    pub steps: Vec<Step>,
}

/// Something that is let through to where no known service answers.
#[derive(Debug, Clone)]
pub struct Opening {
    /// Where the connections set out, by its number.
    pub traffic_source: usize,
    /// The device that it is let through to, or the last one on the way.
    pub device: usize,
    /// To whom it leaves that device; none where it is for the device itself.
    pub gone: Option<Egress>,
    /// Interface by which it leaves.
    pub leaving: Option<String>,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Addresses, after translation.
    pub addresses: IpRangeSet,
    /// Ports, after translation.
    pub ports: PortSet,
    /// Who is let through.
    pub sources: IpRangeSet,
    /// Whether that is everybody there, or nearly.
    pub everybody: bool,
    /// Whether it is certain.
    pub certain: bool,
    /// The port forward that leads there, where one does.
    pub forward: Option<Origin>,
    /// What decided, in order, for one of them.
    pub steps: Vec<Step>,
    /// Of what is for the device itself: the ports, by the line that lets them through last; none is a policy.
    pub by_line: BTreeMap<Option<Origin>, PortSet>,
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
    /// What decided.
    pub steps: Vec<Step>,
}

/// How much is let through to hosts that do not lie outside, by one protocol of one IP version.
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

/// What can be reached from somewhere.
#[derive(Debug, Clone, Default)]
pub struct Exposure {
    /// Where connections set out.
    pub traffic_sources: Vec<TrafficSource>,
    /// Services that are reached, by device and port.
    pub reached: Vec<Reachable>,
    /// What is let through besides.
    pub openings: Vec<Opening>,
    /// What is let through to the outside, where the connections do not come from there.
    pub outwards: Vec<Opening>,
    /// What becomes of each port forward that such connections meet.
    pub forwards: Vec<ForwardFate>,
    /// Devices that answer requests for an echo.
    pub pings: Vec<Ping>,
    /// How wide it is.
    pub breadth: Vec<Breadth>,
    /// Whether something was left out, because there would have been too much.
    pub cut: bool,
    /// Numbers of what is reached, by device.
    pub(crate) by_device: BTreeMap<usize, Vec<usize>>,
}

impl Exposure {
    /// What is reached of one device, in the same order.
    pub fn reached_of(&self, device: usize) -> impl Iterator<Item = &Reachable> {
        self.by_device.get(&device).into_iter().flatten().map(|at| &self.reached[*at])
    }

    /// Devices of which something is reached, in order.
    pub fn reached_devices(&self) -> impl Iterator<Item = usize> {
        self.by_device.keys().copied()
    }

    /// What is reached of each device of which something is.
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
    /// To an address that something in the exports lays claim to, but whose device was not exported: by the number of the claim.
    Claimed(usize),
    /// To an address that nothing lays claim to.
    NobodyThere,
    /// Nowhere: it is stopped further in.
    BlockedLater,
    /// Packets that go in a circle, or that no route takes on.
    Lost,
    /// Whether it leads anywhere hangs on what is not known.
    Depends,
    /// Nowhere: nothing that comes from there meets it.
    NeverMet,
}

/// What becomes of one port forward.
#[derive(Debug, Clone)]
pub struct ForwardFate {
    /// The device.
    pub device: usize,
    /// The forward, by its number among those of the device.
    pub number: usize,
    /// Its line.
    pub origin: Origin,
    /// Number of the transport protocol it is met by.
    pub protocol: Option<u8>,
    /// Who meets it.
    pub sources: IpRangeSet,
    /// Addresses that are called.
    pub called: IpRangeSet,
    /// Ports that are called.
    pub called_ports: PortSet,
    /// Where it leads to.
    pub address: Option<IpAddr>,
    /// Port there.
    pub port: Option<u16>,
    /// What becomes of it.
    pub fate: ForwardOutcome,
    /// What decided.
    pub steps: Vec<Step>,
}
