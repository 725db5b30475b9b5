//! One way to log in.

use crate::authentication::Factors;
use crate::context::Analyses;
use crate::exposure::Reachable;
use crate::reachability_from::Reachability;
use crate::verdicts::{LoginFactor, LoginVerdict};
use serde::Serialize;
use std::collections::BTreeSet;
use trevlin_estate::evidence::Evidence;
use trevlin_model::{FactorKind, Listener, Protocol};

/// Kind of access that a login grants.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum ServiceKind {
    /// Into the network.
    Tunnel,
    /// To a command line.
    Shell,
    /// To the handles of a service.
    Management,
}

/// One row of the table.
#[derive(Debug, Clone, Serialize)]
pub struct LoginPath {
    /// Device.
    pub device: String,
    /// Kind of service.
    pub kind: ServiceKind,
    /// Service.
    pub service: String,
    /// Permitted users.
    pub who: String,
    /// Those among them who administer the device, where names tell.
    pub administrators: Vec<String>,
    /// From which list.
    pub list: String,
    /// Factors of the weakest login path; empty where none is required or they are not known.
    pub factors: Vec<LoginFactor>,
    /// From where it can be reached, as far as forwards and interfaces tell.
    pub from: String,
    /// Addresses that the login path is limited to, as stated; empty where it is open to any source that reaches it.
    pub sources: Vec<String>,
    /// Limits that are stated.
    pub limits: Vec<String>,
    /// The verdict.
    pub verdict: LoginVerdict,
    /// The line to cite.
    pub evidence: Vec<Evidence>,
}

/// Factors as a row shows them, with the verdict.
pub(crate) fn judged(factors: Option<&BTreeSet<FactorKind>>) -> (Vec<LoginFactor>, LoginVerdict) {
    match factors {
        None => (Vec::new(), LoginVerdict::Undetermined),
        Some(kinds) => (kinds.iter().map(|kind| LoginFactor::Kind(*kind)).collect(), verdict(kinds.len())),
    }
}

/// The verdict on a number of factors.
pub(super) fn verdict(factors: usize) -> LoginVerdict {
    match factors {
        0 => LoginVerdict::Nothing,
        1 => LoginVerdict::OneFactor,
        _ => LoginVerdict::TwoFactors,
    }
}

/// Factors that a row shows: those that are decided, and a password that more may be required beside.
pub(crate) fn shown(factors: &Factors) -> Option<&BTreeSet<FactorKind>> {
    let password = factors.kinds.len() == 1 && factors.kinds.contains(&FactorKind::Knowledge);
    factors.decided().or(Some(&factors.kinds).filter(|_| password))
}

/// From where a listener can be reached, as far as the exports tell.
#[must_use]
pub fn from(estate: &Analyses, device: usize, protocol: Protocol, port: Option<u16>) -> String {
    let reachability_from = port.map(|port| Reachability::of(estate, device, protocol, port));
    let front = |reached: &Reachable| {
        let first = reached.steps.first().map_or(device, |step| step.device);
        match estate.outside(device).iter().find(|one| one.certain) {
            Some(interface) if first == device => format!("Internet interface {}", interface.name),
            _ => format!("Internet, via {}", estate.devices.get(first).map_or("-", |one| &one.name)),
        }
    };
    match reachability_from {
        Some(Reachability::Everybody(reached)) => front(reached),
        Some(
            Reachability::Some(reached) | Reachability::Named(reached, ..) | Reachability::Unsure(reached, _),
        ) => {
            format!("some {}", front(reached))
        }
        Some(Reachability::Inside | Reachability::Listed(_)) => "internal networks".into(),
        Some(Reachability::Forwarded(front, _)) => format!("Internet, via {}", front.name),
        _ => match estate.outside(device).iter().find(|one| one.certain) {
            Some(interface) => format!("Internet interface {}", interface.name),
            None if estate.devices[device].facts.has_interfaces => "internal networks".into(),
            None => "not known".into(),
        },
    }
}

/// Users of a list, for people: a single one by name, more by their number.
pub(crate) fn named_users<'a>(mut users: impl ExactSizeIterator<Item = &'a str>) -> String {
    match users.len() {
        1 => users.next().unwrap_or_default().to_owned(),
        count => format!("{count} named users"),
    }
}

/// From where what listens there is reached, as a phrase.
pub fn listener_from(estate: &Analyses, device: usize, listener: &Listener) -> String {
    if listener.loopback_only() {
        return "the device itself".into();
    }
    from(estate, device, listener.protocol, listener.port.value().copied())
}
