//! Private ranges that collide with nothing.

use crate::addresses::Plan;
use ipnet::{IpNet, Ipv4Net};
use std::net::Ipv4Addr;
use trevlin_estate::special::common_at_home;
use trevlin_model::{Family, IpRange};

/// Private IPv4 blocks in the order they are looked through: the least crowded first (RFC 1918, 3).
const PRIVATE: [([u8; 4], u8); 3] = [([172, 16, 0, 0], 12), ([10, 0, 0, 0], 8), ([192, 168, 0, 0], 16)];

/// Up to `most` private networks for at least the given number of clients that overlap neither an allocation nor the networks commonly used
/// at home. Empty if none is free, or `addresses` exceeds the size of a private block.
#[must_use]
pub fn free(plan: &Plan, addresses: u32, most: usize) -> Vec<IpNet> {
    // The ends of a network are for no host (RFC 1122, 3.2.1.3), and the server takes one.
    let wanted = u64::from(addresses) + 3;
    let bits = u64::BITS - (wanted - 1).leading_zeros();
    let length = 32u32.saturating_sub(bits) as u8;
    let mut taken: Vec<(u32, u32)> = plan
        .allocations
        .iter()
        .map(|allocation| allocation.range)
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
        let mut allocations = taken.iter().peekable();
        // The network at hand moves past every claim it meets; claims that end before it are behind for good only once
        // they begin before it, so the furthest end is kept.
        let mut reach: Option<u32> = None;
        while found.len() < most && at <= end {
            let last = at + (size - 1);
            while let Some((_, claimed)) = allocations.next_if(|(first, _)| *first <= last) {
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::addresses::{Allocation, AllocationKind};
    use proptest::prelude::*;
    use trevlin_model::{ExportId, Origin};

    fn plan(ranges: &[IpRange]) -> Plan {
        let origin = Origin { export: ExportId(0), start: 0, end: 0 };
        let allocation = |range: &IpRange| Allocation {
            range: *range,
            kind: AllocationKind::Route,
            device: 0,
            owner: String::new(),
            who: None,
            holder: None,
            group: None,
            dynamic: false,
            host_local: false,
            origin,
        };
        Plan { allocations: ranges.iter().map(allocation).collect(), ..Plan::default() }
    }

    fn net(text: &str) -> IpRange {
        IpRange::from(text.parse::<IpNet>().unwrap())
    }

    #[test]
    fn what_is_proposed() {
        for (claimed, wanted, first) in [
            (&[][..], 250, Some("172.16.0.0/24")),
            (&[][..], 254, Some("172.16.0.0/23")),
            (&["172.16.0.0/12"], 250, Some("10.0.1.0/24")),
            (&["172.16.0.0/12", "10.0.0.0/8"], 250, Some("192.168.3.0/24")),
            (&["172.16.0.0/12", "10.0.0.0/8", "192.168.0.0/16"], 1, None),
            (&["172.16.0.5/32"], 1, Some("172.16.0.0/30")),
            (&["172.16.0.3/32"], 1, Some("172.16.0.4/30")),
            (&[][..], 20_000_000, None),
        ] {
            let ranges: Vec<_> = claimed.iter().map(|text| net(text)).collect();
            let found = free(&plan(&ranges), wanted, 3);
            assert_eq!(found.first().map(|net| net.to_string()).as_deref(), first, "{claimed:?} {wanted}");
        }
    }

    proptest! {
        #[test]
        fn nothing_that_is_claimed_is_proposed(
            claimed in prop::collection::vec((any::<u16>(), 0u32..0x0002_0000), 0..40),
            wanted in 1u32..3000,
        ) {
            // Claims crowd the first block that is looked through.
            let base = Ipv4Addr::new(172, 16, 0, 0).to_bits();
            let ranges: Vec<_> = claimed
                .iter()
                .map(|(at, size)| {
                    let first = base + u32::from(*at) * 16;
                    IpRange::new(Ipv4Addr::from_bits(first).into(), Ipv4Addr::from_bits(first + size).into()).unwrap()
                })
                .collect();
            let found = free(&plan(&ranges), wanted, 5);
            prop_assert_eq!(found.len(), 5);
            for net in &found {
                let proposed = IpRange::from(*net);
                prop_assert!(proposed.size() >= u128::from(wanted) + 3);
                for range in &ranges {
                    prop_assert_eq!(range.intersection(&proposed), None, "{:?} meets {}", range, net);
                }
                prop_assert!(common_at_home().all(|one| IpRange::from(one.prefix).intersection(&proposed).is_none()));
            }
        }
    }
}
