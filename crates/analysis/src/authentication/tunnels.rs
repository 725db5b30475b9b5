//! Authentication that a tunnel requires of its clients: one result for the table of logins and for the checks.

use crate::authentication::factors::{Factors, Undecided};
use crate::authentication::sources::of_source;
use std::collections::BTreeSet;
use trevlin_estate::assemble::{DialIn, Estate};
use trevlin_model::ipsec::{AuthRound, IkeProof};
use trevlin_model::{
    AlternativeLogin, Device, FactorKind, Login, LoginList, Origin, PasswordCheck, PasswordSource, Reference,
    Setting, Tunnel, TunnelFamily,
};

/// Authentication that a PPP tunnel requires, with the deciding line.
pub enum PppAuthentication<'a> {
    /// A file that may state it was not exported.
    NotExported(&'a Reference),
    /// Nothing, for this reason.
    Nobody(&'static str, Origin),
    /// Another service decides.
    Elsewhere(&'a PasswordSource, Origin),
    /// EAP, which may use a password or a certificate.
    Eap(Origin),
    /// A password from a list that permits no login here, or was not exported.
    NoList(Origin),
    /// A password from a local list.
    List(Vec<&'a Login>, Origin),
}

/// Authentication that pppd requires of the clients of a PPP tunnel.
pub fn server_names<'a>(
    device: &'a Device,
    tunnel: &'a Tunnel,
    dial_in: &'a DialIn,
) -> PppAuthentication<'a> {
    let profile = &dial_in.profile;
    let auth = match (profile.auth, tunnel.missing_configuration()) {
        (Some((true, origin)), _) => origin,
        (Some((false, origin)), _) => {
            return PppAuthentication::Nobody("`noauth` accepts any client", origin);
        }
        (None, Some(missing)) => return of_sheet(device, tunnel, missing),
        // pppd requires no authentication then, as the tunnel server starts it as root (pppd(8), auth).
        (None, None) => {
            return PppAuthentication::Nobody("no option requires authentication", profile.origin);
        }
    };
    // PAM has a say where the password itself arrives, which only PAP does.
    let decides =
        |source: &PasswordSource| !matches!(source, PasswordSource::Pam(_)) || dial_in.may_ask(&["pap"]);
    if let Some((source, origin)) = dial_in.elsewhere.iter().find(|(source, _)| decides(source)) {
        return PppAuthentication::Elsewhere(source, *origin);
    }
    // The description of an appliance states it beside the link settings.
    if let Some(check) = elsewhere(tunnel) {
        return PppAuthentication::Elsewhere(&check.source, check.origin);
    }
    if !profile.require.is_empty() && profile.require.iter().all(|(method, _)| *method == "eap") {
        return PppAuthentication::Eap(auth);
    }
    let logins: Vec<&Login> = device.logins.iter().filter(|login| login.service == tunnel.name).collect();
    if logins.is_empty() {
        return PppAuthentication::NoList(auth);
    }
    PppAuthentication::List(logins, profile.require.last().map_or(auth, |(_, origin)| *origin))
}

/// A verifier of passwords that is not a list of the device.
fn elsewhere(tunnel: &Tunnel) -> Option<&PasswordCheck> {
    tunnel.proof.passwords.iter().find(|check| !matches!(check.source, PasswordSource::LocalList(_)))
}

/// The same where no options state it, by the users and the verifier of the tunnel that a sheet states.
fn of_sheet<'a>(device: &'a Device, tunnel: &'a Tunnel, missing: &'a Reference) -> PppAuthentication<'a> {
    if missing.unsaid.is_none() {
        return PppAuthentication::NotExported(missing);
    }
    if let Some(check) = elsewhere(tunnel) {
        return PppAuthentication::Elsewhere(&check.source, check.origin);
    }
    let logins = logins_of(device, tunnel);
    let origin = tunnel.proof.passwords.first().map(|check| check.origin);
    match (logins.first().map(|login| login.origin), origin) {
        (Some(at), stated) => PppAuthentication::List(logins, stated.unwrap_or(at)),
        (None, Some(stated)) => PppAuthentication::NoList(stated),
        (None, None) => PppAuthentication::NotExported(missing),
    }
}

/// Logins of a tunnel: those that name it, and those of a list that it names, unless they are for another tunnel or service.
#[must_use]
pub fn logins_of<'a>(device: &'a Device, tunnel: &Tunnel) -> Vec<&'a Login> {
    let lists: Vec<&str> = tunnel.proof.passwords.iter().filter_map(|check| check.source.list()).collect();
    let of_another = |login: &Login| {
        let others = device.facts.tunnels.iter().filter(|other| other.name != tunnel.name);
        !login.is_remote_access() || others.into_iter().any(|other| other.name == login.service)
    };
    let of_it = |login: &&Login| {
        let LoginList::LocalFile(list) = &login.list;
        login.service == tunnel.name || lists.contains(&list.as_str()) && !of_another(login)
    };
    device.logins.iter().filter(of_it).collect()
}

/// Authentication on the weakest login path of a tunnel without pppd: a certificate, and the verifier of the password.
#[must_use]
pub fn of_tls_based(estate: &Estate, at: usize, tunnel: &Tunnel) -> Option<BTreeSet<FactorKind>> {
    if tunnel.missing_file().is_some() {
        return None;
    }
    // A stored key per client is WireGuard's only factor (wg(8)).
    if tunnel.family == TunnelFamily::WireGuard {
        return Some(BTreeSet::from([FactorKind::Possession]));
    }
    let weakest = login_paths(estate, at, tunnel)
        .into_iter()
        .map(|(factors, _)| factors)
        .min_by_key(Factors::weakness)?;
    weakest.decided().cloned()
}

/// Every login path of a tunnel that requires certificates, passwords or shared keys, with the line that enables it: the main one, and each
/// alternative.
pub fn login_paths(estate: &Estate, at: usize, tunnel: &Tunnel) -> Vec<(Factors, Origin)> {
    let stated = tunnel.proof.certificate.as_ref().and_then(Setting::origin);
    let main = AlternativeLogin {
        certificate: tunnel.requires_certificate(),
        passwords: tunnel.proof.passwords.clone(),
        origin: stated.unwrap_or(tunnel.origin),
    };
    [&main]
        .into_iter()
        .chain(&tunnel.proof.alternatives)
        .map(|way| (of_way(estate, at, tunnel, way), way.origin))
        .collect()
}

fn of_way(estate: &Estate, at: usize, tunnel: &Tunnel, way: &AlternativeLogin) -> Factors {
    let mut kinds: BTreeSet<FactorKind> = BTreeSet::new();
    if way.certificate {
        kinds.insert(FactorKind::Certificate);
        kinds.extend(tunnel.code_required().map(|_| FactorKind::OneTimeCode));
    }
    let Some(check) = way.passwords.iter().find(|check| !check.optional) else {
        // A key shared by all clients counts as knowledge.
        if let Some(origin) = tunnel.proof.shared_key.filter(|_| kinds.is_empty()) {
            return Factors::known(BTreeSet::from([FactorKind::Knowledge]), vec![origin]);
        }
        if asks_nothing(tunnel) {
            return Factors::known(kinds, vec![way.origin]);
        }
        return if kinds.is_empty() {
            Factors::undecided(Undecided {
                ask: format!("Please provide the authentication settings of {}", tunnel.name),
                evidence: vec![way.origin],
                file: None,
            })
        } else {
            Factors::known(kinds, vec![way.origin])
        };
    };
    let mut found = of_source(estate, at, tunnel, &check.source, check.origin);
    // A password is required besides the certificate, whoever verifies it.
    if found.undecided.is_some() && !kinds.is_empty() {
        found = Factors::known(BTreeSet::from([FactorKind::Knowledge]), vec![check.origin]);
    }
    found.kinds.extend(kinds);
    found
}

/// Whether an IPsec connection states that no authentication is required (RFC 7619).
fn asks_nothing(tunnel: &Tunnel) -> bool {
    let nothing = |round: &AuthRound| round.proof.value() == Some(&IkeProof::Nothing);
    tunnel.ipsec.as_ref().is_some_and(|one| !one.remote.is_empty() && one.remote.iter().all(nothing))
}

/// Lists of logins that tunnels of a device name and that are not among the exports: tunnel, path, and the line.
pub fn lists_not_exported(estate: &Estate, at: usize) -> Vec<(&str, &str, Origin)> {
    let mut found = Vec::new();
    for tunnel in estate.devices[at].facts.tunnels.iter().filter(|tunnel| tunnel.accepts_clients()) {
        let others = tunnel.proof.alternatives.iter().flat_map(|way| &way.passwords);
        for check in tunnel.proof.passwords.iter().chain(others) {
            if let Some(path) = check.source.list()
                && estate.find(at, path, check.origin.export).is_none()
                && logins_of(&estate.devices[at], tunnel).is_empty()
            {
                found.push((tunnel.name.as_str(), path, check.origin));
            }
        }
    }
    found
}
