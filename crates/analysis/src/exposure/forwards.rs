//! Outcome of port forwards.

use crate::addresses::AllocationKind;
use crate::containers::container_at;
use crate::exposure::Exposure;
use crate::exposure::gather::Found;
pub use crate::exposure::reached::{ForwardOutcome, ForwardResult};
use crate::map::EstateMap;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_model::{ExportState, Family, IpRangeSet, Origin, PortForward};
use trevlin_packets::way::{Egress, Step, StepKind, Verdict};

/// The outcome of every forward that connections from the source may match.
pub(super) fn outcomes(estate: &EstateMap, exposure: &Exposure, found: &[Found]) -> Vec<ForwardResult> {
    let mut by_origin: BTreeMap<Origin, Vec<&Found>> = BTreeMap::new();
    for one in found {
        for origin in lines_of(&one.cell.answer.steps) {
            by_origin.entry(origin).or_default().push(one);
        }
    }
    // Reachable services, by the forwards that lead there.
    let forwards: BTreeSet<Origin> =
        estate.devices.iter().flat_map(|device| &device.facts.forwards).map(|one| one.origin).collect();
    let mut reached: BTreeMap<Origin, Vec<usize>> = BTreeMap::new();
    for (at, one) in exposure.reached.iter().enumerate() {
        for origin in lines_of(&one.steps).intersection(&forwards).copied() {
            reached.entry(origin).or_default().push(at);
        }
    }
    let mut all = Vec::new();
    for (device, one) in estate.devices.iter().enumerate() {
        let runs = one.facts.filters.iter().any(|filter| filter.state == ExportState::Running);
        for (number, forward) in one.facts.forwards.iter().enumerate() {
            if forward.state == ExportState::Stored && runs {
                continue;
            }
            let met = by_origin.get(&forward.origin).map_or(&[][..], Vec::as_slice);
            if met.is_empty() && !may_be_met(exposure, device, forward) {
                continue;
            }
            let reached = reached.get(&forward.origin).cloned().unwrap_or_default();
            all.push(outcome(estate, reached, (device, number), forward, met));
        }
    }
    all
}

/// The lines that decided, each once.
fn lines_of(steps: &[Step]) -> BTreeSet<Origin> {
    steps.iter().filter_map(|step| step.origin).collect()
}

/// Whether a forward applies to connections from one of the sources.
fn may_be_met(exposure: &Exposure, device: usize, forward: &PortForward) -> bool {
    exposure.traffic_sources.iter().any(|traffic_source| {
        traffic_source.device == device
            && traffic_source.interface.is_some()
            && forward.entering.as_ref().is_none_or(|name| {
                let name = name.trim_end_matches('+');
                traffic_source.interface.as_ref().is_some_and(|interface| interface.starts_with(name))
            })
    })
}

fn outcome(
    estate: &EstateMap,
    reached: Vec<usize>,
    (device, number): (usize, usize),
    forward: &PortForward,
    met: &[&Found],
) -> ForwardResult {
    let origin = forward.origin;
    let best = |found: &&&Found| match (
        found.cell.answer.verdict,
        found.cell.delivery.as_ref().and_then(|one| one.gone),
    ) {
        (Verdict::Allowed, None) => 0,
        (Verdict::Allowed, _) => 1,
        (Verdict::Depends, _) => 2,
        (Verdict::Blocked, _) => 3,
    };
    let first = met.iter().min_by_key(best).copied();
    let mut one = ForwardResult {
        device,
        number,
        origin,
        protocol: first.map(|found| found.cell.sent.protocol).or(forward.protocol.0),
        sources: Default::default(),
        called: Default::default(),
        called_ports: Default::default(),
        address: forward.to.addresses.map(|range| range.first()),
        port: forward.to.ports.map(|ports| ports.first),
        outcome: ForwardOutcome::NeverMet,
        steps: Vec::new(),
    };
    for found in met {
        one.sources.extend(&found.cell.sent.sources);
        one.called.extend(&found.cell.sent.destinations);
        one.called_ports.extend(&found.cell.sent.ports);
    }
    let Some(first) = first else { return one };
    one.steps.clone_from(&first.cell.answer.steps);
    if let Some(delivery) = &first.cell.delivery {
        one.address = Some(delivery.address);
        one.port = Some(delivery.port);
    }
    one.outcome =
        if reached.is_empty() { elsewhere(estate, first) } else { ForwardOutcome::Service(reached) };
    one
}

/// Where it leads, where it leads to no known service.
fn elsewhere(estate: &EstateMap, found: &Found) -> ForwardOutcome {
    let cell = &found.cell;
    let delivery = match (cell.answer.verdict, &cell.delivery) {
        (Verdict::Blocked, _) => {
            let circle = cell.answer.steps.last().is_some_and(|step| step.kind == StepKind::Circle);
            return if circle { ForwardOutcome::Lost } else { ForwardOutcome::BlockedLater };
        }
        (Verdict::Depends, None) => return ForwardOutcome::Depends,
        (_, Some(delivery)) => delivery,
        (Verdict::Allowed, None) => return ForwardOutcome::Depends,
    };
    if let Some(number) = container_at(&estate.devices[delivery.device], delivery.address) {
        return ForwardOutcome::Container { device: delivery.device, number };
    }
    match delivery.gone {
        None => {
            let certain = estate.devices[delivery.device].facts.has_sockets;
            ForwardOutcome::NothingServes { device: delivery.device, certain }
        }
        Some(Egress::Host) => match claimed(estate, delivery.address) {
            Some(allocation) => ForwardOutcome::Claimed(allocation),
            None if is_on_a_network(estate, delivery.device, delivery.address) => ForwardOutcome::NotExported,
            None => ForwardOutcome::NobodyThere,
        },
        Some(Egress::Outside | Egress::Beyond) => ForwardOutcome::Depends,
    }
}

/// Owner of an address, besides the network that contains it: the most specific allocation.
pub(super) fn claimed(estate: &EstateMap, address: IpAddr) -> Option<usize> {
    let allocations = estate.plan().allocations.iter().enumerate();
    let whole = |kind: AllocationKind| {
        matches!(
            kind,
            AllocationKind::Network
                | AllocationKind::Link
                | AllocationKind::Route
                | AllocationKind::PoolNetwork
                | AllocationKind::Translation
        )
    };
    let far = |allocation: &crate::addresses::Allocation| {
        allocation.kind == AllocationKind::Remote && allocation.range.size() > 1
    };
    let fitting = allocations.filter(|(_, allocation)| {
        !whole(allocation.kind) && !far(allocation) && allocation.range.contains(address)
    });
    fitting.min_by_key(|(at, allocation)| (allocation.range.size(), *at)).map(|(at, _)| at)
}

/// Owner of an address that was not exported: what has reserved it, with the line.
#[must_use]
pub fn owner_of(estate: &EstateMap, addresses: &IpRangeSet) -> Option<(String, Origin)> {
    let address = addresses.first()?.first();
    let allocation = &estate.plan().allocations[claimed(estate, address)?];
    let who = allocation.who.as_deref().unwrap_or(&allocation.owner);
    (allocation.range.size() == 1).then(|| (who.to_owned(), allocation.origin))
}

/// Whether a host may have an address that a device sends to: a network or a pool of the device, a route but the default one, or a network
/// of another device where the default route does not lead to the Internet.
#[must_use]
pub fn is_on_a_network(estate: &EstateMap, device: usize, address: IpAddr) -> bool {
    let known = |at: usize| estate.grounds(at).contains(address);
    if known(device) || container_at(&estate.devices[device], address).is_some() {
        return true;
    }
    let family = Family::of(address);
    let facts = &estate.devices[device].facts;
    let mut default = facts.routes.iter().filter(|route| route.is_default() && route.family() == family);
    let leads_out = default.any(|route| {
        estate.outside(device).iter().any(|one| one.certain && route.interface.as_ref() == Some(&one.name))
    });
    !leads_out && (0..estate.devices.len()).any(known)
}
