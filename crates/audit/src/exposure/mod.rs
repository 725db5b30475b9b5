//! What can be reached from somewhere: services, step by step, and what is let through to where nothing is known to answer.

mod forwards;
mod gather;
mod protection;
mod sheet;

pub use forwards::{Fate, ForwardFate};
pub use protection::{Protection, Standing, never_meant, protection, standing};
pub use sheet::{
    ExposureSheet, ForwardRow, GuessRow, OpeningRow, PingRow, ReachedRow, ServiceRow, StartRow, sheet,
};

use crate::reach::{Ground, Setout, outside_sources};
use crate::services::{Service, services};
use crate::shape::Callers;
use crate::special::is_link_local;
use crate::{Estate, reach::AskError, reach::From};
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

/// What can be reached from somewhere.
#[derive(Debug, Clone, Default)]
pub struct Exposure {
    /// Where connections set out.
    pub setouts: Vec<Setout>,
    /// Services that are reached, by device and port.
    pub reached: Vec<Reachable>,
    /// What is let through besides.
    pub openings: Vec<Opening>,
    /// What becomes of each port forward that such connections meet.
    pub forwards: Vec<ForwardFate>,
    /// Devices that answer requests for an echo.
    pub pings: Vec<Ping>,
    /// Whether something was left out, because there would have been too much.
    pub cut: bool,
}

/// What every device serves, by device.
#[must_use]
pub fn all_services(estate: &Estate) -> Vec<Vec<Service>> {
    (0..estate.devices.len()).map(|at| services(estate, at)).collect()
}

/// What the outside reaches.
#[must_use]
pub fn outside(ground: &Ground<'_>, services: &[Vec<Service>]) -> Exposure {
    let estate = ground.estate();
    let shape = estate.shape();
    let sources = outside_sources(estate);
    let setouts: Vec<Setout> = shape
        .outside
        .iter()
        .map(|place| Setout {
            device: place.device,
            interface: Some(place.interface.clone()),
            ipsec: false,
            sources: sources.clone(),
            next_to: false,
        })
        .collect();
    let aims: Vec<Vec<IpRange>> = shape.outside.iter().map(|place| aimable(estate, place)).collect();
    gather::gather(ground, services, setouts, &aims, true)
}

/// What the callers of a tunnel reach.
#[must_use]
pub fn callers(ground: &Ground<'_>, services: &[Vec<Service>], callers: &Callers) -> Exposure {
    let everywhere = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    gather::gather(ground, services, vec![Setout::of_callers(callers)], &[everywhere], false)
}

/// What is reached from a network, a tunnel's callers, a device or the outside.
///
/// # Errors
/// When nothing tells where that is.
pub fn from(ground: &Ground<'_>, services: &[Vec<Service>], from: &From) -> Result<Exposure, AskError> {
    if *from == From::Outside {
        return Ok(outside(ground, services));
    }
    let (setouts, aims): (Vec<_>, Vec<_>) =
        crate::reach::all_setouts(ground.estate(), from)?.into_iter().unzip();
    Ok(gather::gather(ground, services, setouts, &aims, true))
}

/// Destinations that the outside sends to an interface: its own addresses, those that port forwards take, and public networks that
/// lie behind it. What a host of the very same network might send besides is told by the checks on what is open by default.
fn aimable(estate: &Estate, place: &Place) -> Vec<IpRange> {
    let facts = &estate.devices[place.device].facts;
    let mut all: Vec<IpRange> = Vec::new();
    let own = facts.interfaces.iter().find(|one| one.name == place.interface);
    let own_networks: Vec<IpRange> = own
        .into_iter()
        .flat_map(|one| &one.addresses)
        .filter(|one| !is_link_local(one.net.addr()))
        .map(|one| IpRange::from(one.net.trunc()))
        .collect();
    let far = own.into_iter().flat_map(|one| &one.addresses).filter(|one| !is_link_local(one.net.addr()));
    all.extend(far.map(|one| IpRange::from(one.net.addr())));
    all.extend(facts.forwards.iter().flat_map(|forward| forward.arriving_at.iter().copied()));
    let behind = facts.interfaces.iter().filter(|one| one.name != place.interface && !one.loopback);
    all.extend(behind.flat_map(|one| &one.addresses).map(|one| IpRange::from(one.net.trunc())));
    let routed = facts.routes.iter().filter(|route| {
        route.forwards && !route.is_default() && route.interface.as_ref() != Some(&place.interface)
    });
    all.extend(routed.map(|route| IpRange::from(route.destination)));
    let public = crate::special::public_ranges();
    let mut kept: Vec<IpRange> = Vec::new();
    for range in all {
        let carried: Vec<IpRange> = public.iter().filter_map(|one| one.intersection(&range)).collect();
        // Private addresses of its own network are met only where the estate file says that this is the outside.
        let near = own_networks.iter().any(|net| net.covers(&range));
        kept = gather::joined(&kept, &if near { vec![range] } else { carried });
    }
    kept
}
