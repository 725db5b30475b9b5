//! Where routing sends a packet, and whether its source is one that may come from there.

use super::{Packet, SourceCheck, Way};
use crate::cube::{Field, holds as lies};
use crate::space::number;
use std::net::IpAddr;
use trevlin_model::{Family, Origin, Route};

/// Where routing sends a packet.
pub(super) enum Routed {
    Local,
    Out(String, Option<Origin>),
    Nowhere(&'static str, Option<Origin>),
    Unknown(&'static str),
}

impl Way<'_> {
    /// Whether the source check of the entering interface refuses a packet.
    pub(super) fn refused_source(&self, packet: &mut Packet) -> Option<(String, Option<Origin>)> {
        let source = self.address(packet.at(Field::Source));
        let name = self.space.interface_name(packet.at(Field::Entering))?;
        if self.space.own().is_some_and(|own| lies(own, packet.at(Field::Source))) {
            return Some((
                format!("{source} is an address of the device itself, and no other sends from it"),
                None,
            ));
        }
        let (_, check, origin) = self.host.source_checks.iter().find(|(one, _, _)| one == name)?;
        let back = match self.routed(source) {
            Routed::Out(interface, _) => Some(interface),
            _ => None,
        };
        let refused = match check {
            SourceCheck::Off => false,
            SourceCheck::Loose => back.is_none(),
            SourceCheck::Strict => back.as_deref() != Some(name),
        };
        refused.then(|| {
            (format!("{source} is not reached by {name}, and the source check refuses it"), Some(*origin))
        })
    }

    pub(super) fn routed(&self, destination: IpAddr) -> Routed {
        let Some(own) = self.space.own() else {
            return Routed::Unknown("the device's addresses were not exported");
        };
        if lies(own, number(destination)) {
            let loopback = match destination {
                IpAddr::V4(v4) => v4.is_loopback(),
                IpAddr::V6(v6) => v6.is_loopback(),
            };
            return if loopback {
                Routed::Nowhere("a loopback address is no address to send to from elsewhere", None)
            } else {
                Routed::Local
            };
        }
        if destination.is_multicast() {
            return Routed::Unknown("multicast is not followed");
        }
        self.longest(destination)
    }

    /// The route with the longest prefix, the first of several.
    fn longest(&self, destination: IpAddr) -> Routed {
        let fits = |route: &&Route| {
            Family::of(route.destination.addr()) == self.family && route.destination.contains(&destination)
        };
        let mut best: Option<&Route> = None;
        for route in self.host.routes.iter().filter(fits) {
            if best.is_none_or(|known| known.destination.prefix_len() < route.destination.prefix_len()) {
                best = Some(route);
            }
        }
        let connected = self
            .host
            .interfaces
            .iter()
            .flat_map(|one| one.addresses.iter().map(move |address| (one, address)))
            .filter(|(one, address)| one.up != Some(false) && address.net.contains(&destination))
            .max_by_key(|(_, address)| address.net.prefix_len());
        // A list of routes that leaves out the networks of the interfaces does not take them away.
        let best = best.filter(|route| {
            connected.is_none_or(|(_, address)| address.net.prefix_len() <= route.destination.prefix_len())
        });
        match (best, connected) {
            (Some(route), _) if !route.forwards => {
                Routed::Nowhere("a route says that it is not reached", Some(route.origin))
            }
            (Some(route), near) => match (&route.interface, route.gateway, near) {
                (Some(name), _, _) => Routed::Out(name.clone(), Some(route.origin)),
                // A next hop that lies in a network of the device.
                (None, Some(gateway), _) => {
                    let via = self
                        .host
                        .interfaces
                        .iter()
                        .find(|one| one.addresses.iter().any(|address| address.net.contains(&gateway)));
                    match via {
                        Some(via) => Routed::Out(via.name.clone(), Some(route.origin)),
                        None => Routed::Unknown("the interface of its route is not known"),
                    }
                }
                (None, None, Some((near, address))) => Routed::Out(near.name.clone(), Some(address.origin)),
                (None, None, None) => Routed::Unknown("the interface of its route is not known"),
            },
            (None, Some((near, address))) => Routed::Out(near.name.clone(), Some(address.origin)),
            (None, None) if !self.host.routes.iter().any(|route| route.family() == self.family) => {
                Routed::Unknown("no route of this IP version was exported")
            }
            (None, None) => Routed::Nowhere("no route leads there", None),
        }
    }
}
