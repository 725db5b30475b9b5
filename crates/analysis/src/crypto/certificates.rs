//! Certificates of an estate: the tunnels that name them, and their titles.

use jiff::civil::Date;
use trevlin_estate::assemble::Estate;
use trevlin_model::certificate::{Certificate, CertificateUse};
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

/// The certificates that a tunnel names for a purpose, each with the directive that does.
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
    let mut found = Vec::new();
    for file in tunnel.certificates.iter().filter(|file| file.purpose == purpose) {
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

fn inside(one: Origin, whole: Origin) -> bool {
    one.export == whole.export && one.start >= whole.start && one.end <= whole.end
}
