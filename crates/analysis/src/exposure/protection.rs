//! How a service that is reached is protected, as far as the exports tell.

use crate::context::Analyses;
use crate::exposure::Reachable;
use crate::logins;
use crate::services::{Encrypted, PortKind, Service, What, only_redirects, sites_at};
use crate::verdicts::{LoginFactor, required_factors};
use serde::Serialize;
use trevlin_model::policy::Demand;
use trevlin_model::served::{AuthRequirement, ServiceResource, TransportSecurity};
use trevlin_model::{FactorKind, Setting, Tunnel, TunnelFamily, TunnelRole};

/// Level of protection of an exposed service.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Protection {
    /// Reachable from any address, without known protection or with protection that is obsolete.
    Unprotected,
    /// Reachable from any address, and protected by one guessable factor.
    Weak,
    /// The service or its authentication is not known, or a condition that is not analysed decides.
    Undetermined,
    /// Reachable from any address; encrypted, and protected by authentication that cannot be guessed.
    Protected,
    /// Only some reach it.
    Limited,
}

impl Protection {
    /// All levels, the worst first.
    pub const ALL: [Self; 5] =
        [Self::Unprotected, Self::Weak, Self::Undetermined, Self::Protected, Self::Limited];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Unprotected => "unprotected",
            Self::Weak => "weak",
            Self::Undetermined => "undetermined",
            Self::Protected => "protected",
            Self::Limited => "limited",
        }
    }

    /// Definition of the word.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Unprotected => "no effective protection",
            Self::Weak => "protected by one guessable factor",
            Self::Undetermined => "the service or its protection is not known",
            Self::Protected => "encrypted, and requires a login that cannot be guessed",
            Self::Limited => "limited to named sources",
        }
    }
}

/// How a service is protected.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ProtectionEvidence {
    /// Whether it is encrypted.
    pub encrypted: Option<Encrypted>,
    /// Factors that it requires, where they are known.
    pub factors: Option<Vec<LoginFactor>>,
    /// Further remarks, as phrases.
    pub remarks: Vec<String>,
}

/// How a service is protected.
#[must_use]
pub fn protection_evidence(estate: &Analyses, device: usize, service: &Service) -> ProtectionEvidence {
    let known = service.port_known();
    let mut found = ProtectionEvidence {
        encrypted: known.map(|known| known.encrypted),
        factors: None,
        remarks: Vec::new(),
    };
    let row = match service.what {
        What::Shell(number) => {
            found.encrypted = Some(Encrypted::Yes);
            logins::factors_of_ssh(estate, device, number)
        }
        What::Tunnel(number) => {
            let tunnel = &estate.devices[device].facts.tunnels[number];
            found.encrypted = Some(by_protocol(tunnel));
            if matches!(tunnel.family, TunnelFamily::Pptp) {
                found.remarks.push("its encryption is broken".into());
            }
            logins::factors_of_tunnel(estate, device, number)
        }
        What::TunnelManagement(number) => {
            found.encrypted = Some(Encrypted::No);
            logins::factors_of_management(estate, device, number)
        }
        What::Served(number, _) => {
            let (encrypted, factors, remarks) = of_served(estate, device, number, service);
            found.encrypted = Some(encrypted);
            found.remarks = remarks;
            factors
        }
        What::Radius
        | What::Dhcp(_)
        | What::PortMapper(_)
        | What::Relay(_)
        | What::Socket
        | What::Container(_)
        | What::Idle(_) => None,
    };
    found.factors = match service.what {
        What::Tunnel(number) => row.or_else(|| between_sites(estate, device, number)),
        _ => row,
    };
    if found.remarks.is_empty() && known.is_some_and(|known| known.obsolete) {
        found.remarks.push("obsolete protocol".into());
    }
    found
}

/// How a service is protected by its files: the least protected of its parts that take part in it.
fn of_served(
    estate: &Analyses,
    device: usize,
    number: usize,
    service: &Service,
) -> (Encrypted, Option<Vec<LoginFactor>>, Vec<String>) {
    let device = &estate.devices[device];
    let first = &device.facts.served[number];
    let sites = sites_at(device, service);
    let place =
        first.endpoints.iter().find(|place| (place.port, place.address) == (service.port, service.address));
    let encrypted = match place.map(|place| place.carried) {
        Some(TransportSecurity::Encrypted) => Encrypted::Yes,
        Some(TransportSecurity::Optional) => Encrypted::May,
        _ => Encrypted::No,
    };
    let parts: Vec<&ServiceResource> = sites.iter().flat_map(|one| &one.parts).collect();
    let open = parts.iter().filter(|part| part.asks_nothing() && !part.sources.is_local());
    let open: Vec<String> = open.map(|part| part.title()).collect();
    let mut remarks = Vec::new();
    match open.as_slice() {
        _ if only_redirects(device, service) => remarks.push("redirects all requests to HTTPS".to_owned()),
        [] => {}
        [one] => remarks.push(format!("{one} requires no login")),
        [one, rest @ ..] => remarks.push(format!("{one} and {} more require no login", rest.len())),
    }
    let asked: Option<Vec<AuthRequirement>> = parts.iter().map(|part| part.login.value().copied()).collect();
    let factors = asked.and_then(|all| all.into_iter().min()).and_then(required_factors);
    (encrypted, factors, remarks)
}

/// Whether a tunnel's own protocol encrypts what goes through it.
fn by_protocol(tunnel: &Tunnel) -> Encrypted {
    match tunnel.family {
        TunnelFamily::L2tp => match tunnel.rule(|policy| &policy.inside_ipsec).and_then(Setting::value) {
            Some(Demand::Required) => Encrypted::Yes,
            Some(Demand::Off) => Encrypted::No,
            Some(Demand::Optional) | None => Encrypted::May,
        },
        TunnelFamily::Pptp => Encrypted::May,
        family if family.encrypts_nothing() => Encrypted::No,
        _ => Encrypted::Yes,
    }
}

/// Authentication of the other end of a site-to-site tunnel.
fn between_sites(estate: &Analyses, device: usize, number: usize) -> Option<Vec<LoginFactor>> {
    let tunnel = &estate.devices[device].facts.tunnels[number];
    if tunnel.role != TunnelRole::PointToPoint {
        return None;
    }
    if tunnel.family == TunnelFamily::WireGuard {
        return Some(vec![LoginFactor::Kind(FactorKind::Possession)]);
    }
    let shared = tunnel.proof.shared_key.is_some()
        || tunnel.ipsec.as_ref().is_some_and(|connection| connection.shared_key().is_some());
    let certificate = tunnel.ipsec.is_some() || tunnel.proof.certificate.is_some();
    match (shared, certificate) {
        (true, _) => Some(vec![LoginFactor::SharedKey]),
        (false, true) => Some(vec![LoginFactor::Kind(FactorKind::Certificate)]),
        (false, false) => None,
    }
}

/// Level of protection of an exposed service.
#[must_use]
pub fn protection(
    estate: &Analyses,
    reached: &Reachable,
    service: &Service,
    protection_evidence: &ProtectionEvidence,
) -> Protection {
    if !reached.everybody {
        return Protection::Limited;
    }
    if !reached.certain {
        return Protection::Undetermined;
    }
    if let What::Shell(number) = service.what
        && let Some(lists) = &estate.devices[reached.device].facts.ssh_servers[number].lists
    {
        return if lists.certain { Protection::Limited } else { Protection::Undetermined };
    }
    let obsolete = service.port_known().is_some_and(|known| known.obsolete)
        || matches!(service.what, What::Tunnel(number)
            if matches!(estate.devices[reached.device].facts.tunnels[number].family, TunnelFamily::Pptp));
    if only_redirects(&estate.devices[reached.device], service) {
        return Protection::Protected;
    }
    if obsolete || protection_evidence.encrypted == Some(Encrypted::No) {
        return Protection::Unprotected;
    }
    match &protection_evidence.factors {
        Some(factors) if factors.is_empty() => Protection::Unprotected,
        Some(factors) if factors.len() > 1 => Protection::Protected,
        Some(factors) if factors[0].is_guessable() => Protection::Weak,
        Some(_) => Protection::Protected,
        // For services that should never be public, exposure alone is sufficient.
        None if never_meant(service.kind()) => Protection::Unprotected,
        None => Protection::Undetermined,
    }
}

/// Services that should never be offered to any address.
#[must_use]
pub fn never_meant(kind: PortKind) -> bool {
    matches!(
        kind,
        PortKind::Desktop
            | PortKind::Files
            | PortKind::Database
            | PortKind::Industrial
            | PortKind::Management
            | PortKind::Login
            | PortKind::Mapping
            | PortKind::Printing
            | PortKind::Monitoring
    )
}
