//! The address plan: owners of allocations, and overlaps.

use crate::addresses::allocations::{Allocation, AllocationKind, PoolOwner};
use serde::Serialize;
use trevlin_model::{IpRange, Pool};

/// The plan of an estate.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// Claims in order of device, then of reading.
    pub allocations: Vec<Allocation>,
    /// Pools, by the number that claims carry.
    pub pools: Vec<PoolOwner>,
    /// Where two claims share addresses and that is not as it should be, or has its price; ordered by place.
    pub overlaps: Vec<Overlap>,
}

impl Plan {
    /// Whether an allocation represents a tunnel's pool: its whole network, or a range in none.
    pub fn stands_for_pool(&self, allocation: &Allocation) -> bool {
        matches!(allocation.kind, AllocationKind::PoolNetwork | AllocationKind::Pool)
            && whole(self, allocation).is_some()
    }

    /// The pool or DHCP server that states a claim.
    pub fn owner(&self, allocation: &Allocation) -> Option<&PoolOwner> {
        allocation.holder.map(|holder| &self.pools[holder])
    }

    /// The allocations of one device.
    pub fn of_device(&self, device: usize) -> &[Allocation] {
        trevlin_estate::assemble::of_device(&self.allocations, device, |allocation| allocation.device)
    }

    /// Two claims by their numbers.
    pub fn pair(&self, overlap: &Overlap) -> (&Allocation, &Allocation) {
        (&self.allocations[overlap.a], &self.allocations[overlap.b])
    }
}

/// Meaning of an overlap.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum OverlapKind {
    /// It is wrong.
    Fault,
    /// It is a conflict if both are in one place, which no export shows.
    Unclear,
    /// The design intends it, at a price.
    Meant,
}

/// Two claims that share addresses.
#[derive(Debug, Clone, Copy)]
pub struct Overlap {
    /// The compared allocation, by number: one that is assigned or is behind a tunnel.
    pub a: usize,
    /// The allocation it overlaps, by number.
    pub b: usize,
    /// The addresses that both have.
    pub shared: IpRange,
    /// Its meaning.
    pub meaning: OverlapKind,
}

/// The pool of an allocation that represents a whole part of the pool: its network, or a range outside of it.
pub(crate) fn whole<'a>(plan: &'a Plan, allocation: &Allocation) -> Option<&'a Pool> {
    let pool = plan.owner(allocation)?.pool.as_ref()?;
    let covered = allocation.kind == AllocationKind::Pool
        && pool
            .network
            .is_some_and(|net| IpRange::from(net).intersection(&allocation.range) == Some(allocation.range));
    (!covered).then_some(pool)
}
