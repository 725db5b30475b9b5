//! Certificates of an estate: the tunnels that name them, and their titles.

use jiff::civil::Date;
use trevlin_estate::assemble::Estate;
use trevlin_model::certificate::{Certificate, CertificateFile, CertificateUse};
use trevlin_model::ipsec::{AuthRound, IkeDaemon, IkeProof};
use trevlin_model::{Origin, Tunnel};

/// The day of a moment in seconds since 1970, in UTC.
#[must_use]
pub fn day(seconds: i64) -> Date {
    let moment = jiff::Timestamp::from_second(seconds);
    moment.map_or(Date::MAX, |moment| moment.to_zoned(jiff::tz::TimeZone::UTC).date())
}

/// Certificates that the estate's organisation manages; those of public authorities are left out.
pub fn own(estate: &Estate, device: usize) -> impl Iterator<Item = &Certificate> {
    let all = &estate.devices[device].facts.certificates;
    all.iter().filter(|one| !one.in_trust_store)
}

/// The certificates that a tunnel names for a purpose, each with the directive that does; of an IPsec connection that names no authority, those of
/// the daemon's folder.
///
/// # Errors
/// The path and the directive of the first file that is not among the exports.
pub fn of_tunnel<'a>(
    estate: &'a Estate,
    device: usize,
    tunnel: &'a Tunnel,
    purpose: CertificateUse,
) -> Result<Vec<(&'a Certificate, Origin)>, (&'a str, Origin)> {
    let all = &estate.devices[device].facts.certificates;
    let mut found = of_files(estate, device, tunnel.certificates_for(purpose))?;
    if purpose == CertificateUse::Authority && trusts_a_folder(tunnel) {
        let kept = |one: &&Certificate| {
            let path = format!("/{}", estate.export(one.origin.export).path());
            AUTHORITY_FOLDERS.iter().any(|folder| path.contains(folder))
        };
        found.extend(all.iter().filter(kept).map(|one| (one, one.origin)));
    }
    Ok(found)
}

/// The certificates in files that a configuration names, each with the directive that does.
///
/// # Errors
/// The path and the directive of the first file that is not among the exports.
pub fn of_files<'a>(
    estate: &'a Estate,
    device: usize,
    files: impl Iterator<Item = &'a CertificateFile>,
) -> Result<Vec<(&'a Certificate, Origin)>, (&'a str, Origin)> {
    let all = &estate.devices[device].facts.certificates;
    let mut found = Vec::new();
    for file in files {
        let held: Vec<&Certificate> = match &file.path {
            None => all.iter().filter(|one| inside(one.origin, file.origin)).collect(),
            Some(path) => {
                let export = estate.find(device, path, file.origin.export);
                let export = export.ok_or((path.as_str(), file.origin))?;
                all.iter().filter(|one| estate.stands_in(device, one.origin, export)).collect()
            }
        };
        found.extend(held.into_iter().map(|one| (one, file.origin)));
    }
    Ok(found)
}

/// Folders whose authorities charon trusts for every connection (swanctl.conf(5), cacerts; ipsec.conf(5), rightca).
const AUTHORITY_FOLDERS: [&str; 2] = ["/swanctl/x509ca/", "/ipsec.d/cacerts/"];

/// Whether an IPsec connection names neither an authority nor a certificate for the other end, so that every authority in the daemon's folder counts.
#[must_use]
pub fn trusts_a_folder(tunnel: &Tunnel) -> bool {
    let by_certificate = |round: &&AuthRound| {
        let by = |proof: &IkeProof| *proof == IkeProof::PublicKey || *proof == IkeProof::Eap("tls".into());
        round.proof.possible().any(by)
    };
    tunnel.ipsec.as_deref().is_some_and(|ipsec| {
        let mut rounds = ipsec.remote.iter().filter(by_certificate).peekable();
        ipsec.daemon == IkeDaemon::StrongSwan
            && rounds.peek().is_some()
            && rounds.all(|round| round.narrowed.is_none())
    })
}

fn inside(one: Origin, whole: Origin) -> bool {
    one.export == whole.export && one.start >= whole.start && one.end <= whole.end
}
