//! Packets as hosts send them: by the interface behind which their source lies.

use trevlin_model::{Facts, IpRange, Match, MatchKind};
use trevlin_packets::{Region, Space};

/// Packets whose source lies behind the interface by which they enter, as far as connected networks and routes tell, and all packets
/// from other sources. The rest is forged, or a host that was plugged in at a wrong place.
pub(super) fn genuine_sources(space: &Space, facts: &Facts) -> Region {
    let plain = |kind| Match { negated: false, kind };
    let mut ways: Vec<Vec<Match>> = Vec::new();
    let mut known: Vec<IpRange> = Vec::new();
    for (name, range) in networks(facts).filter(|(_, range)| range.family() == space.family()) {
        known.push(range);
        ways.push(vec![plain(MatchKind::Entering(name.to_owned())), plain(MatchKind::Source(vec![range]))]);
    }
    if ways.is_empty() {
        return Region::all();
    }
    ways.push(vec![Match { negated: true, kind: MatchKind::Source(known) }]);
    space.region(&[plain(MatchKind::AnyOf(ways))])
}

/// Networks of a device with the interface that leads to them, without those of the default routes.
fn networks(facts: &Facts) -> impl Iterator<Item = (&str, IpRange)> {
    let connected = facts.interfaces.iter().filter(|one| !one.loopback).flat_map(|one| {
        one.addresses.iter().map(|address| (one.name.as_str(), IpRange::from(address.net.trunc())))
    });
    let routed = facts.routes.iter().filter(|route| route.forwards && !route.is_default());
    connected.chain(
        routed.filter_map(|route| Some((route.interface.as_deref()?, IpRange::from(route.destination)))),
    )
}
