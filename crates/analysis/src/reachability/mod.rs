//! Reachability: connections followed through every device on their path.

pub mod host;
mod outside;
mod place;
pub(crate) mod traffic_source;
mod uncertain;

pub use host::FILTER_NOT_EXPORTED;
pub use outside::internet_entry_points;
pub(crate) use place::sent_to;
use place::traffic_sources;
pub use place::{From, NoPlace, QueryError, To, TrafficSource, all_traffic_sources};
use uncertain::not_understood_near;

use crate::incomplete::{Incomplete, IncompleteRow, Why};
use crate::map::EstateMap;
use rayon::prelude::*;
use serde::Serialize;
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;
use trevlin_estate::prose::Prose;
use trevlin_estate::special;
use trevlin_model::{Family, IpRange, Limit, MatchKind, Origin, PortRange};
pub use trevlin_packets::way::Verdict;
use trevlin_packets::way::{Answer, Delivery, Egress, Host, Net, Place, Sent, Step, StepKind, TrafficClass};

/// A connection to be evaluated.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// Where it comes from.
    pub from: From,
    /// Entry point as device and interface, where it is given.
    pub entering: Option<(String, String)>,
    /// Destination as written: an address, a network, a device, a tunnel (its clients), or `outside`.
    pub to: String,
    /// Transport protocol, by its name.
    pub protocol: Transport,
    /// Destination port.
    pub port: u16,
    /// Source port; any that a host chooses by itself where not given.
    pub source_port: Option<u16>,
}

/// The transport protocols that can be asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transport {
    /// TCP.
    Tcp,
    /// UDP.
    Udp,
}

impl Transport {
    /// Its number (RFC 9293, RFC 768).
    #[must_use]
    pub fn number(self) -> u8 {
        match self {
            Self::Tcp => 6,
            Self::Udp => 17,
        }
    }
}

/// The answer, as outputs show it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ReachResult {
    /// Whether it comes through.
    #[serde(serialize_with = "as_word")]
    pub verdict: Verdict,
    /// What becomes of the answer.
    pub answer: Reply,
    /// Where it is delivered, where it is allowed.
    pub delivered_to: Option<DeliveredTo>,
    /// The deciding steps, in order.
    pub steps: Vec<ReachStep>,
    /// Missing or unanalysed parts, which may change the result.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub incomplete: Vec<IncompleteRow>,
}

/// What becomes of the answer to a connection's first packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Reply {
    /// It comes back, and the connection is established.
    Returns,
    /// The packet is delivered, and the answer or what follows it does not come through.
    Lost,
    /// There is none to follow: nothing is delivered, that is not decided, or the protocol needs no answer.
    None,
}

/// The reply of an answer for a protocol.
fn reply_of(answer: &Answer, protocol: Transport) -> Reply {
    let lost = |step: &Step| matches!(step.kind, StepKind::AnswerLost | StepKind::FollowUpLost);
    match answer.verdict {
        Verdict::Allowed if protocol == Transport::Tcp => Reply::Returns,
        Verdict::Blocked if answer.steps.iter().any(lost) => Reply::Lost,
        _ => Reply::None,
    }
}

/// Where a connection is delivered.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct DeliveredTo {
    /// Name of the device; none where no device of the estate has the address.
    pub device: Option<String>,
    /// Address, after translation.
    pub address: IpAddr,
    /// Port, after translation.
    pub port: u16,
}

/// One thing that decided.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ReachStep {
    /// The device where it happened.
    pub device: String,
    /// The event.
    pub text: String,
    /// The export with the deciding line; none for steps without a line.
    pub path: Option<Arc<str>>,
    /// Line, from 1.
    pub line: Option<u32>,
    /// The line as written, without secrets.
    pub excerpt: Option<Arc<str>>,
}

/// The word for a verdict.
#[must_use]
pub fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Allowed => "allowed",
        Verdict::Blocked => "blocked",
        Verdict::Depends => "depends",
    }
}

fn as_word<S: serde::Serializer>(verdict: &Verdict, out: S) -> Result<S::Ok, S::Error> {
    out.serialize_str(word(*verdict))
}

/// Source ports that a host chooses by itself (RFC 6335, 6, and what systems make of it).
pub const OWN_CHOICE: PortRange = PortRange { first: 1024, last: 65535 };

/// How many sets of packets one question is cut into at most.
const MOST_CELLS: usize = 4096;

/// The devices of an estate, made ready for packets.
#[derive(Debug)]
pub struct NetworkModel<'a> {
    estate: &'a EstateMap,
    net: Net<'a>,
    most_cells: usize,
    /// Lines of every port forward.
    forwards: BTreeSet<Origin>,
}

impl<'a> NetworkModel<'a> {
    /// Makes them ready.
    #[must_use]
    pub fn of(estate: &'a EstateMap) -> Self {
        let forwards = estate.devices.iter().flat_map(|device| &device.facts.forwards);
        let hosts: Vec<Host<'a>> = (0..estate.devices.len()).map(|at| estate.host(at)).collect();
        let most_cells = most_cells(&hosts);
        Self {
            estate,
            net: Net::new(hosts, &estate.shape().shape).costing(estate.limits.of(Limit::SetNodes)),
            most_cells,
            forwards: forwards.map(|forward| forward.origin).collect(),
        }
    }

    /// The estate.
    #[must_use]
    pub fn estate(&self) -> &'a EstateMap {
        self.estate
    }

    /// Whether a line is that of a port forward.
    pub fn is_forward(&self, origin: Origin) -> bool {
        self.forwards.contains(&origin)
    }

    /// How many sets the packets of one place, IP version and protocol are cut into at most.
    pub fn most_cells(&self) -> usize {
        self.most_cells
    }

    /// The devices, joined. Each is made ready once for all questions.
    #[must_use]
    pub fn net(&self) -> &Net<'a> {
        &self.net
    }
}

/// How many sets packets are cut into at most: fewer where rules are very many.
fn most_cells(hosts: &[Host<'_>]) -> usize {
    const MOST: usize = 20_000;
    const FEWEST: usize = 500;
    /// How many rules are asked in one go at most, roughly.
    const ASKED: usize = 30_000_000;
    let of = |host: &Host<'_>| -> usize {
        host.tables.iter().flat_map(|table| &table.chains).map(|chain| chain.rules.len()).sum()
    };
    let longest = hosts.iter().map(of).max().unwrap_or_default();
    (ASKED / longest.max(1)).clamp(FEWEST, MOST)
}

/// Answers a question.
///
/// # Errors
/// If the entry point of the connection is not known, or a device or interface does not exist.
pub fn reach(estate: &EstateMap, question: &Question) -> Result<ReachResult, QueryError> {
    let ground = NetworkModel::of(estate);
    answer(&ground, question)
}

/// Answers many questions, each device made ready once.
///
/// # Errors
/// Each as for [`reach`].
pub fn reach_all(estate: &EstateMap, questions: &[Question]) -> Vec<Result<ReachResult, QueryError>> {
    let ground = NetworkModel::of(estate);
    questions.par_iter().with_max_len(1).map(|question| answer(&ground, question)).collect()
}

fn answer(ground: &NetworkModel<'_>, question: &Question) -> Result<ReachResult, QueryError> {
    let estate = ground.estate;
    let to = To::parse(estate, &question.to)?;
    if let (From::Outside, To::Device(device, _), None) = (&question.from, &to, &question.entering) {
        return Ok(told(estate, reached_from_outside(ground, question, *device), question.protocol));
    }
    let source_ports =
        vec![question.source_port.map_or(OWN_CHOICE, |port| PortRange { first: port, last: port })];
    let mut answers: Vec<Answer> = Vec::new();
    let mut sources = Vec::new();
    let mut several = Vec::new();
    for (traffic_source, aims) in aimed_setouts(estate, question, &to)? {
        if let Some(interface) = traffic_source.interface.clone().filter(|_| traffic_source.one_of_several) {
            several.push(Place { device: traffic_source.device, interface });
        }
        sources.extend(traffic_source.sources.first().copied());
        for family in [Family::V4, Family::V6] {
            let of_family = |all: &[IpRange]| {
                all.iter().filter(|range| range.family() == family).copied().collect::<Vec<_>>()
            };
            let (from, destinations) = (of_family(&traffic_source.sources), of_family(&aims));
            if from.is_empty() || destinations.is_empty() {
                continue;
            }
            if traffic_source.next_to {
                answers.push(next_to(destinations[0].first(), question.port));
                continue;
            }
            let sent = Sent {
                family,
                protocol: question.protocol.number(),
                destinations,
                sources: from,
                ports: vec![PortRange { first: question.port, last: question.port }],
                source_ports: source_ports.clone(),
            };
            let mut cells = ground.net().explore(traffic_source.start(), &sent, MOST_CELLS).cells;
            if question.from == From::Outside {
                cells = of_no_name(cells, &sent.sources, |sent| &sent.sources);
            }
            if to == To::Outside {
                cells = of_no_name(cells, &sent.destinations, |sent| &sent.destinations);
            }
            answers.extend(cells.into_iter().map(|cell| cell.answer));
        }
    }
    if answers.is_empty() {
        let aim = match &to {
            To::Outside => None,
            To::Addresses(all) | To::Device(_, all) => all.first().map(IpRange::first),
        };
        let both = sources.first().map(IpRange::first).zip(aim);
        return Err(both.map_or(QueryError::Entering, |(source, aim)| QueryError::Versions(source, aim)));
    }
    // Of several places each may be the source: reached from one is not enough.
    let mut answer = one_of(answers, matches!(to, To::Device(..)) && several.is_empty());
    if answer.verdict == Verdict::Depends && !several.is_empty() {
        answer.steps.insert(0, synthetic(StepKind::SeveralPlaces(place::places(estate, &several))));
    }
    if answer.verdict != Verdict::Depends
        && question.entering.is_none()
        && let Some(step) = not_understood_near(estate, &question.from, &to)
    {
        answer.verdict = Verdict::Depends;
        answer.delivered = None;
        answer.steps.insert(0, step);
    }
    Ok(told(estate, answer, question.protocol))
}

/// A step that no device decides.
fn synthetic(kind: StepKind) -> Step {
    Step { device: usize::MAX, kind, origin: None }
}

/// Whether untrusted networks reach a port of a device, by any of its public addresses and ports.
fn reached_from_outside(ground: &NetworkModel<'_>, question: &Question, device: usize) -> Answer {
    let every = PortRange { first: 0, last: 65535 };
    let mut best: Option<Answer> = None;
    for (traffic_source, aims) in internet_entry_points(ground.estate) {
        for family in [Family::V4, Family::V6] {
            let of_family = |all: &[IpRange]| {
                all.iter().filter(|range| range.family() == family).copied().collect::<Vec<_>>()
            };
            let sent = Sent {
                family,
                protocol: question.protocol.number(),
                destinations: of_family(&aims),
                sources: of_family(&traffic_source.sources),
                ports: vec![every],
                source_ports: vec![OWN_CHOICE],
            };
            if sent.destinations.is_empty() || sent.sources.is_empty() {
                continue;
            }
            let cells = ground.net().explore(traffic_source.start(), &sent, MOST_CELLS).cells;
            let cells = of_no_name(cells, &sent.sources, |sent| &sent.sources);
            let there = cells.into_iter().filter(|cell| {
                let here = cell.delivery.as_ref().is_some_and(|one| (one.device, one.gone) == (device, None));
                here && cell.delivered.1.iter().any(|ports| ports.contains(question.port))
            });
            for cell in there {
                let better = best.as_ref().is_none_or(|known| cell.answer.verdict < known.verdict);
                if better && cell.answer.verdict != Verdict::Blocked {
                    let mut answer = cell.answer;
                    // For many ports the requested one.
                    if let Some(delivered) = &mut answer.delivered {
                        delivered.port = question.port;
                    }
                    best = Some(answer);
                }
            }
        }
    }
    best.unwrap_or_else(|| {
        let kind = StepKind::NothingDelivered;
        Answer {
            verdict: Verdict::Blocked,
            delivered: None,
            steps: vec![Step { device, kind, origin: None }],
        }
    })
}

/// Sources of the connections of a query, each with its destinations.
fn aimed_setouts(
    estate: &EstateMap,
    question: &Question,
    to: &To,
) -> Result<Vec<(TrafficSource, Vec<IpRange>)>, QueryError> {
    let aims = match to {
        To::Outside => special::public_ranges(),
        To::Addresses(all) | To::Device(_, all) => all.clone(),
    };
    let single = match aims.as_slice() {
        [one] if one.size() == 1 => Some(one.first()),
        _ => None,
    };
    if question.entering.is_some() || single.is_some() {
        let all = traffic_sources(estate, &question.from, question.entering.as_ref(), single)?;
        return Ok(all.into_iter().map(|traffic_source| (traffic_source, aims.clone())).collect());
    }
    let all = match question.from {
        From::Outside => internet_entry_points(estate),
        _ => all_traffic_sources(estate, &question.from)?,
    };
    let within = |reachable: &[IpRange]| -> Vec<IpRange> {
        aims.iter().flat_map(|aim| reachable.iter().filter_map(|one| one.intersection(aim))).collect()
    };
    Ok(all.into_iter().map(|(traffic_source, reachable)| (traffic_source, within(&reachable))).collect())
}

/// One result from those for all sources, source ports and addresses. Where they differ, and none was selected, the result is `depends`;
/// for a device one reachable address is sufficient.
fn one_of(mut answers: Vec<Answer>, any: bool) -> Answer {
    if any {
        let rank = |one: &Answer| match one.verdict {
            Verdict::Allowed => 0,
            Verdict::Depends => 1,
            Verdict::Blocked => 2,
        };
        answers.sort_by_key(rank);
        return answers.swap_remove(0);
    }
    let mut first = answers.swap_remove(0);
    let other = answers.iter().find(|one| one.verdict != first.verdict);
    let elsewhere = answers.iter().any(|one| one.delivered != first.delivered);
    if let Some(other) = other {
        first.verdict = Verdict::Depends;
        if other.steps.len() > first.steps.len() {
            first.steps.clone_from(&other.steps);
        }
    }
    if first.verdict == Verdict::Depends || elsewhere {
        first.delivered = None;
    }
    first
}

/// Two hosts on one network need no device between them.
fn next_to(address: IpAddr, port: u16) -> Answer {
    let kind = StepKind::SameNetwork(address);
    Answer {
        verdict: Verdict::Allowed,
        delivered: Some(Delivery {
            device: usize::MAX,
            address,
            port,
            leaving: None,
            gone: Some(Egress::Host),
            entered: None,
        }),
        steps: vec![Step { device: usize::MAX, kind, origin: None }],
    }
}

/// For traffic from or to untrusted networks, only the part of hosts that no rule names: at least half of all.
fn of_no_name(
    cells: Vec<TrafficClass>,
    all: &[IpRange],
    side: impl Fn(&Sent) -> &Vec<IpRange>,
) -> Vec<TrafficClass> {
    let size = |cell: &TrafficClass| trevlin_model::total_addresses(side(&cell.sent));
    let half = trevlin_model::total_addresses(all) / 2;
    let largest = cells.iter().map(size).max().unwrap_or_default();
    cells.into_iter().filter(|cell| size(cell) >= half.min(largest)).collect()
}

/// An answer of the packet engine with names and places.
#[must_use]
pub fn told(estate: &EstateMap, answer: Answer, protocol: Transport) -> ReachResult {
    let reply = reply_of(&answer, protocol);
    let delivered_to = answer.delivered.map(|one| DeliveredTo {
        device: match one.gone {
            None => estate.devices.get(one.device).map(|device| device.name.clone()),
            Some(_) => match estate.holders(one.address) {
                [only] => Some(estate.devices[*only].name.clone()),
                _ => None,
            },
        },
        address: one.address,
        port: one.port,
    });
    let lacks = answer.steps.iter().filter_map(|step| match &step.kind {
        StepKind::NotWhole(what) => {
            Some(Incomplete { device: step.device, why: Why::Packets(what.clone()), origin: step.origin? })
        }
        _ => None,
    });
    let incomplete = crate::incomplete::rows(estate, &lacks.collect::<Vec<_>>());
    let steps = answer.steps.into_iter().map(|step| step_of(estate, step));
    ReachResult { verdict: answer.verdict, answer: reply, delivered_to, steps: steps.collect(), incomplete }
}

/// A step with its place.
pub fn step_of(estate: &EstateMap, step: Step) -> ReachStep {
    let place = step.origin.map(|origin| trevlin_estate::evidence::place(estate, origin));
    let (path, line, excerpt) = match place {
        Some(place) => (Some(place.path), Some(place.line), Some(place.excerpt)),
        None => (None, None, None),
    };
    let device = estate.devices.get(step.device).map_or("-", |device| &device.name).to_owned();
    let text = open_conditions(estate, &step).unwrap_or_else(|| step.kind.to_string());
    ReachStep { device, text: Prose::from(text).into_string(), path, line, excerpt }
}

/// For a rule whose conditions are not fully analysed: those conditions, as written.
fn open_conditions(estate: &EstateMap, step: &Step) -> Option<String> {
    let StepKind::RuleUnknown(name) = &step.kind else { return None };
    let filters = &estate.devices.get(step.device)?.facts.filters;
    let chains = filters.iter().flat_map(|filter| &filter.chains).filter(|chain| chain.name == *name);
    let rule = chains.flat_map(|chain| &chain.rules).find(|rule| Some(rule.origin) == step.origin)?;
    let conditions = rule.matches.iter().filter_map(|one| match &one.kind {
        MatchKind::NotAnalysed(what) => Some(format!("`{}`", what.text)),
        MatchKind::ReversePath { written, .. } => Some(format!("`{}`", written.text)),
        _ => None,
    });
    let conditions: Vec<String> = conditions.collect();
    (!conditions.is_empty())
        .then(|| format!("depends on {} in a rule of chain {name}", conditions.join(" and ")))
}
