//! Logins of a device: the lines of its lists that permit a login.

use crate::assemble::Estate;
use indexmap::IndexMap;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use trevlin_model::ipsec::{AuthRound, IpsecConnection};
use trevlin_model::secret::SecretKind;
use trevlin_model::{
    AllowedAddresses, Credential, Facts, Login, LoginDaemon, LoginList, Origin, SecretsFile, Setting,
};

/// Takes the EAP and XAuth passwords of a device that only logs in elsewhere for what they are: passwords that it stores, and no list of
/// its users. Where no connection was exported, the list may be either.
pub(super) fn settle_ike(facts: &mut Facts) {
    let rounds = |side: fn(&IpsecConnection) -> &[AuthRound]| {
        let connections = facts.tunnels.iter().filter_map(|tunnel| tunnel.ipsec.as_deref());
        connections.flat_map(side).any(AuthRound::is_login)
    };
    if !rounds(|one| &one.local) || rounds(|one| &one.remote) {
        return;
    }
    let ike = |login: &Login| login.daemon == Some(LoginDaemon::Ike);
    let places: BTreeSet<Origin> = facts
        .logins
        .iter()
        .filter(|login| ike(login))
        .filter_map(|login| Some(login.secret.as_ref()?.origin))
        .collect();
    facts.logins.retain(|login| !ike(login));
    for held in &mut facts.secrets {
        if held.kind == SecretKind::LoginPassword && places.contains(&held.origin) {
            *held = Arc::new(held.with_kind(SecretKind::OwnPassword));
        }
    }
}

/// Logins of web servers' password lists, each for the site that names its list; where none does, the exports do not show which server uses it.
pub(super) fn of_pages(estate: &Estate, device: usize, mut logins: Vec<Login>) -> Vec<Login> {
    let is_web = |login: &Login| login.daemon == Some(LoginDaemon::Web);
    if !logins.iter().any(is_web) {
        return logins;
    }
    let mut named: BTreeMap<&str, (&str, BTreeSet<&str>)> = BTreeMap::new();
    let sites = estate.devices[device].facts.served.iter();
    for (site, part) in sites.flat_map(|one| one.parts.iter().map(move |part| (one, part))) {
        let Some((path, origin)) = &part.accounts else { continue };
        let Some(file) = estate.find(device, path, origin.export) else { continue };
        named.entry(file.path).or_insert_with(|| (&site.name, BTreeSet::new())).1.insert(&site.name);
    }
    for login in logins.iter_mut().filter(|login| is_web(login)) {
        let LoginList::LocalFile(path) = &login.list;
        match named.get(path.as_str()) {
            Some((site, all)) if all.len() > 1 => {
                login.service = format!("{site} and {} more", all.len() - 1);
            }
            Some((site, _)) => login.service = (*site).to_owned(),
            None => login.certain = false,
        }
    }
    logins
}

/// Logins from pppd's secrets files, for each tunnel that would consult them.
pub(super) fn of(estate: &Estate, device: usize) -> Vec<Login> {
    let facts = &estate.devices[device].facts;
    let mut found = Vec::new();
    let mut served = false;
    for (at, tunnel) in
        facts.tunnels.iter().enumerate().filter(|(at, _)| estate.dial_in(device, *at).is_some())
    {
        served = true;
        let Some(dial_in) = estate.dial_in(device, at) else { continue };
        let asks_nobody = matches!(dial_in.profile.auth, Some((false, _)));
        if tunnel.refused.is_some() || asks_nobody {
            continue;
        }
        let name = dial_in.profile.name.as_ref().map(|(name, _)| name.as_str());
        let replaced = dial_in
            .elsewhere
            .iter()
            .any(|(source, _)| !matches!(source, trevlin_model::PasswordSource::Pam(_)));
        for (file, methods) in
            [(SecretsFile::Chap, &["chap", "mschap", "mschap-v2", "eap"][..]), (SecretsFile::Pap, &["pap"])]
        {
            if replaced || !dial_in.may_ask(methods) {
                continue;
            }
            let asked = !dial_in.profile.require.is_empty();
            let usable = usable(facts.credentials.iter().filter(|one| one.file == file), name);
            found.extend(usable.into_iter().map(|one| login(one, &tunnel.name, name.is_some() && asked)));
        }
    }
    if !served {
        // Another server of the device may use the list; no export shows which.
        for file in [SecretsFile::Chap, SecretsFile::Pap] {
            let usable = usable(facts.credentials.iter().filter(|one| one.file == file), None);
            let for_daemon = |one| Login { daemon: Some(LoginDaemon::Ppp), ..login(one, "pppd", false) };
            found.extend(usable.into_iter().map(for_daemon));
        }
    }
    // One person in two lists, or a list exported twice, is one login as long as the password is the same.
    let mut kept: Vec<Login> = Vec::new();
    let mut known: BTreeMap<(String, String), Vec<usize>> = BTreeMap::new();
    for login in found {
        let of_person = known.entry((login.user.clone(), login.service.clone())).or_default();
        let same = |held: &Login| match (&held.secret, &login.secret) {
            (Some(a), Some(b)) => a.secret.same_as(&b.secret),
            (None, None) => true,
            _ => false,
        };
        if !of_person.iter().any(|at| same(&kept[*at])) {
            of_person.push(kept.len());
            kept.push(login);
        }
    }
    kept
}

fn login(one: &Credential, service: &str, certain: bool) -> Login {
    let secret = match &one.secret {
        Setting::Stated { value, .. } => value.as_ref().map(Arc::clone),
        _ => None,
    };
    Login {
        user: one.client.clone(),
        list: LoginList::LocalFile(one.path.clone()),
        daemon: None,
        service: service.to_owned(),
        secret,
        certain,
        expires: None,
        origin: one.origin,
    }
}

/// The lines that pppd would use: of several for one client the most specific, and of those the first (pppd(8), AUTHENTICATION); a client
/// without a permitted address cannot log in.
fn usable<'a>(all: impl Iterator<Item = &'a Credential>, name: Option<&str>) -> Vec<&'a Credential> {
    let mut best: IndexMap<(&str, &str), &Credential> = IndexMap::new();
    for one in all {
        let wild = one.server == "*";
        if !wild && name.is_some_and(|name| name != one.server) {
            continue;
        }
        // Without the local name the lines of two servers cannot be distinguished, so each is kept.
        let server = if name.is_some() { "" } else { one.server.as_str() };
        let held = best.entry((&one.client, server)).or_insert(one);
        if held.server == "*" && !wild {
            *held = one;
        }
    }
    best.into_values().filter(|one| one.addresses != AllowedAddresses::None).collect()
}
