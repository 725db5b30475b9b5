//! `ietf-access-control-list` (RFC 8519) and `ietf-nat` (RFC 8512).

use super::tree::{Item, Seen};
use crate::making::{any_of, base, by_interface, holds, known as known_connection, open, plain, rule, table};
use std::net::IpAddr;
use trevlin_model::{
    Chain, ChainKind, Family, Filter, Hook, IcmpRange, IpRange, Match, MatchKind, Note, Origin, PortRange,
    Protocol, Residual, Rule, Target, Translation, TranslationKind,
};

/// The IP versions that lists of a type look at (RFC 8519, "acl-type"): one of a version passes over packets of the other, and one for
/// frames has no word on either. A list without a type may look at both.
fn families(kind: Option<&str>) -> &'static [Family] {
    const BOTH: &[Family] = &[Family::V4, Family::V6];
    match kind {
        Some("ipv4-acl-type" | "mixed-eth-ipv4-acl-type") => &[Family::V4],
        Some("ipv6-acl-type" | "mixed-eth-ipv6-acl-type") => &[Family::V6],
        _ => BOTH,
    }
}

/// A list that is attached somewhere.
struct List<'a> {
    name: &'a str,
    families: &'static [Family],
    /// Whether its last entry takes every packet that is left.
    closed: bool,
}

/// Lists that are attached in one direction.
#[derive(Default)]
struct Attached {
    rules: Vec<Rule>,
}

impl Attached {
    /// The lists of an interface, in their order: a packet that no entry of one matches goes on to the next, and RFC 8519 leaves to the device
    /// what becomes of one that none matches. A version of IP that none of the lists looks at is not filtered.
    fn add(&mut self, lists: &[(&List<'_>, Origin)], by: impl Fn() -> MatchKind) {
        for (list, origin) in lists {
            let mut matches = vec![holds(by())];
            matches.extend(only(list.families));
            self.rules.push(rule(matches, Target::Jump(list.name.to_owned()), *origin));
        }
        for family in [Family::V4, Family::V6] {
            let looking = || lists.iter().filter(|(list, _)| list.families.contains(&family));
            let Some((_, origin)) = looking().next_back() else { continue };
            if looking().any(|(list, _)| list.closed) {
                continue;
            }
            let name = "the action for packets that match no entry depends on the device".to_owned();
            let matches = vec![holds(by()), holds(MatchKind::Version(family))];
            self.rules.push(rule(matches, Target::NotAnalysed { name, ends: true }, *origin));
        }
    }
}

fn only(families: &[Family]) -> Option<Match> {
    match families {
        [one] => Some(holds(MatchKind::Version(*one))),
        _ => None,
    }
}

/// The lists, each a chain, and where they are attached.
pub(super) fn lists(acls: &Item, seen: &Seen, notes: &mut Vec<Note>) -> Filter {
    let mut chains = Vec::new();
    let mut known: Vec<List<'_>> = Vec::new();
    for acl in acls.all("acl") {
        let Some((name, origin)) = acl.leaf("name", seen) else { continue };
        let families = families(acl.identity("type", seen).map(|(kind, _)| kind));
        let rules: Vec<Rule> =
            acl.each(&["aces", "ace"]).into_iter().map(|ace| entry(ace, seen, notes)).collect();
        let closed = rules.last().is_some_and(|last| is_whole(&last.matches, families));
        known.push(List { name, families, closed });
        chains.push(plain(name, rules, origin));
    }
    let (mut arriving, mut leaving) = (Attached::default(), Attached::default());
    for point in acls.each(&["attachment-points", "interface"]) {
        let Some((interface, _)) = point.leaf("interface-id", seen) else { continue };
        for direction in ["ingress", "egress"] {
            let mut lists = Vec::new();
            for set in point.each(&[direction, "acl-sets", "acl-set"]) {
                let Some((name, origin)) = set.leaf("name", seen) else { continue };
                match known.iter().find(|list| list.name == name) {
                    Some(list) => lists.push((list, origin)),
                    None => {
                        let names: Vec<&str> = known.iter().map(|list| list.name).collect();
                        let hint = crate::sheet::take::nearest(name, &names);
                        notes.push(Note { origin, text: format!("there is no list `{name}`; {hint}") });
                    }
                }
            }
            if direction == "ingress" {
                arriving.add(&lists, || MatchKind::Entering(interface.to_owned()));
            } else {
                leaving.add(&lists, || MatchKind::Leaving(interface.to_owned()));
            }
        }
    }
    // RFC 8519 has no word for replies: whether a device lets them back past its lists by itself is its own affair.
    let with_replies = |attached: Attached| {
        let mut rules = attached.rules;
        if let Some(origin) = rules.first().map(|first| first.origin) {
            let whether = open("whether replies pass the lists implicitly depends on the device");
            rules.insert(0, rule(vec![known_connection(), whether], Target::Accept, origin));
        }
        rules
    };
    let bases = by_interface(with_replies(arriving), with_replies(leaving), acls.origin);
    let mut all: Vec<Chain> = Vec::from(bases);
    all.extend(chains);
    table("access lists", all, acls.origin)
}

/// Whether every packet of these versions of IP meets the conditions.
fn is_whole(matches: &[Match], families: &[Family]) -> bool {
    matches.iter().all(|one| match &one.kind {
        MatchKind::Version(family) => families == [*family],
        MatchKind::Source(all) | MatchKind::Destination(all) => {
            !one.negated && families.iter().all(|family| all.contains(&IpRange::all(*family)))
        }
        _ => false,
    })
}

fn entry(ace: &Item, seen: &Seen, notes: &mut Vec<Note>) -> Rule {
    let (name, origin) = ace.leaf("name", seen).unwrap_or(("", ace.origin));
    let mut matches = Vec::new();
    for one in ace.get("matches").map_or(&[][..], |matches| &matches.children) {
        condition(one, seen, notes, &mut matches);
    }
    let actions = ace.get("actions");
    let forwarding = actions.and_then(|actions| actions.identity("forwarding", seen));
    let target = match forwarding.map(|(word, _)| word) {
        Some("accept") => Target::Accept,
        Some("drop") => Target::Drop,
        Some("reject") => Target::Reject,
        other => Target::NotAnalysed {
            name: format!("the action {}", other.unwrap_or("that is not stated")),
            ends: true,
        },
    };
    let logging = actions.and_then(|actions| actions.identity("logging", seen));
    let logs = logging.is_some_and(|(word, _)| word != "log-none");
    let packets = ace.at(&["statistics"]).and_then(|one| one.leaf("matched-packets", seen)?.0.parse().ok());
    // From the name to the action, as far as they follow each other.
    let last = forwarding.map_or(origin.end, |(_, at)| at.end).max(origin.end);
    let whole = Origin { end: last, ..origin };
    Rule {
        matches,
        target,
        logs,
        comment: (!name.is_empty()).then(|| name.to_owned()),
        packets,
        origin: whole,
        looked_up_at: None,
    }
}

fn condition(one: &Item, seen: &Seen, notes: &mut Vec<Note>, into: &mut Vec<Match>) {
    match one.name.as_str() {
        "ipv4" | "ipv6" => {
            let family = if one.name == "ipv4" { Family::V4 } else { Family::V6 };
            into.push(holds(MatchKind::Version(family)));
            for leaf in &one.children {
                let text = leaf.text.as_deref().unwrap_or_default();
                let kind = match leaf.name.as_str() {
                    "source-ipv4-network" | "source-ipv6-network" => {
                        range(leaf, notes).map(|all| MatchKind::Source(vec![all]))
                    }
                    "destination-ipv4-network" | "destination-ipv6-network" => {
                        range(leaf, notes).map(|all| MatchKind::Destination(vec![all]))
                    }
                    "protocol" => text.parse().ok().map(|number| MatchKind::Protocol(Protocol(Some(number)))),
                    other => Some(MatchKind::NotAnalysed(Residual::described(format!("the field {other}")))),
                };
                seen.borrow_mut().push(leaf.origin);
                into.push(holds(kind.unwrap_or_else(|| {
                    MatchKind::NotAnalysed(Residual::described(format!("the field {}", leaf.name)))
                })));
            }
        }
        "tcp" | "udp" => {
            let protocol = if one.name == "tcp" { Protocol::TCP } else { Protocol::UDP };
            into.push(holds(MatchKind::Protocol(protocol)));
            for part in &one.children {
                match part.name.as_str() {
                    "source-port" => into.push(ports(part, MatchKind::SourcePorts, seen)),
                    "destination-port" => into.push(ports(part, MatchKind::DestinationPorts, seen)),
                    "flags" => {
                        seen.borrow_mut().push(part.origin);
                        into.push(flags(part.text.as_deref().unwrap_or_default()));
                    }
                    other => {
                        seen.borrow_mut().push(part.origin);
                        into.push(open(format!("the field {other}")));
                    }
                }
            }
        }
        "icmp" => {
            let number = |name: &str| one.leaf(name, seen).and_then(|(text, _)| text.parse::<u8>().ok());
            let v6 = into.iter().any(|one| one.kind == MatchKind::Version(Family::V6));
            into.push(holds(MatchKind::Protocol(if v6 { Protocol::ICMPV6 } else { Protocol::ICMP })));
            if let Some(kind) = number("type") {
                let range = number("code")
                    .map_or_else(|| IcmpRange::of_type(kind), |code| IcmpRange::of_code(kind, code));
                into.push(holds(MatchKind::Icmp(vec![range])));
            }
        }
        "ingress-interface" | "egress-interface" => {
            seen.borrow_mut().push(one.origin);
            let name = one.text.clone().unwrap_or_default();
            let by = if one.name == "ingress-interface" { MatchKind::Entering } else { MatchKind::Leaving };
            into.push(holds(by(name)));
        }
        other => into.push(open(format!("the condition {other}"))),
    }
}

/// TCP flags (RFC 8519, leaf `flags`). Of several it does not say whether one or each has to be set: packets with all of them match in any
/// case, those with none in no case.
fn flags(text: &str) -> Match {
    let mut bits = Vec::new();
    for word in text.split_whitespace() {
        match word {
            "fin" => bits.push(0b1),
            "syn" => bits.push(0b10),
            "rst" => bits.push(0b100),
            "psh" => bits.push(0b1000),
            "ack" => bits.push(0b1_0000),
            "urg" => bits.push(0b10_0000),
            other => return open(format!("the TCP flag {other}")),
        }
    }
    let all = bits.iter().fold(0u8, |all, bit| all | bit);
    let set = |bits: u8| holds(MatchKind::TcpFlags { looked_at: bits, set: bits });
    match bits.len() {
        0 => open("TCP flags that are not stated"),
        1 => set(all),
        _ => {
            let whether = || open("whether one of the TCP flags is enough");
            let one_of = bits.iter().map(|bit| vec![set(*bit), whether()]);
            holds(MatchKind::AnyOf(std::iter::once(vec![set(all)]).chain(one_of).collect()))
        }
    }
}

fn range(leaf: &Item, notes: &mut Vec<Note>) -> Option<IpRange> {
    let text = leaf.text.as_deref().unwrap_or_default();
    let found = crate::addresses::prefix(text).map(IpRange::from);
    if found.is_none() {
        notes.push(Note { origin: leaf.origin, text: crate::addresses::what_is_wrong(text) });
    }
    found
}

/// Ports as an operator with one, or as a range (RFC 8519, port-range-or-operator).
fn ports(part: &Item, make: fn(Vec<PortRange>) -> MatchKind, seen: &Seen) -> Match {
    let number = |name: &str| part.leaf(name, seen).and_then(|(text, _)| text.parse::<u16>().ok());
    let made = |first, last| holds(make(vec![PortRange { first, last }]));
    if let (Some(first), Some(last)) = (number("lower-port"), number("upper-port")) {
        return made(first, last);
    }
    let operator = part.leaf("operator", seen).map_or("eq", |(word, _)| word);
    match (operator, number("port")) {
        ("eq", Some(port)) => made(port, port),
        ("neq", Some(port)) => Match { negated: true, ..made(port, port) },
        ("lte", Some(port)) => made(0, port),
        ("gte", Some(port)) => made(port, u16::MAX),
        _ => open("ports that do not follow RFC 8519"),
    }
}

/// Static mappings as forwards, and policies with a pool of public addresses as source translations.
pub(super) fn translations(nat: &Item, seen: &Seen, notes: &mut Vec<Note>) -> Option<Filter> {
    let (mut arrival, mut departure) = (Vec::new(), Vec::new());
    for instance in nat.each(&["instances", "instance"]) {
        if instance.is_true("enable", seen).is_some_and(|(on, _)| !on) {
            continue;
        }
        for mapping in instance.each(&["mapping-table", "mapping-entry"]) {
            if mapping.identity("type", seen).is_some_and(|(kind, _)| kind != "static") {
                continue;
            }
            match forward(mapping, seen) {
                Some(rule) => {
                    departure.extend(back(&rule));
                    arrival.push(rule);
                }
                None => notes.push(Note {
                    origin: mapping.value,
                    text: "expected `external-src-address` and `internal-src-address`, each an address with a length; this \
                           mapping was left out"
                        .into(),
                }),
            }
        }
        for policy in instance.all("policy") {
            for pool in policy.all("external-ip-address-pool") {
                let Some((text, origin)) = pool.leaf("external-ip-pool", seen) else { continue };
                let addresses = crate::addresses::prefix(text).map(IpRange::from);
                let how = Translation { addresses, ..Translation::of(TranslationKind::Source) };
                departure.push(rule(selected(policy, seen), Target::Translate(how), origin));
            }
        }
    }
    if arrival.is_empty() && departure.is_empty() {
        return None;
    }
    let chains = vec![
        base("on arrival", (Hook::Prerouting, -100), ChainKind::Nat, arrival, nat.origin),
        base("on departure", (Hook::Postrouting, 100), ChainKind::Nat, departure, nat.origin),
    ];
    Some(table("translations", chains, nat.origin))
}

/// The translation of the source that belongs to a mapping of whole addresses: it holds in both directions.
fn back(forward: &Rule) -> Option<Rule> {
    let Target::Translate(how) = &forward.target else { return None };
    let [Match { kind: MatchKind::Destination(outside), .. }] = forward.matches.as_slice() else {
        return None;
    };
    let addresses = outside.first().copied();
    let target = Target::Translate(Translation { addresses, ..Translation::of(TranslationKind::Source) });
    Some(rule(vec![holds(MatchKind::Source(vec![how.addresses?]))], target, forward.origin))
}

/// The traffic that a policy translates: of its subscribers, towards its external interface, of its protocols (RFC 8512, "policy").
fn selected(policy: &Item, seen: &Seen) -> Vec<Match> {
    let mut matches = vec![holds(MatchKind::Version(Family::V4))];
    if let Some((name, _)) = policy.get("external-realm").and_then(|one| one.leaf("external-interface", seen))
    {
        matches.push(holds(MatchKind::Leaving(name.to_owned())));
    }
    let subnets: Vec<IpRange> = policy
        .all("subscriber-match")
        .filter_map(|one| one.leaf("subnet", seen))
        .filter_map(|(text, _)| crate::addresses::prefix(text).map(IpRange::from))
        .collect();
    let everyone = subnets.is_empty() || subnets.contains(&IpRange::all(Family::V4));
    matches.extend((!everyone).then(|| holds(MatchKind::Source(subnets))));
    let protocols: Vec<Vec<Match>> = policy
        .all("transport-protocols")
        .filter_map(|one| one.leaf("protocol-id", seen)?.0.parse().ok())
        .map(|number| vec![holds(MatchKind::Protocol(Protocol(Some(number))))])
        .collect();
    if !protocols.is_empty() {
        matches.extend(any_of(protocols));
    }
    matches
}

fn forward(mapping: &Item, seen: &Seen) -> Option<Rule> {
    let address = |name: &str| {
        let (text, origin) = mapping.leaf(name, seen)?;
        Some((crate::addresses::prefix(text).map(IpRange::from)?, origin))
    };
    let port = |name: &str| {
        let part = mapping.get(name)?;
        let first: u16 = part.leaf("start-port-number", seen)?.0.parse().ok()?;
        let last =
            part.leaf("end-port-number", seen).and_then(|(text, _)| text.parse().ok()).unwrap_or(first);
        Some(PortRange { first, last })
    };
    let (outside, start) = address("external-src-address")?;
    let (inside, end) = address("internal-src-address")?;
    let mut matches = vec![holds(MatchKind::Destination(vec![outside]))];
    if let Some(number) = mapping.leaf("transport-protocol", seen).and_then(|(text, _)| text.parse().ok()) {
        matches.push(holds(MatchKind::Protocol(Protocol(Some(number)))));
    }
    matches.extend(port("external-src-port").map(|ports| holds(MatchKind::DestinationPorts(vec![ports]))));
    let how = Translation {
        addresses: Some(inside),
        ports: port("internal-src-port"),
        ..Translation::of(TranslationKind::Destination)
    };
    let origin = Origin { start: start.start.min(end.start), end: start.end.max(end.end), ..start };
    Some(rule(matches, Target::Translate(how), origin))
}

/// An address without the length that zones and prefixes add.
pub(super) fn address(text: &str) -> Option<IpAddr> {
    text.split(['%', '/']).next()?.parse().ok()
}
