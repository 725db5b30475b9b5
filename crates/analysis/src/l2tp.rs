//! Access of L2TP clients to a server: only within IPsec, or unencrypted. Derived from the packets that reach its port.

use crate::context::Analyses;
use crate::exposure::Reachable;
use crate::ways::without_filter;
use trevlin_estate::special::{is_public, public_ranges};
use trevlin_model::policy::Demand;
use trevlin_model::{Family, IpRange, Origin, PortRange, Protocol, Setting, Tunnel, TunnelFamily};
use trevlin_packets::way::{Host, Sent, Verdict, Walker};

/// The port of L2TP (RFC 2661, 8.1).
const PORT: u16 = 1701;

/// How many sets of packets one question is cut into at most.
const MOST_CELLS: usize = 512;

/// Access of L2TP clients.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UnprotectedAccess {
    /// Only within IPsec, or not reachable.
    Protected,
    /// Packets without IPsec come to the port as well; the lines that let them in.
    Open(Vec<Origin>),
    /// Unencrypted access is possible, but not from the Internet.
    Inside(Vec<Origin>),
    /// A condition that is not analysed, or an interface with an unknown network, decides; its line.
    Depends(Vec<Origin>),
    /// No packet filter was exported.
    NoFilter,
}

/// The port that a server answers on.
pub fn port(tunnel: &Tunnel) -> u16 {
    tunnel.listeners.first().and_then(|one| one.port.value().copied()).unwrap_or(PORT)
}

/// The connection of the device that protects a server's port.
pub fn around<'a>(estate: &'a Analyses, at: usize, tunnel: &Tunnel) -> Option<&'a Tunnel> {
    let port = port(tunnel);
    estate.devices[at]
        .facts
        .running()
        .find(|one| one.ipsec.as_ref().is_some_and(|ipsec| ipsec.carries_udp(port)))
}

/// The same, where it requires a certificate.
pub fn certificate_around<'a>(estate: &'a Analyses, at: usize, tunnel: &Tunnel) -> Option<&'a Tunnel> {
    around(estate, at, tunnel).filter(|one| one.requires_certificate())
}

/// Whether a connection is only there for L2TP to pass through.
pub fn carries_l2tp(tunnel: &Tunnel) -> bool {
    tunnel.ipsec.as_ref().is_some_and(|one| one.carries_udp(PORT))
}

/// Access of clients to a server: from the Internet, where the interface is known; otherwise by the packet filter of its device alone.
pub fn access(estate: &Analyses, at: usize, tunnel: &Tunnel) -> UnprotectedAccess {
    if !tunnel.accepts_clients() {
        return UnprotectedAccess::Protected;
    }
    // A sheet may state it.
    if let Some((demand, origin)) = tunnel.rule(|policy| &policy.inside_ipsec).and_then(Setting::stated) {
        return match demand {
            Demand::Required => UnprotectedAccess::Protected,
            Demand::Optional | Demand::Off => UnprotectedAccess::Open(vec![origin]),
        };
    }
    let port = port(tunnel);
    // That some reach it for certain weighs more than that all may.
    let ways = estate.internet().ways_from_outside(at, Protocol::UDP, port);
    if let Some(reached) = ways.min_by_key(|one| (!one.certain, !one.everybody)) {
        return from_outside(estate, at, reached);
    }
    let known = estate.devices[at].facts.has_interfaces && !estate.shape().outside.is_empty();
    let has_public =
        |one: &trevlin_estate::assemble::OutsideInterface| one.addresses.iter().any(|one| is_public(*one));
    if known && estate.outside(at).iter().any(has_public) {
        return UnprotectedAccess::Protected;
    }
    // For a device behind others, blocking by these is not a property of its own.
    match by_filter(estate, at, port) {
        UnprotectedAccess::Open(lines) if known => UnprotectedAccess::Inside(lines),
        UnprotectedAccess::Depends(_) | UnprotectedAccess::NoFilter if known => UnprotectedAccess::Protected,
        found => found,
    }
}

/// Untrusted networks reach the port, and no packet from there has passed IPsec of this device.
fn from_outside(estate: &Analyses, at: usize, reached: &Reachable) -> UnprotectedAccess {
    let family = Family::of(reached.address);
    if without_filter(estate, &reached.steps, family).is_some() || estate.tables(at, family).is_empty() {
        return UnprotectedAccess::NoFilter;
    }
    let lines: Vec<Origin> = reached.forward.into_iter().chain(deciding(&reached.steps)).collect();
    if reached.certain { UnprotectedAccess::Open(lines) } else { UnprotectedAccess::Depends(lines) }
}

/// Traffic that the device's own filter permits, where its Internet interface is not known.
fn by_filter(estate: &Analyses, at: usize, port: u16) -> UnprotectedAccess {
    let facts = &estate.devices[at].facts;
    let tables = estate.tables_in_force(at);
    if tables.is_empty() {
        return UnprotectedAccess::NoFilter;
    }
    let walker = Walker::new(Host { tables, every_address: true, ..Host::default() });
    let mut found = UnprotectedAccess::Protected;
    for family in [Family::V4, Family::V6] {
        if estate.tables(at, family).is_empty() {
            continue;
        }
        // A rule for networks inside is no opening.
        let clients = public_ranges().into_iter().filter(|one| one.family() == family);
        let ports = |first, last| vec![PortRange { first, last }];
        let sent = Sent {
            family,
            protocol: 17,
            destinations: vec![IpRange::all(family)],
            sources: clients.collect(),
            ports: ports(port, port),
            source_ports: ports(1, u16::MAX),
        };
        let entrances = walker.entrances(family);
        // The deciding traffic is that from the Internet interface or, where that is not known, that of no named interface.
        let outer = estate.outside(at);
        let unnamed = entrances.len().saturating_sub(1);
        let outer_is_unnamed = outer.is_empty() || outer.iter().any(|one| !entrances.contains(&one.name));
        for (number, name) in entrances.iter().enumerate() {
            let is_outer = outer.iter().any(|one| one.name == *name);
            let decides = is_outer || (number == unnamed && outer_is_unnamed);
            if is_inner(facts, name) || (!outer.is_empty() && !decides) {
                continue;
            }
            for cell in walker.explore(name, false, &sent, MOST_CELLS).cells {
                let lines = || deciding(&cell.answer.steps).collect::<Vec<_>>();
                match cell.answer.verdict {
                    // Traffic permitted on one interface only may be internal.
                    Verdict::Allowed if decides => return UnprotectedAccess::Open(lines()),
                    Verdict::Allowed | Verdict::Depends if found == UnprotectedAccess::Protected => {
                        found = UnprotectedAccess::Depends(lines());
                    }
                    _ => {}
                }
            }
        }
    }
    found
}

/// Interfaces by which the device talks to itself, or to those who have called.
fn is_inner(facts: &trevlin_model::Facts, name: &str) -> bool {
    let known = facts.interfaces.iter().find(|one| one.name == name);
    let of_tunnel = || facts.tunnels.iter().any(|one| one.interface.as_deref() == Some(name));
    // pppd names its links so (pppd(8), unit).
    let server_names =
        facts.tunnels.iter().any(|one| matches!(one.family, TunnelFamily::L2tp | TunnelFamily::Pptp));
    known.map_or(name == "lo", |one| one.loopback || one.point_to_point)
        || of_tunnel()
        || (server_names && name.starts_with("ppp"))
}

/// Lines that decided, those of routes left out.
fn deciding(steps: &[trevlin_packets::way::Step]) -> impl Iterator<Item = Origin> {
    steps.iter().rev().filter(|step| !step.kind.is_route()).filter_map(|step| step.origin)
}
