//! The two ends of one site-to-site tunnel, found by putting devices side by side.

use crate::Estate;
use std::net::IpAddr;
use trevlin_model::Tunnel;
use trevlin_model::ipsec::IpsecConnection;

/// One end: the device, the tunnel, and what IKE says of it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct End<'a> {
    /// Device, as index into the estate.
    pub(crate) device: usize,
    /// The tunnel.
    pub(crate) tunnel: &'a Tunnel,
    /// Its connection.
    pub(crate) connection: &'a IpsecConnection,
}

/// Every pair of connections of two devices that call each other, each once, in order of device.
///
/// Two ends belong together where each calls an address of the other's device, or names the other's identity; an address
/// alone is not enough where both ends name identities that have nothing to do with each other.
pub(crate) fn ike_pairs(estate: &Estate) -> Vec<(End<'_>, End<'_>)> {
    let mut ends: Vec<End<'_>> = Vec::new();
    for (device, one) in estate.devices.iter().enumerate() {
        for tunnel in one.facts.running() {
            if let Some(connection) = tunnel.ipsec.as_deref().filter(|one| one.names_the_other_end()) {
                ends.push(End { device, tunnel, connection });
            }
        }
    }
    let mut pairs = Vec::new();
    for (at, first) in ends.iter().enumerate() {
        for second in &ends[at + 1..] {
            if first.device != second.device && calls(estate, first, second) && calls(estate, second, first) {
                pairs.push((*first, *second));
            }
        }
    }
    // One connection that calls another twice (two connections between the same devices) is held against the one that
    // fits best.
    let score = |pair: &(End<'_>, End<'_>)| fits(pair.0.connection, pair.1.connection);
    let mut best: Vec<(End<'_>, End<'_>)> = Vec::new();
    let mut sorted = pairs.clone();
    sorted.sort_by_key(|pair| std::cmp::Reverse(score(pair)));
    let same = |a: &End<'_>, b: &End<'_>| std::ptr::eq(a.tunnel, b.tunnel);
    for pair in sorted {
        let taken = best
            .iter()
            .any(|known| [&known.0, &known.1].iter().any(|end| same(end, &pair.0) || same(end, &pair.1)));
        if !taken {
            best.push(pair);
        }
    }
    best.sort_by_key(|pair| (pair.0.device, pair.1.device, pair.0.tunnel.origin.start));
    best
}

/// Whether an end calls the other's device: by an address that it has, or a name by which it is dialled.
fn calls(estate: &Estate, from: &End<'_>, to: &End<'_>) -> bool {
    let device = &estate.devices[to.device];
    from.connection.remote_addresses.iter().any(|(text, _)| match text.parse::<IpAddr>() {
        Ok(address) => {
            estate.holders(address).contains(&to.device)
                || to.connection.local_addresses.iter().any(|(own, _)| own.parse() == Ok(address))
        }
        Err(_) => {
            device.dialled.iter().any(|name| name == text)
                || to
                    .connection
                    .local
                    .iter()
                    .any(|round| round.identity.as_ref().is_some_and(|(name, _)| bare(name) == bare(text)))
        }
    })
}

/// An identity without the sign that says it is a name.
pub(crate) fn bare(identity: &str) -> &str {
    identity.trim_start_matches('@')
}

/// How well two ends fit: selectors and identities that are the other's.
fn fits(a: &IpsecConnection, b: &IpsecConnection) -> usize {
    let reached = |one: &IpsecConnection, other: &IpsecConnection| {
        let texts = other.children.iter().flat_map(|child| &child.local.texts).collect::<Vec<_>>();
        one.children.iter().flat_map(|child| &child.remote.texts).filter(|text| texts.contains(text)).count()
    };
    let names = |one: &IpsecConnection, other: &IpsecConnection| {
        let own = other
            .local
            .iter()
            .filter_map(|round| round.identity.as_ref())
            .map(|(name, _)| bare(name))
            .collect::<Vec<_>>();
        one.remote
            .iter()
            .filter_map(|round| round.identity.as_ref())
            .filter(|(name, _)| own.contains(&bare(name)))
            .count()
    };
    reached(a, b) + reached(b, a) + 4 * (names(a, b) + names(b, a))
}
