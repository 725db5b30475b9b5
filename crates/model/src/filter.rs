//! Packet filters and address translation, in the shape the exports have them.
//!
//! Long because one vocabulary for all languages of rules, which readers and the packet engine share as a whole.

use crate::{ExportState, Family, IpRange, Limit, Limits, Origin, Residual, ResidualKind, Truncation};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The language of a filter: it affects the display of names, not the meaning of rules.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum FilterFormat {
    /// Tables of `iptables-save` and `ip6tables-save`.
    Iptables,
    /// Tables of nftables, as text or as JSON.
    Nftables,
    /// Zones and policies of firewalld, as it would load them.
    Firewalld,
    /// Rules in order between zones, as a sheet or a phrasebook has them.
    Ordered,
}

/// The IP versions that a table judges.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Families {
    /// IPv4 alone.
    V4,
    /// IPv6 alone.
    V6,
    /// Both, as the nftables family `inet` does.
    Both,
}

impl Families {
    /// Whether packets of this version are judged.
    #[must_use]
    pub fn has(self, family: Family) -> bool {
        match self {
            Self::V4 => family == Family::V4,
            Self::V6 => family == Family::V6,
            Self::Both => true,
        }
    }

    /// The versions, IPv4 first.
    pub fn each(self) -> impl Iterator<Item = Family> {
        [Family::V4, Family::V6].into_iter().filter(move |family| self.has(*family))
    }
}

impl From<Family> for Families {
    fn from(family: Family) -> Self {
        if family == Family::V4 { Self::V4 } else { Self::V6 }
    }
}

impl std::fmt::Display for Families {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::V4 => "IPv4",
            Self::V6 => "IPv6",
            Self::Both => "IPv4 and IPv6",
        })
    }
}

/// Where in a packet's way a base chain is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Hook {
    /// On arrival, before routing.
    Prerouting,
    /// For the device itself.
    Input,
    /// Forwarded traffic.
    Forward,
    /// From the device itself.
    Output,
    /// On leaving, after routing.
    Postrouting,
}

/// Hook of a base chain.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ChainKind {
    /// It lets packets pass or not.
    Filter,
    /// It only sees the first packet of a connection, and may translate its addresses.
    Nat,
    /// It may send packets from the device itself another way.
    Route,
}

/// One table of a packet filter: for iptables one `*table` section of a dump.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Filter {
    /// IP versions it judges.
    #[serde(with = "crate::written::both")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<Families>"))]
    pub families: Families,
    /// The language it was written in.
    pub format: FilterFormat,
    /// Table name, such as `filter` or `nat`.
    pub table: String,
    /// Stored or running.
    #[serde(with = "crate::written::stored")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<ExportState>"))]
    pub state: ExportState,
    /// Its chains in order of appearance.
    pub chains: Vec<Chain>,
    /// Named sets and maps, in order of appearance.
    pub sets: Vec<NamedSet>,
    /// Whether the export holds it to its end (a dump that breaks off is not complete).
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub complete: bool,
    /// Whether the missing parts have a place, marked by rules with unknown effect. Otherwise they may be anywhere.
    #[serde(skip)]
    pub gaps_placed: bool,
    /// Whether it holds only what commands add to a table that was not exported, so that the rest of it may be anything.
    #[serde(skip)]
    pub additions: bool,
    /// The line that opens it.
    pub origin: Origin,
}

impl Filter {
    /// Removes rules beyond a limit, and reports it. In their place the effect on packets is unknown.
    pub fn cut(&mut self, limits: &Limits) -> Option<Truncation> {
        let most = limits.of(Limit::Rules);
        let count: usize = self.chains.iter().map(|chain| chain.rules.len()).sum();
        if count <= most {
            return None;
        }
        let mut left = most;
        let mut first = None;
        for chain in &mut self.chains {
            let kept = left.min(chain.rules.len());
            left -= kept;
            let Some(origin) = chain.rules.get(kept).map(|rule| rule.origin) else { continue };
            first = first.or(Some(origin));
            chain.rules.truncate(kept);
            chain.rules.push(Rule::open("rules that were not read", origin));
        }
        (self.complete, self.gaps_placed) = (false, self.complete || self.gaps_placed);
        let text = format!(
            "table {} has {count} rules; those beyond {most} were not read, and verdicts that depend on them are left \
             undetermined; {}",
            self.table,
            Limit::Rules.remedy()
        );
        Some(Truncation { limit: Limit::Rules, origin: first.unwrap_or(self.origin), text })
    }

    /// The chain with this name.
    #[must_use]
    pub fn chain(&self, name: &str) -> Option<&Chain> {
        self.chains.iter().find(|chain| chain.name == name)
    }

    /// The base chain on this hook, the first where there are several.
    #[must_use]
    pub fn base_chain(&self, hook: Hook) -> Option<&Chain> {
        self.chains.iter().find(|chain| chain.hook == Some(hook))
    }

    /// The chains by name, for repeated lookups.
    #[must_use]
    pub fn by_name(&self) -> BTreeMap<&str, &Chain> {
        self.chains.iter().rev().map(|chain| (chain.name.as_str(), chain)).collect()
    }

    /// Whether two tables are equivalent, independent of place and notation.
    #[must_use]
    pub fn says_the_same(&self, other: &Self) -> bool {
        let chain = |a: &Chain, b: &Chain| {
            (&a.name, a.hook, a.priority, a.kind, &a.policy)
                == (&b.name, b.hook, b.priority, b.kind, &b.policy)
                && a.rules.len() == b.rules.len()
                && a.rules.iter().zip(&b.rules).all(|(a, b)| a.says_the_same(b))
        };
        (self.families, &self.table, self.chains.len()) == (other.families, &other.table, other.chains.len())
            && self.chains.iter().zip(&other.chains).all(|(a, b)| chain(a, b))
    }
}

/// A named set or map.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NamedSet {
    /// Name.
    pub name: String,
    /// Whether rules fill it at run time, so that an export does not show its elements.
    pub filled_by_rules: bool,
    /// How many elements it has here.
    #[serde(with = "crate::written::zero_unless_said")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<usize>"))]
    pub elements: usize,
    /// Whether the export holds it; a set that is only named by rules is not.
    #[serde(with = "crate::written::on_unless_off")]
    #[cfg_attr(feature = "schema", schemars(with = "bool"))]
    pub present: bool,
    /// The widest range of addresses of each element that has one, with its line.
    #[serde(skip)]
    pub ranges: Vec<(IpRange, Origin)>,
    /// Lines of the rules that name it.
    #[serde(rename = "used")]
    pub used_at: Vec<Origin>,
    /// The line that declares it, or the first that names it.
    pub origin: Origin,
}

/// A chain of rules.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Chain {
    /// Name.
    pub name: String,
    /// Where packets enter it by themselves; `None` for a chain that only jumps reach.
    pub hook: Option<Hook>,
    /// In which order the base chains of a hook are asked: the lowest number first (nft(8), "priority").
    #[serde(with = "crate::written::zero_unless_said")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<i32>"))]
    pub priority: i32,
    /// Kind. A chain that is only jumped to has the kind of the chains that jump to it, and counts as a filter.
    pub kind: ChainKind,
    /// Target at the end of a base chain.
    pub policy: Option<Target>,
    /// Rules in order.
    pub rules: Vec<Rule>,
    /// The line that declares it, with its policy.
    pub origin: Origin,
}

/// A rule: all matches must hold.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Rule {
    /// Conditions.
    pub matches: Vec<Match>,
    /// Target.
    pub target: Target,
    /// Whether it writes a log line on the way.
    pub logs: bool,
    /// Comment kept in the rule.
    pub comment: Option<String>,
    /// Packets counted so far, where the dump has counters.
    pub packets: Option<u64>,
    /// Its line. A rule that an element of a map makes has the line of the element.
    pub origin: Origin,
    /// For a rule that an element of a map makes, the line of the rule that looks the map up.
    #[serde(skip)]
    pub looked_up_at: Option<Origin>,
}

impl Rule {
    /// Beginning of the comment of a rule that a program adds by itself for a setting; it is in no configuration.
    pub const GENERATED: &str = "generated from ";

    /// Comment of a rule that a program needs for its own work and no setting is about: it is changed with the program alone.
    pub const OF_A_PROGRAM: &str = "set by the container engine";

    /// Whether it is a rule that a program needs for its own work.
    #[must_use]
    pub fn is_of_a_program(&self) -> bool {
        self.comment.as_deref() == Some(Self::OF_A_PROGRAM)
    }

    /// Whether it is a jump without a condition that a program sets between chains of its own: no configuration has it.
    #[must_use]
    pub fn is_generated_jump(&self) -> bool {
        let generated = self.comment.as_deref().is_some_and(|comment| comment.starts_with(Self::GENERATED));
        generated && self.matches.is_empty() && matches!(self.target, Target::Jump(_))
    }

    /// Placeholder for a lost part: any effect on any packet.
    #[must_use]
    pub fn open(what: &str, origin: Origin) -> Self {
        let target = Target::NotAnalysed { name: what.into(), ends: true };
        Self {
            matches: Vec::new(),
            target,
            logs: false,
            comment: None,
            packets: None,
            origin,
            looked_up_at: None,
        }
    }
}

/// One condition, possibly negated.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Match {
    /// Whether the condition must not hold.
    pub negated: bool,
    /// The condition.
    pub kind: MatchKind,
}

impl Match {
    /// What limits a permitted connection besides its packets: users, or an inspection of its content.
    #[must_use]
    pub fn limit(&self) -> Option<&Residual> {
        match &self.kind {
            MatchKind::NotAnalysed(residual) if !self.negated => {
                let limits = matches!(residual.kind, ResidualKind::Users | ResidualKind::Inspection);
                limits.then_some(residual)
            }
            _ => None,
        }
    }
}

/// Field that a condition compares.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum MatchKind {
    /// Incoming interface; a trailing `+` matches any suffix.
    Entering(String),
    /// Outgoing interface; a trailing `+` matches any suffix.
    Leaving(String),
    /// IP version.
    Version(Family),
    /// Source address in one of these.
    Source(Vec<IpRange>),
    /// Destination address in one of these.
    Destination(Vec<IpRange>),
    /// Destination address in one of these, as it was before any translation.
    OriginalDestination(Vec<IpRange>),
    /// Destination port in one of these, as it was before any translation.
    OriginalDestinationPorts(Vec<PortRange>),
    /// Type of an address from the device's point of view (iptables-extensions(8) `addrtype`, nft(8) `fib … type`).
    AddressIs {
        /// Whether the destination is compared; otherwise the source.
        destination: bool,
        /// One of these.
        kinds: Vec<AddressKind>,
    },
    /// Transport protocol.
    Protocol(Protocol),
    /// Source port in one of these.
    SourcePorts(Vec<PortRange>),
    /// Destination port in one of these.
    DestinationPorts(Vec<PortRange>),
    /// Source or destination port in one of these.
    EitherPorts(Vec<PortRange>),
    /// ICMP type and code in one of these; the protocol is a condition of its own.
    Icmp(Vec<IcmpRange>),
    /// TCP flags: of those in `looked_at`, exactly those in `set` are set (RFC 9293, 3.1; FIN is bit 0).
    TcpFlags {
        /// Flags that are looked at.
        looked_at: u8,
        /// Flags that must be set.
        set: u8,
    },
    /// Connection state.
    States(ConnectionStates),
    /// Whether the packet goes against the direction in which its connection was opened.
    Reply,
    /// Whether the packet came out of IPsec, or, where `leaving`, will go into it.
    Ipsec {
        /// Whether the outgoing interface is compared instead of the incoming one.
        leaving: bool,
    },
    /// The user who owns the socket of a packet from the device itself, by number, from first to last.
    User(u32, u32),
    /// The group that owns it.
    Group(u32, u32),
    /// All conditions of one of these lists hold, as for a set whose elements have several parts.
    AnyOf(Vec<Vec<Match>>),
    /// Whether the source of a packet is reached by the interface that it entered by: as written, and as the routes of the device make it.
    /// Only analyses resolve it; exports have the condition as written.
    #[serde(skip_deserializing)]
    #[cfg_attr(feature = "schema", schemars(skip))]
    ReversePath {
        /// The condition as written.
        written: Residual,
        /// All conditions of one of these lists hold.
        #[serde(skip)]
        ways: Vec<Vec<Match>>,
    },
    /// Something Trevlin does not model yet, as written: the rule may or may not match.
    NotAnalysed(Residual),
}

/// Type of an address from the point of view of the routing device.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AddressKind {
    /// One of its own.
    Local,
    /// A broadcast address of a network it is on.
    Broadcast,
    /// A multicast address.
    Multicast,
    /// Anything that is sent on to one host.
    Unicast,
}

/// ICMP types and codes from first to last: the type in the upper eight bits, the code in the lower.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct IcmpRange {
    /// First.
    pub first: u16,
    /// Last, not before the first.
    pub last: u16,
}

impl IcmpRange {
    /// Every code of a type.
    #[must_use]
    pub fn of_type(kind: u8) -> Self {
        Self { first: u16::from(kind) << 8, last: u16::from(kind) << 8 | 0xff }
    }

    /// One code of a type.
    #[must_use]
    pub fn of_code(kind: u8, code: u8) -> Self {
        let both = u16::from(kind) << 8 | u16::from(code);
        Self { first: both, last: both }
    }
}

/// Transport protocol by number; `None` is any.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Protocol(pub Option<u8>);

impl Protocol {
    /// ICMP.
    pub const ICMP: Self = Self(Some(1));
    /// TCP.
    pub const TCP: Self = Self(Some(6));
    /// UDP.
    pub const UDP: Self = Self(Some(17));
    /// Generic routing encapsulation, RFC 2784.
    pub const GRE: Self = Self(Some(47));
    /// ICMP for IPv6.
    pub const ICMPV6: Self = Self(Some(58));

    /// The protocol's usual name, or its number.
    #[must_use]
    pub fn name(&self) -> String {
        match self.0 {
            None => "any".into(),
            Some(1) => "icmp".into(),
            Some(6) => "tcp".into(),
            Some(17) => "udp".into(),
            Some(47) => "gre".into(),
            Some(50) => "esp".into(),
            Some(51) => "ah".into(),
            Some(58) => "icmpv6".into(),
            Some(132) => "sctp".into(),
            Some(number) => number.to_string(),
        }
    }
}

/// Ports from first to last, both included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct PortRange {
    /// First port.
    pub first: u16,
    /// Last port, not before the first.
    pub last: u16,
}

impl PortRange {
    /// Whether the range contains the port.
    #[must_use]
    pub fn contains(&self, port: u16) -> bool {
        self.first <= port && port <= self.last
    }
}

impl std::fmt::Display for PortRange {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if self.first == self.last {
            write!(f, "{}", self.first)
        } else {
            write!(f, "{}-{}", self.first, self.last)
        }
    }
}

/// A set of connection states (iptables-extensions, `conntrack`).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ConnectionStates {
    /// First packet of a connection.
    pub new: bool,
    /// Belongs to a known connection.
    pub established: bool,
    /// Opened by a known connection.
    pub related: bool,
    /// Belongs to nothing.
    pub invalid: bool,
    /// Exempt from tracking.
    pub untracked: bool,
    /// Had its source translated.
    pub snat: bool,
    /// Had its destination translated.
    pub dnat: bool,
}

/// Action of a rule.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", rename_all_fields = "kebab-case")]
pub enum Target {
    /// Let the packet pass this hook.
    Accept,
    /// Discard it silently.
    Drop,
    /// Discard it and answer.
    Reject,
    /// Go back to the calling chain, or to the policy.
    Return,
    /// Continue in this chain and come back.
    Jump(String),
    /// Continue in this chain; what follows here is not asked.
    Goto(String),
    /// Write a log line and go on.
    Log,
    /// Change an address or port.
    Translate(Translation),
    /// Nothing but counting.
    Continue,
    /// A target that Trevlin does not analyse, as written; with `ends` it may end the packet's path through the table.
    NotAnalysed {
        /// Name of the target.
        name: String,
        /// Whether the walk through the table may end here.
        ends: bool,
    },
}

impl Target {
    /// The target of a rule that the reader did not understand: it may end a packet's path.
    #[must_use]
    pub fn not_understood() -> Self {
        Self::NotAnalysed { name: "not understood".into(), ends: true }
    }
}

/// Which address a translation changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum TranslationKind {
    /// Destination, for forwarded traffic.
    Destination,
    /// Destination, to the device itself.
    Redirect,
    /// Source, to a given address.
    Source,
    /// Source, to the leaving interface's address.
    Masquerade,
    /// A network onto another, one to one.
    NetworkMap,
}

/// An address translation.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Translation {
    /// Field that is translated.
    pub kind: TranslationKind,
    /// New addresses, where given.
    pub addresses: Option<IpRange>,
    /// New ports, where given.
    pub ports: Option<PortRange>,
    /// Where ports are shifted: the old port that becomes the first of the new ones.
    pub shifted_from: Option<u16>,
}

impl Translation {
    /// A translation of this kind, to nothing stated yet.
    #[must_use]
    pub fn of(kind: TranslationKind) -> Self {
        Self { kind, addresses: None, ports: None, shifted_from: None }
    }
}

/// A port forward: what arrives for one place is sent on to another.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct PortForward {
    /// Transport protocol, any where not given.
    pub protocol: Protocol,
    /// Original destination addresses; empty means any.
    pub arriving_at: Vec<IpRange>,
    /// Original destination ports; empty means any.
    pub ports: Vec<PortRange>,
    /// Entering interface, where given.
    pub entering: Option<String>,
    /// Source addresses it is limited to; empty means any.
    pub from: Vec<IpRange>,
    /// Where it goes.
    pub to: Translation,
    /// Stored or running.
    #[serde(with = "crate::written::stored")]
    #[cfg_attr(feature = "schema", schemars(with = "Option<ExportState>"))]
    pub state: ExportState,
    /// Its line.
    pub origin: Origin,
}
