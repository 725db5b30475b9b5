//! Exposure, as outputs show it, with every secret masked.
//!
//! Long because one table with a row type for each of its parts.

use crate::tables::unread::{UnreadRow, unread};
use serde::Serialize;
use std::net::IpAddr;
use trevlin_analysis::containers::named;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::exposure::forwards::{ForwardOutcome, ForwardResult};
use trevlin_analysis::exposure::protection::{
    Protection, ProtectionEvidence, protection, protection_evidence,
};
use trevlin_analysis::exposure::{Exposure, Opening, Reachable};
use trevlin_analysis::incomplete::IncompleteRow;
use trevlin_analysis::lacking::rows_of_filters;
use trevlin_analysis::reachability::{ReachStep, step_of};
use trevlin_analysis::services::{Encrypted, Known, ProtocolPorts, Service};
use trevlin_analysis::verdicts::{ForwardVerdict, LoginFactor, OpeningTo};
use trevlin_estate::evidence::Evidence;
use trevlin_model::{IpRange, IpRangeSet, Origin, PortRange};
use trevlin_packets::way::{Egress, Step};

/// Something that is taken to be so.
#[derive(Debug, Clone, Serialize)]
pub struct AssumptionRow {
    /// What, and why.
    pub text: String,
    /// The entry for the estate file where it is wrong.
    pub otherwise: String,
    /// Lines that the assumption is based on.
    pub evidence: Vec<Evidence>,
}

/// A place where connections set out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct StartRow {
    /// The device.
    pub device: String,
    /// Interface by which they enter; none where the device sends them.
    pub interface: Option<String>,
}

/// The service.
#[derive(Debug, Clone, Serialize)]
pub struct ServiceRow {
    /// Name.
    pub name: String,
    /// Purpose.
    pub kind: &'static str,
    /// How it is known.
    pub known: Known,
    /// Whether it is encrypted.
    pub encrypted: Option<Encrypted>,
    /// Factors that it requires; none where they are not known.
    pub factors: Option<Vec<LoginFactor>>,
    /// Further remarks.
    pub remarks: Vec<String>,
    /// Lines that state it.
    pub evidence: Vec<Evidence>,
}

/// A service that is reached.
#[derive(Debug, Clone, Serialize)]
pub struct ReachedRow {
    /// Its protection.
    pub protection: Protection,
    /// Whether no condition that is not analysed decides.
    pub certain: bool,
    /// Number of the place where connections set out.
    pub start: usize,
    /// Requested addresses.
    pub called: Vec<String>,
    /// Requested protocol and ports, such as `tcp 443`.
    pub called_at: Vec<String>,
    /// Who reaches it; `everybody`, or ranges.
    pub sources: Vec<String>,
    /// Whether any address is included.
    #[serde(skip)]
    pub everybody: bool,
    /// The device that serves it.
    pub device: String,
    /// Address there.
    pub address: IpAddr,
    /// Protocol and port there; several where it answers at several alike.
    #[serde(serialize_with = "joined")]
    pub endpoint: Vec<String>,
    /// The service.
    pub service: ServiceRow,
    /// The port forward that leads there.
    pub forward: Option<Evidence>,
    /// How it got there.
    pub steps: Vec<ReachStep>,
}

/// Permitted traffic without a known service.
#[derive(Debug, Clone, Serialize)]
pub struct OpeningRow {
    /// Whether no condition that is not analysed decides.
    pub certain: bool,
    /// Number of the place where connections set out.
    pub start: usize,
    /// The device, or the last one on the way.
    pub device: String,
    /// Where it leads.
    pub to: OpeningTo,
    /// Interface by which it leaves the device.
    pub leaving: Option<String>,
    /// Protocol with ports, such as `tcp 0-65535`.
    pub at: Vec<ProtocolPorts>,
    /// Addresses.
    pub addresses: Vec<String>,
    /// Permitted sources.
    pub sources: Vec<String>,
    /// Whether any address is included.
    #[serde(skip)]
    pub everybody: bool,
    /// The port forward that leads there.
    pub forward: Option<Evidence>,
    /// How it got there.
    pub steps: Vec<ReachStep>,
}

/// Outcome of a port forward.
#[derive(Debug, Clone, Serialize)]
pub struct ForwardRow {
    /// Its outcome.
    pub outcome: ForwardVerdict,
    /// The device.
    pub device: String,
    /// Sources that match it.
    pub sources: Vec<String>,
    /// Whether any address is included.
    #[serde(skip)]
    pub everybody: bool,
    /// Requested protocol and ports.
    pub called_at: Vec<String>,
    /// Requested addresses.
    pub called: Vec<String>,
    /// Where it leads to.
    pub to: Option<String>,
    /// Further remark, as a phrase.
    pub remark: Option<String>,
    /// Its line.
    pub evidence: Evidence,
    /// How it got there, and where it ended.
    pub steps: Vec<ReachStep>,
}

/// A device that answers requests for an echo.
#[derive(Debug, Clone, Serialize)]
pub struct PingRow {
    /// The device.
    pub device: String,
    /// Addresses that answer.
    pub addresses: Vec<String>,
    /// Whether it is certain.
    pub certain: bool,
}

/// Amount of permitted traffic, by one protocol of one IP version.
#[derive(Debug, Clone, Serialize)]
pub struct BreadthRow {
    /// IP version.
    pub version: String,
    /// Transport protocol.
    pub protocol: String,
    /// Addresses with at least one port, in words where there are very many.
    pub addresses: String,
    /// Pairs of an address and a port, in words where there are very many.
    pub pairs: String,
}

/// Services and traffic reachable from a source.
#[derive(Debug, Clone, Serialize)]
pub struct ExposureSheet {
    /// From where.
    pub from: String,
    /// Places where connections set out.
    pub starts: Vec<StartRow>,
    /// Reachable services, the least protected first.
    pub reached: Vec<ReachedRow>,
    /// Further permitted traffic.
    pub openings: Vec<OpeningRow>,
    /// Outcome of port forwards.
    pub forwards: Vec<ForwardRow>,
    /// Devices that answer requests for an echo.
    pub pings: Vec<PingRow>,
    /// How wide it is.
    pub breadth: Vec<BreadthRow>,
    /// Assumptions.
    pub assumptions: Vec<AssumptionRow>,
    /// Whether something was left out.
    pub cut: bool,
    /// Missing or unanalysed parts of packet filters.
    pub incomplete: Vec<IncompleteRow>,
    /// Files in no format that is read: services of theirs are not listed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub not_read: Vec<UnreadRow>,
}

/// Exposure, as outputs show it.
#[must_use]
pub fn sheet(estate: &Analyses, services: &[Vec<Service>], exposure: &Exposure, from: &str) -> ExposureSheet {
    let made = Maker { estate, services, exposure };
    let reached = merged(exposure.reached.iter().map(|one| made.reached(one)).collect());
    let place = |origin: Origin| trevlin_estate::evidence::place(estate, origin);
    ExposureSheet {
        incomplete: rows_of_filters(estate),
        from: from.to_owned(),
        starts: exposure
            .traffic_sources
            .iter()
            .map(|one| StartRow { device: made.name(one.device), interface: one.interface.clone() })
            .collect(),
        reached,
        openings: openings(exposure.openings.iter().map(|one| made.opening(one)).collect()),
        forwards: exposure.forwards.iter().map(|one| made.forward(one)).collect(),
        pings: exposure
            .pings
            .iter()
            .map(|one| PingRow {
                device: made.name(one.device),
                addresses: ranges(&one.addresses),
                certain: one.certain,
            })
            .collect(),
        breadth: exposure
            .breadth
            .iter()
            .map(|one| BreadthRow {
                version: one.family.to_string(),
                protocol: trevlin_model::Protocol(Some(one.protocol)).name(),
                addresses: count((one.addresses as f64).log2()),
                pairs: count(one.log2_pairs),
            })
            .collect(),
        assumptions: estate
            .shape()
            .assumptions
            .iter()
            .map(|one| AssumptionRow {
                text: estate.masker().mask_sentence(&one.text),
                otherwise: one.otherwise.clone(),
                evidence: one.origins.iter().map(|origin| place(*origin)).collect(),
            })
            .collect(),
        cut: exposure.cut,
        not_read: unread(estate, &[]),
    }
}

fn joined<S: serde::Serializer>(all: &[String], out: S) -> Result<S::Ok, S::Error> {
    out.serialize_str(&all.join(", "))
}

/// One row for a service that answers at several ports, with what decided for each.
fn merged(mut all: Vec<ReachedRow>) -> Vec<ReachedRow> {
    all.sort_by(|a, b| {
        let key = |one: &ReachedRow| {
            (one.protection, one.device.clone(), one.service.name.clone(), one.called.clone())
        };
        (key(a), &a.endpoint).cmp(&(key(b), &b.endpoint))
    });
    let mut kept: Vec<ReachedRow> = Vec::new();
    for one in all {
        let same = |known: &&mut ReachedRow| {
            (known.protection, known.certain, known.start, &known.device)
                == (one.protection, one.certain, one.start, &one.device)
                && (&known.service.name, &known.called, &known.sources)
                    == (&one.service.name, &one.called, &one.sources)
                && known.address == one.address
        };
        match kept.iter_mut().find(same) {
            Some(known) => {
                known.called_at.extend(
                    one.called_at.into_iter().filter(|at| !known.called_at.contains(at)).collect::<Vec<_>>(),
                );
                let more: Vec<String> =
                    one.endpoint.into_iter().filter(|at| !known.endpoint.contains(at)).collect();
                known.endpoint.extend(more);
                let more: Vec<ReachStep> =
                    one.steps.into_iter().filter(|step| !known.steps.contains(step)).collect();
                known.steps.extend(more);
                let more: Vec<Evidence> = one
                    .service
                    .evidence
                    .into_iter()
                    .filter(|at| !known.service.evidence.contains(at))
                    .collect();
                known.service.evidence.extend(more);
            }
            None => kept.push(one),
        }
    }
    kept
}

/// One row for equal openings of several protocols.
fn openings(all: Vec<OpeningRow>) -> Vec<OpeningRow> {
    let mut kept: Vec<OpeningRow> = Vec::new();
    for one in all {
        let same = |known: &&mut OpeningRow| {
            (known.certain, known.start, &known.device, known.to)
                == (one.certain, one.start, &one.device, one.to)
                && (&known.leaving, &known.addresses, &known.sources)
                    == (&one.leaving, &one.addresses, &one.sources)
                && known.forward == one.forward
        };
        match kept.iter_mut().find(same) {
            Some(known) => {
                known.at.extend(one.at);
                let more: Vec<ReachStep> =
                    one.steps.into_iter().filter(|step| !known.steps.contains(step)).collect();
                known.steps.extend(more);
            }
            None => kept.push(one),
        }
    }
    kept
}

/// A number by its power of two: exact where that is short, a power of ten elsewhere.
fn count(log2: f64) -> String {
    const EXACT: f64 = 40.0;
    if log2 < EXACT {
        let digits = (log2.exp2().round() as u64).to_string();
        let grouped: Vec<&str> =
            digits.as_bytes().rchunks(3).rev().filter_map(|part| std::str::from_utf8(part).ok()).collect();
        return grouped.join(",");
    }
    format!("about 10^{}", (log2 * std::f64::consts::LOG10_2).round() as u32)
}

/// Ranges in their shortest form.
fn ranges(all: &[IpRange]) -> Vec<String> {
    all.iter().map(IpRange::short).collect()
}

/// A protocol with each of several ranges of ports.
fn protocol_ports(protocol: u8, ports: &[PortRange]) -> Vec<ProtocolPorts> {
    if ports.is_empty() || !trevlin_packets::way::has_ports(protocol) {
        return vec![ProtocolPorts { protocol, ports: PortRange { first: 0, last: 0 } }];
    }
    ports.iter().map(|range| ProtocolPorts { protocol, ports: *range }).collect()
}

/// The same in words.
fn endpoints(protocol: u8, ports: &[PortRange]) -> Vec<String> {
    protocol_ports(protocol, ports).iter().map(ToString::to_string).collect()
}

struct Maker<'a> {
    estate: &'a Analyses,
    services: &'a [Vec<Service>],
    exposure: &'a Exposure,
}

impl Maker<'_> {
    fn name(&self, device: usize) -> String {
        self.estate.devices.get(device).map_or_else(|| "-".to_owned(), |one| one.name.clone())
    }

    fn steps(&self, steps: &[Step]) -> Vec<ReachStep> {
        steps.iter().map(|step| step_of(self.estate, step.clone())).collect()
    }

    fn places(&self, origins: impl IntoIterator<Item = Origin>) -> Vec<Evidence> {
        origins.into_iter().map(|origin| trevlin_estate::evidence::place(self.estate, origin)).collect()
    }

    /// All source addresses.
    fn everybody(&self) -> IpRangeSet {
        self.exposure.traffic_sources.iter().flat_map(|one| &one.sources).copied().collect()
    }

    fn sources(&self, everybody: bool, all: &[IpRange]) -> Vec<String> {
        if everybody { vec!["any".to_owned()] } else { ranges(all) }
    }

    /// Addresses of an opening: a network where most of it is included.
    fn networks(&self, one: &Opening) -> Vec<String> {
        let facts = &self.estate.devices[one.device].facts;
        let leaving = facts.interfaces.iter().find(|interface| Some(&interface.name) == one.leaving.as_ref());
        let near =
            leaving.into_iter().flat_map(|interface| &interface.addresses).map(|address| address.net.trunc());
        let mut left = one.addresses.to_vec();
        let mut told = Vec::new();
        for net in near {
            let whole = IpRange::from(net);
            let (inside, others): (Vec<IpRange>, Vec<IpRange>) =
                left.iter().partition(|range| whole.covers(range));
            let size = trevlin_model::total_addresses(&inside);
            if size > whole.size() / 2 {
                told.push(net.to_string());
                left = others;
            }
        }
        told.into_iter().chain(ranges(&left)).collect()
    }

    fn service(&self, service: &Service, protection_evidence: ProtectionEvidence) -> ServiceRow {
        ServiceRow {
            name: self.estate.masker().mask(&service.name),
            kind: service.kind().words(),
            known: service.known,
            encrypted: protection_evidence.encrypted,
            factors: protection_evidence.factors,
            remarks: protection_evidence.remarks,
            evidence: self.places(service.origins()),
        }
    }

    fn reached(&self, one: &Reachable) -> ReachedRow {
        let service = &self.services[one.device][one.service];
        let protection_evidence = protection_evidence(self.estate, one.device, service);
        let protection = protection(self.estate, one, service, &protection_evidence);
        ReachedRow {
            protection,
            certain: one.certain,
            start: one.traffic_source,
            called: self.estate.internet().outside.called_words(one.traffic_source, &one.called),
            called_at: endpoints(one.protocol, &one.called_ports),
            sources: self.sources(one.everybody, &one.sources),
            everybody: one.everybody,
            device: self.name(one.device),
            address: one.address,
            endpoint: vec![service.endpoint()],
            service: self.service(service, protection_evidence),
            forward: one.forward.map(|origin| trevlin_estate::evidence::place(self.estate, origin)),
            steps: self.steps(&one.steps),
        }
    }

    fn opening(&self, one: &Opening) -> OpeningRow {
        OpeningRow {
            certain: one.certain,
            start: one.traffic_source,
            device: self.name(one.device),
            to: match one.gone {
                None => OpeningTo::Device,
                Some(Egress::Host) => OpeningTo::Network,
                Some(Egress::Outside | Egress::Beyond) => OpeningTo::Beyond,
            },
            leaving: one.leaving.clone(),
            at: protocol_ports(one.protocol, &one.ports),
            addresses: self.networks(one),
            sources: self.sources(one.everybody, &one.sources),
            everybody: one.everybody,
            forward: one.forward.map(|origin| trevlin_estate::evidence::place(self.estate, origin)),
            steps: self.steps(&one.steps),
        }
    }

    fn forward(&self, one: &ForwardResult) -> ForwardRow {
        let allocation = |number: usize| {
            let allocation = &self.estate.plan().allocations[number];
            let whose = allocation.who.as_ref().unwrap_or(&allocation.owner);
            self.estate.masker().mask(&format!("{} on {whose}", allocation.kind.words()))
        };
        let (outcome, remark) = match &one.outcome {
            ForwardOutcome::Service(all) => {
                let names = all.iter().map(|at| {
                    let reached = &self.exposure.reached[*at];
                    let service = &self.services[reached.device][reached.service];
                    format!("{} on {}", service.name, self.name(reached.device))
                });
                let mut names: Vec<String> = names.collect();
                names.sort();
                names.dedup();
                (ForwardVerdict::Works, Some(self.estate.masker().mask(&names.join(", "))))
            }
            ForwardOutcome::NothingServes { device, certain: true } => (
                ForwardVerdict::NothingAnswers,
                Some(format!("{} has no listening socket there", self.name(*device))),
            ),
            ForwardOutcome::NothingServes { device, certain: false } => (
                ForwardVerdict::PerhapsNothingAnswers,
                Some(format!(
                    "no file of {} names a service there; its `ss -tulpn` would show it",
                    self.name(*device)
                )),
            ),
            ForwardOutcome::Container { device, number } => {
                let container = &self.estate.devices[*device].facts.containers[*number];
                let name = format!("{} on {}", named(container), self.name(*device));
                (ForwardVerdict::Container, Some(self.estate.masker().mask(&name)))
            }
            ForwardOutcome::Claimed(number) => (ForwardVerdict::NotExported, Some(allocation(*number))),
            ForwardOutcome::NotExported => {
                (ForwardVerdict::NotExported, Some("no exported device has this address".to_owned()))
            }
            ForwardOutcome::NobodyThere => {
                (ForwardVerdict::NobodyThere, Some("no network contains this address".to_owned()))
            }
            ForwardOutcome::BlockedLater => (ForwardVerdict::BlockedLater, None),
            ForwardOutcome::Lost => (ForwardVerdict::Circle, None),
            ForwardOutcome::Depends => (ForwardVerdict::Depends, None),
            ForwardOutcome::NeverMet => {
                (ForwardVerdict::NeverMet, Some("no connection from this source reaches it".to_owned()))
            }
        };
        let to = one.address.map(|address| match one.port {
            Some(port) => format!("{address} port {port}"),
            None => address.to_string(),
        });
        let called_at = match one.protocol {
            Some(protocol) => endpoints(protocol, &one.called_ports),
            None => Vec::new(),
        };
        let everybody = trevlin_analysis::exposure::gather::nearly_all(&one.sources, &self.everybody());
        ForwardRow {
            outcome,
            device: self.name(one.device),
            sources: self.sources(everybody, &one.sources),
            everybody,
            called_at,
            called: self.estate.internet().outside.called_words(usize::MAX, &one.called),
            to,
            remark,
            evidence: trevlin_estate::evidence::place(self.estate, one.origin),
            steps: self.steps(&one.steps),
        }
    }
}
