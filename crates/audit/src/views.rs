//! What is reached from outside and by callers, worked out once for all checks that ask.

use crate::exposure::{self, Exposure, Reachable};
use crate::intents::Held;
use crate::reach::Ground;
use crate::services::Service;
use crate::special::{is_link_local, is_public};
use crate::{Analyses, Estate, EstateMap, Rating, Severity};
use rayon::prelude::*;
use std::collections::BTreeMap;
use trevlin_model::{Device, Family, IpRange, Origin, PortForward, Protocol};
use trevlin_packets::way::Step;

/// What is served, and what of it is reached from where.
#[derive(Debug)]
pub struct Views {
    /// What each device serves.
    pub services: Vec<Vec<Service>>,
    /// What the outside reaches.
    pub outside: Exposure,
}

/// What is reached from within.
#[derive(Debug)]
pub struct InnerViews {
    /// What callers of each tunnel reach, in the order of the estate's callers.
    pub callers: Vec<Exposure>,
    /// What each end of a tunnel between sites lets in.
    pub sites: Vec<Site>,
    /// Every intent, held against what is.
    pub intents: Vec<Held>,
    /// Numbers of the callers who reach anything of a device, by device.
    coming_to: BTreeMap<usize, Vec<usize>>,
}

impl InnerViews {
    pub(crate) fn of(estate: &EstateMap, services: &[Vec<Service>]) -> Self {
        let ground = Ground::of(estate);
        let of_callers = || {
            let callers = estate.shape().callers.par_iter().with_max_len(1);
            callers.map(|one| exposure::callers(&ground, services, one)).collect()
        };
        let others = || rayon::join(|| sites(estate, &ground, services), || crate::intents::hold(&ground));
        let (callers, (sites, intents)): (Vec<Exposure>, _) = rayon::join(of_callers, others);
        let mut coming_to: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        for (number, exposure) in callers.iter().enumerate() {
            for device in exposure.reached_devices() {
                coming_to.entry(device).or_default().push(number);
            }
        }
        Self { callers, sites, intents, coming_to }
    }

    /// What callers reach who reach anything of a device, with their number, in the order of the estate's callers.
    pub(crate) fn coming_to(&self, device: usize) -> impl Iterator<Item = (usize, &Exposure)> {
        let numbers = self.coming_to.get(&device).into_iter().flatten();
        numbers.map(|number| (*number, &self.callers[*number]))
    }
}

/// From where a service is reached, as far as the exports tell.
#[derive(Debug, Clone)]
pub(crate) enum Whence<'a> {
    /// Anybody outside reaches it.
    Everybody(&'a Reachable),
    /// Some outside do.
    Some(&'a Reachable),
    /// The outside is known, and nobody there does.
    Inside,
    /// Where the outside is, is not known, but a device forwards to it.
    Forwarded(&'a Device, &'a PortForward),
    /// It cannot be told.
    NotKnown,
}

impl<'a> Whence<'a> {
    /// From where a port of a device is reached.
    pub(crate) fn of(estate: &'a Analyses, device: usize, protocol: Protocol, port: u16) -> Self {
        if let Some(reached) = estate.views().from_outside(device, protocol, port) {
            return match (reached.everybody, reached.certain) {
                (true, true) => Self::Everybody(reached),
                (false, true) => Self::Some(reached),
                // A rule that is not modelled decides.
                (_, false) => Self::NotKnown,
            };
        }
        let placed = estate.devices[device].facts.has_interfaces;
        if placed && !estate.shape().outside.is_empty() {
            return Self::Inside;
        }
        match estate.forwards_of_port(device, protocol, port).first() {
            Some((front, forward)) => Self::Forwarded(front, forward),
            None => Self::NotKnown,
        }
    }

    /// Why that weighs, as a phrase.
    pub(crate) fn phrase(&self, estate: &Estate) -> Option<String> {
        Some(match self {
            Self::Everybody(reached) => format!("anybody outside reaches it{}", by_way_of(estate, reached)),
            Self::Some(reached) => format!("{} reach it from outside", some_ranges(&reached.sources)),
            Self::Inside => "only the inside reaches it".to_owned(),
            Self::Forwarded(front, _) => format!("{} forwards callers to it", front.name),
            Self::NotKnown => return None,
        })
    }

    /// Whether anybody who is not known reaches it.
    pub(crate) fn is_open(&self) -> bool {
        matches!(self, Self::Everybody(_) | Self::Forwarded(..))
    }

    /// Lines that prove it.
    pub(crate) fn evidence(&self) -> Vec<Origin> {
        match self {
            Self::Everybody(reached) | Self::Some(reached) => {
                reached.forward.into_iter().chain(deciding(&reached.steps)).collect()
            }
            Self::Forwarded(_, forward) => vec![forward.origin],
            Self::Inside | Self::NotKnown => Vec::new(),
        }
    }
}

/// A rating by whence a login is reached: critical for anybody outside, a step milder from inside alone.
pub(crate) fn rated_from(rating: Rating, whence: &Whence<'_>, estate: &Estate) -> Rating {
    let Some(from) = whence.phrase(estate) else { return rating };
    match whence {
        Whence::Everybody(_) => rating.at(Severity::Critical, from),
        Whence::Inside => rating.lowered(from),
        _ => rating.because(from),
    }
}

/// The devices in front of a service, as a phrase.
fn by_way_of(estate: &Estate, reached: &Reachable) -> String {
    let mut names: Vec<&str> = reached
        .steps
        .iter()
        .filter(|step| step.device != reached.device)
        .filter_map(|step| estate.devices.get(step.device))
        .map(|device| device.name.as_str())
        .collect();
    names.dedup();
    if names.is_empty() { String::new() } else { format!(", through {}", names.join(" and ")) }
}

/// Lines of rules and translations among what decided; routes only say how it got there.
pub(crate) fn deciding(steps: &[Step]) -> impl Iterator<Item = Origin> {
    steps.iter().filter(|step| !step.kind.is_route()).filter_map(|step| step.origin)
}

/// The first device on the way of which no packet filter was exported, so that what it lets through is not known.
pub(crate) fn without_filter(estate: &Estate, steps: &[Step], family: Family) -> Option<usize> {
    let mut devices = steps.iter().map(|step| step.device).filter(|device| *device < estate.devices.len());
    devices.find(|device| estate.tables(*device, family).is_empty())
}

/// One end of a tunnel between sites.
#[derive(Debug)]
pub struct Site {
    /// The tunnel, by its number among those that join sites.
    pub joined: usize,
    /// Which end.
    pub end: usize,
    /// What comes through from the other end.
    pub exposure: Exposure,
}

impl Views {
    pub(crate) fn of(estate: &EstateMap) -> Self {
        let services = exposure::all_services(estate);
        let ground = Ground::of(estate);
        let outside = exposure::outside(&ground, &services);
        Self { services, outside }
    }

    /// How the outside reaches a port of a device, where it does: for everybody before for some.
    #[must_use]
    pub fn from_outside(&self, device: usize, protocol: Protocol, port: u16) -> Option<&Reachable> {
        self.ways_from_outside(device, protocol, port).min_by_key(|one| (!one.everybody, !one.certain))
    }

    /// Every way in which the outside reaches a port of a device.
    pub(crate) fn ways_from_outside(
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

/// What each end of a tunnel between sites lets in from the networks behind the other.
fn sites(estate: &EstateMap, ground: &Ground<'_>, services: &[Vec<Service>]) -> Vec<Site> {
    let ends: Vec<(usize, usize)> =
        (0..estate.shape().joined.len()).flat_map(|joined| [(joined, 0), (joined, 1)]).collect();
    let of = |(joined, end): &(usize, usize)| {
        let tunnel = &estate.shape().joined[*joined];
        let (here, there) = (&tunnel.ends[*end], &tunnel.ends[1 - *end]);
        let facts = &estate.devices[there.device].facts;
        let behind = facts
            .interfaces
            .iter()
            .filter(|one| !one.loopback && !one.point_to_point && one.name != there.interface);
        let nets = behind.flat_map(|one| &one.addresses).map(|one| IpRange::from(one.net.trunc()));
        let sources: Vec<IpRange> =
            nets.filter(|range| !is_public(range.first()) && !is_link_local(range.first())).collect();
        let ipsec = estate.shape().shape.segment(here).is_some();
        let exposure = exposure::through_tunnel(ground, services, here, ipsec, sources);
        Site { joined: *joined, end: *end, exposure }
    };
    ends.par_iter().with_max_len(1).map(of).collect()
}

/// Ranges in their shortest form, a few of them.
pub(crate) fn some_ranges(all: &[IpRange]) -> String {
    const MOST: usize = 4;
    let shown = all.iter().take(MOST).map(IpRange::short).collect::<Vec<_>>().join(", ");
    if all.len() > MOST { format!("{shown} and {} more", all.len() - MOST) } else { shown }
}
