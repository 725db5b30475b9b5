//! Sites that tunnels join.

use crate::topology::clients::{entrance, interface_of};
use crate::topology::{SiteLink, Topology};
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_estate::assemble::Estate;
use trevlin_model::ipsec::{Child, IpsecConnection};
use trevlin_model::{IpRange, Origin, PortForward, Protocol, Tunnel, TunnelFamily};
use trevlin_packets::way::{IpsecPolicy, Place, Wire};

/// Joins both ends of each tunnel whose other end is a device of the estate.
pub(super) fn join(estate: &Estate, all: &mut Topology) {
    let mut known = Known::new();
    for (device, one) in estate.devices.iter().enumerate() {
        for tunnel in one.facts.running() {
            match tunnel.family {
                TunnelFamily::WireGuard => peers(estate, all, &mut known, device, tunnel),
                TunnelFamily::Gre | TunnelFamily::IpInIp | TunnelFamily::Vxlan => {
                    encapsulated(estate, all, &mut known, device, tunnel);
                }
                TunnelFamily::Ipsec => policies(estate, all, &mut known, device, tunnel),
                _ => {}
            }
        }
    }
}

/// The device that answers at an address, through a port forward where one leads on.
pub(super) fn answers_at(estate: &Estate, address: IpAddr, protocol: Protocol, port: u16) -> Option<usize> {
    let holder = *estate.holders(address).first()?;
    let leads = |forward: &&PortForward| {
        (forward.protocol.0.is_none() || forward.protocol == protocol)
            && (forward.ports.is_empty() || forward.ports.iter().any(|one| one.contains(port)))
            && (forward.arriving_at.is_empty() || forward.arriving_at.iter().any(|one| one.contains(address)))
    };
    let forward = estate.devices[holder].facts.forwards.iter().find(leads);
    let on = forward.and_then(|forward| forward.to.addresses).map(|range| range.first());
    match on {
        Some(inner) => estate.holders(inner).first().copied(),
        None => Some(holder),
    }
}

/// The number of what joins two ends, among all that is joined.
type Known = BTreeMap<[Place; 2], usize>;

/// Records the lines that state that a tunnel joins two ends.
fn joined(all: &mut Topology, known: &mut Known, name: &str, mut ends: [Place; 2], origin: Origin) {
    ends.sort();
    match known.get(&ends) {
        Some(number) => {
            let origins = &mut all.joined[*number].origins;
            if !origins.contains(&origin) {
                origins.push(origin);
            }
        }
        None => {
            known.insert(ends.clone(), all.joined.len());
            all.joined.push(SiteLink { name: name.to_owned(), ends, origins: vec![origin] });
        }
    }
}

/// `host:port` or `[host]:port` of an endpoint, where the host is an address.
fn endpoint(text: &str) -> Option<(IpAddr, u16)> {
    let at: std::net::SocketAddr = text.parse().ok()?;
    Some((at.ip(), at.port()))
}

/// Peers of WireGuard that are devices of the estate: the one whose endpoint leads to a tunnel there that takes this end's
/// addresses, or the one that calls this end.
fn peers(estate: &Estate, all: &mut Topology, known: &mut Known, device: usize, tunnel: &Tunnel) {
    let Some(interface) = &tunnel.interface else { return };
    let from = Place { device, interface: interface.clone() };
    for peer in &tunnel.peers {
        let called = peer.endpoint.as_deref().and_then(endpoint);
        let Some((other, end, back)) = other_end(estate, device, tunnel, called) else { continue };
        let takes: Vec<IpRange> = peer.allowed.iter().map(|(range, _)| *range).collect();
        // The other end takes from here what its entry for this end allows (wg(8), AllowedIPs).
        let accepts: Vec<IpRange> = end.peers[back].allowed.iter().map(|(range, _)| *range).collect();
        let to = Place { device: other, interface: end.interface.clone().unwrap_or_default() };
        joined(all, known, &tunnel.name, [from.clone(), to.clone()], peer.origin);
        all.shape.wire(
            from.clone(),
            Wire { takes, accepts: accepts.clone(), addresses: Vec::new(), to: to.clone() },
        );
        // An end that is called knows no address of the one that calls.
        if end.peers[back].endpoint.is_none() {
            let takes: Vec<IpRange> = peer.allowed.iter().map(|(range, _)| *range).collect();
            let origin = end.peers[back].origin;
            joined(all, known, &end.name, [to.clone(), from.clone()], origin);
            all.shape
                .wire(to, Wire { takes: accepts, accepts: takes, addresses: Vec::new(), to: from.clone() });
        }
    }
}

/// The tunnel at the other end, with the number of its entry for this one: by the address of this end in the tunnel.
fn other_end<'a>(
    estate: &'a Estate,
    device: usize,
    tunnel: &Tunnel,
    called: Option<(IpAddr, u16)>,
) -> Option<(usize, &'a Tunnel, usize)> {
    let (address, port) = called?;
    let other = answers_at(estate, address, Protocol::UDP, port)?;
    let interface = tunnel.interface.as_ref()?;
    let own = estate.devices[device].facts.interfaces.iter().find(|one| one.name == *interface);
    let own: Vec<IpAddr> = own.into_iter().flat_map(|one| &one.addresses).map(|one| one.net.addr()).collect();
    let mut ends = estate.devices[other].facts.running().filter(|one| {
        one.family == TunnelFamily::WireGuard
            && one.listeners.iter().any(|one| one.port.value() == Some(&port))
    });
    let end = ends.next()?;
    let knows = |one: &trevlin_model::wireguard::WireGuardPeer| {
        own.iter().any(|address| one.allowed.iter().any(|(range, _)| range.contains(*address)))
    };
    let back = end.peers.iter().position(knows).or((end.peers.len() == 1).then_some(0))?;
    Some((other, end, back))
}

fn encapsulated(estate: &Estate, all: &mut Topology, known: &mut Known, device: usize, tunnel: &Tunnel) {
    let address = |of: &Tunnel, name: &str| of.stated(name).and_then(|(text, _)| text.parse::<IpAddr>().ok());
    let (Some(interface), Some(remote)) = (&tunnel.interface, address(tunnel, "remote")) else { return };
    for other in estate.holders(remote).iter().filter(|one| **one != device) {
        let own = |address: IpAddr| estate.holders(address).contains(&device);
        let mut ends = estate.devices[*other].facts.running().filter(|one| one.family == tunnel.family);
        let Some(end) = ends.find(|one| address(one, "remote").is_some_and(own)) else { continue };
        let Some(name) = &end.interface else { continue };
        let to = Place { device: *other, interface: name.clone() };
        let from = Place { device, interface: interface.clone() };
        joined(all, known, &tunnel.name, [from.clone(), to.clone()], tunnel.origin);
        all.shape.wire(from, Wire { takes: Vec::new(), accepts: Vec::new(), addresses: Vec::new(), to });
    }
}

/// Policies of a site-to-site connection. Connections for remote access have pools, and are placed with them.
fn policies(estate: &Estate, all: &mut Topology, known: &mut Known, device: usize, tunnel: &Tunnel) {
    let Some(connection) = &tunnel.ipsec else { return };
    if !tunnel.addresses.pools.is_empty() {
        return;
    }
    let to = gateway(estate, device, connection);
    // Where a mark or an interface decides, routes do, and not the selectors.
    let by_selectors = |child: &&Child| child.wraps() && child.by_interface_origin.is_none();
    for child in connection.children.iter().filter(by_selectors) {
        let ranges = |all: &[(IpRange, Origin)]| all.iter().map(|(range, _)| *range).collect::<Vec<_>>();
        let (local, remote) = (ranges(&child.local.networks), ranges(&child.remote.networks));
        // Without networks it carries the two ends' own packets, as around L2TP.
        if local.is_empty() || remote.is_empty() {
            continue;
        }
        if let Some(to) = &to
            && let Some(interface) = interface_of(estate, device, tunnel)
        {
            joined(all, known, &tunnel.name, [Place { device, interface }, to.clone()], child.origin);
        }
        let policy = IpsecPolicy { local, remote, to: to.clone(), origin: child.origin };
        all.shape.policy(device, policy);
    }
}

/// The device at the other end of a connection: the one with its address and a connection to this one, or to any peer.
fn gateway(estate: &Estate, device: usize, connection: &IpsecConnection) -> Option<Place> {
    let addresses = connection.remote_addresses.iter().filter_map(|(text, _)| text.parse::<IpAddr>().ok());
    let mut others = addresses.filter_map(|address| answers_at(estate, address, Protocol::UDP, 500));
    let other = others.find(|other| *other != device)?;
    let mirrored = |one: &Tunnel| {
        one.ipsec.as_ref().is_some_and(|end| {
            let named = || end.remote_addresses.iter().filter_map(|(text, _)| text.parse::<IpAddr>().ok());
            named().next().is_none()
                || named().any(|address| answers_at(estate, address, Protocol::UDP, 500) == Some(device))
        })
    };
    estate.devices[other].facts.running().find(|one| mirrored(one))?;
    Some(Place { device: other, interface: entrance(estate, other)? })
}
