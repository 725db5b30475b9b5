//! Default traffic compared with single packets: a packet with an address and a port that no rule names is default traffic, so a plain walk
//! of the rules must yield the same result.

use proptest::prelude::*;
use std::net::IpAddr;
use trevlin_model::{
    Chain, ChainKind, ConnectionStates, ExportId, ExportState, Families, Family, Filter, FilterFormat, Hook,
    IpRange, Match, MatchKind, Origin, PortRange, Protocol, Rule, Target,
};
use trevlin_packets::default_traffic::{DefaultAction, DefaultTraffic, Way, action_of_default};

const PLACE: Origin = Origin { export: ExportId(0), start: 0, end: 1 };

/// Addresses and ports that rules name; the packet's own are others.
fn address() -> impl Strategy<Value = Vec<IpRange>> {
    prop_oneof![
        4 => (0u8..4).prop_map(|last| vec![IpRange::from(IpAddr::from([10, 0, 0, last]))]),
        1 => Just(vec![IpRange::all(Family::V4)]),
    ]
}

fn condition() -> impl Strategy<Value = Match> {
    let ports = prop_oneof![
        4 => (1u16..4).prop_map(|port| vec![PortRange { first: port, last: port }]),
        1 => Just(vec![PortRange { first: 0, last: u16::MAX }]),
    ];
    let states = any::<(bool, bool)>().prop_map(|(new, established)| ConnectionStates {
        new,
        established,
        ..ConnectionStates::default()
    });
    let kind = prop_oneof![
        prop::sample::select(vec!["eth0", "eth1", "eth+"]).prop_map(|name| MatchKind::Entering(name.into())),
        address().prop_map(MatchKind::Source),
        prop::sample::select(vec![Protocol::TCP, Protocol::UDP]).prop_map(MatchKind::Protocol),
        ports.prop_map(MatchKind::DestinationPorts),
        states.prop_map(MatchKind::States),
        Just(MatchKind::TcpFlags { looked_at: 0b1_0111, set: 0b10 }),
    ];
    (any::<bool>(), kind).prop_map(|(negated, kind)| Match { negated, kind })
}

fn rule(chains: &'static [&'static str]) -> impl Strategy<Value = Rule> {
    let target = prop_oneof![
        2 => Just(Target::Accept),
        2 => Just(Target::Drop),
        1 => Just(Target::Return),
        1 => Just(Target::Log),
        2 => prop::sample::select(chains).prop_flat_map(|name| {
            prop_oneof![Just(Target::Jump(name.to_owned())), Just(Target::Goto(name.to_owned()))]
        }),
    ];
    (prop::collection::vec(condition(), 0..3), target).prop_map(|(matches, target)| Rule {
        matches,
        target,
        logs: false,
        comment: None,
        packets: None,
        looked_up_at: None,
        origin: PLACE,
    })
}

fn chain(name: &'static str, later: &'static [&'static str]) -> impl Strategy<Value = Chain> {
    let base = name == "INPUT";
    let policy = prop_oneof![Just(Target::Accept), Just(Target::Drop)];
    (prop::collection::vec(rule(later), 0..5), policy).prop_map(move |(rules, policy)| Chain {
        name: name.into(),
        hook: base.then_some(Hook::Input),
        priority: 0,
        kind: ChainKind::Filter,
        policy: base.then_some(policy),
        rules,
        origin: PLACE,
    })
}

/// A table whose chains only jump to later ones, so that no walk goes in circles.
fn filter() -> impl Strategy<Value = Filter> {
    (
        chain("INPUT", &["a", "b"]),
        chain("a", &["b"]),
        chain("b", &["b2"]),
        chain("b2", &["c"]),
        chain("c", &["none"]),
    )
        .prop_map(|(input, a, b, b2, mut c)| {
            c.rules.retain(|rule| !matches!(rule.target, Target::Jump(_) | Target::Goto(_)));
            Filter {
                families: Families::V4,
                format: FilterFormat::Iptables,
                table: "filter".into(),
                state: ExportState::Running,
                sets: Vec::new(),
                chains: vec![input, a, b, b2, c],
                complete: true,
                gaps_placed: false,
                additions: false,
                origin: PLACE,
            }
        })
}

/// The first packet of a connection from 203.0.113.77 to port 4711, entering by eth0.
fn holds(one: &Match, protocol: Protocol) -> bool {
    let plain = match &one.kind {
        MatchKind::Entering(name) => name == "eth0" || name == "eth+",
        MatchKind::Source(ranges) => ranges.iter().any(|range| range.contains([203, 0, 113, 77].into())),
        MatchKind::Protocol(wanted) => *wanted == protocol,
        MatchKind::DestinationPorts(ports) => ports.iter().any(|range| range.contains(4711)),
        MatchKind::States(states) => states.new,
        MatchKind::TcpFlags { looked_at, set } => protocol == Protocol::TCP && 0b10 & looked_at == *set,
        _ => unreachable!("not made here"),
    };
    plain != one.negated
}

/// A plain walk; `None` where the chain gives the packet back.
fn walk(filter: &Filter, chain: &Chain, protocol: Protocol) -> Option<bool> {
    for rule in chain.rules.iter().filter(|rule| rule.matches.iter().all(|one| holds(one, protocol))) {
        match &rule.target {
            Target::Accept => return Some(true),
            Target::Drop => return Some(false),
            Target::Return => return None,
            Target::Jump(name) => {
                if let Some(decided) = walk(filter, filter.chain(name)?, protocol) {
                    return Some(decided);
                }
            }
            Target::Goto(name) => return walk(filter, filter.chain(name)?, protocol),
            _ => {}
        }
    }
    None
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn a_packet_that_no_rule_names_meets_the_fate_of_the_rest(filter in filter(), tcp in any::<bool>()) {
        let protocol = if tcp { Protocol::TCP } else { Protocol::UDP };
        let (way, family) = (Way::ToDevice, Family::V4);
        let rest = DefaultTraffic { way, entering: "eth0", family, protocol, port: None, own_addresses: &[] };
        let input = filter.chain("INPUT").expect("there");
        let accepted = walk(&filter, input, protocol).unwrap_or(input.policy == Some(Target::Accept));
        let outcome = action_of_default(&[&filter], &rest).outcome;
        prop_assert_eq!(outcome, if accepted { DefaultAction::Accepted } else { DefaultAction::Blocked });
    }
}
