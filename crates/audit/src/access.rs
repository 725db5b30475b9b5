//! Every way to log in, as one table: to what, who, from which list, with which factors, from where, within which
//! limits.

use crate::factors::{Dialled, Factors, ShellWay, dialled, easiest_way, of_shell, of_tls_based};
use crate::{Estate, Evidence};
use serde::Serialize;
use std::collections::BTreeSet;
use trevlin_model::ssh::{SshConnection, SshServer};
use trevlin_model::{
    CertificateDemand, FactorKind, Listener, Origin, PasswordSource, Protocol, Setting, Tunnel, TunnelFamily,
    TunnelRole,
};

/// What a login leads to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum ServiceKind {
    /// Into the network.
    Tunnel,
    /// To a command line.
    Shell,
}

/// One row of the table.
#[derive(Debug, Clone, Serialize)]
pub struct Access {
    /// Device.
    pub device: String,
    /// Kind of service.
    pub kind: ServiceKind,
    /// Service.
    pub service: String,
    /// Who may come in.
    pub who: String,
    /// From which list.
    pub list: String,
    /// Factors of the easiest way in; empty where none is asked for or they are not known.
    pub factors: Vec<&'static str>,
    /// From where it can be reached, as far as forwards and interfaces tell.
    pub from: String,
    /// Limits that are stated.
    pub limits: Vec<String>,
    /// `none`, `one factor`, `two factors` or `open question`.
    pub verdict: &'static str,
    /// The line to cite.
    pub evidence: Vec<Evidence>,
}

/// The table, in order of device and service.
#[must_use]
pub fn logins(estate: &Estate) -> Vec<Access> {
    let mut rows = Vec::new();
    for at in 0..estate.devices.len() {
        for number in 0..estate.devices[at].facts.tunnels.len() {
            rows.extend(tunnel(estate, at, number));
        }
        for server in &estate.devices[at].facts.ssh_servers {
            rows.extend(shells(estate, at, server));
        }
    }
    rows
}

/// Factors as a row shows them, with the verdict.
fn judged(factors: Option<&BTreeSet<FactorKind>>) -> (Vec<&'static str>, &'static str) {
    match factors {
        None => (Vec::new(), "open question"),
        Some(kinds) => {
            let verdict = match kinds.len() {
                0 => "none",
                1 => "one factor",
                _ => "two factors",
            };
            (kinds.iter().map(|kind| kind.words()).collect(), verdict)
        }
    }
}

fn known(factors: &Factors) -> Option<&BTreeSet<FactorKind>> {
    match factors {
        Factors::Known(kinds, _) => Some(kinds),
        Factors::Unknown { .. } => None,
    }
}

/// From where a listener can be reached, as far as forwards and interfaces tell; filters are not computed.
#[must_use]
pub(crate) fn from(estate: &Estate, device: usize, protocol: Protocol, port: Option<u16>) -> String {
    if let Some((front, _)) =
        port.and_then(|port| estate.forwards_of_port(device, protocol, port).first().copied())
    {
        return format!("outside, by {}", front.name);
    }
    match estate.outside(device).iter().find(|one| one.certain) {
        Some(interface) => format!("outside interface {}", interface.name),
        None if estate.devices[device].facts.has_interfaces => "inside".into(),
        None => "not known".into(),
    }
}

fn listener_from(estate: &Estate, device: usize, listener: &Listener) -> String {
    if listener.loopback_only() {
        return "itself only".into();
    }
    from(estate, device, listener.protocol, listener.port.value().copied())
}

fn tunnel(estate: &Estate, at: usize, number: usize) -> Option<Access> {
    let device = &estate.devices[at];
    let tunnel = &device.facts.tunnels[number];
    if tunnel.role != TunnelRole::Server {
        return None;
    }
    let (who, list, factors) = match tunnel.family {
        TunnelFamily::Pptp => dial_in(estate, at, number),
        TunnelFamily::OpenVpn | TunnelFamily::OpenConnect => tls_based(estate, at, tunnel),
    };
    let (factors, verdict) = judged(factors.as_ref());
    let from =
        tunnel.listeners.first().map_or_else(String::new, |listener| listener_from(estate, at, listener));
    Some(Access {
        device: device.name.clone(),
        kind: ServiceKind::Tunnel,
        service: tunnel.name.clone(),
        who,
        list,
        factors,
        from: if tunnel.refused.is_some() { "would not start".into() } else { from },
        limits: tunnel_limits(tunnel),
        verdict: if tunnel.refused.is_some() { "open question" } else { verdict },
        evidence: crate::outcome::evidence(estate, &[tunnel.origin]),
    })
}

type Row = (String, String, Option<BTreeSet<FactorKind>>);

fn dial_in(estate: &Estate, at: usize, number: usize) -> Row {
    let device = &estate.devices[at];
    let Some(dial_in) = estate.dial_in(at, number) else {
        return ("not known".into(), "not known".into(), None);
    };
    let list = || "local list".to_owned();
    match dialled(device, &device.facts.tunnels[number], dial_in) {
        Dialled::NotExported(_) => ("not known".into(), "not exported".into(), None),
        Dialled::Nobody(..) => ("anybody".into(), "none".into(), Some(BTreeSet::new())),
        Dialled::Elsewhere(source, _) => ("anybody there".into(), source_words(source), None),
        Dialled::Eap(_) => ("not known".into(), "EAP".into(), None),
        Dialled::NoList(_) => ("not exported".into(), list(), None),
        Dialled::List(logins, _) => {
            let who = match logins.as_slice() {
                [one] => one.user.clone(),
                all if all.iter().any(|login| login.user == "*") => "anybody".into(),
                all => format!("{} named users", all.len()),
            };
            (who, list(), Some(BTreeSet::from([FactorKind::Knowledge])))
        }
    }
}

fn source_words(source: &PasswordSource) -> String {
    match source {
        PasswordSource::LocalList(path) | PasswordSource::LocalListAndCode(path) => {
            format!("local list {path}")
        }
        PasswordSource::Pam(service) => format!("PAM {service}"),
        PasswordSource::Radius => "RADIUS".into(),
        PasswordSource::Directory => "directory".into(),
        PasswordSource::IdentityProvider => "identity provider".into(),
        PasswordSource::Script => "script".into(),
        PasswordSource::PlugIn(name) => format!("plug-in {name}"),
        PasswordSource::Management => "management".into(),
    }
}

fn tls_based(estate: &Estate, at: usize, tunnel: &Tunnel) -> Row {
    let certificate =
        tunnel.proof.certificate.as_ref().and_then(Setting::value) == Some(&CertificateDemand::Required);
    let mut lists: Vec<String> =
        tunnel.proof.passwords.iter().map(|check| source_words(&check.source)).collect();
    if certificate {
        lists.insert(0, "certificates".into());
    }
    let factors = of_tls_based(estate, at, tunnel);
    let who = if certificate { "who has a certificate" } else { "anybody there" };
    (who.into(), lists.join(" and "), factors)
}

fn tunnel_limits(tunnel: &Tunnel) -> Vec<String> {
    const SHOWN: [(&str, &str); 4] = [
        ("max-clients", "callers"),
        ("inactive", "s idle"),
        ("session-timeout", "s a session"),
        ("duplicate-cn", "one login for several"),
    ];
    let stated = |name: &str| {
        tunnel
            .settings
            .iter()
            .rev()
            .find(|(directive, _)| directive == name)
            .and_then(|(_, value)| value.value())
    };
    SHOWN
        .iter()
        .filter_map(|(name, words)| {
            let value = stated(name)?;
            let first = value.split(' ').next().unwrap_or_default();
            Some(if first.is_empty() { (*words).to_owned() } else { format!("{first} {words}") })
        })
        .collect()
}

/// One row for everybody, and one for each condition under which the way in is another.
fn shells(estate: &Estate, at: usize, server: &SshServer) -> Vec<Access> {
    let mut rows = vec![shell(estate, at, server, &SshConnection::default(), None, server.origin)];
    for block in server.blocks.iter().filter(|block| !block.criteria.is_empty()) {
        let about_logins = block.statements.iter().find(|one| {
            matches!(
                one.keyword.as_str(),
                "passwordauthentication"
                    | "kbdinteractiveauthentication"
                    | "pubkeyauthentication"
                    | "authenticationmethods"
                    | "permitrootlogin"
            )
        });
        let Some(statement) = about_logins else { continue };
        let user =
            block.criteria.iter().find(|(criterion, _)| *criterion == trevlin_model::ssh::SshCriterion::User);
        let group = block
            .criteria
            .iter()
            .find(|(criterion, _)| *criterion == trevlin_model::ssh::SshCriterion::Group);
        // A condition by name is judged for the first name in it; others cannot be tried out.
        let first = |pattern: &str| pattern.split(',').next().unwrap_or(pattern).to_owned();
        let (name, groups) =
            (user.map(|(_, pattern)| first(pattern)), group.map(|(_, pattern)| first(pattern)));
        let groups: Vec<String> = groups.into_iter().collect();
        let connection = SshConnection { user: name.as_deref(), groups: &groups, ..SshConnection::default() };
        if block.holds(&connection) {
            let who =
                block.criteria.iter().map(|(_, pattern)| pattern.as_str()).collect::<Vec<_>>().join(", ");
            let who = if group.is_some() { format!("group {who}") } else { who };
            rows.push(shell(estate, at, server, &connection, Some(who), statement.origin));
        }
    }
    rows
}

fn shell(
    estate: &Estate,
    at: usize,
    server: &SshServer,
    connection: &SshConnection<'_>,
    who: Option<String>,
    origin: Origin,
) -> Access {
    let device = &estate.devices[at];
    let ways = of_shell(estate, at, server, connection);
    let easiest = easiest_way(&ways);
    let (factors, verdict) = match easiest {
        Some(way) => judged(known(&way.factors)),
        None => (Vec::new(), "nobody comes in"),
    };
    let port = server.port(connection);
    Access {
        device: device.name.clone(),
        kind: ServiceKind::Shell,
        service: "secure shell".into(),
        who: who.unwrap_or_else(|| allowed(estate, at, server)),
        list: shell_list(&ways),
        factors,
        from: if server.refused.is_some() {
            "would not start".into()
        } else {
            from(estate, at, Protocol::TCP, Some(port))
        },
        limits: shell_limits(server, connection),
        verdict: if server.refused.is_some() { "open question" } else { verdict },
        evidence: crate::outcome::evidence(estate, &[origin]),
    }
}

/// Who is let in by name or group.
fn allowed(estate: &Estate, at: usize, server: &SshServer) -> String {
    let stated = |keyword: &str| match server.effective(keyword, &SshConnection::default()) {
        Setting::Stated { value, .. } => Some(value.join(", ")),
        _ => None,
    };
    match (stated("allowusers"), stated("allowgroups")) {
        (Some(users), _) => users,
        (None, Some(groups)) => format!("group {groups}"),
        (None, None) => {
            let accounts = estate.devices[at].facts.accounts.iter().filter(|one| one.has_shell()).count();
            if accounts == 0 {
                "every account".into()
            } else {
                format!("every account ({accounts} with a shell)")
            }
        }
    }
}

fn shell_list(ways: &[ShellWay]) -> String {
    let methods: BTreeSet<_> =
        ways.iter().flat_map(|way| &way.methods).map(|name| name.split(':').next().unwrap_or(name)).collect();
    let words: Vec<_> = methods
        .iter()
        .map(|name| match *name {
            "publickey" => "authorized keys",
            "password" => "accounts",
            "keyboard-interactive" => "PAM",
            other => other,
        })
        .collect();
    words.join(", ")
}

fn shell_limits(server: &SshServer, connection: &SshConnection<'_>) -> Vec<String> {
    [("maxauthtries", "tries"), ("maxsessions", "sessions"), ("logingracetime", "s to log in")]
        .iter()
        .filter_map(|(keyword, words)| match server.effective(keyword, connection) {
            Setting::Stated { value, .. } => Some(format!("{} {words}", value.first()?)),
            _ => None,
        })
        .collect()
}
