//! Tunnel interfaces of two devices with addresses of one network: they are the ends of one link, whatever is known of the tunnel itself.

use crate::topology::tunnels::answers_at;
use crate::topology::{SiteLink, Topology};
use ipnet::IpNet;
use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use trevlin_estate::assemble::Estate;
use trevlin_estate::special::is_link_local;
use trevlin_model::{IpRange, Origin, Protocol, Tunnel, TunnelFamily};
use trevlin_packets::way::{Place, Wire};

/// An interface of a link.
#[derive(Debug, Clone)]
struct End {
    place: Place,
    addresses: Vec<IpAddr>,
    origin: Origin,
}

/// Joins the ends of links that nothing else joined.
pub(super) fn join(estate: &Estate, all: &mut Topology) {
    for ends in groups(estate) {
        let open: Vec<usize> =
            (0..ends.len()).filter(|at| all.shape.takes_nothing(&ends[*at].place)).collect();
        for at in open {
            for (to, takes) in others(estate, &ends, at) {
                let (here, there) = (&ends[at], &ends[to]);
                let accepts = accepted(estate, there, here);
                let addresses = there.addresses.clone();
                let wire = Wire { takes, accepts, addresses, to: there.place.clone() };
                all.shape.wire(here.place.clone(), wire);
                let mut both = [here.place.clone(), there.place.clone()];
                both.sort();
                if !all.joined.iter().any(|one| one.ends == both) {
                    all.joined.push(SiteLink {
                        name: here.place.interface.clone(),
                        ends: both,
                        origins: vec![here.origin, there.origin],
                    });
                }
            }
        }
    }
}

/// Interfaces for one link that share a network, or that name each other as peers, each on a device of its own.
fn groups(estate: &Estate) -> Vec<Vec<End>> {
    let mut by_net: BTreeMap<(IpNet, Option<IpAddr>), Vec<End>> = BTreeMap::new();
    for (device, one) in estate.devices.iter().enumerate() {
        for interface in one.facts.interfaces.iter().filter(|one| !one.loopback && one.up != Some(false)) {
            for address in interface.addresses.iter().filter(|one| !is_link_local(one.net.addr())) {
                let own = address.net.addr();
                let key = match address.peer {
                    // Both name the same two addresses, in one order and the other.
                    Some(peer) => (IpNet::from(own.min(peer)), Some(own.max(peer))),
                    None if interface.point_to_point
                        && address.net.prefix_len() < address.net.max_prefix_len() =>
                    {
                        (address.net.trunc(), None)
                    }
                    None => continue,
                };
                let place = Place { device, interface: interface.name.clone() };
                let ends = by_net.entry(key).or_default();
                match ends.iter_mut().find(|end| end.place == place) {
                    Some(end) => end.addresses.push(own),
                    None => ends.push(End { place, addresses: vec![own], origin: address.origin }),
                }
            }
        }
    }
    let several = |ends: &Vec<End>| {
        let apart = |(at, end): (usize, &End)| {
            ends[..at].iter().all(|other| {
                other.place.device != end.place.device
                    && !other.addresses.iter().any(|address| end.addresses.contains(address))
            })
        };
        ends.len() > 1 && ends.iter().enumerate().all(apart)
    };
    by_net.into_values().filter(several).collect()
}

/// The tunnel of WireGuard at an end.
fn wireguard<'a>(estate: &'a Estate, end: &End) -> Option<&'a Tunnel> {
    estate.devices[end.place.device].facts.running().find(|one| {
        one.family == TunnelFamily::WireGuard && one.interface.as_ref() == Some(&end.place.interface)
    })
}

/// The other ends that an end sends to, each with the destinations that go there: as its peers say, the only other one, or each for its own
/// networks.
fn others(estate: &Estate, ends: &[End], at: usize) -> Vec<(usize, Vec<IpRange>)> {
    let tunnel = wireguard(estate, &ends[at]);
    let mut found: Vec<(usize, Vec<IpRange>)> = Vec::new();
    for peer in tunnel.into_iter().flat_map(|tunnel| &tunnel.peers) {
        let allowed: Vec<IpRange> = peer.allowed.iter().map(|(range, _)| *range).collect();
        let called = peer.endpoint.as_deref().and_then(|text| text.parse::<SocketAddr>().ok());
        let device = called.and_then(|to| answers_at(estate, to.ip(), Protocol::UDP, to.port()));
        let to = (0..ends.len()).filter(|other| *other != at).find(|other| match device {
            Some(device) => ends[*other].place.device == device,
            None => ends[*other].addresses.iter().any(|one| allowed.iter().any(|range| range.contains(*one))),
        });
        found.extend(to.map(|to| (to, allowed)));
    }
    if tunnel.is_some() {
        return found;
    }
    if ends.len() == 2 {
        return vec![(1 - at, Vec::new())];
    }
    let elsewhere = |other: &usize| *other != at;
    (0..ends.len()).filter(elsewhere).map(|other| (other, behind(estate, &ends[other]))).collect()
}

/// Networks at an end: its address in the link, and what its device reaches by other interfaces.
fn behind(estate: &Estate, end: &End) -> Vec<IpRange> {
    let facts = &estate.devices[end.place.device].facts;
    let mut all: Vec<IpRange> = end.addresses.iter().map(|address| IpRange::from(*address)).collect();
    let near = facts.interfaces.iter().filter(|one| {
        one.name != end.place.interface && !one.loopback && !one.point_to_point && one.up != Some(false)
    });
    all.extend(near.flat_map(|one| &one.addresses).map(|one| IpRange::from(one.net.trunc())));
    let routed = facts.routes.iter().filter(|route| {
        route.forwards && !route.is_default() && route.interface.as_ref() != Some(&end.place.interface)
    });
    all.extend(routed.map(|route| IpRange::from(route.destination.trunc())));
    all
}

/// Sources that the other end takes from this one; empty where that is not known (wg(8), AllowedIPs).
fn accepted(estate: &Estate, there: &End, here: &End) -> Vec<IpRange> {
    let tunnel = wireguard(estate, there);
    let mut peers = tunnel.into_iter().flat_map(|tunnel| &tunnel.peers);
    let knows = peers.find(|peer| {
        peer.allowed.iter().any(|(range, _)| here.addresses.iter().any(|address| range.contains(*address)))
    });
    knows.map(|peer| peer.allowed.iter().map(|(range, _)| *range).collect()).unwrap_or_default()
}
