//! Factors that the verifier of a password requires.

use crate::authentication::factors::{Factors, Undecided};
use crate::authentication::radius::of_radius;
use crate::authentication::service::of_service;
use std::collections::BTreeSet;
use trevlin_estate::assemble::Estate;
use trevlin_model::radius::RadiusAsker;
use trevlin_model::{FactorKind, Origin, PasswordSource, Tunnel};

/// Factors that the verifier of a tunnel's clients requires, followed as far as the exports go.
#[must_use]
pub fn of_source(
    estate: &Estate,
    device: usize,
    tunnel: &Tunnel,
    source: &PasswordSource,
    asked_at: Origin,
) -> Factors {
    with_code(tunnel, alone(estate, device, tunnel, source, asked_at))
}

/// The same with the second factor of every login, where a sheet states whether there is one: that is also the answer where another system
/// verifies the password.
fn with_code(tunnel: &Tunnel, mut found: Factors) -> Factors {
    if let Some(origin) = tunnel.code_required() {
        if found.undecided.take().is_some() {
            found.kinds.insert(FactorKind::Knowledge);
        }
        found.kinds.insert(FactorKind::OneTimeCode);
        found.lines.push(origin);
    } else if let Some(origin) = tunnel.code_not_required()
        && found.undecided.take().is_some()
    {
        found.kinds.insert(FactorKind::Knowledge);
        found.lines.push(origin);
    }
    found
}

fn alone(
    estate: &Estate,
    device: usize,
    tunnel: &Tunnel,
    source: &PasswordSource,
    asked_at: Origin,
) -> Factors {
    let unknown = |wanted: &str| {
        let ask = format!("Please provide {wanted}");
        Factors::undecided(Undecided { ask, evidence: vec![asked_at], file: None })
    };
    match source {
        PasswordSource::Pam(service) => of_service(estate, device, service, asked_at)
            .unwrap_or_else(|| Factors::no_path(service, asked_at)),
        PasswordSource::Radius => of_radius(estate, device, RadiusAsker::of_tunnel(tunnel.family), asked_at),
        PasswordSource::LocalListAndCode(_) => {
            Factors::known(BTreeSet::from([FactorKind::Knowledge, FactorKind::OneTimeCode]), vec![asked_at])
        }
        PasswordSource::LocalList(_) | PasswordSource::OwnSecrets => {
            Factors::known(BTreeSet::from([FactorKind::Knowledge]), vec![asked_at])
        }
        PasswordSource::Directory => {
            unknown("the login policy of the directory for VPN users, including any second factor")
        }
        PasswordSource::IdentityProvider => {
            unknown("the login policy of the identity provider for VPN users, including any second factor")
        }
        PasswordSource::Script => unknown("the authentication script, or a description of its checks"),
        PasswordSource::PlugIn(_) => {
            unknown("the settings of the authentication plug-in, and a description of its checks")
        }
        PasswordSource::Management => unknown("a description of the login checks of the management program"),
    }
}
