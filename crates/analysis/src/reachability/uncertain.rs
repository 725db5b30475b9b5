//! Sources that a device may be next to, by an address that was not understood.

use crate::map::EstateMap;
use crate::reachability::place::{From, To};
use ipnet::IpNet;
use trevlin_model::IpRange;
use trevlin_packets::way::{Step, StepKind};

/// A device that may be next to the source, where it has its destination elsewhere: an address of it was not understood.
pub(super) fn not_understood_near(estate: &EstateMap, from: &From, to: &To) -> Option<Step> {
    let source = match from {
        From::Address(address) => IpNet::from(*address),
        From::Network(net) => *net,
        From::Outside | From::Named(_) => return None,
    };
    let aims = match to {
        To::Addresses(all) => all.as_slice(),
        To::Device(_, all) => all.as_slice(),
        To::Outside => &[],
    };
    let near = |net: &IpNet| {
        let room = IpRange::from(net.trunc());
        net.addr() != source.addr()
            && net.trunc().contains(&source)
            && !aims.iter().any(|aim| room.contains(aim.first()) && room.contains(aim.last()))
    };
    estate.devices.iter().enumerate().find_map(|(device, one)| {
        let held = one.facts.interfaces.iter().flat_map(|one| &one.addresses);
        let known: Vec<IpNet> = held.map(|one| one.net.trunc()).collect();
        let mut possible = one.facts.possible_addresses.iter();
        let found = possible.find(|one| near(&one.net) && !known.contains(&one.net.trunc()))?;
        Some(Step { device, kind: StepKind::AddressNotUnderstood(found.net), origin: Some(found.origin) })
    })
}
