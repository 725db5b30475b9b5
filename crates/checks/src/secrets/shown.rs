//! Servers that show a certificate: tunnels that accept clients, and services by TLS.

use crate::check::{Answer, Verdict};
use crate::subject::Subject;
use trevlin_analysis::crypto::certificates::{of_files, of_tunnel};
use trevlin_analysis::map::EstateMap;
use trevlin_analysis::services::is_met;
use trevlin_model::certificate::{Certificate, CertificateFile, CertificateUse};
use trevlin_model::served::Served;
use trevlin_model::{Device, Origin, Tunnel, TunnelRole};

/// A server with a certificate of its own.
#[derive(Debug, Clone, Copy)]
pub(super) enum Bearer<'a> {
    /// A tunnel.
    Tunnel(&'a Tunnel),
    /// A service.
    Service(&'a Served),
}

/// The servers of a device that show a certificate to other hosts.
pub(super) fn bearers(device: &Device) -> Vec<Bearer<'_>> {
    let accepts = |tunnel: &&Tunnel| tunnel.role == TunnelRole::Server && tunnel.accepts_clients();
    let tunnels = device.facts.tunnels.iter().filter(accepts).map(Bearer::Tunnel);
    let shows = |served: &&Served| !served.certificates.is_empty() && is_met(device, served);
    tunnels.chain(device.facts.served.iter().filter(shows).map(Bearer::Service)).collect()
}

/// Judges each of these servers of an estate; one without an answer is none of the check's subjects.
pub(super) fn each_bearer(
    estate: &EstateMap,
    judge: impl Fn(&EstateMap, usize, &Bearer<'_>) -> Option<Verdict>,
) -> Vec<Answer> {
    let mut answers = Vec::new();
    for (at, device) in estate.devices.iter().enumerate() {
        for bearer in bearers(device) {
            answers
                .extend(judge(estate, at, &bearer).map(|verdict| Answer::new(at, bearer.subject(), verdict)));
        }
    }
    answers
}

impl<'a> Bearer<'a> {
    /// Its name.
    pub(super) fn name(&self) -> &'a str {
        match self {
            Self::Tunnel(tunnel) => &tunnel.name,
            Self::Service(served) => &served.name,
        }
    }

    /// It as the subject of an answer.
    pub(super) fn subject(&self) -> Subject {
        match self {
            Self::Tunnel(tunnel) => Subject::tunnel(tunnel),
            Self::Service(served) => Subject::served(served),
        }
    }

    /// The files that its configuration names.
    pub(super) fn files(&self) -> Vec<&'a CertificateFile> {
        match self {
            Self::Tunnel(tunnel) => tunnel.certificates_for(CertificateUse::Own).collect(),
            Self::Service(served) => served.certificates.iter().collect(),
        }
    }

    /// Its own certificate, the first of a chain, with the directive that names it.
    ///
    /// # Errors
    /// The path and the directive of a file that is not among the exports.
    pub(super) fn first(
        &self,
        estate: &'a EstateMap,
        at: usize,
    ) -> Result<Option<(&'a Certificate, Origin)>, (&'a str, Origin)> {
        let shown = match self {
            Self::Tunnel(tunnel) => of_tunnel(estate, at, tunnel, CertificateUse::Own)?,
            Self::Service(served) => of_files(estate, at, served.certificates.iter())?,
        };
        Ok(shown.first().copied())
    }
}
