//! What is reached from outside and by callers, worked out once for all checks that ask.

use crate::Estate;
use crate::exposure::{self, Exposure, Reachable};
use crate::intents::Held;
use crate::reach::Ground;
use crate::services::Service;
use crate::special::{is_link_local, is_public};
use rayon::prelude::*;
use trevlin_model::{IpRange, Protocol};

/// What is served, and what of it is reached from where.
#[derive(Debug)]
pub struct Views {
    /// What each device serves.
    pub services: Vec<Vec<Service>>,
    /// What the outside reaches.
    pub outside: Exposure,
    /// What callers of each tunnel reach, in the order of the estate's callers.
    pub callers: Vec<Exposure>,
    /// What each end of a tunnel between sites lets in.
    pub sites: Vec<Site>,
    /// Every intent, held against what is.
    pub intents: Vec<Held>,
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
    pub(crate) fn of(estate: &Estate) -> Self {
        let services = exposure::all_services(estate);
        let ground = Ground::of(estate);
        let outside = exposure::outside(&ground, &services);
        let callers =
            estate.shape().callers.par_iter().map(|one| exposure::callers(&ground, &services, one)).collect();
        let sites = sites(estate, &ground, &services);
        let intents = crate::intents::hold(&ground);
        Self { services, outside, callers, sites, intents }
    }

    /// How the outside reaches a port of a device, where it does: for everybody before for some.
    #[must_use]
    pub fn from_outside(&self, device: usize, protocol: Protocol, port: u16) -> Option<&Reachable> {
        let fits = |one: &&Reachable| {
            let service = &self.services[one.device][one.service];
            one.device == device && protocol.0 == Some(one.protocol) && service.port == port
        };
        self.outside.reached.iter().filter(fits).min_by_key(|one| (!one.everybody, !one.certain))
    }

    /// Whether anything of a device is reached from outside.
    #[must_use]
    pub fn any_from_outside(&self, device: usize) -> bool {
        self.outside.reached.iter().any(|one| one.device == device)
    }
}

/// What each end of a tunnel between sites lets in from the networks behind the other.
fn sites(estate: &Estate, ground: &Ground<'_>, services: &[Vec<Service>]) -> Vec<Site> {
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
    ends.par_iter().map(of).collect()
}

/// Ranges in their shortest form, a few of them.
pub(crate) fn some_ranges(all: &[IpRange]) -> String {
    const MOST: usize = 4;
    let shown = all.iter().take(MOST).map(IpRange::short).collect::<Vec<_>>().join(", ");
    if all.len() > MOST { format!("{shown} and {} more", all.len() - MOST) } else { shown }
}
