//! The review of rules against brute force: every packet of a small world is walked through the list as the kernel walks, and
//! what each rule decided is compared with what the review says of it.

use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::{
    Chain, ChainKind, ConnectionStates, ExportId, ExportState, Families, Family, Filter, FilterFormat, Hook,
    IpRange, Match, MatchKind, Origin, PortRange, Protocol, Rule, Target,
};
use trevlin_packets::Space;
use trevlin_packets::program::RuleId;
use trevlin_packets::review::{ChainReview, Left, Standing, review};

const PLACE: Origin = Origin { export: ExportId(0), start: 0, end: 1 };

/// A packet of the small world: one for each class that the rules below can tell apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Packet {
    entering: &'static str,
    source: u8,
    destination: u8,
    protocol: u8,
    port: u16,
    /// 0 is new, 1 established, 2 anything else.
    state: u8,
}

fn packets() -> Vec<Packet> {
    let mut all = Vec::new();
    for entering in ["eth0", "eth1", "eth2", "other"] {
        for source in 0..5 {
            for destination in [0, 1, 9] {
                for protocol in [6, 17, 47] {
                    for (port, state) in
                        [1, 2, 3, 9].into_iter().flat_map(|port| [0, 1, 2].map(|state| (port, state)))
                    {
                        all.push(Packet { entering, source, destination, protocol, port, state });
                    }
                }
            }
        }
    }
    all
}

/// Sources 0 to 3 by their last byte, and 4 for every other.
fn source_of(packet: &Packet) -> std::net::IpAddr {
    if packet.source == 4 { [192, 0, 2, 1].into() } else { [10, 0, 0, packet.source].into() }
}

fn destination_of(packet: &Packet) -> std::net::IpAddr {
    if packet.destination == 9 { [192, 0, 2, 2].into() } else { [10, 1, 0, packet.destination].into() }
}

fn holds(one: &Match, packet: &Packet) -> bool {
    let lies = |ranges: &[IpRange], address| ranges.iter().any(|range| range.contains(address));
    let plain = match &one.kind {
        MatchKind::Entering(name) => {
            name == packet.entering || (name == "eth+" && packet.entering != "other")
        }
        MatchKind::Source(ranges) => lies(ranges, source_of(packet)),
        MatchKind::Destination(ranges) => lies(ranges, destination_of(packet)),
        MatchKind::Protocol(protocol) => protocol.0 == Some(packet.protocol),
        MatchKind::DestinationPorts(ports) => ports.iter().any(|range| range.contains(packet.port)),
        MatchKind::States(states) => match packet.state {
            0 => states.new,
            1 => states.established,
            _ => false,
        },
        MatchKind::AnyOf(all) => all.iter().any(|list| list.iter().all(|one| holds(one, packet))),
        _ => unreachable!("not made here"),
    };
    plain != one.negated
}

/// What became of a packet, and on the way there the rules that held for it.
#[derive(Debug, Default, PartialEq, Eq)]
struct Way {
    ended: Option<(RuleId, Target)>,
    logged: usize,
    held: BTreeSet<RuleId>,
}

enum End {
    Ended,
    Returned,
}

fn walk(filter: &Filter, number: usize, packet: &Packet, without: Option<RuleId>, way: &mut Way) -> End {
    for (at, rule) in filter.chains[number].rules.iter().enumerate() {
        let id = RuleId { chain: number as u32, rule: at as u32 };
        if Some(id) == without || !rule.matches.iter().all(|one| holds(one, packet)) {
            continue;
        }
        way.held.insert(id);
        way.logged += usize::from(rule.logs);
        match &rule.target {
            Target::Accept | Target::Drop => {
                way.ended = Some((id, rule.target.clone()));
                return End::Ended;
            }
            Target::Return => return End::Returned,
            Target::Jump(name) | Target::Goto(name) => {
                let next = filter.chains.iter().position(|chain| chain.name == *name).expect("a chain");
                if let End::Ended = walk(filter, next, packet, without, way) {
                    return End::Ended;
                }
                if matches!(rule.target, Target::Goto(_)) {
                    return End::Returned;
                }
            }
            _ => {}
        }
    }
    End::Returned
}

fn way(filter: &Filter, packet: &Packet, without: Option<RuleId>) -> Way {
    let mut way = Way::default();
    walk(filter, 0, packet, without, &mut way);
    way
}

fn fate(filter: &Filter, packet: &Packet, without: Option<RuleId>) -> (Target, usize) {
    let way = way(filter, packet, without);
    let policy = filter.chains[0].policy.clone().expect("a policy");
    (way.ended.map_or(policy, |(_, target)| target), way.logged)
}

fn condition() -> impl Strategy<Value = Match> {
    let address = |base: [u8; 2]| {
        (0u8..4, 0u8..4).prop_map(move |(a, b)| {
            let at = |last| std::net::IpAddr::from([10, base[1], base[0], last]);
            vec![IpRange::new(at(a.min(b)), at(a.max(b))).expect("in order")]
        })
    };
    let ports = prop::collection::vec((1u16..4).prop_map(|port| PortRange { first: port, last: port }), 1..3);
    let plain = prop_oneof![
        prop::sample::select(vec!["eth0", "eth1", "eth+"]).prop_map(|name| MatchKind::Entering(name.into())),
        address([0, 0]).prop_map(MatchKind::Source),
        (0u8..2).prop_map(|last| MatchKind::Destination(vec![IpRange::from(std::net::IpAddr::from([
            10, 1, 0, last
        ]))])),
        prop::sample::select(vec![Protocol::TCP, Protocol::UDP]).prop_map(MatchKind::Protocol),
        ports.prop_map(MatchKind::DestinationPorts),
        any::<bool>().prop_map(|new| MatchKind::States(ConnectionStates {
            new,
            established: !new,
            ..ConnectionStates::default()
        })),
    ];
    let one = (prop::bool::weighted(0.2), plain).prop_map(|(negated, kind)| Match { negated, kind });
    let list = prop::collection::vec(one.clone(), 1..3);
    prop_oneof![
        6 => one,
        1 => (any::<bool>(), prop::collection::vec(list, 1..3))
            .prop_map(|(negated, all)| Match { negated, kind: MatchKind::AnyOf(all) }),
    ]
}

fn rule(chains: &'static [&'static str]) -> impl Strategy<Value = Rule> {
    let plain = prop_oneof![
        4 => Just(Target::Accept),
        4 => Just(Target::Drop),
        1 => Just(Target::Return),
        1 => Just(Target::Log),
    ];
    let jump =
        prop::sample::select(if chains.is_empty() { &["none"] } else { chains }).prop_flat_map(|name| {
            prop_oneof![Just(Target::Jump(name.to_owned())), Just(Target::Goto(name.to_owned()))]
        });
    let target = if chains.is_empty() { plain.boxed() } else { prop_oneof![3 => plain, 1 => jump].boxed() };
    (prop::collection::vec(condition(), 0..4), target).prop_map(|(matches, target)| Rule {
        matches,
        logs: target == Target::Log,
        target,
        comment: None,
        packets: None,
        origin: PLACE,
    })
}

fn chain(name: &'static str, later: &'static [&'static str]) -> impl Strategy<Value = Chain> {
    let hook = (name == "INPUT").then_some(Hook::Input);
    let policy = prop_oneof![Just(Target::Accept), Just(Target::Drop)];
    (prop::collection::vec(rule(later), 0..7), policy).prop_map(move |(rules, policy)| Chain {
        name: name.into(),
        hook,
        priority: 0,
        kind: ChainKind::Filter,
        policy: hook.map(|_| policy),
        rules,
        origin: PLACE,
    })
}

fn filter() -> impl Strategy<Value = Filter> {
    (chain("INPUT", &["a", "b"]), chain("a", &["b"]), chain("b", &[])).prop_map(|(input, a, b)| Filter {
        families: Families::V4,
        format: FilterFormat::Iptables,
        table: "filter".into(),
        state: ExportState::Running,
        chains: vec![input, a, b],
        sets: Vec::new(),
        complete: true,
        origin: PLACE,
    })
}

fn reviewed(filter: &Filter) -> ChainReview {
    let space = Space::new(Family::V4, &[filter], &[]);
    review(&space, filter, &filter.chains[0])
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn rules_stand_as_brute_force_says(filter in filter()) {
        let world = packets();
        let ways: Vec<(Packet, Way)> = world.iter().map(|packet| (*packet, way(&filter, packet, None))).collect();
        let reviewed = reviewed(&filter);
        prop_assert!(reviewed.whole);
        for (id, found) in &reviewed.rules {
            let rule = &filter.chains[id.chain as usize].rules[id.rule as usize];
            let matching = |packet: &Packet| rule.matches.iter().all(|one| holds(one, packet));
            let alive = ways.iter().any(|(_, way)| way.held.contains(id));
            prop_assert_eq!(found.standing == Standing::Alive, alive, "{:?} {:?} {:#?}", id, found, filter);
            let ends = matches!(rule.target, Target::Accept | Target::Drop);
            // Only a rule of the base chain meets every packet that its own conditions hold for.
            if id.chain == 0 {
                let news: Vec<_> = ways.iter().filter(|(packet, _)| packet.state == 0 && matching(packet)).collect();
                let taken = news.iter().filter(|(_, way)| way.held.contains(id)).count();
                match found.left {
                    None => prop_assert!(news.is_empty() || !alive, "{:?} {:?}", id, found),
                    Some(left) => {
                        prop_assert_eq!(left == Left::Nothing, taken == 0, "{:?} {:?}", id, found);
                        prop_assert_eq!(left == Left::All, taken == news.len() && taken > 0, "{:?} {:?}", id, found);
                    }
                }
                if let Standing::Covered { by } = &found.standing {
                    let mut takers: BTreeMap<RuleId, usize> = BTreeMap::new();
                    for (packet, way) in ways.iter().filter(|(packet, _)| matching(packet)) {
                        let returned = way.ended.is_none();
                        if let Some((taker, _)) = &way.ended {
                            *takers.entry(*taker).or_default() += 1;
                        }
                        // A return of the base chain, or one gone to, takes too.
                        let held = by.iter().any(|one| way.held.contains(one));
                        let gone = returned && way.held.iter().any(|one| {
                            matches!(filter.chains[one.chain as usize].rules[one.rule as usize].target,
                                Target::Return | Target::Goto(_))
                        });
                        prop_assert!(held || gone, "{:?} by {:?}: {:?} {:?}", id, by, packet, way);
                    }
                    prop_assert!(by.iter().all(|one| {
                        takers.contains_key(one) || !matches!(
                            filter.chains[one.chain as usize].rules[one.rule as usize].target,
                            Target::Accept | Target::Drop
                        )
                    }), "{:?} by {:?}", id, by);
                }
            }
            if alive && ends {
                let same = ways.iter().filter(|(_, way)| way.held.contains(id)).all(|(packet, _)| {
                    fate(&filter, packet, None) == fate(&filter, packet, Some(*id))
                });
                // A chain that is jumped to twice may need a rule only in one of its places.
                let once = id.chain == 0;
                if once {
                    prop_assert_eq!(found.changes_nothing.is_some(), same, "{:?} {:?} {:#?}", id, found, filter);
                } else if found.changes_nothing.is_some() {
                    prop_assert!(same, "{:?} {:?} {:#?}", id, found, filter);
                }
            }
        }
        // A rule that the review does not know is one that nothing leads to.
        for (number, chain) in filter.chains.iter().enumerate() {
            for at in 0..chain.rules.len() {
                let id = RuleId { chain: number as u32, rule: at as u32 };
                let known = reviewed.rules.contains_key(&id);
                prop_assert!(known || ways.iter().all(|(_, way)| !way.held.contains(&id)));
            }
        }
    }
}
