//! Services behind relays: a client that reaches a relay reaches its server, with the address of the relay as the source.

use crate::exposure::Exposure;
use crate::exposure::gather::nearly_all;
use crate::map::EstateMap;
use crate::reachability::{NetworkModel, OWN_CHOICE, sent_to};
use crate::services::{Known, Service, is_off};
use std::collections::BTreeSet;
use std::net::IpAddr;
use trevlin_model::relay::Relay;
use trevlin_model::{Device, Family, IpRange, IpRangeSet, PortRange};
use trevlin_packets::way::{Egress, Sent, Step, Verdict};

/// The server of a relay that untrusted networks reach.
#[derive(Debug, Clone)]
pub struct Relayed {
    /// How the first relay is reached: number among the services that are reached.
    pub reached: usize,
    /// The relays in the order in which a connection passes them: the device, and the relay's number among its relays.
    pub through: Vec<(usize, usize)>,
    /// The server.
    pub target: RelayTarget,
    /// Clients whose connections are taken on.
    pub clients: IpRangeSet,
    /// Whether all, or nearly all, sources there are included.
    pub everybody: bool,
    /// Addresses that the server sees as the source.
    pub seen_as: Vec<IpRange>,
    /// Whether it is certain; otherwise a condition that is not analysed decides.
    pub certain: bool,
    /// The deciding steps behind the first relay, in order.
    pub steps: Vec<Step>,
}

/// The server of a relay.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RelayTarget {
    /// A service of a device, by its number.
    Service {
        /// The device.
        device: usize,
        /// The service.
        service: usize,
    },
    /// A host of which no service at the port is known.
    Host {
        /// Its address.
        address: IpAddr,
        /// Its device, where it was exported.
        device: Option<usize>,
    },
    /// A name or a path that the exports do not resolve.
    Unresolved,
}

/// A relay chain is followed so far.
const MOST_RELAYS: usize = 4;
/// No more relays are followed than this.
const MOST: usize = 4096;

impl Relayed {
    /// The last relay, which connects to the server.
    #[must_use]
    pub fn last<'e>(&self, estate: &'e EstateMap) -> &'e Relay {
        let (device, number) = self.through[self.through.len() - 1];
        &estate.devices[device].facts.relays[number]
    }
}

/// Servers behind the relays that are reached.
pub(crate) fn behind(
    ground: &NetworkModel<'_>,
    services: &[Vec<Service>],
    exposure: &Exposure,
) -> Vec<Relayed> {
    let estate = ground.estate();
    let mut found: Vec<Relayed> = Vec::new();
    for (number, reached) in exposure.reached.iter().enumerate() {
        let service = &services[reached.device][reached.service];
        let sources = &exposure.traffic_sources[reached.traffic_source].sources;
        for (at, relay) in relays_of(&estate.devices[reached.device], service) {
            let clients = reached.sources.intersection(&relay.sources.ranges);
            if clients.is_empty() {
                continue;
            }
            let before = Relayed {
                reached: number,
                through: vec![(reached.device, at)],
                target: RelayTarget::Unresolved,
                everybody: reached.everybody && nearly_all(&clients, sources),
                clients,
                seen_as: Vec::new(),
                certain: reached.certain,
                steps: Vec::new(),
            };
            follow(ground, services, before, &mut found);
        }
    }
    found
}

/// Relays that listen at the place of a service, with their numbers.
pub fn relays_of<'e>(device: &'e Device, service: &'e Service) -> impl Iterator<Item = (usize, &'e Relay)> {
    let met = service.known != Known::Absent && service.known != Known::Disabled;
    let relays = device.facts.relays.iter().enumerate().filter(move |_| met);
    relays.filter(move |(_, relay)| {
        relay.endpoints.iter().any(|at| {
            at.protocol.0 == Some(service.protocol)
                && at.port == service.port
                && (at.address == service.address || at.address.is_none() || service.address.is_none())
        }) && !is_off(device, relay)
    })
}

/// Adds the servers of the last relay, and of relays among them.
fn follow(ground: &NetworkModel<'_>, services: &[Vec<Service>], before: Relayed, found: &mut Vec<Relayed>) {
    let estate = ground.estate();
    for one in servers(ground, services, &before) {
        if found.len() >= MOST {
            return;
        }
        if let RelayTarget::Service { device, service } = one.target
            && one.through.len() < MOST_RELAYS
        {
            for (at, relay) in relays_of(&estate.devices[device], &services[device][service]) {
                let admitted = one
                    .seen_as
                    .iter()
                    .any(|seen| relay.sources.ranges.iter().any(|own| own.intersection(seen).is_some()));
                if admitted && !one.through.contains(&(device, at)) {
                    let mut next = one.clone();
                    next.through.push((device, at));
                    follow(ground, services, next, found);
                }
            }
        }
        found.push(one);
    }
}

/// The servers to which the last relay connects.
fn servers(ground: &NetworkModel<'_>, services: &[Vec<Service>], before: &Relayed) -> Vec<Relayed> {
    let estate = ground.estate();
    let (own, _) = before.through[before.through.len() - 1];
    let relay = before.last(estate);
    let unresolved = || vec![Relayed { target: RelayTarget::Unresolved, ..before.clone() }];
    let opener = match &relay.opened_by {
        None => own,
        Some(host) => {
            match addresses_of(estate, host).and_then(|all| estate.holders(*all.first()?).first().copied()) {
                Some(device) => device,
                None => return unresolved(),
            }
        }
    };
    if is_localhost(&relay.host) {
        return at_device(services, before, relay, opener, None).unwrap_or_else(unresolved);
    }
    let Some(addresses) = addresses_of(estate, &relay.host) else { return unresolved() };
    let mut all = Vec::new();
    for address in addresses {
        if estate.holders(address) == [opener] {
            all.extend(at_device(services, before, relay, opener, Some(address)).unwrap_or_else(unresolved));
        } else {
            all.extend(over_network(ground, services, before, relay, opener, address));
        }
    }
    all
}

fn is_localhost(host: &str) -> bool {
    host == "localhost"
        || host.parse::<IpAddr>().is_ok_and(|address| address.is_loopback() || address.is_unspecified())
}

/// Addresses of a host as written: an address, or the name of a device of the estate with or without a domain.
fn addresses_of(estate: &EstateMap, host: &str) -> Option<Vec<IpAddr>> {
    if let Ok(address) = host.parse() {
        return Some(vec![address]);
    }
    let name = host.split('.').next().unwrap_or(host);
    let device = estate.devices.iter().find(|one| one.name.eq_ignore_ascii_case(name))?;
    let held = device.facts.interfaces.iter().filter(|one| !one.loopback && one.up != Some(false));
    let first = held.flat_map(|one| &one.addresses).map(|one| one.net.addr()).find(IpAddr::is_ipv4);
    first.map(|address| vec![address])
}

/// The services of the device itself: it connects by the loopback interface.
fn at_device(
    services: &[Vec<Service>],
    before: &Relayed,
    relay: &Relay,
    device: usize,
    own: Option<IpAddr>,
) -> Option<Vec<Relayed>> {
    let loopback =
        relay.host.parse().ok().filter(IpAddr::is_loopback).unwrap_or(IpAddr::from([127, 0, 0, 1]));
    let address = own.unwrap_or(loopback);
    let serves = |one: &Service| {
        Some(one.protocol) == relay.protocol.0
            && one.port == relay.port
            && one.known != Known::Disabled
            && (one.answers_at(address) || (own.is_none() && one.is_local()))
    };
    let found = services[device].iter().enumerate().filter(|(_, one)| serves(one));
    let seen_as = seen(relay, before, vec![IpRange::from(address)]);
    let all: Vec<Relayed> = found
        .map(|(service, _)| Relayed {
            target: RelayTarget::Service { device, service },
            seen_as: seen_as.clone(),
            ..before.clone()
        })
        .collect();
    if all.is_empty() {
        let target = RelayTarget::Host { address, device: Some(device) };
        return Some(vec![Relayed { target, seen_as, ..before.clone() }]);
    }
    Some(all)
}

/// Addresses that the server sees: those of the relay, unless it hands on the client's.
fn seen(relay: &Relay, before: &Relayed, own: Vec<IpRange>) -> Vec<IpRange> {
    if relay.source_kept_origin.is_some() { before.clients.iter().copied().collect() } else { own }
}

/// The services that a device's connections to an address reach.
fn over_network(
    ground: &NetworkModel<'_>,
    services: &[Vec<Service>],
    before: &Relayed,
    relay: &Relay,
    opener: usize,
    address: IpAddr,
) -> Vec<Relayed> {
    const MOST_CELLS: usize = 256;
    let estate = ground.estate();
    let family = Family::of(address);
    let start = sent_to(estate, opener, address);
    let sources: Vec<IpRange> = start.sources.iter().filter(|one| one.family() == family).copied().collect();
    if sources.is_empty() {
        return vec![Relayed { target: RelayTarget::Unresolved, ..before.clone() }];
    }
    let sent = Sent {
        family,
        protocol: relay.protocol.0.unwrap_or(6),
        destinations: vec![IpRange::from(address)],
        sources: sources.clone(),
        ports: vec![PortRange { first: relay.port, last: relay.port }],
        source_ports: vec![OWN_CHOICE],
    };
    let seen_as = seen(relay, before, sources);
    let mut all = Vec::new();
    let mut known = BTreeSet::new();
    for cell in ground.net().explore(start.start(), &sent, MOST_CELLS).cells {
        let Some(delivery) = cell.delivery.filter(|_| cell.answer.verdict != Verdict::Blocked) else {
            continue;
        };
        let certain = before.certain && cell.answer.verdict == Verdict::Allowed;
        let one = |target| Relayed {
            target,
            seen_as: seen_as.clone(),
            certain,
            steps: before.steps.iter().chain(&cell.answer.steps).cloned().collect(),
            ..before.clone()
        };
        let before = all.len();
        if delivery.gone.is_none() {
            let serves = |one: &Service| {
                one.protocol == sent.protocol
                    && one.port == delivery.port
                    && one.known != Known::Disabled
                    && !one.is_local()
                    && one.answers_at(delivery.address)
            };
            let device = delivery.device;
            for (service, _) in services[device].iter().enumerate().filter(|(_, one)| serves(one)) {
                if known.insert((device, service)) {
                    all.push(one(RelayTarget::Service { device, service }));
                }
            }
        }
        if all.len() == before && delivery.gone != Some(Egress::Outside) && known.is_empty() {
            let device = delivery.gone.is_none().then_some(delivery.device);
            all.push(one(RelayTarget::Host { address: delivery.address, device }));
        }
    }
    all
}
