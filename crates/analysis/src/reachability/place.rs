//! Sources and destinations of connections.

use crate::addresses::{Allocation, AllocationKind};
use crate::map::EstateMap;
use crate::reachability::outside::{outside, outside_sources};
pub(super) use crate::reachability::traffic_source::clients_named;
use crate::reachability::traffic_source::names;
pub(super) use crate::reachability::traffic_source::places;
pub use crate::reachability::traffic_source::{From, NoPlace, QueryError, To, TrafficSource};
use crate::topology::{RemoteClients, router};
use ipnet::IpNet;
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_estate::special::{is_link_local, is_public};
use trevlin_model::{Family, IpRange};
use trevlin_packets::way::Place;

/// Entry points of connections: as given, otherwise from the source address.
///
/// # Errors
/// If it is not known, or a name is unknown.
pub(super) fn traffic_sources(
    estate: &EstateMap,
    from: &From,
    entering: Option<&(String, String)>,
    to: Option<IpAddr>,
) -> Result<Vec<TrafficSource>, QueryError> {
    if let Some((name, interface)) = entering {
        let place = entrance(estate, name, interface)?;
        let sources = match from {
            From::Outside => outside_sources(estate, place.device),
            From::Address(address) => vec![IpRange::from(*address)],
            From::Network(net) => vec![IpRange::from(*net)],
            From::Named(name) => named(estate, name, to)?.into_iter().flat_map(|one| one.sources).collect(),
        };
        return Ok(vec![TrafficSource::entering(&place, sources)]);
    }
    match from {
        From::Outside => outside(estate, to),
        From::Address(address) => near(estate, IpRange::from(*address), to),
        From::Network(net) => near(estate, IpRange::from(*net), to),
        From::Named(name) => named(estate, name, to),
    }
}

/// Where connections to anything set out, each with the destinations for which that is so.
///
/// # Errors
/// If it is not known, or a name is unknown.
pub fn all_traffic_sources(
    estate: &EstateMap,
    from: &From,
) -> Result<Vec<(TrafficSource, Vec<IpRange>)>, QueryError> {
    let everywhere = || vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    let mut all = Vec::new();
    for traffic_source in traffic_sources(estate, from, None, None)? {
        match (&traffic_source.interface, from) {
            (None, _) => all.extend(sent_by(estate, traffic_source.device)),
            (Some(interface), From::Address(_) | From::Network(_)) => {
                let place = Place { device: traffic_source.device, interface: interface.clone() };
                all.extend(on_network(estate, &place, &traffic_source));
            }
            _ => all.push((traffic_source, everywhere())),
        }
    }
    Ok(all)
}

/// Traffic of a device to one address.
pub(crate) fn sent_to(estate: &EstateMap, device: usize, to: IpAddr) -> TrafficSource {
    TrafficSource::sent_by(device, own_addresses(estate, device, Some(to)))
}

/// Traffic of a device, from the address that is nearest to each destination.
fn sent_by(estate: &EstateMap, device: usize) -> Vec<(TrafficSource, Vec<IpRange>)> {
    let traffic_source = |sources| TrafficSource::sent_by(device, sources);
    let mut rest = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    let mut all = Vec::new();
    let links =
        estate.devices[device].facts.interfaces.iter().filter(|one| !one.loopback && one.up != Some(false));
    for address in links.flat_map(|one| &one.addresses).filter(|one| !is_link_local(one.net.addr())) {
        let near = IpRange::from(address.net);
        all.push((traffic_source(vec![IpRange::from(address.net.addr())]), vec![near]));
        rest = rest.iter().flat_map(|one| one.without(&near)).collect();
    }
    all.push((traffic_source(own_addresses(estate, device, None)), rest));
    all
}

/// Traffic of a host of a network: to each device there directly, and to other destinations through the router.
fn on_network(
    estate: &EstateMap,
    router: &Place,
    traffic_source: &TrafficSource,
) -> Vec<(TrafficSource, Vec<IpRange>)> {
    let shape = estate.shape();
    let mut elsewhere = vec![IpRange::all(Family::V4), IpRange::all(Family::V6)];
    let Some(network) = shape.network_of(router) else { return vec![(traffic_source.clone(), elsewhere)] };
    let mut all = Vec::new();
    for place in &network.members {
        let interface =
            estate.devices[place.device].facts.interfaces.iter().find(|one| one.name == place.interface);
        let own =
            interface.into_iter().flat_map(|one| &one.addresses).map(|one| IpRange::from(one.net.addr()));
        all.push((TrafficSource::entering(place, traffic_source.sources.clone()), own.collect()));
    }
    for net in &network.prefixes {
        elsewhere = elsewhere.iter().flat_map(|one| one.without(&IpRange::from(*net))).collect();
    }
    all.push((traffic_source.clone(), elsewhere));
    all
}

fn entrance(estate: &EstateMap, name: &str, interface: &str) -> Result<Place, QueryError> {
    let names = || estate.devices.iter().map(|one| one.name.as_str()).collect::<Vec<_>>().join(", ");
    let device = estate.devices.iter().position(|one| one.name == *name);
    let device = device.ok_or_else(|| QueryError::NoDevice(name.to_owned(), names()))?;
    let known = &estate.devices[device].facts.interfaces;
    if !known.is_empty() && !known.iter().any(|one| one.name == *interface) {
        let known = known.iter().map(|one| one.name.as_str()).collect::<Vec<_>>().join(", ");
        let (device, interface) = (name.to_owned(), interface.to_owned());
        return Err(QueryError::NoInterface { device, interface, known });
    }
    Ok(Place { device, interface: interface.to_owned() })
}

/// Traffic from addresses: those of a device, of VPN clients, of a network that a device is connected to, or of untrusted networks.
fn near(estate: &EstateMap, range: IpRange, to: Option<IpAddr>) -> Result<Vec<TrafficSource>, QueryError> {
    let shape = estate.shape();
    if range.size() == 1
        && let [device] = estate.holders(range.first())
    {
        return Ok(vec![TrafficSource::sent_by(*device, vec![range])]);
    }
    // A pool inside a network is the more exact of the two; the same range as a network's is the network.
    let prefixes = || shape.networks.iter().flat_map(|network| &network.prefixes);
    let near = prefixes()
        .map(|net| IpRange::from(*net))
        .filter(|net| net.covers(&range))
        .map(|net| net.size())
        .min();
    let exact = |held: &IpRange| held.covers(&range) && near.is_none_or(|near| held.size() < near);
    // Of several the most exact, and those that run before those that do not. A peer that may have any address says nothing of where one is.
    let size = |one: &RemoteClients| {
        let held = one
            .ranges
            .iter()
            .filter(|held| exact(held) && held.network().is_none_or(|net| net.prefix_len() > 1));
        held.map(IpRange::size).min()
    };
    let runs = |one: &RemoteClients| {
        let facts = &estate.devices[one.device].facts;
        !facts.interfaces_run || facts.interfaces.iter().any(|own| own.name == one.interface)
    };
    let rank = |one: &RemoteClients| Some((!runs(one), size(one)?));
    let best = shape.clients.iter().filter_map(rank).min();
    let clients: Vec<&RemoteClients> =
        shape.clients.iter().filter(|one| best.is_some() && rank(one) == best).collect();
    if !clients.is_empty() {
        let one_of_several = clients.len() > 1;
        let of = |one: &&RemoteClients| TrafficSource {
            sources: vec![range],
            one_of_several,
            ..TrafficSource::of_clients(one)
        };
        return Ok(clients.iter().map(of).collect());
    }
    // The networks with the longest prefix that hold it.
    let mut best: BTreeMap<u8, Vec<usize>> = BTreeMap::new();
    for (number, network) in shape.networks.iter().enumerate() {
        let longest = network
            .prefixes
            .iter()
            .filter(|net| IpRange::from(**net).covers(&range))
            .map(IpNet::prefix_len)
            .max();
        if let Some(length) = longest {
            best.entry(length).or_default().push(number);
        }
    }
    let Some((_, numbers)) = best.pop_last() else {
        let outside_it = is_public(range.first()) && is_public(range.last());
        return match outside_it {
            true => Ok(outside(estate, to)?
                .into_iter()
                .map(|one| TrafficSource { sources: vec![range], ..one })
                .collect()),
            false => routed_behind(estate, range),
        };
    };
    let mut found = Vec::new();
    for number in numbers {
        found.extend(first_hop(estate, number, range, to)?);
    }
    let one_of_several = found.len() > 1;
    Ok(found.into_iter().map(|one| TrafficSource { one_of_several, ..one }).collect())
}

/// A network that no device is on, but that one of them routes to: it is entered from there.
fn routed_behind(estate: &EstateMap, range: IpRange) -> Result<Vec<TrafficSource>, QueryError> {
    let mut all: Vec<Place> = Vec::new();
    for (device, one) in estate.devices.iter().enumerate() {
        for route in one.facts.routes.iter().filter(|route| route.forwards && !route.is_default()) {
            let (Some(interface), Some(gateway)) = (&route.interface, route.gateway) else { continue };
            if IpRange::from(route.destination).covers(&range) && estate.holders(gateway).is_empty() {
                all.push(Place { device, interface: interface.clone() });
            }
        }
    }
    all.dedup();
    chosen_of(&all, range)
}

/// Each of several places, or the only one.
fn chosen_of(all: &[Place], range: IpRange) -> Result<Vec<TrafficSource>, QueryError> {
    if all.is_empty() {
        return Err(QueryError::Entering);
    }
    let one_of_several = all.len() > 1;
    let of = |place: &Place| TrafficSource { one_of_several, ..TrafficSource::entering(place, vec![range]) };
    Ok(all.iter().map(of).collect())
}

/// First hop of traffic from a host of a network: the owner of the address there, otherwise the router of the network.
fn first_hop(
    estate: &EstateMap,
    number: usize,
    range: IpRange,
    to: Option<IpAddr>,
) -> Result<Vec<TrafficSource>, QueryError> {
    let shape = estate.shape();
    let network = &shape.networks[number];
    if let Some(to) = to {
        if let Some(place) = shape.shape.holder(number, to) {
            return Ok(vec![TrafficSource::entering(place, vec![range])]);
        }
        if network.prefixes.iter().any(|net| net.contains(&to)) {
            let place = network.members.first().ok_or(QueryError::Entering)?;
            return Ok(vec![TrafficSource { next_to: true, ..TrafficSource::entering(place, vec![range]) }]);
        }
    }
    if leads_out(estate, number) {
        // A neighbour on the provider's network sends to the provider's router.
        let sources = vec![range];
        let all = outside(estate, to)?.into_iter();
        return Ok(all.map(|one| TrafficSource { sources: sources.clone(), ..one }).collect());
    }
    match router(estate, shape, number) {
        Ok(place) => Ok(vec![TrafficSource::entering(&place, vec![range])]),
        Err(all) => chosen_of(&all, range),
    }
}

/// Whether the hosts of a network send to a router of an untrusted network: every device on it faces one there, and their own next hop is
/// none of them.
fn leads_out(estate: &EstateMap, number: usize) -> bool {
    let shape = estate.shape();
    let network = &shape.networks[number];
    let held = |place: &Place| {
        let routes = estate.devices[place.device].facts.routes.iter().filter(|route| route.is_default());
        let here = routes.filter(|route| route.interface.as_ref() == Some(&place.interface));
        here.filter_map(|route| route.gateway).any(|gateway| shape.shape.holder(number, gateway).is_some())
    };
    network.members.iter().all(|place| shape.outside.contains(place) && !held(place))
}

/// A device, the clients of a tunnel (by its name, or by device and name), or a group of users.
fn named(estate: &EstateMap, name: &str, to: Option<IpAddr>) -> Result<Vec<TrafficSource>, QueryError> {
    if let Some(device) = estate.devices.iter().position(|one| one.name == name) {
        let sources = own_addresses(estate, device, to);
        if sources.is_empty() {
            return Err(QueryError::NoAddress(name.to_owned()));
        }
        return Ok(vec![TrafficSource::sent_by(device, sources)]);
    }
    let clients = clients_named(estate, name);
    if !clients.is_empty() {
        return Ok(clients.into_iter().map(TrafficSource::of_clients).collect());
    }
    let group = members_of(estate, name);
    if !group.is_empty() {
        return Ok(group);
    }
    Err(QueryError::NoName(name.to_owned(), names(estate)))
}

/// Members of a group of users, by the addresses that tunnels keep for them.
fn members_of(estate: &EstateMap, name: &str) -> Vec<TrafficSource> {
    let groups = estate.devices.iter().flat_map(|one| &one.facts.groups).filter(|one| one.name == name);
    let members: Vec<&String> = groups.flat_map(|one| &one.members).collect();
    if members.is_empty() {
        return Vec::new();
    }
    let kept = |allocation: &&Allocation| {
        allocation.kind == AllocationKind::FixedAddress
            && allocation.who.as_ref().is_some_and(|who| members.contains(&who))
    };
    let fixed: Vec<&Allocation> = estate.plan().allocations.iter().filter(kept).collect();
    let mut found = Vec::new();
    for clients in &estate.shape().clients {
        let own = fixed.iter().filter(|allocation| {
            allocation.device == clients.device
                && clients.ranges.iter().any(|range| range.covers(&allocation.range))
        });
        let sources: Vec<IpRange> = own.map(|allocation| allocation.range).collect();
        if !sources.is_empty() {
            found.push(TrafficSource { sources, ..TrafficSource::of_clients(clients) });
        }
    }
    found
}

/// The addresses that a device sends from: for one destination the one nearest to it of each IP version.
fn own_addresses(estate: &EstateMap, device: usize, to: Option<IpAddr>) -> Vec<IpRange> {
    let facts = &estate.devices[device].facts;
    let default = facts.routes.iter().filter(|route| route.is_default());
    let by: Vec<&String> = default.filter_map(|route| route.interface.as_ref()).collect();
    let mut all = Vec::new();
    for family in [Family::V4, Family::V6] {
        let held = facts.interfaces.iter().filter(|one| !one.loopback && one.up != Some(false));
        let addresses = held.flat_map(|one| one.addresses.iter().map(move |address| (one, address.net)));
        let fitting =
            addresses.filter(|(_, net)| Family::of(net.addr()) == family && !is_link_local(net.addr()));
        let best = fitting.max_by_key(|(one, net)| {
            (to.is_some_and(|to| net.contains(&to)), by.contains(&&one.name), std::cmp::Reverse(net.addr()))
        });
        all.extend(best.map(|(_, net)| IpRange::from(net.addr())));
    }
    all
}
