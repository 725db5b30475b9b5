//! Openings in words and numbers: how wide they are, and for whom.

use crate::rating::Rating;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::ways::some_ranges;
use trevlin_estate::area::Severity;
use trevlin_model::{IpRange, Origin, PortRange, total_addresses, total_ports};

/// More addresses than this are a network.
pub(crate) const NETWORK: u128 = 16;
/// More ports than this are no opening for a service.
const MANY: u32 = 1024;
/// No more sources than this are a few.
const FEW: u128 = 16;

/// Whether ports are so many that no single service is intended.
pub(crate) fn nearly_every(ports: &[PortRange]) -> bool {
    total_ports(ports) > MANY
}

/// `nearly every TCP port`.
pub(crate) fn every_port_of(protocol: u8) -> String {
    format!("nearly every {} port", trevlin_model::Protocol(Some(protocol)).name().to_uppercase())
}

/// The networks of a device that have all of some addresses.
pub(crate) fn networks_of<'e>(
    estate: &'e Analyses,
    device: usize,
    addresses: &'e [IpRange],
) -> impl Iterator<Item = ipnet::IpNet> + 'e {
    let interfaces = &estate.devices[device].facts.interfaces;
    let networks = interfaces.iter().flat_map(|one| &one.addresses).map(|address| address.net.trunc());
    networks.filter(|net| {
        let whole = IpRange::from(*net);
        addresses.iter().all(|range| whole.covers(range))
    })
}

/// The networks that some addresses are of, connected to a device or routed by it, in words; addresses of none as they are.
pub(crate) fn networks_words(estate: &Analyses, device: usize, addresses: &[IpRange]) -> String {
    const MOST: usize = 4;
    let facts = &estate.devices[device].facts;
    let connected = facts.interfaces.iter().flat_map(|one| &one.addresses).map(|one| one.net.trunc());
    let routed = facts.routes.iter().filter(|one| !one.is_default()).map(|one| one.destination);
    let networks: Vec<ipnet::IpNet> = connected.chain(routed).collect();
    let mut words: Vec<String> = Vec::new();
    for range in addresses {
        let of = networks
            .iter()
            .filter(|net| IpRange::from(**net).covers(range))
            .max_by_key(|net| net.prefix_len());
        let word = of.map_or_else(|| range.short(), ToString::to_string);
        if !words.contains(&word) {
            words.push(word);
        }
    }
    let more = words.len().saturating_sub(MOST);
    words.truncate(MOST);
    if more > 0 { format!("{} and {more} more", words.join(", ")) } else { words.join(", ") }
}

/// The lines of the interfaces whose networks have some of the addresses.
pub(crate) fn network_lines(estate: &Analyses, device: usize, addresses: &[IpRange]) -> Vec<Origin> {
    let meets = |net: IpRange| addresses.iter().any(|range| net.intersection(range).is_some());
    let all = estate.devices[device].facts.interfaces.iter().flat_map(|one| &one.addresses);
    all.filter(|address| meets(IpRange::from(address.net.trunc()))).map(|address| address.origin).collect()
}

/// The rating for the sources that are permitted: one level lower for named networks, info for a few hosts.
pub(crate) fn for_sources(rating: Rating, everybody: bool, sources: &[IpRange]) -> Rating {
    if everybody {
        rating.because("any address is permitted")
    } else if total_addresses(sources) <= FEW {
        rating.at_most(Severity::Info, format!("only {} is permitted", some_ranges(sources)))
    } else {
        rating.lowered(format!("only {} are permitted", some_ranges(sources)))
    }
}
