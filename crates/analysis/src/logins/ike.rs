//! Keys and logins for IKE where the connections that use them are not among the exports: a password then has no verdict, and a pre-shared
//! key is the only factor wherever it is used.

use crate::context::Analyses;
use crate::logins::{LoginPath, ServiceKind, from, named_users};
use crate::verdicts::{LoginFactor, LoginVerdict};
use std::collections::BTreeMap;
use trevlin_estate::identities;
use trevlin_model::{FactorKind, Login, LoginDaemon, LoginList, PasswordSource, Protocol};

/// The port of IKE (RFC 7296, 2).
const PORT: u16 = 500;

pub(super) fn rows(estate: &Analyses, at: usize) -> Vec<LoginPath> {
    let device = &estate.devices[at];
    let mut found = Vec::new();
    let row = |who: String, list: &str, factors: Vec<LoginFactor>, verdict, evidence| LoginPath {
        device: device.name.clone(),
        kind: ServiceKind::Tunnel,
        service: "IKE".into(),
        who,
        administrators: Vec::new(),
        list: list.into(),
        factors,
        from: from(estate, at, Protocol::UDP, Some(PORT)),
        sources: Vec::new(),
        limits: Vec::new(),
        verdict,
        evidence,
    };
    // Where connections are among the exports, their own rows state their requirements.
    let connections = || device.facts.tunnels.iter().filter(|one| one.ipsec.is_some());
    let asks = |one: &trevlin_model::Tunnel| {
        one.proof.passwords.iter().any(|check| check.source == PasswordSource::OwnSecrets)
    };
    let asked = connections().any(asks);
    let keys = if connections().next().is_some() { &[] } else { device.facts.pre_shared_keys.as_slice() };
    for key in keys {
        let evidence = trevlin_estate::evidence::evidence(estate, &[key.origin]);
        found.push(row(
            key.whom(),
            "pre-shared keys",
            vec![LoginFactor::SharedKey],
            LoginVerdict::OneFactor,
            evidence,
        ));
    }
    let mut lists: BTreeMap<(&str, &str), Vec<&Login>> = BTreeMap::new();
    let ours = |login: &&Login| !asked && login.daemon == Some(LoginDaemon::Ike);
    for login in device.facts.logins.iter().filter(ours) {
        let LoginList::LocalFile(path) = &login.list;
        lists.entry((path, &login.service)).or_default().push(login);
    }
    for logins in lists.into_values() {
        let evidence = trevlin_estate::evidence::evidence(estate, &[logins[0].origin]);
        let who = named_users(logins.iter().map(|login| login.user.as_str()));
        let mut row = row(
            who,
            "local list",
            vec![LoginFactor::Kind(FactorKind::Knowledge)],
            LoginVerdict::Undetermined,
            evidence,
        );
        row.service.clone_from(&logins[0].service);
        let administrators = identities::People::of(device).administrators();
        let users = logins.iter().map(|login| login.user.clone());
        row.administrators = users.filter(|user| administrators.contains_key(user)).collect();
        found.push(row);
    }
    found
}
