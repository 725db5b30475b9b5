//! Conditions of filters on the reverse path: whether the source of a packet is reached by the interface that it entered by. They become
//! interfaces and ranges of source addresses, by the routes of the device.
//!
//! nft(8), "FIB EXPRESSIONS" (net/ipv4/netfilter/nft_fib_ipv4.c, net/ipv6/netfilter/nft_fib_ipv6.c); iptables-extensions(8), `rpfilter`.

use crate::topology::Topology;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use trevlin_estate::assemble::Estate;
use trevlin_model::{Facts, Family, IpRange, IpRangeSet, Match, MatchKind, Residual, ResidualKind, Taken};

/// Resolves the conditions of every device whose interfaces are known.
pub(crate) fn resolve(estate: &mut Estate) {
    let asking: Vec<usize> =
        (0..estate.devices.len()).filter(|at| asks(&estate.devices[*at].facts)).collect();
    if asking.is_empty() {
        return;
    }
    let shape = Topology::of(estate);
    for at in asking {
        let clients: Vec<(IpRange, String)> = shape
            .clients_at(at)
            .iter()
            .flat_map(|one| one.ranges.iter().map(|range| (*range, one.interface.clone())))
            .collect();
        let facts = &mut estate.devices[at].facts;
        let paths = Paths::of(facts, &clients);
        let rules =
            facts.filters.iter_mut().flat_map(|filter| &mut filter.chains).flat_map(|one| &mut one.rules);
        for one in rules.flat_map(|rule| &mut rule.matches) {
            paths.settle(one);
        }
    }
}

fn asks(facts: &Facts) -> bool {
    let rules = facts.filters.iter().flat_map(|filter| &filter.chains).flat_map(|chain| &chain.rules);
    !facts.interfaces.is_empty()
        && rules.flat_map(|rule| &rule.matches).any(|one| of_path(&one.kind).is_some())
}

fn of_path(kind: &MatchKind) -> Option<&Residual> {
    match kind {
        MatchKind::NotAnalysed(residual) if residual.kind == ResidualKind::ReversePath => Some(residual),
        _ => None,
    }
}

/// The meaning of a condition.
#[derive(Debug, PartialEq, Eq)]
struct Asked {
    /// Whether any interface will do.
    loose: bool,
    /// Whether it holds where there is no such route.
    missing: bool,
}

/// The notation of nft and of iptables. Marks are taken to select no other routes.
fn asked(text: &str) -> Option<Asked> {
    let words: Vec<&str> = text.split_whitespace().collect();
    if let Some(options) = text.strip_prefix("rpfilter") {
        let known = ["--loose", "--invert", "--validmark"];
        if options.split_whitespace().any(|one| !known.contains(&one)) {
            return None;
        }
        let has = |option: &str| options.split_whitespace().any(|one| one == option);
        return Some(Asked { loose: has("--loose"), missing: has("--invert") });
    }
    let rest = words.as_slice().strip_prefix(&["fib", "saddr"])?;
    let at = rest.iter().position(|word| *word == "oif")?;
    let (flags, result) = (&rest[..at], &rest[at + 1..]);
    if flags.iter().any(|flag| !matches!(*flag, "." | "iif" | "mark")) {
        return None;
    }
    let missing = match result {
        ["missing"] | ["0"] | ["eq" | "==", "0"] => true,
        ["exists"] | ["!=", "0"] => false,
        _ => return None,
    };
    Some(Asked { loose: !flags.contains(&"iif"), missing })
}

/// Sources that are reached, by interface.
struct Paths {
    by: BTreeMap<String, IpRangeSet>,
    /// Sources of which that is not known.
    unknown: IpRangeSet,
}

impl Paths {
    fn of(facts: &Facts, clients: &[(IpRange, String)]) -> Self {
        let mut paths = Self { by: BTreeMap::new(), unknown: IpRangeSet::new() };
        for family in [Family::V4, Family::V6] {
            paths.add(facts, clients, family);
        }
        paths
    }

    /// The longest prefix decides, and one that refuses reaches nothing.
    fn add(&mut self, facts: &Facts, clients: &[(IpRange, String)], family: Family) {
        let mut all: Vec<(IpRange, u8, Option<&str>)> = Vec::new();
        let up = facts.interfaces.iter().filter(|one| one.up != Some(false) && !one.loopback);
        for (interface, address) in up.flat_map(|one| one.addresses.iter().map(move |held| (one, held))) {
            all.push((IpRange::from(address.net.trunc()), address.net.prefix_len(), Some(&interface.name)));
            if let Some(peer) = address.peer {
                all.push((IpRange::from(peer), 128, Some(&interface.name)));
            }
        }
        let mut routed = false;
        for route in facts.routes.iter().filter(|route| route.family() == family) {
            routed = true;
            let by = if route.forwards { route.interface.as_deref() } else { None };
            all.push((IpRange::from(route.destination.trunc()), route.destination.prefix_len(), by));
        }
        all.extend(clients.iter().map(|(range, name)| (*range, 128, Some(name.as_str()))));
        all.retain(|(range, _, _)| range.family() == family);
        // Its own addresses are reached by no interface.
        let own = facts.interfaces.iter().flat_map(|one| &one.addresses).map(|one| one.net.addr());
        let own: Vec<IpRange> = own.filter(|one| Family::of(*one) == family).map(IpRange::from).collect();
        all.sort_by_key(|(range, length, _)| (std::cmp::Reverse(*length), range.first()));
        let mut taken = Taken::default();
        for one in own {
            taken.take(one);
        }
        let mut at = 0;
        while at < all.len() {
            // Several of one prefix are ways of one route, each good enough.
            let (range, length, _) = all[at];
            let alike = all[at..].iter().take_while(|one| (one.0, one.1) == (range, length)).count();
            let free = taken.take(range);
            for (_, _, by) in &all[at..at + alike] {
                if let Some(name) = by {
                    self.by.entry((*name).to_owned()).or_default().extend(&free);
                }
            }
            at += alike;
        }
        if !routed {
            self.unknown.extend(&taken.take(IpRange::all(family)));
        }
    }

    fn settle(&self, one: &mut Match) {
        let Some(written) = of_path(&one.kind).cloned() else { return };
        let Some(asked) = asked(&written.text) else { return };
        let holds = |kind| Match { negated: false, kind };
        let mut ways: Vec<Vec<Match>> = Vec::new();
        let mut any = IpRangeSet::new();
        for (name, ranges) in &self.by {
            if asked.loose {
                any.extend(&ranges.clone().into_ranges());
            } else {
                let source = holds(MatchKind::Source(ranges.clone().into_ranges()));
                ways.push(vec![holds(MatchKind::Entering(name.clone())), source]);
            }
        }
        if asked.loose {
            ways.push(vec![holds(MatchKind::Source(any.into_ranges()))]);
        }
        let unknown = self.unknown.clone().into_ranges();
        if !unknown.is_empty() {
            let open = holds(MatchKind::NotAnalysed(written.clone()));
            ways.push(vec![holds(MatchKind::Source(unknown)), open]);
        }
        ways.extend(always());
        one.negated ^= asked.missing;
        one.kind = MatchKind::ReversePath { written, ways };
    }
}

/// What never fails: the loopback interface, addresses of one link, and requests for an address.
fn always() -> Vec<Vec<Match>> {
    let holds = |kind| Match { negated: false, kind };
    let to = |first: [u8; 4], last: [u8; 4]| {
        IpRange::new(IpAddr::from(first), IpAddr::from(last)).map_or_else(|_| Vec::new(), |one| vec![one])
    };
    let link_local = IpRange::new(
        Ipv6Addr::new(0xfe80, 0, 0, 0, 0, 0, 0, 0).into(),
        Ipv6Addr::new(0xfebf, 0xffff, 0xffff, 0xffff, 0xffff, 0xffff, 0xffff, 0xffff).into(),
    );
    let unspecified = IpRange::from(IpAddr::from(Ipv6Addr::UNSPECIFIED));
    vec![
        vec![holds(MatchKind::Entering("lo".into()))],
        vec![holds(MatchKind::Source(link_local.into_iter().chain([unspecified]).collect()))],
        vec![
            holds(MatchKind::Source(vec![IpRange::from(IpAddr::from(Ipv4Addr::UNSPECIFIED))])),
            holds(MatchKind::Destination(
                [to([224, 0, 0, 0], [239, 255, 255, 255]), to([255; 4], [255; 4])].concat(),
            )),
        ],
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn notations() {
        for (text, wanted) in [
            ("fib saddr . iif oif missing", Some((false, true))),
            ("fib saddr . mark . iif oif 0", Some((false, true))),
            ("fib saddr . iif oif exists", Some((false, false))),
            ("fib saddr oif missing", Some((true, true))),
            ("fib saddr . iif oif eth0", None),
            ("fib saddr . daddr oif missing", None),
            ("rpfilter", Some((false, false))),
            ("rpfilter --loose --invert", Some((true, true))),
            ("rpfilter --accept-local", None),
        ] {
            let found = asked(text).map(|one| (one.loose, one.missing));
            assert_eq!(found, wanted, "{text}");
        }
    }
}
