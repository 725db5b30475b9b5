//! Packet filters and address translation, in the shape the exports have them.

use crate::{ExportState, Family, IpRange, Origin};

/// Where in a packet's way a base chain is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Hook {
    /// On arrival, before routing.
    Prerouting,
    /// For the device itself.
    Input,
    /// For somebody else.
    Forward,
    /// From the device itself.
    Output,
    /// On leaving, after routing.
    Postrouting,
}

/// One table of a packet filter: for iptables one `*table` section of a dump.
#[derive(Debug, Clone)]
pub struct Filter {
    /// IP version it judges.
    pub family: Family,
    /// Table name, such as `filter` or `nat`.
    pub table: String,
    /// Stored or running.
    pub state: ExportState,
    /// Its chains in order of appearance.
    pub chains: Vec<Chain>,
    /// Whether the export holds it to its end (a dump that breaks off is not complete).
    pub complete: bool,
    /// The line that opens it.
    pub origin: Origin,
}

impl Filter {
    /// The chain with this name.
    #[must_use]
    pub fn chain(&self, name: &str) -> Option<&Chain> {
        self.chains.iter().find(|chain| chain.name == name)
    }

    /// The base chain on this hook.
    #[must_use]
    pub fn base_chain(&self, hook: Hook) -> Option<&Chain> {
        self.chains.iter().find(|chain| chain.hook == Some(hook))
    }
}

/// A chain of rules.
#[derive(Debug, Clone)]
pub struct Chain {
    /// Name.
    pub name: String,
    /// Where packets enter it by themselves; `None` for a chain that only jumps reach.
    pub hook: Option<Hook>,
    /// What happens at the end of a base chain.
    pub policy: Option<Target>,
    /// Rules in order.
    pub rules: Vec<Rule>,
    /// The line that declares it, with its policy.
    pub origin: Origin,
}

/// A rule: all matches must hold.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Conditions.
    pub matches: Vec<Match>,
    /// What happens then.
    pub target: Target,
    /// Comment kept in the rule.
    pub comment: Option<String>,
    /// Packets counted so far, where the dump has counters.
    pub packets: Option<u64>,
    /// Its line.
    pub origin: Origin,
}

/// One condition, possibly negated.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Match {
    /// Whether the condition must not hold.
    pub negated: bool,
    /// The condition.
    pub kind: MatchKind,
}

/// What a condition looks at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MatchKind {
    /// Entering interface; a trailing `+` stands for any ending.
    Entering(String),
    /// Leaving interface; a trailing `+` stands for any ending.
    Leaving(String),
    /// Source address in one of these.
    Source(Vec<IpRange>),
    /// Destination address in one of these.
    Destination(Vec<IpRange>),
    /// Transport protocol.
    Protocol(Protocol),
    /// Source port in one of these.
    SourcePorts(Vec<PortRange>),
    /// Destination port in one of these.
    DestinationPorts(Vec<PortRange>),
    /// Source or destination port in one of these.
    EitherPorts(Vec<PortRange>),
    /// ICMP type, as written.
    IcmpType(String),
    /// TCP flags: of those in `looked_at`, exactly those in `set` are set (RFC 9293, 3.1; FIN is bit 0).
    TcpFlags {
        /// Flags that are looked at.
        looked_at: u8,
        /// Flags that must be set.
        set: u8,
    },
    /// Connection state.
    States(ConnectionStates),
    /// Something Trevlin does not model yet, as written: the rule may or may not match.
    NotModelled(String),
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
    /// Whether the port lies in it.
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

/// What a rule does.
#[derive(Debug, Clone, PartialEq, Eq)]
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
    /// Something Trevlin does not model yet, as written; `ends` tells whether the packet's way through the table
    /// may end here.
    NotModelled {
        /// Name of the target.
        name: String,
        /// Whether the walk through the table may end here.
        ends: bool,
    },
}

/// Which address a translation changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TranslationKind {
    /// Destination, to somewhere else.
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
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Translation {
    /// What is changed.
    pub kind: TranslationKind,
    /// New addresses, where given.
    pub addresses: Option<IpRange>,
    /// New ports, where given.
    pub ports: Option<PortRange>,
}

/// A port forward: what arrives for one place is sent on to another.
#[derive(Debug, Clone)]
pub struct PortForward {
    /// Transport protocol, any where not given.
    pub protocol: Protocol,
    /// Original destination addresses; empty means any.
    pub arriving_at: Vec<IpRange>,
    /// Original destination ports; empty means any.
    pub ports: Vec<PortRange>,
    /// Entering interface, where given.
    pub entering: Option<String>,
    /// Source addresses it is limited to; empty means anybody.
    pub from: Vec<IpRange>,
    /// Where it goes.
    pub to: Translation,
    /// Stored or running.
    pub state: ExportState,
    /// Its line.
    pub origin: Origin,
}
