//! The address plan: everything in the estate that lays claim to addresses, and where claims meet.

mod allocations;
mod free;
pub(crate) mod interfaces;
pub mod meaning;
mod plan;
pub mod sweep;
pub mod told;

pub use allocations::{Allocation, ClaimKind, PoolOwner};
pub use free::free;
pub use meaning::{Overlap, OverlapKind};
pub use plan::Plan;

use trevlin_estate::assemble::Estate;

impl Plan {
    /// Works out the plan.
    pub fn of(estate: &Estate) -> Self {
        let (allocations, pools) = allocations::of(estate);
        let mut plan = Self { allocations, pools, overlaps: Vec::new() };
        plan.overlaps = meaning::overlaps(estate, &plan);
        plan
    }
}
