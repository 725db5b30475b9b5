//! Combines sets of packets into reachable services.

pub(super) use crate::exposure::found::Found;
use crate::exposure::{BeyondExport, Breadth, Exposure, Opening, Ping, Reachable, forwards};
use crate::map::EstateMap;
use crate::reachability::{NetworkModel, TrafficSource};
use crate::services::{Known, Service, What};
use crate::ways::deciding;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_model::{Family, IpRange, IpRangeSet, Limit, Origin, PortRange, PortSet, total_addresses};
use trevlin_packets::diagram::{Diagrams, EMPTY};
use trevlin_packets::way::{Cells, Delivery, Egress, Sent, Step, StepKind, TrafficClass, Verdict, has_ports};

const ICMP: [u8; 2] = [1, 58];

pub(super) fn gather(
    ground: &NetworkModel<'_>,
    services: &[Vec<Service>],
    traffic_sources: Vec<TrafficSource>,
    aims: &[Vec<IpRange>],
    whole: bool,
) -> Exposure {
    let net = ground.net();
    let most = ground.most_cells();
    let mut protocols: BTreeSet<u8> = BTreeSet::from([6, 17]);
    // For VPN clients and other sites only services with ports are judged.
    if whole {
        protocols.extend(services.iter().flatten().map(|service| service.protocol));
    }
    let mut tasks: Vec<(usize, Sent)> = Vec::new();
    for (number, (traffic_source, aims)) in traffic_sources.iter().zip(aims).enumerate() {
        for family in [Family::V4, Family::V6] {
            let echo = ICMP[usize::from(family == Family::V6)];
            for protocol in protocols.iter().copied().chain(whole.then_some(echo)) {
                tasks.extend(sent(traffic_source, aims, family, protocol).map(|sent| (number, sent)));
            }
        }
    }
    let explored: Vec<(usize, Cells)> = tasks
        .par_iter()
        .with_max_len(1)
        .map(|(number, sent)| (*number, net.explore(traffic_sources[*number].start(), sent, most)))
        .collect();
    let mut exposure = Exposure { traffic_sources, ..Exposure::default() };
    let mut found: Vec<Found> = Vec::new();
    for (traffic_source, cells) in explored {
        exposure.cut |= cells.cut;
        found.extend(cells.cells.into_iter().map(|cell| Found { traffic_source, cell }));
    }
    let estate = ground.estate();
    let mut table = Table {
        estate,
        services,
        ground,
        reached: BTreeMap::new(),
        openings: BTreeMap::new(),
        pings: BTreeMap::new(),
        beyond: BTreeMap::new(),
    };
    for one in &found {
        table.take(one);
    }
    exposure.reached = table.reached.into_values().collect();
    for (at, one) in exposure.reached.iter().enumerate() {
        exposure.by_device.entry(one.device).or_default().push(at);
    }
    let (outwards, openings): (Vec<Opening>, Vec<Opening>) =
        table.openings.into_values().partition(|one| one.gone == Some(Egress::Outside));
    exposure.openings = openings;
    // Traffic that returns to its source network reaches nothing.
    let shape = &estate.shape().shape;
    exposure.outwards = outwards
        .into_iter()
        .filter(|one| {
            !exposure.traffic_sources[one.traffic_source]
                .place()
                .is_some_and(|place| shape.is_outside(&place))
        })
        .collect();
    exposure.pings = table.pings.into_values().collect();
    exposure.beyond = table.beyond.into_values().collect();
    for one in &mut exposure.beyond {
        one.everybody = !is_admitted(&one.steps)
            && nearly_all(&one.sources, &exposure.traffic_sources[one.traffic_source].sources);
    }
    for reached in &mut exposure.reached {
        reached.everybody = !is_admitted(&reached.steps)
            && nearly_all(&reached.sources, &exposure.traffic_sources[reached.traffic_source].sources);
    }
    for opening in exposure.openings.iter_mut().chain(&mut exposure.outwards) {
        opening.everybody = !is_admitted(&opening.steps)
            && nearly_all(&opening.sources, &exposure.traffic_sources[opening.traffic_source].sources);
    }
    if whole {
        exposure.breadth = breadth(&found, estate.limits.of(Limit::SetNodes).saturating_mul(3));
        exposure.forwards = forwards::outcomes(estate, &exposure, &found);
    }
    exposure
}

/// Number of pairs of an address and a port that are permitted to hosts on internal networks.
/// Whether a rule on the way accepts some users only.
fn is_admitted(steps: &[Step]) -> bool {
    steps.iter().any(|step| matches!(step.kind, StepKind::Admitted { users: true, .. }))
}

fn breadth(found: &[Found], nodes: usize) -> Vec<Breadth> {
    let mut by_protocol: BTreeMap<(Family, u8), Vec<&TrafficClass>> = BTreeMap::new();
    for one in found {
        let cell = &one.cell;
        let inside = cell.delivery.as_ref().is_some_and(|one| one.gone != Some(Egress::Outside));
        if cell.answer.verdict == Verdict::Allowed && inside && has_ports(cell.sent.protocol) {
            by_protocol.entry((cell.sent.family, cell.sent.protocol)).or_default().push(cell);
        }
    }
    let mut all = Vec::new();
    for ((family, protocol), cells) in by_protocol {
        let last = trevlin_packets::number(IpRange::all(family).last());
        let mut sets = Diagrams::new(&[last, 65535], nodes);
        let mut whole = EMPTY;
        let mut addresses = IpRangeSet::new();
        for cell in cells {
            addresses.extend(&cell.delivered.0);
            let numbers =
                cell.delivered.0.iter().map(|range| {
                    (trevlin_packets::number(range.first()), trevlin_packets::number(range.last()))
                });
            let numbers: Vec<(u128, u128)> = numbers.collect();
            let ports: Vec<(u128, u128)> =
                cell.delivered.1.iter().map(|range| (range.first.into(), range.last.into())).collect();
            let made = sets.with(0, &numbers).and_then(|one| {
                let other = sets.with(1, &ports)?;
                let both = sets.intersection(one, other)?;
                sets.union(whole, both)
            });
            // Sets that are too complex to count are left uncounted.
            whole = made.unwrap_or(whole);
        }
        let addresses = total_addresses(&*addresses);
        if let Some(log2_pairs) = sets.log2_size(whole) {
            all.push(Breadth { family, protocol, log2_pairs, addresses });
        }
    }
    all
}

fn sent(traffic_source: &TrafficSource, aims: &[IpRange], family: Family, protocol: u8) -> Option<Sent> {
    let of_family = |all: &[IpRange]| -> Vec<IpRange> {
        all.iter().filter(|range| range.family() == family).copied().collect()
    };
    let (destinations, sources) = (of_family(aims), of_family(&traffic_source.sources));
    if destinations.is_empty() || sources.is_empty() {
        return None;
    }
    let every = if has_ports(protocol) {
        PortRange { first: 0, last: 65535 }
    } else {
        PortRange { first: 0, last: 0 }
    };
    Some(Sent { family, protocol, destinations, sources, ports: vec![every], source_ports: vec![every] })
}

/// Whether some are at least half of all, of one IP version.
pub fn nearly_all(some: &[IpRange], all: &[IpRange]) -> bool {
    let Some(family) = some.first().map(IpRange::family) else { return false };
    let size = |ranges: &[IpRange]| -> u128 {
        let of_family = ranges.iter().filter(|range| range.family() == family);
        total_addresses(of_family)
    };
    size(some) >= size(all) / 2
}

type ReachedKey = (usize, usize, usize, Family, Option<Origin>, bool);
/// The source, the last device, its interface, the protocol, the IP version, the deciding line, whether it is certain.
type BeyondKey = (usize, usize, Option<String>, u8, Family, Option<Origin>, bool);
type OpeningKey = (usize, usize, Option<Egress>, Option<String>, u8, Family, Option<Origin>, bool);

struct Table<'a> {
    estate: &'a EstateMap,
    services: &'a [Vec<Service>],
    ground: &'a NetworkModel<'a>,
    reached: BTreeMap<ReachedKey, Reachable>,
    openings: BTreeMap<OpeningKey, Opening>,
    pings: BTreeMap<usize, Ping>,
    beyond: BTreeMap<BeyondKey, BeyondExport>,
}

impl Table<'_> {
    /// The forward that changed the destination of a cell's packets last.
    fn forward_of(&self, cell: &TrafficClass) -> Option<Origin> {
        let mut origins = cell.answer.steps.iter().rev().filter_map(|step| step.origin);
        origins.find(|origin| self.ground.is_forward(*origin))
    }

    fn take(&mut self, found: &Found) {
        let cell = &found.cell;
        if cell.answer.verdict == Verdict::Blocked {
            return;
        }
        let Some(delivery) = &cell.delivery else { return };
        if ICMP.contains(&cell.sent.protocol) {
            self.ping(cell, delivery);
            return;
        }
        match delivery.gone {
            None => self.delivered(found, delivery),
            Some(gone) => {
                if gone != Egress::Outside {
                    self.left_exports(found, delivery);
                }
                self.opened(found, delivery, cell.delivered.1.clone().into());
            }
        }
    }

    fn ping(&mut self, cell: &TrafficClass, delivery: &Delivery) {
        if delivery.gone.is_some() {
            return;
        }
        let name = match cell.sent.family {
            Family::V4 => "net.ipv4.icmp_echo_ignore_all",
            Family::V6 => "net.ipv6.icmp.echo_ignore_all",
        };
        let silent = self.estate.kernel_setting(&self.estate.devices[delivery.device], name);
        if silent.is_some_and(|setting| setting.value == "1") {
            return;
        }
        let certain = cell.answer.verdict == Verdict::Allowed;
        let steps = &cell.answer.steps;
        let ping = self.pings.entry(delivery.device).or_insert_with(|| Ping {
            device: delivery.device,
            addresses: Default::default(),
            certain,
            steps: steps.clone(),
        });
        if certain && !ping.certain {
            (ping.certain, ping.steps) = (true, steps.clone());
        }
        ping.addresses.extend(&cell.delivered.0);
    }

    /// To a device itself: whatever it serves there.
    fn delivered(&mut self, found: &Found, delivery: &Delivery) {
        let cell = &found.cell;
        let mut left: PortSet = cell.delivered.1.iter().copied().collect();
        let ported = has_ports(cell.sent.protocol);
        for (number, service) in self.services[delivery.device].iter().enumerate() {
            let Some(address) = answering(service, cell, delivery) else { continue };
            if ported {
                left = left.without(&[PortRange { first: service.port, last: service.port }]);
            }
            let forward = self.forward_of(cell);
            let certain = cell.answer.verdict == Verdict::Allowed;
            let key = (found.traffic_source, delivery.device, number, cell.sent.family, forward, certain);
            // Where no port was changed, only the service's own is called.
            let called_ports = match (ported, called_as_served(cell)) {
                (false, _) => Vec::new(),
                (true, true) => vec![PortRange { first: service.port, last: service.port }],
                (true, false) => cell.sent.ports.clone(),
            };
            let reached = self.reached.entry(key).or_insert_with(|| Reachable {
                traffic_source: found.traffic_source,
                called: Default::default(),
                called_ports: Default::default(),
                protocol: cell.sent.protocol,
                sources: Default::default(),
                everybody: false,
                device: delivery.device,
                service: number,
                address,
                certain,
                forward,
                steps: cell.answer.steps.clone(),
            });
            reached.called.extend(&cell.sent.destinations);
            reached.sources.extend(&cell.sent.sources);
            reached.called_ports.extend(&called_ports);
        }
        // Where the sockets were seen, nothing else answers.
        if !self.estate.devices[delivery.device].facts.has_sockets && (!left.is_empty() || !ported) {
            let known = self.services[delivery.device].iter().any(|one| one.protocol == cell.sent.protocol);
            if ported || !known {
                self.opened(found, delivery, left);
            }
        }
    }

    /// To a host that was not exported.
    fn left_exports(&mut self, found: &Found, delivery: &Delivery) {
        let cell = &found.cell;
        let forward = self.forward_of(cell);
        let certain = cell.answer.verdict == Verdict::Allowed;
        let line = forward.or_else(|| deciding(&cell.answer.steps).last());
        let key = (
            found.traffic_source,
            delivery.device,
            delivery.leaving.clone(),
            cell.sent.protocol,
            cell.sent.family,
            line,
            certain,
        );
        let one = self.beyond.entry(key).or_insert_with(|| BeyondExport {
            traffic_source: found.traffic_source,
            device: delivery.device,
            protocol: cell.sent.protocol,
            called: Default::default(),
            called_ports: Default::default(),
            addresses: Default::default(),
            ports: Default::default(),
            sources: Default::default(),
            everybody: false,
            certain,
            forward,
            steps: cell.answer.steps.clone(),
        });
        one.called.extend(&cell.sent.destinations);
        one.called_ports.extend(&cell.sent.ports);
        one.addresses.extend(&cell.delivered.0);
        one.ports.extend(&cell.delivered.1);
        one.sources.extend(&cell.sent.sources);
    }

    fn opened(&mut self, found: &Found, delivery: &Delivery, ports: PortSet) {
        let cell = &found.cell;
        let forward = self.forward_of(cell);
        let certain = cell.answer.verdict == Verdict::Allowed;
        let (gone, leaving, protocol) = (delivery.gone, delivery.leaving.clone(), cell.sent.protocol);
        let key = (
            found.traffic_source,
            delivery.device,
            gone,
            leaving.clone(),
            protocol,
            cell.sent.family,
            forward,
            certain,
        );
        let opening = self.openings.entry(key).or_insert_with(|| Opening {
            traffic_source: found.traffic_source,
            device: delivery.device,
            gone,
            leaving,
            protocol,
            addresses: Default::default(),
            ports: Default::default(),
            sources: Default::default(),
            everybody: false,
            certain,
            forward,
            steps: cell.answer.steps.clone(),
            by_line: BTreeMap::new(),
        });
        if gone.is_none() {
            let line = deciding(&cell.answer.steps).last();
            let of_line = opening.by_line.entry(line).or_default();
            of_line.extend(&ports);
        }
        opening.addresses.extend(&cell.delivered.0);
        opening.ports.extend(&ports);
        opening.sources.extend(&cell.sent.sources);
    }
}

/// The address at which a service takes packets of a cell.
fn answering(service: &Service, cell: &TrafficClass, delivery: &Delivery) -> Option<IpAddr> {
    let bound = service.interface.as_ref().is_none_or(|name| delivery.entered.as_ref() == Some(name));
    // A DHCP server that names no interface answers on those of its networks, and no packet from afar is one of its clients'.
    let dhcp = matches!(service.what, What::Dhcp(_));
    let off = service.known == Known::Disabled;
    if service.protocol != cell.sent.protocol || service.is_local() || !bound || dhcp || off {
        return None;
    }
    if has_ports(service.protocol) && !cell.delivered.1.iter().any(|range| range.contains(service.port)) {
        return None;
    }
    match service.address {
        Some(own) => cell.delivered.0.iter().any(|range| range.contains(own)).then_some(own),
        None if service.families.has(cell.sent.family) => Some(delivery.address),
        None => None,
    }
}

/// Whether the requested ports are the ports of the service.
fn called_as_served(cell: &TrafficClass) -> bool {
    cell.sent.ports == cell.delivered.1
}
