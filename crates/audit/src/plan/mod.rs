//! The address plan: everything in the estate that lays claim to addresses, and where claims meet.

mod claims;
mod free;
pub(crate) mod meaning;
pub(crate) mod sheet;
pub mod sweep;
pub(crate) mod told;

pub use claims::{Claim, ClaimKind, PoolOwner};
pub use free::free;
pub use meaning::{Meaning, Overlap};
pub use sheet::{MistypedRow, OverlapRow, Row, Sheet, neighbourhood, sheet};

use crate::Estate;

/// The plan of an estate.
#[derive(Debug, Clone, Default)]
pub struct Plan {
    /// Claims in order of device, then of reading.
    pub claims: Vec<Claim>,
    /// Pools, by the number that claims carry.
    pub pools: Vec<PoolOwner>,
    /// Where two claims share addresses and that is not as it should be, or has its price; ordered by place.
    pub overlaps: Vec<Overlap>,
}

impl Plan {
    /// Works out the plan.
    pub(crate) fn of(estate: &Estate) -> Self {
        let (claims, pools) = claims::of(estate);
        let mut plan = Self { claims, pools, overlaps: Vec::new() };
        plan.overlaps = meaning::overlaps(estate, &plan);
        plan
    }

    /// Whether a claim stands for a tunnel's pool: for its whole network, or for a range that lies in none.
    pub(crate) fn stands_for_pool(&self, claim: &Claim) -> bool {
        matches!(claim.kind, ClaimKind::PoolNetwork | ClaimKind::Pool)
            && meaning::whole(self, claim).is_some()
    }

    /// What one device lays claim to.
    pub(crate) fn of_device(&self, device: usize) -> &[Claim] {
        crate::of_device(&self.claims, device, |claim| claim.device)
    }

    /// Two claims by their numbers.
    pub(crate) fn pair(&self, overlap: &Overlap) -> (&Claim, &Claim) {
        (&self.claims[overlap.a], &self.claims[overlap.b])
    }
}
