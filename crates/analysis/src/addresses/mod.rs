//! The address plan: everything in the estate that lays claim to addresses, and where claims meet.

mod claims;
mod free;
pub mod meaning;
pub mod sweep;
pub mod told;

pub use claims::{Claim, ClaimKind, PoolOwner};
pub use free::free;
pub use meaning::{Meaning, Overlap};

use trevlin_estate::assemble::Estate;

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
    pub fn of(estate: &Estate) -> Self {
        let (claims, pools) = claims::of(estate);
        let mut plan = Self { claims, pools, overlaps: Vec::new() };
        plan.overlaps = meaning::overlaps(estate, &plan);
        plan
    }

    /// Whether a claim stands for a tunnel's pool: for its whole network, or for a range that lies in none.
    pub fn stands_for_pool(&self, claim: &Claim) -> bool {
        matches!(claim.kind, ClaimKind::PoolNetwork | ClaimKind::Pool)
            && meaning::whole(self, claim).is_some()
    }

    /// What one device lays claim to.
    pub fn of_device(&self, device: usize) -> &[Claim] {
        trevlin_estate::assemble::of_device(&self.claims, device, |claim| claim.device)
    }

    /// Two claims by their numbers.
    pub fn pair(&self, overlap: &Overlap) -> (&Claim, &Claim) {
        (&self.claims[overlap.a], &self.claims[overlap.b])
    }
}
