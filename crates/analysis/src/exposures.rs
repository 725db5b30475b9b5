//! Exposure to untrusted networks and VPN clients, computed once for all checks.

use crate::exposure;
use crate::exposure::{Exposure, Reachable};
use crate::intents::IntentEvaluation;
use crate::map::EstateMap;
use crate::reachability::NetworkModel;
use crate::relays::Relayed;
use crate::services::Service;
use rayon::prelude::*;
use std::collections::BTreeMap;
use tracing::debug_span;
use trevlin_estate::special::{is_link_local, is_public};
use trevlin_model::{IpRange, Origin, Protocol};
use trevlin_packets::way::Place;

/// Services, and their reachability from each source.
#[derive(Debug)]
pub struct InternetExposure {
    /// Services of each device.
    pub services: Vec<Vec<Service>>,
    /// Exposure to untrusted networks.
    pub outside: Exposure,
    /// Servers behind the relays that untrusted networks reach.
    pub relayed: Vec<Relayed>,
}

/// Reachability from internal networks.
#[derive(Debug)]
pub struct InternalExposure {
    /// Exposure to the clients of each tunnel, in the order of the estate's tunnels.
    pub clients: Vec<Exposure>,
    /// Traffic that each end of a site-to-site tunnel accepts.
    pub sites: Vec<Site>,
    /// Traffic that hosts of each guest network may send.
    pub guests: Vec<GuestNetwork>,
    /// The evaluation of every intent.
    pub intents: Vec<IntentEvaluation>,
    /// Numbers of the client groups that reach a device, by device.
    coming_to: BTreeMap<usize, Vec<usize>>,
}

impl InternalExposure {
    /// Works it out.
    pub fn of(estate: &EstateMap, services: &[Vec<Service>]) -> Self {
        let _timed = debug_span!("what VPN clients and sites reach").entered();
        let ground = NetworkModel::of(estate);
        let of_clients = || {
            let clients = estate.shape().clients.par_iter().with_max_len(1);
            clients.map(|one| exposure::clients(&ground, services, one)).collect()
        };
        let of_sites = || sites(estate, &ground, services);
        let of_guests = || guests(estate, &ground, services);
        let others = || rayon::join(|| rayon::join(of_sites, of_guests), || crate::intents::hold(&ground));
        let (clients, ((sites, guests), intents)): (Vec<Exposure>, _) = rayon::join(of_clients, others);
        let mut coming_to: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        for (number, exposure) in clients.iter().enumerate() {
            for device in exposure.reached_devices() {
                coming_to.entry(device).or_default().push(number);
            }
        }
        Self { clients, sites, guests, intents, coming_to }
    }

    /// Exposure to client groups that reach a device, with their number, in the order of the estate's tunnels.
    pub fn coming_to(&self, device: usize) -> impl Iterator<Item = (usize, &Exposure)> {
        let numbers = self.coming_to.get(&device).into_iter().flatten();
        numbers.map(|number| (*number, &self.clients[*number]))
    }
}

/// A network whose interface has the name of one for guests.
#[derive(Debug)]
pub struct GuestNetwork {
    /// The device.
    pub device: usize,
    /// The interface.
    pub interface: String,
    /// The line of the interface.
    pub origin: Origin,
    /// Traffic that is accepted from it.
    pub exposure: Exposure,
}

/// Whether an interface has the name of a network for guests, with numbers and kinds around it.
fn is_for_guests(name: &str) -> bool {
    const WORDS: [&str; 8] =
        ["guest", "guests", "gast", "gaeste", "visitor", "visitors", "besucher", "invite"];
    let parts = name.split(|one: char| !one.is_ascii_alphabetic());
    parts.map(str::to_ascii_lowercase).any(|part| {
        WORDS
            .iter()
            .any(|word| part == *word || part.strip_prefix("br").or(part.strip_prefix("wlan")) == Some(*word))
    })
}

/// Traffic accepted from guest networks of devices with a packet filter.
fn guests(estate: &EstateMap, ground: &NetworkModel<'_>, services: &[Vec<Service>]) -> Vec<GuestNetwork> {
    let mut found = Vec::new();
    for (device, one) in estate.devices.iter().enumerate().filter(|(_, one)| !one.facts.filters.is_empty()) {
        for interface in
            one.facts.interfaces.iter().filter(|one| one.up != Some(false) && is_for_guests(&one.name))
        {
            let nets = interface.addresses.iter().map(|address| IpRange::from(address.net.trunc()));
            let sources: Vec<IpRange> = nets.filter(|range| !is_link_local(range.first())).collect();
            if sources.is_empty() || estate.outside(device).iter().any(|one| one.name == interface.name) {
                continue;
            }
            let place = Place { device, interface: interface.name.clone() };
            let exposure = exposure::entering(ground, services, &place, false, sources);
            let (interface, origin) = (interface.name.clone(), interface.origin);
            found.push(GuestNetwork { device, interface, origin, exposure });
        }
    }
    found
}

/// One end of a tunnel between sites.
#[derive(Debug)]
pub struct Site {
    /// The tunnel, by its number among those that join sites.
    pub joined: usize,
    /// Which end.
    pub end: usize,
    /// Traffic accepted from the other end.
    pub exposure: Exposure,
}

impl InternetExposure {
    /// Works it out.
    pub fn of(estate: &EstateMap) -> Self {
        let services = debug_span!("services").in_scope(|| exposure::all_services(estate));
        let _timed = debug_span!("what is reachable from the Internet").entered();
        let ground = NetworkModel::of(estate);
        let outside = exposure::outside(&ground, &services);
        let relayed = crate::relays::behind(&ground, &services, &outside);
        Self { services, outside, relayed }
    }

    /// Exposure of a device's port to untrusted networks, if any: to any address before limited sources.
    #[must_use]
    pub fn from_outside(&self, device: usize, protocol: Protocol, port: u16) -> Option<&Reachable> {
        self.ways_from_outside(device, protocol, port).min_by_key(|one| (!one.everybody, !one.certain))
    }

    /// Every path by which untrusted networks reach a port of a device.
    pub fn ways_from_outside(
        &self,
        device: usize,
        protocol: Protocol,
        port: u16,
    ) -> impl Iterator<Item = &Reachable> {
        let fits = move |one: &&Reachable| {
            let service = &self.services[device][one.service];
            protocol.0 == Some(one.protocol) && service.port == port
        };
        self.outside.reached_of(device).filter(fits)
    }
}

/// Traffic that each end of a site-to-site tunnel accepts from the networks behind the other.
fn sites(estate: &EstateMap, ground: &NetworkModel<'_>, services: &[Vec<Service>]) -> Vec<Site> {
    let ends: Vec<(usize, usize)> =
        (0..estate.shape().joined.len()).flat_map(|joined| [(joined, 0), (joined, 1)]).collect();
    let of = |(joined, end): &(usize, usize)| {
        let tunnel = &estate.shape().joined[*joined];
        let (here, there) = (&tunnel.ends[*end], &tunnel.ends[1 - *end]);
        let facts = &estate.devices[there.device].facts;
        let behind = facts
            .interfaces
            .iter()
            .filter(|one| one.up != Some(false) && !one.loopback && !one.point_to_point)
            .filter(|one| one.name != there.interface);
        let nets = behind.flat_map(|one| &one.addresses).map(|one| IpRange::from(one.net.trunc()));
        let sources: Vec<IpRange> =
            nets.filter(|range| !is_public(range.first()) && !is_link_local(range.first())).collect();
        let ipsec = estate.shape().shape.segment(here).is_some();
        let exposure = exposure::entering(ground, services, here, ipsec, sources);
        Site { joined: *joined, end: *end, exposure }
    };
    ends.par_iter().with_max_len(1).map(of).collect()
}
