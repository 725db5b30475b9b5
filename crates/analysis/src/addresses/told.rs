//! Claims and overlaps in words, and addresses that are none.

use crate::addresses::{Allocation, AllocationKind, Overlap, Plan};
use crate::map::EstateMap;
use trevlin_model::MalformedAddress;

/// An overlap in one sentence that names both lines.
pub fn sentence(estate: &EstateMap, plan: &Plan, overlap: &Overlap) -> String {
    let (a, b) = plan.pair(overlap);
    let (a_told, b_told) = (told(estate, a), told(estate, b));
    if overlap.shared == a.range || overlap.shared == b.range {
        let (inner, outer) = if overlap.shared == a.range { (a_told, b_told) } else { (b_told, a_told) };
        let word = if a.range == b.range { "equals" } else { "lies within" };
        format!("{inner} {word} {outer}.")
    } else {
        format!("{a_told} and {b_told} share {}.", overlap.shared.short())
    }
}

/// An allocation as a phrase: kind, owner, and the place that states it.
pub fn told(estate: &EstateMap, allocation: &Allocation) -> String {
    let range = allocation.range.short();
    let device = &estate.devices[allocation.device].name;
    let (owner, place) = (&allocation.owner, estate.place(allocation.origin));
    let who = allocation.who.as_deref().unwrap_or("somebody");
    match allocation.kind {
        AllocationKind::Network => format!("{range}, the network of {owner} on {device} ({place})"),
        AllocationKind::Link => format!("{range}, the tunnel's link {owner} on {device} ({place})"),
        AllocationKind::Address => format!("{range}, the address of {owner} on {device} ({place})"),
        AllocationKind::OutsideAddress => {
            format!("{range}, the public address of {device} ({owner}, {place})")
        }
        AllocationKind::Route => format!("{range}, a route of {device} ({owner}, {place})"),
        AllocationKind::Remote => format!("{range}, which {device} reaches through {owner} ({place})"),
        AllocationKind::PoolNetwork => {
            format!("{range}, reserved for clients of {owner} on {device} ({place})")
        }
        AllocationKind::Pool => format!("{range}, assigned to clients by {owner} on {device} ({place})"),
        AllocationKind::DhcpRange => format!("{range}, assigned by {owner} on {device} ({place})"),
        AllocationKind::Reservation => {
            format!("{range}, reserved for {who} by {owner} on {device} ({place})")
        }
        AllocationKind::FixedAddress => {
            format!("{range}, the fixed address of {who} in {owner} on {device} ({place})")
        }
        AllocationKind::Translation => format!("{range}, the NAT address of {device} ({place})"),
        AllocationKind::NameServer => {
            format!("{range}, the DNS server that {owner} on {device} names ({place})")
        }
    }
}

/// Malformed addresses of a device: owner and error. Each place once.
pub fn malformed(facts: &trevlin_model::Facts) -> Vec<(String, &MalformedAddress)> {
    let mut all: Vec<(String, &MalformedAddress)> = Vec::new();
    for (name, plan) in facts.every_plan() {
        let pools = plan.pools.iter().flat_map(|pool| &pool.malformed);
        all.extend(pools.chain(&plan.malformed).map(|bad| (name.to_owned(), bad)));
    }
    for server in &facts.dhcp_servers {
        all.extend(server.malformed.iter().map(|bad| (server.name.clone(), bad)));
    }
    let options = facts.ppp_profiles.iter().flat_map(|one| &one.malformed);
    all.extend(options.map(|bad| ("the pppd options".to_owned(), bad)));
    let lists = facts.credentials.iter().flat_map(|one| &one.malformed);
    all.extend(lists.map(|bad| ("a list of accounts".to_owned(), bad)));
    all.extend(facts.malformed.iter().map(|bad| ("the device".to_owned(), bad)));
    // A file that another reads in is met twice.
    let mut seen = std::collections::BTreeSet::new();
    all.retain(|(_, bad)| seen.insert(bad.origin));
    all
}
