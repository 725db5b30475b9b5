//! Networks that interfaces share.

pub use crate::topology::shape::Network;
use crate::topology::{Assumption, Topology};
use ipnet::IpNet;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use trevlin_estate::assemble::Estate;
use trevlin_estate::special::{is_link_local, is_public};
use trevlin_model::{Device, Interface, IpRange, Origin};
use trevlin_packets::way::Place;

/// Whether other hosts live on an interface's network.
fn shared(interface: &Interface) -> bool {
    interface.up != Some(false) && !interface.loopback && !interface.point_to_point
}

/// Interfaces that are on one network find each other's group.
struct Groups(Vec<usize>);

impl Groups {
    fn find(&mut self, mut at: usize) -> usize {
        while self.0[at] != at {
            self.0[at] = self.0[self.0[at]];
            at = self.0[at];
        }
        at
    }

    fn join(&mut self, a: usize, b: usize) {
        let (a, b) = (self.find(a), self.find(b));
        // The smaller number leads, so that the result does not depend on the order of joining.
        let (first, second) = (a.min(b), a.max(b));
        self.0[second] = first;
    }
}

/// An address of an interface, with its network.
struct Member {
    net: IpNet,
    address: IpAddr,
    /// By its number among all interfaces.
    place: usize,
    origin: Origin,
}

/// A network that holds the next ones.
struct Level<'a> {
    net: IpNet,
    /// Groups of interfaces on it, each by its first, with their site.
    groups: Vec<(usize, Option<&'a str>)>,
    /// The first that has an address.
    held: BTreeMap<IpAddr, usize>,
}

/// Joins interfaces with overlapping networks, unless they are at different sites or the estate file states otherwise.
pub(super) fn join(estate: &Estate, all: &mut Topology) {
    let mut places: Vec<Place> = Vec::new();
    let mut members: Vec<Member> = Vec::new();
    for (device, one) in estate.devices.iter().enumerate() {
        for interface in one.facts.interfaces.iter().filter(|one| shared(one)) {
            let place = places.len();
            places.push(Place { device, interface: interface.name.clone() });
            let addresses = interface.addresses.iter().filter(|one| one.peer.is_none());
            for address in addresses.filter(|one| !is_link_local(one.net.addr())) {
                let (net, origin) = (address.net.trunc(), address.origin);
                members.push(Member { net, address: address.net.addr(), place, origin });
            }
        }
    }
    let mut groups = Groups((0..places.len()).collect());
    let number: BTreeMap<&Place, usize> = places.iter().enumerate().map(|(at, place)| (place, at)).collect();
    let told = |pairs: &[[(String, String); 2]]| -> Vec<[usize; 2]> {
        let find = |(device, interface): &(String, String)| {
            let device = estate.devices.iter().position(|one| one.name == *device)?;
            number.get(&Place { device, interface: interface.clone() }).copied()
        };
        pairs.iter().filter_map(|[a, b]| Some([find(a)?, find(b)?])).collect()
    };
    let (joined, apart) = (told(&estate.joined), told(&estate.apart));
    let apart: BTreeSet<[usize; 2]> = apart.into_iter().flat_map(|[a, b]| [[a, b], [b, a]]).collect();
    let joined_so: BTreeSet<usize> = joined.iter().flatten().copied().collect();
    members.sort_by_key(|one| (one.net.network(), one.net.prefix_len(), one.place));
    // Networks are nested or apart: those that hold the next one are open.
    let mut open: Vec<Level<'_>> = Vec::new();
    for (at, member) in members.iter().enumerate() {
        open.retain(|level| level.net.contains(&member.net));
        let site = estate.devices[places[member.place].device].site.as_deref();
        let site = site.filter(|_| !is_public(member.address));
        let mut alone = false;
        for level in &mut open {
            let kept_apart = |groups: &mut Groups, first: usize| {
                let group = groups.find(members[first].place);
                apart.iter().any(|[a, b]| *a == member.place && groups.find(*b) == group)
            };
            let fits = |one: &(usize, Option<&str>)| one.1.is_none() || site.is_none() || one.1 == site;
            let Some(group) =
                level.groups.iter_mut().find(|one| fits(one) && !kept_apart(&mut groups, one.0))
            else {
                continue;
            };
            let first = &members[group.0];
            let twin = level.held.get(&member.address).filter(|other| {
                let other = &members[**other];
                other.place != member.place && groups.find(other.place) == groups.find(first.place)
            });
            if let Some(twin) = twin.filter(|_| !joined_so.contains(&member.place)) {
                // Two with one address: two networks of the same numbers, for all that is known.
                all.assumptions.push(twins(estate, &places, &members[*twin], member));
                alone = true;
                continue;
            }
            groups.join(first.place, member.place);
            group.1 = group.1.or(site);
        }
        if open.last().is_none_or(|level| level.net != member.net) {
            open.push(Level { net: member.net, groups: Vec::new(), held: BTreeMap::new() });
        }
        if let Some(level) = open.last_mut() {
            level.held.entry(member.address).or_insert(at);
            let group = groups.find(member.place);
            if alone || !level.groups.iter().any(|(one, _)| groups.find(members[*one].place) == group) {
                level.groups.push((at, site));
            }
        }
    }
    joined.iter().for_each(|[a, b]| groups.join(*a, *b));
    settle(estate, all, &places, &members, &mut groups);
}

fn twins(estate: &Estate, places: &[Place], a: &Member, b: &Member) -> Assumption {
    let name = |one: &Member| {
        let place = &places[one.place];
        format!("{}:{}", estate.devices[place.device].name, place.interface)
    };
    Assumption {
        text: format!(
            "{} and {} both have {}, and are assumed to be on two separate networks with the same addresses",
            name(a),
            name(b),
            a.address
        ),
        otherwise: format!("[shape] joined = [[\"{}\", \"{}\"]]", name(a), name(b)),
        origins: vec![a.origin, b.origin],
    }
}

fn settle(estate: &Estate, all: &mut Topology, places: &[Place], members: &[Member], groups: &mut Groups) {
    let mut by_leader: BTreeMap<usize, usize> = BTreeMap::new();
    for (at, place) in places.iter().enumerate() {
        let leader = groups.find(at);
        let segment = *by_leader.entry(leader).or_insert_with(|| {
            all.networks.push(Network { prefixes: Vec::new(), members: Vec::new() });
            all.networks.len() - 1
        });
        all.networks[segment].members.push(place.clone());
        all.shape.put_on(place.clone(), segment);
    }
    for member in members {
        let leader = groups.find(member.place);
        if let Some(segment) = by_leader.get(&leader) {
            all.networks[*segment].prefixes.push(member.net);
        }
    }
    for (number, network) in all.networks.iter_mut().enumerate() {
        network.prefixes.sort();
        network.prefixes.dedup();
        network.prefixes.iter().for_each(|net| all.shape.has_prefix(number, IpRange::from(*net)));
    }
    for (device, one) in estate.devices.iter().enumerate() {
        hold(all, device, one);
    }
    for number in 0..all.networks.len() {
        if let Ok(place) = router(estate, all, number) {
            all.shape.routes_for(number, place);
        }
    }
}

/// The default router of the hosts of a network: the most frequent next hop there, otherwise the only device that is on another network as
/// well.
///
/// # Errors
/// The candidates, where several are as likely.
pub fn router(estate: &Estate, all: &Topology, number: usize) -> Result<Place, Vec<Place>> {
    let network = &all.networks[number];
    let mut votes: BTreeMap<&Place, usize> = BTreeMap::new();
    for place in &network.members {
        let routes = &estate.devices[place.device].facts.routes;
        let here =
            routes.iter().filter(|one| one.is_default() && one.interface.as_ref() == Some(&place.interface));
        for gateway in here.filter_map(|route| route.gateway) {
            if let Some(holder) = all.shape.holder(number, gateway) {
                *votes.entry(holder).or_default() += 1;
            }
        }
    }
    if let Some(most) = votes.values().max() {
        let mut first = votes.iter().filter(|(_, count)| *count == most).map(|(place, _)| (*place).clone());
        if let (Some(one), None) = (first.next(), first.next()) {
            return Ok(one);
        }
    }
    let interfaces = |place: &Place, joins: fn(&Interface) -> bool| {
        let all = &estate.devices[place.device].facts.interfaces;
        all.iter().any(|one| one.name != place.interface && joins(one))
    };
    // A device that connects networks; otherwise one with VPN clients behind it.
    for joins in [shared, |one: &Interface| !one.loopback] {
        let candidates: Vec<Place> =
            network.members.iter().filter(|place| interfaces(place, joins)).cloned().collect();
        match candidates.as_slice() {
            [] => {}
            [one] => return Ok(one.clone()),
            _ => return Err(candidates),
        }
    }
    Err(Vec::new())
}

/// Who has which address, those of one link included.
fn hold(all: &mut Topology, device: usize, one: &Device) {
    for interface in one.facts.interfaces.iter().filter(|one| one.up != Some(false)) {
        let place = Place { device, interface: interface.name.clone() };
        for address in &interface.addresses {
            all.shape.holds(&place, address.net.addr());
        }
    }
}
