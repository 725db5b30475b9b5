//! Pages and command lines that administer a device, beside SSH.

use crate::context::Analyses;
use crate::logins::row::verdict;
use crate::logins::{LoginPath, ServiceKind, from, named_users};
use crate::services::switched_off;
use crate::verdicts::{LoginFactor, LoginVerdict, required_factors};
use std::collections::BTreeSet;
use trevlin_model::served::{AuthRequirement, Remark, Served, ServedKind, ServiceResource};
use trevlin_model::{Device, Login, LoginDaemon, LoginList};

/// The row of a service, where it administers the device and other hosts may reach it.
pub(super) fn row(estate: &Analyses, at: usize, served: &Served) -> Option<LoginPath> {
    let device = &estate.devices[at];
    let administers = |part: &&ServiceResource| part.remark(Remark::Administration).is_some();
    let parts: Vec<&ServiceResource> = served.parts.iter().filter(administers).collect();
    let telnet = served.kind == ServedKind::Telnet;
    if parts.is_empty() && !telnet || served.refused.is_some() || switched_off(device, served).is_some() {
        return None;
    }
    let place = served.endpoints.iter().find(|one| !one.is_local())?;
    let parts = if parts.is_empty() { served.parts.iter().collect() } else { parts };
    let asked: Option<Vec<AuthRequirement>> = parts.iter().map(|part| part.login.value().copied()).collect();
    let least = asked.as_ref().and_then(|all| all.iter().min().copied());
    let (factors, verdict) = match least.map(required_factors) {
        // A part that accepts no client is no login.
        Some(None) => return None,
        Some(Some(factors)) => {
            // An address is no factor of a person.
            let own = verdict(factors.iter().filter(|one| !matches!(one, LoginFactor::Address)).count());
            (factors, own)
        }
        None => (Vec::new(), LoginVerdict::Undetermined),
    };
    // A list of the device's own is for its program, or for its administration as a whole.
    let of_another = |one: &Login| device.facts.served.iter().any(|other| other.name == one.service);
    let whole = |one: &Login| !telnet && one.daemon == Some(LoginDaemon::Administration) && !of_another(one);
    let of_it = |one: &&Login| {
        one.service == served.name || one.service.eq_ignore_ascii_case(served.program.as_ref()) || whole(one)
    };
    let logins: Vec<&Login> = device.logins.iter().filter(of_it).collect();
    let limits = if estate.is_appliance(at) { vec!["not known".to_owned()] } else { Vec::new() };
    let origin = parts.first().map_or(served.origin, |part| part.origin);
    Some(LoginPath {
        device: device.name.clone(),
        kind: ServiceKind::Management,
        service: served.name.clone(),
        who: who(&parts, &logins, least),
        administrators: Vec::new(),
        list: list(device, &parts, &logins, least),
        factors,
        from: from(estate, at, place.protocol, Some(place.port)),
        sources: sources(&parts),
        limits,
        verdict,
        evidence: trevlin_estate::evidence::evidence(estate, &[origin]),
    })
}

fn who(parts: &[&ServiceResource], logins: &[&Login], least: Option<AuthRequirement>) -> String {
    let named: BTreeSet<&str> = parts.iter().flat_map(|part| &part.users).map(String::as_str).collect();
    let listed: BTreeSet<&str> = logins.iter().map(|login| login.user.as_str()).collect();
    match (named.is_empty(), listed.is_empty(), least) {
        (.., Some(AuthRequirement::Nothing)) => "any user".into(),
        (false, ..) => named_users(named.into_iter()),
        (_, false, _) => named_users(listed.into_iter()),
        _ => "not known".into(),
    }
}

fn list(
    device: &Device,
    parts: &[&ServiceResource],
    logins: &[&Login],
    least: Option<AuthRequirement>,
) -> String {
    let LoginList::LocalFile(path) = match logins.first() {
        Some(login) => &login.list,
        None => {
            let accounts = parts.iter().find_map(|part| part.accounts.as_ref());
            return match (accounts, least) {
                (Some((path, _)), _) => format!("local list {path}"),
                (None, Some(AuthRequirement::Nothing | AuthRequirement::Address)) => "none".into(),
                (None, Some(AuthRequirement::Certificate)) => "certificates".into(),
                (None, _) if !device.facts.accounts.is_empty() => "accounts".into(),
                _ => "not known".into(),
            };
        }
    };
    format!("local list {path}")
}

/// Addresses that the service is limited to.
fn sources(parts: &[&ServiceResource]) -> Vec<String> {
    if parts.is_empty() || parts.iter().any(|part| part.sources.is_everybody()) {
        return Vec::new();
    }
    let all: BTreeSet<String> = parts.iter().flat_map(|part| part.sources.each()).collect();
    all.into_iter().collect()
}
