//! An estate with the connections between its devices and the owners of addresses: the basis of all packet analyses.

use crate::addresses::Plan;
use crate::incomplete::{Incomplete, of_exports};
use crate::topology::Topology;
use std::net::IpAddr;
use std::ops::Deref;
use std::sync::OnceLock;
use trevlin_estate::assemble::Estate;
use trevlin_model::IpRange;

/// An estate, its topology and its addresses, each computed on first use.
#[derive(Debug)]
pub struct EstateMap {
    estate: Estate,
    shape: OnceLock<Topology>,
    plan: OnceLock<Plan>,
    incomplete: OnceLock<Vec<Vec<Incomplete>>>,
    grounds: Vec<OnceLock<Grounds>>,
}

impl EstateMap {
    /// A map of an estate; nothing is computed yet.
    #[must_use]
    pub fn of(mut estate: Estate) -> Self {
        crate::reverse_paths::resolve(&mut estate);
        let grounds = estate.devices.iter().map(|_| OnceLock::new()).collect();
        Self { estate, shape: OnceLock::new(), plan: OnceLock::new(), incomplete: OnceLock::new(), grounds }
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

    /// Addresses that a device sends to by a network, a route other than the default one, or a tunnel of its own.
    pub(crate) fn grounds(&self, device: usize) -> &Grounds {
        self.grounds[device].get_or_init(|| Grounds::of(self, device))
    }

    /// The estate alone.
    #[must_use]
    pub fn into_estate(self) -> Estate {
        self.estate
    }
}

/// Addresses that a device sends to otherwise than by its default route, as ranges apart from each other.
#[derive(Debug)]
pub(crate) struct Grounds(Vec<IpRange>);

impl Grounds {
    fn of(estate: &EstateMap, device: usize) -> Self {
        let facts = &estate.devices[device].facts;
        let up = facts.interfaces.iter().filter(|one| !one.loopback && one.up != Some(false));
        let connected = up.flat_map(|one| &one.addresses);
        let mut all: Vec<IpRange> = connected
            .flat_map(|one| [IpRange::from(one.net.trunc())].into_iter().chain(one.peer.map(IpRange::from)))
            .collect();
        let routed = facts.routes.iter().filter(|route| route.forwards && !route.is_default());
        all.extend(routed.map(|route| IpRange::from(route.destination.trunc())));
        all.extend(estate.shape().clients_at(device).iter().flat_map(|one| one.ranges.iter().copied()));
        let tunnels = facts.running().flat_map(|tunnel| &tunnel.addresses.remote);
        all.extend(tunnels.map(|(range, _)| *range));
        // A range behind the one with the last end so far is held as well; one list for each version of IP.
        all.sort_unstable_by_key(|one| (one.first(), one.last()));
        let mut apart: Vec<IpRange> = Vec::with_capacity(all.len());
        for one in all {
            match apart.last_mut().filter(|last| last.last() >= one.first() && last.family() == one.family())
            {
                Some(last) if last.last() < one.last() => {
                    *last = IpRange::new(last.first(), one.last()).unwrap_or(*last);
                }
                Some(_) => {}
                None => apart.push(one),
            }
        }
        Self(apart)
    }

    pub(crate) fn contains(&self, address: IpAddr) -> bool {
        let after = self.0.partition_point(|one| one.first() <= address);
        after > 0 && self.0[after - 1].contains(address)
    }
}

impl Deref for EstateMap {
    type Target = Estate;

    fn deref(&self) -> &Estate {
        &self.estate
    }
}
