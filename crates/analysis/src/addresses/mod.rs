//! The address plan: all allocations of the estate, and their overlaps.

mod allocations;
mod free;
pub(crate) mod interfaces;
pub mod meaning;
mod plan;
pub mod sweep;
pub mod told;

pub use allocations::{Allocation, AllocationKind, PoolOwner, shown_alike};
pub use free::free;
pub use meaning::{Overlap, OverlapKind};
pub use plan::Plan;

use trevlin_estate::assemble::Estate;

impl Plan {
    /// Computes the plan.
    pub fn of(estate: &Estate) -> Self {
        let (allocations, pools) = allocations::of(estate);
        let mut plan = Self { allocations, pools, overlaps: Vec::new() };
        plan.overlaps = meaning::overlaps(estate, &plan);
        plan
    }
}
