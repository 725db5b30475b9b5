//! Whether a rule's conditions hold for a class of packets.

use crate::rest::{Rest, Way};
use trevlin_model::{
    AddressKind, ConnectionStates, IpRange, Match, MatchKind, PortRange, Protocol, ResidualKind,
};

/// For which packets of the class a condition holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Holds {
    /// For none.
    Never,
    /// For some that the condition singles out, not for the rest.
    Some,
    /// Perhaps for all: what it looks at is not modelled.
    Unknown,
    /// For all.
    Always,
}

/// For which packets of the class all conditions hold.
pub(crate) fn all(matches: &[Match], rest: &Rest<'_>) -> Holds {
    matches.iter().map(|one| one_holds(one, rest)).min().unwrap_or(Holds::Always)
}

fn one_holds(one: &Match, rest: &Rest<'_>) -> Holds {
    let plain = kind(&one.kind, rest);
    match (one.negated, plain) {
        (true, Holds::Never) => Holds::Always,
        (true, Holds::Always) => Holds::Never,
        // What is not singled out is the rest itself.
        (true, Holds::Some) => Holds::Always,
        _ => plain,
    }
}

fn kind(kind: &MatchKind, rest: &Rest<'_>) -> Holds {
    let certain = |holds: bool| if holds { Holds::Always } else { Holds::Never };
    match kind {
        MatchKind::Entering(pattern) => certain(interface(pattern, rest.entering)),
        MatchKind::Leaving(pattern) => match rest.way {
            Way::ToDevice => Holds::Never,
            Way::Through if pattern == "+" => Holds::Always,
            Way::Through => Holds::Some,
        },
        MatchKind::Source(ranges) => covers(ranges),
        MatchKind::Destination(ranges) => match rest.way {
            Way::ToDevice if !rest.own_addresses.is_empty() => {
                let inside =
                    rest.own_addresses.iter().filter(|own| ranges.iter().any(|range| range.contains(**own)));
                match inside.count() {
                    0 => Holds::Never,
                    count if count == rest.own_addresses.len() => Holds::Always,
                    _ => Holds::Some,
                }
            }
            _ => covers(ranges),
        },
        MatchKind::Protocol(protocol) => certain(protocol.0.is_none() || *protocol == rest.protocol),
        MatchKind::SourcePorts(ports)
        | MatchKind::DestinationPorts(ports)
        | MatchKind::EitherPorts(ports) => {
            if ports.iter().any(every_port) {
                Holds::Always
            } else {
                Holds::Some
            }
        }
        MatchKind::Version(family) => certain(*family == rest.family),
        MatchKind::OriginalDestination(ranges) => covers(ranges),
        MatchKind::OriginalDestinationPorts(ports) if ports.iter().any(every_port) => Holds::Always,
        MatchKind::OriginalDestinationPorts(_) => Holds::Some,
        MatchKind::AddressIs { destination, kinds } => match (destination, rest.way) {
            (true, Way::ToDevice) => certain(kinds.contains(&AddressKind::Local)),
            (true, Way::Through) => certain(kinds.contains(&AddressKind::Unicast)),
            // The sender is another host.
            (false, _) => certain(kinds.contains(&AddressKind::Unicast)),
        },
        // The first packet of a connection, from another host, in the open.
        MatchKind::Reply
        | MatchKind::User(..)
        | MatchKind::Group(..)
        | MatchKind::Ipsec { leaving: false } => Holds::Never,
        MatchKind::Ipsec { leaving: true } => Holds::Some,
        MatchKind::AnyOf(alternatives) => {
            alternatives.iter().map(|one| all(one, rest)).max().unwrap_or(Holds::Never)
        }
        MatchKind::Icmp(_) => Holds::Some,
        // The first packet of a TCP connection has SYN and nothing else set (RFC 9293, 3.5).
        MatchKind::TcpFlags { looked_at, set } => {
            certain(rest.protocol == Protocol::TCP && looked_at & 0b10 == *set)
        }
        MatchKind::States(states) => of_new(states),
        MatchKind::NotModelled(residual) => match residual.kind {
            ResidualKind::Selective => Holds::Some,
            _ => Holds::Unknown,
        },
    }
}

/// `eth0`, or `eth+` for every name that begins so.
fn interface(pattern: &str, name: &str) -> bool {
    match pattern.strip_suffix('+') {
        Some(beginning) => name.starts_with(beginning),
        None => name == pattern,
    }
}

fn covers(ranges: &[IpRange]) -> Holds {
    if ranges.iter().any(|range| *range == IpRange::all(range.family())) {
        Holds::Always
    } else {
        Holds::Some
    }
}

/// Port 0 is not used on the wire.
fn every_port(range: &PortRange) -> bool {
    range.first <= 1 && range.last == u16::MAX
}

fn of_new(states: &ConnectionStates) -> Holds {
    if states.new {
        Holds::Always
    } else if states.snat || states.dnat {
        Holds::Some
    } else {
        Holds::Never
    }
}
