//! Tunnels that accept clients.

use crate::authentication::{PppAuthentication, logins_of, of_source, of_tls_based, server_names};
use crate::context::Analyses;
use crate::l2tp;
use crate::logins::{LoginPath, ServiceKind, judged, listener_from, named_users};
use crate::verdicts::{LoginFactor, LoginVerdict};
use std::collections::BTreeSet;
use trevlin_estate::assemble::DialIn;
use trevlin_estate::identities;
use trevlin_model::grant::Grantee;
use trevlin_model::policy::{ClientPolicy, Most, Seconds};
use trevlin_model::radius::RadiusAsker;
use trevlin_model::{
    Device, FactorKind, LoginDaemon, PasswordSource, Reference, Setting, Tunnel, TunnelFamily, TunnelRole,
};

/// Permitted users of a tunnel, and the required authentication.
pub(super) struct Proof {
    who: String,
    list: String,
    /// Factors of the weakest login path.
    pub(super) factors: Vec<LoginFactor>,
    /// As the table has it.
    pub(super) verdict: LoginVerdict,
}

/// Users and authentication of a tunnel that accepts clients.
pub(super) fn proof(estate: &Analyses, at: usize, number: usize) -> Option<Proof> {
    let device = &estate.devices[at];
    let tunnel = &device.facts.tunnels[number];
    // A connection that only carries L2TP is no login path of its own.
    if tunnel.role != TunnelRole::Server || l2tp::carries_l2tp(tunnel) {
        return None;
    }
    let (who, list, mut factors) = match tunnel.family {
        TunnelFamily::Pptp | TunnelFamily::L2tp => dial_in(estate, at, number),
        TunnelFamily::OpenVpn
        | TunnelFamily::Tls
        | TunnelFamily::OpenConnect
        | TunnelFamily::Ipsec
        | TunnelFamily::WireGuard => proven(estate, at, tunnel),
        // Connections that only forward or encapsulate packets require no login.
        _ => return None,
    };
    // An IPsec certificate around it is a factor of its own, where clients without one are rejected.
    if tunnel.family == TunnelFamily::L2tp
        && l2tp::certificate_around(estate, at, tunnel).is_some()
        && l2tp::access(estate, at, tunnel) == l2tp::UnprotectedAccess::Protected
        && let Some(kinds) = &mut factors
    {
        kinds.insert(FactorKind::Certificate);
    }
    let who = permitted(device, &tunnel.name).unwrap_or(who);
    let (mut factors, verdict) = judged(factors.as_ref());
    if tunnel.proof.shared_key.is_some()
        && tunnel.proof.passwords.is_empty()
        && tunnel.family == TunnelFamily::Ipsec
    {
        factors = vec![LoginFactor::SharedKey];
    }
    Some(Proof { who, list, factors, verdict })
}

/// The row of a tunnel that accepts clients.
pub(super) fn row(estate: &Analyses, at: usize, number: usize) -> Option<LoginPath> {
    let device = &estate.devices[at];
    let tunnel = &device.facts.tunnels[number];
    let Proof { who, list, factors, verdict } = proof(estate, at, number)?;
    let from =
        tunnel.listeners.first().map_or_else(String::new, |listener| listener_from(estate, at, listener));
    let administrators = identities::People::of(device).administrators();
    let logins = device.logins.iter().filter(|login| login.service == tunnel.name);
    let administrators: BTreeSet<String> = logins
        .filter(|login| administrators.contains_key(&login.user))
        .map(|login| login.user.clone())
        .collect();
    Some(LoginPath {
        device: device.name.clone(),
        administrators: administrators.into_iter().collect(),
        sources: Vec::new(),
        kind: ServiceKind::Tunnel,
        service: tunnel.name.clone(),
        who,
        list,
        factors,
        from: if tunnel.refused.is_some() { "does not start".into() } else { from },
        limits: limits(tunnel, estate.dial_in(at, number)),
        verdict: if tunnel.refused.is_some() { LoginVerdict::Undetermined } else { verdict },
        evidence: trevlin_estate::evidence::evidence(estate, &[tunnel.origin]),
    })
}

/// Those whom permissions admit to a service, in words; none where no permission is stated.
pub(super) fn permitted(device: &Device, service: &str) -> Option<String> {
    let all: Vec<&Grantee> = device
        .facts
        .permissions
        .iter()
        .filter(|one| one.service == service && !one.off)
        .map(|one| &one.who)
        .collect();
    if all.contains(&&Grantee::AllUsers) {
        return Some("any user".into());
    }
    let of = |kind: &str, named: &[&str]| match named {
        [] => None,
        [one] => Some(format!("{kind} {one}")),
        _ => Some(format!("{kind}s {}", named.join(", "))),
    };
    let pick =
        |name: fn(&Grantee) -> Option<&str>| all.iter().filter_map(|one| name(one)).collect::<Vec<&str>>();
    let groups = pick(|one| if let Grantee::Group(name) = one { Some(name) } else { None });
    let roles = pick(|one| if let Grantee::Role(name) = one { Some(name) } else { None });
    let users = pick(|one| if let Grantee::User(name) = one { Some(name) } else { None });
    let users = (!users.is_empty()).then(|| named_users(users.into_iter()));
    let words: Vec<String> =
        [of("group", &groups), of("role", &roles), users].into_iter().flatten().collect();
    (!words.is_empty()).then(|| words.join("; "))
}

type Row = (String, String, Option<BTreeSet<FactorKind>>);

fn dial_in(estate: &Analyses, at: usize, number: usize) -> Row {
    let device = &estate.devices[at];
    let Some(dial_in) = estate.dial_in(at, number) else {
        return ("not known".into(), "not known".into(), None);
    };
    let list = || "local list".to_owned();
    match server_names(device, &device.facts.tunnels[number], dial_in) {
        PppAuthentication::NotExported(_) => ("not known".into(), "not exported".into(), None),
        PppAuthentication::Nobody(..) => ("any user".into(), "none".into(), Some(BTreeSet::new())),
        PppAuthentication::Elsewhere(source, origin) => {
            let tunnel = &device.facts.tunnels[number];
            let known = of_source(estate, at, tunnel, source, origin).decided().cloned();
            ("any user".into(), source_words(estate, at, tunnel.family, source), known)
        }
        PppAuthentication::Eap(_) => ("not known".into(), "EAP".into(), None),
        PppAuthentication::NoList(_) => ("not exported".into(), list(), None),
        PppAuthentication::List(logins, _) => {
            let anybody = logins.len() > 1 && logins.iter().any(|login| login.user == "*");
            let users = logins.iter().map(|login| login.user.as_str());
            let who = if anybody { "any user".into() } else { named_users(users) };
            let code = device.facts.tunnels[number].code_required().map(|_| FactorKind::OneTimeCode);
            (who, list(), Some([FactorKind::Knowledge].into_iter().chain(code).collect()))
        }
    }
}

fn source_words(estate: &Analyses, at: usize, family: TunnelFamily, source: &PasswordSource) -> String {
    match source {
        PasswordSource::LocalList(path) | PasswordSource::LocalListAndCode(path) => {
            format!("local list {}", path.rsplit('/').next().unwrap_or(path))
        }
        PasswordSource::OwnSecrets => "secrets for IKE".into(),
        PasswordSource::Pam(service) => format!("PAM {service}"),
        PasswordSource::Radius => radius_words(estate, at, family),
        PasswordSource::Directory => "directory".into(),
        PasswordSource::IdentityProvider => "identity provider".into(),
        PasswordSource::Script => "script".into(),
        PasswordSource::PlugIn(name) => format!("plug-in {name}"),
        PasswordSource::Management => "management".into(),
    }
}

/// Which RADIUS server decides: a device of the estate by name, another by its address.
fn radius_words(estate: &Analyses, at: usize, family: TunnelFamily) -> String {
    let asker = RadiusAsker::of_tunnel(family);
    let targets = &estate.devices[at].facts.radius_targets;
    let Some(target) = targets.iter().find(|target| target.asked_by == asker) else { return "RADIUS".into() };
    let holder = target.address.and_then(|address| estate.holders(address).first());
    match holder {
        Some(holder) => format!("RADIUS on {}", estate.devices[*holder].name),
        None => format!("RADIUS {}", target.server),
    }
}

fn proven(estate: &Analyses, at: usize, tunnel: &Tunnel) -> Row {
    let certificate = tunnel.requires_certificate();
    let mut lists: Vec<String> = tunnel
        .proof
        .passwords
        .iter()
        .map(|check| source_words(estate, at, tunnel.family, &check.source))
        .collect();
    if certificate {
        lists.insert(0, "certificates".into());
    }
    if tunnel.proof.shared_key.is_some() {
        lists.insert(0, "pre-shared keys".into());
    }
    if !tunnel.peers.is_empty() {
        lists.push("peer keys".into());
    }
    for way in &tunnel.proof.alternatives {
        let words = way.passwords.iter().map(|check| source_words(estate, at, tunnel.family, &check.source));
        let words: Vec<String> =
            way.certificate.then(|| "certificates".to_owned()).into_iter().chain(words).collect();
        match lists.last_mut() {
            Some(last) => *last = format!("{last}, or {}", words.join(" and ")),
            None => lists.push(words.join(" and ")),
        }
    }
    let factors = of_tls_based(estate, at, tunnel);
    let who = match named(estate, at, tunnel) {
        Some(who) => who,
        None if !tunnel.peers.is_empty() => {
            let clients: Vec<&str> = tunnel
                .peers
                .iter()
                .filter(|peer| peer.endpoint.is_none())
                .map(|peer| peer.who.as_str())
                .collect();
            named_users(clients.into_iter())
        }
        None if tunnel.proof.shared_key.is_some() && tunnel.proof.passwords.is_empty() => {
            by_shared_key(estate, at, tunnel)
        }
        None if certificate => "holders of a certificate".into(),
        None if factors.is_none() && Reference::left_open(&tunnel.missing).is_some() => "not known".into(),
        None => "any user".into(),
    };
    (who, lists.join(" and "), factors)
}

/// Limits that are stated, in words.
fn limits(tunnel: &Tunnel, dial_in: Option<&DialIn>) -> Vec<String> {
    const SHOWN: [(&str, &str); 8] = [
        ("max-clients", "concurrent clients"),
        ("max-same-clients", "concurrent per account"),
        ("inactive", "s idle timeout"),
        ("idle-timeout", "s idle timeout"),
        ("session-timeout", "s session timeout"),
        ("max-ban-score", "points until a ban"),
        ("duplicate-cn", "one account for several clients"),
        ("client-config-dir", "per-client settings"),
    ];
    let mut found: Vec<String> = SHOWN
        .iter()
        .filter_map(|(name, words)| {
            let value = tunnel.setting(name)?.value()?;
            let number =
                value.split(' ').next().filter(|first| first.bytes().all(|byte| byte.is_ascii_digit()));
            match number {
                // A limit of 0 is none.
                Some("0") => None,
                Some(number) if !number.is_empty() => Some(format!("{number} {words}")),
                _ => Some((*words).to_owned()),
            }
        })
        .collect();
    let unsaid = Reference::left_open(&tunnel.missing).is_some();
    found.extend(tunnel.policy.iter().flat_map(|policy| rules(policy)));
    if let Some(dial_in) = dial_in {
        let shown =
            [(dial_in.profile.idle, "s idle timeout"), (dial_in.profile.max_connect, "s session timeout")];
        let above = shown
            .iter()
            .filter_map(|(limit, words)| Some((limit.filter(|(seconds, _)| *seconds > 0)?.0, words)));
        found.extend(above.map(|(seconds, words)| format!("{seconds} {words}")));
    }
    if found.is_empty() && unsaid {
        found.push("not known".to_owned());
    }
    found
}

/// Limits among the rules for clients that a sheet states.
fn rules(policy: &ClientPolicy) -> Vec<String> {
    fn stated<T>(rule: Option<&Setting<T>>) -> Option<&T> {
        rule.and_then(Setting::stated).map(|(value, _)| value)
    }
    let time = |rule: &Option<Setting<Seconds>>, words: &str| {
        stated(rule.as_ref()).filter(|one| one.0 > 0).map(|one| format!("{} s {words}", one.0))
    };
    let most = |rule: &Option<Setting<Most>>, words: &str| {
        stated(rule.as_ref()).filter(|one| one.0 > 0).map(|one| format!("{} {words}", one.0))
    };
    [
        most(&policy.sessions_per_user, "concurrent per account"),
        time(&policy.idle_timeout, "idle timeout"),
        time(&policy.session_timeout, "session timeout"),
        most(&policy.failed_logins, "failed logins until a lock"),
    ]
    .into_iter()
    .flatten()
    .collect()
}

/// The peer of a connection with a pre-shared key: its stated identity, otherwise those of the keys.
fn by_shared_key(estate: &Analyses, at: usize, tunnel: &Tunnel) -> String {
    let rounds = tunnel.ipsec.iter().flat_map(|ipsec| &ipsec.remote);
    let named = rounds.filter(|round| !round.anybody()).find_map(|round| round.identity.as_ref());
    match (named, estate.devices[at].facts.pre_shared_keys.as_slice()) {
        (Some((name, _)), _) => name.clone(),
        (None, [only]) => only.whom(),
        _ => "holders of the key".into(),
    }
}

/// The users of a tunnel's local list, where it was exported.
fn named(estate: &Analyses, at: usize, tunnel: &Tunnel) -> Option<String> {
    let check = tunnel.proof.passwords.first()?;
    if check.source == PasswordSource::OwnSecrets {
        let logins =
            estate.devices[at].facts.logins.iter().filter(|login| login.daemon == Some(LoginDaemon::Ike));
        let users: BTreeSet<&str> = logins.map(|login| login.user.as_str()).collect();
        return (!users.is_empty()).then(|| named_users(users.into_iter()));
    }
    let path = check.source.list()?;
    let Some(file) = estate.find(at, path, check.origin.export) else {
        let logins = logins_of(&estate.devices[at], tunnel);
        let users: BTreeSet<&str> = logins.into_iter().map(|login| login.user.as_str()).collect();
        return (!users.is_empty()).then(|| named_users(users.into_iter()));
    };
    let path = file.path;
    let of_list = |login: &&trevlin_model::Login| {
        let trevlin_model::LoginList::LocalFile(list) = &login.list;
        list == path
    };
    let users: BTreeSet<&str> =
        estate.devices[at].logins.iter().filter(of_list).map(|login| login.user.as_str()).collect();
    (!users.is_empty()).then(|| named_users(users.into_iter()))
}
