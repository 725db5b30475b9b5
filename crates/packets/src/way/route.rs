//! Where routing sends a packet, and whether its source is one that may come from there.

use super::packet::{Known, Packet};
use super::shape::numbers;
use super::step::{NoRoute, RouteUnknown, StepKind};
use super::{Sends, SourceCheck, Way};
use crate::cube::{Field, Ranges, Value, common, holds as lies, other_ranges, ranges};
use crate::space::number;
use crate::trace::Of;
use std::net::IpAddr;
use std::sync::PoisonError;
use trevlin_model::{Family, IpRange, Origin, Route};

/// Where routing sends a packet.
pub(super) enum Routed {
    Local,
    /// By this interface, to this next hop where it is not the destination itself.
    Out(String, Option<IpAddr>, Option<Origin>),
    Nowhere(NoRoute, Option<Origin>),
    Unknown(RouteUnknown),
}

impl Way<'_> {
    /// Whether the source check of the entering interface refuses a packet.
    pub(super) fn refused_source(&self, packet: &Packet) -> Option<(StepKind, Option<Origin>)> {
        let known = packet.known(Field::Source);
        let source = self.address(known.0);
        let name = self.space.interface_name(packet.at(Field::Entering))?;
        if let Some(own) = self.space.own() {
            if lies(own, known.0) {
                self.narrow(known.1, own);
                return Some((StepKind::OwnSource(source), None));
            }
            self.narrow(known.1, &other_ranges(own, self.space.last_address()));
        }
        let (_, check, origin) = self.host.source_checks.iter().find(|(one, _, _)| one == name)?;
        // The kernel has this check for IPv4 alone (kernel documentation, ip-sysctl).
        if *check == SourceCheck::Off || self.family == Family::V6 {
            return None;
        }
        let back = match self.routed(known) {
            Routed::Out(interface, ..) => Some(interface),
            // Routes that were not exported refuse nothing.
            Routed::Unknown(
                RouteUnknown::NoRoutes | RouteUnknown::NoAddresses | RouteUnknown::NoInterface,
            ) => return None,
            _ => None,
        };
        let refused = match check {
            SourceCheck::Off => false,
            SourceCheck::Loose => back.is_none(),
            SourceCheck::Strict => back.as_deref() != Some(name),
        };
        refused.then(|| (StepKind::SourceRefused { source, interface: name.to_owned() }, Some(*origin)))
    }

    /// Where a destination is routed.
    pub(super) fn routed(&self, (value, of): Known) -> Routed {
        let destination = self.address(value);
        if self.host.every_address {
            return Routed::Local;
        }
        let Some(own) = self.space.own() else {
            return Routed::Unknown(RouteUnknown::NoAddresses);
        };
        if lies(own, value) {
            let loopback = loopback(self.family);
            let is_loopback = loopback.contains(destination);
            let same = common(own, &ranges(numbers([&loopback], self.family)));
            let same = if is_loopback { same } else { difference(own, &same, self.space.last_address()) };
            self.narrow(of, &same);
            return if is_loopback { Routed::Nowhere(NoRoute::Loopback, None) } else { Routed::Local };
        }
        if destination.is_multicast() {
            self.narrow(of, &ranges(vec![self.multicast()]));
            return Routed::Unknown(RouteUnknown::Multicast);
        }
        if let Some((range, interface, origin)) =
            self.host.clients.iter().find(|(range, _, _)| range.contains(destination))
        {
            if self.trace.is_some() && !self.narrow_to_clients(interface, *origin, own, (value, of)) {
                // Others of the same addresses come before: then of this range alone.
                let alone =
                    difference(&ranges(numbers([range], self.family)), own, self.space.last_address());
                self.narrow(of, &alone);
            }
            return Routed::Out(interface.clone(), None, Some(*origin));
        }
        self.longest(destination, of)
    }

    /// Narrows to the addresses of a tunnel's clients that no other entry and no interface of the device has, where the value is one.
    fn narrow_to_clients(&self, interface: &str, origin: Origin, own: &Ranges, (value, of): Known) -> bool {
        let mut known = self.by_prefix.lock().unwrap_or_else(PoisonError::into_inner);
        let alike = known.entry(Sends::Callers(interface.to_owned(), origin)).or_insert_with(|| {
            let is_of = |one: &&(IpRange, String, Origin)| one.1 == interface && one.2 == origin;
            let all = || self.host.clients.iter();
            let these = numbers(all().filter(is_of).map(|one| &one.0), self.family);
            let others = numbers(all().filter(|one| !is_of(one)).map(|one| &one.0), self.family);
            let alone = difference(&ranges(these), &ranges(others), self.space.last_address());
            difference(&alone, own, self.space.last_address())
        });
        let is_one = lies(alike, value);
        if is_one {
            self.narrow(of, alike);
        }
        is_one
    }

    /// The greatest block of multicast addresses (RFC 5771, RFC 4291).
    fn multicast(&self) -> (Value, Value) {
        match self.family {
            Family::V4 => (0xe000_0000, 0xefff_ffff),
            Family::V6 => (0xff << 120, Value::MAX),
        }
    }

    /// The route with the longest prefix, the first of several.
    fn longest(&self, destination: IpAddr, of: Of) -> Routed {
        let stated = || self.host.routes.iter().filter(|route| route.family() == self.family);
        let implied = self.host.implied_routes.iter().filter(|route| route.family() == self.family);
        let routes = || stated().chain(implied.clone());
        let mut best: Option<&Route> = None;
        for route in routes().filter(|route| route.destination.contains(&destination)) {
            if best.is_none_or(|known| known.destination.prefix_len() < route.destination.prefix_len()) {
                best = Some(route);
            }
        }
        let networks = || {
            let up = self.host.interfaces.iter().filter(|one| one.up != Some(false));
            let all = up.flat_map(|one| one.addresses.iter().map(move |address| (one, address)));
            all.filter(|(_, address)| Family::of(address.net.addr()) == self.family)
        };
        let connected = networks()
            .filter(|(_, address)| address.net.contains(&destination))
            .max_by_key(|(_, address)| address.net.prefix_len());
        // A list of routes that leaves out the networks of the interfaces does not take them away.
        let best = best.filter(|route| {
            connected.is_none_or(|(_, address)| address.net.prefix_len() <= route.destination.prefix_len())
        });
        if self.trace.is_some() {
            let chosen = best.map(|route| route.destination).or(connected.map(|(_, address)| address.net));
            // Equal lookups depend on the prefix only, and recur for every packet.
            let mut by_prefix = self.by_prefix.lock().unwrap_or_else(PoisonError::into_inner);
            let alike = by_prefix.entry(Sends::Prefix(chosen)).or_insert_with(|| {
                let nets = routes().map(|route| route.destination).chain(networks().map(|(_, one)| one.net));
                let deeper = nets
                    .filter(|net| chosen.is_none_or(|chosen| net.prefix_len() > chosen.prefix_len()))
                    .map(|net| (number(net.network()), number(net.broadcast())));
                let clients = numbers(self.host.clients.iter().map(|(range, _, _)| range), self.family);
                let own = self.space.own().into_iter().flat_map(|own| own.iter().copied());
                let others = ranges(deeper.chain(clients).chain(own).chain([self.multicast()]).collect());
                let whole = chosen.map_or((0, self.space.last_address()), |net| {
                    (number(net.network()), number(net.broadcast()))
                });
                difference(&ranges(vec![whole]), &others, self.space.last_address())
            });
            self.narrow(of, alike);
        }
        match (best, connected) {
            (Some(route), _) if !route.forwards => Routed::Nowhere(NoRoute::Refusing, Some(route.origin)),
            (Some(route), near) => match (&route.interface, route.gateway, near) {
                (Some(name), gateway, _) => Routed::Out(name.clone(), gateway, Some(route.origin)),
                // A next hop that lies in a network of the device.
                (None, Some(gateway), _) => {
                    let via = self
                        .host
                        .interfaces
                        .iter()
                        .find(|one| one.addresses.iter().any(|address| address.net.contains(&gateway)));
                    match via {
                        Some(via) => Routed::Out(via.name.clone(), Some(gateway), Some(route.origin)),
                        None => Routed::Unknown(RouteUnknown::NoInterface),
                    }
                }
                (None, None, Some((near, address))) => {
                    Routed::Out(near.name.clone(), None, Some(address.origin))
                }
                (None, None, None) => Routed::Unknown(RouteUnknown::NoInterface),
            },
            (None, Some((near, address))) => Routed::Out(near.name.clone(), None, Some(address.origin)),
            (None, None) if stated().next().is_none() => Routed::Unknown(RouteUnknown::NoRoutes),
            (None, None) => Routed::Nowhere(NoRoute::Missing, None),
        }
    }
}

/// Addresses by which a device talks to itself.
fn loopback(family: Family) -> IpRange {
    match family {
        Family::V4 => {
            let (first, last) = ([127, 0, 0, 0].into(), [127, 255, 255, 255].into());
            IpRange::new(first, last).unwrap_or_else(|_| IpRange::from(first))
        }
        Family::V6 => IpRange::from(IpAddr::from(std::net::Ipv6Addr::LOCALHOST)),
    }
}

fn difference(a: &Ranges, b: &Ranges, greatest: Value) -> Ranges {
    common(a, &other_ranges(b, greatest))
}
