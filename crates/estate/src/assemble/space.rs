//! Address space of the organisation's own.

use crate::assemble::Estate;
use crate::special::{Space, space_of};
use trevlin_model::IpRange;

/// Public address space of the organisation: the networks of its interfaces, and those in the estate file.
pub fn own_space(estate: &Estate) -> Vec<IpRange> {
    let interfaces = estate.devices.iter().flat_map(|device| &device.facts.interfaces);
    let nets = interfaces.flat_map(|one| &one.addresses).map(|address| IpRange::from(address.net.trunc()));
    let public = nets.filter(|range| matches!(space_of(*range), Space::Public));
    public.chain(estate.networks.iter().map(|net| IpRange::from(*net))).collect()
}
