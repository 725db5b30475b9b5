//! Entry points of VPN clients.

use crate::topology::Topology;
pub use crate::topology::shape::RemoteClients;
use trevlin_estate::assemble::Estate;
use trevlin_model::{
    Device, Family, IpRange, IpRangeSet, Pool, PoolPlacement, Tunnel, TunnelFamily, TunnelRole,
};
use trevlin_packets::way::{IpsecPolicy, Place};

/// Places the clients of every tunnel that accepts any.
pub(super) fn place(estate: &Estate, all: &mut Topology) {
    for (device, one) in estate.devices.iter().enumerate() {
        for tunnel in one.facts.running().filter(|tunnel| takes_callers(tunnel)) {
            let ranges = addresses(one, tunnel);
            if ranges.is_empty() {
                continue;
            }
            let ipsec = tunnel.family == TunnelFamily::Ipsec;
            let Some(interface) = interface_of(estate, device, tunnel) else { continue };
            if ipsec {
                all.shape.policy(
                    device,
                    IpsecPolicy {
                        local: Vec::new(),
                        remote: ranges.clone(),
                        to: None,
                        origin: tunnel.origin,
                    },
                );
            }
            answer_for(one, tunnel, &ranges, all, device);
            all.clients.push(RemoteClients {
                device,
                tunnel: tunnel.name.clone(),
                family: tunnel.family,
                interface,
                ipsec,
                ranges,
                origin: tunnel.origin,
            });
        }
    }
}

fn takes_callers(tunnel: &Tunnel) -> bool {
    let peers_call =
        tunnel.family == TunnelFamily::WireGuard && tunnel.peers.iter().any(|peer| peer.endpoint.is_none());
    let kind = !matches!(tunnel.family, TunnelFamily::TlsRelay | TunnelFamily::SshForward);
    kind && (tunnel.role == TunnelRole::Server || peers_call)
}

/// Addresses of a pool that no client has: those of the device itself, and of a whole IPv4 network its first and last (RFC 919, 7).
fn of_no_client(device: &Device, pool: &Pool) -> Vec<IpRange> {
    let held = device.facts.interfaces.iter().flat_map(|one| &one.addresses).map(|one| one.net.addr());
    let mut all: Vec<IpRange> =
        pool.server_addresses.iter().copied().chain(held).map(IpRange::from).collect();
    for range in ranges(device, pool) {
        if range.family() == Family::V4 && range.network().is_some() && range.size() > 2 {
            all.extend([IpRange::from(range.first()), IpRange::from(range.last())]);
        }
    }
    all
}

/// Ranges of a pool; an appliance that shows its network only assigns all of it.
fn ranges(device: &Device, pool: &Pool) -> Vec<IpRange> {
    let whole = pool
        .network
        .filter(|_| pool.ranges.is_empty() && pool.malformed.is_empty() && device.facts.described.is_some());
    pool.ranges.iter().map(|(range, _)| *range).chain(whole.map(IpRange::from)).collect()
}

/// Every address that a client may have.
fn addresses(device: &Device, tunnel: &Tunnel) -> Vec<IpRange> {
    let plan = &tunnel.addresses;
    let pools = plan.pools.iter().flat_map(|pool| {
        let all = ranges(device, pool).into_iter().collect::<IpRangeSet>();
        all.without(&of_no_client(device, pool)).into_ranges()
    });
    let fixed = plan.fixed.iter().map(|one| one.range);
    let calling = tunnel.peers.iter().filter(|peer| peer.endpoint.is_none());
    let allowed = calling.flat_map(|peer| peer.allowed.iter().map(|(range, _)| *range));
    let mut all: Vec<IpRange> = pools.chain(fixed).chain(allowed).collect();
    // A peer that may have any address besides its own shows no place of others.
    let whole = |one: &IpRange| *one == IpRange::all(one.family());
    if !all.iter().all(whole) {
        all.retain(|one| !whole(one));
    }
    // A range within another is skipped: among those that begin before it, the one with the last end is sufficient for the comparison.
    all.sort_unstable_by_key(|one| (one.first(), std::cmp::Reverse(one.last())));
    let mut furthest: Option<IpRange> = None;
    all.retain(|one| {
        let inside = furthest.is_some_and(|other| other.covers(one));
        if furthest.is_none_or(|other| other.family() != one.family() || other.last() < one.last()) {
            furthest = Some(*one);
        }
        !inside
    });
    all
}

/// The interface of the clients' packets: the stated one, otherwise the one with the tunnel's own address, otherwise the daemon's default
/// name.
pub(crate) fn interface_of(estate: &Estate, at: usize, tunnel: &Tunnel) -> Option<String> {
    let device = &estate.devices[at];
    if let Some(name) = &tunnel.interface {
        return Some(name.clone());
    }
    if tunnel.family == TunnelFamily::Ipsec {
        return entrance(estate, at);
    }
    let own = tunnel.addresses.pools.iter().flat_map(|pool| &pool.server_addresses);
    let has = |address| {
        let mut links = device.facts.interfaces.iter().filter(|one| one.point_to_point);
        links.find(|one| one.addresses.iter().any(|held| held.net.addr() == address))
    };
    if let Some(interface) = own.copied().find_map(has) {
        return Some(interface.name.clone());
    }
    let stated = tunnel.stated("dev").or_else(|| tunnel.stated("device")).map(|(name, _)| name);
    let kind = match tunnel.family {
        TunnelFamily::Pptp | TunnelFamily::L2tp => "ppp",
        TunnelFamily::OpenConnect => stated.unwrap_or("vpns"),
        _ => stated.unwrap_or("tun"),
    };
    if kind.ends_with(|last: char| last.is_ascii_digit()) {
        return Some(kind.to_owned());
    }
    let known = device.facts.interfaces.iter().find(|one| one.name.starts_with(kind));
    Some(known.map_or_else(|| format!("{kind}0"), |one| one.name.clone()))
}

/// The interface by which clients reach a device: the Internet interface, otherwise that of the default route, otherwise its only one.
pub(super) fn entrance(estate: &Estate, at: usize) -> Option<String> {
    if let Some(outside) = estate.outside(at).first() {
        return Some(outside.name.clone());
    }
    let facts = &estate.devices[at].facts;
    let default =
        facts.routes.iter().find(|route| route.is_default()).and_then(|route| route.interface.clone());
    default.or_else(|| {
        let mut all = facts.interfaces.iter().filter(|one| !one.loopback && !one.point_to_point);
        all.next().filter(|_| all.next().is_none()).map(|one| one.name.clone())
    })
}

/// Registers a pool inside a network of the device as answered for there (proxy ARP).
fn answer_for(one: &Device, tunnel: &Tunnel, ranges: &[IpRange], all: &mut Topology, device: usize) {
    let proxied = tunnel
        .addresses
        .pools
        .iter()
        .any(|pool| pool.placement.possible().any(|placement| *placement != PoolPlacement::Routed));
    if !proxied {
        return;
    }
    for interface in one.facts.interfaces.iter().filter(|one| !one.loopback && !one.point_to_point) {
        let place = Place { device, interface: interface.name.clone() };
        for range in ranges {
            let inside = interface.addresses.iter().any(|address| IpRange::from(address.net).covers(range));
            if inside {
                all.shape.answers_for(&place, *range);
            }
        }
    }
}
