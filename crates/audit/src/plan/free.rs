//! Private ranges that collide with nothing.

use super::Plan;
use crate::special::common_at_home;
use ipnet::{IpNet, Ipv4Net};
use std::net::Ipv4Addr;
use trevlin_model::{Family, IpRange};

/// Private IPv4 blocks in the order they are looked through: the least crowded first (RFC 1918, 3).
const PRIVATE: [([u8; 4], u8); 3] = [([172, 16, 0, 0], 12), ([10, 0, 0, 0], 8), ([192, 168, 0, 0], 16)];

/// Up to `most` private networks for at least so many callers that share no address with any claim nor with the networks
/// that callers' own places commonly use. Empty if none is free, or `addresses` is more than a private block holds.
#[must_use]
pub fn free(plan: &Plan, addresses: u32, most: usize) -> Vec<IpNet> {
    // The ends of a network are for no host (RFC 1122, 3.2.1.3), and the server takes one.
    let wanted = u64::from(addresses) + 3;
    let bits = u64::BITS - (wanted - 1).leading_zeros();
    let length = 32u32.saturating_sub(bits) as u8;
    let mut taken: Vec<(u32, u32)> = plan
        .claims
        .iter()
        .map(|claim| claim.range)
        .chain(common_at_home().map(|one| IpRange::from(one.prefix)))
        .filter(|range| range.family() == Family::V4)
        .filter_map(|range| match (range.first(), range.last()) {
            (std::net::IpAddr::V4(first), std::net::IpAddr::V4(last)) => {
                Some((first.to_bits(), last.to_bits()))
            }
            _ => None,
        })
        .collect();
    taken.sort_unstable();
    let mut found = Vec::new();
    for (base, block) in PRIVATE {
        if length < block {
            continue;
        }
        let base = Ipv4Addr::from(base).to_bits();
        let end = base | (u32::MAX >> block);
        let size = 1u32 << (32 - u32::from(length));
        let mut at = base;
        let mut claims = taken.iter().peekable();
        // The network at hand moves past every claim it meets; claims that end before it are behind for good only once
        // they begin before it, so the furthest end is kept.
        let mut reach: Option<u32> = None;
        while found.len() < most && at <= end {
            let last = at + (size - 1);
            while let Some((_, claimed)) = claims.next_if(|(first, _)| *first <= last) {
                reach = Some(reach.map_or(*claimed, |reach| reach.max(*claimed)));
            }
            match reach {
                Some(reach) if reach >= at => {
                    let Some(next) =
                        reach.checked_add(1).and_then(|next| next.checked_next_multiple_of(size))
                    else {
                        break;
                    };
                    at = next;
                }
                _ => {
                    found.extend(Ipv4Net::new(Ipv4Addr::from_bits(at), length).ok().map(IpNet::from));
                    let Some(next) = at.checked_add(size) else { break };
                    at = next;
                }
            }
        }
    }
    found
}
