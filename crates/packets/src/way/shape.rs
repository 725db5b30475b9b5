//! Connections between devices: interfaces that share a network, interfaces that face untrusted networks, and tunnels.

use super::step::Refusal;
use crate::cube::{Ranges, common, other_ranges, ranges};
use crate::space::number;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::sync::OnceLock;
use trevlin_model::{Family, IpRange, Origin};

/// An interface of a device.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Place {
    /// The device.
    pub device: usize,
    /// Name of the interface.
    pub interface: String,
}

/// The other end of a link with one other end, as a tunnel's.
#[derive(Debug, Clone)]
pub struct Wire {
    /// Destinations that go to this end; every one where empty.
    pub takes: Vec<IpRange>,
    /// Sources that the other end takes from here; every one where empty.
    pub accepts: Vec<IpRange>,
    /// Addresses of the other end, where they are known: a route may name one as its next hop.
    pub addresses: Vec<IpAddr>,
    /// The other end.
    pub to: Place,
}

/// Traffic that a device encrypts with IPsec when it leaves.
#[derive(Debug, Clone)]
pub struct IpsecPolicy {
    /// Sources; every one where empty.
    pub local: Vec<IpRange>,
    /// Destinations; every one where empty.
    pub remote: Vec<IpRange>,
    /// Where it is unwrapped, where that is a device of the estate.
    pub to: Option<Place>,
    /// The line.
    pub origin: Origin,
}

/// The next hop of a packet that leaves the known devices.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Egress {
    /// A host of a network that a device is on, and that is none of the devices.
    Host,
    /// An untrusted network.
    Outside,
    /// A next hop that is no known device, on an internal network.
    Beyond,
}

/// Where a packet goes that leaves a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Next {
    /// To another device, by this interface of it; out of IPsec or not.
    Device(Place, bool),
    /// Away from the devices.
    Egress(Egress),
    /// Nowhere: the other end of the link does not take it.
    Refused(Refusal),
}

/// How devices are joined.
#[derive(Debug, Clone, Default)]
pub struct Shape {
    /// Whether there is one device and everything that leaves it is delivered.
    alone: bool,
    /// The network that an interface is on, by its number.
    segments: BTreeMap<Place, usize>,
    /// Who has an address on a network, and who answers for one.
    holders: BTreeMap<(usize, IpAddr), Place>,
    /// Ranges that a device answers for on a network, as those of its VPN clients, by the network's number.
    answers_for: BTreeMap<usize, Vec<(IpRange, Place)>>,
    /// Addresses of a network, by its number.
    prefixes: BTreeMap<usize, Vec<IpRange>>,
    /// The default router of the hosts of a network.
    routers: BTreeMap<usize, Place>,
    /// Interfaces that face an untrusted network.
    outside: BTreeSet<Place>,
    /// Owners of public addresses.
    internet_holders: BTreeMap<IpAddr, Place>,
    /// Destinations that are not routed on the Internet, except those of an interface's own network.
    not_carried: Vec<IpRange>,
    /// Unassigned public addresses, by IP version: computed once, since many devices of a large estate have some.
    free_outside: [OnceLock<Ranges>; 2],
    wires: BTreeMap<Place, Vec<Wire>>,
    policies: BTreeMap<usize, Vec<IpsecPolicy>>,
}

impl Shape {
    /// A single device without known surroundings.
    pub(super) fn alone() -> &'static Self {
        static ALONE: std::sync::OnceLock<Shape> = std::sync::OnceLock::new();
        ALONE.get_or_init(|| Self { alone: true, ..Self::default() })
    }

    /// Whether nothing is known of the surroundings.
    pub(super) fn is_alone(&self) -> bool {
        self.alone
    }

    /// Puts an interface on a network.
    pub fn put_on(&mut self, place: Place, segment: usize) {
        self.segments.insert(place, segment);
    }

    /// Registers the addresses of a network.
    pub fn has_prefix(&mut self, segment: usize, range: IpRange) {
        self.prefixes.entry(segment).or_default().push(range);
    }

    /// Registers the default router of the hosts of a network.
    pub fn routes_for(&mut self, segment: usize, place: Place) {
        self.routers.insert(segment, place);
    }

    /// The first hop of traffic from a host of an interface's network, and the destinations it applies to. None where it is not known.
    pub(super) fn sent_by_host(&self, at: &Place, destination: IpAddr) -> Option<(Place, Ranges)> {
        let segment = self.segments.get(at).copied()?;
        if let Some((place, alike)) = self.held(segment, destination) {
            return Some((place.clone(), alike));
        }
        let prefixes = self.prefixes.get(&segment).map_or(&[][..], Vec::as_slice);
        if prefixes.iter().any(|range| range.contains(destination)) {
            return None;
        }
        let family = Family::of(destination);
        let elsewhere = rest(numbers(prefixes, family), family);
        Some((self.routers.get(&segment)?.clone(), elsewhere))
    }

    /// Registers the address of an interface on its network. The first of two with the same address is kept.
    pub fn holds(&mut self, place: &Place, address: IpAddr) {
        if let Some(segment) = self.segments.get(place) {
            self.holders.entry((*segment, address)).or_insert_with(|| place.clone());
        }
        if self.outside.contains(place) {
            self.free_outside = Default::default();
            self.internet_holders.entry(address).or_insert_with(|| place.clone());
        }
    }

    /// Registers a range that an interface answers for on its network, as for the addresses of VPN clients (proxy ARP).
    pub fn answers_for(&mut self, place: &Place, range: IpRange) {
        if let Some(segment) = self.segments.get(place) {
            self.answers_for.entry(*segment).or_default().push((range, place.clone()));
        }
    }

    /// Marks an interface as facing an untrusted network.
    pub fn faces_outside(&mut self, place: Place) {
        self.outside.insert(place);
    }

    /// Registers destinations that are not routed on the Internet (RFC 1918, section 3; RFC 6890).
    pub fn does_not_carry(&mut self, ranges: Vec<IpRange>) {
        self.not_carried = ranges;
    }

    /// Registers the other end of an interface.
    pub fn wire(&mut self, from: Place, wire: Wire) {
        self.wires.entry(from).or_default().push(wire);
    }

    /// Destinations that go to known ends of an interface.
    #[must_use]
    pub fn takes(&self, place: &Place) -> Vec<IpRange> {
        self.wires.get(place).into_iter().flatten().flat_map(|wire| wire.takes.iter().copied()).collect()
    }

    /// Whether no other end of an interface is known.
    #[must_use]
    pub fn takes_nothing(&self, place: &Place) -> bool {
        !self.wires.contains_key(place)
    }

    /// Registers an IPsec policy of a device.
    pub fn policy(&mut self, device: usize, policy: IpsecPolicy) {
        self.policies.entry(device).or_default().push(policy);
    }

    /// IPsec policies of a device, in order of evaluation.
    #[must_use]
    pub fn policies(&self, device: usize) -> &[IpsecPolicy] {
        self.policies.get(&device).map_or(&[], Vec::as_slice)
    }

    /// Whether an interface faces an untrusted network.
    #[must_use]
    pub fn is_outside(&self, place: &Place) -> bool {
        self.outside.contains(place)
    }

    /// The network that an interface is on.
    #[must_use]
    pub fn segment(&self, place: &Place) -> Option<usize> {
        self.segments.get(place).copied()
    }

    /// Who has an address on a network, or answers for it there.
    #[must_use]
    pub fn holder(&self, segment: usize, address: IpAddr) -> Option<&Place> {
        self.holders.get(&(segment, address)).or_else(|| {
            let mut all = self.answering(segment).iter();
            all.find(|(range, _)| range.contains(address)).map(|(_, place)| place)
        })
    }

    /// Who answers for which range on a network, the first of two before the second.
    fn answering(&self, segment: usize) -> &[(IpRange, Place)] {
        self.answers_for.get(&segment).map_or(&[], Vec::as_slice)
    }

    /// Unassigned public addresses.
    fn free_outside(&self, family: Family) -> &Ranges {
        self.free_outside[usize::from(family == Family::V6)].get_or_init(|| {
            let held = self.internet_holders.keys().filter(|address| Family::of(**address) == family);
            rest(held.map(|address| (number(*address), number(*address))).collect(), family)
        })
    }

    /// Whether the Internet routes a destination with a next hop there, and the destinations it applies to.
    pub(super) fn carries(&self, destination: IpAddr) -> (bool, Ranges) {
        let family = Family::of(destination);
        let lost = ranges(numbers(&self.not_carried, family));
        let carried = !self.not_carried.iter().any(|range| range.contains(destination));
        (carried, if carried { rest(lost.to_vec(), family) } else { lost })
    }

    /// Who has an address on a network, or answers for it there, and for which addresses that is the same.
    fn held(&self, segment: usize, address: IpAddr) -> Option<(&Place, Ranges)> {
        let family = Family::of(address);
        let all = || {
            let first = (segment, IpRange::all(family).first());
            let held = self.holders.range(first..);
            held.take_while(move |((at, address), _)| *at == segment && Family::of(*address) == family)
        };
        let numbers_of = |own: &dyn Fn(&Place) -> bool| -> Vec<(u128, u128)> {
            all().filter(|(_, place)| own(place)).map(|((_, one), _)| (number(*one), number(*one))).collect()
        };
        if let Some(place) = self.holders.get(&(segment, address)) {
            return Some((place, ranges(numbers_of(&|one| one == place))));
        }
        let answering = self.answering(segment);
        let first = answering.iter().position(|(range, _)| range.contains(address))?;
        let (range, place) = &answering[first];
        // An assigned address belongs to its owner, and the first of two proxies answers.
        let mut taken = numbers_of(&|_| true);
        taken.extend(numbers(answering[..first].iter().map(|(range, _)| range), family));
        let free = rest(taken, family);
        Some((place, common(&ranges(numbers([range], family)), &free)))
    }

    /// Where a packet goes that leaves by an interface, and for which destinations that is so.
    pub(super) fn next(
        &self,
        from: &Place,
        gateway: Option<IpAddr>,
        destination: IpAddr,
        source: IpAddr,
    ) -> (Next, Option<Ranges>, Option<Ranges>) {
        if let Some(wires) = self.wires.get(from) {
            return along(wires, gateway, destination, source);
        }
        let outside = self.outside.contains(from);
        let segment = self.segments.get(from).copied();
        let aim = gateway.unwrap_or(destination);
        if let Some(place) = segment.and_then(|segment| self.holder(segment, aim)).filter(|one| *one != from)
        {
            let only = gateway.is_none().then(|| one(destination));
            return (Next::Device(place.clone(), false), only, None);
        }
        // Proxies for addresses on this network, and, towards the Internet, owners of addresses there.
        let mut others: Vec<(u128, u128)> = Vec::new();
        let family = Family::of(destination);
        if gateway.is_none()
            && let Some(segment) = segment
        {
            let held = self.holders.range((segment, IpRange::all(family).first())..);
            let held = held.take_while(|((at, address), _)| *at == segment && Family::of(*address) == family);
            others.extend(held.map(|((_, address), _)| (number(*address), number(*address))));
            others.extend(numbers(self.answering(segment).iter().map(|(range, _)| range), family));
        }
        if outside && let Some(place) = self.internet_holders.get(&destination).filter(|one| *one != from) {
            return (Next::Device(place.clone(), false), Some(one(destination)), None);
        }
        if outside && gateway.is_some() {
            let lost = self.not_carried.iter().find(|range| range.contains(destination));
            if let Some(lost) = lost {
                let only = Some(ranges(numbers([lost], family)));
                return (Next::Refused(Refusal::NotCarried), only, None);
            }
            others.extend(numbers(&self.not_carried, family));
        }
        let gone = match (outside, gateway) {
            (true, _) => Egress::Outside,
            (false, None) => Egress::Host,
            (false, Some(_)) => Egress::Beyond,
        };
        let mut alike = (!others.is_empty()).then(|| rest(others, family));
        if outside {
            let free = self.free_outside(family);
            alike = Some(alike.map_or_else(|| free.clone(), |alike| common(&alike, free)));
        }
        (Next::Egress(gone), alike, None)
    }
}

/// The end of a link that a packet goes to.
fn along(
    wires: &[Wire],
    gateway: Option<IpAddr>,
    destination: IpAddr,
    source: IpAddr,
) -> (Next, Option<Ranges>, Option<Ranges>) {
    let family = Family::of(destination);
    // A next hop that is one of the ends.
    let named = gateway.and_then(|hop| wires.iter().find(|wire| wire.addresses.contains(&hop)));
    if let Some(wire) = named {
        return handed(wire, source, None);
    }
    let whole = [IpRange::all(family)];
    let taken = |wire: &'_ Wire| if wire.takes.is_empty() { whole.to_vec() } else { wire.takes.clone() };
    let all: Vec<(usize, IpRange)> = wires
        .iter()
        .enumerate()
        .flat_map(|(at, wire)| taken(wire).into_iter().map(move |range| (at, range)))
        .filter(|(_, range)| range.family() == family)
        .collect();
    // The most exact one takes it (wg(8), AllowedIPs).
    let fitting = all.iter().filter(|(_, range)| range.contains(destination));
    let Some((at, range)) = fitting.min_by_key(|(at, range)| (range.size(), *at)) else {
        let others = numbers(all.iter().map(|(_, range)| range), family);
        return (Next::Egress(Egress::Host), Some(rest(others, family)), None);
    };
    let wire = &wires[*at];
    let more_exact = all.iter().filter(|(other, one)| other != at && one.size() < range.size());
    let others = rest(numbers(more_exact.map(|(_, one)| one), family), family);
    let only = Some(common(&ranges(numbers([range], family)), &others));
    handed(wire, source, only)
}

/// What an end does with a packet for it.
fn handed(wire: &Wire, source: IpAddr, only: Option<Ranges>) -> (Next, Option<Ranges>, Option<Ranges>) {
    if wire.accepts.is_empty() {
        return (Next::Device(wire.to.clone(), false), only, None);
    }
    let family = Family::of(source);
    let accepted = ranges(numbers(&wire.accepts, family));
    if wire.accepts.iter().any(|one| one.contains(source)) {
        (Next::Device(wire.to.clone(), false), only, Some(accepted))
    } else {
        (Next::Refused(Refusal::SourceNotTaken), only, Some(rest(accepted.to_vec(), family)))
    }
}

fn one(address: IpAddr) -> Ranges {
    ranges(vec![(number(address), number(address))])
}

pub(super) fn numbers<'r>(all: impl IntoIterator<Item = &'r IpRange>, family: Family) -> Vec<(u128, u128)> {
    let of_family = all.into_iter().filter(|range| range.family() == family);
    of_family.map(|range| (number(range.first()), number(range.last()))).collect()
}

/// Every other address.
pub(super) fn rest(held: Vec<(u128, u128)>, family: Family) -> Ranges {
    other_ranges(&ranges(held), number(IpRange::all(family).last()))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// An address that two answer for goes to the first of them, whichever address of the second's range was asked about.
    #[test]
    fn of_two_that_answer_the_first_has_the_common_addresses() {
        let place = |device: usize| Place { device, interface: "lan".into() };
        let address = |last: u8| IpAddr::from([192, 0, 2, last]);
        let range = |first, last| IpRange::new(address(first), address(last)).unwrap();
        let mut shape = Shape::default();
        for device in 0..3 {
            shape.put_on(place(device), 0);
        }
        shape.holds(&place(0), address(1));
        shape.answers_for(&place(1), range(64, 95));
        shape.answers_for(&place(2), range(80, 127));
        for (asked, device, first, last) in
            [(1, 0, 1, 1), (64, 1, 64, 95), (90, 1, 64, 95), (100, 2, 96, 127)]
        {
            let (to, alike) = shape.sent_by_host(&place(0), address(asked)).unwrap();
            let wanted = ranges(vec![(number(address(first)), number(address(last)))]);
            assert_eq!((to.device, alike), (device, wanted), "{asked}");
        }
    }
}
