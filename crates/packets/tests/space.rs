//! The matching packets of a rule's conditions, computed as a region and evaluated for one packet: two ways that must agree.

use proptest::prelude::*;
use trevlin_model::{
    AddressKind, ConnectionStates, ExportId, Family, IcmpRange, Interface, InterfaceAddress, IpRange, Match,
    MatchKind, Origin, PortRange, Protocol,
};
use trevlin_packets::{Holds, Point, Space};

const PLACE: Origin = Origin { export: ExportId(0), start: 0, end: 1 };

fn interface(name: &str, net: &str) -> Interface {
    let address =
        InterfaceAddress { net: net.parse().expect("a network"), peer: None, dynamic: false, origin: PLACE };
    Interface {
        name: name.into(),
        loopback: name == "lo",
        point_to_point: false,
        up: None,
        addresses: vec![address],
        asks: None,
        origin: PLACE,
    }
}

fn range() -> impl Strategy<Value = Vec<IpRange>> {
    let address = prop::sample::select(vec![
        "10.0.0.0/8",
        "10.4.0.1/32",
        "10.4.0.0/24",
        "0.0.0.0/1",
        "2001:db8::/32",
        "224.0.0.0/4",
    ]);
    prop::collection::vec(
        address.prop_map(|net| IpRange::from(net.parse::<ipnet::IpNet>().expect("a network"))),
        0..3,
    )
}

fn ports() -> impl Strategy<Value = Vec<PortRange>> {
    prop::collection::vec(
        (0u16..4, 0u16..4).prop_map(|(a, b)| PortRange { first: a.min(b), last: a.max(b) }),
        1..3,
    )
}

fn kind() -> impl Strategy<Value = MatchKind> {
    let states =
        any::<[bool; 7]>().prop_map(|[new, established, related, invalid, untracked, snat, dnat]| {
            MatchKind::States(ConnectionStates { new, established, related, invalid, untracked, snat, dnat })
        });
    prop_oneof![
        prop::sample::select(vec!["eth0", "eth+", "lo", "+"])
            .prop_map(|name| MatchKind::Entering(name.into())),
        prop::sample::select(vec!["eth0", "e+"]).prop_map(|name| MatchKind::Leaving(name.into())),
        prop::sample::select(vec![Family::V4, Family::V6]).prop_map(MatchKind::Version),
        range().prop_map(MatchKind::Source),
        range().prop_map(MatchKind::Destination),
        range().prop_map(MatchKind::OriginalDestination),
        ports().prop_map(MatchKind::OriginalDestinationPorts),
        (
            any::<bool>(),
            prop::sample::subsequence(
                vec![
                    AddressKind::Local,
                    AddressKind::Broadcast,
                    AddressKind::Multicast,
                    AddressKind::Unicast
                ],
                0..3
            )
        )
            .prop_map(|(destination, kinds)| MatchKind::AddressIs { destination, kinds }),
        prop::sample::select(vec![Protocol(None), Protocol::TCP, Protocol::UDP])
            .prop_map(MatchKind::Protocol),
        ports().prop_map(MatchKind::SourcePorts),
        ports().prop_map(MatchKind::DestinationPorts),
        ports().prop_map(MatchKind::EitherPorts),
        (0u8..3).prop_map(|kind| MatchKind::Icmp(vec![IcmpRange::of_type(kind)])),
        (0u8..64, 0u8..64)
            .prop_map(|(looked_at, set)| MatchKind::TcpFlags { looked_at, set: set & looked_at }),
        states,
        Just(MatchKind::Reply),
        any::<bool>().prop_map(|leaving| MatchKind::Ipsec { leaving }),
        (0u32..3, 0u32..3).prop_map(|(a, b)| MatchKind::User(a.min(b), a.max(b))),
        Just(MatchKind::NotAnalysed(trevlin_model::Residual::as_written("mark"))),
    ]
}

fn condition() -> impl Strategy<Value = Match> {
    let one = || (any::<bool>(), kind()).prop_map(|(negated, kind)| Match { negated, kind });
    let list = prop::collection::vec(one(), 0..3);
    let any_of = (any::<bool>(), prop::collection::vec(list, 0..3))
        .prop_map(|(negated, all)| Match { negated, kind: MatchKind::AnyOf(all) });
    prop_oneof![4 => one(), 1 => any_of]
}

/// Values near the borders of the conditions above.
fn point() -> impl Strategy<Value = Point> {
    let address = || {
        prop::sample::select(vec![
            0x0a04_0001u128,
            0x0a04_0002,
            0x0a04_00ff,
            0x0b00_0000,
            0x8000_0000,
            0xe000_0001,
            u32::MAX.into(),
            0x7f00_0001,
        ])
    };
    let small = |end: u128| 0..end;
    (
        (small(4), small(4), prop::sample::select(vec![1u128, 6, 17, 47]), address(), address()),
        (small(5), small(5), small(0x400), small(64), small(4)),
        (small(2), small(2), small(2), address(), small(5), small(2), small(2)),
        (small(4), small(4)),
    )
        .prop_map(|(a, b, c, d)| {
            [a.0, a.1, a.2, a.3, a.4, b.0, b.1, b.2, b.3, b.4, c.0, c.1, c.2, c.3, c.4, c.5, c.6, d.0, d.1]
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]

    #[test]
    fn a_packet_is_in_the_region_where_the_conditions_hold(
        matches in prop::collection::vec(condition(), 0..4),
        point in point(),
    ) {
        let interfaces = [interface("lo", "127.0.0.1/8"), interface("eth0", "10.4.0.1/24"), interface("eth1", "10.5.0.1/24")];
        let space = Space::new(Family::V4, &[], &interfaces);
        let region = space.region(&matches);
        match space.all_hold(&matches, &point) {
            Holds::Yes => prop_assert!(region.contains(&point), "{region:?}"),
            // Where a condition is not analysed the region is the set it may match.
            Holds::Perhaps => prop_assert!(!region.exact && region.contains(&point), "{region:?}"),
            Holds::No => prop_assert!(!region.contains(&point) || !region.exact, "{region:?}"),
        }
    }
}
