//! Common parts of the two checks of intents.

use trevlin_analysis::context::Analyses;
use trevlin_analysis::reachability::From;
use trevlin_analysis::services::endpoint;
use trevlin_model::PortRange;

/// Number of parts listed in one finding.
pub(super) const MOST_TOLD: usize = 6;

/// The device of a finding about an intent without a line: the one that clients enter, otherwise the first.
pub(super) fn place(estate: &Analyses, from: &str) -> usize {
    match From::parse(from) {
        Ok(From::Named(name)) => {
            let device = estate.devices.iter().position(|one| one.name == name);
            let clients = estate.shape().clients.iter().find(|one| one.tunnel == name).map(|one| one.device);
            device.or(clients).unwrap_or_default()
        }
        _ => estate.shape().outside.first().map_or(0, |place| place.device),
    }
}

/// A protocol with its ports, in words.
pub(super) fn ports(protocol: u8, all: &[PortRange]) -> String {
    const MOST: usize = 4;
    if let [PortRange { first: 0, last: 65535 }] = all {
        return format!("every {} port", trevlin_model::Protocol(Some(protocol)).name());
    }
    let shown: Vec<String> = all.iter().take(MOST).map(|one| endpoint(protocol, *one)).collect();
    let more = if all.len() > MOST { format!(" and {} more", all.len() - MOST) } else { String::new() };
    format!("{}{more}", shown.join(", "))
}
