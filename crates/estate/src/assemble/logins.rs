//! Logins of a device: which lines of its lists let somebody in.

use crate::assemble::Estate;
use std::sync::Arc;
use trevlin_model::{AllowedAddresses, Credential, Login, LoginDaemon, LoginList, SecretsFile, Setting};

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
        // Some other server of the device may consult the list; which, no export tells.
        for file in [SecretsFile::Chap, SecretsFile::Pap] {
            let usable = usable(facts.credentials.iter().filter(|one| one.file == file), None);
            let for_daemon = |one| Login { daemon: Some(LoginDaemon::Ppp), ..login(one, "pppd", false) };
            found.extend(usable.into_iter().map(for_daemon));
        }
    }
    // One person in two lists, or a list exported twice, is one login as long as the password is the same.
    let mut kept: Vec<Login> = Vec::new();
    for login in found {
        let same = |held: &Login| {
            held.user == login.user
                && held.service == login.service
                && match (&held.secret, &login.secret) {
                    (Some(a), Some(b)) => a.secret.same_as(&b.secret),
                    (None, None) => true,
                    _ => false,
                }
        };
        if !kept.iter().any(same) {
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
        origin: one.origin,
    }
}

/// The lines that pppd would take: of several for one client the most exact, and of those the first (pppd(8),
/// AUTHENTICATION); a client that may use no address cannot come in.
fn usable<'a>(all: impl Iterator<Item = &'a Credential>, name: Option<&str>) -> Vec<&'a Credential> {
    let mut best: Vec<&Credential> = Vec::new();
    for one in all {
        let wild = one.server == "*";
        if !wild && name.is_some_and(|name| name != one.server) {
            continue;
        }
        // Without the local name two servers' lines cannot be told apart, so each is kept.
        let rival = best
            .iter_mut()
            .find(|held| held.client == one.client && (name.is_some() || held.server == one.server));
        match rival {
            Some(held) if held.server == "*" && !wild => *held = one,
            Some(_) => {}
            None => best.push(one),
        }
    }
    best.retain(|one| one.addresses != AllowedAddresses::None);
    best
}
