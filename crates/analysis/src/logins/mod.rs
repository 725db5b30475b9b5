//! Every way to log in, as one table: to what, who, from which list, with which factors, from where, within which
//! limits.

mod administration;
mod ike;
mod management;
mod row;
mod shell;
mod tunnel;

use crate::authentication::{ssh_login_paths, weakest_path};
use crate::context::Analyses;
use crate::management::ManagementPort;
use crate::verdicts::{LoginFactor, LoginVerdict};
pub use row::{LoginPath, ServiceKind, from, listener_from};
use row::{judged, named_users, shown};
use trevlin_model::FactorKind;
use trevlin_model::ssh::SshConnection;

/// The table, in order of device and service.
#[must_use]
pub fn logins(estate: &Analyses) -> Vec<LoginPath> {
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
        let served = &estate.devices[at].facts.served;
        rows.extend(served.iter().filter_map(|one| administration::row(estate, at, one)));
    }
    rows
}

/// Factors that clients of a tunnel require on the weakest login path; none where they are not known.
#[must_use]
pub fn factors_of_tunnel(estate: &Analyses, at: usize, number: usize) -> Option<Vec<LoginFactor>> {
    let proof = tunnel::proof(estate, at, number)?;
    (proof.verdict != LoginVerdict::Undetermined).then_some(proof.factors)
}

/// Factors that an SSH server requires of any user on the weakest login path; none where they are not known.
#[must_use]
pub fn factors_of_ssh(estate: &Analyses, at: usize, number: usize) -> Option<Vec<LoginFactor>> {
    let server = estate.devices[at].facts.ssh_servers.get(number)?;
    let ways = ssh_login_paths(estate, at, server, &SshConnection::default());
    let kinds = shown(&weakest_path(&ways)?.factors)?;
    Some(judged(Some(kinds)).0)
}

/// Authentication of a tunnel's management port; none where it has no such port.
#[must_use]
pub fn factors_of_management(estate: &Analyses, at: usize, number: usize) -> Option<Vec<LoginFactor>> {
    let port = ManagementPort::of(&estate.devices[at].facts.tunnels[number])?;
    Some(if port.password { vec![LoginFactor::Kind(FactorKind::Knowledge)] } else { Vec::new() })
}
