//! Checks of the area `addresses`.

pub(super) mod any_client_address;
pub(super) mod common_home_range;
pub(super) mod dhcp_range_overlap;
pub(super) mod duplicate_reservation;
pub(super) mod duplicate_site_network;
pub(super) mod ipv6_bypasses_tunnel;
pub(super) mod network_overlap;
pub(super) mod no_return_route;
pub(super) mod pool_in_connected_network;
pub(super) mod pool_in_foreign_public_space;
pub(super) mod pool_oversized;
pub(super) mod pool_too_small;
pub(super) mod pools_overlap;
pub(super) mod pushed_network_absent;
pub(super) mod range_contains_used_address;
pub(super) mod range_malformed;
pub(super) mod range_outside_network;
pub(super) mod remote_network_overlap;
pub(super) mod reservation_outside_network;
pub(super) mod stored_addresses_differ;

use std::collections::{BTreeMap, BTreeSet};
use trevlin_analysis::addresses::meaning::is_host_local;
use trevlin_analysis::addresses::told::told;
use trevlin_analysis::addresses::{Allocation, AllocationKind, Overlap};
use trevlin_analysis::map::EstateMap;
use trevlin_estate::special::{Space, space_of};
use trevlin_model::{IpRange, MalformedAddress, Origin};

/// Overlaps of the plan by the pool or DHCP server whose claim is the first of the two.
fn by_holder(
    estate: &EstateMap,
    of_interest: impl Fn(&Allocation, &Allocation) -> bool,
) -> BTreeMap<usize, Vec<&Overlap>> {
    let plan = estate.plan();
    let mut found: BTreeMap<usize, Vec<&Overlap>> = BTreeMap::new();
    for overlap in &plan.overlaps {
        let (a, b) = plan.pair(overlap);
        if let Some(group) = a.group
            && of_interest(a, b)
        {
            found.entry(group).or_default().push(overlap);
        }
    }
    found
}

/// The first mistyped piece of every pool, with its device and what hands it out; also of those that a daemon refuses to
/// start with, often for that reason.
fn malformed_pools(estate: &EstateMap) -> Vec<(usize, &str, &MalformedAddress)> {
    let mut found = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for (name, plan) in device.facts.every_plan() {
            found.extend(plan.pools.iter().filter_map(|pool| Some((at, name, pool.malformed.first()?))));
        }
    }
    found
}

/// Whether ranges together hold every address of another.
pub(super) fn cover(ranges: impl Iterator<Item = IpRange>, wanted: IpRange) -> bool {
    let mut open = vec![wanted];
    for range in ranges {
        open = open
            .into_iter()
            .flat_map(|left| {
                let outside = range.complement();
                if range.family() == left.family() {
                    outside.iter().filter_map(|part| part.intersection(&left)).collect()
                } else {
                    vec![left]
                }
            })
            .collect();
    }
    open.is_empty()
}

/// Whether an allocation is a private network of an interface, and no network inside one host.
fn is_private_network(one: &Allocation) -> bool {
    one.kind == AllocationKind::Network
        && !is_host_local(&one.owner)
        && matches!(space_of(one.range), Space::Private)
}

/// Number of allocations listed one by one.
const MOST_TOLD: usize = 6;

/// Allocations as one phrase each, in order, and their places, each once. Long lists are cut, with the number of the rest.
fn listed(estate: &EstateMap, allocations: &[&Allocation]) -> (String, Vec<Origin>) {
    let mut seen = BTreeSet::new();
    let unique: Vec<&&Allocation> =
        allocations.iter().filter(|allocation| seen.insert((allocation.origin, allocation.range))).collect();
    let mut phrases: Vec<_> =
        unique.iter().take(MOST_TOLD).map(|allocation| told(estate, allocation)).collect();
    if unique.len() > MOST_TOLD {
        phrases.push(format!("{} more", unique.len() - MOST_TOLD));
    }
    (phrases.join("; "), unique.iter().map(|allocation| allocation.origin).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn together_they_cover_or_not() {
        let net = |text: &str| IpRange::from(text.parse::<ipnet::IpNet>().unwrap());
        for (ranges, wanted, covered) in [
            (&["0.0.0.0/1", "128.0.0.0/1"][..], "0.0.0.0/0", true),
            (&["0.0.0.0/1"], "0.0.0.0/0", false),
            (&["::/0"], "0.0.0.0/0", false),
            (&["::/0"], "2000::/3", true),
            (&["10.0.0.0/25", "10.0.0.128/26", "10.0.0.192/26"], "10.0.0.0/24", true),
        ] {
            assert_eq!(cover(ranges.iter().map(|text| net(text)), net(wanted)), covered, "{ranges:?}");
        }
    }
}
