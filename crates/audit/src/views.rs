//! What is reached from outside and by callers, worked out once for all checks that ask.

use crate::Estate;
use crate::exposure::{self, Exposure, Reachable};
use crate::reach::Ground;
use crate::services::Service;
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
}

impl Views {
    pub(crate) fn of(estate: &Estate) -> Self {
        let services = exposure::all_services(estate);
        let ground = Ground::of(estate);
        let outside = exposure::outside(&ground, &services);
        let callers =
            estate.shape().callers.par_iter().map(|one| exposure::callers(&ground, &services, one)).collect();
        Self { services, outside, callers }
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

/// Ranges in their shortest form, a few of them.
pub(crate) fn some_ranges(all: &[IpRange]) -> String {
    const MOST: usize = 4;
    let shown = all.iter().take(MOST).map(IpRange::short).collect::<Vec<_>>().join(", ");
    if all.len() > MOST { format!("{shown} and {} more", all.len() - MOST) } else { shown }
}
