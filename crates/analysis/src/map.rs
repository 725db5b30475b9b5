//! An estate with the connections between its devices and the owners of addresses: the basis of all packet analyses.

use crate::addresses::Plan;
use crate::incomplete::{Incomplete, of_exports};
use crate::topology::Topology;
use std::ops::Deref;
use std::sync::OnceLock;
use trevlin_estate::assemble::Estate;

/// An estate, its topology and its addresses, each computed on first use.
#[derive(Debug)]
pub struct EstateMap {
    estate: Estate,
    shape: OnceLock<Topology>,
    plan: OnceLock<Plan>,
    incomplete: OnceLock<Vec<Vec<Incomplete>>>,
}

impl EstateMap {
    /// A map of an estate; nothing is computed yet.
    #[must_use]
    pub fn of(mut estate: Estate) -> Self {
        crate::reverse_paths::resolve(&mut estate);
        Self { estate, shape: OnceLock::new(), plan: OnceLock::new(), incomplete: OnceLock::new() }
    }

    /// How the devices are joined.
    pub fn shape(&self) -> &Topology {
        self.shape.get_or_init(|| Topology::of(&self.estate))
    }

    /// Incompletely read exports, by device.
    pub fn incomplete(&self) -> &[Vec<Incomplete>] {
        self.incomplete
            .get_or_init(|| (0..self.estate.devices.len()).map(|at| of_exports(&self.estate, at)).collect())
    }

    /// The address plan.
    pub fn plan(&self) -> &Plan {
        self.plan.get_or_init(|| Plan::of(&self.estate))
    }

    /// The estate alone.
    #[must_use]
    pub fn into_estate(self) -> Estate {
        self.estate
    }
}

impl Deref for EstateMap {
    type Target = Estate;

    fn deref(&self) -> &Estate {
        &self.estate
    }
}
