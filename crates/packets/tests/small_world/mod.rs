//! A small world of packets, and what becomes of each, walked through a filter rule by rule as the kernel walks: slow, and plain
//! enough to be right.

#![allow(dead_code, reason = "each test uses its part of this")]

use std::collections::{BTreeMap, BTreeSet};
use trevlin_model::{Family, Filter, IpRange, Match, MatchKind, Target};
use trevlin_packets::Space;
use trevlin_packets::program::RuleId;
use trevlin_packets::review::{ChainReview, Left, RuleStatus, review};

/// A packet of the small world: one for each class that the rules below can tell apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Packet {
    entering: &'static str,
    source: u8,
    destination: u8,
    protocol: u8,
    port: u16,
    /// 0 is new, 1 established, 2 any other.
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

/// Result of a packet, and the rules that it matched.
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

fn outcome(filter: &Filter, packet: &Packet, without: Option<RuleId>) -> (Target, usize) {
    let way = way(filter, packet, without);
    let policy = filter.chains[0].policy.clone().expect("a policy");
    (way.ended.map_or(policy, |(_, target)| target), way.logged)
}

macro_rules! told {
    () => { "" };
    ($form:literal $(, $told:expr)*) => { format!(concat!(": ", $form) $(, $told)*) };
}

macro_rules! holds {
    ($condition:expr $(, $($told:expr),+)?) => {
        if !($condition) {
            return Err(format!("{}{}", stringify!($condition), told!($($($told),+)?)));
        }
    };
}

macro_rules! same {
    ($one:expr, $two:expr $(, $($told:expr),+)?) => {
        if ($one) != ($two) {
            return Err(format!("{} is not {}{}", stringify!($one), stringify!($two), told!($($($told),+)?)));
        }
    };
}

fn reviewed(filter: &Filter, nodes: usize, among: usize) -> ChainReview {
    let work = nodes.saturating_mul(3_000) / among;
    let space = Space::new(Family::V4, &[filter], &[]).costing(nodes);
    review(&space, filter, &filter.chains[0], &trevlin_packets::Region::all(), work)
}

/// Compares a review with a small work limit with an unlimited one: it may leave more undecided, and must not differ otherwise.
///
/// # Errors
/// The wrong statements.
pub(crate) fn check_cheap(filter: &Filter, nodes: usize, among: usize) -> Result<(), String> {
    let whole = reviewed(filter, usize::MAX, 1);
    let cheap = reviewed(filter, nodes, among);
    holds!(cheap.rules.keys().eq(whole.rules.keys()));
    for (id, found) in &cheap.rules {
        let known = &whole.rules[id];
        holds!(
            found.status == RuleStatus::TooCostly || found.status == known.status,
            "{:?} {:?} {:?}",
            id,
            found,
            known
        );
        holds!(found.left.is_none() || found.left == known.left, "{:?} {:?} {:?}", id, found, known);
        holds!(found.partly.iter().all(|one| known.partly.contains(one)), "{:?} {:?} {:?}", id, found, known);
        holds!(
            found.changes_nothing.is_none() || found.changes_nothing == known.changes_nothing,
            "{:?} {:?} {:?}",
            id,
            found,
            known
        );
    }
    Ok(())
}

/// Holds the review of the first chain of a filter against every packet of the small world.
///
/// # Errors
/// With what does not agree.
pub(crate) fn check(filter: &Filter) -> Result<(), String> {
    let world = packets();
    let ways: Vec<(Packet, Way)> = world.iter().map(|packet| (*packet, way(filter, packet, None))).collect();
    let reviewed = reviewed(filter, 60_000, 1);
    holds!(reviewed.whole);
    for (id, found) in &reviewed.rules {
        let rule = &filter.chains[id.chain as usize].rules[id.rule as usize];
        let matching = |packet: &Packet| rule.matches.iter().all(|one| holds(one, packet));
        let alive = ways.iter().any(|(_, way)| way.held.contains(id));
        same!(found.status == RuleStatus::Alive, alive, "{:?} {:?} {:#?}", id, found, filter);
        let ends = matches!(rule.target, Target::Accept | Target::Drop);
        // Only a rule of the base chain meets every packet that its own conditions hold for.
        if id.chain == 0 {
            let news: Vec<_> =
                ways.iter().filter(|(packet, _)| packet.state == 0 && matching(packet)).collect();
            let taken = news.iter().filter(|(_, way)| way.held.contains(id)).count();
            match found.left {
                None => holds!(news.is_empty() || !alive, "{:?} {:?}", id, found),
                Some(left) => {
                    same!(left == Left::Nothing, taken == 0, "{:?} {:?}", id, found);
                    same!(left == Left::All, taken == news.len() && taken > 0, "{:?} {:?}", id, found);
                }
            }
            if let RuleStatus::Covered { by } = &found.status {
                let mut takers: BTreeMap<RuleId, usize> = BTreeMap::new();
                for (packet, way) in ways.iter().filter(|(packet, _)| matching(packet)) {
                    let returned = way.ended.is_none();
                    if let Some((taker, _)) = &way.ended {
                        *takers.entry(*taker).or_default() += 1;
                    }
                    // A return of the base chain, or one gone to, takes too.
                    let held = by.iter().any(|one| way.held.contains(one));
                    let gone = returned
                        && way.held.iter().any(|one| {
                            matches!(
                                filter.chains[one.chain as usize].rules[one.rule as usize].target,
                                Target::Return | Target::Goto(_)
                            )
                        });
                    holds!(held || gone, "{:?} by {:?}: {:?} {:?}", id, by, packet, way);
                }
                holds!(
                    by.iter().all(|one| {
                        takers.contains_key(one)
                            || !matches!(
                                filter.chains[one.chain as usize].rules[one.rule as usize].target,
                                Target::Accept | Target::Drop
                            )
                    }),
                    "{:?} by {:?}",
                    id,
                    by
                );
            }
        }
        if alive && ends {
            let same = ways
                .iter()
                .filter(|(_, way)| way.held.contains(id))
                .all(|(packet, _)| outcome(filter, packet, None) == outcome(filter, packet, Some(*id)));
            // A chain that is jumped to twice may need a rule only in one of its places.
            let once = id.chain == 0;
            if once {
                same!(found.changes_nothing.is_some(), same, "{:?} {:?} {:#?}", id, found, filter);
            } else if found.changes_nothing.is_some() {
                holds!(same, "{:?} {:?} {:#?}", id, found, filter);
            }
        }
    }
    // A rule that the review does not know is one that nothing leads to.
    for (number, chain) in filter.chains.iter().enumerate() {
        for at in 0..chain.rules.len() {
            let id = RuleId { chain: number as u32, rule: at as u32 };
            let known = reviewed.rules.contains_key(&id);
            holds!(known || ways.iter().all(|(_, way)| !way.held.contains(&id)));
        }
    }
    Ok(())
}
