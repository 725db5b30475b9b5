//! One packet's way through one device: translation of the destination, routing, filters, translation of the source; and for TCP
//! the way of the answer back, since a connection needs both.
//!
//! Order and meaning follow the kernel: nft(8) "ADDRESS FAMILIES" and "CHAINS" (hooks and priorities), iptables(8) "TABLES",
//! iptables-extensions(8) (DNAT, SNAT, MASQUERADE, REDIRECT, NETMAP). What is not modelled is followed both ways: where they
//! end differently, the answer is that it depends, with the rule.

mod chains;
mod route;
mod translate;

use crate::cube::{FIELDS, Field, NOBODY, Point, Value, state};
use crate::program::Ending;
use crate::space::{NO_INTERFACE, Space, address, number};
use route::Routed;
use std::net::IpAddr;
use trevlin_model::{Family, Filter, Hook, Interface, Origin, Route, Translation};

/// How deep jumps are followed.
const DEPTH: usize = 64;
/// How many ways are followed at a time, where rules are not modelled or translation may choose.
const MOST_WAYS: usize = 64;
/// How many addresses a translation may choose from for each to be followed.
const MOST_CHOICES: u128 = 16;
/// Connection tracking knows a packet from here on (nft(8), priorities).
const TRACKED: i32 = -200;
/// Destinations are translated at this priority (nft(8), `dstnat`).
const TRANSLATED: i32 = -100;
const NOT_BACK: &str = "it is delivered, but the answer does not come back";
const NOT_ON: &str = "it is delivered and answered, but what follows does not come through";
/// SYN alone, and SYN with ACK (RFC 9293, 3.1).
const SYN: Value = 0b10;
const SYN_ACK: Value = 0b1_0010;
const ACK: Value = 0b1_0000;
const TCP: u8 = 6;
const UDP: u8 = 17;

/// A connection that somebody tries to open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Flow<'a> {
    /// Interface by which its first packet enters.
    pub entering: &'a str,
    /// Source address.
    pub source: IpAddr,
    /// Destination address, of the same IP version.
    pub destination: IpAddr,
    /// Transport protocol.
    pub protocol: u8,
    /// Source port.
    pub source_port: u16,
    /// Destination port.
    pub port: u16,
}

/// Whether it comes through.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    /// It is delivered, and for TCP an answer comes back.
    Allowed,
    /// It is not.
    Blocked,
    /// Something that is not modelled, or not exported, decides.
    Depends,
}

/// Where a packet is delivered.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Delivery {
    /// Address, after translation.
    pub address: IpAddr,
    /// Port, after translation.
    pub port: u16,
    /// Interface by which it leaves; none where it is for the device itself.
    pub leaving: Option<String>,
}

/// One thing that decided, in the order in which the packet met them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// What happened, as a phrase.
    pub text: String,
    /// The line that says so, where one does.
    pub origin: Option<Origin>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// Whether it comes through.
    pub verdict: Verdict,
    /// Where it is delivered, where that is certain.
    pub delivered: Option<Delivery>,
    /// What decided.
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

/// What of a device decides about packets.
#[derive(Debug, Clone, Default)]
pub struct Host<'a> {
    /// Tables to ask.
    pub tables: Vec<&'a Filter>,
    /// Interfaces; none where they were not exported.
    pub interfaces: &'a [Interface],
    /// Routes; none where they were not exported, and then the networks of the interfaces stand in.
    pub routes: &'a [Route],
    /// Whether packets are sent on for others, by IP version (sysctl `ip_forward`, `forwarding`), with the line.
    pub forwards: [Option<(bool, Option<Origin>)>; 2],
    /// Source check by interface name, with the line.
    pub source_checks: Vec<(String, SourceCheck, Origin)>,
}

/// A device made ready to be asked.
#[derive(Debug)]
pub struct Walker<'a> {
    host: &'a Host<'a>,
    spaces: [Space; 2],
}

/// A packet on its way.
#[derive(Debug, Clone)]
struct Packet {
    point: Point,
    /// As it was sent.
    sent: Point,
    /// Destination and its port before translation, for what follows a first packet.
    wire: Option<(Value, Value)>,
    trail: Vec<Step>,
    /// Rules that may or may not have held, and other things that are not known.
    doubts: Vec<Step>,
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

impl<'a> Walker<'a> {
    /// Makes a device ready.
    #[must_use]
    pub fn new(host: &'a Host<'a>) -> Self {
        let space = |family| {
            let tables: Vec<&Filter> =
                host.tables.iter().copied().filter(|table| table.families.has(family)).collect();
            Space::new(family, &tables, host.interfaces)
        };
        Self { host, spaces: [space(Family::V4), space(Family::V6)] }
    }

    fn space(&self, family: Family) -> &Space {
        &self.spaces[usize::from(family == Family::V6)]
    }

    /// What becomes of a connection.
    #[must_use]
    pub fn ask(&self, flow: &Flow<'_>) -> Answer {
        let family = Family::of(flow.destination);
        if Family::of(flow.source) != family {
            let text = "source and destination are of different IP versions".to_owned();
            return Answer {
                verdict: Verdict::Blocked,
                delivered: None,
                steps: vec![Step { text, origin: None }],
            };
        }
        let way = Way { host: self.host, space: self.space(family), family };
        answer(way.forward(self.first_packet(flow, family)))
    }

    fn first_packet(&self, flow: &Flow<'_>, family: Family) -> Packet {
        let mut point: Point = [0; FIELDS];
        let mut set = |field: Field, value: Value| point[field as usize] = value;
        set(Field::Entering, self.space(family).interface(flow.entering));
        set(Field::Source, number(flow.source));
        set(Field::Destination, number(flow.destination));
        set(Field::OriginalDestination, number(flow.destination));
        set(Field::Protocol, flow.protocol.into());
        let ports = matches!(flow.protocol, TCP | UDP | 33 | 132 | 136);
        if ports {
            set(Field::SourcePort, flow.source_port.into());
            set(Field::DestinationPort, flow.port.into());
            set(Field::OriginalDestinationPort, flow.port.into());
        }
        if flow.protocol == TCP {
            set(Field::TcpFlags, SYN);
        }
        set(Field::State, state::NEW);
        set(Field::User, NOBODY);
        set(Field::Group, NOBODY);
        Packet { point, sent: point, wire: None, trail: Vec::new(), doubts: Vec::new() }
    }

    /// Source ports that rules tell apart: one of each kind, among those that hosts choose by themselves.
    #[must_use]
    pub fn telling_source_ports(&self) -> Vec<u16> {
        const OWN_CHOICE: std::ops::RangeInclusive<u16> = 1024..=65535;
        let mut ports = vec![49_152];
        let rules = self.host.tables.iter().flat_map(|table| &table.chains).flat_map(|chain| &chain.rules);
        for rule in rules {
            source_ports(&rule.matches, &mut ports);
        }
        ports.retain(|port| OWN_CHOICE.contains(port));
        ports[1..].sort_unstable();
        ports.dedup();
        ports.truncate(MOST_WAYS);
        ports
    }
}

/// Ports at which conditions about source ports begin or stop to hold.
fn source_ports(matches: &[trevlin_model::Match], to: &mut Vec<u16>) {
    use trevlin_model::MatchKind::{AnyOf, EitherPorts, SourcePorts};
    for one in matches {
        match &one.kind {
            SourcePorts(all) | EitherPorts(all) => {
                for range in all {
                    to.extend([range.first, range.last]);
                    to.extend(range.first.checked_sub(1).into_iter().chain(range.last.checked_add(1)));
                }
            }
            AnyOf(all) => all.iter().for_each(|one| source_ports(one, to)),
            _ => {}
        }
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
    if same {
        return Answer {
            verdict: first.verdict,
            delivered: first.delivered.clone().filter(|_| first.verdict == Verdict::Allowed),
            steps: first.packet.trail.clone(),
        };
    }
    // The way that was followed furthest, and what it hangs on.
    let doubts = ends.iter().flat_map(|one| &one.packet.doubts);
    let mut steps: Vec<Step> = Vec::new();
    for doubt in doubts {
        if !steps.contains(doubt) {
            steps.push(doubt.clone());
        }
    }
    let longest = ends.iter().max_by_key(|one| one.packet.trail.len()).unwrap_or(first);
    steps.extend(longest.packet.trail.iter().cloned());
    Answer { verdict: Verdict::Depends, delivered: None, steps }
}

impl Packet {
    fn at(&self, field: Field) -> Value {
        self.point[field as usize]
    }

    fn set(&mut self, field: Field, value: Value) {
        self.point[field as usize] = value;
    }

    /// The answer to this packet, which was delivered.
    fn answer(mut self) -> Self {
        // It goes to where the first came from as it left; and that is turned back where translation has its place.
        self.wire = Some((self.at(Field::Source), self.at(Field::SourcePort)));
        let untracked = self.at(Field::State) == state::UNTRACKED;
        let (destination, port) = (self.at(Field::Destination), self.at(Field::DestinationPort));
        self.set(Field::Destination, self.sent[Field::Source as usize]);
        self.set(Field::DestinationPort, self.sent[Field::SourcePort as usize]);
        self.set(Field::Source, destination);
        self.set(Field::SourcePort, port);
        self.set(Field::TcpFlags, SYN_ACK);
        if untracked {
            // Of the first packet nothing is known, so its answer begins nothing that could be: unless it is exempt too.
            self.set(Field::State, state::INVALID);
        } else {
            self.set(Field::State, state::ESTABLISHED);
            self.set(Field::Reply, 1);
        }
        self
    }

    /// The packet that follows the answer.
    fn third(mut self) -> Self {
        let sent = |field: Field| self.sent[field as usize];
        self.wire = Some((sent(Field::Destination), sent(Field::DestinationPort)));
        // As it came, before its source was translated on leaving.
        let (source, port) = (sent(Field::Source), sent(Field::SourcePort));
        self.set(Field::Source, source);
        self.set(Field::SourcePort, port);
        self.set(Field::TcpFlags, ACK);
        // A packet in the middle of a connection that is not known begins one (sysctl nf_conntrack_tcp_loose).
        let known = self.at(Field::State) != state::UNTRACKED;
        self.set(Field::State, if known { state::ESTABLISHED } else { state::NEW });
        self
    }

    fn note(&mut self, text: impl Into<String>, origin: Option<Origin>) {
        self.trail.push(Step { text: text.into(), origin });
    }

    fn doubt(&mut self, text: impl Into<String>, origin: Option<Origin>) {
        let step = Step { text: text.into(), origin };
        if !self.doubts.contains(&step) {
            self.doubts.push(step);
        }
    }

    fn ended(self, verdict: Verdict, delivered: Option<Delivery>) -> Ended {
        Ended { verdict, delivered, packet: self }
    }
}

struct Way<'a> {
    host: &'a Host<'a>,
    space: &'a Space,
    family: Family,
}

impl<'a> Way<'a> {
    fn address(&self, number: Value) -> IpAddr {
        address(number, self.family)
    }

    /// The first packet from its arrival to where it ends, and the answer to it.
    fn forward(&self, packet: Packet) -> Vec<Ended> {
        let mut ends = Vec::new();
        for arrived in self.hook(Hook::Prerouting, packet, &mut ends) {
            self.route(arrived, &mut ends);
        }
        ends
    }

    fn route(&self, mut packet: Packet, ends: &mut Vec<Ended>) {
        let destination = self.address(packet.at(Field::Destination));
        if let Some(why) = self.refused_source(&mut packet) {
            packet.note(why.0, why.1);
            ends.push(packet.ended(Verdict::Blocked, None));
            return;
        }
        match self.routed(destination) {
            Routed::Local => {
                packet.note(format!("{destination} is the device itself"), None);
                let delivered = self.delivery(&packet, None);
                for inside in self.hook(Hook::Input, packet, ends) {
                    self.reply(inside, delivered.clone(), ends);
                }
            }
            Routed::Nowhere(why, origin) => {
                packet.note(format!("{destination}: {why}"), origin);
                ends.push(packet.ended(Verdict::Blocked, None));
            }
            Routed::Unknown(why) => {
                packet.doubt(format!("{destination}: {why}"), None);
                ends.push(packet.ended(Verdict::Depends, None));
            }
            Routed::Out(interface, origin) => {
                packet.note(format!("{destination} is reached by {interface}"), origin);
                if let Some((false, origin)) = self.host.forwards[usize::from(self.family == Family::V6)] {
                    packet.note(format!("nothing is sent on for others over {}", self.family), origin);
                    ends.push(packet.ended(Verdict::Blocked, None));
                    return;
                }
                packet.set(Field::Leaving, self.space.interface(&interface));
                let delivered = self.delivery(&packet, Some(interface));
                for through in self.hook(Hook::Forward, packet, ends) {
                    for out in self.hook(Hook::Postrouting, through, ends) {
                        self.reply(out, delivered.clone(), ends);
                    }
                }
            }
        }
    }

    fn delivery(&self, packet: &Packet, leaving: Option<String>) -> Option<Delivery> {
        let port = u16::try_from(packet.at(Field::DestinationPort)).unwrap_or_default();
        Some(Delivery { address: self.address(packet.at(Field::Destination)), port, leaving })
    }

    /// For TCP the answer to a first packet that was delivered, and the packet that answers it: without both no connection
    /// comes about.
    fn reply(&self, packet: Packet, delivered: Option<Delivery>, ends: &mut Vec<Ended>) {
        if packet.at(Field::Protocol) != TCP.into() {
            ends.push(packet.ended(Verdict::Allowed, delivered));
            return;
        }
        let told = packet.trail.len();
        let mut lost: Vec<(&str, Ended)> = Vec::new();
        let back = self.around(packet.clone().answer(), &packet, true, &mut lost, NOT_BACK);
        for one in back {
            let mut third = packet.clone();
            third.doubts = one.doubts;
            for mut done in self.around(third.third(), &packet, false, &mut lost, NOT_ON) {
                // What lets later packets pass is seldom worth a line; what stops them is.
                done.trail.truncate(told);
                ends.push(done.ended(Verdict::Allowed, delivered.clone()));
            }
        }
        for (why, mut one) in lost {
            one.packet.trail.insert(told, Step { text: why.into(), origin: None });
            ends.push(one);
        }
    }

    /// A later packet of a connection whose first was delivered, from its arrival until it leaves.
    fn around(
        &self,
        mut later: Packet,
        first: &Packet,
        answers: bool,
        lost: &mut Vec<(&'static str, Ended)>,
        why: &'static str,
    ) -> Vec<Packet> {
        let (entering, leaving) = (first.at(Field::Entering), first.at(Field::Leaving));
        let mut ends = Vec::new();
        let mut out = Vec::new();
        let hooks: &[Hook] = match (leaving != NO_INTERFACE, answers) {
            (true, _) => &[Hook::Prerouting, Hook::Forward, Hook::Postrouting],
            (false, true) => &[Hook::Output, Hook::Postrouting],
            (false, false) => &[Hook::Prerouting, Hook::Input],
        };
        let (from, to) = if answers { (leaving, entering) } else { (entering, leaving) };
        later.set(Field::Entering, from);
        let mut packets = vec![later];
        for hook in hooks {
            for packet in &mut packets {
                packet.set(Field::Leaving, if *hook == Hook::Prerouting { NO_INTERFACE } else { to });
            }
            packets = packets.into_iter().flat_map(|packet| self.hook(*hook, packet, &mut ends)).collect();
        }
        out.append(&mut packets);
        lost.extend(ends.into_iter().map(|end| (why, end)));
        out
    }
}
