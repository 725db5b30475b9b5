//! Every way to log in, as one table: to what, who, from which list, with which factors, from where, within which
//! limits.

mod ike;
mod management;
mod shell;
mod tunnel;

use crate::authentication::{Factors, easiest_way, of_shell};
use crate::context::Analyses;
use crate::exposure::Reachable;
use crate::management::ManagementPort;
use crate::verdicts::{LoginFactor, LoginVerdict};
use crate::whence::Whence;
use serde::Serialize;
use std::collections::BTreeSet;
use trevlin_estate::evidence::Evidence;
use trevlin_model::ssh::SshConnection;
use trevlin_model::{FactorKind, Listener, Protocol};

/// What a login leads to.
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
pub struct Access {
    /// Device.
    pub device: String,
    /// Kind of service.
    pub kind: ServiceKind,
    /// Service.
    pub service: String,
    /// Who may come in.
    pub who: String,
    /// Those among them who administer the device, where names tell.
    pub administrators: Vec<String>,
    /// From which list.
    pub list: String,
    /// Factors of the easiest way in; empty where none is asked for or they are not known.
    pub factors: Vec<LoginFactor>,
    /// From where it can be reached, as far as forwards and interfaces tell.
    pub from: String,
    /// Addresses that the way in is limited to, as stated; empty where it is open to all that reach it.
    pub sources: Vec<String>,
    /// Limits that are stated.
    pub limits: Vec<String>,
    /// What that comes to.
    pub verdict: LoginVerdict,
    /// The line to cite.
    pub evidence: Vec<Evidence>,
}

/// The table, in order of device and service.
#[must_use]
pub fn logins(estate: &Analyses) -> Vec<Access> {
    let mut rows = Vec::new();
    for at in 0..estate.devices.len() {
        for number in 0..estate.devices[at].facts.tunnels.len() {
            rows.extend(tunnel::row(estate, at, number));
        }
        rows.extend(ike::rows(estate, at));
        for server in &estate.devices[at].facts.ssh_servers {
            rows.extend(shell::rows(estate, at, server));
        }
        for number in 0..estate.devices[at].facts.tunnels.len() {
            rows.extend(management::row(estate, at, number));
        }
    }
    rows
}

/// What callers of a tunnel have to show, on the easiest way in; none where that is not known.
#[must_use]
pub fn factors_of_tunnel(estate: &Analyses, at: usize, number: usize) -> Option<Vec<LoginFactor>> {
    let proof = tunnel::proof(estate, at, number)?;
    (proof.verdict != LoginVerdict::OpenQuestion).then_some(proof.factors)
}

/// What a secure shell server asks everybody for, on the easiest way in; none where that is not known.
#[must_use]
pub fn factors_of_shell(estate: &Analyses, at: usize, number: usize) -> Option<Vec<LoginFactor>> {
    let server = estate.devices[at].facts.ssh_servers.get(number)?;
    let ways = of_shell(estate, at, server, &SshConnection::default());
    let kinds = known(&easiest_way(&ways)?.factors)?;
    Some(judged(Some(kinds)).0)
}

/// What the management port of a tunnel asks for; none where it has none.
#[must_use]
pub fn factors_of_management(estate: &Analyses, at: usize, number: usize) -> Option<Vec<LoginFactor>> {
    let port = ManagementPort::of(&estate.devices[at].facts.tunnels[number])?;
    Some(if port.password { vec![LoginFactor::Kind(FactorKind::Knowledge)] } else { Vec::new() })
}

/// Factors as a row shows them, with the verdict.
fn judged(factors: Option<&BTreeSet<FactorKind>>) -> (Vec<LoginFactor>, LoginVerdict) {
    match factors {
        None => (Vec::new(), LoginVerdict::OpenQuestion),
        Some(kinds) => {
            let verdict = match kinds.len() {
                0 => LoginVerdict::Nothing,
                1 => LoginVerdict::OneFactor,
                _ => LoginVerdict::TwoFactors,
            };
            (kinds.iter().map(|kind| LoginFactor::Kind(*kind)).collect(), verdict)
        }
    }
}

fn known(factors: &Factors) -> Option<&BTreeSet<FactorKind>> {
    match factors {
        Factors::Known(kinds, _) => Some(kinds),
        Factors::Unknown { .. } => None,
    }
}

/// From where a listener can be reached, as far as the exports tell.
#[must_use]
pub fn from(estate: &Analyses, device: usize, protocol: Protocol, port: Option<u16>) -> String {
    let whence = port.map(|port| Whence::of(estate, device, protocol, port));
    let front = |reached: &Reachable| {
        let first = reached.steps.first().map_or(device, |step| step.device);
        match estate.outside(device).iter().find(|one| one.certain) {
            Some(interface) if first == device => format!("outside interface {}", interface.name),
            _ => format!("outside, by {}", estate.devices.get(first).map_or("-", |one| &one.name)),
        }
    };
    match whence {
        Some(Whence::Everybody(reached)) => front(reached),
        Some(Whence::Some(reached)) => format!("some {}", front(reached)),
        Some(Whence::Inside) => "inside".into(),
        Some(Whence::Forwarded(front, _)) => format!("outside, by {}", front.name),
        _ => match estate.outside(device).iter().find(|one| one.certain) {
            Some(interface) => format!("outside interface {}", interface.name),
            None if estate.devices[device].facts.has_interfaces => "inside".into(),
            None => "not known".into(),
        },
    }
}

/// Users of a list, for people: a single one by name, more by their number.
fn named_users<'a>(mut users: impl ExactSizeIterator<Item = &'a str>) -> String {
    match users.len() {
        1 => users.next().unwrap_or_default().to_owned(),
        count => format!("{count} named users"),
    }
}

/// From where what listens there is reached, as a phrase.
pub fn listener_from(estate: &Analyses, device: usize, listener: &Listener) -> String {
    if listener.loopback_only() {
        return "itself only".into();
    }
    from(estate, device, listener.protocol, listener.port.value().copied())
}
