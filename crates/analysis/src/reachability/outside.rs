//! Entry points and addresses of traffic from untrusted networks.

use crate::map::EstateMap;
use crate::reachability::place::{QueryError, TrafficSource};
use std::net::IpAddr;
use trevlin_estate::special::{is_link_local, is_public, public_ranges};
use trevlin_model::IpRange;
use trevlin_model::IpRangeSet;
use trevlin_packets::way::Place;

/// Internet addresses apart from the device's own internal networks.
pub(super) fn outside_sources(estate: &EstateMap, device: usize) -> Vec<IpRange> {
    let faces = |name: &str| estate.outside(device).iter().any(|one| one.name == name);
    let inside =
        estate.devices[device].facts.interfaces.iter().filter(|one| !one.loopback && !faces(&one.name));
    let mut all = public_ranges();
    for net in inside.flat_map(|one| &one.addresses).filter(|one| is_public(one.net.addr())) {
        let range = IpRange::from(net.net.trunc());
        all = all.iter().flat_map(|one| one.without(&range)).collect();
    }
    all
}

/// Entry points of connections from untrusted networks, each with the destinations used there.
#[must_use]
pub fn internet_entry_points(estate: &EstateMap) -> Vec<(TrafficSource, Vec<IpRange>)> {
    let all = estate.shape().outside.iter();
    all.map(|place| {
        (TrafficSource::entering(place, outside_sources(estate, place.device)), aimable(estate, place))
    })
    .collect()
}

/// Destinations of traffic from untrusted networks at an interface: its own addresses, those of port forwards, and public networks behind
/// it. Further traffic from hosts of the same network is covered by the checks on default policies.
fn aimable(estate: &EstateMap, place: &Place) -> Vec<IpRange> {
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
    let before = all.len();
    all.extend(far.map(|one| IpRange::from(one.net.addr())));
    // A dynamic address may be any; a forward without a destination condition accepts all traffic.
    let any_taken = facts.forwards.iter().any(|forward| forward.arriving_at.is_empty());
    if all.len() == before && any_taken {
        all.extend(public_ranges().into_iter().filter(|range| range.first().is_ipv4()));
    }
    all.extend(facts.forwards.iter().flat_map(|forward| forward.arriving_at.iter().copied()));
    let behind = facts.interfaces.iter().filter(|one| one.name != place.interface && !one.loopback);
    all.extend(behind.flat_map(|one| &one.addresses).map(|one| IpRange::from(one.net.trunc())));
    let routed = facts.routes.iter().filter(|route| {
        route.forwards && !route.is_default() && route.interface.as_ref() != Some(&place.interface)
    });
    all.extend(routed.map(|route| IpRange::from(route.destination)));
    let public = public_ranges();
    let mut kept = IpRangeSet::new();
    for range in all {
        let carried: Vec<IpRange> = public.iter().filter_map(|one| one.intersection(&range)).collect();
        // Private addresses of its own network are included only where the estate file marks the interface as facing an untrusted network.
        let near = own_networks.iter().any(|net| net.covers(&range));
        kept.extend(&if near { vec![range] } else { carried });
    }
    kept.into_ranges()
}

/// Entry points of connections from untrusted networks to an address: the addressed device, or the one in front of it.
pub(super) fn outside(estate: &EstateMap, to: Option<IpAddr>) -> Result<Vec<TrafficSource>, QueryError> {
    let all = &estate.shape().outside;
    let sources = |place: &Place| outside_sources(estate, place.device);
    let Some(to) = to else {
        return match all.as_slice() {
            [] => Err(QueryError::Entering),
            all => Ok(all.iter().map(|place| TrafficSource::entering(place, sources(place))).collect()),
        };
    };
    // Where the address is routed: to the interface that has it, to its network, to a device that translates it or has it elsewhere, or to
    // one behind which it lies.
    let facts = |place: &Place| &estate.devices[place.device].facts;
    let has = |place: &&Place| {
        let own = facts(place).interfaces.iter().filter(|one| one.name == place.interface);
        own.flat_map(|one| &one.addresses).any(|one| one.net.addr() == to)
    };
    let near = |place: &&Place| {
        let own = facts(place).interfaces.iter().filter(|one| one.name == place.interface);
        own.flat_map(|one| &one.addresses).any(|one| one.net.prefix_len() > 0 && one.net.contains(&to))
    };
    let translates = |place: &&Place| {
        let held = estate.holders(to).contains(&place.device);
        held || facts(place)
            .forwards
            .iter()
            .any(|forward| forward.arriving_at.iter().any(|one| one.contains(to)))
    };
    let behind = |place: &&Place| {
        let other = facts(place).interfaces.iter().filter(|one| one.name != place.interface && !one.loopback);
        let connected = other.flat_map(|one| &one.addresses).any(|address| address.net.contains(&to));
        let routed = facts(place).routes.iter().any(|route| {
            !route.is_default()
                && route.forwards
                && route.destination.contains(&to)
                && route.interface.as_ref() != Some(&place.interface)
        });
        connected || routed
    };
    let by: [&dyn Fn(&&Place) -> bool; 5] = [&has, &near, &translates, &behind, &|_| true];
    let chosen = by.iter().map(|fits| all.iter().filter(|place| fits(place)).collect::<Vec<_>>());
    let Some(chosen) = chosen.into_iter().find(|chosen| !chosen.is_empty()) else {
        return Err(QueryError::Entering);
    };
    let one_of_several = chosen.len() > 1;
    let source =
        |place: &&Place| TrafficSource { one_of_several, ..TrafficSource::entering(place, sources(place)) };
    Ok(chosen.iter().map(source).collect())
}
