//! Whether somebody reaches something: a connection followed through the device it enters.

use crate::Estate;
use crate::special::is_public;
use serde::Serialize;
use std::net::IpAddr;
use trevlin_model::{Family, IpRange, Match, MatchKind};
use trevlin_packets::number;
use trevlin_packets::way::{Answer, Flow, Verdict, Walker};

/// Where a connection comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum From {
    /// A host of the outside that no rule names.
    Outside,
    /// This address.
    Address(IpAddr),
}

/// A connection that somebody asks about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// Where it comes from.
    pub from: From,
    /// Device and interface by which it enters, where that is said.
    pub entering: Option<(String, String)>,
    /// Where it is sent to.
    pub to: IpAddr,
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

/// Why a question cannot be answered.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AskError {
    /// There is no such device.
    #[error("there is no device {0}; there are: {1}")]
    NoDevice(String, String),
    /// The device has no such interface, and no rule names it.
    #[error("{device} has no interface {interface}; it has: {known}")]
    NoInterface {
        /// The device.
        device: String,
        /// What was asked for.
        interface: String,
        /// What there is.
        known: String,
    },
    /// Nothing tells where the connection enters.
    #[error(
        "nothing tells by which device and interface it enters; say so with `--entering DEVICE:INTERFACE`"
    )]
    Entering,
    /// Several devices have an outside interface.
    #[error("several interfaces face the outside: {0}; say which with `--entering DEVICE:INTERFACE`")]
    SeveralOutside(String),
    /// The addresses are of different IP versions.
    #[error("{0} and {1} are of different IP versions")]
    Versions(IpAddr, IpAddr),
}

/// The answer, as outputs show it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Reached {
    /// `allowed`, `blocked` or `depends`.
    pub verdict: &'static str,
    /// Where it is delivered, where it is allowed.
    pub delivered_to: Option<DeliveredTo>,
    /// What decided, in order.
    pub steps: Vec<ReachStep>,
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
    /// What happened.
    pub text: String,
    /// The export that says so; none for what follows from no line.
    pub path: Option<String>,
    /// Line, from 1.
    pub line: Option<u32>,
    /// The line as it stands, without secrets.
    pub excerpt: Option<String>,
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

/// Answers a question.
///
/// # Errors
/// When nothing tells where the connection enters, or a device or interface is not there.
pub fn reach(estate: &Estate, question: &Question) -> Result<Reached, AskError> {
    let (at, entering) = entering(estate, question)?;
    let host = estate.host(at);
    let walker = Walker::new(&host);
    answer(estate, at, &walker, &entering, question)
}

/// Answers many questions, each device made ready once.
///
/// # Errors
/// Each as for [`reach`].
pub fn reach_all(estate: &Estate, questions: &[Question]) -> Vec<Result<Reached, AskError>> {
    let places: Vec<Result<(usize, String), AskError>> =
        questions.iter().map(|question| entering(estate, question)).collect();
    let mut answers: Vec<Option<Result<Reached, AskError>>> = vec![None; questions.len()];
    for device in 0..estate.devices.len() {
        let here = places.iter().enumerate().filter_map(|(number, place)| match place {
            Ok((at, entering)) if *at == device => Some((number, entering)),
            _ => None,
        });
        let here: Vec<_> = here.collect();
        if here.is_empty() {
            continue;
        }
        let host = estate.host(device);
        let walker = Walker::new(&host);
        for (number, entering) in here {
            answers[number] = Some(answer(estate, device, &walker, entering, &questions[number]));
        }
    }
    let found = answers.into_iter().zip(places);
    found
        .map(|(answer, place)| answer.unwrap_or_else(|| Err(place.err().unwrap_or(AskError::Entering))))
        .collect()
}

/// Where a connection enters: as said, else by the interface behind which its source lies, else from outside.
fn entering(estate: &Estate, question: &Question) -> Result<(usize, String), AskError> {
    if let Some((name, interface)) = &question.entering {
        let names = || estate.devices.iter().map(|one| one.name.as_str()).collect::<Vec<_>>().join(", ");
        let at = estate.devices.iter().position(|one| one.name == *name);
        let at = at.ok_or_else(|| AskError::NoDevice(name.clone(), names()))?;
        let known = &estate.devices[at].facts.interfaces;
        if !known.is_empty() && !known.iter().any(|one| one.name == *interface) {
            let known = known.iter().map(|one| one.name.as_str()).collect::<Vec<_>>().join(", ");
            let (device, interface) = (name.clone(), interface.clone());
            return Err(AskError::NoInterface { device, interface, known });
        }
        return Ok((at, interface.clone()));
    }
    let outside = || {
        let all: Vec<(usize, String)> = (0..estate.devices.len())
            .flat_map(|at| {
                estate.outside(at).iter().filter(|one| one.certain).map(move |one| (at, one.name.clone()))
            })
            .collect();
        // The device that is addressed, where one is.
        let aimed: Vec<&(usize, String)> =
            all.iter().filter(|(at, _)| estate.holders(question.to).contains(at)).collect();
        match (aimed.as_slice(), all.as_slice()) {
            ([one], _) => Ok((*one).clone()),
            ([], [one]) => Ok(one.clone()),
            ([], []) => Err(AskError::Entering),
            _ => {
                let told = all.iter().map(|(at, name)| format!("{}:{name}", estate.devices[*at].name));
                Err(AskError::SeveralOutside(told.collect::<Vec<_>>().join(", ")))
            }
        }
    };
    let From::Address(source) = question.from else { return outside() };
    // A device in whose network the source lies, and which knows a way on.
    let mut near = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for one in &device.facts.interfaces {
            let holds = one
                .addresses
                .iter()
                .any(|address| address.net.contains(&source) && address.net.addr() != source);
            if holds && !one.loopback && (device.facts.interfaces.len() > 2 || estate.devices.len() == 1) {
                near.push((at, one.name.clone()));
            }
        }
    }
    match near.as_slice() {
        [one] => Ok(one.clone()),
        [] if is_public(source) => outside(),
        _ => Err(AskError::Entering),
    }
}

fn answer(
    estate: &Estate,
    at: usize,
    walker: &Walker<'_>,
    entering: &str,
    question: &Question,
) -> Result<Reached, AskError> {
    let family = Family::of(question.to);
    let source = match question.from {
        From::Address(address) => address,
        From::Outside => stranger(estate, at, family),
    };
    if Family::of(source) != family {
        return Err(AskError::Versions(source, question.to));
    }
    let protocol = match question.protocol {
        Transport::Tcp => 6,
        Transport::Udp => 17,
    };
    let ports = question.source_port.map_or_else(|| walker.telling_source_ports(), |port| vec![port]);
    let flow = |source_port| Flow {
        entering,
        source,
        destination: question.to,
        protocol,
        source_port,
        port: question.port,
    };
    let mut answers: Vec<Answer> = ports.into_iter().map(|port| walker.ask(&flow(port))).collect();
    let mut first = answers.swap_remove(0);
    // Where the source port decides, and it is not known, neither is the answer.
    if let Some(other) =
        answers.into_iter().find(|one| one.verdict != first.verdict || one.delivered != first.delivered)
    {
        first.verdict = Verdict::Depends;
        first.delivered = None;
        first.steps = other.steps;
    }
    Ok(told(estate, at, first))
}

fn told(estate: &Estate, at: usize, answer: Answer) -> Reached {
    let device = &estate.devices[at].name;
    let delivered_to = answer.delivered.map(|one| DeliveredTo {
        device: match one.leaving {
            None => Some(device.clone()),
            Some(_) => match estate.holders(one.address) {
                [only] => Some(estate.devices[*only].name.clone()),
                _ => None,
            },
        },
        address: one.address,
        port: one.port,
    });
    let steps = answer.steps.into_iter().map(|step| {
        let place = step.origin.map(|origin| crate::outcome::place(estate, origin));
        let (path, line, excerpt) = match place {
            Some(place) => (Some(place.path), Some(place.line), Some(place.excerpt)),
            None => (None, None, None),
        };
        ReachStep { device: device.clone(), text: step.text, path, line, excerpt }
    });
    Reached { verdict: word(answer.verdict), delivered_to, steps: steps.collect() }
}

/// A host of the outside that no rule of a device names: an address that the internet routes, in none of the ranges that rules
/// single out.
fn stranger(estate: &Estate, at: usize, family: Family) -> IpAddr {
    let mut named: Vec<IpRange> = Vec::new();
    for rule in
        estate.tables(at, family).iter().flat_map(|table| &table.chains).flat_map(|chain| &chain.rules)
    {
        sources(&rule.matches, &mut named);
    }
    let whole = IpRange::all(family);
    // What is said of half of all addresses or more singles nobody out.
    named.retain(|range| range.family() == family && range.size() < whole.size() / 2);
    let mut candidates: Vec<IpAddr> = Vec::new();
    for first in 1u8..=223 {
        candidates.push(match family {
            Family::V4 => [first, 77, 33, 9].into(),
            Family::V6 => [0x2000 | u16::from(first), 0x77, 0x33, 0, 0, 0, 0, 9].into(),
        });
    }
    let free =
        |address: &&IpAddr| is_public(**address) && !named.iter().any(|range| range.contains(**address));
    candidates.iter().rev().find(free).copied().unwrap_or_else(|| {
        // Every candidate is named: the one behind the last range that ends before the end.
        let ends = named.iter().map(|range| number(range.last())).max().unwrap_or_default();
        trevlin_packets::address(ends.saturating_add(1), family)
    })
}

fn sources(matches: &[Match], to: &mut Vec<IpRange>) {
    for one in matches {
        match &one.kind {
            MatchKind::Source(ranges) => to.extend(ranges),
            MatchKind::AnyOf(all) => all.iter().for_each(|one| sources(one, to)),
            _ => {}
        }
    }
}
