//! The review of rules compared with brute force: every packet of a small world is walked through the list as the kernel does, and the
//! decisions of each rule are compared with the review.

mod small_world;

use proptest::prelude::*;
use trevlin_model::{
    Chain, ChainKind, ConnectionStates, ExportId, ExportState, Families, Family, Filter, FilterFormat, Hook,
    IpRange, Match, MatchKind, Origin, PortRange, Protocol, Rule, Target,
};
use trevlin_packets::Space;
use trevlin_packets::review::{RuleReview, RuleStatus, review, work_of};

const PLACE: Origin = Origin { export: ExportId(0), start: 0, end: 1 };

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
        looked_up_at: None,
        origin: PLACE,
    })
}

fn chain(
    name: &'static str,
    later: &'static [&'static str],
    rules: std::ops::Range<usize>,
) -> impl Strategy<Value = Chain> {
    let hook = (name == "INPUT").then_some(Hook::Input);
    let policy = prop_oneof![Just(Target::Accept), Just(Target::Drop)];
    (prop::collection::vec(rule(later), rules), policy).prop_map(move |(rules, policy)| Chain {
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
    (chain("INPUT", &["a", "b"], 0..7), chain("a", &["b"], 0..7), chain("b", &[], 0..7))
        .prop_map(|(input, a, b)| filter_of(vec![input, a, b]))
}

/// Rules by interface, as many as are kept by their interfaces and addresses.
fn long_filter() -> impl Strategy<Value = Filter> {
    (chain("INPUT", &[], 0..3), chain("a", &[], 60..90), chain("b", &[], 60..90)).prop_map(
        |(mut input, a, b)| {
            for (interface, chain) in [("eth0", "a"), ("eth1", "b")] {
                let kind = MatchKind::Entering(interface.into());
                let rule = plain_rule(vec![Match { negated: false, kind }], Target::Jump(chain.into()));
                input.rules.push(rule);
            }
            filter_of(vec![input, a, b])
        },
    )
}

fn filter_of(chains: Vec<Chain>) -> Filter {
    Filter {
        families: Families::V4,
        format: FilterFormat::Iptables,
        table: "filter".into(),
        state: ExportState::Running,
        chains,
        sets: Vec::new(),
        complete: true,
        gaps_placed: false,
        additions: false,
        origin: PLACE,
    }
}

fn plain_rule(matches: Vec<Match>, target: Target) -> Rule {
    Rule { matches, target, logs: false, comment: None, packets: None, origin: PLACE, looked_up_at: None }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn rules_stand_as_brute_force_says(filter in filter()) {
        prop_assert_eq!(small_world::check(&filter), Ok(()), "{:#?}", filter);
    }

    #[test]
    fn who_may_spend_little_knows_less_and_nothing_else(filter in filter(), nodes in 1usize..400, among in 1usize..100_000) {
        prop_assert_eq!(small_world::check_cheap(&filter, nodes, 1), Ok(()), "{:#?}", filter);
        prop_assert_eq!(small_world::check_cheap(&filter, 60_000, among), Ok(()), "{:#?}", filter);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    #[test]
    fn rules_of_long_lists_stand_as_brute_force_says(filter in long_filter()) {
        prop_assert_eq!(small_world::check(&filter), Ok(()), "{:#?}", filter);
    }
}

/// Found by the fuzzer: a chain that is jumped to twice contains a rule twice, and neither may replace the other.
#[test]
fn a_rule_does_not_stand_in_for_itself() {
    let rule = plain_rule;
    let outside = |negated| Match { negated, kind: MatchKind::Entering("eth0".into()) };
    let tcp = Match { negated: false, kind: MatchKind::Protocol(Protocol::TCP) };
    let jump = || Target::Jump("a".into());
    let chain = |name: &str, hook, rules| Chain {
        name: name.into(),
        hook,
        priority: 0,
        kind: ChainKind::Filter,
        policy: hook.map(|_| Target::Drop),
        rules,
        origin: PLACE,
    };
    let filter = filter_of(vec![
        chain("INPUT", Some(Hook::Input), vec![rule(vec![outside(true)], jump()), rule(Vec::new(), jump())]),
        chain("a", None, vec![rule(vec![tcp], Target::Accept), rule(vec![outside(false)], Target::Accept)]),
    ]);
    assert_eq!(small_world::check(&filter), Ok(()));
}

/// Lists of many rules that differ in one address or one port only: every rule is decided, with as little work for each as in a list of
/// 100,000.
#[test]
fn rules_are_told_whatever_tells_them_apart() {
    const RULES: u32 = 12_000;
    let address = |number: u32| {
        let host = std::net::Ipv4Addr::from(0x0a00_0000 | (number.wrapping_mul(2_654_435_761) >> 8));
        vec![IpRange::from(std::net::IpAddr::from(host))]
    };
    let network = |text: &str| vec![text.parse::<IpRange>().expect("a network")];
    let port = |number: u32| {
        let port = u16::try_from(number % 60_000).expect("a port") + 1;
        MatchKind::DestinationPorts(vec![PortRange { first: port, last: port }])
    };
    type Conditions<'a> = &'a dyn Fn(u32) -> Vec<MatchKind>;
    let lists: [(&str, Conditions<'_>); 3] = [
        ("one address", &|number| match number % 2 {
            0 => vec![MatchKind::Source(address(number))],
            _ => vec![MatchKind::Destination(address(number))],
        }),
        ("two addresses", &|number| {
            vec![MatchKind::Source(address(number)), MatchKind::Destination(address(!number))]
        }),
        ("a port", &|number| {
            vec![
                MatchKind::Source(network("10.0.0.0/8")),
                MatchKind::Destination(network("10.0.0.0/8")),
                MatchKind::Protocol(Protocol::TCP),
                port(number),
            ]
        }),
    ];
    for (name, conditions) in lists {
        let rules = (0..RULES).map(|number| {
            let matches = conditions(number).into_iter().map(|kind| Match { negated: false, kind }).collect();
            plain_rule(matches, if number % 3 == 0 { Target::Drop } else { Target::Accept })
        });
        let chain = Chain {
            name: "FORWARD".into(),
            hook: Some(Hook::Forward),
            priority: 0,
            kind: ChainKind::Filter,
            policy: Some(Target::Drop),
            rules: rules.collect(),
            origin: PLACE,
        };
        let filter = filter_of(vec![chain]);
        let space = Space::new(Family::V4, &[&filter], &[]).costing(RULES as usize / 5);
        let review = review(
            &space,
            &filter,
            &filter.chains[0],
            &trevlin_packets::Region::all(),
            work_of(space.nodes(), RULES as usize, RULES as usize),
        );
        assert_eq!(review.rules.len(), RULES as usize, "{name}");
        let dead = |one: &&RuleReview| one.status != RuleStatus::Alive;
        assert_eq!(review.rules.values().find(dead), None, "{name}");
    }
}
