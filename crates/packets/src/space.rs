//! The space of packets of one IP version at one device: numbers for the names and addresses in its rules, and the packets that a rule's
//! conditions match.
//!
//! Long because names become numbers and numbers names again, which must be consistent.

use crate::cube::{Cube, FIELDS, Field, NOBODY, Point, Ranges, Region, Value, other_ranges, ranges, state};
use std::collections::BTreeSet;
use std::net::IpAddr;
use trevlin_model::{
    AddressKind, ConnectionStates, Family, Filter, Interface, IpRange, Limit, Limits, Match, MatchKind,
    PortRange, Protocol, Rule,
};

/// Whether a condition holds for a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Holds {
    /// It does not.
    No,
    /// It is not analysed: it may.
    Perhaps,
    /// It does.
    Yes,
}

impl std::ops::Not for Holds {
    type Output = Self;

    fn not(self) -> Self {
        match self {
            Self::No => Self::Yes,
            Self::Perhaps => Self::Perhaps,
            Self::Yes => Self::No,
        }
    }
}

impl From<bool> for Holds {
    fn from(holds: bool) -> Self {
        if holds { Self::Yes } else { Self::No }
    }
}

/// The number of an address.
#[must_use]
pub fn number(address: IpAddr) -> Value {
    match address {
        IpAddr::V4(v4) => Value::from(v4.to_bits()),
        IpAddr::V6(v6) => v6.to_bits(),
    }
}

/// The address of an IP version for a number.
#[must_use]
pub fn address(number: Value, family: Family) -> IpAddr {
    match family {
        Family::V4 => std::net::Ipv4Addr::from_bits(number as u32).into(),
        Family::V6 => std::net::Ipv6Addr::from_bits(number).into(),
    }
}

/// The space of packets.
#[derive(Debug, Clone)]
pub struct Space {
    family: Family,
    /// Interfaces by number: none at first, those that are named anywhere, for each pattern one that only it means, and one
    /// that nothing names.
    names: Vec<String>,
    /// Addresses of the device; `None` where its interfaces are not known.
    own: Option<Ranges>,
    broadcast: Ranges,
    /// Interfaces by which the device only talks to itself.
    loopback: Ranges,
    /// Whether any rule exempts packets from connection tracking.
    untracked: bool,
    /// Nodes that one question may cost.
    nodes: usize,
}

/// The number of no interface: that by which packets from the device itself enter.
pub const NO_INTERFACE: Value = 0;

impl Space {
    /// The space of a device with these tables and interfaces. Without interfaces it is not known which addresses are its own.
    #[must_use]
    pub fn new(family: Family, tables: &[&Filter], interfaces: &[Interface]) -> Self {
        let rules = || tables.iter().flat_map(|table| &table.chains).flat_map(|chain| &chain.rules);
        let mut names: BTreeSet<String> = interfaces.iter().map(|one| one.name.clone()).collect();
        for rule in rules() {
            gather_names(&rule.matches, &mut names);
        }
        let untracked = rules().any(exempts);
        let addresses = || interfaces.iter().flat_map(|one| &one.addresses).map(|one| one.net);
        let of_family = |address: &IpAddr| Family::of(*address) == family;
        let whole: IpRange = match family {
            Family::V4 => ipnet_range([127, 0, 0, 0].into(), [127, 255, 255, 255].into()),
            Family::V6 => IpRange::from(IpAddr::from(std::net::Ipv6Addr::LOCALHOST)),
        };
        let own = ranges(
            addresses()
                .map(|net| net.addr())
                .filter(of_family)
                .map(|one| (number(one), number(one)))
                .chain([(number(whole.first()), number(whole.last()))])
                .collect(),
        );
        let broadcast = match family {
            Family::V6 => ranges(Vec::new()),
            Family::V4 => ranges(
                addresses()
                    .filter(|net| net.addr().is_ipv4() && net.prefix_len() < 31)
                    .map(|net| (number(net.broadcast()), number(net.broadcast())))
                    .chain([(Value::from(u32::MAX), Value::from(u32::MAX))])
                    .collect(),
            ),
        };
        // Nothing is named so: an interface name holds no control characters.
        let names: Vec<String> =
            [String::new()].into_iter().chain(names).chain(["\u{1}".to_owned()]).collect();
        let is_loopback =
            |name: &String| name == "lo" || interfaces.iter().any(|one| one.loopback && one.name == *name);
        let loops = names.iter().enumerate().filter(|(_, name)| is_loopback(name));
        let loopback = ranges(loops.map(|(at, _)| (at as Value, at as Value)).collect());
        let own = (!interfaces.is_empty()).then_some(own);
        let nodes = Limits::default().of(Limit::SetNodes);
        Self { family, names, loopback, own, broadcast, untracked, nodes }
    }

    /// The same, with a limit on the nodes of a set diagram for one decision about a rule.
    #[must_use]
    pub fn costing(mut self, nodes: usize) -> Self {
        self.nodes = nodes;
        self
    }

    /// Nodes of a set diagram that one question about a rule may cost.
    #[must_use]
    pub fn nodes(&self) -> usize {
        self.nodes
    }

    /// IP version.
    #[must_use]
    pub fn family(&self) -> Family {
        self.family
    }

    /// The greatest value of each field.
    #[must_use]
    pub fn greatest(&self) -> [Value; FIELDS] {
        std::array::from_fn(|at| self.greatest_of(field(at)))
    }

    pub(crate) fn greatest_of(&self, field: Field) -> Value {
        match field {
            Field::Entering | Field::Leaving => self.names.len() as Value - 1,
            Field::Protocol => 255,
            Field::Destination | Field::Source | Field::OriginalDestination => self.last_address(),
            Field::DestinationPort | Field::SourcePort | Field::Icmp | Field::OriginalDestinationPort => {
                65535
            }
            Field::TcpFlags => 63,
            Field::State if self.untracked => state::UNTRACKED,
            Field::State => state::INVALID,
            Field::SourceTranslated
            | Field::DestinationTranslated
            | Field::Reply
            | Field::IpsecIn
            | Field::IpsecOut => 1,
            Field::User | Field::Group => NOBODY,
        }
    }

    /// The number of the last address.
    #[must_use]
    pub fn last_address(&self) -> Value {
        if self.family == Family::V4 { Value::from(u32::MAX) } else { Value::MAX }
    }

    /// The number of an interface. A name that no rule mentions is represented by a common number.
    #[must_use]
    pub fn interface(&self, name: &str) -> Value {
        if name.is_empty() {
            return NO_INTERFACE;
        }
        self.number_of(name).unwrap_or_else(|| self.unnamed(name)) as Value
    }

    /// Position of a name. The first represents no interface and the last all unmentioned ones; those between are sorted.
    fn number_of(&self, name: &str) -> Option<usize> {
        let last = self.names.len() - 1;
        let found = self.names[1..last].binary_search_by(|one| one.as_str().cmp(name)).ok();
        found.map(|at| at + 1).or_else(|| (self.names[last] == name).then_some(last))
    }

    /// The stand-in for an interface that nothing names: the one of the longest pattern that means it.
    fn unnamed(&self, name: &str) -> usize {
        let stand_ins = self.names.iter().enumerate().skip(1).filter_map(|(at, one)| {
            let beginning = one.strip_suffix('\u{1}')?;
            name.starts_with(beginning).then_some((beginning.len(), at))
        });
        stand_ins.max().map_or(self.names.len() - 1, |(_, at)| at)
    }

    /// Interfaces that an export or a rule names.
    pub(crate) fn names(&self) -> impl Iterator<Item = &str> {
        self.names.iter().map(String::as_str).filter(|name| !name.is_empty() && !name.ends_with('\u{1}'))
    }

    /// The name of an interface by its number; stand-ins have none.
    #[must_use]
    pub fn interface_name(&self, number: Value) -> Option<&str> {
        let name = self.names.get(usize::try_from(number).ok()?)?;
        (!name.is_empty() && !name.ends_with('\u{1}')).then_some(name)
    }

    /// Every interface but none.
    #[must_use]
    pub fn any_interface(&self) -> Ranges {
        ranges(vec![(1, self.names.len() as Value - 1)])
    }

    /// Interfaces by which packets come from elsewhere: every one but those by which the device talks to itself.
    #[must_use]
    pub fn from_elsewhere(&self) -> Ranges {
        other_ranges(&self.loopback, self.greatest_of(Field::Entering))
    }

    /// Addresses of the device, where its interfaces are known.
    #[must_use]
    pub fn own(&self) -> Option<&Ranges> {
        self.own.as_ref()
    }

    fn named_by(&self, pattern: &str) -> Ranges {
        let number = |at: usize| (at as Value, at as Value);
        match pattern.strip_suffix('+') {
            // Those that begin so stand beside each other, but for the last, which stands for what nothing names.
            Some(beginning) => {
                let sorted = &self.names[..self.names.len() - 1];
                let first = sorted.partition_point(|name| name.as_str() < beginning).max(1);
                let many = sorted[first..].partition_point(|name| name.starts_with(beginning));
                let last = beginning.is_empty().then_some(self.names.len() - 1);
                ranges((first..first + many).chain(last).map(number).collect())
            }
            None => ranges(self.number_of(pattern).into_iter().map(number).collect()),
        }
    }

    fn addresses(&self, all: &[IpRange]) -> Ranges {
        let of_family = all.iter().filter(|range| range.family() == self.family);
        ranges(of_family.map(|range| (number(range.first()), number(range.last()))).collect())
    }

    fn kinds(&self, kinds: &[AddressKind]) -> Option<Ranges> {
        let own = self.own.as_ref()?;
        let multicast = match self.family {
            Family::V4 => (0xe000_0000, 0xefff_ffff),
            Family::V6 => (0xff << 120, Value::MAX),
        };
        let mut all = Vec::new();
        for kind in kinds {
            match kind {
                AddressKind::Local => all.extend(own.iter().copied()),
                AddressKind::Broadcast => all.extend(self.broadcast.iter().copied()),
                AddressKind::Multicast => all.push(multicast),
                AddressKind::Unicast => {
                    let special =
                        own.iter().chain(self.broadcast.iter()).copied().chain([multicast]).collect();
                    all.extend(other_ranges(&ranges(special), self.last_address()).iter().copied());
                }
            }
        }
        Some(ranges(all))
    }

    /// The packets that a rule's conditions hold for.
    #[must_use]
    pub fn region(&self, matches: &[Match]) -> Region {
        let mut all = Region::all();
        for one in matches {
            if all.is_empty() {
                return all;
            }
            all = all.and(&self.one(one));
        }
        all
    }

    fn one(&self, one: &Match) -> Region {
        let region = self.plainly(one);
        if !needs_connection(&one.kind) {
            return region;
        }
        let known = Cube::of(Field::State, ranges(vec![KNOWN]));
        region.and(&Region { cubes: known.into_iter().collect(), exact: true })
    }

    fn plainly(&self, one: &Match) -> Region {
        match self.field_of(&one.kind) {
            Some((field, held)) => {
                let held = if one.negated { other_ranges(&held, self.greatest_of(field)) } else { held };
                // A condition that every value meets restricts nothing.
                if *held == [(0, self.greatest_of(field))] {
                    return Region::all();
                }
                Region { cubes: Cube::of(field, held).into_iter().collect(), exact: true }
            }
            None => {
                let region = self.several(&one.kind);
                if one.negated { self.complement(&region) } else { region }
            }
        }
    }

    /// A condition that looks at one field.
    pub(crate) fn field_of(&self, kind: &MatchKind) -> Option<(Field, Ranges)> {
        let yes = || ranges(vec![(1, 1)]);
        Some(match kind {
            MatchKind::Entering(pattern) => (Field::Entering, self.named_by(pattern)),
            MatchKind::Leaving(pattern) => (Field::Leaving, self.named_by(pattern)),
            MatchKind::Source(all) => (Field::Source, self.addresses(all)),
            MatchKind::Destination(all) => (Field::Destination, self.addresses(all)),
            MatchKind::OriginalDestination(all) => (Field::OriginalDestination, self.addresses(all)),
            MatchKind::OriginalDestinationPorts(all) => (Field::OriginalDestinationPort, ports(all)),
            MatchKind::Protocol(Protocol(Some(number))) => {
                (Field::Protocol, ranges(vec![(Value::from(*number), Value::from(*number))]))
            }
            MatchKind::SourcePorts(all) => (Field::SourcePort, ports(all)),
            MatchKind::DestinationPorts(all) => (Field::DestinationPort, ports(all)),
            MatchKind::Icmp(all) => (
                Field::Icmp,
                ranges(all.iter().map(|one| (Value::from(one.first), Value::from(one.last))).collect()),
            ),
            MatchKind::TcpFlags { looked_at, set } => {
                let fits = (0..64u8).filter(|flags| flags & looked_at == *set);
                (Field::TcpFlags, ranges(fits.map(|one| (Value::from(one), Value::from(one))).collect()))
            }
            MatchKind::States(states) if !states.snat && !states.dnat => (Field::State, self.states(states)),
            MatchKind::AddressIs { destination, kinds } => {
                (if *destination { Field::Destination } else { Field::Source }, self.kinds(kinds)?)
            }
            MatchKind::Reply => (Field::Reply, yes()),
            MatchKind::Ipsec { leaving: false } => (Field::IpsecIn, yes()),
            MatchKind::Ipsec { leaving: true } => (Field::IpsecOut, yes()),
            MatchKind::User(first, last) => {
                (Field::User, ranges(vec![(Value::from(*first), Value::from(*last))]))
            }
            MatchKind::Group(first, last) => {
                (Field::Group, ranges(vec![(Value::from(*first), Value::from(*last))]))
            }
            _ => return None,
        })
    }

    fn states(&self, states: &ConnectionStates) -> Ranges {
        let all = [
            (states.new, state::NEW),
            (states.established, state::ESTABLISHED),
            (states.related, state::RELATED),
            (states.invalid, state::INVALID),
            (states.untracked && self.untracked, state::UNTRACKED),
        ];
        ranges(all.into_iter().filter(|(is, _)| *is).map(|(_, value)| (value, value)).collect())
    }

    /// A condition on several fields, or on none of the analysed ones.
    fn several(&self, kind: &MatchKind) -> Region {
        let cubes =
            |all: Vec<Option<Cube>>| Region { cubes: all.into_iter().flatten().collect(), exact: true };
        match kind {
            MatchKind::Version(family) if *family == self.family => Region::all(),
            MatchKind::Version(_) => Region::nothing(),
            MatchKind::Protocol(_) => Region::all(),
            MatchKind::EitherPorts(all) => cubes(vec![
                Cube::of(Field::SourcePort, ports(all)),
                Cube::of(Field::DestinationPort, ports(all)),
            ]),
            MatchKind::States(states) => {
                let yes =
                    |wanted: bool, field| wanted.then(|| Cube::of(field, ranges(vec![(1, 1)]))).flatten();
                cubes(vec![
                    Cube::of(Field::State, self.states(states)),
                    yes(states.snat, Field::SourceTranslated),
                    yes(states.dnat, Field::DestinationTranslated),
                ])
            }
            MatchKind::AnyOf(alternatives) | MatchKind::ReversePath { ways: alternatives, .. } => {
                let mut all = Region::nothing();
                for alternative in alternatives {
                    let one = self.region(alternative);
                    all.cubes.extend(one.cubes);
                    all.exact &= one.exact;
                }
                all
            }
            _ => Region { cubes: vec![Cube::all()], exact: false },
        }
    }

    /// Every other packet.
    fn complement(&self, region: &Region) -> Region {
        // The verdict on some packets of a region is not known, and so that on the others is not.
        if !region.exact {
            return Region { cubes: vec![Cube::all()], exact: false };
        }
        let mut rest = Region::all();
        for cube in &region.cubes {
            let others = cube
                .sides()
                .filter_map(|(field, held)| Cube::of(field, other_ranges(held, self.greatest_of(field))))
                .collect();
            rest = rest.and(&Region { cubes: others, exact: true });
        }
        rest
    }

    /// Whether all conditions of a rule hold for a packet.
    #[must_use]
    pub fn all_hold(&self, matches: &[Match], point: &Point) -> Holds {
        let mut all = Holds::Yes;
        for one in matches {
            all = all.min(self.one_holds(one, point));
            if all == Holds::No {
                break;
            }
        }
        all
    }

    /// Whether one condition of a rule, turned around where it is negated, holds for a packet.
    pub(crate) fn one_holds(&self, one: &Match, point: &Point) -> Holds {
        let holds = self.holds(&one.kind, point);
        match one.negated {
            _ if needs_connection(&one.kind) && self.unconnected(point) => Holds::No,
            true => !holds,
            false => holds,
        }
    }

    /// Whether nothing is known of a packet's connection.
    pub(crate) fn unconnected(&self, point: &Point) -> bool {
        point[Field::State as usize] > KNOWN.1
    }

    /// Whether a packet matches a condition: equivalent to [`Space::region`], evaluated directly.
    fn holds(&self, kind: &MatchKind, point: &Point) -> Holds {
        let at = |field: Field| point[field as usize];
        let lies = |all: &[IpRange], field| {
            Holds::from(all.iter().any(|range| {
                range.family() == self.family
                    && number(range.first()) <= at(field)
                    && at(field) <= number(range.last())
            }))
        };
        let port = |all: &[PortRange], field| {
            Holds::from(
                all.iter()
                    .any(|one| Value::from(one.first) <= at(field) && at(field) <= Value::from(one.last)),
            )
        };
        match kind {
            MatchKind::Entering(pattern) => self.fits(pattern, at(Field::Entering)).into(),
            MatchKind::Leaving(pattern) => self.fits(pattern, at(Field::Leaving)).into(),
            MatchKind::Source(all) => lies(all, Field::Source),
            MatchKind::Destination(all) => lies(all, Field::Destination),
            MatchKind::OriginalDestination(all) => lies(all, Field::OriginalDestination),
            MatchKind::SourcePorts(all) => port(all, Field::SourcePort),
            MatchKind::DestinationPorts(all) => port(all, Field::DestinationPort),
            MatchKind::OriginalDestinationPorts(all) => port(all, Field::OriginalDestinationPort),
            MatchKind::EitherPorts(all) => {
                port(all, Field::SourcePort).max(port(all, Field::DestinationPort))
            }
            MatchKind::Version(family) => (*family == self.family).into(),
            MatchKind::Protocol(Protocol(None)) => Holds::Yes,
            MatchKind::AnyOf(alternatives) | MatchKind::ReversePath { ways: alternatives, .. } => {
                alternatives.iter().map(|one| self.all_hold(one, point)).max().unwrap_or(Holds::No)
            }
            MatchKind::States(states) if states.snat || states.dnat => {
                let translated = |wanted: bool, field| wanted && at(field) == 1;
                (crate::cube::holds(&self.states(states), at(Field::State))
                    || translated(states.snat, Field::SourceTranslated)
                    || translated(states.dnat, Field::DestinationTranslated))
                .into()
            }
            other => match self.field_of(other) {
                Some((field, held)) => crate::cube::holds(&held, at(field)).into(),
                None => Holds::Perhaps,
            },
        }
    }

    fn fits(&self, pattern: &str, number: Value) -> bool {
        let Some(name) = self.names.get(number as usize).filter(|_| number != NO_INTERFACE) else {
            return false;
        };
        match pattern.strip_suffix('+') {
            Some(beginning) => name.starts_with(beginning),
            None => name == pattern,
        }
    }
}

/// States of packets that belong to a connection.
const KNOWN: (Value, Value) = (state::NEW, state::RELATED);

/// Whether a condition looks at a packet's connection: where there is none, neither it nor its opposite holds
/// (net/netfilter/xt_conntrack.c, nft_ct.c).
pub(crate) fn needs_connection(kind: &MatchKind) -> bool {
    matches!(
        kind,
        MatchKind::OriginalDestination(_) | MatchKind::OriginalDestinationPorts(_) | MatchKind::Reply
    )
}

/// The field with a number.
pub(crate) fn field(at: usize) -> Field {
    const ALL: [Field; FIELDS] = [
        Field::Entering,
        Field::Leaving,
        Field::Protocol,
        Field::Destination,
        Field::Source,
        Field::DestinationPort,
        Field::SourcePort,
        Field::Icmp,
        Field::TcpFlags,
        Field::State,
        Field::SourceTranslated,
        Field::DestinationTranslated,
        Field::Reply,
        Field::OriginalDestination,
        Field::OriginalDestinationPort,
        Field::IpsecIn,
        Field::IpsecOut,
        Field::User,
        Field::Group,
    ];
    ALL[at]
}

fn ipnet_range(first: IpAddr, last: IpAddr) -> IpRange {
    IpRange::new(first, last).unwrap_or_else(|_| IpRange::from(first))
}

pub(crate) fn ports(all: &[PortRange]) -> Ranges {
    ranges(all.iter().map(|one| (Value::from(one.first), Value::from(one.last))).collect())
}

/// Names of interfaces in conditions; for a pattern a stand-in for what only it means.
fn gather_names(matches: &[Match], names: &mut BTreeSet<String>) {
    for one in matches {
        match &one.kind {
            MatchKind::Entering(name) | MatchKind::Leaving(name) => {
                names.insert(match name.strip_suffix('+') {
                    Some(beginning) => format!("{beginning}\u{1}"),
                    None => name.clone(),
                });
            }
            MatchKind::AnyOf(alternatives) | MatchKind::ReversePath { ways: alternatives, .. } => {
                alternatives.iter().for_each(|one| gather_names(one, names));
            }
            _ => {}
        }
    }
}

/// Whether a rule exempts packets from connection tracking.
fn exempts(rule: &Rule) -> bool {
    matches!(&rule.target, trevlin_model::Target::NotAnalysed { name, .. } if name == "NOTRACK")
}
