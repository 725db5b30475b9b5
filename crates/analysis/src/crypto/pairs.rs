//! The two ends of one site-to-site tunnel, found by putting devices side by side.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_estate::assemble::Estate;
use trevlin_model::Tunnel;
use trevlin_model::ipsec::{AuthRound, IpsecConnection};

/// One end: the device, the tunnel, and its IKE settings.
#[derive(Debug, Clone, Copy)]
pub struct End<'a> {
    /// Device, as index into the estate.
    pub device: usize,
    /// The tunnel.
    pub tunnel: &'a Tunnel,
    /// Its connection.
    pub connection: &'a IpsecConnection,
}

/// Every pair of connections of two devices that call each other, each once, in order of device.
///
/// Two ends belong together where each calls an address of the other's device, or names the other's identity; an address
/// alone is not enough where both ends name identities that have nothing to do with each other.
pub fn ike_pairs(estate: &Estate) -> Vec<(End<'_>, End<'_>)> {
    let mut ends: Vec<End<'_>> = Vec::new();
    for (device, one) in estate.devices.iter().enumerate() {
        for tunnel in one.facts.running() {
            if let Some(connection) = tunnel.ipsec.as_deref().filter(|one| one.names_the_other_end()) {
                ends.push(End { device, tunnel, connection });
            }
        }
    }
    // Candidates for the other end: devices with the requested address, and ends with the name.
    let mut by_device: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    let mut by_address: BTreeMap<IpAddr, Vec<usize>> = BTreeMap::new();
    let mut by_name: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (at, end) in ends.iter().enumerate() {
        by_device.entry(end.device).or_default().push(at);
        for address in end.connection.local_addresses.iter().filter_map(|(text, _)| text.parse().ok()) {
            by_address.entry(address).or_default().push(at);
        }
        for name in names(estate, end) {
            by_name.entry(name).or_default().push(at);
        }
    }
    let called = |end: &End<'_>| -> BTreeSet<usize> {
        let mut found = BTreeSet::new();
        for (text, _) in &end.connection.remote_addresses {
            match text.parse::<IpAddr>() {
                Ok(address) => {
                    let devices = estate.holders(address).iter().filter_map(|device| by_device.get(device));
                    found.extend(devices.chain(by_address.get(&address)).flatten());
                }
                Err(_) => found.extend(by_name.get(bare(text)).into_iter().flatten()),
            }
        }
        found
    };
    let calls: Vec<BTreeSet<usize>> = ends.iter().map(called).collect();
    let mut pairs = Vec::new();
    for (first, others) in calls.iter().enumerate() {
        for second in others.range(first + 1..) {
            if ends[first].device != ends[*second].device && calls[*second].contains(&first) {
                pairs.push((ends[first], ends[*second]));
            }
        }
    }
    // Two connections between the same devices are compared with the best match.
    let mut sorted = pairs;
    sorted.sort_by_key(|pair| std::cmp::Reverse(fits(pair.0.connection, pair.1.connection)));
    let mut taken: BTreeSet<(usize, &str)> = BTreeSet::new();
    let mut best: Vec<(End<'_>, End<'_>)> = Vec::new();
    for pair in sorted {
        let keys = [&pair.0, &pair.1].map(|end| (end.device, end.tunnel.name.as_str()));
        if keys.iter().all(|key| !taken.contains(key)) {
            taken.extend(keys);
            best.push(pair);
        }
    }
    best.sort_by_key(|pair| (pair.0.device, pair.1.device, pair.0.tunnel.origin.start));
    best
}

/// Every connection of a client with the connection of a server that accepts any address, where the client calls an address or name of the
/// server's device and one connection there alone may be for it: the client first, in order of device.
pub fn client_pairs(estate: &Estate) -> Vec<(End<'_>, End<'_>)> {
    let ends = |device: usize| {
        estate.devices[device]
            .facts
            .running()
            .filter_map(move |tunnel| Some(End { device, tunnel, connection: tunnel.ipsec.as_deref()? }))
    };
    let servers = |device: usize| ends(device).filter(|end| !end.connection.names_the_other_end());
    let named = |device: usize, text: &str| {
        servers(device).any(|end| names(estate, &end).any(|name| name == bare(text)))
    };
    let mut found = Vec::new();
    for device in 0..estate.devices.len() {
        for client in ends(device).filter(|end| end.connection.names_the_other_end()) {
            let called: BTreeSet<usize> = client
                .connection
                .remote_addresses
                .iter()
                .flat_map(|(text, _)| match text.parse::<IpAddr>() {
                    Ok(address) => estate.holders(address).to_vec(),
                    Err(_) => (0..estate.devices.len()).filter(|other| named(*other, text)).collect(),
                })
                .filter(|other| *other != device)
                .collect();
            let [server] = called.into_iter().collect::<Vec<_>>()[..] else { continue };
            // Which of several connections a client comes to depends on its identity and its method.
            let may_be = |end: &End<'_>| same_methods(client.connection, end.connection);
            let fitting: Vec<End<'_>> = servers(server).filter(may_be).collect();
            if let [only] = fitting[..] {
                found.push((client, only));
            }
        }
    }
    found
}

/// Whether each side proves itself as the other requires, round by round; a method that is not known may be any.
fn same_methods(client: &IpsecConnection, server: &IpsecConnection) -> bool {
    let fits = |shown: &[AuthRound], required: &[AuthRound]| {
        shown.iter().zip(required).all(|(one, other)| match (one.proof.value(), other.proof.value()) {
            (Some(one), Some(other)) => one == other,
            _ => true,
        })
    };
    fits(&client.local, &server.remote) && fits(&server.local, &client.remote)
}

/// Names of an end: those that clients connect to, and its identities.
fn names<'a>(estate: &'a Estate, end: &End<'a>) -> impl Iterator<Item = &'a str> {
    let server_names = estate.devices[end.device].server_names.iter().map(String::as_str);
    let shown = end.connection.local.iter().filter_map(|round| round.identity.as_ref());
    server_names.chain(shown.map(|(name, _)| bare(name)))
}

/// An identity without the prefix that marks it as a name.
pub fn bare(identity: &str) -> &str {
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
