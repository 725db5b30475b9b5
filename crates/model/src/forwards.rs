//! Port forwards: destination translations that packets reach from the chains for translation on arrival, in whatever language
//! the table was written.

use crate::{
    Chain, ChainKind, Filter, Hook, IpRange, Match, MatchKind, PortForward, PortRange, Protocol, Rule,
    Target, TranslationKind,
};
use std::collections::BTreeSet;

/// The port forwards of a table, in order of evaluation.
#[must_use]
pub fn of(filter: &Filter) -> Vec<PortForward> {
    let mut found = Vec::new();
    let translating = filter
        .chains
        .iter()
        .filter(|chain| chain.hook == Some(Hook::Prerouting) && chain.kind == ChainKind::Nat);
    for chain in translating {
        walk(filter, chain, &[], &mut BTreeSet::new(), &mut found);
    }
    found
}

/// Walks a chain and those it jumps to, each once; a jump's own conditions apply to the rules it reaches.
fn walk<'a>(
    filter: &'a Filter,
    chain: &'a Chain,
    outer: &[&'a Match],
    seen: &mut BTreeSet<&'a str>,
    found: &mut Vec<PortForward>,
) {
    if !seen.insert(&chain.name) {
        return;
    }
    for rule in chain.rules.iter().filter(|rule| !reflects(rule)) {
        let conditions: Vec<&Match> = outer.iter().copied().chain(&rule.matches).collect();
        match &rule.target {
            Target::Jump(name) | Target::Goto(name) => {
                if let Some(next) = filter.chain(name) {
                    walk(filter, next, &conditions, seen, found);
                }
            }
            Target::Translate(translation)
                if matches!(translation.kind, TranslationKind::Destination | TranslationKind::Redirect) =>
            {
                for conditions in alternatives(&conditions) {
                    found.push(forward(filter, rule, &conditions, translation.clone()));
                }
            }
            _ => {}
        }
    }
}

/// Whether a zone firewall made a rule for hosts inside that call a forward by its outer address: the forward itself is another rule
/// (OpenWrt, firewall4: ruleset.uc).
fn reflects(rule: &Rule) -> bool {
    rule.comment.as_deref().is_some_and(|comment| comment.ends_with("(reflection)"))
}

/// A condition that is one of several protocols or interfaces makes a forward for each of them.
fn alternatives<'a>(conditions: &[&'a Match]) -> Vec<Vec<&'a Match>> {
    let mut all: Vec<Vec<&Match>> = vec![Vec::new()];
    for condition in conditions {
        let singles: Vec<&Match> = match &condition.kind {
            MatchKind::AnyOf(lists) if !condition.negated => {
                lists.iter().filter_map(|list| list.first()).collect()
            }
            _ => vec![condition],
        };
        // More combinations would not be informative.
        if singles.is_empty() || all.len() * singles.len() > 64 {
            continue;
        }
        all = all
            .iter()
            .flat_map(|known| singles.iter().map(|one| known.iter().copied().chain([*one]).collect()))
            .collect();
    }
    all
}

fn forward(filter: &Filter, rule: &Rule, conditions: &[&Match], to: crate::Translation) -> PortForward {
    let mut forward = PortForward {
        protocol: Protocol(None),
        arriving_at: Vec::new(),
        ports: Vec::new(),
        entering: None,
        from: Vec::new(),
        to,
        state: filter.state,
        origin: rule.origin,
    };
    for condition in conditions {
        let negated = condition.negated;
        match &condition.kind {
            MatchKind::Protocol(protocol) if !negated => forward.protocol = *protocol,
            MatchKind::Destination(ranges) => forward.arriving_at = side(ranges, negated),
            MatchKind::Source(ranges) => forward.from = side(ranges, negated),
            MatchKind::DestinationPorts(ports) => {
                forward.ports = if negated { other_ports(ports) } else { ports.clone() }
            }
            MatchKind::Entering(name) if !negated => forward.entering = Some(name.clone()),
            _ => {}
        }
    }
    forward
}

/// The ranges, or everything but them.
fn side(ranges: &[IpRange], negated: bool) -> Vec<IpRange> {
    if !negated {
        return ranges.to_vec();
    }
    // Only one range is ever negated (iptables(8)).
    ranges.first().map(IpRange::complement).unwrap_or_default()
}

fn other_ports(ports: &[PortRange]) -> Vec<PortRange> {
    let mut sorted = ports.to_vec();
    sorted.sort_unstable();
    let mut rest = Vec::new();
    let mut from = 0u32;
    for range in sorted {
        if u32::from(range.first) > from {
            rest.push(PortRange { first: from as u16, last: range.first - 1 });
        }
        from = from.max(u32::from(range.last) + 1);
    }
    if from <= u32::from(u16::MAX) {
        rest.push(PortRange { first: from as u16, last: u16::MAX });
    }
    rest
}
