//! Services behind relays: names, lines and ratings.

use crate::rating::Rating;
use crate::support::each_once;
use crate::support::openings::for_sources;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::relays::{RelayTarget, Relayed};
use trevlin_analysis::services::known_port;
use trevlin_analysis::ways::cited;
use trevlin_model::Origin;
use trevlin_model::served::AuthRequirement;

/// Lines that prove it: the way to the first relay, each relay, and the way from it.
pub(crate) fn lines(estate: &Analyses, one: &Relayed) -> Vec<Origin> {
    let internet = estate.internet();
    let reached = &internet.outside.reached[one.reached];
    let service = &internet.services[reached.device][reached.service];
    let mut lines: Vec<Origin> = reached.forward.into_iter().chain(cited(&reached.steps)).collect();
    lines.extend(service.configured);
    lines.extend(
        one.through.iter().map(|(device, number)| estate.devices[*device].facts.relays[*number].origin),
    );
    lines.extend(cited(&one.steps));
    each_once(lines)
}

/// The name of the server, with its device.
pub(crate) fn named(estate: &Analyses, one: &Relayed) -> String {
    let relay = one.last(estate);
    let protocol = relay.protocol.name();
    let of_port = || known_port(relay.protocol.0.unwrap_or(6), relay.port).map(|known| known.name.clone());
    match one.target {
        RelayTarget::Service { device, service } => {
            let service = &estate.internet().services[device][service];
            format!("{} ({}) of {}", service.name, service.endpoint(), estate.devices[device].name)
        }
        RelayTarget::Host { address, device } => {
            let host = device.map_or_else(|| address.to_string(), |at| estate.devices[at].name.clone());
            match of_port() {
                Some(name) => format!("{name} ({protocol} {}) of {host}", relay.port),
                None => format!("{protocol} {} of {host}", relay.port),
            }
        }
        RelayTarget::Unresolved => relay.target(),
    }
}

/// The rating for the clients that are permitted, and for the login of the relay.
pub(crate) fn limited(estate: &Analyses, rating: Rating, one: &Relayed) -> Rating {
    let rating = for_sources(rating, one.everybody, &one.clients);
    match strongest_login(estate, one) {
        Some(AuthRequirement::Password) => rating.lowered("the relay requires a password"),
        _ => rating,
    }
}

/// The strongest login that a relay on the way requires.
pub(crate) fn strongest_login(estate: &Analyses, one: &Relayed) -> Option<AuthRequirement> {
    let relays = one.through.iter().map(|(device, number)| &estate.devices[*device].facts.relays[*number]);
    relays.filter_map(|relay| relay.login).max()
}
