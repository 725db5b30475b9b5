//! Conditions of nftables rules as conditions of the model (nft(8), "EXPRESSIONS").

use super::expr::{Expr, Op, Pair, number};
use crate::iptables::{protocols, services};
use std::collections::BTreeMap;
use std::net::IpAddr;
use trevlin_model::{
    AddressKind, ConnectionStates, Family, IcmpRange, IpRange, Match, MatchKind, PortRange, Protocol,
    Residual,
};

/// Content of named sets and maps.
pub(super) struct Held {
    pub(super) keys: Vec<Expr>,
    pub(super) pairs: Vec<Pair>,
    /// Rules fill it while the device runs.
    pub(super) dynamic: bool,
}

/// The sets of a table by name.
pub(super) type Sets = BTreeMap<String, Held>;

fn plain(kind: MatchKind) -> Match {
    Match { negated: false, kind }
}

/// A condition that is not analysed, as text.
fn perhaps(left: &Expr, op: Op, right: &Expr) -> Vec<Match> {
    let word = match op {
        Op::Implicit | Op::Equal => "",
        Op::Unequal => "!= ",
        Op::NoneOf => "! ",
        Op::Less => "< ",
        Op::Greater => "> ",
        Op::AtMost => "<= ",
        Op::AtLeast => ">= ",
    };
    vec![plain(MatchKind::NotAnalysed(Residual::as_written(format!(
        "{} {word}{}",
        left.words(),
        right.words()
    ))))]
}

/// Implicit condition of a field: its header is present.
fn header(left: &Expr) -> Vec<Match> {
    let protocol = |name: &str| {
        let number = match name {
            "icmpv6" => Some(58),
            "comp" => Some(108),
            other => protocols().get(other).copied(),
        };
        number.map(|number| plain(MatchKind::Protocol(Protocol(Some(number)))))
    };
    match left {
        Expr::Payload(name, _) => match name.as_str() {
            "ip" => vec![plain(MatchKind::Version(Family::V4))],
            "ip6" => vec![plain(MatchKind::Version(Family::V6))],
            "tcp" | "udp" | "udplite" | "sctp" | "dccp" | "icmp" | "icmpv6" | "ah" | "esp" | "comp" => {
                protocol(name).into_iter().collect()
            }
            _ => Vec::new(),
        },
        Expr::Ct(key, _) if key.starts_with("ip6 ") => vec![plain(MatchKind::Version(Family::V6))],
        Expr::Ct(key, _) if key.starts_with("ip ") => vec![plain(MatchKind::Version(Family::V4))],
        Expr::Concat(parts) => parts.iter().flat_map(header).collect(),
        Expr::And(left, _) => header(left),
        _ => Vec::new(),
    }
}

/// The conditions of `left op right`.
pub(super) fn conditions(left: &Expr, op: Op, right: &Expr, sets: &Sets) -> Vec<Match> {
    let mut all = header(left);
    match compared(left, op, right, sets) {
        Some(more) => all.extend(more),
        None => all.extend(perhaps(left, op, right)),
    }
    all
}

fn compared(left: &Expr, op: Op, right: &Expr, sets: &Sets) -> Option<Vec<Match>> {
    let negated = op == Op::Unequal;
    // Bits have their own rules of what equal means.
    if op == Op::NoneOf {
        let mut any = bits(left, Op::Implicit, right)?;
        any.iter_mut().for_each(|one| one.negated = !one.negated);
        return Some(any);
    }
    if let Some(one) = bits(left, op, right) {
        return Some(one);
    }
    match (left, right) {
        (Expr::And(inner, mask), _) => masked(inner, mask, op, right),
        (_, Expr::Named(name)) => {
            let held = sets.get(name).filter(|held| !held.dynamic)?;
            // A list that many rules name is theirs each.
            if !crate::growth::may_grow((held.keys.len() + held.pairs.len()) * 2 * size_of::<Expr>()) {
                return None;
            }
            let keys: Vec<Expr> =
                held.keys.iter().chain(held.pairs.iter().map(|(key, ..)| key)).cloned().collect();
            among(left, &keys, negated)
        }
        (_, Expr::Set(keys)) => among(left, keys, negated),
        (Expr::Concat(_), _) => among(left, std::slice::from_ref(right), negated),
        _ => match op {
            Op::Implicit | Op::Equal | Op::Unequal => {
                one_of(left, std::slice::from_ref(right), negated).map(|one| vec![one])
            }
            _ => ordered(left, op, right).map(|one| vec![one]),
        },
    }
}

/// Whether the compared field is one of some keys.
pub(super) fn among(left: &Expr, keys: &[Expr], negated: bool) -> Option<Vec<Match>> {
    let Expr::Concat(parts) = left else { return one_of(left, keys, negated).map(|one| vec![one]) };
    let mut alternatives = Vec::new();
    for key in keys {
        let Expr::Concat(values) = key else { return None };
        if values.len() != parts.len() {
            return None;
        }
        let conditions =
            parts.iter().zip(values).map(|(part, value)| one_of(part, std::slice::from_ref(value), false));
        alternatives.push(conditions.collect::<Option<Vec<Match>>>()?);
    }
    Some(vec![Match { negated, kind: MatchKind::AnyOf(alternatives) }])
}

/// A field compared with values, any of which may be it.
fn one_of(left: &Expr, values: &[Expr], negated: bool) -> Option<Match> {
    let kind = match left {
        Expr::Payload(protocol, field) => payload(protocol, field, values)?,
        Expr::Meta(key) => meta(key, values)?,
        Expr::Ct(key, direction) => ct(key, direction.as_deref(), values)?,
        Expr::Fib(flags, result) if result == "type" => {
            let destination = match flags.as_slice() {
                [one] if one == "daddr" => true,
                [one] if one == "saddr" => false,
                _ => return None,
            };
            MatchKind::AddressIs { destination, kinds: all(values, address_kind)? }
        }
        _ => return None,
    };
    // Several values of what the model compares with one.
    Some(match kind {
        MatchKind::AnyOf(alternatives) if alternatives.len() == 1 && alternatives[0].len() == 1 => {
            let one = alternatives.into_iter().next()?.into_iter().next()?;
            Match { negated: one.negated != negated, ..one }
        }
        kind => Match { negated, kind },
    })
}

fn all<T>(values: &[Expr], one: impl Fn(&Expr) -> Option<T>) -> Option<Vec<T>> {
    values.iter().map(one).collect()
}

/// Alternatives of one condition each.
fn any(kinds: Vec<MatchKind>) -> MatchKind {
    MatchKind::AnyOf(kinds.into_iter().map(|kind| vec![plain(kind)]).collect())
}

fn payload(protocol: &str, field: &str, values: &[Expr]) -> Option<MatchKind> {
    Some(match (protocol, field) {
        ("ip" | "ip6", "saddr") => MatchKind::Source(all(values, addresses)?),
        ("ip" | "ip6", "daddr") => MatchKind::Destination(all(values, addresses)?),
        ("ip", "protocol") | ("ip6", "nexthdr") => any(all(values, protocol_condition)?),
        ("tcp" | "udp" | "udplite" | "sctp" | "dccp" | "th", "sport") => {
            MatchKind::SourcePorts(all(values, ports)?)
        }
        ("tcp" | "udp" | "udplite" | "sctp" | "dccp" | "th", "dport") => {
            MatchKind::DestinationPorts(all(values, ports)?)
        }
        ("ip" | "ip6", "version") | ("ether", "type") => {
            any(all(values, |value| match value.words().as_str() {
                "4" | "ip" => Some(MatchKind::Version(Family::V4)),
                "6" | "ip6" => Some(MatchKind::Version(Family::V6)),
                _ => None,
            })?)
        }
        ("icmp" | "icmpv6", "type") => {
            let family = if protocol == "icmp" { Family::V4 } else { Family::V6 };
            MatchKind::Icmp(all(values, |value| icmp(value, family))?)
        }
        ("icmp" | "icmpv6", "code") => {
            let codes: Vec<u8> = all(values, |value| match value {
                Expr::Text(text) => text.parse().ok(),
                _ => None,
            })?;
            let ranges =
                (0..=u8::MAX).flat_map(|kind| codes.iter().map(move |code| IcmpRange::of_code(kind, *code)));
            MatchKind::Icmp(ranges.collect())
        }
        _ => return None,
    })
}

fn meta(key: &str, values: &[Expr]) -> Option<MatchKind> {
    let text = |value: &Expr| match value {
        Expr::Text(text) => Some(text.clone()),
        _ => None,
    };
    // nft writes a star for any ending, the model a plus.
    let name = |value: &Expr| {
        text(value).map(|name| {
            name.strip_suffix('*').map_or_else(|| name.clone(), |beginning| format!("{beginning}+"))
        })
    };
    let id = |value: &Expr| match value {
        Expr::Text(text) if text == "root" => Some((0, 0)),
        Expr::Text(text) => text.parse().ok().map(|number: u32| (number, number)),
        Expr::Range(first, last) => Some((first.parse().ok()?, last.parse().ok()?)),
        _ => None,
    };
    Some(match key {
        "iif" | "iifname" => any(all(values, |value| name(value).map(MatchKind::Entering))?),
        "oif" | "oifname" => any(all(values, |value| name(value).map(MatchKind::Leaving))?),
        "l4proto" => any(all(values, protocol_condition)?),
        "nfproto" => any(all(values, |value| match text(value)?.as_str() {
            "ipv4" | "2" => Some(MatchKind::Version(Family::V4)),
            "ipv6" | "10" => Some(MatchKind::Version(Family::V6)),
            _ => None,
        })?),
        "protocol" => any(all(values, |value| match text(value)?.as_str() {
            "ip" => Some(MatchKind::Version(Family::V4)),
            "ip6" => Some(MatchKind::Version(Family::V6)),
            _ => None,
        })?),
        "skuid" => any(all(values, |value| id(value).map(|(first, last)| MatchKind::User(first, last)))?),
        "skgid" => any(all(values, |value| id(value).map(|(first, last)| MatchKind::Group(first, last)))?),
        "ipsec" => match values {
            [Expr::Text(word)] if matches!(word.as_str(), "exists" | "1" | "true") => {
                MatchKind::Ipsec { leaving: false }
            }
            [Expr::Text(word)] if matches!(word.as_str(), "missing" | "0" | "false") => {
                MatchKind::AnyOf(vec![vec![Match {
                    negated: true,
                    kind: MatchKind::Ipsec { leaving: false },
                }]])
            }
            _ => return None,
        },
        _ => return None,
    })
}

fn ct(key: &str, direction: Option<&str>, values: &[Expr]) -> Option<MatchKind> {
    Some(match (key, direction) {
        ("state", None) => {
            let mut states = ConnectionStates::default();
            for value in values {
                let Expr::Text(word) = value else { return None };
                *state(&mut states, word)? = true;
            }
            MatchKind::States(states)
        }
        ("direction", None) => {
            let one = |value: &Expr| match value {
                Expr::Text(word) if word == "reply" => Some(false),
                Expr::Text(word) if word == "original" => Some(true),
                _ => None,
            };
            let sides = all(values, one)?;
            let alternatives =
                sides.into_iter().map(|negated| vec![Match { negated, kind: MatchKind::Reply }]);
            MatchKind::AnyOf(alternatives.collect())
        }
        ("daddr" | "ip daddr" | "ip6 daddr", Some("original")) => {
            MatchKind::OriginalDestination(all(values, addresses)?)
        }
        ("proto-dst", Some("original")) => MatchKind::OriginalDestinationPorts(all(values, ports)?),
        ("protocol", Some("original")) => any(all(values, protocol_condition)?),
        _ => return None,
    })
}

fn state<'a>(states: &'a mut ConnectionStates, word: &str) -> Option<&'a mut bool> {
    Some(match word {
        "new" => &mut states.new,
        "established" => &mut states.established,
        "related" => &mut states.related,
        "invalid" => &mut states.invalid,
        "untracked" => &mut states.untracked,
        _ => return None,
    })
}

/// Fields that are sets of bits: with no operator any of the bits named, with one the value as a whole. So
/// `ct state != established,related` holds for every packet, since no state is both.
fn bits(left: &Expr, op: Op, right: &Expr) -> Option<Vec<Match>> {
    let words = match right {
        Expr::Bits(words) => words.clone(),
        Expr::Text(word) => vec![word.clone()],
        _ => return None,
    };
    match left {
        Expr::Ct(key, None) if key == "state" => {
            let mut states = ConnectionStates::default();
            for word in &words {
                *state(&mut states, word)? = true;
            }
            match op {
                Op::Implicit => Some(vec![plain(MatchKind::States(states))]),
                Op::Equal | Op::Unequal if words.len() == 1 => {
                    Some(vec![Match { negated: op == Op::Unequal, kind: MatchKind::States(states) }])
                }
                Op::Unequal => Some(Vec::new()),
                Op::Equal => Some(vec![plain(MatchKind::AnyOf(Vec::new()))]),
                _ => None,
            }
        }
        Expr::Ct(key, None) if key == "status" => {
            let mut states = ConnectionStates::default();
            for word in &words {
                match word.as_str() {
                    "snat" => states.snat = true,
                    "dnat" => states.dnat = true,
                    _ => return None,
                }
            }
            // A connection has further status flags, so only the first form is known.
            (op == Op::Implicit).then(|| vec![plain(MatchKind::States(states))])
        }
        Expr::Payload(protocol, field) if protocol == "tcp" && field == "flags" => {
            let value = flags(&words)?;
            match op {
                Op::Implicit => {
                    // Any of them: not none of them.
                    Some(vec![Match {
                        negated: true,
                        kind: MatchKind::TcpFlags { looked_at: value, set: 0 },
                    }])
                }
                Op::Equal | Op::Unequal => Some(vec![Match {
                    negated: op == Op::Unequal,
                    kind: MatchKind::TcpFlags { looked_at: 63, set: value },
                }]),
                _ => None,
            }
        }
        _ => None,
    }
}

/// `FIELD & MASK op RIGHT`
fn masked(left: &Expr, mask: &Expr, op: Op, right: &Expr) -> Option<Vec<Match>> {
    let words = |expr: &Expr| match expr {
        Expr::Bits(words) => Some(words.clone()),
        Expr::Text(word) if word == "0" => Some(Vec::new()),
        Expr::Text(word) => Some(vec![word.clone()]),
        _ => None,
    };
    let negated = match op {
        Op::Implicit | Op::Equal => false,
        Op::Unequal => true,
        _ => return None,
    };
    match left {
        Expr::Payload(protocol, field) if protocol == "tcp" && field == "flags" => {
            let (looked_at, set) = (flags(&words(mask)?)?, flags(&words(right)?)?);
            if set & !looked_at != 0 {
                // Bits outside of the mask cannot be set.
                return Some(vec![Match { negated, kind: MatchKind::AnyOf(Vec::new()) }]);
            }
            Some(vec![Match { negated, kind: MatchKind::TcpFlags { looked_at, set } }])
        }
        Expr::Ct(key, None) if key == "state" && words(right)?.is_empty() => {
            let mut states = ConnectionStates::default();
            for word in words(mask)? {
                *state(&mut states, &word)? = true;
            }
            Some(vec![Match { negated: !negated, kind: MatchKind::States(states) }])
        }
        // `ip saddr & 255.255.255.0 == 10.0.0.0`
        Expr::Payload(protocol, field) if matches!(protocol.as_str(), "ip" | "ip6") => {
            let (Expr::Text(mask), Expr::Text(base)) = (mask, right) else { return None };
            let mask: IpAddr = mask.parse().ok()?;
            let length = ipnet::ip_mask_to_prefix(mask).ok()?;
            let kind = payload(protocol, field, &[Expr::Prefix(base.clone(), length)])?;
            Some(vec![Match { negated, kind }])
        }
        _ => None,
    }
}

/// `FIELD < VALUE`, for numbers.
fn ordered(left: &Expr, op: Op, right: &Expr) -> Option<Match> {
    let Expr::Text(text) = right else { return None };
    let range = |value: u64, greatest: u64| match op {
        Op::Less => value.checked_sub(1).map(|last| (0, last)),
        Op::AtMost => Some((0, value)),
        Op::Greater => value.checked_add(1).filter(|first| *first <= greatest).map(|first| (first, greatest)),
        _ => Some((value, greatest)),
    };
    match left {
        Expr::Payload(_, field) if field == "sport" || field == "dport" => {
            let port = number(text).or_else(|| services().get(text.as_str()).copied().map(u64::from))?;
            let kind = match range(port, 65535) {
                Some((first, last)) => {
                    let ports = vec![PortRange { first: first as u16, last: last as u16 }];
                    if field == "sport" {
                        MatchKind::SourcePorts(ports)
                    } else {
                        MatchKind::DestinationPorts(ports)
                    }
                }
                None => MatchKind::AnyOf(Vec::new()),
            };
            Some(plain(kind))
        }
        Expr::Meta(key) if key == "skuid" || key == "skgid" => {
            let kind = match range(number(text)?, u32::MAX.into()) {
                Some((first, last)) if key == "skuid" => MatchKind::User(first as u32, last as u32),
                Some((first, last)) => MatchKind::Group(first as u32, last as u32),
                None => MatchKind::AnyOf(Vec::new()),
            };
            Some(plain(kind))
        }
        _ => None,
    }
}

fn flags(words: &[String]) -> Option<u8> {
    words.iter().try_fold(0, |all, word| {
        Some(
            all | match word.as_str() {
                "fin" => 1,
                "syn" => 2,
                "rst" => 4,
                "psh" => 8,
                "ack" => 16,
                "urg" => 32,
                // Congestion marks are not analysed, and no filter rule depends on them alone.
                other => number(other).filter(|number| *number < 64)? as u8,
            },
        )
    })
}

/// Addresses of an expression.
pub(super) fn addresses(value: &Expr) -> Option<IpRange> {
    match value {
        Expr::Text(text) => Some(IpRange::from(text.parse::<IpAddr>().ok()?)),
        Expr::Prefix(base, length) => {
            Some(IpRange::from(ipnet::IpNet::new(base.parse().ok()?, *length).ok()?.trunc()))
        }
        Expr::Range(first, last) => IpRange::new(first.parse().ok()?, last.parse().ok()?).ok(),
        _ => None,
    }
}

/// Ports of an expression.
pub(super) fn ports(value: &Expr) -> Option<PortRange> {
    let one = |text: &str| -> Option<u16> {
        number(text).map_or_else(|| services().get(text).copied(), |number| u16::try_from(number).ok())
    };
    let (first, last) = match value {
        Expr::Text(text) => (one(text)?, one(text)?),
        Expr::Range(first, last) => (one(first)?, one(last)?),
        _ => return None,
    };
    (first <= last).then_some(PortRange { first, last })
}

fn protocol_condition(value: &Expr) -> Option<MatchKind> {
    let Expr::Text(word) = value else { return None };
    let named = |word: &str| match word {
        "ipv6-icmp" | "icmpv6" => Some(58),
        "comp" => Some(108),
        other => protocols().get(other).copied(),
    };
    let number = word.parse().ok().or_else(|| named(word))?;
    Some(MatchKind::Protocol(Protocol(Some(number))))
}

fn icmp(value: &Expr, family: Family) -> Option<IcmpRange> {
    match value {
        Expr::Text(word) => crate::icmp::range(word, family),
        Expr::Range(first, last) => {
            let (first, last) = (first.parse().ok()?, last.parse().ok()?);
            Some(IcmpRange { first: IcmpRange::of_type(first).first, last: IcmpRange::of_type(last).last })
        }
        _ => None,
    }
}

fn address_kind(value: &Expr) -> Option<AddressKind> {
    let Expr::Text(word) = value else { return None };
    Some(match word.as_str() {
        "local" => AddressKind::Local,
        "broadcast" => AddressKind::Broadcast,
        "multicast" => AddressKind::Multicast,
        "unicast" => AddressKind::Unicast,
        _ => return None,
    })
}
