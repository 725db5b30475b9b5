//! What can be reached from somewhere: services, step by step, and what is let through to where nothing is known to answer.

pub mod forwards;
pub mod gather;
pub mod protection;

pub use forwards::{Fate, ForwardFate};
pub use gather::{joined, joined_ports};
pub use protection::{Protection, Standing, never_meant, protection, standing};

use crate::map::EstateMap;
use crate::reachability::{AskError, From, Ground, Setout, To, outside_setouts};
use crate::services::{Service, services};
use crate::topology::Callers;
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_model::{Family, IpRange, Origin, PortRange};
use trevlin_packets::way::{Gone, Place, Step};

/// A service that is reached.
#[derive(Debug, Clone)]
pub struct Reachable {
    /// Where the connections set out, by its number.
    pub setout: usize,
    /// Addresses that are called.
    pub called: Vec<IpRange>,
    /// Ports that are called.
    pub called_ports: Vec<PortRange>,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Who reaches it.
    pub sources: Vec<IpRange>,
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
    pub setout: usize,
    /// The device that it is let through to, or the last one on the way.
    pub device: usize,
    /// To whom it leaves that device; none where it is for the device itself.
    pub gone: Option<Gone>,
    /// Interface by which it leaves.
    pub leaving: Option<String>,
    /// Number of the transport protocol.
    pub protocol: u8,
    /// Addresses, after translation.
    pub addresses: Vec<IpRange>,
    /// Ports, after translation.
    pub ports: Vec<PortRange>,
    /// Who is let through.
    pub sources: Vec<IpRange>,
    /// Whether that is everybody there, or nearly.
    pub everybody: bool,
    /// Whether it is certain.
    pub certain: bool,
    /// The port forward that leads there, where one does.
    pub forward: Option<Origin>,
    /// What decided, in order, for one of them.
    pub steps: Vec<Step>,
    /// Of what is for the device itself: the ports, by the line that lets them through last; none is a policy.
    pub by_line: BTreeMap<Option<Origin>, Vec<PortRange>>,
}

/// A device that answers requests for an echo.
#[derive(Debug, Clone)]
pub struct Ping {
    /// The device.
    pub device: usize,
    /// Its addresses that answer.
    pub addresses: Vec<IpRange>,
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
    pub setouts: Vec<Setout>,
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
    by_device: BTreeMap<usize, Vec<usize>>,
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

/// What every device serves, by device.
#[must_use]
pub fn all_services(estate: &EstateMap) -> Vec<Vec<Service>> {
    (0..estate.devices.len()).map(|at| services(estate, at)).collect()
}

/// What the outside reaches.
#[must_use]
pub fn outside(ground: &Ground<'_>, services: &[Vec<Service>]) -> Exposure {
    let (setouts, aims): (Vec<_>, Vec<_>) = outside_setouts(ground.estate()).into_iter().unzip();
    gather::gather(ground, services, setouts, &aims, true)
}

/// What the callers of a tunnel reach.
#[must_use]
pub fn callers(ground: &Ground<'_>, services: &[Vec<Service>], callers: &Callers) -> Exposure {
    let everywhere = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    gather::gather(ground, services, vec![Setout::of_callers(callers)], &[everywhere], false)
}

/// What one end of a tunnel lets in from the other: connections that enter by the tunnel, from the networks behind it.
#[must_use]
pub fn through_tunnel(
    ground: &Ground<'_>,
    services: &[Vec<Service>],
    end: &Place,
    ipsec: bool,
    sources: Vec<IpRange>,
) -> Exposure {
    let everywhere = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    let interface = Some(end.interface.clone());
    let setout = Setout { device: end.device, interface, ipsec, sources, next_to: false };
    gather::gather(ground, services, vec![setout], &[everywhere], false)
}

/// What is reached from a network, a tunnel's callers, a device or the outside.
///
/// # Errors
/// When nothing tells where that is.
pub fn from(
    ground: &Ground<'_>,
    services: &[Vec<Service>],
    from: &From,
    to: Option<&To>,
) -> Result<Exposure, AskError> {
    let all = match from {
        From::Outside => outside_setouts(ground.estate()),
        from => crate::reachability::all_setouts(ground.estate(), from)?,
    };
    let within = |reachable: Vec<IpRange>| -> Vec<IpRange> {
        let Some(To::Addresses(aims) | To::Device(_, aims)) = to else { return reachable };
        aims.iter().flat_map(|aim| reachable.iter().filter_map(|one| one.intersection(aim))).collect()
    };
    let (setouts, aims): (Vec<_>, Vec<_>) =
        all.into_iter().map(|(setout, reachable)| (setout, within(reachable))).unzip();
    Ok(gather::gather(ground, services, setouts, &aims, true))
}
