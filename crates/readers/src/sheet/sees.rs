//! Which addresses rules apply to, where a destination is translated and it is not stated.

use super::rule_base::Forwarding;
use super::service::services;
use std::net::IpAddr;
use trevlin_model::{IpRange, Match, MatchKind, Protocol};

/// A forwarded connection as it arrives, and as it goes on.
pub(super) struct Forwarded {
    protocol: Protocol,
    public: End,
    inner: End,
}

/// Address, where it is known, and port.
struct End {
    address: Option<IpAddr>,
    port: u16,
}

/// The connections of forwards that are on.
pub(super) fn forwarded(forwards: &[Forwarding]) -> Vec<Forwarded> {
    let mut found = Vec::new();
    for one in forwards.iter().filter(|one| !one.off) {
        let first = |text: &str| text.parse::<IpRange>().ok().map(|range| range.first());
        let address = one.addresses.first().and_then(|(text, _)| first(text));
        for service in one.services.iter().filter_map(|(text, _)| services(text)).flatten() {
            for port in &service.ports {
                let inner = End {
                    address: first(&one.to.0),
                    port: one.to_port.map_or(port.first, |ports| ports.first),
                };
                let public = End { address, port: port.first };
                found.push(Forwarded { protocol: service.protocol, public, inner });
            }
        }
    }
    found
}

/// Whether a rule with these conditions is about a forwarded connection as it arrives, and not as it goes on.
pub(super) fn about_arrival(matches: &[Match], all: &[Forwarded]) -> bool {
    all.iter().any(|one| {
        let holds = |end: &End| matches.iter().all(|condition| may_hold(condition, one.protocol, end));
        holds(&one.public) && !holds(&one.inner)
    })
}

fn may_hold(one: &Match, protocol: Protocol, end: &End) -> bool {
    let holds = match &one.kind {
        // An address of the device that is not stated may be any but the inner one.
        MatchKind::Destination(all) => match end.address {
            Some(address) => all.iter().any(|range| range.contains(address)),
            None => return true,
        },
        MatchKind::Protocol(wanted) => *wanted == protocol,
        MatchKind::DestinationPorts(all) => all.iter().any(|ports| ports.contains(end.port)),
        MatchKind::AnyOf(lists) => {
            lists.iter().any(|list| list.iter().all(|inner| may_hold(inner, protocol, end)))
        }
        _ => return true,
    };
    holds != one.negated
}
