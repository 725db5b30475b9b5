//! Intents and their evaluation, as outputs show them.

use serde::Serialize;
use trevlin_analysis::context::Analyses;
use trevlin_analysis::intents::IntentEvaluation;
use trevlin_analysis::services::endpoint;
use trevlin_analysis::verdicts::IntentVerdict;
use trevlin_estate::evidence::{Evidence, place};
use trevlin_model::{IpRange, Origin, PortRange};
use trevlin_packets::way::Egress;

/// A part that is missing or too much, as outputs show it.
#[derive(Debug, Clone, Serialize)]
pub struct PartRow {
    /// Protocol and ports, such as `tcp 443`.
    pub at: Vec<String>,
    /// The device that it leads to, or the last one on the way.
    pub device: String,
    /// Addresses; `outside` for what leaves.
    pub addresses: Vec<String>,
    /// Whether it is certain.
    pub certain: bool,
    /// Rules that stop it, or let it through.
    pub rules: Vec<Evidence>,
}

/// An intent, as outputs show it.
#[derive(Debug, Clone, Serialize)]
pub struct IntentRow {
    /// The verdict.
    pub verdict: IntentVerdict,
    /// From where, as written.
    pub from: String,
    /// Where to, as written.
    pub to: Vec<String>,
    /// Protocols and ports; empty for every service.
    pub services: Vec<String>,
    /// Whether all other access is unintended.
    pub only: bool,
    /// Its line in the estate file.
    pub line: usize,
    /// Reason why it could not be evaluated.
    pub problem: Option<String>,
    /// The blocked part.
    pub missing: Vec<PartRow>,
    /// Access beyond the intents.
    pub excess: Vec<PartRow>,
}

/// Every intent, as outputs show it.
#[must_use]
pub fn sheet(estate: &Analyses) -> Vec<IntentRow> {
    let name =
        |device: usize| estate.devices.get(device).map_or_else(|| "-".to_owned(), |one| one.name.clone());
    let ports =
        |protocol: u8, all: &[PortRange]| all.iter().map(|one| endpoint(protocol, *one)).collect::<Vec<_>>();
    let places = |all: &[Origin]| all.iter().map(|origin| place(estate, *origin)).collect::<Vec<_>>();
    let short = |all: &[IpRange]| all.iter().map(IpRange::short).collect::<Vec<_>>();
    let row = |held: &IntentEvaluation| {
        let intent = &estate.intents[held.intent];
        let missing = held.missing.iter().map(|one| {
            let last = one.steps.iter().rev().find(|step| step.origin.is_some());
            PartRow {
                at: ports(one.protocol, &one.ports),
                device: last.map_or_else(|| "-".to_owned(), |step| name(step.device)),
                addresses: short(&one.addresses),
                certain: true,
                rules: places(&last.and_then(|step| step.origin).into_iter().collect::<Vec<_>>()),
            }
        });
        let excess = held.excess.iter().map(|one| PartRow {
            at: ports(one.protocol, &one.ports),
            device: name(one.device),
            addresses: match one.gone {
                Some(Egress::Outside) => vec!["Internet".to_owned()],
                _ => short(&one.addresses),
            },
            certain: one.certain,
            rules: places(&one.rules),
        });
        let beyond = held.excess.iter().any(|one| one.certain);
        let verdict = match (held.problem.is_some(), held.missing.is_empty(), beyond) {
            (true, ..) => IntentVerdict::Undetermined,
            (_, true, false) if held.excess.is_empty() => IntentVerdict::Holds,
            (_, true, false) => IntentVerdict::Undetermined,
            (_, true, true) => IntentVerdict::Excess,
            (_, false, false) => IntentVerdict::Missing,
            (_, false, true) => IntentVerdict::MissingAndExcess,
        };
        IntentRow {
            verdict,
            from: intent.from.clone(),
            to: intent.to.clone(),
            services: intent.services.iter().map(|(protocol, ports)| endpoint(*protocol, *ports)).collect(),
            only: intent.only,
            line: intent.line,
            problem: held.problem.clone(),
            missing: missing.collect(),
            excess: excess.collect(),
        }
    };
    estate.evaluated_intents().iter().map(row).collect()
}
