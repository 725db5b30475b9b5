//! Factors that the verifier of a password requires.

use crate::authentication::radius::of_radius;
use crate::authentication::{Factors, of_service};
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
    let unknown = |who: &str, wanted: &str| Factors::Unknown {
        ask: format!(
            "{who} decides, so the exports do not show the number of factors; please provide {wanted}"
        ),
        evidence: vec![asked_at],
        file: None,
    };
    match source {
        PasswordSource::Pam(service) => of_service(estate, device, service, asked_at),
        PasswordSource::Radius => of_radius(estate, device, RadiusAsker::of_tunnel(tunnel.family), asked_at),
        PasswordSource::LocalListAndCode(_) => {
            Factors::Known(BTreeSet::from([FactorKind::Knowledge, FactorKind::OneTimeCode]), vec![asked_at])
        }
        PasswordSource::LocalList(_) | PasswordSource::OwnSecrets => {
            Factors::Known(BTreeSet::from([FactorKind::Knowledge]), vec![asked_at])
        }
        PasswordSource::Directory => unknown(
            "a directory",
            "its policy for these users, and whether a second factor is required there",
        ),
        PasswordSource::IdentityProvider => unknown(
            "an identity provider",
            "its policy for these users, and whether a second factor is required there",
        ),
        PasswordSource::Script => unknown("a script", "the script, or a description of what it checks"),
        PasswordSource::PlugIn(_) => unknown("a plug-in", "the settings of the plug-in and what it checks"),
        PasswordSource::Management => {
            unknown("the management program", "what it checks before it grants access")
        }
    }
}
