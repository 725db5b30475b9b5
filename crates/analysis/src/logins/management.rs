//! Management ports of tunnel servers.

use crate::context::Analyses;
use crate::logins::{LoginPath, ServiceKind, from};
use crate::management::ManagementPort;
use crate::verdicts::{LoginFactor, LoginVerdict};
use trevlin_model::{FactorKind, Protocol};

/// The row of an OpenVPN server's management port, where it has one.
pub(super) fn row(estate: &Analyses, at: usize, number: usize) -> Option<LoginPath> {
    let device = &estate.devices[at];
    let tunnel = &device.facts.tunnels[number];
    let management = ManagementPort::of(tunnel).filter(|one| !one.port.is_empty())?;
    let reached = from(estate, at, Protocol::TCP, management.port.parse().ok());
    let (who, place) = match (management.is_socket(), management.is_local() == Some(true)) {
        (true, _) => ("file permissions of the socket", "the device itself"),
        (_, true) => ("any local program", "the device itself"),
        (_, false) => ("any user", reached.as_str()),
    };
    let (factors, verdict) = if management.password {
        (vec![LoginFactor::Kind(FactorKind::Knowledge)], LoginVerdict::OneFactor)
    } else {
        (Vec::new(), LoginVerdict::Nothing)
    };
    Some(LoginPath {
        device: device.name.clone(),
        kind: ServiceKind::Management,
        service: format!("management interface of {}", tunnel.name),
        who: who.into(),
        administrators: Vec::new(),
        list: if management.password { "password file" } else { "none" }.into(),
        factors,
        from: place.into(),
        sources: Vec::new(),
        limits: Vec::new(),
        verdict,
        evidence: trevlin_estate::evidence::evidence(estate, &[management.origin]),
    })
}
