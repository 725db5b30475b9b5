//! Forward proxies: programs that connect to other servers for their clients.

pub(crate) mod dante;
pub(crate) mod squid;
#[cfg(test)]
mod tests;
pub(crate) mod turnserver;

use trevlin_model::served::{AuthRequirement, PartKind, ServiceResource, Sources};
use trevlin_model::{IpRange, Origin, Setting};

/// Lines that are kept as evidence of who is permitted.
const MOST_LINES: usize = 16;

/// Whether a range is half of all addresses of its version or more.
fn is_everywhere(range: IpRange) -> bool {
    Sources::of(vec![range], Vec::new()).is_everybody()
}

/// Who may connect to other servers through a proxy: without a login, and with one where that permits more.
fn parts(
    open: (Sources, Origin),
    with_login: Option<(Sources, AuthRequirement, Origin)>,
    origin: Origin,
) -> Vec<ServiceResource> {
    let part = |name: &str, sources: Sources, login: AuthRequirement, at: Origin| {
        let mut part = ServiceResource::new(PartKind::Relaying, name, origin);
        part.sources = sources;
        part.login = Setting::Stated { value: login, origin: at };
        part.writes = Setting::Stated { value: true, origin };
        part
    };
    let (open, at) = open;
    let more = with_login.map(|(sources, login, at)| (sources.without(&open.ranges), login, at));
    let mut found = Vec::new();
    if !open.is_nobody() {
        found.push(part("without a login", open, AuthRequirement::Nothing, at));
    }
    if let Some((sources, login, at)) = more.filter(|(sources, ..)| !sources.is_nobody()) {
        found.push(part("with a login", sources, login, at));
    }
    // It listens, and permits no client.
    if found.is_empty() {
        found.push(part("", Sources::default(), AuthRequirement::Refused, at));
    }
    found
}
