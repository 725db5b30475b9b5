//! Services reachable from a source, with every step, and permitted traffic without a known service.

pub mod forwards;
pub(crate) mod found;
pub mod gather;
pub mod protection;
mod reached;

pub use forwards::{ForwardOutcome, ForwardResult, is_on_a_network, owner_of};
pub use protection::{Protection, ProtectionEvidence, never_meant, protection, protection_evidence};
pub use reached::{BeyondExport, Breadth, Exposure, Opening, Ping, Reachable};

use crate::map::EstateMap;
use crate::reachability::{From, NetworkModel, QueryError, To, TrafficSource, internet_entry_points};
use crate::services::{Service, services};
use crate::topology::RemoteClients;
use trevlin_model::{Family, IpRange};
use trevlin_packets::way::Place;

/// Services of every device, by device.
#[must_use]
pub fn all_services(estate: &EstateMap) -> Vec<Vec<Service>> {
    (0..estate.devices.len()).map(|at| services(estate, at)).collect()
}

/// Exposure to untrusted networks.
#[must_use]
pub fn outside(ground: &NetworkModel<'_>, services: &[Vec<Service>]) -> Exposure {
    let (traffic_sources, aims): (Vec<_>, Vec<_>) =
        internet_entry_points(ground.estate()).into_iter().unzip();
    gather::gather(ground, services, traffic_sources, &aims, true)
}

/// Networks and services that the clients of a tunnel reach.
#[must_use]
pub fn clients(ground: &NetworkModel<'_>, services: &[Vec<Service>], clients: &RemoteClients) -> Exposure {
    let everywhere = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    gather::gather(ground, services, vec![TrafficSource::of_clients(clients)], &[everywhere], false)
}

/// Traffic that a device accepts by one of its interfaces: from the other end of a tunnel, or from the hosts of a network.
#[must_use]
pub fn entering(
    ground: &NetworkModel<'_>,
    services: &[Vec<Service>],
    end: &Place,
    ipsec: bool,
    sources: Vec<IpRange>,
) -> Exposure {
    let everywhere = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    let traffic_source = TrafficSource { ipsec, ..TrafficSource::entering(end, sources) };
    gather::gather(ground, services, vec![traffic_source], &[everywhere], false)
}

/// Services reachable from a network, a tunnel's clients, a device or the Internet.
///
/// # Errors
/// If the location of the source is not known.
pub fn from(
    ground: &NetworkModel<'_>,
    services: &[Vec<Service>],
    from: &From,
    to: Option<&To>,
) -> Result<Exposure, QueryError> {
    let all = match from {
        From::Outside => internet_entry_points(ground.estate()),
        from => crate::reachability::all_traffic_sources(ground.estate(), from)?,
    };
    let within = |reachable: Vec<IpRange>| -> Vec<IpRange> {
        let Some(To::Addresses(aims) | To::Device(_, aims)) = to else { return reachable };
        aims.iter().flat_map(|aim| reachable.iter().filter_map(|one| one.intersection(aim))).collect()
    };
    let (traffic_sources, aims): (Vec<_>, Vec<_>) =
        all.into_iter().map(|(traffic_source, reachable)| (traffic_source, within(reachable))).unzip();
    Ok(gather::gather(ground, services, traffic_sources, &aims, true))
}
