//! Meaning of an overlap of two allocations.

use crate::addresses::allocations::{Allocation, AllocationKind, is_tunnel_name};
pub use crate::addresses::interfaces::is_host_local;
pub(super) use crate::addresses::plan::whole;
pub use crate::addresses::plan::{Overlap, OverlapKind};
use crate::addresses::{Plan, sweep};
use std::collections::BTreeMap;
use trevlin_estate::assemble::Estate;
use trevlin_model::{Device, Interface, IpRange, Pool, PoolPlacement};

/// Kinds that are compared. The first of a pair is the one to be changed.
const PAIRS: [(AllocationKind, AllocationKind); 26] = {
    use AllocationKind::{
        Address, DhcpRange, FixedAddress, NameServer, Network, OutsideAddress, Pool, PoolNetwork, Remote,
        Reservation, Translation,
    };
    [
        (PoolNetwork, Network),
        (Pool, Network),
        (PoolNetwork, PoolNetwork),
        (PoolNetwork, Pool),
        (Pool, Pool),
        (PoolNetwork, DhcpRange),
        (Pool, DhcpRange),
        (PoolNetwork, Translation),
        (Pool, Translation),
        (PoolNetwork, Remote),
        (Pool, Remote),
        (Pool, Reservation),
        (Pool, FixedAddress),
        (Pool, Address),
        (Pool, OutsideAddress),
        (Pool, NameServer),
        (DhcpRange, DhcpRange),
        (DhcpRange, Translation),
        (DhcpRange, Reservation),
        (DhcpRange, FixedAddress),
        (DhcpRange, Address),
        (DhcpRange, OutsideAddress),
        (DhcpRange, NameServer),
        (FixedAddress, FixedAddress),
        (FixedAddress, Reservation),
        (Remote, Network),
    ]
};

/// Maximum number of pairs of allocations of two ranges that are compared one by one. Beyond it, each allocation is compared with the first
/// few relevant ones of the other range: where thousands use one range, millions of pairs add nothing.
const MOST_PAIRS: usize = 10_000;

/// How many are tried then.
const TRIED: usize = 16;

/// Every overlap that is a fault or has its price.
pub(super) fn overlaps(estate: &Estate, plan: &Plan) -> Vec<Overlap> {
    let mut interest = [[false; AllocationKind::COUNT]; AllocationKind::COUNT];
    for (a, b) in PAIRS {
        interest[a as usize][b as usize] = true;
        interest[b as usize][a as usize] = true;
    }
    // Claims of one kind on one range are one for the sweep.
    let mut by_range: BTreeMap<(IpRange, AllocationKind), Vec<usize>> = BTreeMap::new();
    for (at, allocation) in plan.allocations.iter().enumerate() {
        if interest.iter().any(|row| row[allocation.kind as usize]) {
            by_range.entry((allocation.range, allocation.kind)).or_default().push(at);
        }
    }
    let nodes: Vec<(IpRange, usize)> =
        by_range.keys().map(|(range, kind)| (*range, *kind as usize)).collect();
    let allocations: Vec<&[usize]> = by_range.values().map(Vec::as_slice).collect();
    let mut found = Found { estate, plan, overlaps: Vec::new() };
    for (node, (range, kind)) in nodes.iter().enumerate() {
        if interest[*kind][*kind] {
            found.among(allocations[node], *range);
        }
    }
    sweep::overlaps(&nodes, interest, |one, other, shared| {
        found.between(allocations[one], allocations[other], shared)
    });
    let mut overlaps = found.overlaps;
    overlaps.sort_by_key(|one| (plan.allocations[one.a].origin, plan.allocations[one.b].origin, one.shared));
    overlaps.dedup_by_key(|one| (one.a, one.b));
    overlaps.shrink_to_fit();
    overlaps
}

struct Found<'a> {
    estate: &'a Estate,
    plan: &'a Plan,
    overlaps: Vec<Overlap>,
}

impl Found<'_> {
    /// Compares two allocations. Returns whether their overlap matters.
    fn pair(&mut self, one: usize, other: usize, shared: IpRange) -> bool {
        let kinds = |a: usize, b: usize| (self.plan.allocations[a].kind, self.plan.allocations[b].kind);
        // The first of two of a kind is the one that is read first.
        let (a, b) = if one < other { (one, other) } else { (other, one) };
        let (a, b) = if PAIRS.contains(&kinds(a, b)) { (a, b) } else { (b, a) };
        let meaning = meaning(self.estate, self.plan, &self.plan.allocations[a], &self.plan.allocations[b]);
        self.overlaps.extend(meaning.map(|meaning| Overlap { a, b, shared, meaning }));
        meaning.is_some()
    }

    /// Claims on one range among themselves.
    fn among(&mut self, allocations: &[usize], range: IpRange) {
        if allocations.len() * allocations.len() > MOST_PAIRS {
            for one in allocations {
                let _ = allocations
                    .iter()
                    .take(TRIED)
                    .any(|other| one != other && self.pair(*one, *other, range));
            }
            return;
        }
        for (at, one) in allocations.iter().enumerate() {
            for other in &allocations[at + 1..] {
                self.pair(*one, *other, range);
            }
        }
    }

    /// Claims on two ranges.
    fn between(&mut self, ones: &[usize], others: &[usize], shared: IpRange) {
        if ones.len() * others.len() > MOST_PAIRS {
            for (some, rest) in [(ones, others), (others, ones)] {
                for one in some {
                    let _ = rest.iter().take(TRIED).any(|other| self.pair(*one, *other, shared));
                }
            }
            return;
        }
        for one in ones {
            for other in others {
                self.pair(*one, *other, shared);
            }
        }
    }
}

/// Meaning of the overlap; `None` where it has none.
fn meaning(estate: &Estate, plan: &Plan, a: &Allocation, b: &Allocation) -> Option<OverlapKind> {
    use AllocationKind::{
        Address, DhcpRange, FixedAddress, NameServer, Network, OutsideAddress, Pool, PoolNetwork, Remote,
        Reservation,
    };
    if a.group.is_some() && a.group == b.group {
        // Only dnsmasq and the like keep a reserved address to its owner.
        let own = plan.owner(a)?;
        let matters = (a.kind, b.kind) == (DhcpRange, Reservation) && !own.keeps_reserved;
        return matters.then_some(OverlapKind::Fault);
    }
    // Allocations inside one host do not concern other hosts.
    if a.device != b.device && (a.host_local || b.host_local) {
        return None;
    }
    match (a.kind, b.kind) {
        (PoolNetwork | Pool, Network) => {
            let pool = whole(plan, a)?;
            pool_in_network(estate, a, pool, b)
        }
        // A pool with a network of its own is compared with others as a whole.
        (PoolNetwork | Pool, PoolNetwork | Pool) => {
            whole(plan, a)?;
            whole(plan, b)?;
            Some(OverlapKind::Fault)
        }
        (PoolNetwork | Pool, DhcpRange | AllocationKind::Translation) => {
            whole(plan, a).map(|_| OverlapKind::Fault)
        }
        (PoolNetwork | Pool, Remote) => {
            whole(plan, a)?;
            (a.device == b.device && a.owner != b.owner && !wider(b.range, a.range))
                .then_some(OverlapKind::Fault)
        }
        (DhcpRange, DhcpRange) => {
            let arranged = plan.owner(a)?.partner || plan.owner(b)?.partner;
            if arranged { None } else { in_one_place(estate, a, b) }
        }
        (Pool | DhcpRange, Address | OutsideAddress) => {
            let kept = a.device == b.device && plan.owner(a)?.keeps_own;
            if b.dynamic || kept { None } else { handed_out(estate, a, b) }
        }
        // A server of the estate that answers there is reported as that server.
        (Pool | DhcpRange, NameServer) if !estate.holders(b.range.first()).is_empty() => None,
        (Pool | DhcpRange, _) => handed_out(estate, a, b),
        (FixedAddress, FixedAddress | Reservation) => (a.who != b.who).then_some(OverlapKind::Fault),
        (Remote, Network) => (a.device == b.device && !wider(a.range, b.range)).then_some(OverlapKind::Fault),
        _ => Some(OverlapKind::Fault),
    }
}

/// A range against an address in use. A pool's addresses are reached by routes from anywhere, a DHCP server's only where
/// it is.
fn handed_out(estate: &Estate, a: &Allocation, b: &Allocation) -> Option<OverlapKind> {
    if a.kind == AllocationKind::Pool { Some(OverlapKind::Fault) } else { in_one_place(estate, a, b) }
}

/// Whether two devices share a network, so that two allocations in it refer to the same addresses: they are one device, or of one site; one
/// has the other as its default gateway, or both have the same. Two sites may use the same network.
fn in_one_place(estate: &Estate, a: &Allocation, b: &Allocation) -> Option<OverlapKind> {
    let (one, other) = (&estate.devices[a.device], &estate.devices[b.device]);
    if a.device == b.device {
        return Some(OverlapKind::Fault);
    }
    if let (Some(one), Some(other)) = (&one.site, &other.site) {
        return (one == other).then_some(OverlapKind::Fault);
    }
    let gateways = |device: &Device| -> Vec<usize> {
        let gateways =
            device.facts.routes.iter().filter(|route| route.is_default()).filter_map(|route| route.gateway);
        // An address of several devices is not conclusive: it may be one at each site.
        gateways
            .filter_map(|gateway| match estate.holders(gateway) {
                [holder] => Some(*holder),
                _ => None,
            })
            .collect()
    };
    let (of_one, of_other) = (gateways(one), gateways(other));
    let together = of_one.contains(&b.device)
        || of_other.contains(&a.device)
        || of_one.iter().any(|gateway| of_other.contains(gateway));
    Some(if together { OverlapKind::Fault } else { OverlapKind::Unclear })
}

/// Whether a range holds all of another and more. The more exact route wins, so such a one takes nothing away.
fn wider(range: IpRange, other: IpRange) -> bool {
    range != other && range.covers(&other)
}

/// A pool against the network of an interface.
fn pool_in_network(estate: &Estate, a: &Allocation, pool: &Pool, b: &Allocation) -> Option<OverlapKind> {
    let interface = |allocation: &Allocation| {
        estate.devices[allocation.device].facts.interfaces.iter().find(|one| one.name == allocation.owner)
    };
    let own = a.device == b.device;
    if own && interface(b).is_some_and(|interface| is_own_link(interface, pool)) {
        return None;
    }
    if !own {
        let name = b.owner.as_str();
        let other_end =
            name.starts_with("tap") && pool.network.is_some_and(|net| IpRange::from(net) == b.range);
        let inside = estate.devices[a.device].facts.interfaces.iter().filter(|one| {
            !one.point_to_point && !one.loopback && !is_tunnel_name(&one.name) && !is_own_link(one, pool)
        });
        let connected_itself = inside
            .flat_map(|one| &one.addresses)
            .any(|address| IpRange::from(address.net.trunc()).intersection(&a.range).is_some());
        // Where its own device is connected to it the overlap is reported there.
        if other_end || connected_itself || is_host_local(name) {
            return None;
        }
    }
    match pool.placement.value() {
        Some(PoolPlacement::ProxyArp | PoolPlacement::Bridged) => Some(OverlapKind::Meant),
        _ => Some(OverlapKind::Fault),
    }
}

/// Whether an interface is the tunnel's own end: its network is the one set aside for the tunnel.
fn is_own_link(interface: &Interface, pool: &Pool) -> bool {
    let owns = interface.addresses.iter().any(|address| pool.server_addresses.contains(&address.net.addr()));
    owns && pool
        .network
        .is_some_and(|net| interface.addresses.iter().any(|address| address.net.trunc() == net.trunc()))
}
