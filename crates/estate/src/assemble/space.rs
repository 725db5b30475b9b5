//! Address space of the organisation's own.

use crate::assemble::Estate;
use crate::special::{Space, space_of};
use ipnet::{IpNet, Ipv6Net};
use trevlin_model::{Family, IpRange};

/// Public address space of the organisation: the networks of its interfaces but those at its uplinks, the site's prefix around an IPv6
/// network, prefixes that a server delegates, and the networks in the estate file.
pub fn own_space(estate: &Estate) -> Vec<IpRange> {
    /// A site has a prefix of this length, or a shorter one (RFC 6177, 2).
    const SITE: u8 = 56;
    /// Networks that a provider assigns to one customer at its uplink are no larger.
    const ASSIGNED: u8 = 28;
    let mut found: Vec<IpRange> = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for interface in &device.facts.interfaces {
            // The network at an uplink is the provider's.
            let uplink = estate.outside(at).iter().any(|one| one.name == interface.name);
            for address in interface.addresses.iter().map(|address| address.net) {
                let net = address.trunc();
                let own = match net {
                    IpNet::V4(v4) if uplink && v4.prefix_len() < ASSIGNED => IpRange::from(address.addr()),
                    IpNet::V6(_) if uplink => IpRange::from(address.addr()),
                    IpNet::V6(v6) if v6.prefix_len() > SITE => {
                        Ipv6Net::new(v6.addr(), SITE).map_or(net, |site| site.trunc().into()).into()
                    }
                    other => IpRange::from(other),
                };
                found.push(own);
            }
        }
    }
    // A server delegates prefixes out of the one that it has itself (RFC 8415, 6.3); its readers keep them outside of every subnet.
    let servers = estate.devices.iter().flat_map(|device| &device.facts.dhcp_servers);
    let delegated = servers.flat_map(|server| &server.subnets).filter(|subnet| subnet.network.is_none());
    let delegated = delegated.flat_map(|subnet| &subnet.ranges).map(|(range, _)| *range);
    found.extend(delegated.filter(|range| range.family() == Family::V6));
    found.retain(|range| matches!(space_of(*range), Space::Public));
    found.extend(estate.networks.iter().map(|net| IpRange::from(*net)));
    found
}
