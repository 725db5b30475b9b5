//! Amount of traffic that a rule permits, as powers of two.

use crate::cube::{Cube, Field, Ranges, Region, ranges};
use crate::review::new_connections;
use crate::space::Space;
use trevlin_model::{Family, Match};

/// Protocols that have ports: TCP, UDP, DCCP, SCTP, UDP-Lite.
const WITH_PORTS: [u128; 5] = [6, 17, 33, 132, 136];

/// How many new connections a rule holds for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Breadth {
    /// Source addresses, as a power of two.
    pub sources: f64,
    /// Destination addresses, as a power of two.
    pub destinations: f64,
    /// Services: protocols, and for those with ports each port, as a power of two.
    pub services: f64,
    /// Sources times destinations times services, as a power of two.
    pub all: f64,
}

impl Breadth {
    /// The breadth of conditions; `None` where they hold for no new connection.
    #[must_use]
    pub fn of(space: &Space, matches: &[Match]) -> Option<Self> {
        let mut region = space.region(matches).and(&new_connections());
        region.cubes = region.cubes.iter().filter_map(begins).collect();
        Self::of_region(space.family(), &region)
    }

    /// The breadth of a region.
    #[must_use]
    pub fn of_region(family: Family, region: &Region) -> Option<Self> {
        let widest = |side: &dyn Fn(&Cube) -> f64| region.cubes.iter().map(side).fold(0.0, f64::max);
        let sum: f64 = region
            .cubes
            .iter()
            .map(|cube| {
                addresses(cube, Field::Source, family)
                    * addresses(cube, Field::Destination, family)
                    * services(cube)
            })
            .sum();
        (sum > 0.0).then(|| Self {
            sources: widest(&|cube| addresses(cube, Field::Source, family)).log2(),
            destinations: widest(&|cube| addresses(cube, Field::Destination, family)).log2(),
            services: widest(&services).log2(),
            all: sum.log2(),
        })
    }
}

/// The part of a cube whose packets begin a connection: TCP does so with SYN alone (RFC 9293, 3.5), so that a permit for packets with
/// ACK opens nothing.
fn begins(cube: &Cube) -> Option<Cube> {
    let Some(flags) = cube.side(Field::TcpFlags) else { return Some(cube.clone()) };
    if crate::cube::holds(flags, SYN) {
        return Some(cube.clone());
    }
    cube.and(&Cube::of(Field::Protocol, ranges(vec![(0, TCP - 1), (TCP + 1, 255)]))?)
}

const TCP: u128 = 6;
const SYN: u128 = 0b10;

fn size(ranges: &Ranges) -> f64 {
    ranges.iter().map(|(first, last)| (last - first) as f64 + 1.0).sum()
}

fn addresses(cube: &Cube, field: Field, family: Family) -> f64 {
    let all = if family == Family::V4 { 32 } else { 128 };
    cube.side(field).map_or_else(|| 2f64.powi(all), size)
}

fn services(cube: &Cube) -> f64 {
    let ports = cube.side(Field::DestinationPort).map_or(65536.0, size);
    let limited = cube.side(Field::DestinationPort).is_some() || cube.side(Field::SourcePort).is_some();
    let protocols = cube.side(Field::Protocol);
    let holds = |protocol: u128| protocols.is_none_or(|side| crate::cube::holds(side, protocol));
    let with = WITH_PORTS.iter().filter(|one| holds(**one)).count() as f64;
    // A condition about ports is for those that have them.
    let without = if limited {
        0.0
    } else {
        let all = protocols.map_or(256, |side| {
            side.iter().map(|(first, last)| (last + 1).min(256).saturating_sub(*first)).sum()
        });
        all as f64 - with
    };
    with * ports + without
}

#[cfg(test)]
mod tests {
    use super::*;
    use trevlin_model::{ConnectionStates, IpRange, MatchKind, PortRange, Protocol};

    #[test]
    fn rules_have_their_breadth() {
        let space = Space::new(Family::V4, &[], &[]);
        let plain = |kind| Match { negated: false, kind };
        let net = |text: &str| vec![IpRange::from(text.parse::<ipnet::IpNet>().unwrap())];
        let port = |first, last| plain(MatchKind::DestinationPorts(vec![PortRange { first, last }]));
        let tcp = || plain(MatchKind::Protocol(Protocol::TCP));
        for (matches, wanted) in [
            (vec![], Some((32.0, 32.0))),
            (vec![plain(MatchKind::Source(net("10.0.0.0/8"))), tcp()], Some((24.0, 32.0))),
            (
                vec![
                    plain(MatchKind::Source(net("10.0.0.0/24"))),
                    plain(MatchKind::Destination(net("10.1.0.1/32"))),
                    tcp(),
                    port(443, 443),
                ],
                Some((8.0, 0.0)),
            ),
            (
                vec![plain(MatchKind::States(ConnectionStates {
                    established: true,
                    ..ConnectionStates::default()
                }))],
                None,
            ),
        ] {
            let found = Breadth::of(&space, &matches);
            assert_eq!(found.map(|one| (one.sources, one.destinations)), wanted, "{matches:?}");
        }
        let one = Breadth::of(&space, &[tcp(), port(1, 1024)]).unwrap();
        assert_eq!((one.services, one.all), (10.0, 74.0));
        let gre = Breadth::of(&space, &[plain(MatchKind::Protocol(Protocol::GRE))]).unwrap();
        assert_eq!(gre.services, 0.0);
        let any = Breadth::of(&space, &[]).unwrap();
        assert!((18.3..18.4).contains(&any.services), "five protocols with ports, and the others");
    }
}
