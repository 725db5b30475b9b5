//! A packet's way through devices: translation of the destination, routing, filters, translation of the source at each, on to the
//! next; and for TCP the way of the answer back and of the packet that answers it, since a connection needs all three.
//!
//! Order and meaning follow the kernel: nft(8) "ADDRESS FAMILIES" and "CHAINS" (hooks and priorities), iptables(8) "TABLES",
//! iptables-extensions(8) (DNAT, SNAT, MASQUERADE, REDIRECT, NETMAP). A condition that is not analysed is followed both ways: where they
//! end differently, the result is `depends`, with the rule.

mod chains;
mod explore;
mod flow;
mod journey;
mod packet;
mod route;
mod shape;
mod step;
mod translate;

pub use explore::{Cells, Sent, TrafficClass};
use flow::{ACK, SYN, SYN_ACK, TCP};
pub use flow::{Flow, has_ports};
pub use shape::{Egress, IpsecPolicy, Next, Place, Shape, Wire};
pub use step::{NoRoute, Refusal, RouteUnknown, Step, StepKind};

use crate::cube::{Ranges, Value};
use crate::program::Ending;
use crate::space::{Space, address};
use crate::trace::Trace;
use ipnet::IpNet;
use packet::Packet;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::{Mutex, OnceLock};
use trevlin_model::{Family, Filter, Interface, IpRange, Limit, Limits, Origin, Route, Translation};

/// How deep jumps are followed.
const DEPTH: usize = 64;
/// Maximum number of simultaneous paths, where conditions are not analysed or translation may choose.
const MOST_WAYS: usize = 64;
/// How many addresses a translation may choose from for each to be followed.
const MOST_CHOICES: u128 = 16;
/// Connection tracking assigns a packet's state from here on (nft(8), priorities).
const TRACKED: i32 = -200;
/// Destinations are translated at this priority (nft(8), `dstnat`).
const TRANSLATED: i32 = -100;

/// Represents an interface that no export and no rule names; contains a blank, unlike any interface name.
const NO_NAME: &str = "another interface";

/// Whether it comes through.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    /// It is delivered, and for TCP an answer comes back.
    Allowed,
    /// It is not.
    Blocked,
    /// A condition that is not analysed, or a part that was not exported, decides.
    Depends,
}

/// Where a packet is delivered.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Delivery {
    /// The device that it is delivered to, or the last one it passed.
    pub device: usize,
    /// Address, after translation.
    pub address: IpAddr,
    /// Port, after translation.
    pub port: u16,
    /// Interface by which it leaves the last device; none where it is for that device itself.
    pub leaving: Option<String>,
    /// The next hop; none for traffic to the device itself.
    pub gone: Option<Egress>,
    /// Interface by which it came to the last device; none where that device sent it.
    pub entered: Option<String>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// Whether it comes through.
    pub verdict: Verdict,
    /// Where it is delivered, where that is certain.
    pub delivered: Option<Delivery>,
    /// The deciding steps.
    pub steps: Vec<Step>,
}

/// Whether packets are checked for coming from where their source is reached (sysctl `rp_filter`, RFC 3704).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SourceCheck {
    /// They are not.
    #[default]
    Off,
    /// By the very interface by which the source is reached.
    Strict,
    /// By any; the source has to be reached somehow.
    Loose,
}

/// The parts of a device that decide about packets.
#[derive(Debug, Clone, Default)]
pub struct Host<'a> {
    /// Tables to ask.
    pub tables: Vec<&'a Filter>,
    /// Interfaces; none where they were not exported.
    pub interfaces: &'a [Interface],
    /// Routes; none where they were not exported, in which case the networks of the interfaces are used.
    pub routes: &'a [Route],
    /// Routes into tunnels that no list of routes states, because none was exported: their daemons add them.
    pub implied_routes: Vec<Route>,
    /// Whether packets are sent on for others, by IP version (sysctl `ip_forward`, `forwarding`), with the line.
    pub forwards: [Option<(bool, Option<Origin>)>; 2],
    /// Source check by interface name, with the line.
    pub source_checks: Vec<(String, SourceCheck, Origin)>,
    /// Addresses of a tunnel's clients, with its interface: they are routed there while connected.
    pub clients: Vec<(IpRange, String, Origin)>,
    /// Missing parts, because of which the present ones are not conclusive.
    pub lacks: Vec<Lack>,
    /// Whether every destination counts as one of its own: for the traffic that its filter permits, where its addresses were not exported.
    pub every_address: bool,
}

/// Something that decides about packets and that no export holds, or none that is followed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lack {
    /// Name, as a phrase.
    pub what: String,
    /// Whether all it can do to a packet is to stop it.
    pub only_blocks: bool,
    /// The IP version whose packets it decides about; both where none is given.
    pub family: Option<Family>,
    /// The line that refers to it.
    pub origin: Origin,
}

/// Devices made ready to be asked, each when a packet first comes to it.
#[derive(Debug)]
pub struct Net<'a> {
    hosts: Vec<Host<'a>>,
    ready: Vec<OnceLock<[Ready; 2]>>,
    shape: &'a Shape,
    nodes: usize,
}

/// Properties of a device computed once for all packets of an IP version.
#[derive(Debug)]
struct Ready {
    space: Space,
    by_prefix: ByPrefix,
}

/// Destinations that go one way, by what sends them there.
type ByPrefix = Mutex<BTreeMap<Sends, Ranges>>;

/// A set of destinations with the same next hop.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
enum Sends {
    /// A prefix, where none that is longer fits.
    Prefix(Option<IpNet>),
    /// The clients of a tunnel, by its interface and the deciding line, where no other entry precedes.
    Callers(String, Origin),
}

/// One device made ready to be asked, alone: what leaves it is delivered, and what answers comes back the same way.
#[derive(Debug)]
pub struct Walker<'a> {
    net: Net<'a>,
}

/// From where a packet sets out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Start<'b> {
    /// It enters a device by an interface, out of IPsec or not.
    Entering {
        /// The device.
        device: usize,
        /// Its interface.
        interface: &'b str,
        /// Whether it comes out of IPsec.
        ipsec: bool,
    },
    /// A device sends it.
    Device(usize),
}

/// How one of several ways ended.
#[derive(Debug, Clone)]
struct Ended {
    verdict: Verdict,
    delivered: Option<Delivery>,
    packet: Packet,
}

/// How a chain ends a packet's way.
#[derive(Debug, Clone)]
enum End<'a> {
    Of(Ending),
    Translated(&'a Translation, Origin),
    Policy,
}

impl<'a> Net<'a> {
    /// Devices, and how they are joined.
    #[must_use]
    pub fn new(hosts: Vec<Host<'a>>, shape: &'a Shape) -> Self {
        let nodes = Limits::default().of(Limit::SetNodes);
        let ready = hosts.iter().map(|_| OnceLock::new()).collect();
        Self { hosts, ready, shape, nodes }
    }

    /// The same, with a limit on the nodes of a set diagram for one query.
    #[must_use]
    pub fn costing(mut self, nodes: usize) -> Self {
        self.nodes = nodes;
        self
    }

    fn ready(&self, device: usize, family: Family) -> &Ready {
        let host = &self.hosts[device];
        let space = |family| {
            let tables: Vec<&Filter> =
                host.tables.iter().copied().filter(|table| table.families.has(family)).collect();
            Ready { space: Space::new(family, &tables, host.interfaces), by_prefix: Mutex::default() }
        };
        let both = self.ready[device].get_or_init(|| [space(Family::V4), space(Family::V6)]);
        &both[usize::from(family == Family::V6)]
    }

    fn way<'b>(&'b self, device: usize, family: Family, trace: Option<&'b Trace>) -> Way<'b> {
        let ready = self.ready(device, family);
        Way { host: &self.hosts[device], space: &ready.space, by_prefix: &ready.by_prefix, family, trace }
    }

    /// Result of a connection that starts here.
    #[must_use]
    pub fn ask(&self, start: Start<'_>, flow: &Flow<'_>) -> Answer {
        let family = Family::of(flow.destination);
        if Family::of(flow.source) != family {
            let device = match start {
                Start::Entering { device, .. } | Start::Device(device) => device,
            };
            let steps = vec![Step { device, kind: StepKind::VersionsDiffer, origin: None }];
            return Answer { verdict: Verdict::Blocked, delivered: None, steps };
        }
        answer(self.follow(start, Packet::first(flow, &|_| false), None))
    }
}

impl<'a> Walker<'a> {
    /// Makes a device ready.
    #[must_use]
    pub fn new(host: Host<'a>) -> Self {
        Self { net: Net::new(vec![host], Shape::alone()) }
    }

    /// Interfaces by which packets may enter: those that an export or a rule names, and at last one that nothing does.
    #[must_use]
    pub fn entrances(&self, family: Family) -> Vec<String> {
        let space = &self.net.ready(0, family).space;
        space.names().map(str::to_owned).chain([NO_NAME.to_owned()]).collect()
    }

    /// Results for every packet of a set that enters by an interface, decrypted by IPsec or not. At most `most` cells are created.
    #[must_use]
    pub fn explore(&self, entering: &str, ipsec: bool, sent: &Sent, most: usize) -> Cells {
        self.net.explore(Start::Entering { device: 0, interface: entering, ipsec }, sent, most)
    }

    /// Result of a connection.
    #[must_use]
    pub fn ask(&self, flow: &Flow<'_>) -> Answer {
        self.net.ask(Start::Entering { device: 0, interface: flow.entering, ipsec: false }, flow)
    }
}

/// One answer from all ways that were followed.
fn answer(ends: Vec<Ended>) -> Answer {
    let Some(first) = ends.first() else {
        return Answer { verdict: Verdict::Depends, delivered: None, steps: Vec::new() };
    };
    let same = ends.iter().all(|one| {
        one.verdict == first.verdict && (one.verdict == Verdict::Blocked || one.delivered == first.delivered)
    });
    if same && (first.verdict != Verdict::Depends || first.packet.doubts.is_empty()) {
        // What is missing somewhere explains less than a path that does not depend on it.
        let certain = |one: &&Ended| (one.packet.doubts.is_empty(), one.packet.trail.len());
        let shown = match first.verdict {
            Verdict::Blocked => ends.iter().rev().max_by_key(certain).unwrap_or(first),
            _ => first,
        };
        return Answer {
            verdict: first.verdict,
            delivered: first.delivered.clone().filter(|_| first.verdict == Verdict::Allowed),
            steps: shown.packet.trail.clone(),
        };
    }
    // The longest path, and its dependencies. One that ends for want of an export only blocks nothing for certain.
    let doubts = ends.iter().flat_map(|one| &*one.packet.doubts);
    let mut steps: Vec<Step> = Vec::new();
    for doubt in doubts {
        if !steps.contains(doubt) {
            steps.push(doubt.clone());
        }
    }
    let length = |one: &&Ended| (one.verdict == Verdict::Allowed, one.packet.trail.len());
    let longest = ends.iter().max_by_key(length).unwrap_or(first);
    steps.extend(longest.packet.trail.iter().cloned());
    Answer { verdict: Verdict::Depends, delivered: None, steps }
}

impl Packet {
    fn ended(self, verdict: Verdict, delivered: Option<Delivery>) -> Ended {
        Ended { verdict, delivered, packet: self }
    }
}

/// One device, for packets of one IP version.
struct Way<'a> {
    host: &'a Host<'a>,
    space: &'a Space,
    by_prefix: &'a ByPrefix,
    family: Family,
    trace: Option<&'a Trace>,
}

impl Way<'_> {
    fn address(&self, number: Value) -> IpAddr {
        address(number, self.family)
    }

    /// Only packets whose value of the same derivation is in these ranges take the same path.
    fn narrow(&self, of: crate::trace::Of, to: &crate::cube::Ranges) {
        if let Some(trace) = self.trace {
            trace.narrow(of, to);
        }
    }
}
